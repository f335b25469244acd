package records

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"

	"diorthos/core/plain"
)

// jsonOf is a column that holds a value as JSON.
type jsonOf[T any] struct{ V T }

// Scan reads it.
func (j *jsonOf[T]) Scan(from any) error {
	switch raw := from.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(raw, &j.V)
	case string:
		return json.Unmarshal([]byte(raw), &j.V)
	}
	return fmt.Errorf("a column of JSON is %T", from)
}

// Value writes it.
func (j jsonOf[T]) Value() (driver.Value, error) {
	raw, err := json.Marshal(j.V)
	return string(plain.WithoutNUL(raw)), err
}
