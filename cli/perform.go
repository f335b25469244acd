package cli

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform"
)

// changeFlags belong to every command that changes a disk.
func changeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "dry-run", Usage: "say what would be written, and write nothing"},
		&cli.StringFlag{
			Name:  "journal",
			Usage: "`FILE` for the journal; beside an image by default, in the current folder for a device",
		},
		sectorFlag(), jsonFlag(),
	}
}

// networkFlag lets the system's own tools fetch what is missing.
func networkFlag() cli.Flag {
	return &cli.BoolFlag{
		Name: "network", Usage: "let the system's own tools fetch what is missing from its repositories; they have no " +
			"network otherwise",
	}
}

func confirmFlag(whose string) cli.Flag {
	return &cli.StringFlag{Name: "confirm", Usage: "the " + whose + " `NAME`, to say that what is on it may be lost"}
}

// A changeReport is what an action that a person named came to.
type changeReport struct {
	climb.Run
	Action action.ID       `json:"action"`
	Writes []climb.Planned `json:"writes"`
	Loses  []string        `json:"loses"`
}

// performOnDisk takes one action on a disk, outside of any case.
func performOnDisk(ctx context.Context, c *cli.Command, path string, id action.ID, params map[string]string) error {
	return performOnDiskWith(ctx, c, path, id, params, func(r changeReport) any { return r })
}

// performOnDiskWith reports to programs what report makes of it.
func performOnDiskWith(
	ctx context.Context, c *cli.Command, path string, id action.ID, params map[string]string,
	report func(changeReport) any,
) error {
	name := filepath.Base(path)
	m, err := machineFor(c, strings.TrimSuffix(name, filepath.Ext(name)), path, &bag.Facts{})
	if err != nil {
		return err
	}
	target, err := m.Target(id)
	if err != nil {
		return err
	}
	return perform(ctx, c, m, id, params, target, name, report)
}

// performOn takes one action on a machine whose facts are known, outside of any
// case.
func performOn(
	ctx context.Context, c *cli.Command, m *host.Machine, facts *bag.Facts, id action.ID, params map[string]string,
) error {
	target := action.TargetOf(id, facts)
	if target == nil {
		var err error
		if target, err = m.Target(id); err != nil {
			return err
		}
	}
	return perform(ctx, c, m, id, params, target, m.Name, func(r changeReport) any { return r })
}

// perform is a climb of one action that a person named: the same guards, journal
// and proof as those of a case. name is what has to be typed before data are
// lost.
func perform(
	ctx context.Context, c *cli.Command, m *host.Machine, id action.ID, params map[string]string,
	target *block.Target, name string,
	asJSON func(changeReport) any,
) error {
	plan, err := climb.Single(m.Name, id, params, target)
	if err != nil {
		return err
	}
	plan.Name = name
	plan.Disks, plan.Running = m.Facts.Disks, m.Root == "/"
	record, err := recordFor(c, m, m.Name)
	if err != nil {
		return err
	}
	defer func() { _ = record.Close() }() // every entry was synced
	t := newTerminal(c)
	runs, err := (&climb.Climb{
		Plan: plan, On: m, Attendant: t, Record: record, DryRun: c.Bool("dry-run"), NoUndo: c.Bool("no-undo"),
		File: c.String("journal"), Now: time.Now,
	}).Run(ctx)
	if len(runs) == 0 {
		return afterClimb(c, err, nil)
	}
	run := runs[0]
	report := changeReport{Run: run, Action: id, Writes: run.Planned, Loses: append([]string{}, run.Loses...)}
	done, errOut := writeJSON(c, asJSON(report))
	if !done {
		showDone(t.p, run)
	}
	if errors.Is(err, climb.ErrBlocked) {
		return errors.Join(err, errOut) // it was not agreed to: it could not be done
	}
	return afterClimb(c, err, errOut)
}

func showDone(p *page, run climb.Run) {
	switch {
	case run.Outcome == climb.NothingToDo:
		saw := ""
		if n := len(run.Guard); n > 0 {
			saw = ": " + run.Guard[n-1].Saw
		}
		p.line("%s nothing to do%s", markNone, saw)
	case run.Outcome == climb.Proven && run.Journal != "":
		p.line("%s done and proven; take it back with: diorthos undo %s", p.good(markGood), relative(run.Journal))
	case run.Outcome == climb.Proven:
		p.line("%s done and proven; what was there was not kept", p.good(markGood))
	}
}

// describedDisk looks at a disk that is only read.
func describedDisk(c *cli.Command, path string, needs system.Needs) (*bag.Disk, error) {
	keys, err := keysOf(c)
	if err != nil {
		return nil, err
	}
	needs.Keys = keys
	image, err := host.OpenDisk(path, c.Int(sectorSizeFlag), true)
	if err != nil {
		return nil, err
	}
	defer func() { _ = image.Close() }() // it was only read
	d, _, err := system.Describe(image, "disk0", path, platform.All(), needs)
	return d, err
}
