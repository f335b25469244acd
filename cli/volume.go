package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/host"
)

const volumeHelp = `FAT is checked whole: boot sectors, both tables, chains, sizes, names, free counts; what belongs
to nothing becomes a file. Of ext2, ext3 and ext4 the first superblock and the group descriptors
are restored from a backup; their files are not checked. Nothing is mounted. Exit status 1 if
something is wrong.

Examples:
   diorthos layout volume --partition 1 .demo/kestrel-office-3.img
   diorthos layout volume --partition 1 --mend .demo/kestrel-office-3.img`

func layoutVolumeCommand() *cli.Command {
	return &cli.Command{
		Name:        "volume",
		Usage:       "check the file system of one partition, and mend it",
		ArgsUsage:   "IMAGE|DEVICE",
		Description: volumeHelp,
		Flags: append(changeFlags(),
			&cli.IntFlag{Name: "partition", Usage: "number of the partition; without it the whole image is one file system"},
			&cli.BoolFlag{Name: "mend", Usage: "put right what is found, through a journal"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			number := c.Int("partition")
			if !c.Bool("mend") {
				v, err := checkVolume(onDisk(a[0]), c.Int("sector-size"), number)
				if err != nil {
					return err
				}
				return showVolume(c, v)
			}
			params := map[string]string{}
			if number > 0 {
				params["partition"] = strconv.Itoa(number)
			}
			return performOnDisk(ctx, c, onDisk(a[0]), "volume.mend", params)
		},
	}
}

// checkVolume checks the file system of one partition, or of the whole.
func checkVolume(path string, sectorSize, number int) (v *action.VolumeCheck, err error) {
	d, err := describedDisk(path, sectorSize, system.Needs{})
	if err != nil {
		return nil, err
	}
	off, length := int64(0), d.Size
	if number > 0 {
		length = -1
		for _, p := range d.Partitions {
			if p.Number == number {
				off, length = p.Offset, p.Size
			}
		}
		if length < 0 {
			return nil, fmt.Errorf("%s has no partition %d that can be trusted: see \"diorthos layout show\"", d.Source, number)
		}
	}
	dev, err := host.OpenDisk(path, sectorSize, true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	return action.CheckVolume(block.NewReadRange(dev, off, length), length)
}

func showVolume(c *cli.Command, v *action.VolumeCheck) error {
	done, err := writeJSON(c, v)
	if !done {
		p := newPage(c)
		p.line("%s: %s", v.Kind, plural(len(v.Findings), "finding", "findings"))
		for _, f := range v.Findings {
			p.hangingIndent("  "+p.bad(markBroken)+" ", f.Text)
			if f.Path != "" {
				p.line("    %s", f.Path)
			}
			p.line("    %s; to mend: %s", p.faint(f.ID), f.Do)
		}
		switch {
		case len(v.Findings) > 0:
		case v.Kind == "fat":
			p.line("  %s nothing wrong: boot sectors, tables, %s and %s were looked at", p.good(markGood),
				plural(v.Files, "file", "files"), plural(v.Folders, "folder", "folders"))
		default:
			p.line("  %s its superblock and group descriptors can be read; its files were not checked", p.good(markGood))
		}
	}
	if err == nil && len(v.Findings) > 0 {
		return errFound
	}
	return err
}
