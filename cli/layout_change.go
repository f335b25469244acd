package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/host"
)

func layoutMendCommand() *cli.Command {
	return &cli.Command{
		Name:      "mend",
		Usage:     "put the table right: both copies of a GPT, protective MBR, bounds, GUIDs; an MBR's signature",
		ArgsUsage: "IMAGE|DEVICE",
		Description: "Writes only sectors that are wrong, through a journal, and takes all back if the result cannot\n" +
			"be proven.\n\n" +
			"Examples:\n" +
			"   diorthos layout mend --dry-run .demo/kestrel-office-3.img\n" +
			"   diorthos layout mend --activate 2 old-disk.img",
		Flags: append(changeFlags(),
			&cli.IntFlag{
				Name:  "activate",
				Usage: "flag partition `N` of an MBR active, and no other; it has to hold a system or a loader",
			}),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			if n := c.Int("activate"); n > 0 {
				return performOnDisk(ctx, c, onDisk(a[0]), "layout.activate", map[string]string{"partition": strconv.Itoa(n)})
			}
			return performOnDisk(ctx, c, onDisk(a[0]), mendFor(onDisk(a[0])), nil)
		},
	}
}

// mendFor is the action that mends a disk's table, by its style.
func mendFor(path string) action.ID {
	disk, err := host.OpenDisk(path, 0, true)
	if err != nil {
		return "layout.mend-gpt" // which says why it cannot be opened
	}
	defer func() { _ = disk.Close() }()
	if t, err := layout.Read(disk); err == nil && t.Style() == layout.StyleMBR && !t.MBR.Signed {
		return "layout.sign-mbr"
	}
	return "layout.mend-gpt"
}

// onDisk is the disk at a path, which may be that of a machine's folder.
func onDisk(path string) string { return host.Locate(path).Disk }

func layoutRestyleCommand() *cli.Command {
	return &cli.Command{
		Name: "restyle", Usage: "change the table's style in place and keep all partitions", ArgsUsage: "IMAGE|DEVICE",
		Description: "With --firmware, room for the loader is made as well: an EFI system partition for uefi, unless a\n" +
			"volume with the loader can serve as one; a BIOS boot partition for bios. With --wipe the disk\n" +
			"gets an empty table and loses everything.\n\n" +
			"Examples:\n" +
			"   diorthos layout restyle --to gpt --firmware uefi --dry-run old-disk.img\n" +
			"   diorthos layout restyle --to mbr --wipe --confirm old-disk.img old-disk.img",
		Flags: append(changeFlags(),
			&cli.StringFlag{Name: "to", Usage: "`STYLE` wanted: gpt or mbr", Required: true},
			&cli.StringFlag{Name: "firmware", Usage: "`MODE` that the machine starts by: uefi or bios"},
			&cli.BoolFlag{Name: "wipe", Usage: "give the disk an empty table"},
			confirmFlag("disk's file"),
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			to := layout.Style(c.String("to"))
			if to != layout.StyleGPT && to != layout.StyleMBR {
				return usage(c, fmt.Errorf("--to %q: want gpt or mbr", to))
			}
			if _, err := firmwareFlag(c); err != nil {
				return err
			}
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			if c.Bool("wipe") {
				return performOnDisk(ctx, c, onDisk(a[0]), "layout.wipe", map[string]string{"to": string(to)})
			}
			params := map[string]string{"to": string(to), "firmware": c.String("firmware")}
			return performOnDisk(ctx, c, onDisk(a[0]), "layout.restyle", params)
		},
	}
}

// firmwareFlag reads --firmware.
func firmwareFlag(c *cli.Command) (firmware.Mode, error) {
	mode, err := firmware.ParseMode(c.String("firmware"))
	if err != nil {
		return "", usage(c, fmt.Errorf("--firmware %q: want uefi or bios", c.String("firmware")))
	}
	return mode, nil
}

func layoutRescueCommand() *cli.Command {
	return &cli.Command{
		Name:      "rescue",
		Usage:     "find lost partitions by what lies on the disk, and propose a table",
		ArgsUsage: "IMAGE|DEVICE",
		Description: "Reads the whole disk once. Without --write it only shows what it found. Exit status 1 if nothing\n" +
			"was found.\n\n" +
			"Example:\n" +
			"   diorthos layout rescue .demo/kestrel-office-3.img",
		Flags: append(changeFlags(), &cli.BoolFlag{Name: "write", Usage: "write the table that is proposed"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			if c.Bool("write") {
				return performOnDisk(ctx, c, onDisk(a[0]), "layout.rescue", nil)
			}
			return proposeRescue(ctx, c, onDisk(a[0]))
		},
	}
}

func proposeRescue(ctx context.Context, c *cli.Command, path string) (err error) {
	dev, err := host.OpenDisk(path, c.Int("sector-size"), true)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	d, err := describedDisk(c, path, system.Needs{})
	if err != nil {
		return err
	}
	b := newBar(c, "looking", d.Size)
	found, unreadable, err := layout.Scan(ctx, dev, func(n int64) { b.show("looking", n, d.Size) })
	b.clear()
	if err != nil {
		return err
	}
	entries := layout.Propose(found, d.SectorSize)
	if done, err := writeJSON(c, map[string]any{"found": found, "unreadable": unreadable, "proposed": entries}); done {
		return err
	}
	return showRescue(newPage(c), *d, found, entries, unreadable)
}

func showRescue(p *page, d bag.Disk, found []layout.Candidate, entries []layout.Entry, unreadable int64) error {
	if unreadable > 0 {
		p.line("%s %s could not be read: save what is needed before anything is written", p.bad(markBroken), size(unreadable))
	}
	p.head("Found")
	var rows [][]string
	for _, f := range found {
		rows = append(rows, []string{
			fmt.Sprint(f.Off / int64(d.SectorSize)), f.Content.Kind, f.Content.Label, size(f.Content.Size), f.By,
		})
	}
	p.table([]string{"FIRST LBA", "WHAT", "LABEL", "SIZE", "BY"}, rows, 0, 3)
	if len(entries) == 0 {
		p.line("%s nothing was found that a table could describe", p.bad(markBroken))
		return errFound
	}
	p.head("Proposed")
	rows = nil
	for _, e := range entries {
		rows = append(rows, []string{
			fmt.Sprint(e.Index), layout.TypeName(e.Type), e.Name, fmt.Sprint(e.First), fmt.Sprint(e.Last),
			size(int64(e.Sectors()) * int64(d.SectorSize)),
		})
	}
	p.table([]string{"NO", "TYPE", "NAME", "FIRST LBA", "LAST LBA", "SIZE"}, rows, 0, 3, 4, 5)
	p.diskMap(withEntries(d, entries))
	p.line("Write it with --write; it can be taken back.")
	return nil
}

// withEntries is the disk as it would be with these partitions.
func withEntries(d bag.Disk, entries []layout.Entry) bag.Disk {
	d.Style, d.Partitions = layout.StyleGPT, nil
	d.Primary.State, d.Backup.State = layout.CopySound, layout.CopySound
	d.Backup.LBA = uint64(d.Size)/uint64(d.SectorSize) - 1
	for _, e := range entries {
		d.Partitions = append(d.Partitions, bag.Partition{
			Number: e.Index, Type: layout.TypeName(e.Type), Name: e.Name, First: e.First, Last: e.Last,
			Offset: int64(e.First) * int64(d.SectorSize), Size: int64(e.Sectors()) * int64(d.SectorSize),
			Role: layout.Role(e.Name), Content: bag.Content{Free: -1},
		})
	}
	return d
}

const carveHelp = `The plan lists partitions with name, type, min, max and share; keep: N takes over one that is
there, and format: fat32 (or fat12, fat16) makes a file system. What is there and not kept is
lost, and has to be confirmed. Partitions begin on whole MiB.

   partitions:
     - {name: ESP, type: EFI system, min: 300 MiB, format: fat32}
     - {name: system, type: Linux data, min: 8 GiB, share: 1}
     - {name: swap, type: Linux swap, min: 1 GiB, max: 4 GiB, share: 0.2}

Example:
   diorthos layout carve plan.yaml --dry-run new-disk.img`

func layoutCarveCommand() *cli.Command {
	return &cli.Command{
		Name:        "carve",
		Usage:       "lay out a disk as a plan wants it",
		ArgsUsage:   "PLAN.yaml IMAGE|DEVICE",
		Description: carveHelp,
		Flags:       append(changeFlags(), confirmFlag("disk's file")),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "PLAN.yaml", "IMAGE")
			if err != nil {
				return err
			}
			text, err := readText(a[0], maxPlan)
			if err != nil {
				return err
			}
			plan, err := action.ReadPlan(text)
			if err != nil {
				return fmt.Errorf("%s: %w", a[0], err)
			}
			if err := showCarved(c, onDisk(a[1]), plan); err != nil {
				return err
			}
			return performOnDisk(ctx, c, onDisk(a[1]), "layout.allocate", map[string]string{"plan": string(text)})
		},
	}
}

// maxPlan is the size of the largest plan of a disk, in bytes.
const maxPlan = 256 << 10

// showCarved draws the disk before and after.
func showCarved(c *cli.Command, path string, plan *action.Plan) (err error) {
	if c.Bool("json") {
		return nil
	}
	d, err := describedDisk(c, path, system.Needs{})
	if err != nil {
		return err
	}
	dev, err := host.OpenDisk(path, c.Int("sector-size"), true)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	table, err := layout.Read(dev)
	if err != nil {
		return err
	}
	entries, err := table.Allocate(plan.Requests, func() layout.GUID { return layout.GUID{} })
	if err != nil {
		return err
	}
	p := newPage(c)
	p.line("before")
	p.diskMap(*d)
	p.line("after")
	p.diskMap(withEntries(*d, entries))
	return nil
}
