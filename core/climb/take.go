package climb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/ladder"
	"diorthos/core/system"
	"diorthos/core/units"
)

var (
	// ErrGuard means that a guard said no. Nothing was changed.
	ErrGuard = errors.New("guard refused")
	// ErrProof means that the change was made, could not be proven, and was
	// taken back.
	ErrProof = errors.New("proof failed")
	// ErrCannot means that an action finds on this disk, or on this computer, no way to make
	// its change. It comes with ErrGuard: another rung may do.
	ErrCannot = errors.New("cannot be done here")
	// ErrByHand means that a rung is for a person.
	ErrByHand = errors.New("this rung is taken by hand")
	// ErrNotWritten means that the change could not be written to its end.
	ErrNotWritten = errors.New("could not be written")
	// ErrCutOff means that the target may be changed in part.
	ErrCutOff = errors.New("cut off")
	// ErrStillFails means that the rungs are proven, and that what failed still fails.
	ErrStillFails = errors.New("what failed still fails")
	// ErrStopped means that it was told to stop.
	ErrStopped = errors.New("stopped")
)

// cannot is the refusal of a guard that is ErrCannot as well.
type cannot struct{ error }

func (c cannot) Unwrap() []error { return []error{c.error, ErrCannot} }

// Options say how one rung is taken on one device.
type Options struct {
	DryRun      bool
	Machine     string
	Case        int64
	Path        string // where the target is, for the journal
	Environment action.Environment
	// Losses are what will be lost, where the action itself does not say it.
	Losses []string
	// Consent is asked once it is certain that the target is the right one.
	Consent func(losses []string) error
	// Borrow is told what a rung is about to borrow, when its guard has passed.
	Borrow func([]Loan) error
	// Begin is told when everything is ready and the writing begins.
	Begin func(*Run) error
	// Phase is told what is being done: Looking, Writing, Proving.
	Phase func(string)
	// Journal opens the journal for up to need bytes of what was there; it is
	// not called on a dry run.
	Journal func(head block.Head, need int64) (*block.Journal, string, error)
	// NoUndo makes a change that streams without keeping what was there.
	NoUndo bool
	Now    func() time.Time
	// Control is how the attempt that failed went on a copy when nothing was changed yet; nil where it was not made.
	Control *system.Trial
	// Tried says that it was made since anything was changed: a rung that changes nothing does not make it once more.
	Tried bool
}

// The phases of a rung.
const (
	Looking = "looking" // guard and plan
	Writing = "writing"
	// Rehearsing is starting the machine on a copy of what would stand there.
	Rehearsing = "starting it on a copy"
	Proving    = "proving"
	// TryingAgain is making the attempt that failed on a copy of what stands there now.
	TryingAgain = "making the failed attempt again on a copy"
)

// A taking is one rung being taken.
type taking struct {
	Options
	rung   ladder.Rung
	action action.Action
	dev    block.Device
	run    *Run
}

func (t *taking) phase(name string) {
	if t.Phase != nil {
		t.Phase(name)
	}
}

func begin(rung ladder.Rung, dev block.Device, o Options) *taking {
	o.Environment.Now = o.Now
	return &taking{Options: o, rung: rung, dev: dev, run: &Run{
		Rung: rung.Number, Remedy: rung.Remedy, Began: o.Now().UTC(), Outcome: Refused,
		Guard: []action.Check{}, Planned: []Planned{}, Proof: []action.Check{},
	}}
}

// Take climbs one rung on dev: identity, consent, guard, loans, journal, change,
// proof. The Run tells what was seen, also when an error is returned. A rung
// with nothing to change is no error.
func Take(ctx context.Context, rung ladder.Rung, dev block.Device, o Options) (run *Run, err error) {
	t := begin(rung, dev, o)
	defer func() { t.run.Took = o.Now().Sub(t.run.Began) }()
	var ok bool
	if t.action, ok = action.Named(rung.Action); !ok {
		return t.run, fmt.Errorf("rung %d: %q: %w", rung.Number, rung.Title, ErrByHand)
	}
	if err := t.action.CheckParams(rung.Params); err != nil {
		return t.run, t.refuse("it was asked for completely", err.Error())
	}
	t.phase(Looking)
	before, err := t.action.Open(dev, t.Environment, rung.Params)
	if err != nil {
		return t.run, err
	}
	defer func() { err = errors.Join(err, before.Close()) }()
	if err := t.identity(before); err != nil {
		return t.run, err
	}
	if err := t.consent(before); err != nil {
		return t.run, err
	}
	if done, err := t.draft(ctx, before); done || err != nil {
		return t.run, err
	}
	if t.action.Streams() {
		return t.run, t.stream(ctx, before)
	}
	t.control(ctx)
	return t.run, t.write(ctx, before)
}

// identity compares the target with the one that was diagnosed, by content.
func (t *taking) identity(before *action.Context) error {
	c := sameTarget(t.rung, before)
	t.run.Guard = append(t.run.Guard, c)
	if !c.OK {
		return t.refused(c)
	}
	return nil
}

func (t *taking) consent(before *action.Context) error {
	losses, err := t.action.Losses(before)
	if err != nil {
		return t.refuse("it can be said what would be lost", err.Error())
	}
	if !t.action.SaysLosses() {
		losses = t.Losses
	}
	t.run.Loses = losses
	if t.Consent == nil || t.DryRun || t.action.SaysLosses() && len(losses) == 0 {
		return nil // nothing will be lost that has to be agreed to
	}
	return t.Consent(losses)
}

// draft lets the action draft its change. done means that nothing is left to do.
func (t *taking) draft(ctx context.Context, before *action.Context) (done bool, err error) {
	effect, err := t.action.Do(ctx, before)
	t.run.Guard = append(t.run.Guard, effect.Guard...)
	t.run.Notes = effect.Notes
	switch failed := action.FirstFailed(t.run.Guard); {
	case ctx.Err() != nil:
		return true, t.stopped(ctx)
	case failed != nil:
		return true, t.refused(*failed)
	case errors.Is(err, action.ErrNothing):
		t.againUnchanged(ctx)
		return true, t.nothing(err.Error())
	case err != nil:
		return true, cannot{t.refuse("it can be done here", err.Error())}
	}
	t.run.Did = effect.Did
	t.run.Loans = loansOf(t.rung, effect.Loans, t.Machine, before.Target(t.Path), t.Now().UTC())
	if t.action.Streams() {
		if t.DryRun {
			t.run.Outcome = Planning
		} else if !t.notInUse(func(action.Used) bool { return true }) {
			return true, t.refused(*action.FirstFailed(t.run.Guard))
		}
		return t.DryRun, nil
	}
	writes, err := before.Writes()
	if err != nil {
		return true, fmt.Errorf("rung %d: plan: %w", t.rung.Number, err)
	}
	for _, w := range writes {
		p := Planned{What: w.What, Offset: w.Off, Length: len(w.Data)}
		if before.OnFiles() {
			p.Offset = -1
		}
		t.run.Planned = append(t.run.Planned, p)
	}
	switch {
	case len(writes) == 0:
		t.againUnchanged(ctx)
		return true, t.nothing("what it would write stands there already")
	case !t.DryRun && !t.notInUse(func(u action.Used) bool { return u.Meets(writes) }):
		return true, t.refused(*action.FirstFailed(t.run.Guard))
	case t.Environment.Rehearse != nil && !t.action.OnFirmware && !before.OnFiles():
		t.phase(Rehearsing)
		c := t.Environment.Rehearse(ctx, before.Draft())
		t.run.Guard = append(t.run.Guard, c)
		switch {
		case ctx.Err() != nil:
			return true, t.stopped(ctx)
		case !c.OK:
			return true, t.refused(c)
		}
	}
	if t.DryRun {
		t.run.Outcome = Planning
	}
	return t.DryRun, nil
}

// notInUse guards what is mounted right now: what is written there is written behind the back
// of the kernel, which writes over it or goes by what it read before. touches tells whether the
// change reaches into a stretch.
func (t *taking) notInUse(touches func(action.Used) bool) bool {
	if t.Environment.InUse == nil || t.action.OnFirmware {
		return true
	}
	c := action.Check{
		What: "nothing that is written is in use",
		OK:   true,
		Saw:  "nothing of the disk that would be touched is",
	}
	list, err := t.Environment.InUse()
	if err != nil {
		c.OK, c.Saw = false, err.Error()
	}
	for _, u := range list {
		if touches(u) {
			c.OK, c.Saw = false, fmt.Sprintf(
				"bytes %d to %d are %s: unmount it, or start the machine from a rescue medium", u.Off, u.Off+u.Length, u.Where,
			)
			break
		}
	}
	t.run.Guard = append(t.run.Guard, c)
	return c.OK
}

func (t *taking) nothing(saw string) error {
	t.run.Outcome, t.run.Did, t.run.Loans = NothingToDo, nil, nil
	t.run.Guard = append(t.run.Guard, action.Check{What: "nothing is changed", OK: true, Saw: saw})
	return nil
}

func (t *taking) refuse(what, saw string) error {
	c := action.Check{What: what, Saw: saw}
	t.run.Guard = append(t.run.Guard, c)
	return t.refused(c)
}

func (t *taking) refused(failed action.Check) error {
	return fmt.Errorf("rung %d: %w (%s): %s; nothing was changed", t.rung.Number, ErrGuard, failed.What, failed.Saw)
}

func (t *taking) stopped(ctx context.Context) error {
	t.run.Outcome = Stopped
	return fmt.Errorf("rung %d: %w: %w; nothing was changed", t.rung.Number, ErrStopped, ctx.Err())
}

// prepare notes the loans and opens the journal.
func (t *taking) prepare(before *action.Context, keeps bool, need int64) (*block.Journal, error) {
	if t.Borrow != nil && len(t.run.Loans) > 0 {
		if err := t.Borrow(t.run.Loans); err != nil {
			return nil, err
		}
	}
	journal, path, err := t.Journal(block.Head{
		Action: string(t.action.ID), Machine: t.Machine, Case: t.Case, Rung: t.rung.Remedy, Number: t.rung.Number,
		Target: before.Target(t.Path), Started: t.Now().UTC(), Keeps: keeps, Files: before.Places(),
	}, need)
	if err != nil {
		return nil, err
	}
	t.run.Journal = path
	if t.Begin != nil {
		if err := t.Begin(t.run); err != nil {
			return nil, errors.Join(err, journal.Close())
		}
	}
	return journal, nil
}

// write applies what was drafted, and proves it.
func (t *taking) write(ctx context.Context, before *action.Context) (err error) {
	writes, err := before.Writes()
	if err != nil {
		return fmt.Errorf("rung %d: plan: %w", t.rung.Number, err)
	}
	need := int64(0)
	for _, w := range writes {
		need += 2 * int64(len(w.Data))
	}
	journal, err := t.prepare(before, false, need)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, journal.Close()) }()
	original, err := t.action.Open(t.dev, t.Environment, t.rung.Params)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, original.Close()) }()
	if c := sameTarget(t.rung, original); !c.OK { // once more, right before the change
		return t.refused(c)
	}
	wanted, err := t.action.Wanted(before, t.Environment, t.rung.Params)
	if err != nil {
		return t.refuse("what would stand there afterwards can be read", err.Error())
	}
	t.phase(Writing)
	switch err := journal.Apply(ctx, t.dev, writes); {
	case err != nil && journal.State() == block.Recorded && ctx.Err() != nil:
		return t.stopped(ctx)
	case err != nil && journal.State() == block.Recorded:
		return fmt.Errorf(
			"rung %d: could not be noted: %w; nothing was changed: give the journal a place with room by --journal",
			t.rung.Number, err,
		)
	case err != nil:
		return t.unwritten(ctx, journal, err)
	}
	return t.prove(ctx, journal, action.Proof{Before: original, Wanted: wanted})
}

// unwritten takes back what could not be written to its end, as where a volume is full.
func (t *taking) unwritten(ctx context.Context, journal *block.Journal, why error) error {
	if err := journal.Undo(context.WithoutCancel(ctx), t.dev); err != nil {
		return t.cutOff(why)
	}
	t.run.Outcome = TakenBack
	return fmt.Errorf("rung %d: %w: %w; it was taken back", t.rung.Number, ErrNotWritten, why)
}

func (t *taking) cutOff(err error) error {
	t.run.Outcome = CutOff
	if t.run.Journal == "" {
		return fmt.Errorf("rung %d: %w: %w; what was there was not kept: do it again", t.rung.Number, ErrCutOff, err)
	}
	how := fmt.Sprintf("go on with --resume %s or take it back with \"diorthos undo %s\"", t.run.Journal, t.run.Journal)
	if t.action.Streams() {
		how = fmt.Sprintf("do it again, or take it back with \"diorthos undo %s\"", t.run.Journal)
	}
	return fmt.Errorf("rung %d: %w: %w; %s", t.rung.Number, ErrCutOff, err, how)
}

// stream makes a change that is too large for a draft.
func (t *taking) stream(ctx context.Context, before *action.Context) (err error) {
	need, err := t.action.Need(before)
	if err != nil {
		return err
	}
	var journal *block.Journal
	dev, finish := t.dev, func() error { return t.dev.Sync() }
	if !t.NoUndo {
		if journal, err = t.prepare(before, true, need); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, journal.Close()) }()
		recorder, err := journal.Keep(t.dev)
		if err != nil {
			return err
		}
		dev, finish = recorder, func() error { return recorder.Done(ctx) }
	} else if t.Begin != nil {
		if err := t.Begin(t.run); err != nil {
			return err
		}
	}
	t.phase(Writing)
	err = t.action.Stream(ctx, before, dev)
	if err == nil {
		err = finish()
	}
	if err != nil {
		return t.cutOff(err)
	}
	return t.prove(ctx, journal, action.Proof{Before: before, Wanted: before})
}

// prove checks the effect and takes the change back when it is not there, also
// when it was told to stop meanwhile.
func (t *taking) prove(ctx context.Context, journal *block.Journal, p action.Proof) error {
	t.phase(Proving)
	after, err := t.action.Open(t.dev, t.Environment, t.rung.Params)
	if err != nil {
		t.run.Proof = []action.Check{{What: "what was changed can be read again", Saw: err.Error()}}
	} else {
		p.After = after
		t.run.Proof = t.action.Prove(ctx, p)
		t.again(ctx, after)
		if err := after.Close(); err != nil {
			t.run.Proof = append(t.run.Proof, action.Check{What: "the draft of the proof is gone again", Saw: err.Error()})
		}
	}
	failed := action.FirstFailed(t.run.Proof)
	switch {
	case failed == nil && ctx.Err() == nil && len(t.run.Proof) > 0:
		t.run.Outcome = Proven
		return nil
	case failed == nil && ctx.Err() == nil:
		failed = &action.Check{What: "something was looked at", Saw: "nothing was"}
	}
	why := fmt.Errorf("%w while it was being proven", ErrStopped)
	if ctx.Err() == nil {
		why = fmt.Errorf("%w: %s: %s", ErrProof, failed.What, failed.Saw)
	}
	if journal == nil {
		return t.cutOff(why)
	}
	if err := journal.Undo(context.WithoutCancel(ctx), t.dev); err != nil {
		return t.cutOff(fmt.Errorf("%w; taking it back failed too: %w", why, err))
	}
	t.run.Outcome = TakenBack
	return fmt.Errorf("rung %d: %w; it was taken back", t.rung.Number, why)
}

func (t *taking) triesAgain() bool { return t.rung.Again != "" && t.action.TriesAgain && !t.DryRun }

// control makes the attempt that failed on a copy before anything is changed: where it goes through, a copy does
// not show what stopped it, and that it goes through afterwards tells nothing.
func (t *taking) control(ctx context.Context) {
	if !t.triesAgain() || t.Control != nil || ctx.Err() != nil {
		return
	}
	as, err := t.action.Open(t.dev, t.Environment, t.rung.Params)
	if err != nil {
		t.Control = &system.Trial{Command: t.rung.Again, Outcome: system.NotMade, Why: err.Error()}
	} else {
		t.phase(TryingAgain)
		made := action.TryAgain(ctx, as, t.rung.Again)
		if err := as.Close(); err != nil {
			made.Outcome, made.Why = system.NotMade, err.Error()
		}
		t.Control = &made
	}
	t.run.Before = t.Control
}

// again makes it once the rung is proven. It does not decide whether the change stays: the attempt may fail for a
// reason that another rung is for.
func (t *taking) again(ctx context.Context, after *action.Context) {
	if !t.triesAgain() || action.FirstFailed(t.run.Proof) != nil || ctx.Err() != nil {
		return
	}
	t.phase(TryingAgain)
	made := action.TryAgain(ctx, after, t.rung.Again)
	switch {
	case ctx.Err() != nil:
		made.Outcome, made.Why = system.NotMade, "it was told to stop"
	case made.Outcome != system.GoesThrough:
	case t.Control == nil:
		made.Outcome, made.Why = system.TellsNothing, "it is not known how it went before anything was changed"
	case t.Control.Outcome != system.StillFails:
		made.Outcome, made.Why = system.TellsNothing, notShown
	}
	t.run.Again = &made
}

// notShown is said where a copy does not show what stopped the attempt.
const notShown = "on a copy it goes through with nothing changed as well: what stopped it is over, or lies outside of " +
	"the files, as a limit, a mount or a service does"

// againUnchanged is how it went where nothing was there to be changed.
func (t *taking) againUnchanged(ctx context.Context) {
	if t.Tried {
		return
	}
	if t.control(ctx); t.run.Before == nil {
		return
	}
	made := *t.run.Before
	if made.Outcome == system.GoesThrough {
		made.Outcome, made.Why = system.TellsNothing, notShown
	}
	t.run.Again = &made
}

// Resume completes a rung that was cut off and proves it. A journal that was
// cut off before anything was written is reported as ErrGuard: take the rung
// anew.
func Resume(
	ctx context.Context, rung ladder.Rung, dev block.Device, journal *block.Journal, path string, o Options,
) (run *Run, err error) {
	t := begin(rung, dev, o)
	t.run.Journal = path
	defer func() { t.run.Took = o.Now().Sub(t.run.Began) }()
	head := journal.Head()
	if head.Rung != rung.Remedy {
		return t.run, t.refuse(
			"the journal is of this rung", fmt.Sprintf("it is of %q, this one is %q", head.Rung, rung.Remedy),
		)
	}
	if journal.State() == block.Recorded {
		return t.run, t.refuse("something was begun", "it was cut off before anything was written: take the rung anew "+
			"with another journal")
	}
	var ok bool
	if t.action, ok = action.Named(action.ID(head.Action)); !ok {
		return t.run, fmt.Errorf("journal %s: no action is called %q", path, head.Action)
	}
	p, err := t.recorded(journal)
	if err != nil {
		return t.run, err
	}
	if !t.notInUse(func(u action.Used) bool { return u.Meets(journal.Changes()) }) {
		return t.run, t.refused(*action.FirstFailed(t.run.Guard))
	}
	t.run.Outcome = CutOff
	t.phase(Writing)
	if err := journal.Resume(ctx, dev); err != nil {
		if errors.Is(err, block.ErrChangedSince) || errors.Is(err, block.ErrNotThisDisk) {
			return t.run, t.refuse("it is the disk of the journal, as it was left", err.Error())
		}
		return t.run, t.cutOff(err)
	}
	for _, w := range journal.Changes() {
		t.run.Planned = append(t.run.Planned, Planned{What: w.What, Offset: w.Off})
	}
	return t.run, t.prove(ctx, journal, p)
}

// recorded is what a proof is held against when a rung was cut off: what stood
// there before and what was to stand there, by the journal. What stands on the
// device may be torn.
func (t *taking) recorded(journal *block.Journal) (p action.Proof, err error) {
	if files, ok := t.dev.(system.TreeTarget); ok { // proofs of files look at what stands there alone
		files.Lay(journal.Head().Files)
		return p, nil
	}
	for _, side := range []struct {
		bring func(*block.Draft) error
		into  **action.Context
	}{{journal.Rewind, &p.Before}, {journal.Replay, &p.Wanted}} {
		draft := block.NewDraft(t.dev)
		if err := side.bring(draft); err != nil {
			return p, err
		}
		if *side.into, err = t.action.Open(draft, t.Environment, t.rung.Params); err != nil {
			return p, err
		}
	}
	return p, nil
}

// sameTarget compares the target with the one that was diagnosed, by content.
func sameTarget(rung ladder.Rung, c *action.Context) action.Check {
	now := c.Target("")
	check := action.Check{What: "it is the disk that was diagnosed"}
	if c.OnFirmware() || c.OnFiles() {
		check.What = "it is the machine that was diagnosed"
	}
	switch want := rung.Target; {
	case want == nil:
		check.Saw = "the case names no disk for this rung"
	case want.Size != now.Size:
		check.Saw = fmt.Sprintf("it has %d bytes, the diagnosed one %d", now.Size, want.Size)
	case !slices.Equal(want.Marks, now.Marks):
		check.Saw = fmt.Sprintf("its marks are %v, those of the diagnosed one %v", now.Marks, want.Marks)
	default:
		check.OK, check.Saw = true, fmt.Sprintf("%d bytes, %s", now.Size, firstMark(now.Marks))
		if c.OnFiles() {
			check.Saw = strings.Join(now.Marks, ", ")
		}
	}
	return check
}

func firstMark(marks []string) string {
	if len(marks) == 0 {
		return "no marks"
	}
	if len(marks) == 1 {
		return marks[0]
	}
	if len(marks) == 2 {
		return marks[0] + " and 1 partition"
	}
	return marks[0] + " and " + units.Count(len(marks)-1, "partition")
}
