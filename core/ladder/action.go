package ladder

import (
	"fmt"
	"reflect"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
)

// A Check is one thing that a guard or a proof looked at.
type Check struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Saw  string `json:"saw"`
}

// An action is a typed change. plan says what would be written, before
// anything is.
type action struct {
	fits  func(bag.Disk) bool // whether a disk of the facts is one to work on
	guard func(*layout.Table) []Check
	plan  func(*layout.Table) ([]block.Write, error)
	prove func(before, after *layout.Table) []Check
}

// actions are all that a remedy can name.
var actions = map[string]action{
	"layout.mend-primary-gpt": {
		fits:  func(d bag.Disk) bool { return d.Backup.State == "sound" && d.Primary.State != "sound" },
		guard: guardBackup,
		plan:  (*layout.Table).MendPrimary,
		prove: provePrimary,
	},
	"layout.mend-gpt": {
		fits: func(d bag.Disk) bool {
			return d.Style == "gpt" && (d.Primary.State == "sound" || d.Backup.State == "sound") && slices.ContainsFunc(d.Problems, func(p layout.Problem) bool { return mendable[p.ID] })
		},
		guard: guardEither,
		plan: func(t *layout.Table) ([]block.Write, error) {
			return t.MendAll(layout.Mending{})
		},
		prove: proveWhole,
	},
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

// Actions lists the names that a remedy may use.
func Actions() []string {
	var names []string
	for name := range actions {
		names = append(names, name)
	}
	return names
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
