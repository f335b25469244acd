package layout

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"

	"diorthos/core/block"
)

var (
	// ErrNothingToMend means that the copy in question is sound already.
	ErrNothingToMend = errors.New("nothing to mend")
	// ErrNoSource means that the copy to mend from cannot be trusted.
	ErrNoSource = errors.New("no sound copy to mend from")
)

// MendPrimary plans the primary GPT anew from the backup: entries, header and
// the protective MBR. Boot code in sector 0 is kept, and so are bytes of the
// backup's header and entries that we do not know. Nothing is planned for a
// sector that is right already.
func (t *Table) MendPrimary() ([]block.Write, error) {
	if t.Primary.Sound() && t.MBR.Protective() {
		return nil, fmt.Errorf("the primary GPT and the protective MBR are sound: %w", ErrNothingToMend)
	}
	from := &t.Backup
	if !from.Sound() {
		if len(from.Problems) == 0 {
			return nil, ErrNoSource
		}
		return nil, fmt.Errorf(
			"the backup GPT at LBA %d is damaged too (%s): %w", from.LBA, from.Problems[0].Text, ErrNoSource,
		)
	}
	if t.Primary.Sound() {
		return t.protectiveWrites(), nil
	}
	ss := uint64(t.SectorSize)
	h := from.Header
	h.MyLBA, h.Alternate, h.EntryLBA = 1, from.LBA, 2
	room := (h.FirstUsable - min(h.FirstUsable, 2)) * ss
	if uint64(len(from.rawEntries)) > room {
		return nil, fmt.Errorf(
			"the entries need %d bytes and the first partition may begin after %d: %w", len(from.rawEntries), room, ErrNoSource,
		)
	}
	header := bytes.Clone(from.rawHeader)
	putHeader(header, h)
	entries := padToSector(from.rawEntries, t.SectorSize)
	writes := []block.Write{
		{Off: 2 * int64(ss), Data: entries, What: "primary GPT entries"},
		{Off: int64(ss), Data: header, What: "primary GPT header"},
	}
	return append(writes, t.protectiveWrites()...), nil
}

// protectiveWrites plans a protective MBR where there is none. Whatever else sector 0
// holds, such as boot code, is kept.
func (t *Table) protectiveWrites() []block.Write {
	if t.MBR.Protective() {
		return nil
	}
	raw := bytes.Clone(t.rawMBR)
	raw[mbrSignature], raw[mbrSignature+1] = 0x55, 0xaa
	if !parseMBR(raw, t.Sectors()).Protective() { // else the signature is all that is missing
		putProtective(raw, t.Sectors())
	}
	return []block.Write{{Off: 0, Data: raw, What: "protective MBR"}}
}

// padToSector fills up with zeros to whole sectors.
func padToSector(raw []byte, sectorSize int) []byte {
	rest := len(raw) % sectorSize
	if rest == 0 {
		return bytes.Clone(raw)
	}
	return append(bytes.Clone(raw), make([]byte, sectorSize-rest)...)
}

// A Plan is a GPT to be made on an empty disk.
type Plan struct {
	DiskGUID   GUID
	Partitions []Entry // Index is given by the order
}

// Create plans a whole new GPT with both copies for a disk of size bytes:
// 128 entries, the first usable sector at 34 or its like for larger sectors.
func Create(size int64, sectorSize int, plan Plan) ([]block.Write, error) {
	const count = 128
	ss := uint64(sectorSize)
	sectors := uint64(size) / ss
	entrySectors := (count*minEntrySize + ss - 1) / ss
	if sectors < 2*entrySectors+4 {
		return nil, &FormatError{
			What: "disk",
			Want: fmt.Sprintf("at least %d sectors", 2*entrySectors+4),
			Got:  fmt.Sprint(sectors),
		}
	}
	if len(plan.Partitions) > count {
		return nil, &FormatError{What: "plan", Want: "128 partitions at the most", Got: fmt.Sprint(len(plan.Partitions))}
	}
	entries := make([]byte, entrySectors*ss)
	for i, e := range plan.Partitions {
		putEntry(entries[i*minEntrySize:], e)
	}
	h := Header{
		Revision: gptRevision, Size: minHeaderSize, DiskGUID: plan.DiskGUID,
		FirstUsable: 2 + entrySectors, LastUsable: sectors - entrySectors - 2,
		EntryCount: count, EntrySize: minEntrySize, EntryCRC: crc32.ChecksumIEEE(entries[:count*minEntrySize]),
	}
	for _, e := range plan.Partitions {
		if e.First < h.FirstUsable || e.Last > h.LastUsable || e.Last < e.First {
			return nil, &FormatError{
				What: fmt.Sprintf("partition %q", e.Name),
				Want: fmt.Sprintf("within LBA %d to %d", h.FirstUsable, h.LastUsable),
				Got:  fmt.Sprintf("%d to %d", e.First, e.Last),
			}
		}
	}
	primary, backup, mbr := make([]byte, ss), make([]byte, ss), make([]byte, ss)
	p, b := h, h
	p.MyLBA, p.Alternate, p.EntryLBA = 1, sectors-1, 2
	b.MyLBA, b.Alternate, b.EntryLBA = sectors-1, 1, sectors-1-entrySectors
	putHeader(primary, p)
	putHeader(backup, b)
	putProtective(mbr, sectors)
	return []block.Write{
		{Off: 0, Data: mbr, What: "protective MBR"},
		{Off: int64(ss), Data: primary, What: "primary GPT header"},
		{Off: 2 * int64(ss), Data: entries, What: "primary GPT entries"},
		{Off: int64(b.EntryLBA * ss), Data: entries, What: "backup GPT entries"},
		{Off: int64(b.MyLBA * ss), Data: backup, What: "backup GPT header"},
	}, nil
}
