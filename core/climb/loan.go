package climb

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/ladder"
)

// A Loan is something that was changed for the repair's sake and has to be
// given back: the clock, the network, a policy, a moved folder.
type Loan struct {
	What     string     `json:"what"`
	Back     string     `json:"back"` // how it is given back
	Rung     int        `json:"rung"`
	Borrowed time.Time  `json:"borrowed"`
	Returned *time.Time `json:"returned,omitempty"`
	Accepted string     `json:"accepted,omitempty"` // why it may stay as it is
	// Action and Params give it back; without them a person has to.
	Action action.ID         `json:"action,omitempty"`
	Params map[string]string `json:"params,omitempty"`
	// Machine and Target are whose it is: it is given back nowhere else.
	Machine string        `json:"machine,omitempty"`
	Target  *block.Target `json:"target,omitempty"`
}

// Owed reports whether it is still to be given back.
func (l Loan) Owed() bool { return l.Returned == nil && l.Accepted == "" }

// loansOf are the loans of a rung: those that its remedy names, and those that
// its action makes.
func loansOf(r ladder.Rung, made []action.LoanTerms, machine string, target block.Target, now time.Time) (list []Loan) {
	for _, l := range r.Loans {
		list = append(list, Loan{What: l.What, Back: l.Back, Rung: r.Number, Borrowed: now, Machine: machine})
	}
	for _, l := range made {
		list = append(list, Loan{
			What: l.What, Back: l.Back, Action: l.Action, Params: l.Params,
			Rung: r.Number, Borrowed: now, Machine: machine, Target: &target,
		})
	}
	return list
}

// ErrNotTheLender means that a loan is of another machine or disk.
var ErrNotTheLender = errors.New("the loan is of another machine")

// GiveBack gives back what was borrowed, by the action that the loan names, on
// the machine and the disk from which it was borrowed.
func GiveBack(ctx context.Context, l Loan, dev block.Device, o Options) (*Run, error) {
	if l.Action == "" {
		return nil, fmt.Errorf("loan %q: %w", l.What, ErrByHand)
	}
	if l.Machine != "" && o.Machine != "" && l.Machine != o.Machine {
		return nil, fmt.Errorf("loan %q: %w: %s, this is %s", l.What, ErrNotTheLender, l.Machine, o.Machine)
	}
	target := l.Target
	if target == nil { // a ledger of an earlier version, which did not name it
		a, ok := action.Named(l.Action)
		if !ok {
			return nil, fmt.Errorf("loan %q: no action is called %q", l.What, l.Action)
		}
		c, err := a.Open(dev, o.Environment, l.Params)
		if err != nil {
			return nil, err
		}
		now := c.Target(o.Path)
		target = &now
	}
	return Take(ctx, ladder.Rung{
		Number: l.Rung, Remedy: "give-back", Title: l.Back, Action: l.Action, Params: l.Params, Target: target,
	}, dev, o)
}
