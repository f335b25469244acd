package action

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/units"
)

// diskActions lay a disk's table out anew.
var diskActions = map[ID]Action{
	"layout.restyle": {
		Parameters: []Parameter{
			{Name: "to", Says: "gpt or mbr; empty for what the machine's firmware starts from"},
			{Name: "firmware", Says: "uefi or bios, to make room for the loader; empty for the machine's own"},
		},
		fits: holdsAnySystem, do: restyle, prove: proveRestyled,
	},
	"layout.wipe": {
		Destroys:   true,
		Parameters: []Parameter{{Name: "to", Required: true, Says: "gpt or mbr"}},
		fits:       anyDisk, do: wipe, prove: proveAsWanted,
		loses: func(c *Context) ([]string, error) { return c.lost(nil) },
	},
	"layout.rescue": {fits: anyDisk, do: rescue, prove: proveAsWanted},
	"layout.allocate": {
		Destroys:   true,
		Parameters: []Parameter{{Name: "plan", Required: true, Says: "the wanted partitions, as YAML"}},
		fits:       anyDisk, do: allocate, prove: proveAsWanted, loses: lostByPlan,
	},
}

func anyDisk(*bag.Facts, bag.Disk) bool { return true }

// nothingToMend tells a table that is as it should be from one that cannot be
// mended.
func nothingToMend(err error) error {
	if errors.Is(err, layout.ErrNothingToMend) {
		return fmt.Errorf("%w: %w", ErrNothing, err)
	}
	return err
}

// restyle gives the disk the style that the machine's firmware starts from. All
// partitions stay where they are; a place for the loader is made.
func restyle(_ context.Context, c *Context) (Effect, error) {
	mode, err := firmware.ParseMode(c.params["firmware"])
	if err != nil {
		return Effect{}, err
	}
	to := layout.Style(c.params["to"])
	if to == "" { // as the machine needs it
		if mode == "" {
			mode = c.mode()
		}
		to = map[firmware.Mode]layout.Style{firmware.UEFI: layout.StyleGPT, firmware.BIOS: layout.StyleMBR}[mode]
	}
	e := Effect{Guard: []Check{{What: "the wanted style is known", OK: to != "", Saw: string(to)}}}
	if to == "" {
		e.Guard[0].Saw = "the mode of the machine's firmware is not known: say it"
		return e, nil
	}
	systems, err := c.holding()
	if err != nil {
		return e, err
	}
	r := layout.Restyling{To: to, Firmware: mode, NewGUID: newGUID, DiskID: randomID(), Systems: systems}
	if r.BootVolume, err = c.fatBootVolume(); err != nil {
		return e, err
	}
	plan, err := c.table.Restyle(r)
	if err != nil {
		return e, nothingToMend(err)
	}
	check, err := c.overwrites(plan.Writes)
	if err != nil {
		return e, err
	}
	e.Notes = plan.Notes
	switch {
	case check.OK:
		e.Guard = append(e.Guard, check)
	case mode == firmware.UEFI:
		e.Notes = append(e.Notes, check.Saw+"; it is written over: the disk no longer starts by BIOS")
	default:
		check.Saw += "; say that the firmware is UEFI if the disk need not start by BIOS any more"
		e.Guard = append(e.Guard, check)
		return e, nil
	}
	e.Did = []string{fmt.Sprintf("the table is %s, every partition where it was", to)}
	if err := c.draft.Put(plan.Writes); err != nil || plan.Made == nil {
		return e, err
	}
	e.Did = append(e.Did, fmt.Sprintf("partition %d is made: %s, %.1f MiB", plan.Made.Index, plan.Made.Name,
		float64(plan.Made.Sectors())*float64(c.table.SectorSize)/(1<<20)))
	if plan.Made.Type != layout.TypeESP {
		return e, nil
	}
	return e, c.format(plan.Made.Span, "ESP", 32)
}

// fatBootVolume is the number of a partition with FAT that holds a loader, which
// can serve as an EFI system partition; 0 when there is none.
func (c *Context) fatBootVolume() (int, error) {
	d, err := c.described()
	if err != nil {
		return 0, err
	}
	for _, p := range d.Partitions {
		if p.Role == layout.RoleBoot && isFAT(p.Content.Kind) && p.System == nil {
			return p.Number, nil
		}
	}
	return 0, nil
}

// format drafts a FAT file system.
func (c *Context) format(s layout.Span, label string, bits int) error {
	size := int64(c.table.SectorSize)
	part := draftSection(c.draft, int64(s.First)*size, int64(s.Sectors())*size)
	part.For("FAT file system " + label)
	return fat.Format(part, part.Size(), fat.Options{Label: label, Serial: randomID(), Bits: bits})
}

func proveRestyled(ctx context.Context, p Proof) []Check {
	before, after := p.Before.table, p.After.table
	same := Check{
		What: "every partition is where it was",
		OK:   true,
		Saw:  fmt.Sprintf("%d of them", len(before.Partitions())),
	}
	for _, was := range before.Partitions() {
		if was.Type == "BIOS boot" && after.Style() == layout.StyleMBR {
			continue // an MBR has no use for it
		}
		if !slices.ContainsFunc(after.Partitions(), func(q layout.Partition) bool { return q.Span == was.Span }) {
			same.OK, same.Saw = false, fmt.Sprintf("partition %d is not", was.Number)
		}
	}
	return append([]Check{same}, proveAsWanted(ctx, p)...)
}

// proveAsWanted holds the table against the wanted one, and looks whether all of
// it is sound.
func proveAsWanted(_ context.Context, p Proof) []Check {
	want, got := p.Wanted.table.Partitions(), p.After.table.Partitions()
	spans := Check{What: "the partitions are those that were wanted", OK: len(want) == len(got),
		Saw: fmt.Sprintf("%d of %d", len(got), len(want))}
	for i := range min(len(want), len(got)) {
		if want[i].Span != got[i].Span {
			spans.OK, spans.Saw = false, fmt.Sprintf("partition %d lies from %d to %d, wanted %d to %d",
				got[i].Number, got[i].Span.First, got[i].Span.Last, want[i].Span.First, want[i].Span.Last)
		}
	}
	broken := Check{What: "nothing in the new table is broken", OK: true, Saw: string(p.After.table.Style())}
	for _, q := range p.After.table.Check() {
		if q.Severity == layout.Broken {
			broken.OK, broken.Saw = false, q.Part+": "+q.Text
		}
	}
	return []Check{spans, broken}
}

// wipe gives the disk an empty table.
func wipe(_ context.Context, c *Context) (Effect, error) {
	var e Effect
	to := layout.Style(c.params["to"])
	switch to {
	case layout.StyleGPT:
		writes, err := c.table.Rebuild(nil, newGUID)
		if err != nil {
			return e, err
		}
		e.Did = []string{"the disk has an empty GPT"}
		return e, c.draft.Put(writes)
	case layout.StyleMBR:
		e.Did = []string{"the disk has an empty MBR"}
		return e, c.draft.Put(c.table.EmptyMBR(randomID()))
	}
	return e, fmt.Errorf("parameter to %q: want gpt or mbr", to)
}

// rescue writes a table of what a scan of the whole disk finds.
func rescue(ctx context.Context, c *Context) (Effect, error) {
	found, unreadable, err := layout.Scan(ctx, c.draft, func(n int64) { c.progress("looking", n, c.table.Size) })
	if err != nil {
		return Effect{}, err
	}
	entries := layout.Propose(found, c.table.SectorSize)
	e := Effect{Guard: []Check{{What: "something was found that a table can describe", OK: len(entries) > 0,
		Saw: units.Count(len(entries), "partition")}}}
	if unreadable > 0 {
		e.Notes = append(e.Notes, fmt.Sprintf("%d bytes could not be read: save what is needed first", unreadable))
	}
	if len(entries) == 0 {
		return e, nil
	}
	writes, check, why, err := c.rebuilt(entries)
	if err != nil {
		return e, err
	}
	if why != "" {
		e.Notes = append(e.Notes, "an MBR is written, and no GPT: "+why)
	}
	e.Guard = append(e.Guard, check)
	if !check.OK {
		return e, nil
	}
	for _, p := range entries {
		e.Did = append(e.Did, fmt.Sprintf("partition %d: %s, from sector %d to %d", p.Index, p.Name, p.First, p.Last))
	}
	return e, c.draft.Put(writes)
}

// rebuilt plans a table of what was found: a GPT, or an MBR, which leaves what lies behind it
// as it is, where one stands and nothing was found that UEFI starts from, or a GPT would lie
// over something or has no room. Why says so.
func (c *Context) rebuilt(entries []layout.Entry) (writes []block.Write, check Check, why string, err error) {
	forUEFI := slices.ContainsFunc(entries, func(e layout.Entry) bool { return e.Type == layout.TypeESP })
	if c.table.MBR.Signed && !c.table.MBR.Protective() && !forUEFI {
		why = "that is what stands on the disk"
	} else {
		writes, err = c.table.Rebuild(entries, newGUID)
		switch {
		case errors.Is(err, layout.ErrNoRoom):
			why = err.Error()
		case err != nil:
			return nil, check, "", err
		default:
			if check, err = c.overwrites(writes); err != nil || check.OK {
				return writes, check, "", err
			}
			why = check.Saw
		}
	}
	if writes, err = c.table.RebuildMBR(entries, randomID()); err != nil {
		return nil, check, why, err
	}
	check, err = c.overwrites(writes)
	return writes, check, why, err
}

// allocate lays the disk out as a plan wants it.
func allocate(_ context.Context, c *Context) (Effect, error) {
	plan, err := ReadPlan([]byte(c.params["plan"]))
	if err != nil {
		return Effect{}, err
	}
	entries, err := c.table.Allocate(plan.Requests, newGUID)
	if err != nil {
		return Effect{}, err
	}
	var e Effect
	for _, p := range entries {
		e.Did = append(e.Did, fmt.Sprintf("partition %d: %s, from sector %d to %d", p.Index, p.Name, p.First, p.Last))
		if bits := plan.FATBits[p.Name]; bits > 0 {
			if err := c.format(p.Span, p.Name, bits); err != nil {
				return e, err
			}
		}
	}
	table, err := c.table.Rebuild(entries, newGUID)
	if err != nil {
		return e, err
	}
	return e, c.draft.Put(table)
}

func lostByPlan(c *Context) ([]string, error) {
	plan, err := ReadPlan([]byte(c.params["plan"]))
	if err != nil {
		return nil, err
	}
	kept := map[int]bool{}
	for _, r := range plan.Requests {
		kept[r.Keep] = true
	}
	return c.lost(kept)
}
