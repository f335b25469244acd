package layout

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"math/bits"
	"strings"
)

// Content is what a stretch of a disk holds, by its own superblock. Sizes are
// in bytes; Free is -1 where the superblock does not say.
type Content struct {
	Kind      string // "ext4", "fat32", …; empty when nothing was recognised
	Label     string
	UUID      string
	Size      int64 // of the file system, not of the partition
	Free      int64
	LastMount string // where it was mounted last, when the superblock says
	Note      string // such as "not cleanly unmounted"
}

// recognisers are asked in turn; the first one that knows its own wins. A
// container stands before what it may contain.
var recognisers = []func(io.ReaderAt) (Content, bool){
	recogniseMD, recogniseLUKS, recogniseLVM, recogniseSwap, recogniseExt, recogniseXFS, recogniseBtrfs,
	recogniseF2FS, recogniseExFAT, recogniseNTFS, recogniseFAT, recogniseSquashFS, recogniseDisc,
}

// Recognise tells what lies at the start of src. The zero Content means that
// nothing known lies there. It reads fewer than 70 KiB.
func Recognise(src io.ReaderAt) Content {
	for _, ask := range recognisers {
		if c, ok := ask(src); ok {
			return c
		}
	}
	return Content{Free: -1}
}

func peek(src io.ReaderAt, off int64, n int) ([]byte, bool) {
	b := make([]byte, n)
	got, _ := src.ReadAt(b, off)
	return b, got == n
}

// recogniseExt follows the Linux kernel's documentation,
// filesystems/ext4/super.rst.
func recogniseExt(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 1024, 1024)
	le := binary.LittleEndian
	if !ok || le.Uint16(b[0x38:]) != 0xef53 || le.Uint32(b[0x18:]) > 6 {
		return Content{}, false
	}
	blockSize := int64(1024) << le.Uint32(b[0x18:])
	compat, incompat, roCompat := le.Uint32(b[0x5c:]), le.Uint32(b[0x60:]), le.Uint32(b[0x64:])
	blocks, free := int64(le.Uint32(b[0x4:])), int64(le.Uint32(b[0xc:]))
	if incompat&0x80 != 0 { // 64-bit block numbers
		blocks |= int64(le.Uint32(b[0x150:])) << 32
		free |= int64(le.Uint32(b[0x158:])) << 32
	}
	c := Content{
		Kind:      "ext2",
		Label:     cString(b[0x78:0x88]),
		UUID:      uuid(b[0x68:0x78]),
		LastMount: cString(b[0x88:0xc8]),
		Size:      blocks * blockSize,
		Free:      free * blockSize,
	}
	if compat&0x4 != 0 { // has a journal
		c.Kind = "ext3"
	}
	if incompat&0x2c0 != 0 || roCompat&0x478 != 0 { // extents, 64-bit, flexible groups, huge files, checksums, …
		c.Kind = "ext4"
	}
	if incompat&0x4 != 0 {
		c.Note = "its journal must be replayed: it was not cleanly unmounted"
	} else if le.Uint16(b[0x3a:])&0x2 != 0 {
		c.Note = "the kernel noted errors in it"
	}
	return c, blocks > 0
}

// recogniseFAT follows the BIOS parameter block of ECMA-107 and its 32-bit
// extension; the kind is decided by the number of clusters alone.
func recogniseFAT(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 512)
	le := binary.LittleEndian
	if !ok || b[510] != 0x55 || b[511] != 0xaa {
		return Content{}, false
	}
	sector, perCluster := int64(le.Uint16(b[11:])), int64(b[13])
	reserved, fats := int64(le.Uint16(b[14:])), int64(b[16])
	if sector < 512 || sector > 4096 || bits.OnesCount16(uint16(sector)) != 1 || perCluster == 0 ||
		bits.OnesCount8(b[13]) != 1 || reserved == 0 || fats == 0 || fats > 2 {
		return Content{}, false
	}
	rootSectors := (int64(le.Uint16(b[17:]))*32 + sector - 1) / sector
	total := int64(le.Uint16(b[19:]))
	if total == 0 {
		total = int64(le.Uint32(b[32:]))
	}
	perFAT := int64(le.Uint16(b[22:]))
	wide := perFAT == 0
	if wide {
		perFAT = int64(le.Uint32(b[36:]))
	}
	clusters := (total - reserved - fats*perFAT - rootSectors) / perCluster
	if clusters <= 0 || perFAT == 0 {
		return Content{}, false
	}
	c := Content{Kind: "fat16", Size: total * sector, Free: -1}
	at := 36
	switch {
	case wide:
		c.Kind, at = "fat32", 64
		if info, ok := peek(src, int64(le.Uint16(b[48:]))*sector, 512); ok && le.Uint32(info) == 0x41615252 {
			if free := le.Uint32(info[488:]); int64(free) <= clusters {
				c.Free = int64(free) * perCluster * sector
			}
		}
	case clusters < 4085:
		c.Kind = "fat12"
	}
	if b[at+2] == 0x29 { // extended boot signature: serial and label follow
		serial := le.Uint32(b[at+3:])
		c.UUID = fmt.Sprintf("%04X-%04X", serial>>16, serial&0xffff)
		if label := strings.TrimRight(string(b[at+7:at+18]), " "); label != "NO NAME" {
			c.Label = label
		}
	}
	return c, true
}

// recogniseXFS follows the XFS Algorithms & Data Structures, "Superblocks".
func recogniseXFS(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 512)
	if !ok || string(b[:4]) != "XFSB" {
		return Content{}, false
	}
	be := binary.BigEndian
	size := int64(be.Uint32(b[4:]))
	return Content{
		Kind:  "xfs",
		UUID:  uuid(b[32:48]),
		Label: cString(b[108:120]),
		Size:  size * int64(be.Uint64(b[8:])),
		Free:  size * int64(be.Uint64(b[144:])),
	}, true
}

// recogniseBtrfs follows the btrfs on-disk format document, "Superblock".
func recogniseBtrfs(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 64<<10, 1024)
	if !ok || string(b[64:72]) != "_BHRfS_M" {
		return Content{}, false
	}
	le := binary.LittleEndian
	size, used := int64(le.Uint64(b[112:])), int64(le.Uint64(b[120:]))
	if devices := le.Uint64(b[136:]); devices > 1 { // those are of all of them: this one has its own
		size, used = int64(le.Uint64(b[209:])), int64(le.Uint64(b[217:]))
	}
	return Content{Kind: "btrfs", UUID: uuid(b[32:48]), Label: cString(b[299:555]), Size: size, Free: size - used}, true
}

// recogniseSwap knows the page sizes that Linux uses.
func recogniseSwap(src io.ReaderAt) (Content, bool) {
	for _, page := range []int64{4096, 16384, 65536} {
		if b, ok := peek(src, page-10, 10); ok && string(b) == "SWAPSPACE2" {
			head, _ := peek(src, 1024, 44)
			pages := int64(binary.LittleEndian.Uint32(head[4:])) + 1
			return Content{
				Kind:  "swap",
				UUID:  uuid(head[12:28]),
				Label: cString(head[28:44]),
				Size:  pages * page,
				Free:  -1,
			}, true
		}
	}
	return Content{}, false
}

func recogniseLUKS(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 208)
	if !ok || !bytes.Equal(b[:6], []byte("LUKS\xba\xbe")) {
		return Content{}, false
	}
	return Content{
		Kind: fmt.Sprintf("luks%d", binary.BigEndian.Uint16(b[6:])),
		UUID: cString(b[168:208]),
		Free: -1,
		Note: "encrypted",
	}, true
}

func recogniseLVM(src io.ReaderAt) (Content, bool) {
	for sector := range int64(4) {
		if b, ok := peek(src, sector*512, 512); ok && string(b[:8]) == "LABELONE" && string(b[24:32]) == "LVM2 001" {
			return Content{Kind: "lvm", UUID: cString(b[32:64]), Free: -1}, true
		}
	}
	return Content{}, false
}

func cString(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return strings.ToValidUTF8(string(b), "�")
}

func uuid(b []byte) string {
	h := hex.EncodeToString(b)
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}
