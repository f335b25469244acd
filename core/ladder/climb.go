package ladder

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"diorthos/core/block"
)

var (
	// ErrGuard means that a guard said no. Nothing was changed.
	ErrGuard = errors.New("guard refused")
	// ErrProof means that the change was made, could not be proven, and was
	// taken back.
	ErrProof = errors.New("proof failed")
	// ErrByHands means that a rung is for a person.
	ErrByHands = errors.New("this rung is taken by hand")
)

// A Run is what taking one rung came to.
type Run struct {
	Rung    int           `json:"rung"`
	Remedy  string        `json:"remedy,omitempty"`
	Outcome Outcome       `json:"outcome"`
	Guard   []Check       `json:"guard"`
	Planned []Planned     `json:"planned"`
	Did     []string      `json:"did,omitempty"`   // in a technician's words
	Loans   []Loan        `json:"loans,omitempty"` // what was borrowed for it
	Proof   []Check       `json:"proof"`
	Journal string        `json:"journal,omitempty"`
	Began   time.Time     `json:"began"`
	Took    time.Duration `json:"took"` // nanoseconds
}

// An Outcome is how a rung ended.
type Outcome string

// The outcomes of a rung.
const (
	Planning  Outcome = "planned"    // a dry run
	Proven    Outcome = "proven"     // done, and the proof holds
	Refused   Outcome = "refused"    // a guard said no; nothing was changed
	TakenBack Outcome = "taken back" // done, not proven, undone
	NotHelped Outcome = "not helped" // done by hand, and the failed thing still fails
)

// Standing tells how each rung stands after the runs, in the order in which
// they were made: by its last run that changed anything.
func Standing(runs []Run) map[int]Outcome {
	stands := map[int]Outcome{}
	for _, r := range runs {
		if _, known := stands[r.Rung]; r.Outcome != Refused || !known {
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

// Options say how a rung is taken.
type Options struct {
	DryRun  bool
	Machine string
	Case    int64
	Path    string // where the target is, for the journal
	Bench   Bench
	// Borrow is told what a rung is about to borrow, before it does.
	Borrow func([]Loan) error
	// Phase is told what is being done: Looking, Writing, Proving.
	Phase func(string)
	// Journal opens the journal; it is not called on a dry run.
	Journal func(block.Head) (*block.Journal, error)
	Now     func() time.Time
}

// The phases of a rung.
const (
	Looking = "looking" // guard and plan
	Writing = "writing"
	Proving = "proving"
)

func (o *Options) phase(name string) {
	if o.Phase != nil {
		o.Phase(name)
	}
}

// Take climbs one rung on dev: guard, journal, change, proof. The Run tells
// what was seen, also when an error is returned.
func Take(ctx context.Context, rung Rung, dev block.Device, o Options) (run *Run, err error) {
	run = &Run{Rung: rung.Number, Remedy: rung.Remedy, Began: o.Now().UTC(), Outcome: Refused, Guard: []Check{}, Planned: []Planned{}, Proof: []Check{}}
	defer func() { run.Took = o.Now().Sub(run.Began) }()
	act, ok := actions[rung.Action]
	if !ok {
		return run, fmt.Errorf("rung %d: %q: %w", rung.Number, rung.Title, ErrByHands)
	}
	o.phase(Looking)
	before, err := o.open(dev, act, rung.Params)
	if err != nil {
		return run, err
	}
	run.Guard = append(run.Guard, sameTarget(rung, before))
	if failed := firstFailed(run.Guard); failed != nil {
		return run, refused(rung, failed)
	}
	drafted, err := act.do(ctx, before)
	run.Guard = append(run.Guard, drafted.guard...)
	if failed := firstFailed(run.Guard); failed != nil {
		return run, refused(rung, failed)
	}
	if err != nil && !errors.Is(err, context.Canceled) {
		run.Guard = append(run.Guard, Check{What: "it can be done here", Saw: err.Error()})
		return run, fmt.Errorf("rung %d: %w: %w; nothing was changed", rung.Number, ErrGuard, err)
	}
	if err != nil {
		return run, err
	}
	run.Did, run.Loans = drafted.did, drafted.loans
	for i := range run.Loans {
		run.Loans[i].Rung, run.Loans[i].Borrowed = rung.Number, o.Now().UTC()
	}
	writes, err := before.draft.Writes()
	if err != nil {
		return run, fmt.Errorf("rung %d: plan: %w", rung.Number, err)
	}
	if len(writes) == 0 {
		run.Guard = append(run.Guard, Check{What: "there is something to change", Saw: "all is as the rung wants it"})
		return run, fmt.Errorf("rung %d: %w: %w; nothing was changed", rung.Number, ErrGuard, errNothing)
	}
	for _, w := range writes {
		run.Planned = append(run.Planned, Planned{What: w.What, Offset: w.Off, Length: len(w.Data)})
	}
	if o.DryRun {
		run.Outcome = Planning
		return run, nil
	}
	if o.Borrow != nil && len(run.Loans) > 0 {
		if err := o.Borrow(run.Loans); err != nil {
			return run, err
		}
	}
	journal, err := o.Journal(block.Head{Action: rung.Action, Machine: o.Machine, Case: o.Case, Rung: rung.Remedy, Number: rung.Number, Target: before.target(o.Path), Started: o.Now().UTC()})
	if err != nil {
		return run, err
	}
	defer func() { err = errors.Join(err, journal.Close()) }()
	o.phase(Writing)
	if err := journal.Apply(ctx, dev, writes); err != nil && journal.State() == block.Noted {
		return run, fmt.Errorf("rung %d: could not be noted: %w; nothing was changed: give the journal a place with room by --journal", rung.Number, err)
	} else if err != nil {
		return run, fmt.Errorf("rung %d: cut off: %w; go on with --resume or take it back with \"diorthos undo\"", rung.Number, err)
	}
	return run, o.prove(ctx, run, act, journal, before, dev)
}

func refused(rung Rung, failed *Check) error {
	return fmt.Errorf("rung %d: %w: %s: %s; nothing was changed", rung.Number, ErrGuard, failed.What, failed.Saw)
}

// prove checks the effect and takes the change back when it is not there.
func (o *Options) prove(ctx context.Context, run *Run, act action, journal *block.Journal, before *ground, dev block.Device) error {
	o.phase(Proving)
	after, err := o.open(dev, act, before.params)
	if err != nil {
		return err
	}
	run.Proof = act.prove(ctx, before, after)
	failed := firstFailed(run.Proof)
	if failed == nil {
		run.Outcome = Proven
		return nil
	}
	if err := journal.Undo(ctx, dev); err != nil {
		return fmt.Errorf("rung %d: %w: %s: %s; taking it back failed too: %w", run.Rung, ErrProof, failed.What, failed.Saw, err)
	}
	run.Outcome = TakenBack
	return fmt.Errorf("rung %d: %w: %s: %s; it was taken back", run.Rung, ErrProof, failed.What, failed.Saw)
}

// Resume completes a rung that was cut off and proves it. A journal that was
// cut off before anything was written is reported as ErrGuard: take the rung
// anew.
func Resume(ctx context.Context, rung Rung, dev block.Device, journal *block.Journal, o Options) (run *Run, err error) {
	run = &Run{Rung: rung.Number, Remedy: rung.Remedy, Began: o.Now().UTC(), Outcome: Refused, Guard: []Check{}, Planned: []Planned{}, Proof: []Check{}}
	defer func() { run.Took = o.Now().Sub(run.Began) }()
	head := journal.Head()
	if head.Rung != rung.Remedy {
		return run, fmt.Errorf("rung %d: %w: the journal is of %q, this rung is %q", rung.Number, ErrGuard, head.Rung, rung.Remedy)
	}
	if journal.State() == block.Noted {
		return run, fmt.Errorf("rung %d: %w: it was cut off before anything was written; take it anew with another journal", rung.Number, ErrGuard)
	}
	act := actions[head.Action]
	before, err := o.noted(dev, act, rung, journal)
	if err != nil {
		return run, err
	}
	if err := journal.Resume(ctx, dev); err != nil {
		return run, err
	}
	for _, w := range journal.Changes() {
		run.Planned = append(run.Planned, Planned{What: w.What, Offset: w.Off})
	}
	return run, o.prove(ctx, run, act, journal, before, dev)
}

// noted is what a proof is held against when a rung was cut off: a disk as it
// was before, a nameplate as the journal wants it. What stands on the device
// may be torn.
func (o *Options) noted(dev block.Device, act action, rung Rung, journal *block.Journal) (*ground, error) {
	draft := block.NewDraft(dev)
	bring := journal.Rewind
	if act.plate {
		bring = journal.Replay
	}
	if err := bring(draft); err != nil {
		return nil, err
	}
	return o.open(draft, act, rung.Params)
}

// sameTarget compares the disk or nameplate with the one that was diagnosed,
// by content.
func sameTarget(rung Rung, g *ground) Check {
	now := g.target("")
	c := Check{What: "it is the disk that was diagnosed"}
	if g.plate != nil {
		c.What = "it is the machine that was diagnosed"
	}
	switch want := rung.Target; {
	case want == nil:
		c.Saw = "the case names no disk for this rung"
	case want.Size != now.Size:
		c.Saw = fmt.Sprintf("it has %d bytes, the diagnosed one %d", now.Size, want.Size)
	case !slices.Equal(want.Marks, now.Marks):
		c.Saw = fmt.Sprintf("its marks are %v, those of the diagnosed one %v", now.Marks, want.Marks)
	default:
		c.OK, c.Saw = true, fmt.Sprintf("%d bytes, %s", now.Size, firstMark(now.Marks))
	}
	return c
}

func firstMark(marks []string) string {
	if len(marks) == 0 {
		return "no marks"
	}
	if len(marks) == 1 {
		return marks[0]
	}
	return fmt.Sprintf("%s and %d partitions", marks[0], len(marks)-1)
}

func firstFailed(checks []Check) *Check {
	for i := range checks {
		if !checks[i].OK {
			return &checks[i]
		}
	}
	return nil
}

// GiveBack gives back what was borrowed, by the action that the loan names.
func GiveBack(ctx context.Context, l Loan, dev block.Device, o Options) (*Run, error) {
	act, ok := actions[l.Action]
	if !ok {
		return nil, fmt.Errorf("loan %q: %w", l.What, ErrByHands)
	}
	g, err := o.open(dev, act, l.Params)
	if err != nil {
		return nil, err
	}
	target := g.target(o.Path)
	return Take(ctx, Rung{Number: l.Rung, Remedy: "give-back", Title: l.Back, Action: l.Action, Params: l.Params, Target: &target}, dev, o)
}
