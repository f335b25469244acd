package action

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"reflect"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/units"
)

// tableActions put partition tables right, and lose nothing.
var tableActions = map[ID]Action{
	"layout.mend-primary-gpt": {
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return d.Backup.State == layout.CopySound && d.Primary.State != layout.CopySound
		},
		do:    planned(guardBackup, func(_ *Context, t *layout.Table) ([]block.Write, error) { return t.MendPrimary() }),
		prove: tables(provePrimary),
	},
	"layout.mend-gpt": {
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return d.Style == layout.StyleGPT && (d.Primary.State == layout.CopySound || d.Backup.State == layout.CopySound) &&
				slices.ContainsFunc(d.Problems, func(p layout.Problem) bool { return layout.Mendable(p.ID) })
		},
		do: planned(guardEither, func(c *Context, t *layout.Table) ([]block.Write, error) {
			contents, err := c.contents()
			if err != nil {
				return nil, err
			}
			return t.MendAll(layout.Mending{NewGUID: newGUID, Contents: contents})
		}),
		prove: tables(proveWhole),
	},
	"layout.sign-mbr": {
		fits: func(_ *bag.Facts, d bag.Disk) bool { return d.Style == layout.StyleMBR && !d.MBR.Signed },
		do: planned(func(t *layout.Table) []Check {
			return []Check{{
				What: "the entries of sector 0 make up a table", OK: t.Style() == layout.StyleMBR,
				Saw: units.Count(len(t.MBR.Entries), "partition"),
			}}
		}, func(_ *Context, t *layout.Table) ([]block.Write, error) { return t.SignMBR() }),
		prove: tables(func(p Proof) []Check {
			return []Check{noWorse(p, func(p layout.Problem) bool { return p.ID == "mbr-not-signed" })}
		}),
	},
	"layout.type-esp": {fits: holdsAnySystem, do: typeESP, prove: proveESP},
	"layout.activate": {
		Parameters: []Parameter{{Name: "partition", Says: "number of the partition; empty for the one with the loader"}},
		fits:       holdsSystem, do: activate, prove: proveActive,
	},
}

// newGUID is a random one (RFC 9562, version 4).
func newGUID() layout.GUID { return layout.RandomGUID(rand.Reader) }

func randomID() uint32 {
	var b [4]byte
	_, _ = rand.Read(b[:]) // never fails
	return binary.LittleEndian.Uint32(b[:])
}

// planned makes an action of a guard and a plan over the table.
func planned(
	guard func(*layout.Table) []Check, plan func(*Context, *layout.Table) ([]block.Write, error),
) func(context.Context, *Context) (Effect, error) {
	return func(_ context.Context, c *Context) (Effect, error) {
		e := Effect{Guard: guard(c.table)}
		if FirstFailed(e.Guard) != nil {
			return e, nil
		}
		writes, err := plan(c, c.table)
		if err != nil {
			return e, nothingToMend(err)
		}
		check, err := c.overwrites(writes)
		if err != nil {
			return e, err
		}
		e.Guard = append(e.Guard, check)
		if !check.OK {
			return e, nil
		}
		return e, c.draft.Put(writes)
	}
}

func tables(prove func(p Proof) []Check) func(context.Context, Proof) []Check {
	return func(_ context.Context, p Proof) []Check { return prove(p) }
}

// guardEither wants a copy that can be trusted.
func guardEither(t *layout.Table) []Check {
	c := t.Trusted()
	if c == nil {
		return []Check{{What: "one copy of the GPT is sound", Saw: "neither is"}}
	}
	saw := fmt.Sprintf("the %s at LBA %d, %d partitions", c.Name(), c.LBA, len(c.Entries))
	return []Check{{What: "one copy of the GPT is sound", OK: true, Saw: saw}}
}

// problems is what the full check finds, with all that is known around the table.
func (c *Context) problems() ([]layout.Problem, error) {
	d, err := c.described()
	if err != nil {
		return nil, err
	}
	return d.Problems, nil
}

// noWorse proves, with the check that finds the trouble, that nothing is left
// broken that may not be, and that nothing is broken that was not before.
func noWorse(p Proof, mayNotStay func(layout.Problem) bool) Check {
	c := Check{What: "the disk's check finds nothing broken that this was for, and nothing new"}
	before, err := p.Before.problems()
	if err != nil { // what lay there could not be looked at: then all counts as new
		before = nil
	}
	after, err := p.After.problems()
	if err != nil {
		c.Saw = err.Error()
		return c
	}
	left := 0
	for _, is := range after {
		if is.Severity != layout.Broken {
			continue
		}
		left++
		was := slices.ContainsFunc(before, func(b layout.Problem) bool { return b.ID == is.ID && b.Part == is.Part })
		if mayNotStay(is) || !was {
			c.Saw = is.Part + ": " + is.Text
			return c
		}
	}
	c.OK, c.Saw = true, "both copies, sector 0, every partition and what lies on it were looked at"
	if left > 0 {
		c.Saw += fmt.Sprintf("; %d of another sort stay as they were", left)
	}
	return c
}

func proveWhole(p Proof) []Check {
	after := p.After.table
	end := Check{What: "the backup stands at the end of the disk", OK: after.Backup.LBA == after.Sectors()-1,
		Saw: fmt.Sprintf("LBA %d of %d", after.Backup.LBA, after.Sectors())}
	was, is := p.Wanted.table.Partitions(), after.Partitions()
	same := Check{What: "the partitions are those that were wanted", OK: reflect.DeepEqual(was, is),
		Saw: fmt.Sprintf("%d of %d", len(is), len(was))}
	return []Check{noWorse(p, func(p layout.Problem) bool { return layout.Mendable(p.ID) }), end, same}
}

func guardBackup(t *layout.Table) []Check {
	b := &t.Backup
	saw := fmt.Sprintf("LBA %d: header CRC 0x%08x, entries CRC 0x%08x, both as computed; %d partitions",
		b.LBA, b.Header.CRC, b.Header.EntryCRC, len(b.Entries))
	if !b.Sound() {
		saw = "no header found"
		if len(b.Problems) > 0 {
			saw = b.Problems[0].Text
		}
	}
	return []Check{{What: "the backup GPT is sound", OK: b.Sound(), Saw: saw}}
}

func provePrimary(proof Proof) []Check {
	before, after := proof.Before.table, proof.After.table
	p, b := &after.Primary, &after.Backup
	crcs := Check{What: "every CRC is right", OK: p.Sound() && b.Sound(),
		Saw: fmt.Sprintf("primary header 0x%08x, computed 0x%08x; backup header 0x%08x, computed 0x%08x",
			p.Header.CRC, p.Computed.Header, b.Header.CRC, b.Computed.Header)}
	agree := Check{What: "both copies agree",
		OK:  p.Sound() && b.Sound() && p.Header.EntryCRC == b.Header.EntryCRC && p.Header.DiskGUID == b.Header.DiskGUID,
		Saw: fmt.Sprintf("entries CRC 0x%08x and 0x%08x", p.Header.EntryCRC, b.Header.EntryCRC)}
	same := Check{What: "the partitions are those of the backup", OK: reflect.DeepEqual(before.Backup.Entries, p.Entries),
		Saw: fmt.Sprintf("%d of %d partitions", len(p.Entries), len(before.Backup.Entries))}
	mbr := Check{What: "the protective MBR is there", OK: after.MBR.Protective(),
		Saw: fmt.Sprintf("entries in sector 0: %d", len(after.MBR.Entries))}
	return []Check{crcs, agree, same, mbr}
}

// toActivate is the partition that is to be active, with why it is that one.
func toActivate(c *Context) (int, Check) {
	check := Check{What: "the partition holds a loader or a system"}
	number, err := c.number("partition")
	if err != nil {
		check.Saw = err.Error()
		return 0, check
	}
	if number == 0 {
		sys, found := able[system.BootVolume](c)
		if !found.OK {
			return 0, found
		}
		number = sys.BootPartition()
		check.OK, check.Saw = number > 0, fmt.Sprintf("partition %d, by what lies on it", number)
		return number, check
	}
	d, err := c.described()
	if err != nil {
		check.Saw = err.Error()
		return 0, check
	}
	i := slices.IndexFunc(d.Partitions, func(p bag.Partition) bool { return p.Number == number })
	if i < 0 {
		check.Saw = fmt.Sprintf("there is no partition %d", number)
		return 0, check
	}
	p := d.Partitions[i]
	switch {
	case p.System != nil:
		check.OK, check.Saw = true, fmt.Sprintf("partition %d: %s", number, p.System.Name)
	case p.Role == layout.RoleBoot || p.Role == layout.RoleESP:
		check.OK, check.Saw = true, fmt.Sprintf("partition %d: the boot volume", number)
	case p.Content.Kind == "":
		check.Saw = fmt.Sprintf("partition %d holds nothing that could be started", number)
	default:
		check.Saw = fmt.Sprintf("partition %d holds %s %s, and neither a system nor a loader that is known",
			number, p.Content.Kind, p.Content.Label)
	}
	return number, check
}

// activate flags the partition active from which the system is started, and no
// other.
// espByContent is the partition that holds programs for UEFI firmware, where none is of the
// type that says so.
func espByContent(c *Context) (int, Check) {
	check := Check{What: "one partition holds programs for UEFI, and none is of the type for them"}
	var found []int
	for _, p := range c.table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() {
			check.Saw = fmt.Sprintf("partition %d is of that type", p.Number)
			return 0, check
		}
		part := block.NewReadRange(c.draft, p.Off, p.Length)
		if volume := system.Volume(part, layout.Recognise(part)); volume != nil && system.HoldsEFI(volume) {
			found = append(found, p.Number)
		}
	}
	check.Saw, check.OK = fmt.Sprint(found), len(found) == 1 && c.table.Style() == layout.StyleGPT
	if !check.OK {
		return 0, check
	}
	return found[0], check
}

func typeESP(_ context.Context, c *Context) (Effect, error) {
	number, check := espByContent(c)
	e := Effect{Guard: []Check{check}}
	if !check.OK {
		return e, nil
	}
	writes, err := c.table.Retype(number, layout.TypeESP)
	if err != nil {
		return e, nothingToMend(err)
	}
	e.Did = []string{fmt.Sprintf("partition %d is of the type EFI system", number)}
	return e, c.draft.Put(writes)
}

func proveESP(_ context.Context, p Proof) []Check {
	var list []int
	for _, part := range p.After.table.Partitions() {
		if part.TypeCode == layout.TypeESP.String() {
			list = append(list, part.Number)
		}
	}
	return []Check{
		{What: "one partition is an EFI system partition", OK: len(list) == 1, Saw: fmt.Sprint(list)},
		noWorse(p, func(p layout.Problem) bool { return p.Severity == layout.Broken }),
	}
}

func activate(_ context.Context, c *Context) (Effect, error) {
	number, check := toActivate(c)
	e := Effect{Guard: []Check{check}}
	if !check.OK {
		return e, nil
	}
	writes, err := c.table.Activate(number)
	if err != nil {
		return e, nothingToMend(err)
	}
	e.Did = []string{fmt.Sprintf("partition %d is active, no other", number)}
	return e, c.draft.Put(writes)
}

func proveActive(_ context.Context, p Proof) []Check {
	var active []int
	for _, part := range p.After.table.Partitions() {
		if part.Active {
			active = append(active, part.Number)
		}
	}
	want, still := toActivate(p.After)
	one := Check{What: "one partition is active, the one with the loader or the system",
		OK: slices.Equal(active, []int{want}), Saw: fmt.Sprint(active)}
	return []Check{still, one}
}

// holdsAnySystem fits the disk on which a system lies.
func holdsAnySystem(_ *bag.Facts, d bag.Disk) bool {
	return slices.ContainsFunc(d.Places(), func(p bag.Partition) bool { return p.System != nil })
}
