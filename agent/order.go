package agent

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

// errAway means that the service could not be asked what has to be known before an order is begun: nothing was
// changed, and the order is given again.
var errAway = errors.New("the service does not answer")

// away reports whether a request failed for now only, and may be made again.
func away(err error) bool {
	var p *client.Problem
	if errors.As(err, &p) {
		return p.Status >= 500 || p.Status == 429 || p.Status == 401
	}
	return err != nil
}

// asked marks an error of the service, before anything was changed: it is away, or refuses, as when somebody else is at
// work on the case.
func asked(err error) error {
	if away(err) {
		return fmt.Errorf("%w: %w", errAway, err)
	}
	return fmt.Errorf("%w: %w", climb.ErrBlocked, err)
}

// busy notes, durably, that the agent is about to change the machine: only what it began itself is taken back by it
// when that was cut off.
func (a *Agent) busy() error {
	a.keep.Busy = true
	return a.save()
}

// carryOut does what an order says, if it is one that may be carried out, and says how it ended.
// What was done already is only said again.
func (a *Agent) carryOut(ctx context.Context, sent *client.AgentOrder) error {
	if done, ok := a.keep.Done[sent.ID]; ok {
		return a.service.ReportOrder(ctx, sent.ID, done)
	}
	o, err := climb.OpenOrder(sent.Payload, sent.Signature, a.keep.Service, a.keep.Machine, time.Now())
	if err != nil {
		a.Log.Warn("order refused", "machine", a.keep.Machine, "order", sent.ID, "error", err)
		return a.ended(ctx, sent.ID, client.OrderReport{State: client.OrderRefused, Problem: err.Error()})
	}
	if err := a.service.ReportOrder(ctx, o.ID, client.OrderReport{State: client.OrderRunning}); err != nil {
		return err
	}
	a.Log.Info("order", "machine", o.Machine, "case", o.Case, "remedy", o.Remedy, "back", o.Back, "approved", o.Approved)
	report := client.OrderReport{State: client.OrderProven}
	if err := a.busy(); err != nil {
		return err
	}
	if o.Back {
		report.State = client.OrderTakenBack
		err = a.takeBack(ctx, o)
	} else {
		err = a.take(ctx, o)
	}
	if ctx.Err() != nil {
		return ctx.Err() // it goes on after the restart
	}
	if errors.Is(err, errAway) { // nothing was begun
		a.keep.Busy = false
		return errors.Join(err, a.save())
	}
	if err != nil {
		report.State, report.Problem = client.OrderFailed, err.Error()
		if errors.Is(err, climb.ErrGuard) || errors.Is(err, climb.ErrBlocked) || errors.Is(err, climb.ErrNotOrdered) {
			report.State = client.OrderRefused
		}
	}
	a.look = time.Time{} // what happened is evidence
	return a.ended(ctx, o.ID, report)
}

// settle takes back what the agent was doing when it, or the machine, was stopped in the middle: what is to be done is
// then done anew from its beginning. What a person began is that person's to go on with. Where it cannot be taken back
// the machine is left as it is: it is still looked at, and whatever would change it is refused.
func (a *Agent) settle(ctx context.Context) {
	if a.settled || !a.keep.Busy {
		a.settled = true
		return
	}
	record, err := a.Record()
	if errors.Is(err, climb.ErrBusy) {
		return // somebody is at work here
	}
	a.settled = true
	if err == nil {
		cut := record.Unfinished()
		if err = record.Close(); err == nil && cut != nil {
			err = a.Undo(ctx, cut.Journal)
			a.Log.Warn("taking back what was cut off", "machine", a.keep.Machine, "what", cut.Remedy, "journal", cut.Journal)
		}
	}
	if err != nil {
		a.Log.Error("what was cut off cannot be taken back", "machine", a.keep.Machine, "error", err)
		return
	}
	a.keep.Busy = false
	if err := a.save(); err != nil {
		a.Log.Error("it cannot be noted that nothing is half-done", "machine", a.keep.Machine, "error", err)
	}
}

// ended notes how an order ended before anybody is told of it.
func (a *Agent) ended(ctx context.Context, id int64, r client.OrderReport) error {
	a.keep.Done[id], a.keep.Busy = r, false
	if a.keep.Begun == id {
		a.keep.Begun = 0
	}
	if err := a.save(); err != nil {
		return err
	}
	return a.service.ReportOrder(ctx, id, r)
}

// take climbs the rung of an order.
func (a *Agent) take(ctx context.Context, o *climb.Order) error {
	d, err := a.service.Case(ctx, o.Case)
	if err != nil {
		return asked(err)
	}
	rung, err := ordered(o, d)
	if err != nil {
		return err
	}
	m, err := a.Open(factsOf(d.Docket))
	if err != nil {
		return err
	}
	record, err := a.Record()
	if err != nil {
		return err
	}
	defer func() { _ = record.Close() }() // every entry was synced
	if climb.StandingOn(d.Docket.ToDo, record.Runs(o.Case))[o.Rung] == climb.Proven {
		if a.keep.Begun == o.ID { // for this very order: it was cut off before that was noted
			a.noteJournal(o, record.Runs(o.Case))
			return nil
		}
		return fmt.Errorf("%w: it was done here already", climb.ErrNotOrdered)
	}
	a.keep.Begun = o.ID
	if err := a.save(); err != nil {
		return err
	}
	attendant := &attendant{agent: a, order: o, number: d.Number}
	runs, err := (&climb.Climb{
		Plan: climb.Plan{
			Machine: o.Machine, Case: o.Case, Of: len(d.Docket.ToDo), Rungs: []ladder.Rung{rung}, First: true,
			Disks: d.Docket.Disks,
		},
		On: m, Attendant: attendant, Record: record, Now: time.Now,
	}).Run(ctx)
	a.noteJournal(o, runs)
	if err == nil && !slices.ContainsFunc(runs, func(r climb.Run) bool { return r.Outcome == climb.Proven }) {
		err = errors.New("nothing was there to be changed")
	}
	return err
}

// noteJournal keeps where the journal of an order lies, by which it is taken back.
func (a *Agent) noteJournal(o *climb.Order, runs []climb.Run) {
	for _, r := range runs {
		if r.Journal != "" && r.Outcome == climb.Proven {
			a.keep.Journals[journalOf(o)] = r.Journal
		}
	}
}

func journalOf(o *climb.Order) string { return fmt.Sprintf("%d %s", o.Case, o.Remedy) }

func (a *Agent) takeBack(ctx context.Context, o *climb.Order) error {
	journal := a.keep.Journals[journalOf(o)]
	if journal == "" {
		return fmt.Errorf("%w: no journal of it is known here", climb.ErrNotOrdered)
	}
	return a.Undo(ctx, journal)
}

// ordered is the rung of a case that an order means, if the case is still the one that was
// approved.
func ordered(o *climb.Order, d *client.CaseDetail) (ladder.Rung, error) {
	switch {
	case d.Docket == nil || d.Machine != o.Machine:
		return ladder.Rung{}, fmt.Errorf("%w: case %d is not one of this machine", climb.ErrNotOrdered, o.Case)
	case d.Bag != o.Evidence:
		return ladder.Rung{}, fmt.Errorf("%w: case %d was diagnosed from other evidence", climb.ErrNotOrdered, o.Case)
	}
	for _, r := range d.Docket.ToDo {
		if r.Number == o.Rung && r.Remedy == o.Remedy && r.Invasive.Degree() <= o.Level.Degree() {
			return r, nil
		}
	}
	return ladder.Rung{}, fmt.Errorf(
		"%w: rung %d of case %d is not the one that was approved",
		climb.ErrNotOrdered,
		o.Rung,
		o.Case,
	)
}

func factsOf(d *docket.Docket) *bag.Facts {
	return &bag.Facts{Machine: d.Machine, Disks: d.Disks, Firmware: d.Firmware, State: d.State, Hardware: d.Hardware}
}

// An attendant answers for the person who approved an order, and tells the service how it goes.
type attendant struct {
	agent  *Agent
	order  *climb.Order
	number int64
	climb  int64
}

// Consent agrees to what was approved, and to nothing else.
func (t *attendant) Consent(_ context.Context, c climb.Consent) (string, error) {
	if c.Level == knowledge.Destroys || c.Level.Degree() > t.order.Level.Degree() {
		return "", climb.ErrUnanswered
	}
	return climb.Yes, nil
}

// Answer has nobody to ask.
func (*attendant) Answer(context.Context, climb.Question) (string, error) {
	return "", climb.ErrUnanswered
}

// Progress tells the service. A rung is begun only once the service knows of it, for somebody else may be at work on
// the case; how it ended is kept until it is told.
func (t *attendant) Progress(ctx context.Context, e climb.Event) error {
	switch e.Kind {
	case climb.RungBegins:
		started, err := t.agent.service.StartClimb(ctx, t.number, client.ClimbStart{Host: t.agent.Host, Rung: e.Rung.Number})
		if err != nil {
			return asked(err)
		}
		t.climb = started.ID
	case climb.PhaseBegins:
		if t.agent.signOn(ctx) == nil {
			_, _ = t.agent.service.ReportClimb(ctx, t.climb, client.ClimbReport{State: client.Running, Phase: e.Phase})
		}
	case climb.RungEnds:
		report := client.ClimbReport{State: client.Ended, Run: e.Run}
		if e.Err != nil {
			report.Problem = e.Err.Error()
		}
		a := t.agent
		a.keep.Untold = append(a.keep.Untold, untold{Case: t.number, Climb: t.climb, Rung: e.Rung.Number, Report: report})
		if err := a.save(); err != nil {
			return err
		}
		if err := a.tell(ctx); err != nil {
			a.Log.Warn("a run was not told yet", "machine", t.order.Machine, "error", err)
		}
	}
	return nil
}

// An untold run was taken, and the service does not know yet how it ended.
type untold struct {
	Case   int64              `json:"case"`
	Climb  int64              `json:"climb"`
	Rung   int                `json:"rung"`
	Report client.ClimbReport `json:"report"`
}

// tell tells the service how runs ended. It may have given the climb up for lost meanwhile: then it is told anew.
func (a *Agent) tell(ctx context.Context) error {
	for len(a.keep.Untold) > 0 {
		if err := a.signOn(ctx); err != nil {
			return err
		}
		u := a.keep.Untold[0]
		_, err := a.service.ReportClimb(ctx, u.Climb, u.Report)
		if err != nil && !away(err) {
			var started *client.Climb
			if started, err = a.service.StartClimb(ctx, u.Case, client.ClimbStart{Host: a.Host, Rung: u.Rung}); err == nil {
				_, err = a.service.ReportClimb(ctx, started.ID, u.Report)
			}
		}
		if away(err) {
			return err
		}
		if err != nil {
			a.Log.Warn("the service does not take a run", "machine", a.keep.Machine, "case", u.Case, "error", err)
		}
		a.keep.Untold = slices.Delete(a.keep.Untold, 0, 1)
		if err := a.save(); err != nil {
			return err
		}
	}
	return nil
}
