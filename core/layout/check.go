package layout

import (
	"fmt"
)

// A Weight says how much a problem matters.
type Weight string

// The weights of problems.
const (
	Broken Weight = "broken" // something that reads the table will refuse it or go wrong
	Odd    Weight = "odd"    // works, but should be put right
)

// A Problem is one thing that is wrong with a table.
type Problem struct {
	ID     string   `json:"id"`             // one of the names in docs/formats.md
	Weight Weight   `json:"weight"`         //
	Part   string   `json:"part"`           // "primary GPT", "backup GPT", "MBR", "partition 2"
	LBA    uint64   `json:"lba"`            // the sector where it is seen
	Want   string   `json:"want,omitempty"` // what should stand there
	Got    string   `json:"got,omitempty"`  // what stands there
	Text   string   `json:"text"`           // one sentence for a technician
	Minds  []string `json:"minds"`          // who trips over it
}

// minds says who refuses to go on, or goes wrong, for each problem. A loader
// that reads sectors by number often does not check what the kernel checks.
var minds = map[string][]string{
	"mbr-signature-missing":    {"firmware (BIOS)", "installer"},
	"protective-entry-missing": {"firmware (UEFI)", "kernel", "installer"},
	"protective-entry-size":    {"installer"},
	"gpt-signature-missing":    {"firmware (UEFI)", "loader", "kernel", "installer"},
	"gpt-header-size":          {"firmware (UEFI)", "loader", "kernel", "installer"},
	"gpt-header-crc":           {"firmware (UEFI)", "kernel", "installer"},
	"gpt-own-address":          {"firmware (UEFI)", "kernel", "installer"},
	"gpt-entry-size":           {"firmware (UEFI)", "loader", "kernel", "installer"},
	"gpt-entries-outside":      {"firmware (UEFI)", "loader", "kernel", "installer"},
	"gpt-entries-crc":          {"firmware (UEFI)", "kernel", "installer"},
	"copies-disagree":          {"installer"},
	"backup-not-at-end":        {"installer"},
	"partitions-overlap":       {"kernel", "installer"},
	"partition-outside":        {"kernel", "installer"},
	"partition-reversed":       {"kernel", "installer"},
	"partition-misaligned":     {"installer"},
	"partition-guid-repeated":  {"loader", "installer"},
	"partition-guid-missing":   {"loader", "installer"},
	"disk-guid-missing":        {"loader", "installer"},
	"partition-type-unknown":   {"installer"},
	"sector-size-other":        {"firmware (UEFI)", "kernel", "installer"},
	"disk-cut-off":             {"kernel", "installer"},
	"mbr-beside-gpt":           {"firmware (BIOS)", "kernel", "installer"},
	"hybrid-mbr":               {"installer"},
	"hybrid-disagrees":         {"firmware (BIOS)", "loader"},
	"usable-range-wrong":       {"kernel", "installer"},
	"logical-chain-broken":     {"kernel", "installer"},
	"logical-chain-loops":      {"kernel", "installer"},
	"logical-outside-extended": {"kernel", "installer"},
	"extended-twice":           {"kernel", "installer"},
	"active-flag-invalid":      {"firmware (BIOS)", "kernel"},
	"active-flag-double":       {"firmware (BIOS)", "loader"},
	"active-flag-missing":      {"firmware (BIOS)", "loader"},
	"active-without-system":    {"loader"},
	"boot-code-missing":        {"firmware (BIOS)"},
	"style-against-firmware":   {"firmware (UEFI)", "installer"},
	"esp-missing":              {"firmware (UEFI)", "installer"},
	"bios-boot-missing":        {"installer"},
	"type-implausible":         {"firmware (UEFI)", "installer"},
	"content-too-large":        {"kernel"},
	"content-too-small":        {"installer"},
	"size-below-release":       {"installer"},
}

// Check lists what is wrong with the table, gravest first. A disk with no
// table at all has no problems here: there is nothing to be wrong.
func (t *Table) Check() []Problem {
	var list []Problem
	if t.Style() == StyleGPT {
		list = append(list, t.Primary.Problems...)
		list = append(list, t.Backup.Problems...)
		list = append(list, t.checkProtective()...)
		list = append(list, t.checkCopies()...)
		list = append(list, t.checkHybrid()...)
		list = append(list, t.checkIDs()...)
	} else if t.Style() == StyleNone && t.other {
		return []Problem{{ID: "sector-size-other", Weight: Broken, Part: "primary GPT", LBA: 1, Want: fmt.Sprintf("sectors of %d bytes", t.SectorSize), Got: fmt.Sprintf("a table for sectors of %d", 4096+512-t.SectorSize),
			Text: "the table was made for sectors of another size: the disk was in another enclosure, or the image is read with the wrong sector size", Minds: minds["sector-size-other"]}}
	} else if t.Style() == StyleNone && len(t.MBR.Entries) == 0 && !t.MBR.Signed {
		return nil
	}
	list = append(list, t.checkMBR()...)
	list = append(list, t.checkPartitions()...)
	for i := range list {
		list[i].Minds = minds[list[i].ID]
	}
	return gravestFirst(list)
}

func gravestFirst(list []Problem) []Problem {
	var broken, odd []Problem
	for _, p := range list {
		if p.Weight == Broken {
			broken = append(broken, p)
		} else {
			odd = append(odd, p)
		}
	}
	return append(broken, odd...)
}

func (t *Table) checkProtective() []Problem {
	if !t.MBR.Signed {
		return []Problem{{ID: "mbr-signature-missing", Weight: Broken, Part: "MBR", Want: "55 aa at byte 510",
			Got:  fmt.Sprintf("%02x %02x", t.rawMBR[mbrSignature], t.rawMBR[mbrSignature+1]),
			Text: "sector 0 is not a boot record: the protective entry is gone"}}
	}
	for _, e := range t.MBR.Entries {
		if e.Type != TypeProtective {
			continue
		}
		if want := min(t.Sectors()-1, 0xffffffff); e.Sectors != want && e.Sectors != 0xffffffff && len(t.MBR.Entries) == 1 {
			return []Problem{{ID: "protective-entry-size", Weight: Odd, Part: "MBR", Want: fmt.Sprint(want), Got: fmt.Sprint(e.Sectors),
				Text: fmt.Sprintf("the protective entry covers %d sectors, the disk has %d after the first", e.Sectors, want)}}
		}
		return nil
	}
	if len(t.MBR.Entries) > 0 {
		return nil // an MBR beside the GPT, which is a problem of its own
	}
	return []Problem{{ID: "protective-entry-missing", Weight: Broken, Part: "MBR", Want: "an entry of type 0xee", Got: "none",
		Text: "sector 0 does not say that this is a GPT disk: tools may take it for an empty or an MBR one"}}
}

func (t *Table) checkCopies() []Problem {
	var list []Problem
	if last := t.Sectors() - 1; t.Backup.Found && t.Backup.LBA != last {
		list = append(list, Problem{ID: "backup-not-at-end", Weight: Odd, Part: "backup GPT", LBA: t.Backup.LBA, Want: fmt.Sprintf("LBA %d", last), Got: fmt.Sprintf("LBA %d", t.Backup.LBA),
			Text: "the backup does not stand at the end of the disk: the disk has grown since"})
	}
	p, b := &t.Primary, &t.Backup
	if p.Sound() && p.Header.Alternate > t.Sectors()-1 {
		list = append(list, Problem{ID: "disk-cut-off", Weight: Broken, Part: "primary GPT", LBA: 1, Want: fmt.Sprintf("a backup at LBA %d or before", t.Sectors()-1), Got: fmt.Sprintf("LBA %d", p.Header.Alternate),
			Text: fmt.Sprintf("the table was made for a disk of %d sectors, this one has %d: the end is missing, with the backup", p.Header.Alternate+1, t.Sectors())})
	}
	for _, c := range []*Copy{p, b} {
		h := c.Header
		if tableEnd := 2 + (uint64(h.EntryCount)*uint64(h.EntrySize)+uint64(t.SectorSize)-1)/uint64(t.SectorSize); c.Sound() && (h.FirstUsable < tableEnd || h.LastUsable < h.FirstUsable || h.LastUsable >= h.Alternate && !c.Backup) {
			list = append(list, Problem{ID: "usable-range-wrong", Weight: Broken, Part: c.Name(), LBA: c.LBA, Want: fmt.Sprintf("usable sectors between the tables, from LBA %d on", tableEnd), Got: fmt.Sprintf("%d to %d", h.FirstUsable, h.LastUsable),
				Text: "the range of usable sectors includes the table itself: a partition may overwrite it"})
		}
	}
	if p.Sound() && b.Sound() && (p.Header.EntryCRC != b.Header.EntryCRC || p.Header.DiskGUID != b.Header.DiskGUID) {
		list = append(list, Problem{ID: "copies-disagree", Weight: Broken, Part: "backup GPT", LBA: b.LBA,
			Want: fmt.Sprintf("entries with CRC 0x%08x", p.Header.EntryCRC), Got: fmt.Sprintf("0x%08x", b.Header.EntryCRC),
			Text: "both copies are sound and describe different partitions"})
	}
	return list
}

// checkHybrid looks at an MBR that lists partitions beside a GPT.
func (t *Table) checkHybrid() []Problem {
	var list []Problem
	real := 0
	for _, e := range t.MBR.Entries {
		if e.Type == TypeProtective || e.Sectors == 0 {
			continue
		}
		real++
		fits := t.Trusted() == nil
		for _, p := range t.Partitions() {
			fits = fits || p.Span.First == e.First && p.Span.Sectors() == e.Sectors
		}
		if !fits && t.MBR.Protective() {
			list = append(list, Problem{ID: "hybrid-disagrees", Weight: Broken, Part: fmt.Sprintf("MBR entry %d", e.Index), Want: "the bounds of a partition of the GPT", Got: fmt.Sprintf("%d to %d", e.First, e.First+e.Sectors-1),
				Text: "the MBR beside the GPT lists a partition that the GPT does not have: what starts by BIOS and what starts by UEFI see different disks"})
		}
	}
	switch {
	case real > 0 && !t.MBR.Protective():
		list = append(list, Problem{ID: "mbr-beside-gpt", Weight: Broken, Part: "MBR", Want: "a protective entry alone", Got: fmt.Sprintf("%d partitions", real),
			Text: "an old MBR stands beside a GPT: some read the one, some the other"})
	case real > 0:
		list = append(list, Problem{ID: "hybrid-mbr", Weight: Odd, Part: "MBR", Want: "a protective entry alone", Got: fmt.Sprintf("%d partitions beside it", real),
			Text: "the MBR lists partitions beside the protective entry: a change in one table has to be made in both"})
	}
	return list
}

func (t *Table) checkIDs() []Problem {
	c := t.Trusted()
	if c == nil {
		return nil
	}
	var list []Problem
	if c.Header.DiskGUID.IsZero() {
		list = append(list, Problem{ID: "disk-guid-missing", Weight: Odd, Part: c.Name(), LBA: c.LBA, Want: "a GUID", Got: "zeros", Text: "the disk has no GUID of its own: it cannot be told from another"})
	}
	for _, e := range c.Entries {
		name := fmt.Sprintf("partition %d", e.Index)
		if e.ID.IsZero() {
			list = append(list, Problem{ID: "partition-guid-missing", Weight: Odd, Part: name, LBA: e.First, Want: "a GUID", Got: "zeros", Text: name + " has no GUID of its own: a loader that looks for it by that finds nothing"})
		}
		if _, known := typeNames[e.Type]; !known {
			list = append(list, Problem{ID: "partition-type-unknown", Weight: Odd, Part: name, LBA: e.First, Want: "a type that is known", Got: e.Type.String(), Text: name + " is of a type that is not known here"})
		}
	}
	return list
}

// checkMBR looks at what only an MBR can have wrong.
func (t *Table) checkMBR() []Problem {
	list := append([]Problem{}, t.chain...)
	containers := 0
	for _, e := range t.MBR.Entries {
		if extended(e.Type) {
			containers++
		}
		if e.Flag != 0 && e.Flag != mbrActiveFlag {
			list = append(list, Problem{ID: "active-flag-invalid", Weight: Broken, Part: fmt.Sprintf("MBR entry %d", e.Index), Want: "00 or 80", Got: fmt.Sprintf("%02x", e.Flag), Text: "the active flag has a value that it cannot have: boot code refuses the table"})
		}
	}
	if containers > 1 {
		list = append(list, Problem{ID: "extended-twice", Weight: Broken, Part: "MBR", Want: "one extended partition", Got: fmt.Sprint(containers), Text: "there are several extended partitions: only the first is followed"})
	}
	return list
}

func (t *Table) checkPartitions() []Problem {
	var list []Problem
	parts := t.Partitions()
	first, last := uint64(1), t.Sectors()-1
	if c := t.Trusted(); c != nil {
		first, last = c.Header.FirstUsable, min(c.Header.LastUsable, last)
	}
	ids := map[string]int{}
	align := uint64(1<<20) / uint64(t.SectorSize)
	for i, p := range parts {
		name := fmt.Sprintf("partition %d", p.Number)
		switch {
		case p.Span.Last < p.Span.First:
			list = append(list, Problem{ID: "partition-reversed", Weight: Broken, Part: name, LBA: p.Span.First, Want: fmt.Sprintf("an end at LBA %d or later", p.Span.First), Got: fmt.Sprint(p.Span.Last),
				Text: name + " ends before it begins"})
			continue
		case p.Span.First < first || p.Span.Last > last:
			list = append(list, Problem{ID: "partition-outside", Weight: Broken, Part: name, LBA: p.Span.First, Want: fmt.Sprintf("within LBA %d to %d", first, last), Got: fmt.Sprintf("%d to %d", p.Span.First, p.Span.Last),
				Text: name + " reaches beyond the usable part of the disk"})
		case p.Span.First%align != 0:
			list = append(list, Problem{ID: "partition-misaligned", Weight: Odd, Part: name, LBA: p.Span.First, Want: fmt.Sprintf("a multiple of %d", align), Got: fmt.Sprint(p.Span.First),
				Text: name + " does not begin on a whole MiB"})
		}
		for _, o := range parts[:i] {
			if p.Span.Overlaps(o.Span) {
				list = append(list, Problem{ID: "partitions-overlap", Weight: Broken, Part: name, LBA: max(p.Span.First, o.Span.First), Want: "no sector in common", Got: fmt.Sprintf("%d to %d", max(p.Span.First, o.Span.First), min(p.Span.Last, o.Span.Last)),
					Text: fmt.Sprintf("%s overlaps partition %d", name, o.Number)})
			}
		}
		if n, ok := ids[p.ID]; ok && p.ID != "" {
			list = append(list, Problem{ID: "partition-guid-repeated", Weight: Broken, Part: name, LBA: p.Span.First, Want: "a GUID of its own", Got: p.ID,
				Text: fmt.Sprintf("%s has the same unique GUID as partition %d", name, n)})
		}
		ids[p.ID] = p.Number
	}
	return list
}
