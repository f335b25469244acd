// Package proving closes the loop: it breaks Corbel machines, lets Diorthos
// find out why and put it right, tries the failed thing again, and counts.
//
//	loop, err := proving.New(ctx)
//	result, err := loop.Run(ctx, corbel.FaultNamed("loader-gone"), 7)
//
// What fault a machine has is known to this package alone; diagnosis sees the
// machine's folder and no more.
package proving

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/reading"
	"diorthos/core/store"
	"diorthos/host"
	shipped "diorthos/knowledge"
	"diorthos/platform"
	"diorthos/platform/corbel"
	standin "diorthos/standin/corbel"
)

// causes says which cause each fault has to be found as. One that is not
// listed is called like its fault, behind "corbel-".
var causes = map[string]string{
	"table-not-signed": "mbr-signature-lost",
	"service-disabled": "corbel-service-off", "list-cut-off": "corbel-lists-damaged",
	"cache-package-damaged":      "corbel-download-damaged",
	"cache-unwritable":           "corbel-cache-locked",
	"leftover-work-folder":       "corbel-leftover-work",
	"protected-file-altered":     "corbel-protected-altered",
	"source-other-build":         "corbel-payload-missing",
	"pending-component-gone":     "corbel-pending-gone",
	"pending-many-gone":          "corbel-pending-gone",
	"transaction-half-done":      "corbel-pending-half-done",
	"branch-owner-wrong":         "corbel-branch-owner",
	"policy-value-wrong":         "corbel-setting-value",
	"source-policy-none":         "corbel-setting-value",
	"feature-source-forbidden":   "corbel-feature-source",
	"feature-source-other-build": "corbel-source-build",
	"memory-short":               "corbel-memory-unfit",
	"processor-lacks":            "corbel-processor-unfit",
	"display-small":              "corbel-display-unfit",
	"disk-small":                 "corbel-disk-unfit",
	"model-unsupported":          "corbel-model-unfit",
	"architecture-other":         "corbel-architecture-unfit",
	"build-other":                "corbel-build-unfit",
	"medium-other-mode":          "corbel-medium-mode",
	"primary-table-damaged":      "primary-gpt-damaged",
	"boot-store-other-volume":    "corbel-boot-store-volume",
	"boot-order-wrong":           "corbel-boot-order",
	"firmware-variables-stale":   "corbel-boot-entries-stale",
}

// Cause is the cause that a fault has to be found as.
func Cause(f *standin.Fault) string {
	if c, ok := causes[f.Name]; ok {
		return c
	}
	return "corbel-" + f.Name
}

// Now is when all of it happens.
var Now = time.Date(2026, 11, 22, 8, 0, 0, 0, time.UTC)

// A Loop has what is needed for many runs. It is safe for concurrent use.
type Loop struct {
	Knowledge *knowledge.Knowledge
	Vendor    *standin.Vendor
	Link      standin.Link
	server    *httptest.Server
}

// New loads the knowledge and starts the vendor's service on loopback.
func New() (*Loop, error) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		return nil, err
	}
	v, err := standin.NewVendor(Now)
	if err != nil {
		return nil, err
	}
	s := httptest.NewServer(v)
	return &Loop{k, v, standin.Link{Base: s.URL, Client: http.DefaultClient}, s}, nil
}

// Close stops the vendor's service.
func (l *Loop) Close() { l.server.Close() }

// A Result is what became of one machine.
type Result struct {
	Fault    string
	Seed     uint64
	Wanted   []string // causes, in any order
	Found    []string // first causes, diagnosis by diagnosis
	Kind     string   // the likeliest kind of the first diagnosis
	First    bool     // the first diagnosis begins with a wanted cause
	Three    bool     // one of its first three is
	Repaired bool
	AllClear bool // a docket said that nothing is wrong, while the attempt failed
	Advice   bool // beyond repair, and told so: nothing was changed
	Rungs    []string
	Intact   bool // files of the users
	Loans    bool // all given back
	Undone   bool // undo brought every byte back
	Notes    []string
}

// maxRounds bounds how often one machine is diagnosed anew.
const maxRounds = 8

// Run breaks one machine by faults, tries, diagnoses, climbs, and tries again.
func (l *Loop) Run(ctx context.Context, folder string, seed uint64, faults ...*standin.Fault) (*Result, error) {
	r := &round{loop: l, ctx: ctx, folder: folder, res: &Result{Seed: seed}}
	try := standin.TryUpdate
	mode := []string{"uefi", "bios"}[seed%2]
	for i, f := range faults {
		if i == 0 {
			mode, r.res.Fault = f.Mode(seed), f.Name
		} else {
			r.res.Fault += "+" + f.Name
		}
		r.res.Wanted = append(r.res.Wanted, Cause(f))
		r.beyond = r.beyond || f.Beyond
		if try = f.Try; i > 0 && f.Try != standin.TryStart {
			try = f.Try
		}
	}
	if len(faults) > 0 {
		try = faults[0].Try
	}
	r.try = try
	o, err := r.build(seed, mode)
	if err != nil {
		return nil, err
	}
	for _, f := range inTime(faults) {
		if err := f.Break(ctx, r.m, o); err != nil {
			return nil, err
		}
	}
	return r.res, r.run()
}

// build makes the round's machine, and notes the files of its users.
func (r *round) build(seed uint64, mode string) (o standin.Options, err error) {
	o = standin.Options{
		Seed:   seed,
		Mode:   mode,
		Name:   fmt.Sprintf("loop-%d", seed),
		Site:   "Skerrow",
		Now:    Now,
		Vendor: r.loop.Vendor,
		Link:   r.loop.Link,
	}
	if r.m, err = standin.Build(r.ctx, filepath.Join(r.folder, "machine"), o); err != nil {
		return o, err
	}
	r.files, err = r.m.UserFiles()
	return o, err
}

// regressions is the group of faults that come by an attempt that went well.
const regressions = "regressions"

// inTime puts what happened the day before first.
func inTime(faults []*standin.Fault) []*standin.Fault {
	list := slices.Clone(faults)
	slices.SortStableFunc(list, func(a, b *standin.Fault) int {
		return map[bool]int{true: -1}[a.Group == regressions] - map[bool]int{true: -1}[b.Group == regressions]
	})
	return list
}

// A round is one machine on its way.
type round struct {
	loop     *Loop
	ctx      context.Context //nolint:containedctx // lives as long as one call
	folder   string
	m        *standin.Machine
	try      string
	beyond   bool
	look     string // the folder that is diagnosed: the machine's, or that of a copy on which the attempt failed again
	res      *Result
	files    map[string]string
	journals []taken
	acts     int          // journals that were made
	tried    []bag.Mended // as the machine's record would tell
	loans    []climb.Loan
}

type taken struct {
	journal, device string
	by              bool // by a person: cannot be undone by a journal
}

func (r *round) note(format string, a ...any) {
	r.res.Notes = append(r.res.Notes, fmt.Sprintf(format, a...))
}

func (r *round) run() error {
	out, err := r.attempt(r.m, Now)
	if err != nil {
		return err
	}
	healthy := len(r.res.Wanted) == 0
	if out.OK != healthy {
		return fmt.Errorf("%s, seed %d: the attempt says %+v", r.res.Fault, r.res.Seed, out)
	}
	if r.m, err = standin.Open(r.m.Folder); err != nil {
		return err
	}
	return r.mend(healthy)
}

// mend diagnoses and climbs until the failed thing works, or nothing is left to do.
func (r *round) mend(healthy bool) error {
	r.look = r.m.Folder
	broken, err := r.m.Digest()
	if err != nil {
		return err
	}
	tried := map[string]bool{}
	for n := 0; n < maxRounds && !r.res.Repaired; n++ {
		d, err := r.diagnose()
		if err != nil {
			return err
		}
		r.judge(d, n == 0)
		if healthy {
			r.res.Repaired = len(d.ToDo) == 0
			break
		}
		if len(d.Why) == 0 {
			r.res.AllClear = true
		}
		went, err := r.climb(d, tried)
		if err != nil {
			return err
		}
		if !went {
			break
		}
	}
	if err := r.end(broken); err != nil {
		return err
	}
	return nil
}

// diagnose gathers the machine's folder into a bag, reads the bag, and judges.
func (r *round) diagnose() (d *docket.Docket, err error) {
	err = r.evidence(func(facts *bag.Facts, logs []reading.Source) error {
		d, err = docket.Draw(r.ctx, facts, logs, r.loop.Knowledge, nil)
		return err
	})
	return d, err
}

// evidence gathers the machine's folder into a bag, and shows what is in it.
func (r *round) evidence(look func(*bag.Facts, []reading.Source) error) error {
	var buf bytes.Buffer
	_, err := host.Gather(r.ctx, &buf, host.GatherOptions{
		Image:    r.look,
		Adapters: platform.All(),
		Now:      Now.Add(time.Hour),
	})
	if err != nil {
		return err
	}
	opened, err := os.MkdirTemp(r.folder, "bag-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(opened) }()
	info, err := bag.Unpack(r.ctx, &buf, bag.DefaultLimits, opened)
	if err != nil {
		return err
	}
	logs, _ := docket.Logs(info, opened)
	info.Facts.Mended = r.tried
	return look(info.Facts, logs)
}

// judge holds the causes found against those wanted.
func (r *round) judge(d *docket.Docket, first bool) {
	var names []string
	for _, f := range d.Why {
		names = append(names, f.Cause)
	}
	if len(names) > 0 {
		r.res.Found = append(r.res.Found, names[0])
	}
	if first && len(d.Kinds) > 0 {
		r.res.Kind = d.Kinds[0].Kind
	}
	if !first || len(r.res.Wanted) == 0 {
		return
	}
	hit := func(name string) bool { return slices.Contains(r.res.Wanted, name) }
	r.res.First = len(names) > 0 && hit(names[0])
	r.res.Three = slices.ContainsFunc(names[:min(len(names), 3)], hit)
	if !r.res.First {
		r.note("found %v, wanted %v", names[:min(len(names), 4)], r.res.Wanted)
	}
}

// climb takes rung after rung of one ladder until the failed thing works, or
// until one changed something that has to be looked at anew.
func (r *round) climb(d *docket.Docket, tried map[string]bool) (bool, error) {
	facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State, Hardware: d.Hardware}
	for _, rung := range d.ToDo {
		if tried[rung.Remedy] || destroys(rung.Action) {
			continue // nobody is there to be asked
		}
		went, err := r.take(rung, facts)
		if err != nil {
			return false, err
		}
		if rung.By == knowledge.ByDiorthos {
			outcome := map[bool]climb.Outcome{true: climb.Proven, false: climb.Refused}[went]
			r.tried = append(r.tried, bag.Mended{At: Now.Add(time.Hour / 2), Remedy: rung.Remedy, Outcome: string(outcome)})
		}
		if tried[rung.Remedy] = !went; !went {
			continue // what was lent, or removed once, may be needed once more
		}
		for id, general := range tried { // what did not help before may help now,
			tried[id] = general && slices.ContainsFunc(d.ToDo, func(o ladder.Rung) bool { return o.General && o.Remedy == id })
		}
		tried[rung.Remedy] = rung.By == knowledge.ByHands || rung.General // and is not asked for twice in a row
		r.res.Rungs = append(r.res.Rungs, rung.Remedy)
		ok, err := r.again()
		if err != nil {
			return false, err
		}
		if err := r.giveBack(facts); err != nil {
			return false, err
		}
		if ok {
			r.res.Repaired = true
			return true, nil
		}
		if rung.General && rung.By != knowledge.ByHands { // it did not help: taken back
			if err := r.takeBack(); err != nil {
				return false, err
			}
		}
		return true, nil // the failed thing may fail for another reason now: look again
	}
	return false, nil
}

// take takes one rung. It reports whether anything was changed.
func (r *round) take(rung ladder.Rung, facts *bag.Facts) (bool, error) {
	if rung.By == knowledge.ByHands {
		return r.byHand(rung)
	}
	run, err := r.act(rung, facts, func(dev climb.Device, o climb.Options) (*climb.Run, error) {
		return climb.Take(r.ctx, rung, dev, o)
	})
	if errors.Is(err, climb.ErrGuard) || errors.Is(err, climb.ErrProof) {
		r.note("%v", err)
		return false, os.RemoveAll(run.Journal)
	}
	if err != nil {
		return false, err
	}
	if run.Outcome == climb.NothingToDo {
		r.note("%s: nothing to do", rung.Remedy)
		return false, nil
	}
	r.loans = append(r.loans, run.Loans...)
	return true, r.reopen()
}

func destroys(id action.ID) bool {
	a, ok := action.Named(id)
	return ok && a.Destroys
}

// act does something with what an action changes, and notes the journal.
func (r *round) act(
	rung ladder.Rung, facts *bag.Facts, do func(climb.Device, climb.Options) (*climb.Run, error),
) (*climb.Run, error) {
	m := r.machine(facts)
	a, ok := action.Named(rung.Action)
	if !ok {
		return nil, fmt.Errorf("no action %q", rung.Action)
	}
	dev, path, err := m.Open(a, false)
	if err != nil {
		return nil, err
	}
	defer func() { _ = dev.Close() }()
	env, err := m.Environment()
	if err != nil {
		return nil, err
	}
	r.acts++
	file := filepath.Join(r.folder, fmt.Sprintf("%d.journal", r.acts))
	run, err := do(dev, climb.Options{
		Machine: r.m.Plate.Name, Path: path, Environment: env, Now: m.Now,
		Journal: func(h block.Head, _ int64) (*block.Journal, string, error) {
			j, err := block.CreateJournal(file, h)
			return j, file, err
		},
	})
	if err == nil && run.Outcome == climb.Proven {
		r.journals = append(r.journals, taken{journal: file, device: path})
	}
	return run, err
}

// byHand lets a person do what the rung asks for. Where the step says by what
// facts it is seen, they have to deny it before; what they say afterwards
// decides whether it helped.
func (r *round) byHand(rung ladder.Rung) (done bool, err error) {
	if err := r.measure(rung, knowledge.Fails, "before it was done"); err != nil {
		return false, err
	}
	p := &standin.Person{Machine: r.m, Vendor: r.loop.Vendor, Now: Now}
	done, err = p.Do(r.ctx, rung.Remedy)
	switch {
	case err != nil:
		r.note("%v", err)
	case !done:
		r.res.Advice = r.beyond && len(r.journals) == 0
	}
	if !done {
		return false, nil
	}
	r.journals = append(r.journals, taken{by: true})
	if err := r.measure(rung, knowledge.Holds, "after it was done"); err != nil {
		r.note("%v", err) // it did not help, and what is seen now is looked at anew
	}
	return true, nil
}

// measure holds the facts against what they have to say of each step of a rung.
func (r *round) measure(rung ladder.Rung, want knowledge.Measure, when string) error {
	if standin.Hands[rung.Remedy] == nil {
		return nil // advice: nothing is done at the machine
	}
	l, err := host.Look(host.GatherOptions{Image: r.m.Folder, Adapters: platform.All(), Now: Now.Add(time.Hour)})
	if err != nil {
		return err
	}
	l.Close()
	facts, err := l.Facts.AsMap()
	if err != nil {
		return err
	}
	for _, s := range rung.Steps {
		if m, err := s.Measure(facts); err != nil || s.Seen != "" && m != want {
			return fmt.Errorf(
				"%s, seed %d: %s: %q, measured %s, %q (%v)", r.res.Fault, r.res.Seed, rung.Remedy, s.Seen, when, m, err,
			)
		}
	}
	return nil
}

// reopen reads the nameplate anew, which a rung may have changed.
func (r *round) reopen() (err error) {
	r.m, err = standin.Open(r.m.Folder)
	return err
}

func (r *round) machine(facts *bag.Facts) *host.Machine {
	medium, _ := corbel.PackSource("the medium", r.loop.Vendor.Medium()) // made by the vendor
	return &host.Machine{
		Path: r.m.Folder, Name: r.m.Plate.Name, SectorSize: 512, Adapters: platform.All(), Facts: facts,
		Sources: []store.Source{
			corbel.VendorSource(r.loop.Link.Base, standin.BuildRelease), medium,
			corbel.VendorSource(r.loop.Link.Base, standin.BuildBase),
		},
		Now: func() time.Time { return Now },
	}
}

// startAndUpdate is tried on a machine of which nobody knows what fails.
const startAndUpdate = "start and update"

// attempt tries on a machine what the round is about.
func (r *round) attempt(m *standin.Machine, at time.Time) (*standin.Outcome, error) {
	if r.try != startAndUpdate {
		return standin.TryOn(r.ctx, m, r.try, at, r.loop.Link)
	}
	out, err := m.Start(at)
	if err != nil || !out.OK {
		return out, err
	}
	return standin.TryOn(r.ctx, m, standin.TryUpdate, at, r.loop.Link)
}

// again tries the failed thing once more, on a copy, so that every rung can
// still be taken back.
func (r *round) again() (bool, error) {
	folder := filepath.Join(r.folder, fmt.Sprintf("again-%d", len(r.res.Rungs)))
	c, err := r.m.Copy(folder)
	if err != nil {
		return false, err
	}
	out, err := r.attempt(c, Now.Add(2*time.Hour))
	if err != nil {
		return false, err
	}
	files, err := c.UserFiles()
	if err != nil || out.OK && !maps.Equal(files, r.files) {
		r.note("after the attempt the users' files differ: %v", err)
		return false, nil
	}
	if !out.OK {
		r.note("still: 0x%08x %s", out.Code, out.Text)
		r.look = c.Folder
		return false, nil
	}
	return true, nil
}

// takeBack undoes the latest rung.
func (r *round) takeBack() error {
	last := len(r.journals) - 1
	if last < 0 || r.journals[last].by {
		return nil
	}
	err := undo(r.ctx, r.journals[last])
	r.journals = r.journals[:last]
	return errors.Join(err, r.reopen())
}

func (r *round) giveBack(facts *bag.Facts) error {
	for _, loan := range r.loans {
		_, err := r.act(ladder.Rung{Action: loan.Action}, facts, func(dev climb.Device, o climb.Options) (*climb.Run, error) {
			return climb.GiveBack(r.ctx, loan, dev, o)
		})
		if err != nil {
			return fmt.Errorf("give back %q: %w", loan.What, err)
		}
	}
	r.loans = nil
	return r.reopen()
}

// end looks at what is left: files, loans, and whether all can be taken back.
func (r *round) end(broken string) error {
	files, err := r.m.UserFiles()
	r.res.Intact = err == nil && (maps.Equal(files, r.files) || !r.res.Repaired && len(files) == 0)
	r.res.Loans = len(r.loans) == 0
	var by bool
	for i := len(r.journals) - 1; i >= 0; i-- {
		t := r.journals[i]
		if by = by || t.by; by {
			break
		}
		if err := undo(r.ctx, t); err != nil {
			r.note("undo: %v", err)
			return nil
		}
	}
	now, err := r.m.Digest()
	r.res.Undone = err == nil && (by || now == broken)
	if len(r.journals) == 0 {
		r.res.Undone = now == broken
	}
	return err
}

func undo(ctx context.Context, t taken) (err error) {
	j, err := block.OpenJournal(t.journal)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	dev, err := host.OpenDisk(t.device, 512, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	return j.Undo(ctx, dev)
}

// Names lists the faults in the order of their names.
func Names() []string {
	var list []string
	for i := range standin.Faults {
		list = append(list, standin.Faults[i].Name)
	}
	sort.Strings(list)
	return list
}
