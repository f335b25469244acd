package reading

import (
	"fmt"
	"path"
	"strings"
)

// WhyNot says why the line of a log that was read is not the decisive event.
// The file may be given by the end of its name.
func (t *Timeline) WhyNot(file string, line int) string {
	known := false
	for _, f := range t.Files {
		known = known || sameFile(f.Name, file)
		if sameFile(f.Name, file) && line > f.Lines {
			return fmt.Sprintf("%s has %d lines", f.Name, f.Lines)
		}
	}
	if !known {
		return fmt.Sprintf("no log called %q was read", file)
	}
	latest := t.Latest()
	for _, a := range t.Attempts {
		for _, p := range a.parts {
			for i, e := range p.events {
				if sameFile(e.File, file) && e.holds(line) {
					return a.whyNot(p.events, i, a == latest)
				}
			}
		}
	}
	for _, e := range t.Unassigned {
		if sameFile(e.File, file) && e.holds(line) {
			return "it belongs to no attempt: no log says that an install or update was under way then"
		}
	}
	return "it was not looked at closely: it holds no word that sounds like a failure, and nothing that the dialect or " +
		"a signature looks for"
}

func sameFile(name, asked string) bool { return name == asked || path.Base(name) == asked }

// holds reports whether a line is one of the event's, the reason below it
// included.
func (e Event) holds(line int) bool { return line >= e.Line && line <= e.lastLine() }

func (e Event) lastLine() int { return e.Line + strings.Count(e.Text, "\n") }

func (a *Attempt) whyNot(events []Event, i int, latest bool) string {
	e, d := events[i], a.Decisive
	switch {
	case a.Outcome == Succeeded:
		return fmt.Sprintf("it belongs to an attempt that succeeded, %s", named(a))
	case !latest:
		return fmt.Sprintf(
			"it belongs to an earlier attempt, %s; the latest that failed is the one that is explained", named(a),
		)
	case d == nil:
		return "nothing in this attempt could be chosen"
	case e.Place == d.Place:
		return "it is the decisive event: " + a.Why
	case e.SeenInSuccess:
		return "it stands in attempts that succeeded too"
	case e.Harmless:
		return "healthy machines show it too"
	case e.File != d.File:
		return fmt.Sprintf("%s tells more exactly which operation failed; line %d of it was chosen", d.File, d.Line)
	case e.Line > d.Line:
		return fmt.Sprintf("it came after line %d, and so can only have followed from it", d.Line)
	case e.Level == Error:
		return fmt.Sprintf("it came before %q began, which is the first operation that was declared failed", a.Stage+" "+
			a.Object)
	}
	return fmt.Sprintf("it does not sound like a failure (%s)", e.Level)
}

func named(a *Attempt) string {
	if a.Began.IsZero() {
		return "of which no time is known"
	}
	return "begun " + a.Began.Format("2006-01-02 15:04:05")
}
