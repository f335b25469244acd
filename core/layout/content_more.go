package layout

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
)

// recogniseExFAT follows the published specification of exFAT, section 3.1.
func recogniseExFAT(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 512)
	if !ok || string(b[3:11]) != "EXFAT   " {
		return Content{}, false
	}
	sectors := int64(binary.LittleEndian.Uint64(b[72:]))
	return Content{Kind: "exfat", Size: sectors << min(b[108], 12), Free: -1}, sectors > 0
}

// recogniseNTFS knows it by its signature and takes the size beside it.
func recogniseNTFS(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 512)
	if !ok || string(b[3:11]) != "NTFS    " {
		return Content{}, false
	}
	le := binary.LittleEndian
	return Content{Kind: "ntfs", Size: int64(le.Uint64(b[40:])) * int64(le.Uint16(b[11:])), Free: -1}, true
}

// recogniseF2FS follows the Linux kernel's include/linux/f2fs_fs.h.
func recogniseF2FS(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 1024, 512)
	le := binary.LittleEndian
	if !ok || le.Uint32(b) != 0xf2f52010 {
		return Content{}, false
	}
	return Content{
		Kind: "f2fs",
		UUID: uuid(b[108:124]),
		Size: int64(le.Uint64(b[36:])) << min(le.Uint32(b[16:]), 16),
		Free: -1,
	}, true
}

// recogniseMD follows the Linux kernel's include/uapi/linux/raid/md_p.h, for
// superblocks at the start (versions 1.1 and 1.2) and, where the size is known,
// at the end (0.90 and 1.0).
func recogniseMD(src io.ReaderAt) (Content, bool) {
	for _, at := range []int64{0, 4096} {
		b, ok := peek(src, at, 256)
		le := binary.LittleEndian
		if ok && le.Uint32(b) == 0xa92b4efc && le.Uint32(b[4:]) == 1 {
			return Content{
				Kind:  "md",
				Label: cString(b[32:64]),
				UUID:  uuid(b[16:32]),
				Size:  int64(le.Uint64(b[128:])+le.Uint64(b[136:])) * 512,
				Free:  -1,
			}, true
		}
	}
	sized, ok := src.(interface{ Size() int64 })
	if !ok {
		return Content{}, false
	}
	le := binary.LittleEndian
	sectors := sized.Size() / 512
	if b, ok := peek(src, (sectors-16)&^7*512, 256); ok && le.Uint32(b) == 0xa92b4efc && le.Uint32(b[4:]) == 1 {
		return Content{
			Kind:  "md",
			Label: cString(b[32:64]),
			UUID:  uuid(b[16:32]),
			Size:  int64(le.Uint64(b[80:])) * 512,
			Free:  -1,
			Note:  "superblock 1.0, at the end",
		}, true
	}
	if b, ok := peek(src, (sectors&^127-128)*512, 4096); ok && le.Uint32(b) == 0xa92b4efc && le.Uint32(b[4:]) == 0 &&
		le.Uint32(b[8:]) == 90 {
		return Content{
			Kind: "md",
			UUID: fmt.Sprintf("%08x:%08x:%08x:%08x", le.Uint32(b[20:]), le.Uint32(b[52:]), le.Uint32(b[56:]), le.Uint32(b[60:])),
			Size: int64(le.Uint32(b[32:])) * 1024,
			Free: -1,
			Note: "superblock 0.90, at the end",
		}, true
	}
	return Content{}, false
}

// recogniseDisc follows ECMA-119 section 8.4 and, for UDF, ECMA-167 part 2,
// section 9.
func recogniseDisc(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 32768, 2048)
	if !ok {
		return Content{}, false
	}
	switch {
	case string(b[1:6]) == "CD001" && b[0] == 1:
		return Content{
			Kind:  "iso9660",
			Label: string(bytes.TrimRight(b[40:72], " \x00")),
			Size:  int64(binary.LittleEndian.Uint32(b[80:])) * 2048,
			Free:  -1,
		}, true
	case string(b[1:6]) == "BEA01":
		if next, ok := peek(src, 32768+2048, 6); ok && string(next[1:4]) == "NSR" {
			return Content{Kind: "udf", Free: -1}, true
		}
	}
	return Content{}, false
}

// recogniseSquashFS follows the Linux kernel's Documentation/filesystems/squashfs.rst.
func recogniseSquashFS(src io.ReaderAt) (Content, bool) {
	b, ok := peek(src, 0, 96)
	if !ok || string(b[:4]) != "hsqs" {
		return Content{}, false
	}
	return Content{Kind: "squashfs", Size: int64(binary.LittleEndian.Uint64(b[40:])), Free: 0}, true
}
