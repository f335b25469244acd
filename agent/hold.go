package agent

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/climb"
)

// hold holds back what the service wants, lets go what it wants no more, and tells what came of it. What cannot be
// held back here is told with the reason, and not tried again until the service wants something else.
func (a *Agent) hold(ctx context.Context, want []string) error {
	if slices.Equal(slices.Sorted(maps.Keys(a.keep.Held)), slices.Sorted(slices.Values(want))) {
		return nil
	}
	trace := ""
	if a.Trace != nil {
		trace = a.Trace()
	}
	if err := a.busy(); err != nil {
		return err
	}
	held := map[string]string{}
	for _, what := range want {
		if problem, known := a.keep.Held[what]; known && problem == "" {
			held[what] = ""
			continue
		}
		held[what] = a.change(ctx, action.HoldBack, what)
	}
	for what := range a.keep.Held {
		if slices.Contains(want, what) {
			continue
		}
		if problem := a.change(ctx, action.LetGo, what); problem != "" {
			a.Log.Warn("not let go", "machine", a.keep.Machine, "what", what, "error", problem)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	a.keep.Held, a.keep.HeldUntold, a.keep.Busy = held, true, false
	if trace != "" && trace == a.keep.Trace { // what this has changed was not tried by anybody
		a.keep.Trace = a.Trace()
	}
	if err := a.save(); err != nil {
		return err
	}
	return a.tellHeld(ctx)
}

// tellHeld tells what the machine holds back, if the service has not heard it.
func (a *Agent) tellHeld(ctx context.Context) error {
	if !a.keep.HeldUntold {
		return nil
	}
	held := map[string]string{}
	maps.Copy(held, a.keep.Held)
	if err := a.service.TellHeld(ctx, held); away(err) {
		return err
	} else if err != nil { // it is refused, and would be again: nothing else waits for it
		a.Log.Warn("the service does not take what is held back", "machine", a.keep.Machine, "error", err)
	}
	a.keep.HeldUntold = false
	return a.save()
}

// change takes one action on the machine, through the same guards, journal and proof as a rung. It returns why it
// could not be taken; nothing where it is as wanted.
func (a *Agent) change(ctx context.Context, id action.ID, what string) string {
	notes, err := a.perform(ctx, id, map[string]string{"what": what})
	if err != nil {
		a.Log.Warn(string(id), "machine", a.keep.Machine, "what", what, "error", err)
		return bounded(err.Error())
	}
	a.Log.Info(string(id), "machine", a.keep.Machine, "what", what)
	return bounded(strings.Join(notes, "; "))
}

func bounded(text string) string {
	const most = 500
	if len(text) > most {
		return text[:most]
	}
	return text
}

// perform takes one action, and returns what should be known of it.
func (a *Agent) perform(ctx context.Context, id action.ID, params map[string]string) (notes []string, err error) {
	target, err := a.Target(id)
	if err != nil {
		return nil, err
	}
	plan, err := climb.Single(a.keep.Machine, id, params, target)
	if err != nil {
		return nil, err
	}
	m, err := a.Open(&bag.Facts{Machine: bag.Machine{Name: a.keep.Machine}})
	if err != nil {
		return nil, err
	}
	record, err := a.Record()
	if err != nil {
		return nil, err
	}
	defer func() { _ = record.Close() }() // every entry was synced
	runs, err := (&climb.Climb{Plan: plan, On: m, Attendant: unattended{}, Record: record, Now: time.Now}).Run(ctx)
	for _, r := range runs {
		notes = append(notes, r.Notes...)
	}
	return notes, err
}

// unattended agrees to nothing that has to be agreed to, and has nobody to ask.
type unattended struct{}

func (unattended) Consent(context.Context, climb.Consent) (string, error) {
	return "", climb.ErrUnanswered
}
func (unattended) Answer(context.Context, climb.Question) (string, error) {
	return "", climb.ErrUnanswered
}
func (unattended) Progress(context.Context, climb.Event) error { return nil }
