package xfs

import (
	"errors"
	"fmt"

	"diorthos/core/readfs"
)

// largestFolder is how large a folder may be, in bytes, to be read.
const largestFolder = 64 << 20

// Entries are what a folder holds.
func (in *inode) Entries() (map[string]readfs.Opener, error) {
	if !in.mode.IsDir() {
		return nil, errors.New("not a folder")
	}
	names := map[string]uint64{}
	var err error
	if in.held == heldLocal {
		err = in.shortEntries(names)
	} else {
		err = in.blockEntries(names)
	}
	if err != nil {
		return nil, fmt.Errorf("folder inode %d: %w", in.number, err)
	}
	entries := make(map[string]readfs.Opener, len(names))
	for name, number := range names {
		if name == "." || name == ".." {
			continue
		}
		entries[name] = func() (readfs.Inode, error) { return in.f.inode(number) }
	}
	return entries, nil
}

// shortEntries reads a folder that its inode holds itself.
func (in *inode) shortEntries(names map[string]uint64) error {
	cut := &FormatError{In: "xfs", What: "entries in an inode", Want: "within it", Got: "more"}
	b := in.body
	if in.size < int64(len(b)) {
		b = b[:in.size]
	}
	if len(b) < 2 {
		return cut
	}
	width, count := 4, int(b[0])
	if b[1] > 0 {
		width = 8
	}
	if len(b) < 2+width {
		return cut
	}
	for b = b[2+width:]; count > 0; count-- {
		if len(b) < 3 {
			return cut
		}
		length := int(b[0])
		end := 3 + length
		if in.f.geometry.types {
			end++
		}
		if len(b) < end+width {
			return cut
		}
		number := uint64(be.Uint32(b[end:]))
		if width == 8 {
			number = be.Uint64(b[end:])
		}
		names[string(b[3:3+length])] = number
		b = b[end+width:]
	}
	return nil
}

// blockEntries reads the blocks of a folder that hold names: those before its index.
func (in *inode) blockEntries(names map[string]uint64) error {
	if err := in.load(); err != nil {
		return err
	}
	g := in.f.geometry
	read := int64(0)
	for _, e := range in.extents {
		first, end := e.first*g.blockSize, (e.first+e.count)*g.blockSize
		for at := first - first%g.folderSize; at < min(end, folderLeaves); at += g.folderSize {
			if at < first { // its beginning lies in the extent before
				continue
			}
			if read += g.folderSize; read > largestFolder {
				return &FormatError{In: "xfs", What: "folder", Want: "64 MiB at the most", Got: "more"}
			}
			b := make([]byte, g.folderSize)
			if err := in.readBlocks(b, at); err != nil {
				return err
			}
			if err := in.f.scan(b, names); err != nil {
				return fmt.Errorf("block at byte %d: %w", at, err)
			}
		}
	}
	return nil
}

// scan reads the entries in a block of a folder.
func (f *FS) scan(b []byte, names map[string]uint64) error {
	magic, end, head := be.Uint32(b), len(b), folderHead
	switch magic {
	case folderBlock, folderData:
	case folderBlock5, folderData5:
		head = folderHead5
		if err := checkSum("block of a folder", b, folderSum); err != nil {
			return err
		}
	default:
		return &FormatError{In: "xfs", What: "block of a folder", Want: "a known mark", Got: fmt.Sprintf("%q", b[:4])}
	}
	if magic == folderBlock || magic == folderBlock5 { // its index lies at its end
		leaves := int64(be.Uint32(b[len(b)-8:]))
		if leaves > int64(len(b)/8) {
			return &FormatError{In: "xfs", What: "index of a folder", Want: "within its block", Got: fmt.Sprint(leaves)}
		}
		end -= 8 + int(leaves)*8
	}
	for at := head; at < end; {
		rest := b[at:max(at, end)]
		if len(rest) < 8 {
			return nil
		}
		if be.Uint16(rest) == folderFree {
			length := int(be.Uint16(rest[2:]))
			if length < 8 || length > len(rest) {
				return &FormatError{In: "xfs", What: "free room in a folder", Want: "within its block", Got: fmt.Sprint(length)}
			}
			at += length
			continue
		}
		if len(rest) < 9 {
			return &FormatError{In: "xfs", What: "entry of a folder", Want: "within its block", Got: "more"}
		}
		length := 9 + int(rest[8])
		if f.geometry.types {
			length++
		}
		if length = (length + 2 + 7) &^ 7; length > len(rest) || rest[8] == 0 {
			return &FormatError{In: "xfs", What: "entry of a folder", Want: "within its block", Got: fmt.Sprint(length)}
		}
		names[string(rest[9:9+int(rest[8])])] = be.Uint64(rest)
		at += length
	}
	return nil
}
