package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/host"
	"diorthos/platform"
)

const climbHelp = `Takes the first rung that was not tried yet and that changes something, or those named. What stood
on the disk before is kept in a journal; "diorthos undo JOURNAL" brings it back. The outcome goes
onto the docket. What was planned, done and borrowed stands in the machine's record beside the
image; what is borrowed is given back at the end, or by the next climb. What disrupts is asked
about; what destroys wants the machine's name. A rung that was refused or did not help is passed
over by the next climb: --only N takes it again. Where the evidence names the command that failed,
and it is one of packages, it is made again on a copy, before and after: what goes through ends the
climb, what still fails leads on to the next rung. With --live or --root the files of a system are
changed on a draft first, and then file by file, whichever of them its own tools touched. Without
NUMBER the ladder is that of what "diorthos diagnose" found with the same --image, and no service is
needed. Exit status 1 if a guard or the proof said no, or a rung waits for a person.

Examples:
   diorthos climb --image .demo/machines/gannet-crew-2
   diorthos climb --live
   diorthos climb --root /mnt/target
   diorthos climb --root /mnt/target --again "apt-get install skerrow-timetable"
   diorthos climb 1 --image .demo/kestrel-office-3.img --dry-run
   diorthos climb 1 --image .demo/kestrel-office-3.img
   diorthos climb 1 --image .demo/kestrel-office-3.img --hands --to 4
   diorthos climb 1 --image .demo/kestrel-office-3.img --resume kestrel-office-3.journal
   diorthos climb 1 --image .demo/machines/gannet-crew-2 --put-back 20261125-101500/attempt-7`

func climbCommand() *cli.Command {
	return &cli.Command{
		Name: "climb", Usage: "take rungs of a case's ladder: guard, journal, change, proof", ArgsUsage: "[NUMBER]",
		Description: climbHelp,
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "image", Usage: "disk image, block device or machine's folder to work on"},
			&cli.StringFlag{Name: "root", Usage: "`FOLDER` with the files of a whole system to work on"},
			sourceFlag(), networkFlag(),
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be done and change nothing"},
			&cli.BoolFlag{
				Name: "rehearse",
				Usage: "start the mended machine on a copy, in an emulator, before anything is written: a rung that does " +
					"not make it start is refused",
			},
			&cli.IntSliceFlag{
				Name:    "only",
				Aliases: []string{"rung"},
				Usage:   "take this rung `N` alone; once more for each further one",
			},
			&cli.IntSliceFlag{Name: "skip", Usage: "leave rung `N` out"},
			&cli.IntFlag{Name: "to", Usage: "take all rungs up to `N`"},
			&cli.BoolFlag{Name: "hands", Usage: "lead through the steps for a person as well, and ask how they went"},
			&cli.BoolFlag{Name: "restarted", Usage: "the restart that was owed has been seen"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask before a rung that disrupts"},
			&cli.StringFlag{Name: "confirm", Usage: "the machine's `NAME`, for a rung that destroys"},
			&cli.StringFlag{
				Name: "journal", Usage: "journal to write; by default beside the image or folder, or here for a device or --live",
			},
			&cli.BoolFlag{
				Name:  "live",
				Usage: "this is the machine: its files are changed, and its start and what came of a step are measured, here",
			},
			&cli.StringFlag{Name: "resume", Usage: "complete the rung of this journal, which was cut off"},
			&cli.StringFlag{
				Name: "again",
				Usage: "the `COMMAND` that failed, where the evidence does not name it: it is made again on a copy, before the " +
					"first change and after each rung that is proven",
			},
			&cli.DurationFlag{
				Name:  "window",
				Usage: "how long to wait for the attempt that something was lent for, when nobody is there to say that it was made",
			},
			&cli.StringFlag{Name: "put-back", Usage: "bring back what was moved aside under this `NAME`, and take no rung"},
			sectorFlag(), jsonFlag()),
		Action: climbCase,
	}
}

func climbCase(ctx context.Context, c *cli.Command) error {
	d, err := theCase(ctx, c)
	if err != nil {
		return err
	}
	if d.Docket == nil {
		return fmt.Errorf("case %d has not been read yet: see \"diorthos case %d\"", d.Number, d.Number)
	}
	if d, err = newer(ctx, c, d); err != nil {
		return err
	}
	m, err := machineOf(c, d)
	if err != nil {
		return err
	}
	if name := c.String("put-back"); name != "" {
		m.Path = c.String("image")
		return performOn(ctx, c, m, m.Facts, "upkeep.put-back", map[string]string{"name": name})
	}
	record, err := recordFor(c, m, d.Machine)
	if err != nil {
		return err
	}
	defer func() { _ = record.Close() }() // every entry was synced
	chosen, err := chooseRungs(c, d, record)
	if err != nil {
		return err
	}
	if command := c.String("again"); command != "" {
		chosen.Rungs = ladder.TryAgain(chosen.Rungs, command)
	}
	t := newTerminal(c)
	t.typical = d.Typical
	if d.Number > 0 {
		t.service = &reporter{service: service(c), number: d.Number}
	}
	if len(chosen.Rungs) > 0 && needsDisk(chosen.Rungs[0], m) {
		return usage(c, errors.New("--image is missing: the disk to work on"))
	}
	run := &climb.Climb{
		Plan: climb.Plan{
			Machine: d.Machine, Case: d.Number, Of: len(d.Docket.ToDo), Rungs: chosen.Rungs, First: chosen.First,
			Disks: d.Docket.Disks, Running: m.Root == "/",
		},
		On: m, Attendant: t, Record: record, DryRun: c.Bool("dry-run"), Hands: c.Bool("hands"),
		Restarted: c.Bool("restarted"), File: c.String("journal"), Resume: c.String("resume"),
		Window: c.Duration("window"), Now: time.Now,
	}
	for _, n := range sortedKeys(chosen.Passed) {
		t.say("%s rung %d is %s: passed over; take it again with --only %d", markNone, n, chosen.Passed[n], n)
	}
	runs, err := run.Run(ctx)
	return showClimbed(c, t, d, runs, err)
}

func sortedKeys[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }

// needsDisk reports whether a rung changes something that was not named.
func needsDisk(r ladder.Rung, m *host.Machine) bool {
	a, _ := action.Named(r.Action)
	return r.By == knowledge.ByDiorthos && m.Path == "" && (m.Root == "" || !a.OnFiles)
}

// chooseRungs picks the rungs to take. When none is left and something is owed,
// a climb without rungs gives it back.
func chooseRungs(c *cli.Command, d *client.CaseDetail, record *climb.Record) (climb.Chosen, error) {
	stands := climb.StandingOn(d.Docket.ToDo, record.Runs(d.Number))
	for number, outcome := range d.Stands {
		if n, err := strconv.Atoi(number); err == nil {
			stands[n] = outcome
		}
	}
	chosen, err := climb.Choose(d.Docket.ToDo, stands, climb.Choice{
		Only: append(c.IntSlice("only"), c.IntSlice("rung")...), Skip: c.IntSlice("skip"), To: c.Int("to"),
		Hands: c.Bool("hands"), Resume: c.IsSet("resume"),
	})
	if errors.Is(err, climb.ErrNothingLeft) && len(record.Owed()) > 0 {
		return climb.Chosen{}, nil
	}
	if err != nil {
		return chosen, fmt.Errorf("%s: %w", caseName(d), err)
	}
	return chosen, nil
}

func showClimbed(c *cli.Command, t *terminal, d *client.CaseDetail, runs []climb.Run, err error) error {
	if len(runs) == 0 {
		return afterClimb(c, err, nil)
	}
	last := runs[len(runs)-1]
	if c.Bool("json") {
		var out any = last
		if len(runs) > 1 {
			out = runs
		}
		_, errOut := writeJSON(c, out)
		return afterClimb(c, err, errOut)
	}
	if last.Outcome == climb.Proven && last.Journal != "" {
		showNext(t, d, last)
	}
	return afterClimb(c, err, nil)
}

// machineOf is the machine of a case, as far as it is at hand.
func machineOf(c *cli.Command, d *client.CaseDetail) (*host.Machine, error) {
	facts := &bag.Facts{}
	if d.Docket != nil {
		facts.Machine, facts.Disks, facts.Firmware = d.Docket.Machine, d.Docket.Disks, d.Docket.Firmware
		facts.State, facts.Hardware = d.Docket.State, d.Docket.Hardware
	}
	return machineFor(c, d.Machine, c.String("image"), facts)
}

func machineFor(c *cli.Command, name, path string, facts *bag.Facts) (*host.Machine, error) {
	build := 0
	if facts.State != nil && facts.State.Store != nil {
		build = facts.State.Store.Build
	}
	keys, err := keysOf(c)
	if err != nil {
		return nil, err
	}
	list, err := componentSources(c.StringSlice("source"), build, keys)
	if err != nil {
		return nil, err
	}
	root := c.String("root")
	switch {
	case path != "" && host.HoldsSystem(path):
		path, root = "", path
	case path == "" && root == "" && c.Bool("live"):
		root = "/"
	}
	if root != "" && c.Bool("rehearse") {
		return nil, usage(c, errors.New("--rehearse starts a copy of a disk: give it with --image"))
	}
	m := &host.Machine{
		Keys: keys, Path: path, Root: root, Name: name, SectorSize: c.Int("sector-size"), Live: c.Bool("live"),
		Adapters: platform.All(),
		Sources:  list, Facts: facts, Network: c.Bool("network"), Now: time.Now,
	}
	if c.Bool("rehearse") {
		m.Rehearsal = &host.Rehearsal{Adapters: platform.All(), Keys: keys, Variables: host.VariablesOf(path)}
	}
	bar := newBar(c, "", 0)
	m.Progress = func(what string, done, total int64) {
		bar.show(what, done, total)
		if done >= total {
			bar.clear()
		}
	}
	return m, nil
}

// recordFor opens the machine's record; on a dry run it is only read.
func recordFor(c *cli.Command, m *host.Machine, name string) (*climb.Record, error) {
	if c.Bool("dry-run") {
		return climb.ReadRecord(m.Record(), name)
	}
	return climb.OpenRecord(m.Record(), name)
}

func absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}

func showNext(t *terminal, d *client.CaseDetail, done climb.Run) {
	p := t.p
	p.line("")
	p.line("  take it back  diorthos undo %s", relative(done.Journal))
	first := "try again what failed; if it still does"
	switch {
	case done.Again == nil && asksForCommand(d, done.Rung):
		first = "try again what failed (named by --again, the next climb makes it on a copy); if it still does"
	case done.Again.GoesThrough():
		p.hangingIndent("  then          ", "make it on the machine itself: "+done.Again.Command)
		return
	case !done.Helped():
		first = "since it still fails"
	}
	i := slices.IndexFunc(d.Docket.ToDo, func(r ladder.Rung) bool { return r.Number > done.Rung })
	if i < 0 {
		again := "gather its evidence anew and hand it in"
		if d.Number < 0 {
			again = "diorthos diagnose " + lookedAt(t.c)
		}
		p.hangingIndent("  then          ", first+", look anew: "+again)
		return
	}
	next := d.Docket.ToDo[i]
	how := fmt.Sprintf("diorthos climb %d", d.Number)
	if d.Number < 0 {
		how = "diorthos climb " + lookedAt(t.c)
	}
	if next.By == knowledge.ByHands {
		how += " --hands"
	}
	p.hangingIndent("  then          ", fmt.Sprintf("%s: rung %d, %s, %s: %s",
		first, next.Number, next.Title, whoDoes(next.By), how))
}

// asksForCommand reports whether a rung would have what failed made again, and the evidence does not say what that is.
func asksForCommand(d *client.CaseDetail, rung int) bool {
	return slices.ContainsFunc(d.Docket.ToDo, func(r ladder.Rung) bool {
		a, _ := action.Named(r.Action)
		return r.Number == rung && a.TriesAgain && r.Again == ""
	})
}

// lookedAt is how the machine was named that was looked at here.
func lookedAt(c *cli.Command) string {
	switch {
	case c.IsSet("image"):
		return "--image " + relative(c.String("image"))
	case c.String("root") != "":
		return "--root " + relative(c.String("root"))
	}
	return "--live"
}

// relative shortens a path below the folder where the command runs.
func relative(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if r, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(r) {
		return r
	}
	return path
}

// caseName is what a case is called; one that was read here has no number.
func caseName(d *client.CaseDetail) string {
	if d.Number > 0 {
		return fmt.Sprintf("case %d", d.Number)
	}
	return d.Machine
}

func sheetOf(d *client.CaseDetail) docket.Sheet {
	return docket.Sheet{Case: d.Number, Docket: d.Docket, Printed: time.Now()}
}
