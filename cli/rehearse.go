package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/firmware"
	"diorthos/host"
	"diorthos/platform"
)

func rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Usage: "start a machine from a copy of its disk, and say how far it comes",
		ArgsUsage: "IMAGE|FOLDER",
		Description: "In an emulator, without a network, by UEFI or by the older firmware, as the disk is made for. " +
			"Not a byte\n" +
			"of the disk is changed. What is watched is the serial console: on the copy, loader and kernel are told\n" +
			"to use it. Exit status 1 if it does not come to a login prompt.\n\n" +
			"Examples:\n" +
			"   diorthos rehearse quay-4.img\n" +
			"   diorthos climb --image quay-4.img --rehearse",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "firmware", Usage: "uefi or bios; by default what the disk is made for"},
			&cli.IntFlag{Name: "memory", Usage: "of the emulated machine, in MiB", Value: 1024},
			&cli.DurationFlag{Name: "limit", Usage: "how long to wait", Value: 10 * time.Minute},
			&cli.BoolFlag{Name: "console", Usage: "show what the machine prints while it does"},
			sectorFlag(), jsonFlag(),
		},
		Action: rehearse,
	}
}

func rehearse(ctx context.Context, c *cli.Command) (err error) {
	a, err := args(c, "IMAGE")
	if err != nil {
		return err
	}
	mode := firmware.Mode(c.String("firmware"))
	if mode != "" && mode != firmware.UEFI && mode != firmware.BIOS {
		return usage(c, fmt.Errorf("--firmware %q: want uefi or bios", mode))
	}
	if c.Int("memory") < 64 || c.Duration("limit") <= 0 {
		return usage(c, errors.New("--memory wants at least 64 MiB, and --limit a time above 0"))
	}
	dev, err := host.OpenDisk(host.Locate(a[0]).Disk, c.Int("sector-size"), true)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	keys, err := keysOf(c)
	if err != nil {
		return err
	}
	p := newPage(c)
	r := host.Rehearsal{
		Keys:     keys,
		Mode:     mode,
		Memory:   c.Int("memory"),
		Limit:    c.Duration("limit"),
		Adapters: platform.All(),
		// Those of the machine, where they lie beside its disk.
		Variables: host.VariablesOf(a[0]),
	}
	bar := newBar(c, "", 0)
	began := time.Now()
	r.Say = func(line string) {
		if c.Bool("console") && !c.Bool("json") {
			p.line("  %s", p.faint(sanitize(line)))
			return
		}
		bar.show("starting it on a copy: "+time.Since(began).Round(time.Second).String(), 0, 0)
	}
	seen, err := r.Run(ctx, dev)
	bar.clear()
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, seen); done {
		return rehearsed(seen, err)
	}
	mark := p.good(markGood)
	if !seen.Starts {
		mark = p.bad(markBroken)
	}
	p.line("%s %s  %s", mark, seen.End, p.faint(fmt.Sprintf("started by %s, %s", seen.Mode, seen.Took.Round(time.Second))))
	if seen.Saw != "" {
		p.hangingIndent("  saw   ", sanitize(seen.Saw))
	}
	if !seen.Starts {
		for _, line := range seen.Last[max(0, len(seen.Last)-12):] {
			p.line("  %s", p.faint(sanitize(line)))
		}
		p.line("  next  diorthos diagnose --image %s", a[0])
	}
	for _, n := range seen.Notes {
		p.hangingIndent("  note  ", n)
	}
	return rehearsed(seen, nil)
}

func rehearsed(seen *host.Rehearsed, err error) error {
	if err == nil && !seen.Starts {
		return errFound
	}
	return err
}
