package knowledge

import "errors"

// Limits say from where on a measured value is a fault.
type Limits struct {
	// ReallocatedSectors is how many a disk may have replaced by spare ones.
	ReallocatedSectors int64 `yaml:"reallocated-sectors"`
}

func (l Limits) check() error {
	if l.ReallocatedSectors < 0 {
		return errors.New("limits.yaml: reallocated-sectors: want 0 or more")
	}
	return nil
}

// asMap gives the limits as expressions see them.
func (l Limits) asMap() map[string]any {
	return map[string]any{"reallocated_sectors": l.ReallocatedSectors}
}
