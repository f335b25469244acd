package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
)

func layoutVolumeCommand() *cli.Command {
	return &cli.Command{
		Name: "volume", Usage: "check the file system of one partition, and mend it", ArgsUsage: "IMAGE|DEVICE",
		Description: "FAT is checked whole: boot sectors, both tables, chains, sizes, names, free counts; what belongs to nothing becomes a\nfile. Of ext2, ext3 and ext4 the first superblock and the group descriptors are restored from a backup. Nothing is\nmounted. Exit status 1 if something is wrong.\n\n" +
			"Examples:\n   diorthos layout volume --partition 1 .demo/kestrel-office-3.img\n   diorthos layout volume --partition 1 --mend .demo/kestrel-office-3.img",
		Flags: append(changeFlags(), &cli.IntFlag{Name: "partition", Usage: "its `NUMBER`; left out, the whole image is one file system"}, &cli.BoolFlag{Name: "mend", Usage: "put right what is wrong"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			d, err := openDiskAt(a[0], c.Int("sector-size"), !c.Bool("mend") || c.Bool("dry-run"))
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.close()) }()
			off, length, err := d.partition(c.Int("partition"))
			if err != nil {
				return err
			}
			v, err := lookAtVolume(block.NewPart(d.dev, off, length), length)
			if err != nil {
				return err
			}
			if !c.Bool("mend") {
				return v.show(c)
			}
			if len(v.writes) == 0 {
				newPage(c).line("%s: nothing to mend", v.kind)
				return nil
			}
			for i := range v.writes {
				v.writes[i].Off += off
			}
			return d.make(ctx, c, change{action: "layout volume --mend", writes: v.writes, prove: func(dev block.Device) error {
				again, err := lookAtVolume(block.NewPart(dev, off, length), length)
				if err == nil && len(again.Findings) > 0 {
					err = errors.New(again.Findings[0].Text)
				}
				return err
			}})
		},
	}
}

// partition finds where one lies, in bytes.
func (d *openDisk) partition(number int) (off, length int64, err error) {
	if number == 0 {
		return 0, d.table.Size, nil
	}
	for _, p := range d.facts.Partitions {
		if p.Number == number {
			return p.Offset, p.Size, nil
		}
	}
	return 0, 0, fmt.Errorf("%s has no partition %d that can be trusted: see \"diorthos layout show\"", d.facts.Source, number)
}

// A volume is what was found out about a file system.
type volume struct {
	Kind     string        `json:"kind"`
	Files    int           `json:"files"`
	Folders  int           `json:"folders"`
	Findings []fat.Finding `json:"findings"`

	kind   string
	writes []block.Write
}

func lookAtVolume(part *block.Part, length int64) (*volume, error) {
	report, fatErr := fat.Check(part)
	if fatErr == nil {
		return &volume{Kind: "fat", Files: report.Files, Folders: report.Folders, Findings: append([]fat.Finding{}, report.Findings...), kind: "FAT", writes: report.Writes}, nil
	}
	if _, err := ext.Open(part); err == nil {
		return &volume{Kind: "ext", Findings: []fat.Finding{}, kind: "ext"}, nil
	}
	b, err := ext.FindBackup(part, length)
	if err != nil {
		return nil, fmt.Errorf("no file system that can be checked: %w; %w", fatErr, err)
	}
	writes, err := b.Restore(part)
	if err != nil {
		return nil, err
	}
	return &volume{Kind: "ext", kind: "ext", writes: writes, Findings: []fat.Finding{{ID: "superblock-damaged",
		Text: fmt.Sprintf("the first superblock is damaged; the one of group %d, at byte %d, is sound", b.Group, b.At), Do: "restore it and the group descriptors from there; check the file system afterwards"}}}, nil
}

func (v *volume) show(c *cli.Command) error {
	done, err := put(c, v)
	if !done {
		p := newPage(c)
		p.line("%s: %s", v.kind, plural(len(v.Findings), "finding", "findings"))
		for _, f := range v.Findings {
			p.hang("  "+p.bad(markBroken)+" ", f.Text)
			if f.Path != "" {
				p.line("    %s", f.Path)
			}
			p.line("    %s; to mend: %s", p.faint(f.ID), f.Do)
		}
		if len(v.Findings) == 0 {
			p.line("  %s nothing wrong", p.good(markGood))
		}
	}
	if err == nil && len(v.Findings) > 0 {
		return errFound
	}
	return err
}
