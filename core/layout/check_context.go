package layout

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"diorthos/core/firmware"
)

// CheckContext are what a table is held against besides itself.
type CheckContext struct {
	Firmware firmware.Mode   // empty when not known
	Contents map[int]Content // by the number of the partition
	Systems  map[int]bool    // partitions that hold a system
	Roles    map[int]Role    // what the system uses a partition for: system, boot, esp
	Demands  []Demand        // what a release asks of the sizes
	Whole    Content         // what lies on the disk as such, without a table
	// First is what lies, without a table, where a first partition usually begins.
	First    Content
	FirstLBA int64
}

// A Demand is the size that something asks of the disk, or of the partition of
// a role, in bytes.
type Demand struct {
	Role    Role   // or "disk"
	AtLeast int64  // less does not do; 0 for any
	Should  int64  // less is a trouble; 0 for any
	By      string // who asks
}

// CheckIn lists what Check does, and what is wrong for the machine's firmware
// and for what lies on the partitions.
func (t *Table) CheckIn(s CheckContext) []Problem {
	list := t.Check()
	list = append(list, t.checkThere(s)...)
	list = append(list, t.checkFirmware(s)...)
	list = append(list, t.checkContents(s)...)
	list = append(list, t.checkSizes(s)...)
	for i := range list {
		list[i].Affects = kinds[list[i].ID].affects
	}
	return gravestFirst(list)
}

// checkThere says when there is no table at all, nor a file system without one.
func (t *Table) checkThere(s CheckContext) []Problem {
	if t.Style() != StyleNone || t.other || s.Whole.Kind != "" {
		return nil
	}
	got := "other bytes"
	if t.MBR.Signed {
		got = "a boot record without partitions"
	} else if len(bytes.Trim(t.rawMBR, "\x00")) == 0 {
		got = "zeros"
	}
	if s.First.Kind != "" {
		got += fmt.Sprintf("; %s at LBA %d", s.First.Kind, s.FirstLBA)
	}
	return []Problem{{
		ID:       "table-missing",
		Severity: Broken,
		Part:     "disk",
		Want:     "an MBR or a GPT, or a file system on the whole disk",
		Got:      got,
		Text: "no partition table stands on this disk, neither at its start nor a copy at its end: it is empty, it is " +
			"no disk, or its tables were wiped",
	}}
}

// checkFirmware looks for what the firmware needs to start from this disk.
func (t *Table) checkFirmware(s CheckContext) []Problem {
	var list []Problem
	parts := t.Partitions()
	has := func(kind string) bool {
		return slices.ContainsFunc(parts, func(p Partition) bool { return p.Type == kind })
	}
	systems := len(s.Systems) > 0
	switch {
	case len(parts) == 0:
	case s.Firmware == firmware.UEFI && t.Style() == StyleMBR && !has("EFI system"):
		list = append(list, Problem{
			ID:       "style-against-firmware",
			Severity: Broken,
			Part:     "MBR",
			Want:     "a GPT with an EFI system partition",
			Got:      "an MBR",
			Text:     "the machine starts by UEFI, and this table is made for BIOS: nothing on it can be started",
		})
	case s.Firmware == firmware.UEFI && systems && !has("EFI system"):
		list = append(list, Problem{
			ID:       "esp-missing",
			Severity: Broken,
			Part:     "disk",
			Want:     "a partition of the type EFI system",
			Got:      "none",
			Text:     "the machine starts by UEFI and the disk has no EFI system partition",
		})
	case s.Firmware == firmware.BIOS && t.Style() == StyleGPT && systems && !has("BIOS boot"):
		list = append(list, Problem{
			ID:       "bios-boot-missing",
			Severity: Broken,
			Part:     "disk",
			Want:     "a partition of the type BIOS boot",
			Got:      "none",
			Text:     "the machine starts by BIOS, and on a GPT the loader needs a BIOS boot partition of its own",
		})
	}
	if t.Style() == StyleMBR && s.Firmware != firmware.UEFI {
		list = append(list, t.checkActive(s)...)
	}
	return list
}

// checkActive looks at what a BIOS starts from: the boot code, and the one
// partition flagged active.
func (t *Table) checkActive(s CheckContext) []Problem {
	var list []Problem
	var active []int
	for _, e := range t.MBR.Entries {
		if e.Active {
			active = append(active, e.Index)
		}
	}
	systems := len(s.Systems) > 0
	switch {
	case len(active) > 1:
		list = append(list, Problem{
			ID:       "active-flag-double",
			Severity: Broken,
			Part:     "MBR",
			Want:     "one active partition",
			Got:      fmt.Sprint(active),
			Text:     "several partitions are flagged active: the boot code stops, or takes the first",
		})
	case len(active) == 0 && systems:
		list = append(list, Problem{
			ID:       "active-flag-missing",
			Severity: Odd,
			Part:     "MBR",
			Want:     "one active partition",
			Got:      "none",
			Text:     "no partition is flagged active: some firmware and most boot code then do not start the disk",
		})
	case len(active) == 1 && systems && !s.Systems[active[0]] && s.Contents[active[0]].Kind == "":
		list = append(list, Problem{
			ID:       "active-without-system",
			Severity: Broken,
			Part:     fmt.Sprintf("partition %d", active[0]),
			Want:     "a file system with a loader or a system",
			Got:      "nothing that is known",
			Text:     "the partition flagged active holds nothing that could be started",
		})
	case len(active) == 1 && t.nothingStarts(active[0], s):
		list = append(list, Problem{
			ID:       "active-without-loader",
			Severity: Odd,
			Part:     fmt.Sprintf("partition %d", active[0]),
			Want:     "a boot sector, a loader or a system",
			Got:      "none that is known",
			Text: "the partition flagged active holds neither a system nor a loader: boot code that goes by the flag " +
				"stops there",
		})
	}
	if !t.MBR.HasCode && systems {
		list = append(list, Problem{
			ID:       "boot-code-missing",
			Severity: Broken,
			Part:     "MBR",
			Want:     "boot code in the first 440 bytes",
			Got:      "zeros",
			Text:     "sector 0 holds no boot code: a BIOS has nothing to run",
		})
	}
	return list
}

// nothingStarts reports whether an active partition is seen to hold nothing to
// start, while another holds something.
func (t *Table) nothingStarts(number int, s CheckContext) bool {
	content, looked := s.Contents[number]
	if !looked || s.Systems[number] || s.Roles[number] == RoleBoot || s.Roles[number] == RoleSystem ||
		s.Roles[number] == RoleESP {
		return false
	}
	for other, c := range s.Contents {
		if other != number && c.Kind != "" {
			return len(s.Systems) > 0 || content.Kind == ""
		}
	}
	return false
}

// expected are the kinds of content that a type is for. Types that are not
// listed may hold anything.
var expected = map[string][]string{
	"EFI system":          {"fat12", "fat16", "fat32"},
	"Linux swap":          {"swap", "luks"},
	"LVM physical volume": {"lvm", "luks"},
	"RAID member":         {"md"},
	"FAT12":               {"fat12", "fat16"},
	"FAT16":               {"fat16", "fat12"},
	"FAT32":               {"fat32", "fat16"},
	"basic data":          {"ntfs", "exfat", "fat32", "fat16", "fat12", "udf"},
	"Linux data":          {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "luks", "lvm", "md", "swap", "squashfs"},
	"Linux root (x86-64)": {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "luks", "squashfs"},
}

func (t *Table) checkContents(s CheckContext) []Problem {
	var list []Problem
	for _, p := range t.Partitions() {
		c, ok := s.Contents[p.Number]
		if !ok || c.Kind == "" {
			continue
		}
		name := fmt.Sprintf("partition %d", p.Number)
		if want, ok := expected[p.Type]; ok && !slices.Contains(want, strings.ToLower(c.Kind)) {
			weight := Odd
			if p.Type == "EFI system" {
				weight = Broken
			}
			list = append(list, Problem{
				ID:       "type-implausible",
				Severity: weight,
				Part:     name,
				LBA:      p.Span.First,
				Want:     strings.Join(want, ", "),
				Got:      c.Kind,
				Text:     fmt.Sprintf("%s is of the type %s and holds %s", name, p.Type, c.Kind),
			})
		}
		switch {
		case c.Size > p.Length:
			list = append(list, Problem{
				ID:       "content-too-large",
				Severity: Broken,
				Part:     name,
				LBA:      p.Span.First,
				Want:     fmt.Sprintf("at most %d bytes", p.Length),
				Got:      fmt.Sprintf("%d bytes", c.Size),
				Text: fmt.Sprintf(
					"the %s on %s is larger than the partition: its end is cut off, or the partition's bounds are wrong",
					c.Kind, name,
				),
			})
		case c.Size > 0 && p.Length-c.Size > p.Length/10 && p.Length-c.Size > 16<<20:
			list = append(list, Problem{
				ID:       "content-too-small",
				Severity: Odd,
				Part:     name,
				LBA:      p.Span.First,
				Want:     fmt.Sprintf("about %d bytes", p.Length),
				Got:      fmt.Sprintf("%d bytes", c.Size),
				Text:     fmt.Sprintf("the %s on %s uses only part of the partition", c.Kind, name),
			})
		}
	}
	return list
}

func (t *Table) checkSizes(s CheckContext) []Problem {
	var list []Problem
	for _, d := range s.Demands {
		if d.Role == "disk" {
			list = append(list, d.holds("disk", 0, t.Size)...)
		}
		for _, p := range t.Partitions() {
			if s.Roles[p.Number] == d.Role {
				list = append(list, d.holds(fmt.Sprintf("partition %d", p.Number), p.Span.First, p.Length)...)
			}
		}
	}
	return list
}

func (d Demand) holds(part string, lba uint64, size int64) []Problem {
	the := part
	if d.Role == "disk" {
		the = "the disk"
	}
	use := map[Role]string{
		RoleSystem: ", which holds the system,",
		RoleBoot:   ", the boot volume,",
		RoleESP:    ", the EFI system partition,",
	}[d.Role]
	p := Problem{ID: "size-below-release", Part: part, LBA: lba, Got: mebibytes(size)}
	switch {
	case size < d.AtLeast:
		p.Severity = Broken
		p.Want = "at least " + mebibytes(d.AtLeast)
		p.Text = fmt.Sprintf("%s%s is too small for %s", the, use, d.By)
	case size < d.Should:
		p.Severity = Odd
		p.Want = "better " + mebibytes(d.Should)
		p.Text = fmt.Sprintf("%s%s is smaller than %s works well with", the, use, d.By)
	default:
		return nil
	}
	return []Problem{p}
}

func mebibytes(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }
