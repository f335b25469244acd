package reading

import (
	"regexp"
	"sort"
	"strings"
	"time"
)

// An Outcome is how an attempt ended.
type Outcome string

// The outcomes.
const (
	Succeeded Outcome = "succeeded"
	Failed    Outcome = "failed"
	CutOff    Outcome = "cut off" // it began and no end was ever noted
)

// A PackageChange is one thing that an attempt was to change.
type PackageChange struct {
	Action string `json:"action"` // install, upgrade, remove, …
	Object string `json:"object"`
	From   string `json:"from,omitempty"`
	To     string `json:"to,omitempty"`
}

// An Attempt is one run of an installer or updater, from whatever logs tell
// of it.
type Attempt struct {
	Engine  string          `json:"engine"`
	Kind    string          `json:"kind"` // install, update, …; empty when no command is known
	Command string          `json:"command,omitempty"`
	Began   time.Time       `json:"began,omitzero"`
	Ended   time.Time       `json:"ended,omitzero"`
	Outcome Outcome         `json:"outcome"`
	Files   []string        `json:"files"`
	Changes []PackageChange `json:"changes,omitempty"`
	// Stage and Object are where the decisive event struck.
	Stage  string `json:"stage,omitempty"`
	Object string `json:"object,omitempty"`
	// Decisive is the first event of the chain that made the attempt fail;
	// nil when it did not fail.
	Decisive *Event `json:"decisive,omitempty"`
	// Why says by which rule Decisive was chosen.
	Why string `json:"why,omitempty"`
	// Chain is Decisive and what followed from it, in order.
	Chain []Event `json:"chain,omitempty"`
	// Unfinished lists objects left in a state between old and new.
	Unfinished []Event `json:"unfinished,omitempty"`

	parts []part
}

// A part is what one log says of an attempt.
type part struct {
	dialect *Dialect
	events  []Event
	closed  bool
}

// joinWithin is how far apart the starts may be that two logs note for the
// same attempt.
const joinWithin = 5 * time.Second

// attempts finds the attempts in all streams and joins what belongs together.
func attempts(streams []stream) (list []*Attempt, loose []Event) {
	var unbracketed []stream
	for _, s := range streams {
		opened, rest := sessions(s)
		for _, a := range opened {
			list = join(list, a)
		}
		if len(rest) > 0 {
			unbracketed = append(unbracketed, stream{s.dialect, rest})
		}
	}
	sort.SliceStable(list, func(i, k int) bool { return list[i].Began.Before(list[k].Began) })
	for _, s := range unbracketed {
		list, loose = spread(list, loose, s)
	}
	for _, a := range list {
		a.settle()
	}
	return list, loose
}

// sessions cuts a stream at the records that open and close an attempt.
func sessions(s stream) (list []*Attempt, rest []Event) {
	var open *Attempt
	for _, e := range s.events {
		switch {
		case e.Mark == Opens:
			open = &Attempt{Engine: s.dialect.Engine, Began: e.Time, parts: []part{{dialect: s.dialect}}}
			list = append(list, open)
		case open == nil:
			rest = append(rest, e)
			continue
		}
		p := &open.parts[0]
		p.events = append(p.events, e)
		if e.Mark == Closes {
			open.Ended, p.closed = e.Time, true
			open = nil
		}
	}
	return list, rest
}

// join adds a to the attempt that it is the same as, or to the list.
func join(list []*Attempt, a *Attempt) []*Attempt {
	for _, b := range list {
		gap := a.Began.Sub(b.Began).Abs()
		if a.Engine == b.Engine && !a.Began.IsZero() && gap <= joinWithin && a.parts[0].dialect != b.parts[0].dialect {
			b.parts = append(b.parts, a.parts...)
			if a.Ended.After(b.Ended) {
				b.Ended = a.Ended
			}
			return list
		}
	}
	return append(list, a)
}

// spread gives the records of a log without brackets to the attempts in whose
// time they fall.
func spread(list []*Attempt, loose []Event, s stream) ([]*Attempt, []Event) {
	parts := map[*Attempt]*part{}
	for _, e := range s.events {
		a := at(list, s.dialect.Engine, e.Time)
		if a == nil {
			loose = append(loose, e)
			continue
		}
		if parts[a] == nil {
			parts[a] = &part{dialect: s.dialect, closed: true}
		}
		parts[a].events = append(parts[a].events, e)
	}
	for _, a := range list {
		if p := parts[a]; p != nil {
			a.parts = append(a.parts, *p)
		}
	}
	return list, loose
}

func at(list []*Attempt, engine string, t time.Time) *Attempt {
	if t.IsZero() {
		return nil
	}
	for i := len(list) - 1; i >= 0; i-- {
		a := list[i]
		ended := a.Ended
		if ended.IsZero() && i+1 < len(list) {
			ended = list[i+1].Began
		}
		if a.Engine == engine && !t.Before(a.Began) && (ended.IsZero() || !t.After(ended)) {
			return a
		}
	}
	return nil
}

// settle fills what the parts say together.
func (a *Attempt) settle() {
	a.Outcome = Succeeded
	seen := map[string]bool{}
	for _, p := range a.parts {
		for _, e := range p.events {
			if !seen[e.File] {
				seen[e.File] = true
				a.Files = append(a.Files, e.File)
			}
			switch e.Mark {
			case Command:
				a.Command = strings.TrimSpace(e.Text[strings.IndexByte(e.Text, ':')+1:])
				a.Kind = p.dialect.kind(a.Command)
			case Change:
				a.Changes = append(a.Changes, changes(e)...)
			case Fails, Follows, Verdict:
				a.Outcome = Failed
			}
		}
		if !p.closed && a.Outcome != Failed {
			a.Outcome = CutOff
		}
	}
	a.Unfinished = a.unfinished()
}

var listItem = regexp.MustCompile(`([^\s,():]+)(?::([a-z0-9-]+))? \(([^),]+)(?:, ([^),]+))?\)`)

// changes reads "Upgrade: a:amd64 (1, 2), b:amd64 (3, automatic)".
func changes(e Event) []PackageChange {
	action, items, _ := strings.Cut(e.Text, ":")
	action = strings.ToLower(action)
	var list []PackageChange
	for _, m := range listItem.FindAllStringSubmatch(items, -1) {
		c := PackageChange{Action: action, Object: m[1], To: m[3]}
		if m[4] != "" && m[4] != "automatic" {
			c.From, c.To = m[3], m[4]
		}
		if action == "remove" || action == "purge" {
			c.From, c.To = m[3], ""
		}
		list = append(list, c)
	}
	return list
}

// final are the states in which an object may rest.
var final = map[string]bool{"installed": true, "not-installed": true, "config-files": true}

// unfinished lists, by their last record, the objects that no record brought
// to rest.
func (a *Attempt) unfinished() []Event {
	last := map[string]Event{}
	var order []string
	for _, p := range a.parts {
		for _, e := range p.events {
			if e.Mark != State {
				continue
			}
			if _, ok := last[e.Object]; !ok {
				order = append(order, e.Object)
			}
			last[e.Object] = e
		}
	}
	var list []Event
	for _, object := range order {
		if e := last[object]; !final[e.State] {
			list = append(list, e)
		}
	}
	return list
}
