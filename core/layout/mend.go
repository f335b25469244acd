package layout

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"

	"diorthos/core/block"
)

// A Mending says what is to be put right besides both copies of the GPT and
// the protective MBR.
type Mending struct {
	// NewGUID gives fresh GUIDs to what has none, or one that another has.
	// Without it they stay.
	NewGUID func() GUID
	// Contents are what lies on the partitions. With them, a partition that is
	// smaller than the file system on it gets its end back, if nothing is in
	// the way.
	Contents map[int]Content
}

// MendAll plans what makes the disk's GPT whole: both copies from the one that
// can be trusted, the backup at the end of the disk, the range of usable
// sectors, the protective MBR, and what the Mending asks for. Only sectors
// that change are planned. It fails with ErrNothingToMend, or with ErrNoSource
// when neither copy can be trusted.
func (t *Table) MendAll(m Mending) ([]block.Write, error) {
	c := t.Trusted()
	if c == nil {
		return nil, fmt.Errorf("neither copy of the GPT can be trusted: %w: see \"layout rescue\"", ErrNoSource)
	}
	if last := t.Sectors() - 1; c.Header.Alternate > last {
		for _, e := range c.Entries {
			if e.Last > last-33 {
				return nil, fmt.Errorf(
					"the disk ends at sector %d and partition %d at %d: the end of the disk is missing, and with it data: %w",
					last, e.Index, e.Last, ErrNoSource,
				)
			}
		}
	}
	h, raw := c.Header, bytes.Clone(c.rawEntries)
	changed := m.changes(t, c)
	for _, e := range changed {
		putEntry(raw[(e.Index-1)*int(h.EntrySize):], e)
	}
	if h.DiskGUID.IsZero() && m.NewGUID != nil {
		h.DiskGUID = m.NewGUID()
	}
	writes, err := t.layOut(h, c.rawHeader, raw)
	if err != nil {
		return nil, err
	}
	return t.onlyChanges(append(writes, t.protectiveWrites()...))
}

// changes are the entries that are to be other than they are.
func (m Mending) changes(t *Table, c *Copy) []Entry {
	var list []Entry
	seen := map[GUID]bool{}
	for _, e := range c.Entries {
		was := e
		if m.NewGUID != nil && (e.ID.IsZero() || seen[e.ID]) {
			e.ID = m.NewGUID()
		}
		seen[e.ID] = true
		if content, ok := m.Contents[e.Index]; ok && content.Size > int64(e.Sectors())*int64(t.SectorSize) {
			end := e.First + uint64(content.Size+int64(t.SectorSize)-1)/uint64(t.SectorSize) - 1
			free := end <= c.Header.LastUsable
			for _, o := range c.Entries {
				free = free && (o.Index == e.Index || !o.Overlaps(Span{e.First, end}))
			}
			if free {
				e.Last = end
			}
		}
		if e != was {
			list = append(list, e)
		}
	}
	return list
}

// layOut plans both copies of a table for this disk. What the header holds
// beyond the known fields is kept.
func (t *Table) layOut(h Header, rawHeader, entries []byte) ([]block.Write, error) {
	ss := uint64(t.SectorSize)
	room := (uint64(len(entries)) + ss - 1) / ss
	last := t.Sectors() - 1
	if last < 2*room+3 {
		return nil, &FormatError{
			What: "disk",
			Want: fmt.Sprintf("at least %d sectors", 2*room+4),
			Got:  fmt.Sprint(t.Sectors()),
		}
	}
	used := Span{First: last, Last: 0}
	for _, e := range parseEntries(entries, int(h.EntrySize)) {
		used.First, used.Last = min(used.First, e.First), max(used.Last, e.Last)
	}
	if used.Last > last-room-1 || used.First < 2+room {
		return nil, fmt.Errorf(
			"the table needs the first %d and the last %d sectors, and partitions lie from %d to %d: %w",
			2+room, 1+room, used.First, used.Last, ErrNoRoom,
		)
	}
	// FirstUsable is kept where it makes sense: it may be aligned.
	if h.FirstUsable < 2+room || h.FirstUsable > used.First {
		h.FirstUsable = 2 + room
	}
	h.LastUsable = last - room - 1
	h.EntryCRC = crc32.ChecksumIEEE(entries)
	primary, backup := bytes.Clone(rawHeader), bytes.Clone(rawHeader)
	h.MyLBA, h.Alternate, h.EntryLBA = 1, last, 2
	putHeader(primary, h)
	h.MyLBA, h.Alternate, h.EntryLBA = last, 1, last-room
	putHeader(backup, h)
	padded := padToSector(entries, t.SectorSize)
	return []block.Write{ // the copy that nothing depends on yet comes first
		{Off: int64((last - room) * ss), Data: padded, What: "backup GPT entries"},
		{Off: int64(last * ss), Data: backup, What: "backup GPT header"},
		{Off: int64(2 * ss), Data: padded, What: "primary GPT entries"},
		{Off: int64(ss), Data: primary, What: "primary GPT header"},
	}, nil
}

// ErrNoRoom means that what is wanted does not fit beside what is there.
var ErrNoRoom = errors.New("no room for the table")

// onlyChanges leaves out what stands on the disk already.
func (t *Table) onlyChanges(writes []block.Write) ([]block.Write, error) {
	var list []block.Write
	for _, w := range writes {
		if !bytes.Equal(w.Data, t.standing(w.Off, len(w.Data))) {
			list = append(list, w)
		}
	}
	if len(list) == 0 {
		return nil, ErrNothingToMend
	}
	return list, nil
}

// standing is what was read at an offset, if it was.
func (t *Table) standing(off int64, n int) []byte {
	ss := int64(t.SectorSize)
	at := func(lba uint64) int64 { return int64(lba) * ss }
	for _, have := range []struct {
		off int64
		raw []byte
	}{
		{0, t.rawMBR},
		{at(1), t.Primary.rawHeader},
		{at(t.Backup.LBA), t.Backup.rawHeader},
		{at(t.Primary.Header.EntryLBA), padToSector(t.Primary.rawEntries, t.SectorSize)},
		{at(t.Backup.Header.EntryLBA), padToSector(t.Backup.rawEntries, t.SectorSize)},
	} {
		if have.off == off && len(have.raw) == n {
			return have.raw
		}
	}
	return nil
}

// Retype plans another type for a partition of a GPT, in both copies. Its number, name and
// place stay.
func (t *Table) Retype(number int, to GUID) ([]block.Write, error) {
	c := t.Trusted()
	if c == nil {
		return nil, fmt.Errorf("neither copy of the GPT can be trusted: %w: see \"layout rescue\"", ErrNoSource)
	}
	raw := bytes.Clone(c.rawEntries)
	for _, e := range c.Entries {
		if e.Index == number {
			e.Type = to
			putEntry(raw[(e.Index-1)*int(c.Header.EntrySize):], e)
			writes, err := t.layOut(c.Header, c.rawHeader, raw)
			if err != nil {
				return nil, err
			}
			return t.onlyChanges(writes)
		}
	}
	return nil, fmt.Errorf("there is no partition %d", number)
}

// Activate plans the active flag of an MBR on one partition alone; 0 takes it
// from all. It refuses a logical partition and a GPT.
func (t *Table) Activate(number int) ([]block.Write, error) {
	if t.Style() != StyleMBR {
		return nil, fmt.Errorf("the disk is %s: the active flag belongs to an MBR", t.Style())
	}
	raw := bytes.Clone(t.rawMBR)
	found := number == 0
	for _, e := range t.MBR.Entries {
		raw[mbrEntries+(e.Index-1)*mbrEntrySize] = 0
		if e.Index == number && !extended(e.Type) {
			raw[mbrEntries+(e.Index-1)*mbrEntrySize] = mbrActiveFlag
			found = true
		}
	}
	if !found {
		return nil, fmt.Errorf("partition %d is not one of the MBR's own: only those can be active", number)
	}
	return t.onlyChanges([]block.Write{{Off: 0, Data: raw, What: "active flag in the MBR"}})
}
