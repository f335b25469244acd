package ext

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// Offsets of what checksums need (ext4/checksums.rst), in bytes.
const (
	sbROCompat     = 0x64
	sbUUID         = 0x68
	sbSeed         = 0x270
	sbChecksum     = 0x3fc
	sbBlockGroup   = 0x5a
	inGeneration   = 0x64
	inChecksumLow  = 0x7c
	inExtraSize    = 0x80
	inChecksumHigh = 0x82

	roMetaChecksum = 0x400
	incompatSeed   = 0x2000
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sum continues a CRC-32C as the kernel does: without turning the bits at
// either end.
func sum(crc uint32, p []byte) uint32 { return ^crc32.Update(^crc, castagnoli, p) }

// checks reports whether the file system keeps checksums of its structures.
func (s super) checks() bool { return s.roCompat&roMetaChecksum != 0 }

// checkSuper compares the superblock with its own checksum.
func checkSuper(b []byte, s super, at int64) error {
	if !s.checks() {
		return nil
	}
	want, got := sum(^uint32(0), b[:sbChecksum]), binary.LittleEndian.Uint32(b[sbChecksum:])
	if want != got {
		return &FormatError{
			In:     "ext",
			What:   "superblock: checksum",
			Offset: at + sbChecksum,
			Want:   fmt.Sprintf("0x%08x", want),
			Got:    fmt.Sprintf("0x%08x", got),
		}
	}
	return nil
}

// checkInode compares an inode with its checksum. One that is all zeros was
// never used.
func (s super) checkInode(number int64, raw []byte, at int64) error {
	if !s.checks() || len(bytes.Trim(raw, "\x00")) == 0 {
		return nil
	}
	le := binary.LittleEndian
	plain := bytes.Clone(raw)
	clear(plain[inChecksumLow : inChecksumLow+2])
	got := uint32(le.Uint16(raw[inChecksumLow:]))
	wide := len(raw) > 128 && le.Uint16(raw[inExtraSize:]) >= 4
	if wide {
		clear(plain[inChecksumHigh : inChecksumHigh+2])
		got |= uint32(le.Uint16(raw[inChecksumHigh:])) << 16
	}
	want := sum(s.seedOf(number, raw), plain)
	if !wide {
		want &= 0xffff
	}
	if want != got {
		return &FormatError{
			In:     "ext",
			What:   fmt.Sprintf("inode %d: checksum", number),
			Offset: at,
			Want:   fmt.Sprintf("0x%08x", want),
			Got:    fmt.Sprintf("0x%08x", got),
		}
	}
	return nil
}

// seedOf is that with which the checksums of an inode and of its blocks begin.
func (s super) seedOf(number int64, raw []byte) uint32 {
	var id [4]byte
	binary.LittleEndian.PutUint32(id[:], uint32(number))
	return sum(sum(s.seed, id[:]), raw[inGeneration:inGeneration+4])
}

// folderTail is the size of the entry that ends a block of a folder and holds
// its checksum, and folderTailType marks it.
const (
	folderTail     = 12
	folderTailType = 0xde
)

// indexAt is where the entries of a block of a hashed tree begin (ext4/directory.rst, "Hash
// Tree Directories"): behind the folder's own two entries and the root's head, or behind one
// empty entry; 0 for a block that holds names. Its end may still look like that of one: a
// folder that grows becomes a tree in place.
func (s super) indexAt(in *inode, b []byte) int {
	if in.flags&flagIndex == 0 || len(b) < 40 {
		return 0
	}
	le := binary.LittleEndian
	switch first := int64(le.Uint16(b[4:])); {
	case first == s.blockSize && le.Uint32(b) == 0:
		return 8
	case first == 12 && int64(le.Uint16(b[16:])) == s.blockSize-12 && le.Uint32(b[24:]) == 0 && b[29] == 8:
		return 32
	}
	return 0
}

// checkIndex compares a block of a hashed tree with its checksum, which stands behind the
// last entry that there is room for.
func (s super) checkIndex(in *inode, b []byte, at int) error {
	le := binary.LittleEndian
	limit, count := int(le.Uint16(b[at:])), int(le.Uint16(b[at+2:]))
	end := at + 8*limit
	if count > limit || end+8 > len(b) {
		return &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: index of a folder", in.number),
			Want: "entries and a checksum within the block",
			Got:  fmt.Sprintf("%d of %d entries", count, limit),
		}
	}
	want := sum(sum(sum(in.seed, b[:at+8*count]), b[end:end+4]), make([]byte, 4))
	if got := le.Uint32(b[end+4:]); want != got {
		return differs(fmt.Sprintf("inode %d: index of a folder", in.number), want, got)
	}
	return nil
}

// differs says that a checksum is not that of what it stands for.
func differs(what string, want, got uint32) error {
	return &FormatError{
		In: "ext", What: what + ": checksum", Want: fmt.Sprintf("0x%08x", want), Got: fmt.Sprintf("0x%08x", got),
	}
}

// checkFolder compares a block of a folder with its checksum.
func (s super) checkFolder(in *inode, b []byte) error {
	if !s.checks() || int64(len(b)) != s.blockSize {
		return nil
	}
	if at := s.indexAt(in, b); at > 0 {
		return s.checkIndex(in, b, at)
	}
	le := binary.LittleEndian
	tail := b[len(b)-folderTail:]
	if le.Uint32(tail) != 0 || le.Uint16(tail[4:]) != folderTail || tail[7] != folderTailType {
		return &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: end of a folder's block", in.number),
			Want: "an entry with its checksum",
			Got:  fmt.Sprintf("% x", tail[:8]),
		}
	}
	if want, got := sum(in.seed, b[:len(b)-folderTail]), le.Uint32(tail[8:]); want != got {
		return differs(fmt.Sprintf("inode %d: folder's block", in.number), want, got)
	}
	return nil
}

// checkExtents compares a block of an extent tree with its checksum, which
// stands behind the last entry that there is room for.
func (s super) checkExtents(in *inode, node []byte) error {
	if !s.checks() {
		return nil
	}
	le := binary.LittleEndian
	at := 12 + 12*int(le.Uint16(node[4:]))
	if at+4 > len(node) {
		return &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: extent node: entries", in.number),
			Want: fmt.Sprintf("at most %d", (len(node)-16)/12),
			Got:  fmt.Sprint(le.Uint16(node[4:])),
		}
	}
	if want, got := sum(in.seed, node[:at]), le.Uint32(node[at:]); want != got {
		return &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: extent node: checksum", in.number),
			Want: fmt.Sprintf("0x%08x", want),
			Got:  fmt.Sprintf("0x%08x", got),
		}
	}
	return nil
}
