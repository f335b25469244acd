package climb

import (
	"context"
	"errors"
	"fmt"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

// byHand leads a person through the steps of a rung and keeps the answers. Where
// facts tell what came of a step, the machine is looked at.
func (c *Climb) byHand(ctx context.Context, r ladder.Rung) (*Run, error) {
	run := &Run{
		Rung: r.Number, Remedy: r.Remedy, Began: c.Now().UTC(), Outcome: Stopped,
		Guard: []action.Check{}, Planned: []Planned{}, Proof: []action.Check{},
	}
	defer func() { run.Took = c.Now().Sub(run.Began) }()
	if c.DryRun {
		run.Outcome = Planning
		for i := range r.Steps {
			c.tell(ctx, Event{Kind: StepBegins, Rung: r, Step: i + 1})
		}
		return run, nil
	}
	if !c.Hands {
		sheet := "\"diorthos ladder --sheet .\" with the same --image, --root or --live"
		if c.Case > 0 {
			sheet = fmt.Sprintf("\"diorthos ladder %d --sheet .\"", c.Case)
		}
		return nil, fmt.Errorf("%w: rung %d, %q, is for a person: go on with --hands, or print the steps by %s",
			ErrBlocked, r.Number, r.Title, sheet)
	}
	if err := c.consent(ctx, r, ladder.Losses(c.Disks, r.Loses)); err != nil {
		return nil, err
	}
	for _, l := range loansOf(r, nil, c.Machine, block.Target{}, c.Now().UTC()) {
		if err := c.Record.Borrow(c.Case, l); err != nil {
			return nil, err
		}
	}
	for i, s := range r.Steps {
		c.tell(ctx, Event{Kind: StepBegins, Rung: r, Step: i + 1})
		check, err := c.step(ctx, r, s)
		if err != nil {
			return run, c.unanswered(err)
		}
		run.Guard = append(run.Guard, check)
		if !check.OK {
			break
		}
	}
	helped, err := c.yes(ctx, Question{Kind: AskHelped, Text: "Does the failed thing work now? " + r.Proof})
	if err != nil {
		return run, c.unanswered(err)
	}
	run.Outcome = map[bool]Outcome{true: Proven, false: NotHelped}[helped]
	run.Proof = []action.Check{{What: r.Proof, OK: helped, Saw: "said by whoever did it"}}
	return run, nil
}

func (c *Climb) unanswered(err error) error {
	if errors.Is(err, ErrUnanswered) {
		return fmt.Errorf("%w: %w; what was done so far is on the record", ErrBlocked, err)
	}
	return err
}

func (c *Climb) yes(ctx context.Context, q Question) (bool, error) {
	switch answer, err := c.Attendant.Answer(ctx, q); {
	case err != nil:
		return false, err
	case answer == Yes:
		return true, nil
	case answer == No:
		return false, nil
	default:
		return false, fmt.Errorf("%w: %q is neither yes nor no", ErrUnanswered, answer)
	}
}

// step asks what came of a step, and looks itself where facts tell.
func (c *Climb) step(ctx context.Context, r ladder.Rung, s knowledge.Step) (action.Check, error) {
	for {
		ok, err := c.yes(ctx, Question{Kind: AskStep, Text: "Right if: " + s.Shows + " Is it so?"})
		if err != nil {
			return action.Check{}, err
		}
		if !ok {
			return action.Check{What: s.Do, Saw: "otherwise"}, nil
		}
		measured, err := c.measure(ctx, s)
		if err != nil {
			return action.Check{}, err
		}
		switch measured {
		case knowledge.Holds:
			check := action.Check{What: s.Do, OK: true, Saw: "measured: it is so"}
			c.tell(ctx, Event{Kind: StepMeasured, Rung: r, Check: &check})
			return check, nil
		case knowledge.NotMeasured:
			return action.Check{What: s.Do, OK: true, Saw: "as it should be, by the word of whoever did it"}, nil
		}
		check := action.Check{What: s.Do, Saw: "measured: it is not so"}
		c.tell(ctx, Event{Kind: StepMeasured, Rung: r, Check: &check})
		if again, err := c.yes(ctx, Question{Kind: AskAgain, Text: "Try it once more?"}); err != nil || !again {
			return check, err
		}
	}
}

// measure looks at the machine again, if it is at hand.
func (c *Climb) measure(ctx context.Context, s knowledge.Step) (knowledge.Measure, error) {
	if s.Seen == "" {
		return knowledge.NotMeasured, nil
	}
	facts, err := c.On.Measure(ctx)
	if errors.Is(err, ErrNotAtHand) {
		return knowledge.NotMeasured, nil
	}
	if err != nil {
		return knowledge.NotMeasured, fmt.Errorf("look at the machine again: %w", err)
	}
	known, err := facts.AsMap()
	if err != nil {
		return knowledge.NotMeasured, err
	}
	return s.Measure(known)
}
