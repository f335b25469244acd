package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/volumes"
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
				v, err := checkVolume(c, onDisk(a[0]), number)
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

// checkVolume checks the file system of one volume, or of the whole.
func checkVolume(c *cli.Command, path string, number int) (v *action.VolumeCheck, err error) {
	keys, err := keysOf(c)
	if err != nil {
		return nil, err
	}
	dev, err := host.OpenDisk(path, c.Int(sectorSizeFlag), true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	table, err := layout.Read(dev)
	if err != nil {
		return nil, err
	}
	if number == 0 {
		if v, err := action.CheckVolume(dev, dev.Size()); err == nil || len(table.Partitions()) == 0 {
			return v, err
		}
		var list []string
		for _, p := range table.Partitions() {
			list = append(list, strings.TrimSpace(fmt.Sprintf(
				"%d %s", p.Number, layout.Recognise(block.NewReadRange(dev, p.Off, p.Length)).Kind,
			)))
		}
		return nil, fmt.Errorf("%s is a disk with partitions: name one with --partition: %s", path, strings.Join(list, ", "))
	}
	at := volumes.Open(dev, table, keys).Numbered(number)
	switch {
	case at == nil:
		return nil, fmt.Errorf(
			"%s has no partition %d that can be trusted, and no volume of that number inside one: see \"diorthos layout show\"",
			path,
			number,
		)
	case at.Dev == nil:
		return nil, fmt.Errorf("%s: %s: %s", path, at.Name, at.Problem)
	}
	return action.CheckVolume(at.Dev, at.Size)
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
