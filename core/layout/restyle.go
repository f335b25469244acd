package layout

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"diorthos/core/block"
	"diorthos/core/firmware"
)

// A Restyling says how the style of a table is to be changed in place.
type Restyling struct {
	To       Style
	Firmware firmware.Mode // what the machine will start by; empty makes no place for a loader
	NewGUID  func() GUID   // for a GPT
	DiskID   uint32        // for an MBR
	Systems  map[int]bool  // partitions that hold a system; for the active flag
	// BootVolume is the number of a partition with FAT that holds a loader, which
	// can serve as the EFI system partition; 0 for none.
	BootVolume int
}

// A Restyled is a change of style, planned.
type Restyled struct {
	Writes []block.Write
	// Made is a partition that was added for the loader; nil when none was.
	Made *Entry
	// Notes say what becomes of types, names and flags.
	Notes []string
}

// espBytes is the size of an EFI system partition that is made: the
// least in which FAT32 and a few kernels fit.
const espBytes = 260 << 20

// Restyle plans a change of the table's style that leaves every partition
// where it is. It fails with ErrNoRoom, saying what would make room, when a
// partition lies where the new table has to be, or when the new style cannot
// describe the partitions.
func (t *Table) Restyle(r Restyling) (*Restyled, error) {
	switch {
	case t.Style() == r.To:
		return nil, fmt.Errorf("the disk is %s already: %w", r.To, ErrNothingToMend)
	case t.Style() == StyleMBR && r.To == StyleGPT:
		return t.toGPT(r)
	case t.Style() == StyleGPT && r.To == StyleMBR:
		return t.toMBR(r)
	}
	return nil, fmt.Errorf("there is no table to change: the disk is %s", t.Style())
}

const gptEntries = 128

func (t *Table) toGPT(r Restyling) (*Restyled, error) {
	ss := uint64(t.SectorSize)
	room := (gptEntries*minEntrySize + ss - 1) / ss
	lastUsable := t.Sectors() - room - 2
	out := &Restyled{}
	var entries []Entry
	for i, p := range t.Partitions() {
		if p.Span.First < 2+room {
			return nil, fmt.Errorf(
				"partition %d begins at sector %d, and the table needs the first %d: %w: move the partition, or use the wiping way",
				p.Number, p.Span.First, 2+room, ErrNoRoom,
			)
		}
		if p.Span.Last > lastUsable {
			return nil, fmt.Errorf(
				"partition %d ends at sector %d, and the backup needs the last %d of %d: %w: make its file system and the "+
					"partition smaller by %d sectors",
				p.Number, p.Span.Last, room+1, t.Sectors(), ErrNoRoom, p.Span.Last-lastUsable,
			)
		}
		var code byte
		_, _ = fmt.Sscanf(p.TypeCode, "0x%02x", &code) // it was written so
		kind, ok := gptType[code]
		if !ok {
			kind = TypeBasicData
			out.Notes = append(
				out.Notes,
				fmt.Sprintf("partition %d was of %s, for which a GPT has no type: it becomes basic data", p.Number, p.Type),
			)
		}
		name := ""
		switch {
		case r.Firmware == firmware.UEFI && p.Number == r.BootVolume:
			kind, name = TypeESP, "EFI system"
			out.Notes = append(
				out.Notes, fmt.Sprintf("partition %d, which holds the loader, becomes the EFI system partition", p.Number),
			)
		case r.Systems[p.Number]:
			name = "system"
		}
		if p.Number != i+1 {
			out.Notes = append(
				out.Notes, fmt.Sprintf("partition %d becomes number %d: look at what names it by number", p.Number, i+1),
			)
		}
		entries = append(entries, Entry{Index: i + 1, Type: kind, ID: r.NewGUID(), Span: p.Span, Name: name})
	}
	made, err := t.loaderPlace(r, entries, Span{2 + room, lastUsable})
	if err != nil {
		return nil, err
	}
	if made != nil {
		entries, out.Made = append(entries, *made), made
	}
	raw := make([]byte, gptEntries*minEntrySize)
	for _, e := range entries {
		putEntry(raw[(e.Index-1)*minEntrySize:], e)
	}
	h := Header{
		Revision:    gptRevision,
		Size:        minHeaderSize,
		DiskGUID:    r.NewGUID(),
		EntryCount:  gptEntries,
		EntrySize:   minEntrySize,
		FirstUsable: 2 + room,
	}
	writes, err := t.layOut(h, make([]byte, ss), raw)
	if err != nil {
		return nil, err
	}
	mbr := bytes.Clone(t.rawMBR)
	putProtective(mbr, t.Sectors())
	// Sector 0 comes last: until it changes, the disk is what it was.
	out.Writes = append(writes, block.Write{Off: 0, Data: mbr, What: "protective MBR"})
	return out, nil
}

// loaderPlace finds room for what the firmware starts from, unless it is there.
func (t *Table) loaderPlace(r Restyling, entries []Entry, usable Span) (*Entry, error) {
	want, size, name := GUID{}, uint64(0), ""
	switch r.Firmware {
	case firmware.UEFI:
		want, size, name = TypeESP, espBytes/uint64(t.SectorSize), "EFI system"
	case firmware.BIOS:
		want, size, name = TypeBIOSBoot, (1<<20)/uint64(t.SectorSize), "BIOS boot"
	default:
		return nil, nil //nolint:nilnil // none is wanted
	}
	if slices.ContainsFunc(entries, func(e Entry) bool { return e.Type == want }) {
		return nil, nil //nolint:nilnil // none is needed
	}
	e := Entry{Index: len(entries) + 1, Type: want, ID: r.NewGUID(), Name: name}
	for _, gap := range gaps(spansOf(entries), usable) {
		if r.Firmware == firmware.BIOS && gap.First < 2048 && gap.Last >= gap.First+1024*1024/uint64(t.SectorSize)/2 {
			// The loader's partition needs no alignment: the room before the
			// first partition is what it used to lie in.
			e.Span = Span{gap.First, min(gap.Last, gap.First+size-1)}
			return &e, nil
		}
		first := alignUp(gap.First, t.SectorSize)
		if first+size-1 <= gap.Last {
			e.Span = Span{first, first + size - 1}
			return &e, nil
		}
	}
	return nil, fmt.Errorf(
		"there is no gap of %d MiB for the %s partition that the firmware needs: %w: make a partition smaller, or leave "+
			"--firmware away and place the loader on another disk",
		size*uint64(t.SectorSize)>>20, name, ErrNoRoom,
	)
}

func spansOf(entries []Entry) []Span {
	var list []Span
	for _, e := range entries {
		list = append(list, e.Span)
	}
	return list
}

// gaps are the runs of sectors within usable that no span takes.
func gaps(taken []Span, usable Span) []Span {
	taken = slices.Clone(taken)
	slices.SortFunc(taken, func(a, b Span) int { return cmp.Compare(a.First, b.First) })
	var list []Span
	at := usable.First
	for _, s := range taken {
		if s.First > at {
			list = append(list, Span{at, min(s.First-1, usable.Last)})
		}
		at = max(at, s.Last+1)
	}
	if at <= usable.Last {
		list = append(list, Span{at, usable.Last})
	}
	return list
}

// alignUp goes up to a whole MiB.
func alignUp(lba uint64, sectorSize int) uint64 {
	step := uint64(1<<20) / uint64(sectorSize)
	return (lba + step - 1) / step * step
}

func (t *Table) toMBR(r Restyling) (*Restyled, error) {
	c := t.Trusted()
	if c == nil {
		return nil, fmt.Errorf("neither copy of the GPT can be trusted: %w", ErrNoSource)
	}
	out := &Restyled{}
	mbr := bytes.Clone(t.rawMBR)
	clear(mbr[mbrDiskID : mbrSignature+2])
	binary.LittleEndian.PutUint32(mbr[mbrDiskID:], r.DiskID)
	mbr[mbrSignature], mbr[mbrSignature+1] = 0x55, 0xaa
	slot := 0
	for _, e := range c.Entries {
		if e.Type == TypeBIOSBoot {
			out.Notes = append(out.Notes, fmt.Sprintf("partition %d, BIOS boot, is not needed on an MBR and goes", e.Index))
			continue
		}
		if slot == 4 {
			return nil, fmt.Errorf(
				"an MBR takes 4 partitions and the disk has %d; logical ones need a free sector before each, which a GPT does "+
					"not leave: %w: remove or merge partitions first",
				len(c.Entries), ErrNoRoom,
			)
		}
		if e.Last >= 1<<32 {
			return nil, fmt.Errorf(
				"partition %d ends at sector %d, and an MBR cannot count beyond %d: %w: keep the GPT",
				e.Index, e.Last, uint64(1)<<32-1, ErrNoRoom,
			)
		}
		kind, ok := mbrType[e.Type]
		if !ok {
			kind = 0x83
			out.Notes = append(
				out.Notes,
				fmt.Sprintf(
					"partition %d is of a type that an MBR does not have (%s): it becomes Linux data", e.Index, TypeName(e.Type),
				),
			)
		}
		if e.Name != "" {
			out.Notes = append(out.Notes, fmt.Sprintf("the name %q of partition %d is lost: an MBR has none", e.Name, e.Index))
		}
		if e.Index != slot+1 {
			out.Notes = append(
				out.Notes, fmt.Sprintf("partition %d becomes number %d: look at what names it by number", e.Index, slot+1),
			)
		}
		putMBREntry(mbr, slot, kind, e.Span, r.Firmware == firmware.BIOS && r.Systems[e.Index])
		slot++
	}
	zero := make([]byte, t.SectorSize)
	out.Writes = []block.Write{{Off: 0, Data: mbr, What: "MBR"}}
	for _, copied := range []*Copy{&t.Primary, &t.Backup} {
		if copied.Found {
			out.Writes = append(out.Writes, block.Write{
				Off:  int64(copied.LBA) * int64(t.SectorSize),
				Data: zero,
				What: "clear the " + copied.Name() + " header",
			})
		}
	}
	return out, nil
}

// putMBREntry writes an entry that is addressed by LBA alone: its cylinder,
// head and sector fields say "beyond" (UEFI 2.10, table 5.2, note).
func putMBREntry(mbr []byte, slot int, kind byte, s Span, active bool) {
	b := mbr[mbrEntries+slot*mbrEntrySize:]
	if active {
		b[0] = mbrActiveFlag
	}
	copy(b[1:], []byte{0xfe, 0xff, 0xff, kind, 0xfe, 0xff, 0xff})
	binary.LittleEndian.PutUint32(b[8:], uint32(s.First))
	binary.LittleEndian.PutUint32(b[12:], uint32(s.Sectors()))
}

// EmptyMBR plans an MBR without partitions. Boot code is kept; the headers of
// a GPT are cleared.
func (t *Table) EmptyMBR(diskID uint32) []block.Write {
	mbr := bytes.Clone(t.rawMBR)
	clear(mbr[mbrDiskID:mbrSignature])
	binary.LittleEndian.PutUint32(mbr[mbrDiskID:], diskID)
	mbr[mbrSignature], mbr[mbrSignature+1] = 0x55, 0xaa
	writes := []block.Write{{Off: 0, Data: mbr, What: "empty MBR"}}
	for _, c := range []*Copy{&t.Primary, &t.Backup} {
		if c.Found {
			writes = append(writes, block.Write{
				Off:  int64(c.LBA) * int64(t.SectorSize),
				Data: make([]byte, t.SectorSize),
				What: "clear the " + c.Name() + " header",
			})
		}
	}
	return writes
}
