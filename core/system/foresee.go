package system

import (
	"context"
	"time"
)

// An UpdateWish is what is to be tried on a draft.
type UpdateWish struct {
	// Release is the code name of the release to go to; empty for the updates of the one that is installed.
	Release string
	// Hold are packages that are held back on the draft, to see whether the rest succeeds.
	Hold []string
	ToolOptions
}

// A Foreseer does an update or an upgrade on a draft of the system, as a person would do it on the
// system itself, and says how that went. The draft is then as the system would be.
type Foreseer interface {
	RehearseUpdate(context.Context, UpdateWish) (*Foreseen, error)
	// TryAgain makes the command of an attempt that failed again. The draft is then as the system would be. An error means
	// that it could not be looked at at all.
	TryAgain(ctx context.Context, command string, o ToolOptions) (Trial, error)
}

// A Trial is an attempt that failed, made again on a copy that is thrown away.
type Trial struct {
	Command string       `json:"command,omitempty"`
	Outcome TrialOutcome `json:"outcome"`
	Why     string       `json:"why,omitempty"` // what was said where it fails; why it was not made
}

// GoesThrough reports whether it was made and succeeded.
func (t *Trial) GoesThrough() bool { return t != nil && t.Outcome == GoesThrough }

// A TrialOutcome is how a trial ended.
type TrialOutcome string

// How trials end.
const (
	GoesThrough TrialOutcome = "goes through"
	StillFails  TrialOutcome = "still fails"
	NotMade     TrialOutcome = "not made" // it is not known whether it would go through
	// TellsNothing is said where it goes through on a copy as it was before the repair as well.
	TellsNothing TrialOutcome = "tells nothing"
)

// TrialOutcomes lists those that there are.
func TrialOutcomes() []TrialOutcome {
	return []TrialOutcome{GoesThrough, StillFails, NotMade, TellsNothing}
}

// Foreseen is how an update went that was tried on a draft.
type Foreseen struct {
	Failed bool `json:"failed"`
	// Stale says why what is newest is not known: the lists were not fetched anew. Empty where they were.
	Stale   string        `json:"stale,omitempty"`
	Steps   []Step        `json:"steps"`
	Plan    UpdatePlan    `json:"plan"`
	Asked   []string      `json:"asked"` // what a person would be asked, and how it was answered
	Rooms   []Room        `json:"rooms"`
	Took    time.Duration `json:"took"` // nanoseconds, on this computer
	Console string        `json:"-"`    // all that was run and printed, as on a screen
}

// A Step is one program that was run.
type Step struct {
	Command string        `json:"command"`
	Status  int           `json:"status"`
	Took    time.Duration `json:"took"` // nanoseconds
	Last    string        `json:"last,omitempty"`
}

// Tried reports whether anything was there to be done.
func (f *Foreseen) Tried() bool {
	return len(f.Plan.Upgraded)+len(f.Plan.Added)+len(f.Plan.Removed) > 0
}

// An UpdatePlan is what an update changes, by name.
type UpdatePlan struct {
	Upgraded []string `json:"upgraded"`
	Added    []string `json:"added"`
	Removed  []string `json:"removed"`
	Kept     []string `json:"kept"` // that could be upgraded, and are held or kept back
}

// Room is what is free on a volume that the system mounts, in bytes, before and after.
type Room struct {
	Mount  string `json:"mount"`
	Before int64  `json:"before"`
	After  int64  `json:"after"`
}
