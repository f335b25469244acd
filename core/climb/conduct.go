package climb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/system"
)

// A Plan is what is to be climbed: rungs of a docket, or one action that a
// person named.
type Plan struct {
	Machine string
	Case    int64 // 0 for none
	Of      int   // how many rungs the ladder has
	Rungs   []ladder.Rung
	// First ends with the first rung that changes something; where what failed still fails after it, with the last before
	// one that reaches further.
	First bool
	Disks []bag.Disk // to say what would be lost
	// Name is what has to be typed before data are lost; empty for the machine's.
	Name string
	// Running says that the machine runs from the files that are changed: people and services on it notice.
	Running bool
}

// Single is the plan of one action that a person named, on what it was found on.
func Single(machine string, id action.ID, params map[string]string, target *block.Target) (Plan, error) {
	a, ok := action.Named(id)
	if !ok {
		return Plan{}, fmt.Errorf("there is no action %q", id)
	}
	level := knowledge.Undoable
	if a.Destroys {
		level = knowledge.Destroys
	}
	return Plan{Machine: machine, Of: 1, Rungs: []ladder.Rung{{
		Number: 1, Remedy: string(id), Title: string(id), Action: id, By: knowledge.ByDiorthos,
		Invasive: level, Params: params, Target: target,
	}}}, nil
}

// A Climb takes the rungs of a plan on a machine.
type Climb struct {
	Plan
	On        Machine
	Attendant Attendant
	Record    *Record // nil on a dry run

	DryRun    bool
	Hands     bool // rungs for a person are taken too
	Restarted bool // a person says that the owed restart was done
	NoUndo    bool // a change that streams keeps nothing
	// File is the journal to write; empty for the machine's own choice.
	File string
	// Resume is the journal of a rung that was cut off, to be completed.
	Resume string
	// Window is how long a climb waits for the attempt that something was lent
	// for, when nobody says that it was made. At 0 it is given back at once.
	Window time.Duration
	Now    func() time.Time
}

// ErrBlocked means that a rung waits for something that a person has to do first.
var ErrBlocked = errors.New("blocked")

// Run takes rung after rung until one makes the failed thing work, one cannot be
// taken, or none is left. What earlier climbs owe is given back first, and what
// this one borrows is given back however it ends.
func (c *Climb) Run(ctx context.Context) (runs []Run, err error) {
	if !c.DryRun {
		if err := c.settleEarlier(ctx); err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, c.giveBack(context.WithoutCancel(ctx), ctx.Done())) }()
	}
	var refused refusals             // rungs that could not be taken
	var control, tried *system.Trial // how what failed went on a copy: with nothing changed yet, and the last time
	last := 0
	if len(c.Rungs) > 0 {
		last = c.Rungs[len(c.Rungs)-1].Number
	}
	for i, r := range c.Rungs {
		if err := c.restartFirst(); err != nil {
			return runs, err
		}
		if c.First && stillFails(tried) != nil && c.furtherReaching(i) {
			break // a person decides
		}
		if why := c.passed(i, refused); why != "" {
			c.tell(ctx, Event{Kind: Remark, Text: why})
			continue
		}
		run, err := c.rung(ctx, r, control, tried != nil)
		if run != nil {
			runs = append(runs, *run)
		}
		if errors.Is(err, ErrCannot) && r.Number != last {
			refused = append(refused, refusal{r, err})
			c.tell(ctx, Event{Kind: Remark, Text: "It cannot be done here, and nothing was changed: on to the next rung."})
			continue
		}
		if err != nil {
			return runs, refused.with(errors.Join(stillFails(tried), err))
		}
		if r.Restart && run.Outcome.Changed() {
			e := Entry{At: c.Now().UTC(), Mark: MarkOwes, Case: c.Case, Rung: r.Number, Boot: c.On.Boot()}
			if err := c.Record.Note(e); err != nil {
				return runs, err
			}
		}
		control = cmp.Or(control, run.Before)
		if run.Again != nil || run.Outcome.Changed() {
			tried = run.Again
		}
		switch {
		case run.Again.GoesThrough():
			c.tell(ctx, Event{Kind: Remark, Text: "What failed goes through now: no other rung is needed."})
			return runs, nil
		case r.By == knowledge.ByHands && run.Outcome == Proven:
			c.tell(ctx, Event{Kind: Remark, Text: "The failed thing works again: no other rung is needed."})
			return runs, nil
		case stillFails(run.Again) != nil:
			if c.First && (i+1 == len(c.Rungs) || c.furtherReaching(i+1)) {
				continue
			}
			c.tell(ctx, Event{Kind: Remark, Text: "What failed still fails: on to the next rung."})
		case c.First && run.Outcome != NothingToDo:
			return runs, refused.with(stillFails(tried))
		}
	}
	return runs, refused.with(stillFails(tried))
}

// stillFails is the error that says so of what was made again; nil where it was not, or where it goes through.
func stillFails(t *system.Trial) error {
	if t == nil || t.Outcome != system.StillFails {
		return nil
	}
	return fmt.Errorf("%w, made again on a copy: %s: %s", ErrStillFails, t.Command, t.Why)
}

// A refusal is a rung that could not be taken, and why.
type refusal struct {
	rung ladder.Rung
	err  error
}

type refusals []refusal

// with is the error that says so of all of them, besides another one. Why each could not be is told with its run.
func (list refusals) with(err error) error {
	switch len(list) {
	case 0:
		return err
	case 1:
		return errors.Join(list[0].err, err)
	}
	var numbers []string
	for _, r := range list {
		numbers = append(numbers, strconv.Itoa(r.rung.Number))
	}
	return errors.Join(
		fmt.Errorf("%w: rungs %s; nothing was changed by them", ErrCannot, strings.Join(numbers, ", ")),
		err,
	)
}

// passed says why a rung of the plan is passed over; nothing for one that is taken: it is for a person, nobody is
// there, and one that Diorthos takes and that destroys nothing comes after it; or the very same change was refused.
func (c *Climb) passed(i int, refused refusals) string {
	r := c.Rungs[i]
	later := func(o ladder.Rung) bool {
		return o.By == knowledge.ByDiorthos && o.Invasive != knowledge.Destroys // what disrupts is asked about
	}
	if r.By == knowledge.ByHands {
		if r.Pass && c.First && !c.Hands && !c.DryRun && slices.ContainsFunc(c.Rungs[i+1:], later) {
			return fmt.Sprintf("Rung %d, %q, is for a person: passed over; with --hands it is not.", r.Number, r.Title)
		}
		return ""
	}
	for _, o := range refused {
		if o.rung.Action == r.Action && maps.Equal(o.rung.Params, r.Params) {
			return fmt.Sprintf("Rung %d would make the same change as rung %d: passed over.", r.Number, o.rung.Number)
		}
	}
	return ""
}

// furtherReaching reports whether a rung goes further than the one below it: it is more invasive, or nothing
// points to it.
func (c *Climb) furtherReaching(i int) bool {
	r := c.Rungs[i]
	return r.General || i > 0 && r.Invasive.Degree() > c.Rungs[i-1].Invasive.Degree()
}

func (c *Climb) tell(ctx context.Context, e Event) {
	e.Of = c.Of
	_ = c.Attendant.Progress(ctx, e) // only the beginning of a rung is asked about
}

// settleEarlier looks at what climbs before left: a rung that was cut off, loans
// that are owed.
func (c *Climb) settleEarlier(ctx context.Context) error {
	if c.Record.Damaged > 0 {
		c.tell(ctx, Event{Kind: Remark, Text: fmt.Sprintf(
			"%d lines of the record of this machine's climbs cannot be read: a loan may be noted there that is not given back",
			c.Record.Damaged,
		)})
	}
	if err := c.finishCutOff(ctx); err != nil {
		return err
	}
	for _, d := range c.Record.Owed() {
		c.tell(ctx, Event{Kind: LoanOwed, Loan: &d.Loan, Text: "From an earlier climb, not given back:"})
		if err := c.returnLoan(ctx, d, false, nil); err != nil {
			return err
		}
	}
	return nil
}

// finishCutOff refuses to go on while a rung may be done in part.
func (c *Climb) finishCutOff(ctx context.Context) error {
	e := c.Record.Unfinished()
	if e == nil || c.Resume != "" && sameFile(c.Resume, e.Journal) {
		return nil
	}
	ended := func(o Outcome) error {
		return c.Record.Note(Entry{
			At: c.Now().UTC(), Mark: MarkEnded, Case: e.Case, Rung: e.Rung, Remedy: e.Remedy,
			Run: &Run{Rung: e.Rung, Remedy: e.Remedy, Outcome: o, Journal: e.Journal, Began: e.At,
				Guard: []action.Check{}, Planned: []Planned{}, Proof: []action.Check{}},
		})
	}
	j, err := block.ReadJournal(e.Journal)
	if err != nil {
		return fmt.Errorf("%w: rung %d, begun %s, was cut off, and its journal cannot be read: %w",
			ErrBlocked, e.Rung, e.At.Format(time.DateTime), err)
	}
	state, sealed := j.State(), j.Sealed()
	if err := j.Close(); err != nil {
		return err
	}
	switch {
	case state == block.Recorded && !sealed:
		return fmt.Errorf(
			"%w: rung %d, begun %s, was cut off, and its journal has no seal: it may have lost its end: "+
				"let \"diorthos undo %s\" hold it against the disk",
			ErrBlocked,
			e.Rung,
			e.At.Format(time.DateTime),
			e.Journal,
		)
	case state == block.Recorded:
		c.tell(ctx, Event{
			Kind: Remark,
			Text: fmt.Sprintf("Rung %d was cut off earlier, before anything was written.", e.Rung),
		})
		return ended(Stopped)
	case state == block.Undone:
		return ended(TakenBack)
	}
	return fmt.Errorf(
		"%w: rung %d, begun %s, was cut off, and the disk may be changed in part: go on with --resume %s, or take it back "+
			"with \"diorthos undo %s\"",
		ErrBlocked, e.Rung, e.At.Format(time.DateTime), e.Journal, e.Journal,
	)
}

// restartFirst refuses to go on while a restart is owed.
func (c *Climb) restartFirst() error {
	if c.DryRun {
		return nil
	}
	ok, err := c.Record.Restarted(c.On.Boot(), c.Restarted, c.Now().UTC())
	if err != nil || ok {
		return err
	}
	return fmt.Errorf(
		"%w: rung %d owes a restart: steps taken before it may do nothing, silently. Restart the machine, then give "+
			"--restarted",
		ErrBlocked, c.Record.OwedRestart().Rung,
	)
}

// rung takes one rung, notes what it came to, and tells the attendant.
func (c *Climb) rung(ctx context.Context, r ladder.Rung, control *system.Trial, tried bool) (run *Run, err error) {
	if err := c.Attendant.Progress(ctx, Event{Kind: RungBegins, Rung: r, Of: c.Of}); err != nil {
		return nil, err
	}
	if !c.DryRun {
		e := Entry{At: c.Now().UTC(), Mark: MarkPlanned, Case: c.Case, Rung: r.Number, Remedy: r.Remedy}
		if err := c.Record.Note(e); err != nil {
			return nil, err
		}
	}
	if r.By == knowledge.ByHands {
		run, err = c.byHand(ctx, r)
	} else {
		run, err = c.byAction(ctx, r, control, tried)
	}
	if run != nil && !c.DryRun {
		e := Entry{
			At:      c.Now().UTC(),
			Mark:    MarkEnded,
			Case:    c.Case,
			Rung:    r.Number,
			Remedy:  r.Remedy,
			Run:     run,
			Journal: run.Journal,
		}
		err = errors.Join(err, c.Record.Note(e))
	}
	told := c.Attendant.Progress(context.WithoutCancel(ctx), Event{Kind: RungEnds, Rung: r, Of: c.Of, Run: run, Err: err})
	return run, errors.Join(err, told)
}

// byAction takes a rung that Diorthos carries out.
func (c *Climb) byAction(ctx context.Context, r ladder.Rung, control *system.Trial, tried bool) (run *Run, err error) {
	a, ok := action.Named(r.Action)
	if !ok {
		return nil, fmt.Errorf("rung %d: %q: %w", r.Number, r.Title, ErrByHand)
	}
	dev, path, err := c.On.Open(a, c.DryRun)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	o, err := c.options(ctx, r, path)
	if err != nil {
		return nil, err
	}
	o.Control, o.Tried = control, tried
	if c.Resume == "" {
		return Take(ctx, r, dev, o)
	}
	j, err := block.OpenJournal(c.Resume)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	return Resume(ctx, r, dev, j, c.Resume, o)
}

func (c *Climb) options(ctx context.Context, r ladder.Rung, path string) (Options, error) {
	env, err := c.On.Environment()
	if err != nil {
		return Options{}, err
	}
	var losses []string
	if r.Invasive == knowledge.Destroys {
		losses = ladder.Losses(c.Disks, r.Loses)
	}
	return Options{
		Losses:      losses,
		DryRun:      c.DryRun,
		Machine:     c.Machine,
		Case:        c.Case,
		Path:        path,
		Environment: env,
		NoUndo:      c.NoUndo,
		Now:         c.Now,
		Consent:     func(losses []string) error { return c.consent(ctx, r, losses) },
		Borrow:      func(list []Loan) error { return c.borrow(list) },
		Phase:       func(phase string) { c.tell(ctx, Event{Kind: PhaseBegins, Rung: r, Phase: phase}) },
		Begin: func(run *Run) error {
			return c.Record.Note(Entry{
				At: run.Began, Mark: MarkBegun, Case: c.Case, Rung: r.Number, Remedy: r.Remedy, Journal: run.Journal,
			})
		},
		Journal: func(h block.Head, need int64) (*block.Journal, string, error) { return c.journal(path, h, need) },
	}, nil
}

func (c *Climb) journal(path string, h block.Head, need int64) (*block.Journal, string, error) {
	file, free, err := c.On.Journal(path)
	if err != nil {
		return nil, "", err
	}
	if c.File != "" {
		file = c.File
	}
	if free >= 0 && free < need {
		return nil, "", fmt.Errorf(
			"to keep what is on %s for an undo, up to %d bytes are needed beside the journal %s, and %d are free: name a "+
				"place with --journal; nothing was changed",
			path, need, file, free,
		)
	}
	j, err := block.CreateJournal(file, h)
	return j, file, err
}

// consent asks before what disrupts or destroys.
func (c *Climb) consent(ctx context.Context, r ladder.Rung, losses []string) error {
	level := r.Invasive
	if a, _ := action.Named(r.Action); c.Running && a.OnFiles && level == knowledge.Undoable {
		level = knowledge.Disrupts
	}
	ask := Consent{Rung: r, Level: level, Losses: losses, Name: c.Name, Backup: c.Record.Backup()}
	if ask.Name == "" {
		ask.Name = c.Machine
	}
	switch level {
	case knowledge.Disrupts:
	case knowledge.Destroys:
	default:
		return nil
	}
	answer, err := c.Attendant.Consent(ctx, ask)
	if err != nil {
		return fmt.Errorf("%w: %w; nothing was changed", ErrBlocked, err)
	}
	want := Yes
	if r.Invasive == knowledge.Destroys {
		want = ask.Name
	}
	if answer != want {
		return fmt.Errorf("%w: it was not agreed to: want %q, got %q; nothing was changed", ErrBlocked, want, answer)
	}
	return c.Record.Note(Entry{
		At: c.Now().UTC(), Mark: MarkConsented, Case: c.Case, Rung: r.Number, Remedy: r.Remedy,
		Why: strings.Join(ask.Losses, "; "),
	})
}

func (c *Climb) borrow(list []Loan) error {
	for _, l := range list {
		if err := c.Record.Borrow(c.Case, l); err != nil {
			return err
		}
	}
	return nil
}
