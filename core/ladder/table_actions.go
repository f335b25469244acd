package ladder

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/layout"
)

// tableActions change partition tables and file systems.
var tableActions = map[string]action{
	"layout.mend-primary-gpt": {
		fits:  func(_ *bag.Facts, d bag.Disk) bool { return d.Backup.State == "sound" && d.Primary.State != "sound" },
		do:    planned(guardBackup, (*layout.Table).MendPrimary),
		prove: tables(provePrimary),
	},
	"layout.mend-gpt": {
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return d.Style == "gpt" && (d.Primary.State == "sound" || d.Backup.State == "sound") && slices.ContainsFunc(d.Problems, func(p layout.Problem) bool { return mendable[p.ID] })
		},
		do:    planned(guardEither, func(t *layout.Table) ([]block.Write, error) { return t.MendAll(layout.Mending{}) }),
		prove: tables(proveWhole),
	},
	"layout.activate": {fits: holdsSystem, do: activate, prove: proveActive},
	"layout.restyle":  {fits: holdsAnySystem, do: restyle, prove: proveRestyled},
	"volume.mend": {
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return slices.ContainsFunc(d.Partitions, func(p bag.Partition) bool { return isFAT(p.Content.Kind) || p.Content.Kind == "" })
		},
		do: mendVolumes, prove: proveVolumes,
	},
}

// planned makes an action of a guard and a plan over the table.
func planned(guard func(*layout.Table) []Check, plan func(*layout.Table) ([]block.Write, error)) func(context.Context, *ground) (effect, error) {
	return func(_ context.Context, g *ground) (effect, error) {
		e := effect{guard: guard(g.table)}
		if firstFailed(e.guard) != nil {
			return e, nil
		}
		writes, err := plan(g.table)
		if err != nil {
			return e, err
		}
		return e, g.draft.Put(writes)
	}
}

func tables(prove func(before, after *layout.Table) []Check) func(context.Context, *ground, *ground) []Check {
	return func(_ context.Context, before, after *ground) []Check { return prove(before.table, after.table) }
}

// mendable are the problems that writing both copies anew puts right.
var mendable = map[string]bool{"gpt-header-crc": true, "gpt-entries-crc": true, "gpt-signature-missing": true, "gpt-own-address": true, "gpt-header-size": true, "gpt-entries-outside": true,
	"backup-not-at-end": true, "usable-range-wrong": true, "copies-disagree": true, "disk-cut-off": true, "mbr-signature-missing": true, "protective-entry-missing": true}

// guardEither wants a copy that can be trusted.
func guardEither(t *layout.Table) []Check {
	c := t.Trusted()
	if c == nil {
		return []Check{{What: "one copy of the GPT is sound", Saw: "neither is"}}
	}
	return []Check{{What: "one copy of the GPT is sound", OK: true, Saw: fmt.Sprintf("the %s at LBA %d, %d partitions", c.Name(), c.LBA, len(c.Entries))}}
}

// proveWhole looks whether nothing is broken any more and the partitions are
// the same.
func proveWhole(before, after *layout.Table) []Check {
	broken := Check{What: "nothing is broken", OK: true, Saw: "both copies, the protective MBR and every partition were looked at"}
	for _, p := range after.Check() {
		if p.Weight == layout.Broken {
			broken.OK, broken.Saw = false, p.Part+": "+p.Text
		}
	}
	end := Check{What: "the backup stands at the end of the disk", OK: after.Backup.LBA == after.Sectors()-1, Saw: fmt.Sprintf("LBA %d of %d", after.Backup.LBA, after.Sectors())}
	was, is := before.Partitions(), after.Partitions()
	same := Check{What: "the partitions are the same", OK: reflect.DeepEqual(was, is), Saw: fmt.Sprintf("%d of %d", len(is), len(was))}
	return []Check{broken, end, same}
}

func guardBackup(t *layout.Table) []Check {
	b := &t.Backup
	saw := fmt.Sprintf("LBA %d: header CRC 0x%08x, entries CRC 0x%08x, both as computed; %d partitions", b.LBA, b.Header.CRC, b.Header.EntryCRC, len(b.Entries))
	if !b.Sound() {
		saw = "no header found"
		if len(b.Problems) > 0 {
			saw = b.Problems[0].Text
		}
	}
	return []Check{{What: "the backup GPT is sound", OK: b.Sound(), Saw: saw}}
}

func provePrimary(before, after *layout.Table) []Check {
	p, b := &after.Primary, &after.Backup
	crcs := Check{What: "every CRC is right", OK: p.Sound() && b.Sound(),
		Saw: fmt.Sprintf("primary header 0x%08x, computed 0x%08x; backup header 0x%08x, computed 0x%08x", p.Header.CRC, p.Computed.Header, b.Header.CRC, b.Computed.Header)}
	agree := Check{What: "both copies agree", OK: p.Sound() && b.Sound() && p.Header.EntryCRC == b.Header.EntryCRC && p.Header.DiskGUID == b.Header.DiskGUID,
		Saw: fmt.Sprintf("entries CRC 0x%08x and 0x%08x", p.Header.EntryCRC, b.Header.EntryCRC)}
	same := Check{What: "the partitions are those of the backup", OK: reflect.DeepEqual(before.Backup.Entries, p.Entries),
		Saw: fmt.Sprintf("%d of %d partitions", len(p.Entries), len(before.Backup.Entries))}
	mbr := Check{What: "the protective MBR is there", OK: after.MBR.Protective(), Saw: fmt.Sprintf("entries in sector 0: %d", len(after.MBR.Entries))}
	return []Check{crcs, agree, same, mbr}
}

// A bootFinder knows from which partition its system is started.
type bootFinder interface{ BootPartition() int }

// activate flags the partition active from which the system is started, and no
// other.
func activate(_ context.Context, g *ground) (effect, error) {
	sys, ok := g.system.(bootFinder)
	number := 0
	if ok {
		number = sys.BootPartition()
	}
	e := effect{guard: []Check{{What: "the partition with the loader is known", OK: number > 0, Saw: fmt.Sprintf("partition %d", number)}}}
	if number == 0 {
		return e, nil
	}
	writes, err := g.table.Activate(number)
	if err != nil {
		return e, err
	}
	e.did = []string{fmt.Sprintf("partition %d is active, no other", number)}
	return e, g.draft.Put(writes)
}

func proveActive(_ context.Context, before, after *ground) []Check {
	var active []int
	for _, p := range after.table.Partitions() {
		if p.Active {
			active = append(active, p.Number)
		}
	}
	want := 0
	if sys, ok := before.system.(bootFinder); ok {
		want = sys.BootPartition()
	}
	return []Check{{What: "one partition is active, the one with the loader", OK: slices.Equal(active, []int{want}), Saw: fmt.Sprint(active)}}
}

func isFAT(kind string) bool { return kind == "fat12" || kind == "fat16" || kind == "fat32" }

// eachFAT calls f for each FAT file system of the disk.
func (g *ground) eachFAT(f func(layout.Partition, *fat.Report) error) error {
	for _, p := range g.table.Partitions() {
		part := block.NewPart(g.draft, p.Off, p.Length)
		kind := layout.Recognise(part).Kind
		if kind == "" {
			if err := g.extFrom(p, part, f); err != nil {
				return err
			}
		}
		if !isFAT(kind) && !hasBackupBoot(part) {
			continue
		}
		report, err := fat.Check(part)
		if err != nil {
			continue // not one that can be mended
		}
		if err := f(p, report); err != nil {
			return err
		}
	}
	return nil
}

// extFrom calls f for a partition that holds an ext file system of which the
// first superblock is damaged and another one sound.
func (g *ground) extFrom(p layout.Partition, part *block.Part, f func(layout.Partition, *fat.Report) error) error {
	b, err := ext.FindBackup(part, p.Length)
	if err != nil {
		return nil //nolint:nilerr // it is no ext file system
	}
	writes, err := b.Restore(part)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("the first superblock is damaged; the one of group %d is sound", b.Group)
	return f(p, &fat.Report{Findings: []fat.Finding{{ID: "superblock-damaged", Text: text, Do: "restore it and the group descriptors from there"}}, Writes: writes})
}

// hasBackupBoot reports whether a FAT can be read by its backup boot sector.
func hasBackupBoot(part *block.Part) bool {
	v, err := fat.Open(part)
	return err == nil && v.FromBackup != nil
}

// holdsAnySystem fits the disk on which a system lies.
func holdsAnySystem(_ *bag.Facts, d bag.Disk) bool {
	return slices.ContainsFunc(d.Partitions, func(p bag.Partition) bool { return p.System != nil })
}

// restyle gives the disk the style that the machine's firmware starts from. All
// partitions stay where they are; a place for the loader is made.
func restyle(_ context.Context, g *ground) (effect, error) {
	mode := ""
	if g.Facts != nil && g.Facts.Firmware != nil {
		mode = g.Facts.Firmware.Mode
	}
	e := effect{guard: []Check{{What: "the mode of the firmware is known", OK: mode != "", Saw: mode}}}
	if mode == "" {
		return e, nil
	}
	to := map[string]layout.Style{"uefi": layout.StyleGPT, "bios": layout.StyleMBR}[mode]
	systems := map[int]bool{}
	for _, d := range g.Facts.Disks {
		for _, p := range d.Partitions {
			systems[p.Number] = systems[p.Number] || p.System != nil
		}
	}
	plan, err := g.table.Restyle(layout.Restyling{To: to, Firmware: mode, NewGUID: func() layout.GUID { return layout.RandomGUID(rand.Reader) }, DiskID: binary.LittleEndian.Uint32(id()), Systems: systems})
	if err != nil {
		return e, err
	}
	e.did = append([]string{fmt.Sprintf("the table is %s, every partition where it was", to)}, plan.Notes...)
	if err := g.draft.Put(plan.Writes); err != nil || plan.Made == nil || plan.Made.Type != layout.TypeESP {
		return e, err
	}
	size := int64(g.table.SectorSize)
	part := block.NewSection(g.draft, int64(plan.Made.First)*size, int64(plan.Made.Sectors())*size)
	g.draft.For("FAT file system of the EFI system partition")
	e.did = append(e.did, fmt.Sprintf("partition %d is made: an empty EFI system partition", plan.Made.Index))
	return e, fat.Format(part, part.Size(), fat.Options{Label: "ESP", Serial: binary.LittleEndian.Uint32(id())})
}

// id is four random bytes.
func id() []byte {
	b := make([]byte, 4)
	_, _ = rand.Read(b) // never fails
	return b
}

func proveRestyled(_ context.Context, before, after *ground) []Check {
	same := Check{What: "every partition is where it was", OK: true, Saw: fmt.Sprintf("%d of them", len(before.table.Partitions()))}
	for _, was := range before.table.Partitions() {
		if !slices.ContainsFunc(after.table.Partitions(), func(p layout.Partition) bool { return p.Span == was.Span }) {
			same.OK, same.Saw = false, fmt.Sprintf("partition %d is not", was.Number)
		}
	}
	broken := Check{What: "nothing in the new table is broken", OK: true, Saw: string(after.table.Style())}
	for _, p := range after.table.Check() {
		if p.Weight == layout.Broken && p.ID != "boot-code-missing" {
			broken.OK, broken.Saw = false, p.Part+": "+p.Text
		}
	}
	return []Check{same, broken}
}

func mendVolumes(_ context.Context, g *ground) (effect, error) {
	var e effect
	err := g.eachFAT(func(p layout.Partition, r *fat.Report) error {
		for _, f := range r.Findings {
			e.did = append(e.did, fmt.Sprintf("partition %d: %s: %s", p.Number, f.Text, f.Do))
		}
		for i := range r.Writes {
			r.Writes[i].Off += p.Off
		}
		return g.draft.Put(r.Writes)
	})
	if err == nil && len(e.did) == 0 {
		err = errNothing
	}
	return e, err
}

func proveVolumes(_ context.Context, _, after *ground) []Check {
	c := Check{What: "no file system has anything wrong with it", OK: true, Saw: "none"}
	n := 0
	err := after.eachFAT(func(p layout.Partition, r *fat.Report) error {
		n++
		if len(r.Findings) > 0 {
			return fmt.Errorf("partition %d: %s", p.Number, r.Findings[0].Text)
		}
		return nil
	})
	if c.Saw = fmt.Sprintf("%d were looked at", n); err != nil {
		c.OK, c.Saw = false, err.Error()
	}
	return []Check{c}
}

var (
	// errNothing means that an action found nothing to change.
	errNothing = errors.New("there is nothing to change: what the rung is for is as it should be")
	errNoPlate = errors.New("this rung changes firmware variables, clock or network of the machine, which are not at hand here: give the machine's folder")
)
