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
		return &FormatError{What: "superblock: checksum", Offset: at + sbChecksum, Want: fmt.Sprintf("0x%08x", want), Got: fmt.Sprintf("0x%08x", got)}
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
	var id [4]byte
	le.PutUint32(id[:], uint32(number))
	want := sum(sum(sum(s.seed, id[:]), raw[inGeneration:inGeneration+4]), plain)
	if !wide {
		want &= 0xffff
	}
	if want != got {
		return &FormatError{What: fmt.Sprintf("inode %d: checksum", number), Offset: at, Want: fmt.Sprintf("0x%08x", want), Got: fmt.Sprintf("0x%08x", got)}
	}
	return nil
}
