package reading

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"
)

// A Dialect describes the format of a log. It is data, read from
// knowledge/dialects/.
type Dialect struct {
	ID     string   `yaml:"id"`
	Title  string   `yaml:"title"`
	Engine string   `yaml:"engine"` // who writes it; attempts of one engine are joined across files
	Files  []string `yaml:"files"`  // patterns of the file's own name
	Time   TimeForm `yaml:"time"`
	// Whole says that a file of this dialect is one attempt, with no record
	// that opens or closes it.
	Whole   bool     `yaml:"whole"`
	Rules   []Rule   `yaml:"rules"`
	Kinds   []Kind   `yaml:"kinds"`
	Samples []Sample `yaml:"samples"`
}

// A TimeForm says how a time is written.
type TimeForm struct {
	Layout string `yaml:"layout"` // as Go's package time writes it
	Zone   string `yaml:"zone"`   // "utc", or "local" when the log does not say
}

// A Rule gives a record a meaning. Groups of Match named time, object,
// operation, from, to, state and text fill the event's fields.
type Rule struct {
	Match     string `yaml:"match"`
	Mark      Mark   `yaml:"mark"`
	Operation string `yaml:"operation"`
	Level     Level  `yaml:"level"`
	// Reason says that the next line, if it is indented, tells why.
	Reason bool `yaml:"reason"`
	// List says that the group "list" holds changes "name (from, to), …".
	List bool `yaml:"list"`

	re       *regexp.Regexp
	literals []string
}

// A Kind tells from the command what kind of attempt it is.
type Kind struct {
	Match string `yaml:"match"`
	Kind  string `yaml:"kind"` // install, upgrade, update, driver, feature, remove

	re *regexp.Regexp
}

// A Sample is a line with what must come of it. It is the dialect's test.
type Sample struct {
	Line   string `yaml:"line"`
	Mark   Mark   `yaml:"mark"`
	Object string `yaml:"object"`
	Time   string `yaml:"time"` // RFC 3339
}

// minLiteral keeps rules from being tried on nearly every line.
const minLiteral = 3

func (d *Dialect) compile() error {
	for i := range d.Rules {
		r := &d.Rules[i]
		var err error
		if r.re, r.literals, err = compilePattern(r.Match); err != nil {
			return fmt.Errorf("dialect %s: rule %d: %w", d.ID, i+1, err)
		}
	}
	for i := range d.Kinds {
		re, err := regexp.Compile(d.Kinds[i].Match)
		if err != nil {
			return fmt.Errorf("dialect %s: kind %d: %w", d.ID, i+1, err)
		}
		d.Kinds[i].re = re
	}
	return nil
}

// compilePattern returns the pattern with literals of which each match holds
// at least one.
func compilePattern(pattern string) (*regexp.Regexp, []string, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, nil, err
	}
	list, err := required(pattern)
	if err != nil {
		return nil, nil, err
	}
	if shortest(list) < minLiteral {
		return nil, nil, fmt.Errorf("%q has no fixed text of %d letters or more: without one it would be tried on every line", pattern, minLiteral)
	}
	return re, list, nil
}

// named reports whether a file's name is one that the dialect expects.
func (d *Dialect) named(file string) bool {
	base := path.Base(file)
	for _, pattern := range d.Files {
		if ok, _ := path.Match(pattern, base); ok {
			return true
		}
	}
	return false
}

// apply fills the event from the first rule that matches; it reports which.
func (d *Dialect) apply(e *Event) *Rule {
	for i := range d.Rules {
		r := &d.Rules[i]
		m := r.re.FindStringSubmatch(e.Text)
		if m == nil {
			continue
		}
		e.Mark, e.Operation = r.Mark, r.Operation
		if r.Level != "" {
			e.Level = r.Level
		}
		for g, name := range r.re.SubexpNames() {
			d.fill(e, name, m[g])
		}
		return r
	}
	return nil
}

func (d *Dialect) fill(e *Event, group, value string) {
	switch group {
	case "time":
		if t, err := time.Parse(d.Time.Layout, value); err == nil {
			e.Time = t
		}
	case "object":
		e.Object = value
	case "operation":
		e.Operation = value
	case "from":
		e.From = value
	case "to":
		e.To = value
	case "state":
		e.State = value
	}
}

// kind tells what an attempt is from its command.
func (d *Dialect) kind(command string) string {
	for _, k := range d.Kinds {
		if k.re.MatchString(command) {
			return k.Kind
		}
	}
	return ""
}

// A Lexicon knows which words sound like a failure and which records are
// harmless however bad they sound.
type Lexicon struct {
	Errors   []string `yaml:"errors"`   // words; matched whole, not inside names
	Warnings []string `yaml:"warnings"` //
	Never    []string `yaml:"never"`    // patterns: phrases with such a word that say the opposite
	Harmless []struct {
		Match string `yaml:"match"`
		Why   string `yaml:"why"`
	} `yaml:"harmless"`

	errors, warnings, never *regexp.Regexp
	harmless                []*regexp.Regexp
}

func (l *Lexicon) compile() (err error) {
	if l.errors, err = words(l.Errors); err != nil {
		return fmt.Errorf("lexicon: errors: %w", err)
	}
	if l.warnings, err = words(l.Warnings); err != nil {
		return fmt.Errorf("lexicon: warnings: %w", err)
	}
	if len(l.Never) > 0 {
		if l.never, err = regexp.Compile("(?i)(?:" + strings.Join(l.Never, ")|(?:") + ")"); err != nil {
			return fmt.Errorf("lexicon: never: %w", err)
		}
	}
	for i, h := range l.Harmless {
		re, err := regexp.Compile(h.Match)
		if err != nil {
			return fmt.Errorf("lexicon: harmless %d: %w", i+1, err)
		}
		l.harmless = append(l.harmless, re)
	}
	return nil
}

// words matches any of the words where it stands alone: a word that is part
// of a name such as libgpg-error0 or error.log says nothing.
func words(list []string) (*regexp.Regexp, error) {
	quoted := make([]string, len(list))
	for i, w := range list {
		quoted[i] = regexp.QuoteMeta(w)
	}
	return regexp.Compile(`(?i)(?:^|[^\w./-])(?:` + strings.Join(quoted, "|") + `)(?:$|[^\w./-]|[./-](?:$|\s))`)
}

// judge says how bad a text sounds.
func (l *Lexicon) judge(text string) (level Level, harmless bool) {
	for _, re := range l.harmless {
		if re.MatchString(text) {
			harmless = true
			break
		}
	}
	plain := text
	if l.never != nil {
		plain = l.never.ReplaceAllString(text, " ")
	}
	switch {
	case l.errors.MatchString(plain):
		return Error, harmless
	case l.warnings.MatchString(plain):
		return Warning, harmless
	}
	return Info, harmless
}
