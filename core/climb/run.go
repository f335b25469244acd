package climb

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"diorthos/core/action"
	"diorthos/core/ladder"
	"diorthos/core/system"
)

// A Run is what taking one rung came to.
type Run struct {
	Rung    int            `json:"rung"`
	Remedy  string         `json:"remedy,omitempty"`
	Outcome Outcome        `json:"outcome"`
	Guard   []action.Check `json:"guard"`
	Planned []Planned      `json:"planned"`
	Did     []string       `json:"did,omitempty"`   // in a technician's words
	Notes   []string       `json:"notes,omitempty"` // what else should be known
	Loans   []Loan         `json:"loans,omitempty"` // what was borrowed for it
	Loses   []string       `json:"loses,omitempty"` // what is lost by it, in words
	Proof   []action.Check `json:"proof"`
	// Before and Again are how the attempt that failed went when it was made on a copy: before anything was changed, and
	// afterwards.
	Before  *system.Trial `json:"before,omitempty"`
	Again   *system.Trial `json:"again,omitempty"`
	Journal string        `json:"journal,omitempty"`
	Began   time.Time     `json:"began"`
	Took    time.Duration `json:"took"` // nanoseconds
}

// Bounds of what a report of a run may hold.
const (
	mostInRun  = 2000 // entries of each list
	mostText   = 4000 // bytes of each text
	mostRung   = 1000
	mostSpent  = 90 * 24 * time.Hour
	mostRemedy = 100
)

// Check looks whether a run that somebody reports can be one.
func (r *Run) Check() error {
	texts := append(append(append([]string{r.Journal, r.Remedy}, r.Did...), r.Notes...), r.Loses...)
	for _, c := range append(append([]action.Check{}, r.Guard...), r.Proof...) {
		texts = append(append(texts, c.What, c.Saw), c.Screen...)
	}
	for _, p := range r.Planned {
		texts = append(texts, p.What)
	}
	trials := slices.DeleteFunc([]*system.Trial{r.Before, r.Again}, func(t *system.Trial) bool { return t == nil })
	for _, t := range trials {
		texts = append(texts, t.Command, t.Why)
	}
	long := func(s string) bool { return len(s) > mostText || strings.ContainsRune(s, 0) }
	switch {
	case !slices.Contains(Outcomes(), r.Outcome):
		return fmt.Errorf("outcome %q: want one of %v", r.Outcome, Outcomes())
	case slices.ContainsFunc(trials, func(t *system.Trial) bool {
		return !slices.Contains(system.TrialOutcomes(), t.Outcome)
	}):
		return fmt.Errorf("the attempt made again: want an outcome of %v", system.TrialOutcomes())
	case r.Rung < 0 || r.Rung > mostRung:
		return fmt.Errorf("rung %d: want 0 to %d", r.Rung, mostRung)
	case r.Took < 0 || r.Took > mostSpent:
		return fmt.Errorf("took %s: want 0 to %s", r.Took, mostSpent)
	case len(r.Remedy) > mostRemedy:
		return fmt.Errorf("remedy: %d bytes, at most %d", len(r.Remedy), mostRemedy)
	case len(r.Loans) > mostInRun || len(texts) > mostInRun:
		return fmt.Errorf("it holds more than %d entries", mostInRun)
	case slices.ContainsFunc(texts, long):
		return fmt.Errorf("a text is longer than %d bytes, or holds a NUL", mostText)
	}
	return nil
}

// An Outcome is how a rung ended.
type Outcome string

// The outcomes of a rung.
const (
	Planning    Outcome = "planned"       // a dry run
	Proven      Outcome = "proven"        // done, and the proof holds
	NothingToDo Outcome = "nothing to do" // nothing was found that it would change
	Refused     Outcome = "refused"       // a guard said no; nothing was changed
	Stopped     Outcome = "stopped"       // told to stop before anything was written
	TakenBack   Outcome = "taken back"    // done, not proven, undone
	NotHelped   Outcome = "not helped"    // done by hand, and the failed thing still fails
	CutOff      Outcome = "cut off"       // it may be done in part: resume it or take it back
)

// Outcomes lists those that there are.
func Outcomes() []Outcome {
	return []Outcome{Planning, Proven, NothingToDo, Refused, Stopped, TakenBack, NotHelped, CutOff}
}

// Changed reports whether the target may be other than it was before.
func (o Outcome) Changed() bool { return o == Proven || o == CutOff }

// Tried reports whether taking the rung once more, without a reason, would come
// to the same.
func (o Outcome) Tried() bool {
	return o == Proven || o == NothingToDo || o == Refused || o == TakenBack || o == NotHelped
}

// Helped reports whether it is proven, and nothing says that what failed still fails.
func (r *Run) Helped() bool {
	return r.Outcome == Proven && (r.Again == nil || r.Again.Outcome != system.StillFails)
}

// InVain reports whether it was carried out, and did not help.
func (r *Run) InVain() bool {
	return r.Outcome == NotHelped || r.Outcome == TakenBack || r.Outcome == Proven && !r.Helped()
}

// Standing tells how each rung stands after the runs, in the order in which
// they were made: by its last run that changed anything, or else by its last.
func Standing(runs []Run) map[int]Outcome {
	stands := map[int]Outcome{}
	for _, r := range runs {
		weak := r.Outcome == Refused || r.Outcome == Stopped || r.Outcome == NothingToDo
		if _, known := stands[r.Rung]; !weak || !known {
			stands[r.Rung] = r.Outcome
		}
	}
	return stands
}

// StandingOn is Standing for a ladder that was drawn anew since: what was another remedy's
// run says nothing of the rung that has its number now.
func StandingOn(rungs []ladder.Rung, runs []Run) map[int]Outcome {
	return Standing(slices.DeleteFunc(slices.Clone(runs), func(r Run) bool {
		return r.Remedy != "" && !slices.ContainsFunc(rungs, func(g ladder.Rung) bool {
			return g.Number == r.Rung && g.Remedy == r.Remedy
		})
	}))
}

// Planned is one write in words.
type Planned struct {
	What   string `json:"what"`
	Offset int64  `json:"offset"` // bytes; -1 where a file is changed, and not a disk
	Length int    `json:"length"` // bytes
}

// ByWhat puts writes that are for the same thing together, in the order in
// which they come; Offset is that of the first.
func ByWhat(list []Planned) (out []Planned) {
	at := map[string]int{}
	for _, w := range list {
		i, known := at[w.What]
		if !known {
			at[w.What] = len(out)
			out = append(out, w)
			continue
		}
		out[i].Length += w.Length
	}
	return out
}
