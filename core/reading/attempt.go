package reading

import (
	"regexp"
	"slices"
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

// Outcomes lists those that there are.
func Outcomes() []Outcome { return []Outcome{Succeeded, Failed, CutOff} }

// An AttemptKind is what was tried. Empty when no command is known.
type AttemptKind string

// The kinds of attempts.
const (
	Install AttemptKind = "install"
	Upgrade AttemptKind = "upgrade" // to another release
	Update  AttemptKind = "update"
	Remove  AttemptKind = "remove"
	Driver  AttemptKind = "driver"
	Feature AttemptKind = "feature"
	Start   AttemptKind = "start"  // of the machine
	Repair  AttemptKind = "repair" // Diorthos's own work: nothing that a person tried
)

// AttemptKinds lists those that there are.
func AttemptKinds() []AttemptKind {
	return []AttemptKind{Install, Upgrade, Update, Remove, Driver, Feature, Start, Repair}
}

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
	Kind    AttemptKind     `json:"kind"` // empty when no command is known
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
	place time.Time // by which attempts are put in order
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
	var whole []stream
	for _, s := range streams {
		if s.dialect.Whole {
			whole = append(whole, s)
			continue
		}
		opened, rest := sessions(s)
		after := time.Time{}
		for _, a := range opened {
			// A clock that was set back does not make a later attempt earlier:
			// the order in the file counts for more.
			if a.place = a.Began; a.place.Before(after) {
				a.place = after
			}
			after = a.place
			list = join(list, a)
		}
		if len(rest) > 0 {
			unbracketed = append(unbracketed, stream{dialect: s.dialect, events: rest})
		}
	}
	sort.SliceStable(list, func(i, k int) bool { return list[i].place.Before(list[k].place) })
	for _, s := range unbracketed {
		var left []Event
		if list, left = spread(list, nil, s); s.dialect.opens() && slices.ContainsFunc(left, Event.declaresFailure) {
			list = beginsBefore(list, s.dialect, left)
			continue
		}
		loose = append(loose, left...)
	}
	for _, a := range list {
		a.settle()
	}
	list = underRunners(list)
	for _, s := range whole {
		list = addWhole(list, s)
	}
	return list, loose
}

// beginsBefore adds an attempt of whose log the beginning is missing, as where a
// log was rotated or a part of it was copied: it comes before those that the same
// file tells of.
func beginsBefore(list []*Attempt, d *Dialect, events []Event) []*Attempt {
	a := &Attempt{Engine: d.Engine, parts: []part{{dialect: d, events: events, closed: true}}}
	i := slices.IndexFunc(list, func(b *Attempt) bool {
		return slices.ContainsFunc(b.parts, func(p part) bool { return p.dialect == d && p.events[0].File == events[0].File })
	})
	if i < 0 {
		i = len(list)
	}
	return slices.Insert(list, i, a)
}

// addWhole adds what a screen showed. It has no times: it tells of an attempt
// that is known already if the same operations on the same objects stand in
// both, and else of one that no log tells of, which was the last.
func addWhole(list []*Attempt, s stream) []*Attempt {
	if len(s.events) == 0 {
		return list
	}
	for i := len(list) - 1; i >= 0; i-- {
		if a := list[i]; a.Engine == s.dialect.Engine && a.sharesWork(s.events) {
			a.parts = append(a.parts, part{dialect: s.dialect, events: s.events, closed: true})
			a.settle()
			return list
		}
	}
	a := &Attempt{
		Engine: s.dialect.Engine,
		Kind:   s.dialect.Tries,
		parts:  []part{{dialect: s.dialect, events: s.events, closed: true}},
	}
	a.settle()
	return append(list, a)
}

// sharesWork reports whether the last operation that the events tell of is
// one of the attempt's.
func (a *Attempt) sharesWork(events []Event) bool {
	for i := len(events) - 1; i >= 0; i-- {
		e := events[i]
		if e.Mark != Operation || e.To == "" {
			continue
		}
		for _, p := range a.parts {
			for _, own := range p.events {
				if own.Mark == Operation && own.Operation == e.Operation && own.Object == e.Object && own.To == e.To {
					return true
				}
			}
		}
		return false
	}
	return false
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
		if e.Mark == Closes || e.Mark == Passed {
			open.Ended, p.closed = e.Time, true
			open = nil
		}
	}
	return list, rest
}

// join adds a to the attempt that it is the same as, which is the one that
// began nearest to it and that this log has not told of yet, or to the list.
func join(list []*Attempt, a *Attempt) []*Attempt {
	var nearest *Attempt
	best := joinWithin
	for _, b := range list {
		gap := a.Began.Sub(b.Began).Abs()
		if a.Engine != b.Engine || a.Began.IsZero() || gap > best || nearest != nil && gap == best {
			continue
		}
		if !slices.ContainsFunc(b.parts, func(p part) bool { return p.tellsAs(a.parts[0]) }) {
			nearest, best = b, gap
		}
	}
	if nearest == nil {
		return append(list, a)
	}
	nearest.parts = append(nearest.parts, a.parts...)
	if a.Ended.After(nearest.Ended) {
		nearest.Ended = a.Ended
	}
	return list
}

// tellsAs reports whether both are of one log: it tells of an attempt once.
func (p part) tellsAs(o part) bool {
	return p.dialect == o.dialect && (len(p.events) == 0 || len(o.events) == 0 || p.events[0].File == o.events[0].File)
}

// underRunners joins what began attempts of another engine to those that it began, where both ended alike: to the first
// that failed, or to the last.
func underRunners(list []*Attempt) []*Attempt {
	return slices.DeleteFunc(list, func(a *Attempt) bool {
		runs := a.parts[0].dialect.Runs
		if runs == "" {
			return false
		}
		from, to := a.Began.Truncate(time.Second), a.lastTime()
		var begun *Attempt
		for _, b := range list {
			if b.Engine != runs || b.Began.Before(from) || b.Began.After(to) {
				continue
			}
			if begun == nil || begun.Outcome == Succeeded {
				begun = b
			}
		}
		if begun == nil || (begun.Outcome == Succeeded) != (a.Outcome == Succeeded) {
			return false
		}
		for _, p := range a.parts {
			p.closed = true // the attempts that it began say whether they ended
			begun.parts = append(begun.parts, p)
		}
		begun.settle()
		return true
	})
}

// lastTime is when the last of its records was written that has a time.
func (a *Attempt) lastTime() (last time.Time) {
	for _, p := range a.parts {
		for _, e := range p.events {
			if e.Time.After(last) {
				last = e.Time
			}
		}
	}
	return last
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

// commandOf takes the command out of a record that names it, behind the first
// colon of what the record itself says: its time may hold colons too.
func commandOf(e Event) string {
	text := e.message()
	if _, behind, ok := strings.Cut(text, ":"); ok {
		text = behind
	}
	return strings.TrimSpace(text)
}

// settle fills what the parts say together.
func (a *Attempt) settle() {
	a.Outcome, a.Files, a.Changes = Succeeded, nil, nil
	passed := false
	seen := map[string]bool{}
	for _, p := range a.parts {
		for _, e := range p.events {
			if !seen[e.File] {
				seen[e.File] = true
				a.Files = append(a.Files, e.File)
			}
			switch e.Mark {
			case Opens: // in some logs the record that opens an attempt says what it is
				if kind := p.dialect.kind(e.Text); kind != "" {
					_, command, _ := strings.Cut(e.message(), ": ")
					a.Kind, a.Command = kind, command
				}
			case Command:
				a.Command = commandOf(e)
				a.Kind = p.dialect.kind(a.Command)
			case Change:
				a.Changes = append(a.Changes, changes(e)...)
			case Fails, Follows, Verdict:
				a.Outcome = Failed
			case Passed:
				passed = true
			}
		}
		if a.Kind == "" {
			a.Kind = p.dialect.Tries
		}
		if !p.closed && a.Outcome != Failed {
			a.Outcome = CutOff
		}
		if p.dialect.Whole && a.Outcome == Succeeded && (slices.ContainsFunc(p.events, Event.IsError) || refusedAtOnce(p)) {
			a.Outcome = Failed // what a screen showed may be all there is; a failure on it is one
		}
	}
	if passed {
		a.Outcome = Succeeded
	}
	a.Unfinished = a.unfinished()
}

// refusedAtOnce reports whether a screen shows nothing of any work, and ends with what a program says under its name.
func refusedAtOnce(p part) bool {
	worked := slices.ContainsFunc(p.events, func(e Event) bool { return e.Mark != "" })
	return !worked && len(p.events) > 0 && p.events[len(p.events)-1].underName()
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
