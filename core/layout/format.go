package layout

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"unicode/utf16"

	"diorthos/core/format"
)

// Offsets in a GPT header (UEFI 2.10, table 5.5), in bytes.
const (
	gptSignature    = "EFI PART"
	gptRevision     = 0x00010000
	hdrSignature    = 0
	hdrRevision     = 8
	hdrSize         = 12
	hdrCRC          = 16
	hdrMyLBA        = 24
	hdrAlternateLBA = 32
	hdrFirstUsable  = 40
	hdrLastUsable   = 48
	hdrDiskGUID     = 56
	hdrEntryLBA     = 72
	hdrEntryCount   = 80
	hdrEntrySize    = 84
	hdrEntryCRC     = 88
	minHeaderSize   = 92
)

// Offsets in a GPT entry (UEFI 2.10, table 5.6), in bytes.
const (
	entType      = 0
	entID        = 16
	entFirst     = 32
	entLast      = 40
	entAttrs     = 48
	entName      = 56
	entNameBytes = 72
	minEntrySize = 128
)

// Offsets in an MBR (UEFI 2.10, table 5.1), in bytes.
const (
	mbrDiskID     = 440
	mbrEntries    = 446
	mbrEntrySize  = 16
	mbrSignature  = 510
	mbrActiveFlag = 0x80
	// TypeProtective is the MBR type of the one entry that keeps old tools
	// away from a GPT disk.
	TypeProtective = 0xee
)

// Limits on what a damaged header can make us read.
const (
	maxEntryBytes = 16 << 20
	maxHeaderSize = 4096
)

// A FormatError says where a structure is not what it should be.
type FormatError = format.Error

func parseHeader(raw []byte) Header {
	le := binary.LittleEndian
	h := Header{
		Revision:    le.Uint32(raw[hdrRevision:]),
		Size:        le.Uint32(raw[hdrSize:]),
		CRC:         le.Uint32(raw[hdrCRC:]),
		MyLBA:       le.Uint64(raw[hdrMyLBA:]),
		Alternate:   le.Uint64(raw[hdrAlternateLBA:]),
		FirstUsable: le.Uint64(raw[hdrFirstUsable:]),
		LastUsable:  le.Uint64(raw[hdrLastUsable:]),
		EntryLBA:    le.Uint64(raw[hdrEntryLBA:]),
		EntryCount:  le.Uint32(raw[hdrEntryCount:]),
		EntrySize:   le.Uint32(raw[hdrEntrySize:]),
		EntryCRC:    le.Uint32(raw[hdrEntryCRC:]),
	}
	copy(h.DiskGUID[:], raw[hdrDiskGUID:])
	return h
}

// putHeader writes h over raw, which keeps whatever lies beyond the known
// fields, and seals it with a fresh CRC.
func putHeader(raw []byte, h Header) {
	le := binary.LittleEndian
	copy(raw[hdrSignature:], gptSignature)
	le.PutUint32(raw[hdrRevision:], h.Revision)
	le.PutUint32(raw[hdrSize:], h.Size)
	le.PutUint64(raw[hdrMyLBA:], h.MyLBA)
	le.PutUint64(raw[hdrAlternateLBA:], h.Alternate)
	le.PutUint64(raw[hdrFirstUsable:], h.FirstUsable)
	le.PutUint64(raw[hdrLastUsable:], h.LastUsable)
	copy(raw[hdrDiskGUID:], h.DiskGUID[:])
	le.PutUint64(raw[hdrEntryLBA:], h.EntryLBA)
	le.PutUint32(raw[hdrEntryCount:], h.EntryCount)
	le.PutUint32(raw[hdrEntrySize:], h.EntrySize)
	le.PutUint32(raw[hdrEntryCRC:], h.EntryCRC)
	le.PutUint32(raw[hdrCRC:], headerCRC(raw, h.Size))
}

// headerCRC is the CRC-32 over the first size bytes, its own field as zero.
func headerCRC(raw []byte, size uint32) uint32 {
	c := bytes.Clone(raw[:size])
	clear(c[hdrCRC : hdrCRC+4])
	return crc32.ChecksumIEEE(c)
}

func parseEntries(raw []byte, size int) []Entry {
	var list []Entry
	le := binary.LittleEndian
	for i := 0; (i+1)*size <= len(raw); i++ {
		b := raw[i*size : (i+1)*size]
		var e Entry
		copy(e.Type[:], b[entType:])
		if e.Type.IsZero() {
			continue
		}
		copy(e.ID[:], b[entID:])
		e.Index = i + 1
		e.First, e.Last = le.Uint64(b[entFirst:]), le.Uint64(b[entLast:])
		e.Attrs = le.Uint64(b[entAttrs:])
		e.Name = decodeName(b[entName : entName+entNameBytes])
		list = append(list, e)
	}
	return list
}

func putEntry(b []byte, e Entry) {
	le := binary.LittleEndian
	copy(b[entType:], e.Type[:])
	copy(b[entID:], e.ID[:])
	le.PutUint64(b[entFirst:], e.First)
	le.PutUint64(b[entLast:], e.Last)
	le.PutUint64(b[entAttrs:], e.Attrs)
	clear(b[entName : entName+entNameBytes])
	for i, u := range utf16.Encode([]rune(e.Name)) {
		if 2*i >= entNameBytes {
			break
		}
		le.PutUint16(b[entName+2*i:], u)
	}
}

func decodeName(b []byte) string {
	var units []uint16
	for i := 0; i+1 < len(b); i += 2 {
		u := binary.LittleEndian.Uint16(b[i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

func parseMBR(raw []byte, sectors uint64) MBR {
	le := binary.LittleEndian
	m := MBR{
		Signed: raw[mbrSignature] == 0x55 && raw[mbrSignature+1] == 0xaa,
		DiskID: le.Uint32(raw[mbrDiskID:]),
	}
	m.HasCode = len(bytes.Trim(raw[:mbrDiskID], "\x00")) > 0
	for i := range 4 {
		e := parseMBREntry(raw, i)
		if e.Type != 0 || e.Sectors != 0 {
			m.Entries = append(m.Entries, e)
		}
	}
	if !m.Signed && !plausible(m.Entries, raw, sectors) {
		m.Entries = nil
	}
	return m
}

// plausible reports whether entries of a sector 0 without a boot record's signature
// make up a table all the same: each is in use or all zeros, on the disk, and overlaps no other.
func plausible(entries []MBREntry, raw []byte, sectors uint64) bool {
	used := 0
	for i := range 4 {
		slot := raw[mbrEntries+i*mbrEntrySize:][:mbrEntrySize]
		if len(bytes.Trim(slot, "\x00")) > 0 {
			used++
		}
	}
	for i, e := range entries {
		if e.Flag != 0 && e.Flag != mbrActiveFlag || e.Type == 0 || e.Type == TypeProtective || e.First == 0 ||
			e.Sectors == 0 || e.First+e.Sectors > sectors {
			return false
		}
		for _, o := range entries[:i] {
			if e.First < o.First+o.Sectors && o.First < e.First+e.Sectors {
				return false
			}
		}
	}
	return used > 0 && used == len(entries)
}

// putProtective turns the partition part of an MBR into a protective one and
// leaves the boot code as it is (UEFI 2.10, table 5.4).
func putProtective(raw []byte, sectors uint64) {
	clear(raw[mbrEntries:mbrSignature])
	b := raw[mbrEntries:]
	copy(b[1:], []byte{0x00, 0x02, 0x00, TypeProtective, 0xff, 0xff, 0xff})
	binary.LittleEndian.PutUint32(b[8:], 1)
	binary.LittleEndian.PutUint32(b[12:], uint32(min(sectors-1, 0xffffffff)))
	raw[mbrSignature], raw[mbrSignature+1] = 0x55, 0xaa
}

// LooksLikeGPT reports whether bytes are a GPT header, or entries of one: each slot is
// empty, or has a first sector that is not behind its last and a name of whole letters.
func LooksLikeGPT(raw []byte) bool {
	if bytes.HasPrefix(raw, []byte(gptSignature)) {
		return true
	}
	found := false
	for at := 0; at+minEntrySize <= len(raw); at += minEntrySize {
		slot := raw[at : at+minEntrySize]
		if len(bytes.Trim(slot, "\x00")) == 0 {
			continue
		}
		list := parseEntries(slot, minEntrySize)
		if len(list) != 1 || list[0].Type.IsZero() || list[0].ID.IsZero() || list[0].First > list[0].Last ||
			list[0].Last >= 1<<48 {
			return false
		}
		found = true
	}
	return found
}
