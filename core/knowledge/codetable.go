package knowledge

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"diorthos/core/codes"
)

// ReadCodeTable reads a family of plain numbers from comma-separated values
// (RFC 4180), as a site writes one: the first line names the columns value,
// text and, if wanted, name. The file's name is the family's. Values are
// decimal, or hexadecimal with 0x.
func ReadCodeTable(file string, text []byte) (codes.Family, error) {
	id := strings.TrimSuffix(path.Base(file), path.Ext(file))
	f := codes.Family{ID: id, Title: "codes of " + id, Layout: codes.LayoutNumber}
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	r.TrimLeadingSpace = true
	head, err := r.Read()
	if err != nil {
		return f, fmt.Errorf("%s: %w", file, err)
	}
	column := map[string]int{}
	for i, name := range head {
		column[strings.ToLower(strings.TrimSpace(name))] = i
	}
	value, hasValue := column["value"]
	words, hasText := column["text"]
	name, hasName := column["name"]
	if !hasValue || !hasText {
		return f, fmt.Errorf("%s:1: want the columns value and text, got %s", file, strings.Join(head, ", "))
	}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return f, fmt.Errorf("%s: %w", file, err)
		}
		line, _ := r.FieldPos(value)
		n, err := strconv.ParseUint(row[value], 0, 63)
		if err != nil || row[words] == "" {
			return f, fmt.Errorf(
				"%s:%d: value %q, text %q: want a number of 0 or more and what it means", file, line, row[value], row[words],
			)
		}
		e := codes.Entry{Value: n, Text: row[words]}
		if hasName {
			e.Name = row[name]
		}
		f.Entries = append(f.Entries, e)
		f.Max = max(f.Max, int64(n))
	}
	if len(f.Entries) == 0 {
		return f, fmt.Errorf("%s: holds no codes", file)
	}
	return f, nil
}
