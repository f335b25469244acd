package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/block"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/host"
)

func climbCommand() *cli.Command {
	return &cli.Command{
		Name: "climb", Usage: "take rungs of a case's ladder: guard, journal, change, proof", ArgsUsage: "NUMBER",
		Description: "Takes the first rung that is not proven yet, or those named. What stood on the disk before is kept in a\njournal; \"diorthos undo JOURNAL\" brings it back. The outcome goes onto the docket. What is borrowed for the\nrepair stands in a ledger beside the image, and is asked for until it is given back.\n" +
			"What disrupts is asked about; what destroys wants the machine's name.\nExit status 1 if a guard or the proof said no, or a rung waits for a person.\n\nExamples:\n   diorthos climb 1 --image .demo/kestrel-office-3.img --dry-run\n   diorthos climb 1 --image .demo/kestrel-office-3.img\n   diorthos climb 1 --image .demo/kestrel-office-3.img --hands --to 4\n   diorthos climb 1 --image .demo/kestrel-office-3.img --resume kestrel-office-3.journal",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "image", Usage: "disk image, block device or machine's folder to work on"},
			sourceFlag(),
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be done and change nothing"},
			&cli.IntSliceFlag{Name: "only", Aliases: []string{"rung"}, Usage: "take this rung `N` alone; once more for each further one"},
			&cli.IntSliceFlag{Name: "skip", Usage: "leave rung `N` out"},
			&cli.IntFlag{Name: "to", Usage: "take all rungs up to `N`"},
			&cli.BoolFlag{Name: "hands", Usage: "lead through the steps for a person as well, and ask how they went"},
			&cli.BoolFlag{Name: "restarted", Usage: "the restart that was owed has been seen"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask before a rung that disrupts"},
			&cli.StringFlag{Name: "confirm", Usage: "the machine's `NAME`, for a rung that destroys"},
			&cli.StringFlag{Name: "journal", Usage: "journal to write; by default beside the image, or here for a device"},
			&cli.BoolFlag{Name: "live", Usage: "with --hands: this is the machine; measure here what came of a step"},
			&cli.StringFlag{Name: "resume", Usage: "complete the climb of this journal, which was cut off"},
			sectorFlag(), jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			d, err := fetchCase(ctx, c)
			if err != nil {
				return err
			}
			list, err := wanted(c, d)
			if err != nil {
				return err
			}
			a, err := newAscent(c, d)
			if err != nil {
				return err
			}
			runs, err := a.climb(ctx, list)
			if len(runs) == 0 {
				return afterRun(c, err, nil)
			}
			last := runs[len(runs)-1]
			if c.Bool("json") {
				var out any = last
				if len(runs) > 1 {
					out = runs
				}
				_, errOut := put(c, out)
				return afterRun(c, err, errOut)
			}
			if last.Outcome == ladder.Proven && last.Journal != "" {
				showNext(a.p, d, last.Rung, last.Journal)
			}
			return afterRun(c, err, nil)
		},
	}
}

// afterRun tells a refusal, which is a finding, from a failure to work.
func afterRun(c *cli.Command, err, errOut error) error {
	if errors.Is(err, ladder.ErrGuard) || errors.Is(err, ladder.ErrProof) || errors.Is(err, errBlocked) {
		_, _ = fmt.Fprintln(c.Root().ErrWriter, "diorthos:", oneLine(err))
		return errors.Join(errFound, errOut)
	}
	return errors.Join(err, errOut)
}

// takeRung does the work and keeps the service told. Losing the service in
// the middle does not stop a change that has begun.
func takeRung(ctx context.Context, c *cli.Command, d *client.CaseDetail, rung ladder.Rung, borrow func([]ladder.Loan) error) (run *ladder.Run, err error) {
	path := host.Locate(c.String("image")).Device(rung.Action)
	dry := c.Bool("dry-run")
	dev, err := host.OpenDisk(path, c.Int("sector-size"), dry)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	o := ladder.Options{DryRun: dry, Machine: d.Machine, Case: d.Number, Path: absolute(path), Now: time.Now, Borrow: borrow}
	if o.Bench, err = bench(c, d); err != nil {
		return nil, err
	}
	if dry {
		return ladder.Take(ctx, rung, dev, o)
	}
	journal := c.String("journal")
	if c.IsSet("resume") {
		journal = c.String("resume")
	} else if journal == "" {
		if journal, err = journalPath(path, d.Machine); err != nil {
			return nil, err
		}
	}
	s := service(c)
	climb, err := s.StartClimb(ctx, d.Number, client.ClimbStart{Host: hostName(), Rung: rung.Number})
	if err != nil {
		return nil, err
	}
	wait := newWait(c, rung, d.Typical[rung.Remedy])
	o.Phase = func(phase string) {
		wait.phase(phase)
		_, _ = s.ReportClimb(ctx, climb.ID, client.ClimbReport{State: client.Running, Phase: phase}) // what it misses is in the run
	}
	if c.IsSet("resume") {
		run, err = resume(ctx, rung, dev, journal, o)
	} else {
		o.Journal = func(h block.Head) (*block.Journal, error) { return block.CreateJournal(journal, h) }
		run, err = ladder.Take(ctx, rung, dev, o)
	}
	wait.end()
	if run != nil && run.Outcome != ladder.Refused {
		run.Journal = absolute(journal)
	}
	return run, errors.Join(err, reportEnd(ctx, s, climb.ID, run, err))
}

func resume(ctx context.Context, rung ladder.Rung, dev block.Device, path string, o ladder.Options) (run *ladder.Run, err error) {
	j, err := block.OpenJournal(path)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	return ladder.Resume(ctx, rung, dev, j, o)
}

// reportEnd tells the service how it ended, also when the climb was told to
// stop. The disk is in a known state by then, whether this arrives or not.
func reportEnd(ctx context.Context, s *client.Client, id int64, run *ladder.Run, err error) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	report := client.ClimbReport{State: client.Ended, Run: run}
	if err != nil {
		report.Problem = oneLine(err)
		if !errors.Is(err, ladder.ErrGuard) && !errors.Is(err, ladder.ErrProof) {
			report.State, report.Run = client.CutOff, nil
		}
	}
	if _, failed := s.ReportClimb(ctx, id, report); failed != nil {
		return fmt.Errorf("the disk is as shown, but the service could not be told: %w", failed)
	}
	return nil
}

// journalPath is beside an image; for a device it is in the folder where the
// command runs, since a journal must not lie on the disk that it is about.
func journalPath(image, machine string) (string, error) {
	info, err := os.Stat(image)
	if err != nil {
		return "", err
	}
	folder := filepath.Dir(image)
	if info.Mode()&fs.ModeDevice != 0 {
		folder = "."
	}
	stamp := time.Now().UTC().Format("20060102-150405")
	path := filepath.Join(folder, machine+"-"+stamp+".journal")
	for n := 2; ; n++ { // two changes within a second
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			return path, nil
		}
		path = filepath.Join(folder, fmt.Sprintf("%s-%s-%d.journal", machine, stamp, n))
	}
}

func absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}

func showNext(p *page, d *client.CaseDetail, done int, journal string) {
	p.line("")
	p.line("  take it back  diorthos undo %s", relative(journal))
	i := slices.IndexFunc(d.Docket.ToDo, func(r ladder.Rung) bool { return r.Number > done })
	if i < 0 {
		return
	}
	next := d.Docket.ToDo[i]
	how := fmt.Sprintf("diorthos climb %d", d.Number)
	if next.By == knowledge.ByHands {
		how += " --hands"
	}
	p.hang("  then          ", fmt.Sprintf("try again what failed; if it still does: rung %d, %s, by %s: %s", next.Number, next.Title, next.By, how))
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

func sheetOf(d *client.CaseDetail) docket.Sheet {
	return docket.Sheet{Case: d.Number, Docket: d.Docket, Printed: time.Now()}
}
