package codes

import "strings"

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
	for _, word := range append([]string{text}, strings.Fields(text)...) {
		if s := t.Suggest(word, maxSuggestions); len(s) > 0 {
			e.Perhaps = s
			break
		}
	}
	return e
}
