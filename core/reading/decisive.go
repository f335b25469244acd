package reading

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
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
// if the operation said nothing of the sort, it is the last that it did say, and
// if it said nothing, the declaration itself.
func (a *Attempt) decide() {
	if a.Outcome == Succeeded {
		return
	}
	if a.Outcome == CutOff && a.decideCutOff() {
		return
	}
	for _, p := range a.parts {
		if i := firstDeclared(p.events); i >= 0 {
			if p.dialect.Together {
				a.decideAmong(p.events, i)
			} else {
				a.decideIn(p.events, i)
			}
			return
		}
	}
	why := "the first record of the attempt that sounds like a failure; no operation was declared failed"
	if a.firstRanked(why, Event.isSevere, Event.saysMore) {
		return
	}
	if len(a.Unfinished) > 0 { // it says more than that something failed
		e := a.Unfinished[0]
		a.Decisive, a.Chain, a.Stage, a.Object = &e, a.Unfinished, e.State, e.Object
		a.Why = "no record says what went wrong; this is the first object that was left unfinished"
		return
	}
	if !a.firstRanked(why, Event.IsError) {
		a.firstRanked("the first that a program said under its name; no record sounds like a failure", Event.underName)
	}
}

// firstRanked takes the first record of the first rank of which there is one.
func (a *Attempt) firstRanked(why string, ranks ...func(Event) bool) bool {
	for _, rank := range ranks {
		for _, p := range a.parts {
			if i := slices.IndexFunc(p.events, rank); i >= 0 {
				a.choose(p.events, i, why)
				return true
			}
		}
	}
	return false
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
			a.Stage, a.Object = a.Decisive.Operation, packageName(a.Decisive.Object)
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
	object := packageName(events[declared].Object)
	start := -1
	for i := declared - 1; i >= 0; i-- {
		if events[i].Mark == Operation && packageName(events[i].Object) == object {
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
	declared = firstBlamed(events, start, declared)
	for _, i := range worstFirst(events, start+1, declared) {
		if events[i].IsError() && (!events[i].mild || events[declared].script != nil && events[i].Speaker.Package != "") {
			a.choose(
				events, i,
				fmt.Sprintf("the first failure after %s began and before it was declared failed in line %d", a.work(),
					events[declared].Line),
			)
			return
		}
	}
	if last := lastSaid(events, start, declared); last >= 0 && events[declared].blamesScript() {
		a.choose(events, last, fmt.Sprintf("the last that %s said before it was declared failed in line %d", a.work(),
			events[declared].Line))
		return
	}
	a.choose(
		events, declared,
		fmt.Sprintf("nothing between the start of %s and this declaration sounds like a failure", a.work()),
	)
}

// work is what was being done when it failed, in words.
func (a *Attempt) work() string {
	if a.Stage+a.Object == "" {
		return "the attempt"
	}
	return strconv.Quote(strings.TrimSpace(a.Stage + " " + a.Object))
}

// decideAmong looks back from the declaration for what was said of the same object alone.
func (a *Attempt) decideAmong(events []Event, declared int) {
	a.Object, a.Stage = events[declared].Object, events[declared].Operation
	for i, e := range events[:declared] {
		if e.Object == a.Object && (e.IsError() || e.Mark == Follows) {
			a.choose(events, i, fmt.Sprintf("the first failure that is told of %s before line %d declares it failed",
				a.Object, events[declared].Line))
			return
		}
	}
	a.choose(
		events,
		declared,
		fmt.Sprintf("nothing that is told of %s before this declaration sounds like a failure", a.Object),
	)
}

// firstBlamed is the first record of an operation that says that a script failed: the
// declaration itself, or one before it after which another script was tried.
func firstBlamed(events []Event, start, declared int) int {
	for i := start + 1; i < declared; i++ {
		if i > 0 && events[i].Mark == "" && events[i].blamesScript() {
			return i
		}
	}
	return declared
}

// lastSaid is the last that was said before a declaration and that healthy runs do not
// print too; the last at all if they print all of it. It is -1 if nothing was said.
func lastSaid(events []Event, start, declared int) int {
	last := declared - 1
	if last <= start || last < 0 || !spokeUpTo(events, last) {
		return -1
	}
	for i := last; i > start && spokeUpTo(events, i); i-- {
		if !events[i].Harmless {
			return i
		}
	}
	return last
}

// spokeUpTo reports whether a record is one of what ran for an object, with nothing left
// out between it and the next.
func spokeUpTo(events []Event, i int) bool {
	e := events[i]
	return e.said && !e.ofTool || e.Mark == "" && e.Speaker.Package != "" && e.File == events[i+1].File &&
		e.lastLine()+1 == events[i+1].Line
}

// isSevere reports whether it is a failure, calls itself no warning, and says more
// than that something failed.
func (e Event) isSevere() bool { return e.saysMore() && !e.mild }

func (e Event) saysMore() bool { return e.IsError() && e.Mark != Verdict }

// blamesScript reports whether a declaration, with its reason, says that a program
// failed that had the word until then.
func (e Event) blamesScript() bool { return e.script != nil && e.script.MatchString(e.original()) }

// worstFirst lists events from one up to another in their order: first those that call
// themselves errors, last those that call themselves warnings.
func worstFirst(events []Event, from, to int) (list []int) {
	for rank := range 3 {
		for i := max(from, 0); i < to; i++ {
			if events[i].rank() == rank {
				list = append(list, i)
			}
		}
	}
	return list
}

func (e Event) rank() int {
	switch {
	case e.plain:
		return 0
	case e.mild:
		return 2
	}
	return 1
}

// explained goes back from a failure to the first in the lines right above it whose
// program the one below it names: who passes on that another program failed says less
// than that program.
func explained(events []Event, i int) int {
	i = continued(events, i)
	for i > 0 && rightAbove(events, i) && events[i-1].Mark == "" && passesOn(events[i], events[i-1]) {
		i = continued(events, i-1)
	}
	return i
}

// continued goes back from a line that is set in to the one that it goes on from.
func continued(events []Event, i int) int {
	first := i
	for first > 0 && setIn(events[first]) && events[first].Mark == "" && rightAbove(events, first) {
		first--
	}
	if setIn(events[first]) || events[first].Mark != "" || events[first].Harmless {
		return i
	}
	return first
}

func setIn(e Event) bool {
	return strings.HasPrefix(e.message(), " ") || strings.HasPrefix(e.message(), "\t")
}

// rightAbove reports whether the record before one stands in the line right above it.
func rightAbove(events []Event, i int) bool {
	return events[i-1].File == events[i].File && events[i-1].lastLine()+1 == events[i].Line
}

// pointsAt is how programs name the place in a text that they could not use: file, line, column.
var pointsAt = regexp.MustCompile(`^"?[^\s:"]*[^\s\d:"][^\s:"]*"?:\d+(?::\d+)?: `)

// passesOn reports whether a record only says that what the one before it told ended
// badly: its program gives up, or says that that other program failed.
func passesOn(e, before Event) bool {
	program := programName(before)
	if pointsAt.MatchString(before.message()) {
		return program != programName(e) && !before.Harmless
	}
	if program == "" {
		return false
	}
	if program == programName(e) {
		return e.resigns && !before.Harmless
	}
	if e.ofChild && programName(e) != "" {
		return !before.Harmless
	}
	return before.IsError() && !before.mild && strings.Contains(e.message(), program)
}

func (a *Attempt) choose(events []Event, i int, why string) {
	if first := explained(events, i); first != i {
		i, why = first, why+"; the line below it only passes on what failed here"
	}
	if first := precedingWarnings(events, i); first != i {
		i, why = first, why+"; the warnings right above it say why"
	}
	e := events[i]
	a.Decisive, a.Why = &e, why
	a.Chain = nil
	for n, f := range events[i:] {
		if len(a.Chain) == maxChain {
			break
		}
		if n == 0 && f.said || f.IsError() || f.Mark == Fails || f.Mark == Follows || f.Mark == Verdict {
			a.Chain = append(a.Chain, f)
		}
	}
	if len(a.Chain) == 0 {
		a.Chain = []Event{e}
	}
}

// precedingWarnings goes back from a failure to the first of the warnings that stand in
// the lines right above it, from the same program.
func precedingWarnings(events []Event, i int) int {
	program := programName(events[i])
	for i > 0 && rightAbove(events, i) && events[i-1].Level == Warning && (program != "" || !events[i-1].mild) &&
		!events[i-1].Harmless && !events[i-1].SeenInSuccess && programName(events[i-1]) == program {
		i--
	}
	return i
}

// underName reports whether a program says something under its name, as it does where it ends badly, and that healthy
// runs do not print too.
func (e Event) underName() bool { return programName(e) != "" && !e.Harmless && !e.SeenInSuccess }

// programName is the program that a record names before its first colon.
func programName(e Event) string {
	name, _, ok := strings.Cut(e.message(), ": ")
	if !ok || strings.ContainsAny(name, " \t") || levelAt(strings.ToLower(name)) == len(name) {
		return "" // how much it matters is no program
	}
	return name
}

// packageFile is the name of a package's file: name, version and architecture.
var packageFile = regexp.MustCompile(`^([^_/]+)_[^_/]+_[^_/]+\.[a-z]+$`)

// packageName takes away what one record writes of an object and another does
// not: the architecture of a package, the path and version of its file.
func packageName(object string) string {
	if m := packageFile.FindStringSubmatch(path.Base(object)); m != nil {
		return m[1]
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

// Latest returns the last attempt that did not succeed, or nil. What Diorthos itself did in vain explains nothing.
func (t *Timeline) Latest() *Attempt {
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		if t.Attempts[i].Outcome != Succeeded && t.Attempts[i].Kind != Repair {
			return t.Attempts[i]
		}
	}
	return nil
}
