package layout

import (
	"fmt"

	"diorthos/core/block"
)

// A Header is the header of one copy of a GPT. LBAs count sectors from the
// start of the disk.
type Header struct {
	Revision    uint32
	Size        uint32 // bytes
	CRC         uint32
	MyLBA       uint64
	Alternate   uint64
	FirstUsable uint64
	LastUsable  uint64
	DiskGUID    GUID
	EntryLBA    uint64
	EntryCount  uint32
	EntrySize   uint32 // bytes
	EntryCRC    uint32
}

// A Span is a run of sectors, both ends included.
type Span struct {
	First, Last uint64
}

// Sectors is the length of the span.
func (s Span) Sectors() uint64 { return s.Last - s.First + 1 }

// Overlaps reports whether s and o share a sector.
func (s Span) Overlaps(o Span) bool { return s.First <= o.Last && o.First <= s.Last }

// An Entry is one used entry of a GPT.
type Entry struct {
	Index int // from 1, as the table counts
	Type  GUID
	ID    GUID
	Span
	Attrs uint64
	Name  string
}

// A Copy is one of the two copies of a GPT as it was found. It is sound when
// Problems is empty.
type Copy struct {
	Backup   bool
	LBA      uint64 // where its header was looked for
	Found    bool   // a header signature stands there
	Header   Header
	Computed struct{ Header, Entries uint32 } // CRCs over what is there
	Entries  []Entry
	Problems []Problem // those of this copy alone

	rawHeader  []byte // one sector
	rawEntries []byte
}

// Sound reports whether the copy alone is a valid table.
func (c *Copy) Sound() bool { return c.Found && len(c.Problems) == 0 }

// Name is "primary GPT" or "backup GPT".
func (c *Copy) Name() string {
	if c.Backup {
		return "backup GPT"
	}
	return "primary GPT"
}

// An MBREntry is one used entry of a master boot record.
type MBREntry struct {
	Index   int
	Active  bool
	Flag    byte
	Type    byte
	First   uint64 // LBA
	Sectors uint64
	Link    uint64 // of a logical partition, the LBA of its record in the chain
}

// An MBR is the first sector of a disk.
type MBR struct {
	// Signed says that 55 aa stands at its end. Without it the entries are there if they
	// make up a table all the same.
	Signed  bool
	HasCode bool
	DiskID  uint32
	Entries []MBREntry
	Logical []MBREntry // the partitions inside an extended one, numbered from 5
}

// Protective reports whether the record says that the disk is a GPT one.
func (m MBR) Protective() bool {
	for _, e := range m.Entries {
		if m.Signed && e.Type == TypeProtective {
			return true
		}
	}
	return false
}

// A Style is what kind of table a disk carries.
type Style string

// The styles. A disk is GPT when either copy is there, whatever its MBR says.
const (
	StyleNone Style = "none"
	StyleMBR  Style = "mbr"
	StyleGPT  Style = "gpt"
)

// Styles lists those that there are.
func Styles() []Style { return []Style{StyleNone, StyleMBR, StyleGPT} }

// A Table is everything a disk says about its partitions.
type Table struct {
	Size       int64 // bytes
	SectorSize int   // bytes
	MBR        MBR
	Primary    Copy
	Backup     Copy

	rawMBR []byte    // one sector
	chain  []Problem // of the logical partitions
	other  bool      // a GPT header stands where one of the other sector size would
}

// Sectors is the number of whole sectors of the disk.
func (t *Table) Sectors() uint64 { return uint64(t.Size) / uint64(t.SectorSize) }

// Style says what kind of table the disk carries.
func (t *Table) Style() Style {
	switch {
	case t.Primary.Found || t.Backup.Found:
		return StyleGPT
	case len(t.MBR.Entries) > 0:
		return StyleMBR
	}
	return StyleNone
}

// Trusted returns the copy of the GPT to go by: the primary if it is sound,
// else the backup if that is; nil when neither can be trusted.
func (t *Table) Trusted() *Copy {
	for _, c := range []*Copy{&t.Primary, &t.Backup} {
		if c.Sound() {
			return c
		}
	}
	return nil
}

// A Partition is a partition of either style, in bytes, by the table to go by.
type Partition struct {
	Number   int
	Type     string // the trade's name of the type
	TypeCode string // GUID, or 0x.. for MBR
	ID       string // unique GUID; empty for MBR
	Name     string
	Active   bool
	Span     Span
	Off      int64 // bytes
	Length   int64 // bytes
}

// Partitions lists the partitions in the order of the table. It is empty when
// no table can be trusted.
func (t *Table) Partitions() []Partition {
	ss := int64(t.SectorSize)
	var list []Partition
	if c := t.Trusted(); c != nil {
		for _, e := range c.Entries {
			list = append(list, Partition{
				Number: e.Index, Type: TypeName(e.Type), TypeCode: e.Type.String(), ID: e.ID.String(), Name: e.Name,
				Span: e.Span, Off: int64(e.First) * ss, Length: int64(e.Sectors()) * ss,
			})
		}
		return list
	}
	if t.Style() != StyleMBR {
		return nil
	}
	for _, e := range append(t.MBR.Entries[:len(t.MBR.Entries):len(t.MBR.Entries)], t.MBR.Logical...) {
		if e.Sectors == 0 || e.Type == TypeProtective || extended(e.Type) {
			continue
		}
		list = append(list, Partition{
			Number: e.Index, Type: MBRTypeName(e.Type), TypeCode: fmt.Sprintf("0x%02x", e.Type), Active: e.Active,
			Span: Span{e.First, e.First + e.Sectors - 1}, Off: int64(e.First) * ss, Length: int64(e.Sectors) * ss,
		})
	}
	return list
}

// Target returns the marks by which this disk is known again.
func (t *Table) Target(path string) block.Target {
	target := block.Target{Path: path, Size: t.Size, SectorSize: t.SectorSize, Marks: []string{}}
	if c := t.Trusted(); c != nil {
		target.Marks = append(target.Marks, "disk "+c.Header.DiskGUID.String())
		for _, e := range c.Entries {
			target.Marks = append(target.Marks, fmt.Sprintf("partition %d %s", e.Index, e.ID))
		}
	} else if t.Style() == StyleMBR {
		target.Marks = append(target.Marks, fmt.Sprintf("mbr %08x", t.MBR.DiskID))
	}
	return target
}
