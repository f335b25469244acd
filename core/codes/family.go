package codes

import (
	"fmt"
	"sort"
	"strings"
)

// A Family is a space of codes with a layout and a table.
type Family struct {
	ID        string  `yaml:"family"`
	Title     string  `yaml:"title"`
	Layout    string  `yaml:"layout"` // "number" or "fields"
	Negatable bool    `yaml:"negatable"`
	Min       int64   `yaml:"min"`
	Max       int64   `yaml:"max"`
	Bits      int     `yaml:"bits"`
	Fields    []Field `yaml:"fields"`
	Entries   []Entry `yaml:"entries"`
}

// A Field is a run of bits in a code, High and Low included.
type Field struct {
	Name   string           `yaml:"name"`
	High   int              `yaml:"high"`
	Low    int              `yaml:"low"`
	Values map[int64]string `yaml:"values"`
}

// An Entry is one known code.
type Entry struct {
	Value int64  `yaml:"value"`
	Name  string `yaml:"name"`
	Text  string `yaml:"text"`
}

// A Part is one field of a code, read.
type Part struct {
	Name    string `json:"name"`
	Value   int64  `json:"value"`
	Meaning string `json:"meaning,omitempty"`
}

// A Reading is what a code means in one family.
type Reading struct {
	Family string `json:"family"`
	Title  string `json:"title"`
	Value  string `json:"value"` // in the base that the family uses
	Name   string `json:"name,omitempty"`
	Text   string `json:"text,omitempty"`
	Parts  []Part `json:"parts,omitempty"`
	Known  bool   `json:"known"` // the family has a name for exactly this code
}

// A Table holds families, ready to decode. It is safe for concurrent use.
type Table struct {
	families []Family
	index    map[string]map[int64]Entry
}

// NewTable checks the families and indexes them.
func NewTable(families []Family) (*Table, error) {
	t := &Table{families: families, index: map[string]map[int64]Entry{}}
	for _, f := range families {
		if t.index[f.ID] != nil {
			return nil, fmt.Errorf("code family %s is there twice", f.ID)
		}
		if f.Layout != "number" && f.Layout != "fields" {
			return nil, fmt.Errorf("code family %s: layout %q: want number or fields", f.ID, f.Layout)
		}
		for _, field := range f.Fields {
			if field.Low < 0 || field.High < field.Low || field.High >= f.Bits {
				return nil, fmt.Errorf("code family %s: field %s: bits %d to %d of %d", f.ID, field.Name, field.High, field.Low, f.Bits)
			}
		}
		entries := make(map[int64]Entry, len(f.Entries))
		for _, e := range f.Entries {
			entries[e.Value] = e
		}
		t.index[f.ID] = entries
	}
	return t, nil
}

// Decode gives every reading of a value, those with a name first.
func (t *Table) Decode(v Value) []Reading {
	var list []Reading
	for _, f := range t.families {
		if r, ok := t.decodeIn(f, v); ok {
			list = append(list, r)
		}
	}
	sort.SliceStable(list, func(i, k int) bool { return list[i].Known && !list[k].Known })
	return list
}

func (t *Table) decodeIn(f Family, v Value) (Reading, bool) {
	if f.Layout == "number" {
		number := v.Number
		if f.Negatable && number < 0 {
			number = -number
		}
		if number < f.Min || number > f.Max {
			return Reading{}, false
		}
		r := Reading{Family: f.ID, Title: f.Title, Value: fmt.Sprint(number)}
		e, known := t.index[f.ID][number]
		r.Name, r.Text, r.Known = e.Name, e.Text, known
		return r, known
	}
	bits, ok := v.Bits()
	if !ok || bits < 0x10000 { // a small number has no facility: it says nothing as fields
		return Reading{}, false
	}
	r := Reading{Family: f.ID, Title: f.Title, Value: fmt.Sprintf("0x%08x", bits)}
	for _, field := range f.Fields {
		value := int64(bits>>field.Low) & (1<<(field.High-field.Low+1) - 1)
		r.Parts = append(r.Parts, Part{Name: field.Name, Value: value, Meaning: field.Values[value]})
	}
	e, known := t.index[f.ID][int64(bits)]
	r.Name, r.Text, r.Known = e.Name, e.Text, known
	if !known {
		r.Text = describe(r.Parts)
	}
	return r, true
}

// describe says in words what the fields say.
func describe(parts []Part) string {
	var words []string
	for _, p := range parts {
		if p.Meaning != "" {
			words = append(words, fmt.Sprintf("%s: %s", p.Name, p.Meaning))
		} else if p.Value != 0 || p.Name == "code" {
			words = append(words, fmt.Sprintf("%s %d", p.Name, p.Value))
		}
	}
	return strings.Join(words, ", ")
}
