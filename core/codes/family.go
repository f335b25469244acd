package codes

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"unicode"
)

// The layouts of families.
const (
	LayoutNumber = "number" // a table of numbers
	LayoutFields = "fields" // runs of bits, each with a meaning
	LayoutBits   = "bits"   // single bits, each with a meaning when it is set
	LayoutWords  = "words"  // not a number, but the words of a message
)

// A Family is a space of codes with a layout and a table. It is data, read
// from knowledge/codes/; docs/knowledge.md says what each field means.
type Family struct {
	ID        string   `yaml:"family"`
	Title     string   `yaml:"title"`
	Layout    string   `yaml:"layout"`
	Negatable bool     `yaml:"negatable"` // numbers are also met negated
	Min       int64    `yaml:"min"`
	Max       int64    `yaml:"max"`
	Bits      int      `yaml:"bits"`
	Small     bool     `yaml:"small"`   // a small number is met alone, without its fields
	Slashed   bool     `yaml:"slashed"` // written as bytes with slashes
	Match     uint64   `yaml:"match"`   // the bits by which entries are looked up; 0 for all
	Fields    []Field  `yaml:"fields"`
	Entries   []Entry  `yaml:"entries"`
	IsError   bool     `yaml:"sounds"`  // a record with the text of an entry in it sounds like a failure
	Context   []string `yaml:"context"` // words near a code that speak for this family
	Carries   *Carries `yaml:"carries"`
}

// A Carries says that one field, when another has a value, holds a number of
// another family.
type Carries struct {
	Field  string `yaml:"field"`
	Value  int64  `yaml:"value"`
	In     string `yaml:"in"`
	Family string `yaml:"family"`
	Base   uint64 `yaml:"base"` // the code with the carrying field at zero
}

// A Field is a run of bits in a code, High and Low included.
type Field struct {
	Name   string           `yaml:"name"`
	High   int              `yaml:"high"`
	Low    int              `yaml:"low"`
	Values map[int64]string `yaml:"values"`
	// Named says that no code of the family has another value here.
	Named bool `yaml:"named"`
}

func (f Field) of(bits uint64) int64 {
	return int64(bits >> f.Low & (1<<(f.High-f.Low+1) - 1))
}

// An Entry is one known code. Of a family of words, Match is the message with
// … for what varies.
type Entry struct {
	Value uint64 `yaml:"value"`
	Name  string `yaml:"name"`
	Text  string `yaml:"text"`
	Match string `yaml:"match"`
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
	Value  string `json:"value"` // as the family writes it
	Name   string `json:"name,omitempty"`
	Text   string `json:"text,omitempty"`
	Parts  []Part `json:"parts,omitempty"`
	Known  bool   `json:"known"` // the family has an entry for exactly this code
}

// A Table holds families, ready to decode. It is safe for concurrent use.
type Table struct {
	families []Family
	index    map[string]map[uint64]Entry
	words    []wordEntry
	known    []spelling // every way in which a known code is written
}

type wordEntry struct {
	family Family
	entry  Entry
	re     *regexp.Regexp
}

// NewTable checks the families and indexes them.
func NewTable(families []Family) (*Table, error) {
	t := &Table{families: families, index: map[string]map[uint64]Entry{}}
	for _, f := range families {
		if err := t.add(f); err != nil {
			return nil, fmt.Errorf("code family %s: %w", f.ID, err)
		}
	}
	for _, f := range families {
		if f.Carries != nil && t.index[f.Carries.Family] == nil {
			return nil, fmt.Errorf("code family %s: carries numbers of %q, which is not there", f.ID, f.Carries.Family)
		}
		t.spell(f)
	}
	return t, nil
}

func (t *Table) add(f Family) error {
	if f.ID == "" || f.Title == "" || t.index[f.ID] != nil {
		return fmt.Errorf("needs an id of its own and a title")
	}
	switch f.Layout {
	case LayoutNumber, LayoutWords:
	case LayoutFields, LayoutBits:
		for _, field := range f.Fields {
			if field.Low < 0 || field.High < field.Low || field.High >= f.Bits || f.Bits > 64 {
				return fmt.Errorf("field %s: bits %d to %d of %d", field.Name, field.High, field.Low, f.Bits)
			}
		}
	default:
		return fmt.Errorf("layout %q: want number, fields, bits or words", f.Layout)
	}
	entries := make(map[uint64]Entry, len(f.Entries))
	for _, e := range f.Entries {
		if f.Layout == LayoutWords {
			re, err := wordPattern(e.Match)
			if err != nil {
				return err
			}
			t.words = append(t.words, wordEntry{f, e, re})
			continue
		}
		if _, twice := entries[e.Value]; twice {
			return fmt.Errorf("value %d is there twice", e.Value)
		}
		entries[e.Value] = e
	}
	t.index[f.ID] = entries
	return nil
}

func wordPattern(match string) (*regexp.Regexp, error) {
	if len(match) < 5 {
		return nil, fmt.Errorf("match %q: want a message", match)
	}
	return regexp.Compile("(?i)" + strings.ReplaceAll(regexp.QuoteMeta(match), "…", ".{0,200}"))
}

// Decode gives every reading of a value: those with an entry of their own
// first, and among them those for which the context, the words around the
// code, speaks. The context may be empty.
func (t *Table) Decode(v Value, context string) []Reading {
	var list []Reading
	score := map[string]int{}
	for _, f := range t.families {
		r, ok := t.decodeIn(f, v)
		if !ok {
			continue
		}
		list = append(list, r)
		if r.Known {
			score[f.ID] += 4
		}
		for _, word := range f.Context {
			if context != "" && strings.Contains(context, word) {
				score[f.ID] += 8
				break
			}
		}
		if v.Form == Decimal && f.Layout == LayoutNumber && len(f.Context) == 0 {
			score[f.ID]++ // families that need no context are the usual meaning of a number
		}
	}
	sort.SliceStable(list, func(i, k int) bool { return score[list[i].Family] > score[list[k].Family] })
	return list
}

// Words lists the readings of a message in words.
func (t *Table) Words(message string) []Reading {
	var list []Reading
	for _, w := range t.words {
		if w.re.MatchString(message) {
			list = append(list, Reading{
				Family: w.family.ID,
				Title:  w.family.Title,
				Value:  w.entry.Match,
				Text:   w.entry.Text,
				Known:  true,
			})
		}
	}
	return append(list, t.named(message)...)
}

// named lists the readings of codes that a message calls by their names, such as
// ENOSPC. A name is written in capitals.
func (t *Table) named(message string) (list []Reading) {
	for _, word := range strings.FieldsFunc(message, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_'
	}) {
		if len(word) < 4 || word != strings.ToUpper(word) {
			continue
		}
		for _, f := range t.families {
			for _, e := range f.Entries {
				if e.Name == word {
					list = append(list, Reading{
						Family: f.ID, Title: f.Title, Value: fmt.Sprint(e.Value), Name: e.Name, Text: e.Text, Known: true,
					})
				}
			}
		}
	}
	return list
}

func (t *Table) decodeIn(f Family, v Value) (Reading, bool) {
	switch f.Layout {
	case LayoutNumber:
		return t.decodeNumber(f, v)
	case LayoutFields:
		return t.decodeFields(f, v)
	case LayoutBits:
		return decodeBits(f, v)
	}
	return Reading{}, false
}

func (t *Table) decodeNumber(f Family, v Value) (Reading, bool) {
	number := v.Number
	if f.Negatable && number < 0 {
		number = -number
	}
	if v.Form == Slashed || number < f.Min || number > f.Max {
		return Reading{}, false
	}
	e, known := t.index[f.ID][uint64(number)]
	return Reading{
		Family: f.ID,
		Title:  f.Title,
		Value:  fmt.Sprint(number),
		Name:   e.Name,
		Text:   e.Text,
		Known:  known,
	}, known
}

// bitsOf is the code as f stores it; ok is false when it cannot be one of f.
func bitsOf(f Family, v Value) (bits uint64, ok bool) {
	if f.Slashed != (v.Form == Slashed) {
		return 0, false
	}
	if f.Bits == 32 {
		b, fits := v.Bits()
		return uint64(b), fits && b >= 0x10000 // a small number has no facility: it says nothing as fields
	}
	bits = uint64(v.Number)
	if f.Small && v.Number > 0 && v.Number < 0x10000 {
		return bits | 1<<(f.Bits-1), true
	}
	return bits, f.Slashed || v.Form == Hex && bits>>(f.Bits-1) == 1
}

func (t *Table) decodeFields(f Family, v Value) (Reading, bool) {
	bits, ok := bitsOf(f, v)
	if !ok {
		return Reading{}, false
	}
	r := Reading{Family: f.ID, Title: f.Title, Value: t.write(f, bits)}
	look := bits
	if f.Match != 0 {
		look &= f.Match
	}
	e, known := t.index[f.ID][look]
	if f.Small && v.Number < 0x10000 && v.Number > 0 && !known {
		return Reading{}, false
	}
	for _, field := range f.Fields {
		value := field.of(bits)
		if _, named := field.Values[value]; field.Named && !named {
			return Reading{}, false
		}
		r.Parts = append(r.Parts, Part{Name: field.Name, Value: value, Meaning: field.Values[value]})
	}
	r.Name, r.Text, r.Known = e.Name, e.Text, known
	if carried, ok := t.carried(f, bits); ok && !known {
		r.Text, r.Known = carried.Text, true
		for i := range r.Parts {
			if r.Parts[i].Name == f.Carries.In {
				r.Parts[i].Meaning = carried.Text
			}
		}
	}
	if r.Text == "" {
		r.Text = describe(r.Parts)
	}
	return r, true
}

// carried looks up the number of another family that a code carries.
func (t *Table) carried(f Family, bits uint64) (Entry, bool) {
	if f.Carries == nil {
		return Entry{}, false
	}
	var number uint64
	for _, field := range f.Fields {
		switch field.Name {
		case f.Carries.Field:
			if field.of(bits) != f.Carries.Value {
				return Entry{}, false
			}
		case f.Carries.In:
			number = uint64(field.of(bits))
		}
	}
	e, ok := t.index[f.Carries.Family][number]
	return e, ok
}

func decodeBits(f Family, v Value) (Reading, bool) {
	if v.Form != Hex || v.Number <= 0 || v.Number >= 1<<f.Bits {
		return Reading{}, false
	}
	r := Reading{Family: f.ID, Title: f.Title, Value: fmt.Sprintf("0x%02x", v.Number)}
	var words []string
	for _, field := range f.Fields {
		if value := field.of(uint64(v.Number)); value != 0 {
			r.Parts = append(r.Parts, Part{Name: field.Name, Value: value, Meaning: field.Values[value]})
			words = append(words, field.Name+": "+field.Values[value])
		}
	}
	r.Text, r.Known = strings.Join(words, "; "), true
	return r, true
}

// write gives a code in the form in which its family writes it.
func (t *Table) write(f Family, bits uint64) string {
	if f.Slashed {
		return Value{int64(bits), Slashed}.String()
	}
	if f.Layout == LayoutNumber {
		return fmt.Sprint(bits)
	}
	return fmt.Sprintf("0x%0*x", f.Bits/4, bits)
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
