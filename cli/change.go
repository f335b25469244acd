package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/host"
)

// changeFlags belong to every command that changes a disk.
func changeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "dry-run", Usage: "say what would be written, and write nothing"},
		&cli.StringFlag{Name: "journal", Usage: "`FILE` for the journal; beside an image by default, in the current folder for a device"},
		sectorFlag(), jsonFlag(),
	}
}

// A change is what a command wants to do to a disk.
type change struct {
	action string // as the journal names it
	writes []block.Write
	notes  []string
	// loses says what is lost; a change that loses something runs only when
	// the disk is named by --confirm.
	loses []string
	// prove looks at the disk afterwards.
	prove func(block.Device) error
}

// A disk is one that a command works on.
type openDisk struct {
	path  string
	dev   *block.Image
	table *layout.Table
	facts *bag.Disk
}

func (d *openDisk) close() error { return d.dev.Close() }

func openForChange(c *cli.Command) (*openDisk, error) {
	a, err := args(c, "IMAGE")
	if err != nil {
		return nil, err
	}
	return openDiskAt(a[0], c.Int("sector-size"), c.Bool("dry-run"))
}

func openDiskAt(path string, sectorSize int, readOnly bool) (_ *openDisk, err error) {
	d := &openDisk{path: path}
	if d.dev, err = host.OpenDisk(path, sectorSize, readOnly); err != nil {
		return nil, err
	}
	if d.table, err = layout.Read(d.dev); err == nil {
		d.facts, _, err = host.DescribeDisk(d.dev, "disk0", path, platforms())
	}
	if err != nil {
		_ = d.dev.Close() // it was only read
		return nil, err
	}
	return d, nil
}

func (d *openDisk) contents() map[int]layout.Content {
	m := map[int]layout.Content{}
	for _, p := range d.facts.Partitions {
		m[p.Number] = layout.Content{Kind: p.Content.Kind, Label: p.Content.Label, Size: p.Content.Size, Free: p.Content.Free}
	}
	return m
}

func (d *openDisk) systems() map[int]bool {
	m := map[int]bool{}
	for _, p := range d.facts.Partitions {
		if p.System != nil {
			m[p.Number] = true
		}
	}
	return m
}

// losses lists what lies on the disk now.
func (d *openDisk) losses(kept map[int]bool) []string {
	var list []string
	for _, p := range d.facts.Partitions {
		if kept[p.Number] {
			continue
		}
		what := p.Content.Kind
		if p.System != nil {
			what = p.System.Name + " on " + what
		}
		if what == "" {
			what = "nothing that is known"
		}
		list = append(list, fmt.Sprintf("partition %d, %s: %s %s", p.Number, size(p.Size), what, p.Content.Label))
	}
	return list
}

// make carries the change out through a journal, proves it, and takes it back
// if it cannot be proven.
func (d *openDisk) make(ctx context.Context, c *cli.Command, ch change) (err error) {
	name := filepath.Base(d.path)
	p := newPage(c)
	if !c.Bool("json") {
		for _, n := range ch.notes {
			p.hang("  "+p.paint(text.Colors{text.FgYellow}, markOdd)+" ", n)
		}
		for _, w := range ch.writes {
			p.line("  write %10s at byte %-14d %s", size(int64(len(w.Data))), w.Off, w.What)
		}
	}
	if len(ch.loses) > 0 && c.String("confirm") != name {
		for _, l := range ch.loses {
			p.line("  %s lost: %s", p.bad(markBroken), l)
		}
		if !c.Bool("dry-run") {
			return fmt.Errorf("%s: this destroys what is listed: give --confirm %s to go on; nothing was changed", ch.action, name)
		}
	}
	if c.Bool("dry-run") {
		_, err := put(c, planned(ch, ""))
		return err
	}
	journal := c.String("journal")
	if journal == "" {
		if journal, err = journalPath(d.path, strings.TrimSuffix(name, filepath.Ext(name))); err != nil {
			return err
		}
	}
	j, err := block.CreateJournal(journal, block.Head{Action: ch.action, Machine: name, Target: d.table.Target(absolute(d.path)), Started: time.Now().UTC()})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	if err := j.Apply(ctx, d.dev, ch.writes); err != nil && j.State() == block.Noted {
		return fmt.Errorf("%s: could not be noted: %w; nothing was changed: give the journal a place with room by --journal", ch.action, err)
	} else if err != nil {
		return fmt.Errorf("%s: %w: what was written can be taken back: diorthos undo %s", ch.action, err, journal)
	}
	if ch.prove != nil {
		if err := ch.prove(d.dev); err != nil {
			if failed := j.Undo(context.WithoutCancel(ctx), d.dev); failed != nil {
				return errors.Join(err, failed)
			}
			return fmt.Errorf("%s: not proven, and taken back: %w", ch.action, err)
		}
	}
	if done, err := put(c, planned(ch, journal)); done {
		return err
	}
	p.line("%s done and proven; take it back with: diorthos undo %s", p.good(markGood), relative(journal))
	return nil
}

type plannedChange struct {
	Action  string         `json:"action"`
	Writes  []plannedWrite `json:"writes"`
	Notes   []string       `json:"notes"`
	Loses   []string       `json:"loses"`
	Journal string         `json:"journal,omitempty"`
}

type plannedWrite struct {
	What   string `json:"what"`
	Offset int64  `json:"offset"`
	Length int    `json:"length"`
}

func planned(ch change, journal string) plannedChange {
	out := plannedChange{Action: ch.action, Writes: []plannedWrite{}, Notes: append([]string{}, ch.notes...), Loses: append([]string{}, ch.loses...), Journal: journal}
	for _, w := range ch.writes {
		out.Writes = append(out.Writes, plannedWrite{w.What, w.Off, len(w.Data)})
	}
	return out
}

// soundTable proves that a disk has a table with nothing broken in it, and
// with the partitions that are expected.
func soundTable(want []layout.Span) func(block.Device) error {
	return func(dev block.Device) error {
		t, err := layout.Read(dev)
		if err != nil {
			return err
		}
		for _, p := range t.Check() {
			if p.Weight == layout.Broken && p.ID != "boot-code-missing" {
				return fmt.Errorf("%s: %s", p.Part, p.Text)
			}
		}
		got := t.Partitions()
		if want != nil && len(got) != len(want) {
			return fmt.Errorf("the disk has %d partitions, %d were wanted", len(got), len(want))
		}
		for i, s := range want {
			if got[i].Span != s {
				return fmt.Errorf("partition %d lies from %d to %d, wanted %d to %d", got[i].Number, got[i].Span.First, got[i].Span.Last, s.First, s.Last)
			}
		}
		return nil
	}
}
