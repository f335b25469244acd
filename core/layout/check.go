package layout

import (
	"fmt"
	"maps"
	"slices"

	"diorthos/core/units"
)

// A Severity says how much a problem matters.
type Severity string

// The weights of problems.
const (
	Broken Severity = "broken" // something that reads the table will refuse it or go wrong
	Odd    Severity = "odd"    // works, but should be put right
)

// Severities lists those that there are.
func Severities() []Severity { return []Severity{Broken, Odd} }

// A Problem is one thing that is wrong with a table.
type Problem struct {
	ID       ProblemID `json:"id"`             // one of the names in docs/formats.md
	Severity Severity  `json:"weight"`         //
	Part     string    `json:"part"`           // "primary GPT", "backup GPT", "MBR", "partition 2"
	LBA      uint64    `json:"lba"`            // the sector where it is seen
	Want     string    `json:"want,omitempty"` // what should stand there
	Got      string    `json:"got,omitempty"`  // what stands there
	Text     string    `json:"text"`           // one sentence for a technician
	Affects  []string  `json:"minds"`          // who trips over it
}

// A ProblemID names a kind of problem, as docs/formats.md lists them.
type ProblemID string

// A kind says of a problem who trips over it, and whether writing both copies of
// the GPT and the protective MBR anew puts it right. A loader that reads sectors
// by number often does not check what the kernel checks.
type kind struct {
	affects  []string
	mendable bool
}

var kinds = map[ProblemID]kind{
	"mbr-signature-missing":    {affects: []string{"firmware (BIOS)", "installer"}, mendable: true},
	"mbr-not-signed":           {affects: []string{"firmware (BIOS)", "kernel", "installer"}, mendable: true},
	"protective-entry-missing": {affects: []string{"firmware (UEFI)", "kernel", "installer"}, mendable: true},
	"protective-entry-size":    {affects: []string{"installer"}},
	"gpt-signature-missing":    {affects: []string{"firmware (UEFI)", "loader", "kernel", "installer"}, mendable: true},
	"gpt-header-size":          {affects: []string{"firmware (UEFI)", "loader", "kernel", "installer"}, mendable: true},
	"gpt-header-crc":           {affects: []string{"firmware (UEFI)", "kernel", "installer"}, mendable: true},
	"gpt-own-address":          {affects: []string{"firmware (UEFI)", "kernel", "installer"}, mendable: true},
	"gpt-entry-size":           {affects: []string{"firmware (UEFI)", "loader", "kernel", "installer"}},
	"gpt-entries-outside":      {affects: []string{"firmware (UEFI)", "loader", "kernel", "installer"}, mendable: true},
	"gpt-entries-crc":          {affects: []string{"firmware (UEFI)", "kernel", "installer"}, mendable: true},
	"copies-disagree":          {affects: []string{"installer"}, mendable: true},
	"backup-not-at-end":        {affects: []string{"installer"}, mendable: true},
	"partitions-overlap":       {affects: []string{"kernel", "installer"}},
	"partition-outside":        {affects: []string{"kernel", "installer"}},
	"partition-reversed":       {affects: []string{"kernel", "installer"}},
	"partition-misaligned":     {affects: []string{"installer"}},
	"partition-guid-repeated":  {affects: []string{"loader", "installer"}, mendable: true},
	"partition-guid-missing":   {affects: []string{"loader", "installer"}, mendable: true},
	"disk-guid-missing":        {affects: []string{"loader", "installer"}, mendable: true},
	"partition-type-unknown":   {affects: []string{"installer"}},
	"sector-size-other":        {affects: []string{"firmware (UEFI)", "kernel", "installer"}},
	"disk-cut-off":             {affects: []string{"kernel", "installer"}, mendable: true},
	"mbr-beside-gpt":           {affects: []string{"firmware (BIOS)", "kernel", "installer"}},
	"hybrid-mbr":               {affects: []string{"installer"}},
	"hybrid-disagrees":         {affects: []string{"firmware (BIOS)", "loader"}},
	"usable-range-wrong":       {affects: []string{"kernel", "installer"}, mendable: true},
	"logical-chain-broken":     {affects: []string{"kernel", "installer"}},
	"logical-chain-loops":      {affects: []string{"kernel", "installer"}},
	"logical-outside-extended": {affects: []string{"kernel", "installer"}},
	"extended-twice":           {affects: []string{"kernel", "installer"}},
	"active-flag-invalid":      {affects: []string{"firmware (BIOS)", "kernel"}},
	"active-flag-double":       {affects: []string{"firmware (BIOS)", "loader"}},
	"active-flag-missing":      {affects: []string{"firmware (BIOS)", "loader"}},
	"active-without-system":    {affects: []string{"loader"}},
	"active-without-loader":    {affects: []string{"firmware (BIOS)", "loader"}},
	"table-missing":            {affects: []string{"firmware (UEFI)", "firmware (BIOS)", "loader", "kernel", "installer"}},
	"boot-code-missing":        {affects: []string{"firmware (BIOS)"}},
	"style-against-firmware":   {affects: []string{"firmware (UEFI)", "installer"}},
	"esp-missing":              {affects: []string{"firmware (UEFI)", "installer"}},
	"bios-boot-missing":        {affects: []string{"installer"}},
	"type-implausible":         {affects: []string{"firmware (UEFI)", "installer"}},
	"content-too-large":        {affects: []string{"kernel"}, mendable: true},
	"content-too-small":        {affects: []string{"installer"}},
	"size-below-release":       {affects: []string{"installer"}},
}

// ProblemIDs lists the kinds of problems that there are.
func ProblemIDs() []ProblemID { return slices.Sorted(maps.Keys(kinds)) }

// Mendable reports whether writing the GPT anew puts a problem right.
func Mendable(id ProblemID) bool { return kinds[id].mendable }

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
		return []Problem{{
			ID:       "sector-size-other",
			Severity: Broken,
			Part:     "primary GPT",
			LBA:      1,
			Want:     fmt.Sprintf("sectors of %d bytes", t.SectorSize),
			Got:      fmt.Sprintf("a table for sectors of %d", 4096+512-t.SectorSize),
			Text: "the table was made for sectors of another size: the disk was in another enclosure, or the image is " +
				"read with the wrong sector size",
			Affects: kinds["sector-size-other"].affects,
		}}
	} else if t.Style() == StyleNone && len(t.MBR.Entries) == 0 && !t.MBR.Signed {
		return nil
	}
	list = append(list, t.checkMBR()...)
	list = append(list, t.checkPartitions()...)
	for i := range list {
		list[i].Affects = kinds[list[i].ID].affects
	}
	return gravestFirst(list)
}

func gravestFirst(list []Problem) []Problem {
	var broken, odd []Problem
	for _, p := range list {
		if p.Severity == Broken {
			broken = append(broken, p)
		} else {
			odd = append(odd, p)
		}
	}
	return append(broken, odd...)
}

func (t *Table) checkProtective() []Problem {
	if !t.MBR.Signed {
		return []Problem{{ID: "mbr-signature-missing", Severity: Broken, Part: "MBR", Want: "55 aa at byte 510",
			Got:  fmt.Sprintf("%02x %02x", t.rawMBR[mbrSignature], t.rawMBR[mbrSignature+1]),
			Text: "sector 0 is not a boot record: the protective entry is gone"}}
	}
	for _, e := range t.MBR.Entries {
		if e.Type != TypeProtective {
			continue
		}
		if want := min(t.Sectors()-1, 0xffffffff); e.Sectors != want && e.Sectors != 0xffffffff && len(t.MBR.Entries) == 1 {
			return []Problem{{
				ID:       "protective-entry-size",
				Severity: Odd,
				Part:     "MBR",
				Want:     fmt.Sprint(want),
				Got:      fmt.Sprint(e.Sectors),
				Text:     fmt.Sprintf("the protective entry covers %d sectors, the disk has %d after the first", e.Sectors, want),
			}}
		}
		return nil
	}
	if len(t.MBR.Entries) > 0 {
		return nil // an MBR beside the GPT, which is a problem of its own
	}
	return []Problem{{
		ID:       "protective-entry-missing",
		Severity: Broken,
		Part:     "MBR",
		Want:     "an entry of type 0xee",
		Got:      "none",
		Text:     "sector 0 does not say that this is a GPT disk: tools may take it for an empty or an MBR one",
	}}
}

func (t *Table) checkCopies() []Problem {
	var list []Problem
	if last := t.Sectors() - 1; t.Backup.Found && t.Backup.LBA != last {
		list = append(list, Problem{
			ID:       "backup-not-at-end",
			Severity: Odd,
			Part:     "backup GPT",
			LBA:      t.Backup.LBA,
			Want:     fmt.Sprintf("LBA %d", last),
			Got:      fmt.Sprintf("LBA %d", t.Backup.LBA),
			Text:     "the backup does not stand at the end of the disk: the disk has grown since",
		})
	}
	p, b := &t.Primary, &t.Backup
	if p.Sound() && p.Header.Alternate > t.Sectors()-1 {
		list = append(list, Problem{
			ID:       "disk-cut-off",
			Severity: Broken,
			Part:     "primary GPT",
			LBA:      1,
			Want:     fmt.Sprintf("a backup at LBA %d or before", t.Sectors()-1),
			Got:      fmt.Sprintf("LBA %d", p.Header.Alternate),
			Text: fmt.Sprintf(
				"the table was made for a disk of %d sectors, this one has %d: the end is missing, with the backup",
				p.Header.Alternate+1, t.Sectors(),
			),
		})
	}
	for _, c := range []*Copy{p, b} {
		h := c.Header
		tableEnd := 2 + (uint64(h.EntryCount)*uint64(h.EntrySize)+uint64(t.SectorSize)-1)/uint64(t.SectorSize)
		if c.Sound() &&
			(h.FirstUsable < tableEnd || h.LastUsable < h.FirstUsable || h.LastUsable >= h.Alternate && !c.Backup) {
			list = append(list, Problem{
				ID:       "usable-range-wrong",
				Severity: Broken,
				Part:     c.Name(),
				LBA:      c.LBA,
				Want:     fmt.Sprintf("usable sectors between the tables, from LBA %d on", tableEnd),
				Got:      fmt.Sprintf("%d to %d", h.FirstUsable, h.LastUsable),
				Text:     "the range of usable sectors includes the table itself: a partition may overwrite it",
			})
		}
	}
	if p.Sound() && b.Sound() && (p.Header.EntryCRC != b.Header.EntryCRC || p.Header.DiskGUID != b.Header.DiskGUID) {
		list = append(list, Problem{ID: "copies-disagree", Severity: Broken, Part: "backup GPT", LBA: b.LBA,
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
			list = append(list, Problem{
				ID:       "hybrid-disagrees",
				Severity: Broken,
				Part:     fmt.Sprintf("MBR entry %d", e.Index),
				Want:     "the bounds of a partition of the GPT",
				Got:      fmt.Sprintf("%d to %d", e.First, e.First+e.Sectors-1),
				Text: "the MBR beside the GPT lists a partition that the GPT does not have: what starts by BIOS and what " +
					"starts by UEFI see different disks",
			})
		}
	}
	switch {
	case real > 0 && !t.MBR.Protective():
		list = append(list, Problem{
			ID:       "mbr-beside-gpt",
			Severity: Broken,
			Part:     "MBR",
			Want:     "a protective entry alone",
			Got:      units.Count(real, "partition"),
			Text:     "an old MBR stands beside a GPT: some read the one, some the other",
		})
	case real > 0:
		list = append(list, Problem{
			ID:       "hybrid-mbr",
			Severity: Odd,
			Part:     "MBR",
			Want:     "a protective entry alone",
			Got:      fmt.Sprintf("%d partitions beside it", real),
			Text:     "the MBR lists partitions beside the protective entry: a change in one table has to be made in both",
		})
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
		list = append(list, Problem{
			ID:       "disk-guid-missing",
			Severity: Odd,
			Part:     c.Name(),
			LBA:      c.LBA,
			Want:     "a GUID",
			Got:      "zeros",
			Text:     "the disk has no GUID of its own: it cannot be told from another",
		})
	}
	for _, e := range c.Entries {
		name := fmt.Sprintf("partition %d", e.Index)
		if e.ID.IsZero() {
			list = append(list, Problem{
				ID:       "partition-guid-missing",
				Severity: Odd,
				Part:     name,
				LBA:      e.First,
				Want:     "a GUID",
				Got:      "zeros",
				Text:     name + " has no GUID of its own: a loader that looks for it by that finds nothing",
			})
		}
		if _, known := typeNames[e.Type]; !known {
			list = append(list, Problem{
				ID:       "partition-type-unknown",
				Severity: Odd,
				Part:     name,
				LBA:      e.First,
				Want:     "a type that is known",
				Got:      e.Type.String(),
				Text:     name + " is of a type that is not known here",
			})
		}
	}
	return list
}

// checkMBR looks at what only an MBR can have wrong.
func (t *Table) checkMBR() []Problem {
	list := append([]Problem{}, t.chain...)
	if t.Style() == StyleMBR && !t.MBR.Signed {
		list = append(list, Problem{
			ID:       "mbr-not-signed",
			Severity: Broken,
			Part:     "MBR",
			Want:     "55 aa at byte 510",
			Got:      fmt.Sprintf("%02x %02x", t.rawMBR[mbrSignature], t.rawMBR[mbrSignature+1]),
			Text: "the table is there, but sector 0 does not end as a boot record does: firmware and kernel take it " +
				"for none",
		})
	}
	containers := 0
	for _, e := range t.MBR.Entries {
		if extended(e.Type) {
			containers++
		}
		if e.Flag != 0 && e.Flag != mbrActiveFlag {
			list = append(list, Problem{
				ID:       "active-flag-invalid",
				Severity: Broken,
				Part:     fmt.Sprintf("MBR entry %d", e.Index),
				Want:     "00 or 80",
				Got:      fmt.Sprintf("%02x", e.Flag),
				Text:     "the active flag has a value that it cannot have: boot code refuses the table",
			})
		}
	}
	if containers > 1 {
		list = append(list, Problem{
			ID:       "extended-twice",
			Severity: Broken,
			Part:     "MBR",
			Want:     "one extended partition",
			Got:      fmt.Sprint(containers),
			Text:     "there are several extended partitions: only the first is followed",
		})
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
			list = append(list, Problem{
				ID:       "partition-reversed",
				Severity: Broken,
				Part:     name,
				LBA:      p.Span.First,
				Want:     fmt.Sprintf("an end at LBA %d or later", p.Span.First),
				Got:      fmt.Sprint(p.Span.Last),
				Text:     name + " ends before it begins",
			})
			continue
		case p.Span.First < first || p.Span.Last > last:
			list = append(list, Problem{
				ID:       "partition-outside",
				Severity: Broken,
				Part:     name,
				LBA:      p.Span.First,
				Want:     fmt.Sprintf("within LBA %d to %d", first, last),
				Got:      fmt.Sprintf("%d to %d", p.Span.First, p.Span.Last),
				Text:     name + " reaches beyond the usable part of the disk",
			})
		case p.Span.First%align != 0:
			list = append(list, Problem{
				ID:       "partition-misaligned",
				Severity: Odd,
				Part:     name,
				LBA:      p.Span.First,
				Want:     fmt.Sprintf("a multiple of %d", align),
				Got:      fmt.Sprint(p.Span.First),
				Text:     name + " does not begin on a whole MiB",
			})
		}
		for _, o := range parts[:i] {
			if p.Span.Overlaps(o.Span) {
				list = append(list, Problem{
					ID:       "partitions-overlap",
					Severity: Broken,
					Part:     name,
					LBA:      max(p.Span.First, o.Span.First),
					Want:     "no sector in common",
					Got:      fmt.Sprintf("%d to %d", max(p.Span.First, o.Span.First), min(p.Span.Last, o.Span.Last)),
					Text:     fmt.Sprintf("%s overlaps partition %d", name, o.Number),
				})
			}
		}
		if n, ok := ids[p.ID]; ok && p.ID != "" {
			list = append(list, Problem{
				ID:       "partition-guid-repeated",
				Severity: Broken,
				Part:     name,
				LBA:      p.Span.First,
				Want:     "a GUID of its own",
				Got:      p.ID,
				Text:     fmt.Sprintf("%s has the same unique GUID as partition %d", name, n),
			})
		}
		ids[p.ID] = p.Number
	}
	return list
}
