package reading

import (
	"fmt"
	"path"
	"strings"
)

// maxChain bounds how much of what followed is kept with an attempt.
const maxChain = 200

// decide finds the decisive event of an attempt that failed.
//
// The rule: a log that declares operations failed is believed before one that
// only says that something failed. The first operation declared failed, other
// than by following from another, is the one in which the chain began. The
// decisive event is the first record between the start of that operation and
// the declaration that sounds like a failure and is not known to be harmless;
// if the operation said nothing of the sort, it is the declaration itself.
func (a *Attempt) decide() {
	if a.Outcome == Succeeded {
		return
	}
	if a.Outcome == CutOff && a.decideCutOff() {
		return
	}
	for _, p := range a.parts {
		if i := firstDeclared(p.events); i >= 0 {
			a.decideIn(p.events, i)
			return
		}
	}
	for _, alone := range []bool{false, true} { // what only says that it failed comes last
		for _, p := range a.parts {
			for i, e := range p.events {
				if e.Sounds() && (alone || e.Mark != Verdict) {
					a.choose(p.events, i, "the first record of the attempt that sounds like a failure; no operation was declared failed")
					return
				}
			}
		}
	}
	if len(a.Unfinished) > 0 {
		e := a.Unfinished[0]
		a.Decisive, a.Chain, a.Stage, a.Object = &e, a.Unfinished, e.State, e.Object
		a.Why = "no record says what went wrong; this is the first object that was left unfinished"
		return
	}
}

// decideCutOff takes the last that the log says of the work that was under way.
func (a *Attempt) decideCutOff() bool {
	for _, p := range a.parts {
		last := len(p.events) - 1
		for last >= 0 && p.events[last].Mark != Operation {
			last--
		}
		if !p.closed && last >= 0 {
			a.choose(p.events, last, "the log stops after it with no end noted")
			a.Stage, a.Object = a.Decisive.Operation, bare(a.Decisive.Object)
			return true
		}
	}
	return false
}

func firstDeclared(events []Event) int {
	for i, e := range events {
		if e.Mark == Fails && !e.Harmless {
			return i
		}
	}
	return -1
}

// decideIn looks back from the declaration to the start of its operation.
func (a *Attempt) decideIn(events []Event, declared int) {
	object := bare(events[declared].Object)
	start := -1
	for i := declared - 1; i >= 0; i-- {
		if events[i].Mark == Operation && bare(events[i].Object) == object {
			start = i
			break
		}
	}
	if start < 0 {
		for start = declared - 1; start >= 0 && events[start].Mark == ""; start-- {
		}
	}
	a.Object, a.Stage = object, events[declared].Operation
	if start >= 0 && events[start].Mark == Operation {
		a.Stage = events[start].Operation
	}
	for i := start + 1; i < declared; i++ {
		if events[i].Sounds() {
			a.choose(events, i, fmt.Sprintf("the first failure after %q began and before it was declared failed in line %d", a.Stage+" "+object, events[declared].Line))
			return
		}
	}
	a.choose(events, declared, fmt.Sprintf("nothing between the start of %q and this declaration sounds like a failure", a.Stage+" "+object))
}

func (a *Attempt) choose(events []Event, i int, why string) {
	if first := leadIn(events, i); first != i {
		i, why = first, why+"; the warnings right above it say why"
	}
	e := events[i]
	a.Decisive, a.Why = &e, why
	a.Chain = nil
	for _, f := range events[i:] {
		if len(a.Chain) == maxChain {
			break
		}
		if f.Sounds() || f.Mark == Fails || f.Mark == Follows || f.Mark == Verdict {
			a.Chain = append(a.Chain, f)
		}
	}
	if len(a.Chain) == 0 {
		a.Chain = []Event{e}
	}
}

// leadIn goes back from a failure to the first of the warnings that stand in
// the lines right above it, from the same program.
func leadIn(events []Event, i int) int {
	program := speaker(events[i])
	for i > 0 && events[i-1].File == events[i].File && events[i-1].lastLine()+1 == events[i].Line &&
		events[i-1].Level == Warning && !events[i-1].Harmless && !events[i-1].Usual && speaker(events[i-1]) == program {
		i--
	}
	return i
}

// speaker is the program that a record names before its first colon.
func speaker(e Event) string {
	name, _, ok := strings.Cut(e.said(), ": ")
	if !ok || strings.ContainsAny(name, " \t") {
		return ""
	}
	return name
}

// bare takes away what one record writes of an object and another does not:
// the architecture of a package, the path and version of its file.
func bare(object string) string {
	if strings.HasSuffix(object, ".deb") {
		name, _, _ := strings.Cut(path.Base(object), "_")
		return name
	}
	if strings.Contains(object, "://") {
		return object
	}
	name, _, _ := strings.Cut(object, ":")
	return name
}

// Events lists all events of the attempt that matter, log after log.
func (a *Attempt) Events() []Event {
	var list []Event
	for _, p := range a.parts {
		list = append(list, p.events...)
	}
	return list
}

// Latest returns the last attempt that did not succeed, or nil.
func (t *Timeline) Latest() *Attempt {
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		if t.Attempts[i].Outcome != Succeeded {
			return t.Attempts[i]
		}
	}
	return nil
}
