package climb

import (
	"time"

	"diorthos/core/action"
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
	Journal string         `json:"journal,omitempty"`
	Began   time.Time      `json:"began"`
	Took    time.Duration  `json:"took"` // nanoseconds
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

// Planned is one write in words.
type Planned struct {
	What   string `json:"what"`
	Offset int64  `json:"offset"` // bytes
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
