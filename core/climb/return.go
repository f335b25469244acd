package climb

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"diorthos/core/action"
	"diorthos/core/block"
)

// giveBack gives back what is owed. stop ends the waiting for an attempt; what
// can be given back by an action is given back all the same.
func (c *Climb) giveBack(ctx context.Context, stop <-chan struct{}) error {
	for _, d := range c.Record.Owed() {
		c.tell(ctx, Event{Kind: LoanOwed, Loan: &d.Loan})
		if err := c.returnLoan(ctx, d, true, stop); err != nil {
			return err
		}
	}
	return nil
}

// returnLoan gives one loan back. attempt says that what it was borrowed for is
// still to be tried.
func (c *Climb) returnLoan(ctx context.Context, d Debt, attempt bool, stop <-chan struct{}) error {
	if d.Action == "" {
		return c.returnByHand(ctx, d)
	}
	if attempt {
		if later, err := c.awaitAttempt(ctx, stop); err != nil || later {
			return err
		}
	}
	return c.returnByAction(ctx, d)
}

// awaitAttempt waits for the attempt that something was lent for. later says
// that a person wants it to stay borrowed for now. Nobody to ask does not: then
// it is given back when the window is over.
func (c *Climb) awaitAttempt(ctx context.Context, stop <-chan struct{}) (later bool, err error) {
	answer, err := c.Attendant.Answer(ctx, Question{
		Kind: AskAttempt,
		Text: "Make the attempt again now. Is it done, and shall it be given back?",
	})
	switch {
	case err == nil && answer == No:
		c.tell(ctx, Event{Kind: Remark, Text: "It stays borrowed: the next climb on this machine gives it back."})
		return true, nil
	case err == nil:
		return false, nil
	case !errors.Is(err, ErrUnanswered):
		return false, err
	}
	if c.Window > 0 {
		c.tell(ctx, Event{Kind: Waiting, Text: fmt.Sprintf("%s for the attempt; then it is given back", c.Window)})
		timer := time.NewTimer(c.Window)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-stop:
		}
	}
	return false, nil
}

func (c *Climb) returnByHand(ctx context.Context, d Debt) error {
	answer, err := c.Attendant.Answer(ctx, Question{Kind: AskReturned, Text: "Given back?"})
	switch {
	case errors.Is(err, ErrUnanswered) || err == nil && (answer == No || answer == ""):
		c.tell(ctx, Event{Kind: Remark, Text: "It stays on the record, and is asked for again."})
		return nil
	case err != nil:
		return err
	case answer == Yes:
		return c.Record.Note(Entry{At: c.Now().UTC(), Mark: MarkReturned, Number: d.Number, Rung: d.Rung})
	}
	return c.Record.Note(Entry{At: c.Now().UTC(), Mark: MarkAccepted, Number: d.Number, Rung: d.Rung, Why: answer})
}

// returnByAction carries out the action that gives a loan back.
func (c *Climb) returnByAction(ctx context.Context, d Debt) (err error) {
	a, ok := action.Named(d.Action)
	if !ok {
		return fmt.Errorf("loan %q: no action is called %q", d.What, d.Action)
	}
	dev, path, err := c.On.Open(a, false)
	if err != nil {
		return fmt.Errorf("%w: give back %q: %w", ErrBlocked, d.What, err)
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	env, err := c.On.Environment()
	if err != nil {
		return err
	}
	run, err := GiveBack(ctx, d.Loan, dev, Options{
		Machine: c.Machine, Case: c.Case, Path: path, Environment: env, Now: c.Now,
		Journal: func(h block.Head, _ int64) (*block.Journal, string, error) {
			file, _, err := c.On.Journal(path)
			if err != nil {
				return nil, "", err
			}
			j, err := block.CreateJournal(file, h)
			return j, file, err
		},
	})
	if err != nil {
		return fmt.Errorf("give back %q: %w", d.What, err)
	}
	did := run.Did
	if run.Outcome == NothingToDo {
		did = []string{"it is as it was already"}
	}
	c.tell(ctx, Event{Kind: LoanReturned, Loan: &d.Loan, Run: &Run{Did: did, Outcome: run.Outcome}})
	return c.Record.Note(Entry{
		At: c.Now().UTC(), Mark: MarkReturned, Number: d.Number, Rung: d.Rung, Run: run, Journal: run.Journal,
	})
}

func sameFile(a, b string) bool {
	x, errA := filepath.Abs(a)
	y, errB := filepath.Abs(b)
	return errA == nil && errB == nil && x == y
}
