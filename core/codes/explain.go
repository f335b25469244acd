package codes

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A Taken is one number found in what was asked, with all its readings.
type Taken struct {
	Value    string    `json:"value"`
	Form     Form      `json:"form"`
	Readings []Reading `json:"readings"`
}

// An Explanation is all that is known of a code, or of a sentence with codes
// in it.
type Explanation struct {
	Taken   []Taken      `json:"taken"`
	Words   []Reading    `json:"words"`   // of the message as such
	Perhaps []Suggestion `json:"perhaps"` // when no family knows what was asked
}

// Known reports whether any family knows what was asked.
func (e Explanation) Known() bool {
	for _, t := range e.Taken {
		for _, r := range t.Readings {
			if r.Known {
				return true
			}
		}
	}
	return len(e.Words) > 0
}

// wellFormed is a code of 32 bits that is written out.
var wellFormed = regexp.MustCompile(`^(?i:0x)[0-9a-fA-F]{8}$`)

// decoded reports whether a family tells the parts of what was asked.
func (e Explanation) decoded() bool {
	return slices.ContainsFunc(e.Taken, func(t Taken) bool {
		return slices.ContainsFunc(t.Readings, func(r Reading) bool { return len(r.Parts) > 0 })
	})
}

// eightDigits can be a hexadecimal code that was passed on without its 0x.
var eightDigits = regexp.MustCompile(`\b\d{8}\b`)

// unmarked are the numbers of eight digits that some family lists when they are read
// as hexadecimal.
func (t *Table) unmarked(text string) (list []Value) {
	for _, digits := range eightDigits.FindAllString(text, -1) {
		n, err := strconv.ParseInt(digits, 16, 64)
		if err != nil {
			continue
		}
		v := Value{n, Hex}
		if slices.ContainsFunc(t.Decode(v, text), func(r Reading) bool { return r.Known }) {
			list = append(list, v)
		}
	}
	return list
}

// maxSuggestions is how many a person can choose from at a glance.
const maxSuggestions = 5

// Explain reads a code in any form, alone or inside a sentence, whose other
// words help to choose between families. What no family knows is taken for
// mistyped or misheard, and suggestions are made.
func (t *Table) Explain(text string) Explanation {
	e := Explanation{Taken: []Taken{}, Words: append([]Reading{}, t.Words(text)...), Perhaps: []Suggestion{}}
	values, err := Parse(text)
	if err != nil {
		values = Find(text)
		if read := Normalise(text); len(read) >= 5 && strings.Trim(read, "0123456789abcdef") == "" {
			if whole, err := Parse(read); err == nil { // read aloud, or with spaces and dashes
				values = whole
			}
		}
	}
	values = append(t.unmarked(text), values...)
	for _, v := range values {
		readings := t.Decode(v, text)
		if len(readings) > 0 || len(values) == 1 {
			e.Taken = append(e.Taken, Taken{Value: v.String(), Form: v.Form, Readings: append([]Reading{}, readings...)})
		}
	}
	_, mislettered := repaired(Normalise(text))
	if e.Known() && (err == nil || mislettered == 0 || strings.Count(text, " ") > 3) {
		return e
	}
	if err == nil && wellFormed.MatchString(strings.TrimSpace(text)) && e.decoded() {
		return e // it is in no table, and tells of itself by its parts
	}
	for _, word := range append([]string{text}, strings.Fields(text)...) {
		if s := t.Suggest(word, maxSuggestions); len(s) > 0 {
			e.Perhaps = s
			break
		}
	}
	return e
}
