package fleet

import (
	"regexp"
	"slices"
	"strings"

	"diorthos/core/diagnosis"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

// A Fingerprint is by what a failure is known to be the same as another, on several levels: the
// finer ones are empty where nothing is known of them.
type Fingerprint struct {
	Family   string `json:"family,omitempty"`   // of the system
	Explains string `json:"explains"`           // start or attempt
	Kind     string `json:"kind,omitempty"`     // of failure
	Cause    string `json:"cause,omitempty"`    // empty where none is known
	Title    string `json:"title"`              // in words
	Object   string `json:"object,omitempty"`   // the package or update that it failed at
	Speaker  string `json:"speaker,omitempty"`  // who said the decisive words
	Template string `json:"template,omitempty"` // the decisive words without what differs by machine
	Stage    string `json:"stage,omitempty"`
	Link     string `json:"link,omitempty"` // the broken link of the chain
	// Suspect is what to hold back: the package or update that failed, or that was the last before a start that it stops.
	Suspect string `json:"suspect,omitempty"`
}

// kindLatest is the kind of failures of the start that what was installed last brings.
const kindLatest = "latest"

// likely is the probability from which on a finding is taken for what a failure is.
const likely = 0.5

// FingerprintOf is that of a docket; failed is false where nothing failed.
func FingerprintOf(d *docket.Docket, family string) (f Fingerprint, failed bool) {
	if d.Sound() || len(d.Why) == 0 && d.Failure == nil {
		return Fingerprint{}, false
	}
	f.Family, f.Explains, f.Title = family, knowledge.ExplainsAttempt, "a failure that nothing known explains"
	if d.Failure != nil {
		f.Speaker = who(d.Failure.Decisive.Speaker)
		f.Template = Template(d.Failure.Decisive.Text, d.Machine.Name)
		f.Stage, f.Object = d.Failure.Stage, objectOf(d)
	}
	if d.State != nil {
		if b := d.State.Chain.Broken(); b != nil {
			f.Link = string(b.Kind) + ": " + string(b.Fault)
		}
	}
	if len(d.Kinds) > 0 {
		f.Kind = d.Kinds[0].Kind
	}
	if len(d.Why) == 0 {
		return f, true
	}
	top := d.Why[0]
	if top.MendedSince { // what its logs tell of was counted before
		return Fingerprint{}, false
	}
	f.Explains = top.Explains
	if top.Kind != "" {
		f.Kind = top.Kind
	}
	switch {
	case f.Explains == knowledge.ExplainsAttempt:
		f.Suspect = f.Object
	case f.Kind == kindLatest && len(d.Suspects) > 0 && d.Suspects[0].Named && top.Probability >= likely:
		f.Suspect = d.Suspects[0].Object
	}
	if top.Cause != diagnosis.Unknown && !top.KindOnly && top.Probability >= likely {
		f.Cause, f.Title = top.Cause, top.Title
		return f, true
	}
	if len(d.Kinds) > 0 {
		f.Title = d.Kinds[0].Title
	}
	return f, true
}

// who said something: the program and what it did, and the package where it is its script.
func who(s reading.Speaker) string {
	return strings.Trim(s.Program+" "+s.Package+" "+s.Phase, " ")
}

// objectOf is the package or update that the attempt was about when it failed.
func objectOf(d *docket.Docket) string {
	switch s := d.Failure.Decisive.Speaker; {
	case d.Failure.Object != "":
		return withoutVersion(d.Failure.Object)
	case s.Package != "":
		return s.Package
	}
	return ""
}

func withoutVersion(name string) string {
	name, _, _ = strings.Cut(name, " ")
	name, _, _ = strings.Cut(name, ":")
	return name
}

// What differs from machine to machine in a text that says the same.
var differs = []struct {
	what *regexp.Regexp
	by   string
}{
	{regexp.MustCompile(`[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F-]{4,}`), "‹id›"},
	{regexp.MustCompile(`\b[a-z]+://\S+`), "‹address›"},
	{regexp.MustCompile(`/[^\s'":;,()]+`), "‹path›"},
	{regexp.MustCompile(`\b\d+(\.\d+)+[-+~.\w:]*`), "‹version›"},
	{regexp.MustCompile(`\b0x[0-9a-fA-F]+\b`), "‹code›"},
	{regexp.MustCompile(`\d+`), "‹n›"},
}

// Template is a text without what differs from machine to machine.
func Template(text, machine string) string {
	if machine != "" {
		text = strings.ReplaceAll(text, machine, "‹machine›")
	}
	codes := keepCodes.FindAllString(text, -1) // a code is what the failure is
	for _, d := range differs {
		text = d.what.ReplaceAllString(text, d.by)
	}
	for _, c := range codes {
		text = strings.Replace(text, "‹code›", c, 1)
	}
	return strings.Join(strings.Fields(text), " ")
}

var keepCodes = regexp.MustCompile(`\b0x[0-9a-fA-F]+\b`)

// Key is what all cases of a cohort have in common: the cause and what it struck, or, where no
// cause is known, who said what at which stage. It does not depend on which case came first.
func (f Fingerprint) Key() string {
	parts := []string{f.Family, f.Explains}
	if f.Cause != "" {
		parts = append(parts, "cause", f.Cause, f.Object, f.Link)
	} else {
		parts = append(parts, "words", f.Kind, f.Speaker, f.Template, f.Stage, f.Link)
	}
	return strings.Join(parts, "|")
}

// A Rule is what a person said of a cohort: it holds for cases to come as well.
type Rule struct {
	// Into is the key of the cohort that this one belongs to.
	Into string `json:"into,omitempty"`
	// By splits it by a trait of the machine, such as "site" or "model".
	By string `json:"by,omitempty"`
}

// KeyUnder is the key that a case has under the rules of people, by the key that it has without
// them. Rules that lead in a circle lead nowhere.
func KeyUnder(key string, traits map[string]string, rules map[string]Rule) string {
	var seen []string
	for !slices.Contains(seen, key) {
		r, ok := rules[key]
		switch {
		case !ok:
			return key
		case r.By != "":
			return key + "|by " + r.By + "|" + traits[r.By]
		}
		seen = append(seen, key)
		key = r.Into
	}
	return seen[0]
}
