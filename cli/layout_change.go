package cli

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/knowledge"
	"diorthos/core/layout"
)

// newGUID is a random one (RFC 9562, version 4).
func newGUID() layout.GUID { return layout.RandomGUID(rand.Reader) }

func layoutMendCommand() *cli.Command {
	return &cli.Command{
		Name: "mend", Usage: "put the GPT right: both copies, backup at the end, protective MBR, bounds, GUIDs", ArgsUsage: "IMAGE|DEVICE",
		Description: "Writes only sectors that are wrong, through a journal, and takes all back if the result cannot be proven.\n\nExamples:\n   diorthos layout mend --dry-run .demo/kestrel-office-3.img\n   diorthos layout mend --activate 2 old-disk.img",
		Flags:       append(changeFlags(), &cli.IntFlag{Name: "activate", Usage: "flag partition `N` of an MBR active, and no other"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			d, err := openForChange(c)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.close()) }()
			ch := change{action: "layout mend", prove: soundTable(nil)}
			if n := c.Int("activate"); n > 0 {
				if !d.systems()[n] && d.contents()[n].Kind == "" {
					return fmt.Errorf("partition %d holds nothing that could be started: the active flag belongs on one that does", n)
				}
				ch.writes, err = d.table.Activate(n)
			} else {
				ch.writes, err = d.table.MendAll(layout.Mending{NewGUID: newGUID, Contents: d.contents()})
			}
			if errors.Is(err, layout.ErrNothingToMend) {
				newPage(c).line("%s: nothing to mend", d.facts.Source)
				return nil
			}
			if err != nil {
				return err
			}
			return d.make(ctx, c, ch)
		},
	}
}

func layoutRestyleCommand() *cli.Command {
	return &cli.Command{
		Name: "restyle", Usage: "change the table's style in place and keep all partitions", ArgsUsage: "IMAGE|DEVICE",
		Description: "With --firmware, room for the loader is made as well: an EFI system partition for uefi, a BIOS boot partition for bios.\nWith --wipe the disk gets an empty table and loses everything.\n\nExamples:\n   diorthos layout restyle --to gpt --firmware uefi --dry-run old-disk.img\n   diorthos layout restyle --to mbr --wipe --confirm old-disk.img old-disk.img",
		Flags: append(changeFlags(),
			&cli.StringFlag{Name: "to", Usage: "`STYLE` wanted: gpt or mbr", Required: true},
			&cli.StringFlag{Name: "firmware", Usage: "`MODE` that the machine starts by: uefi or bios"},
			&cli.BoolFlag{Name: "wipe", Usage: "give the disk an empty table"},
			&cli.StringFlag{Name: "confirm", Usage: "the disk's file `NAME`, to say that what is on it may be lost"},
		),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			to := layout.Style(c.String("to"))
			firmware := c.String("firmware")
			if to != layout.StyleGPT && to != layout.StyleMBR {
				return usage(c, fmt.Errorf("--to %q: want gpt or mbr", to))
			}
			if firmware != "" && firmware != "uefi" && firmware != "bios" {
				return usage(c, fmt.Errorf("--firmware %q: want uefi or bios", firmware))
			}
			d, err := openForChange(c)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.close()) }()
			r := layout.Restyling{To: to, Firmware: firmware, NewGUID: newGUID, DiskID: randomID(), Systems: d.systems()}
			if c.Bool("wipe") {
				return d.wipe(ctx, c, r)
			}
			plan, err := d.table.Restyle(r)
			if err != nil {
				return err
			}
			ch := change{action: "layout restyle --to " + string(to), notes: plan.Notes, writes: plan.Writes}
			want := spansOfParts(d.facts.Partitions, to)
			if plan.Made != nil {
				want = append(want, plan.Made.Span)
				ch.notes = append(ch.notes, fmt.Sprintf("partition %d is made: %s, %s", plan.Made.Index, plan.Made.Name, size(int64(plan.Made.Sectors())*int64(d.table.SectorSize))))
				if plan.Made.Type == layout.TypeESP {
					made, err := fatWrites(plan.Made.Span, d.table.SectorSize, "ESP", 32)
					if err != nil {
						return err
					}
					ch.writes = append(made, ch.writes...)
				}
			}
			ch.prove = soundTable(want)
			return d.make(ctx, c, ch)
		},
	}
}

func randomID() uint32 {
	var b [4]byte
	_, _ = rand.Read(b[:]) // never fails
	return binary.LittleEndian.Uint32(b[:])
}

// spansOfParts are the partitions that a change of style keeps.
func spansOfParts(parts []bag.Partition, to layout.Style) []layout.Span {
	var list []layout.Span
	for _, p := range parts {
		if to != layout.StyleMBR || p.Type != "BIOS boot" {
			list = append(list, layout.Span{First: p.First, Last: p.Last})
		}
	}
	return list
}

// fatWrites are the bytes of a new FAT file system, as writes to the disk.
func fatWrites(s layout.Span, sectorSize int, label string, bits int) ([]block.Write, error) {
	taken := sectors{}
	if err := fat.Format(taken, int64(s.Sectors())*int64(sectorSize), fat.Options{Label: label, Serial: randomID(), Bits: bits}); err != nil {
		return nil, err
	}
	var list []block.Write
	for _, at := range slices.Sorted(maps.Keys(taken)) {
		off := int64(s.First)*int64(sectorSize) + at*512
		if n := len(list); n > 0 && list[n-1].Off+int64(len(list[n-1].Data)) == off {
			list[n-1].Data = append(list[n-1].Data, taken[at]...)
			continue
		}
		list = append(list, block.Write{Off: off, Data: taken[at], What: "FAT file system " + label})
	}
	return list, nil
}

// sectors takes whole sectors of 512 bytes instead of writing them. What is
// written twice counts as it was written last.
type sectors map[int64][]byte

func (m sectors) WriteAt(p []byte, off int64) (int, error) {
	for n := 0; n < len(p); n += 512 {
		m[(off+int64(n))/512] = slices.Clone(p[n : n+512])
	}
	return len(p), nil
}

// wipe gives the disk an empty table.
func (d *openDisk) wipe(ctx context.Context, c *cli.Command, r layout.Restyling) error {
	ch := change{action: "layout restyle --wipe", loses: d.losses(nil), prove: soundTable([]layout.Span{})}
	if len(ch.loses) == 0 {
		ch.loses = []string{"whatever is on the disk outside of any partition"}
	}
	var err error
	if r.To == layout.StyleGPT {
		ch.writes, err = d.table.Rebuild(nil, newGUID)
	} else {
		ch.writes = d.table.EmptyMBR(r.DiskID)
	}
	if err != nil {
		return err
	}
	return d.make(ctx, c, ch)
}

func layoutRescueCommand() *cli.Command {
	return &cli.Command{
		Name: "rescue", Usage: "find lost partitions by what lies on the disk, and propose a table", ArgsUsage: "IMAGE|DEVICE",
		Description: "Reads the whole disk once. Without --write it only shows what it found. Exit status 1 if nothing was found.\n\nExample:\n   diorthos layout rescue .demo/kestrel-office-3.img",
		Flags:       append(changeFlags(), &cli.BoolFlag{Name: "write", Usage: "write the table that is proposed"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			d, err := openDiskAt(a[0], c.Int("sector-size"), !c.Bool("write") || c.Bool("dry-run"))
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.close()) }()
			b := newBar(c, "looking", d.table.Size)
			finds, unreadable, err := layout.Scan(ctx, d.dev, func(n int64) { b.show("looking", n, d.table.Size) })
			b.clear()
			if err != nil {
				return err
			}
			entries := layout.Propose(finds, d.table.SectorSize)
			if c.Bool("write") {
				return d.writeRescued(ctx, c, entries)
			}
			if done, err := put(c, map[string]any{"found": finds, "unreadable": unreadable, "proposed": entries}); done {
				return err
			}
			return showRescue(newPage(c), d, finds, entries, unreadable)
		},
	}
}

func (d *openDisk) writeRescued(ctx context.Context, c *cli.Command, entries []layout.Entry) error {
	if len(entries) == 0 {
		return errors.New("nothing was found that a table could describe")
	}
	writes, err := d.table.Rebuild(entries, newGUID)
	if err != nil {
		return err
	}
	ch := change{action: "layout rescue", writes: writes}
	var want []layout.Span
	for _, e := range entries {
		want = append(want, e.Span)
	}
	ch.prove = soundTable(want)
	return d.make(ctx, c, ch)
}

func showRescue(p *page, d *openDisk, finds []layout.Find, entries []layout.Entry, unreadable int64) error {
	if unreadable > 0 {
		p.line("%s %s could not be read: save what is needed before anything is written", p.bad(markBroken), size(unreadable))
	}
	p.head("Found")
	var rows [][]string
	for _, f := range finds {
		rows = append(rows, []string{fmt.Sprint(f.Off / int64(d.table.SectorSize)), f.Content.Kind, f.Content.Label, size(f.Content.Size), f.By})
	}
	p.table([]string{"FIRST LBA", "WHAT", "LABEL", "SIZE", "BY"}, rows, 0, 3)
	if len(entries) == 0 {
		p.line("%s nothing was found that a table could describe", p.bad(markBroken))
		return errFound
	}
	p.head("Proposed")
	rows = nil
	for _, e := range entries {
		rows = append(rows, []string{fmt.Sprint(e.Index), layout.TypeName(e.Type), e.Name, fmt.Sprint(e.First), fmt.Sprint(e.Last), size(int64(e.Sectors()) * int64(d.table.SectorSize))})
	}
	p.table([]string{"NO", "TYPE", "NAME", "FIRST LBA", "LAST LBA", "SIZE"}, rows, 0, 3, 4, 5)
	p.strip(carved(*d.facts, entries))
	p.line("Write it with --write; it can be taken back.")
	return nil
}

// carved is the disk as it would be with these partitions.
func carved(d bag.Disk, entries []layout.Entry) bag.Disk {
	d.Style, d.Partitions = "gpt", nil
	d.Primary.State, d.Backup.State = "sound", "sound"
	d.Backup.LBA = uint64(d.Size)/uint64(d.SectorSize) - 1
	for _, e := range entries {
		length := int64(e.Sectors()) * int64(d.SectorSize)
		d.Partitions = append(d.Partitions, bag.Partition{Number: e.Index, Type: layout.TypeName(e.Type), Name: e.Name, First: e.First, Last: e.Last, Offset: int64(e.First) * int64(d.SectorSize), Size: length, Role: e.Name, Content: bag.Content{Free: -1}})
	}
	return d
}

// A wanted layout, as a person writes it.
type carvePlan struct {
	Partitions []struct {
		Name   string  `yaml:"name"`
		Type   string  `yaml:"type"`
		Min    string  `yaml:"min"`
		Max    string  `yaml:"max"`
		Share  float64 `yaml:"share"`
		Keep   int     `yaml:"keep"`
		Format string  `yaml:"format"`
	} `yaml:"partitions"`
}

func layoutCarveCommand() *cli.Command {
	return &cli.Command{
		Name: "carve", Usage: "lay out a disk as a plan wants it", ArgsUsage: "PLAN.yaml IMAGE|DEVICE",
		Description: "The plan lists partitions with name, type, min, max and share; keep: N takes over one that is there, and format: fat32 (or fat12,\nfat16) makes a file system. What is there and not kept is lost, and has to be confirmed. Partitions begin on whole MiB.\n\n" +
			"   partitions:\n     - {name: ESP, type: EFI system, min: 300 MiB, format: fat32}\n     - {name: system, type: Linux data, min: 8 GiB, share: 1}\n     - {name: swap, type: Linux swap, min: 1 GiB, max: 4 GiB, share: 0.2}\n\nExample:\n   diorthos layout carve plan.yaml --dry-run new-disk.img",
		Flags: append(changeFlags(), &cli.StringFlag{Name: "confirm", Usage: "the disk's file `NAME`, to say that what is on it may be lost"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			a, err := args(c, "PLAN.yaml", "IMAGE")
			if err != nil {
				return err
			}
			wishes, formats, err := readPlan(a[0])
			if err != nil {
				return err
			}
			d, err := openDiskAt(a[1], c.Int("sector-size"), c.Bool("dry-run"))
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.close()) }()
			entries, err := d.table.Carve(wishes, newGUID)
			if err != nil {
				return err
			}
			if p := newPage(c); !c.Bool("json") {
				p.line("before")
				p.strip(*d.facts)
				p.line("after")
				p.strip(carved(*d.facts, entries))
			}
			ch := change{action: "layout carve"}
			kept := map[int]bool{}
			for _, w := range wishes {
				kept[w.Keep] = true
			}
			ch.loses = d.losses(kept)
			var want []layout.Span
			for _, e := range entries {
				want = append(want, e.Span)
				if bits := formats[e.Name]; bits > 0 {
					more, err := fatWrites(e.Span, d.table.SectorSize, e.Name, bits)
					if err != nil {
						return err
					}
					ch.writes = append(ch.writes, more...)
				}
			}
			table, err := d.table.Rebuild(entries, newGUID)
			if err != nil {
				return err
			}
			ch.writes, ch.prove = append(ch.writes, table...), soundTable(want)
			return d.make(ctx, c, ch)
		},
	}
}

// fatBits are the file systems that a plan can ask for.
var fatBits = map[string]int{"fat12": 12, "fat16": 16, "fat32": 32}

func readPlan(path string) ([]layout.Wish, map[string]int, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, nil, err
	}
	var plan carvePlan
	if err := yaml.UnmarshalWithOptions(text, &plan, yaml.Strict()); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	if len(plan.Partitions) == 0 {
		return nil, nil, fmt.Errorf("%s: lists no partitions", path)
	}
	var wishes []layout.Wish
	formats := map[string]int{}
	for i, p := range plan.Partitions {
		w := layout.Wish{Name: p.Name, Share: p.Share, Keep: p.Keep}
		var ok bool
		if w.Type, ok = layout.TypeByName(p.Type); !ok && (p.Keep == 0 || p.Type != "") {
			return nil, nil, fmt.Errorf("%s: partition %d: no type is called %q; known are %v", path, i+1, p.Type, layout.TypeNames())
		}
		for text, into := range map[string]*int64{p.Min: &w.Min, p.Max: &w.Max} {
			if text != "" {
				if *into, err = knowledge.ParseBytes(text); err != nil {
					return nil, nil, fmt.Errorf("%s: partition %d: %w", path, i+1, err)
				}
			}
		}
		switch {
		case p.Keep == 0 && p.Min == "" && p.Share == 0:
			return nil, nil, fmt.Errorf("%s: partition %d: needs min, share or keep", path, i+1)
		case w.Max > 0 && w.Max < w.Min || p.Share < 0:
			return nil, nil, fmt.Errorf("%s: partition %d: max is less than min, or share less than 0", path, i+1)
		case p.Format != "" && (fatBits[p.Format] == 0 || p.Keep != 0):
			return nil, nil, fmt.Errorf("%s: partition %d: format can be fat12, fat16 or fat32, and not for one that is kept", path, i+1)
		}
		if _, twice := formats[p.Name]; twice {
			return nil, nil, fmt.Errorf("%s: partition %d: another is called %q too", path, i+1, p.Name)
		}
		formats[p.Name] = fatBits[p.Format]
		wishes = append(wishes, w)
	}
	return wishes, formats, nil
}
