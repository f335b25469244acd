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
