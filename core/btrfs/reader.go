package btrfs

import (
	"bytes"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"diorthos/core/readfs"
)

// An FS is the files of a volume.
type FS struct {
	*readfs.Tree
	super   []byte
	volume  *volume
	trees   tree
	devices uint64
	log     bool
	top     uint64 // the folder in the tree of trees
}

// Open reads a volume's superblock, the map of its addresses, and the folder at its top.
func Open(dev io.ReaderAt) (*FS, error) {
	b := make([]byte, superBytes)
	if _, err := dev.ReadAt(b, superAt); err != nil {
		return nil, fmt.Errorf("btrfs: read the superblock: %w", err)
	}
	if got := string(b[superMark : superMark+8]); got != superMagic {
		return nil, &FormatError{
			In:     "btrfs",
			What:   "superblock",
			Offset: superAt,
			Want:   superMagic,
			Got:    fmt.Sprintf("%q", got),
		}
	}
	v := &volume{
		dev: dev, device: le.Uint64(b[superDevice:]), node: le.Uint32(b[superNode:]), sums: le.Uint16(b[superSums:]),
		nodes: map[uint64][]byte{},
	}
	if err := checkSum(v.sums, "superblock", b); err != nil {
		return nil, err
	}
	if v.node < 4<<10 || v.node > 64<<10 || v.node&(v.node-1) != 0 {
		return nil, &FormatError{
			In:   "btrfs",
			What: "bytes of a node",
			Want: "a power of two from 4096 to 65536",
			Got:  fmt.Sprint(v.node),
		}
	}
	if err := v.readChunks(b); err != nil {
		return nil, err
	}
	f := &FS{
		super: b, volume: v, devices: le.Uint64(b[superDevices:]), log: le.Uint64(b[superLog:]) != 0, top: le.Uint64(b[superTop:]),
		trees: tree{v, le.Uint64(b[superRoot:]), int(b[superRootLevel])},
	}
	root, err := f.subvolume(treeOfFiles)
	if err != nil {
		return nil, err
	}
	f.Tree = readfs.NewTree(root)
	return f, nil
}

// readChunks reads the map of addresses: its own place is in the superblock.
func (v *volume) readChunks(super []byte) error {
	system := int(le.Uint32(super[superSystem:]))
	if system > mostSystem {
		return &FormatError{
			In:   "btrfs",
			What: "chunks in the superblock",
			Want: "2048 bytes at the most",
			Got:  fmt.Sprint(system),
		}
	}
	for b := super[superArray : superArray+system]; len(b) > keyBytes; {
		n, err := v.addChunk(parseKey(b).offset, b[keyBytes:])
		if err != nil {
			return err
		}
		b = b[keyBytes+n:]
	}
	v.order()
	first := &volume{
		dev:    v.dev,
		device: v.device,
		node:   v.node,
		sums:   v.sums,
		chunks: v.chunks,
		nodes:  map[uint64][]byte{},
	}
	t := tree{first, le.Uint64(super[superChunks:]), int(super[superChunkLevel])}
	v.chunks = nil
	err := t.from(key{kind: typeChunk}, func(k key, item []byte) (bool, error) {
		if k.kind != typeChunk {
			return true, nil
		}
		_, err := v.addChunk(k.offset, item)
		return true, err
	})
	v.order()
	return err
}

// Fresh is the volume as it is now: every change of it shows in its superblock.
func (f *FS) Fresh() (fs.FS, error) {
	b := make([]byte, superBytes)
	if _, err := f.volume.dev.ReadAt(b, superAt); err == nil && bytes.Equal(b, f.super) {
		return f, nil
	}
	return Open(f.volume.dev)
}

// NeedsRecovery reports whether the volume keeps a log of what was written last, which is not read here.
func (f *FS) NeedsRecovery() bool { return f.log }

// Devices is over how many devices the volume goes.
func (f *FS) Devices() int { return int(f.devices) }

// Whole reports whether all of the volume lies on this device.
func (f *FS) Whole() bool {
	return !slices.ContainsFunc(f.volume.chunks, func(c chunk) bool { return c.spread || len(c.places) == 0 })
}

// Default is the path of the subvolume that is mounted where none is named; "." for the volume's first.
func (f *FS) Default() string {
	wanted := uint64(treeOfFiles)
	_ = f.trees.from(key{f.top, typeNamed, 0}, func(k key, item []byte) (bool, error) {
		if k.object != f.top || k.kind != typeNamed {
			return false, nil
		}
		for _, e := range entriesIn(item) {
			if e.name == "default" {
				wanted = e.to.object
			}
		}
		return true, nil
	})
	for _, name := range append([]string{"."}, f.Subvolumes()...) {
		if in, err := f.Inode(name); err == nil {
			if own, ok := in.(*inode); ok && own.number == firstInode && own.id == wanted {
				return name
			}
		}
	}
	return "."
}

// mostFolders is how many folders are gone through to find subvolumes.
const mostFolders = 64

// Subvolumes are the paths of subvolumes that lie in the first one, or in folders near its top.
func (f *FS) Subvolumes() (list []string) {
	folders := []string{"."}
	for n := 0; n < len(folders) && n < mostFolders; n++ {
		in, err := f.Inode(folders[n])
		if err != nil {
			continue
		}
		own, ok := in.(*inode)
		if !ok {
			continue
		}
		entries, _ := own.list()
		for _, e := range entries {
			name := strings.TrimPrefix(folders[n]+"/"+e.name, "./")
			switch {
			case e.to.kind == typeTree:
				list = append(list, name)
			case e.kind == kindFolder && strings.Count(name, "/") < 2:
				folders = append(folders, name)
			}
		}
	}
	slices.Sort(list)
	return list
}

// subvolume is the top folder of a subvolume.
func (f *FS) subvolume(id uint64) (*inode, error) {
	var t tree
	number := uint64(firstInode)
	err := f.trees.from(key{id, typeTree, 0}, func(k key, item []byte) (bool, error) {
		if k.object != id || k.kind != typeTree {
			return false, nil
		}
		if len(item) < treeBytes {
			return false, &FormatError{
				In:   "btrfs",
				What: "item of a tree",
				Want: fmt.Sprint(treeBytes),
				Got:  fmt.Sprint(len(item)),
			}
		}
		t = tree{f.volume, le.Uint64(item[treeAt:]), int(item[treeLevel])}
		number = le.Uint64(item[treeRootDir:])
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	if t.v == nil {
		return nil, &FormatError{In: "btrfs", What: "subvolume", Want: fmt.Sprint(id), Got: "none of that number"}
	}
	return f.inode(t, id, number)
}

// An inode is a file, folder or link.
type inode struct {
	f       *FS
	tree    tree
	id      uint64 // of its subvolume
	number  uint64
	mode    fs.FileMode
	user    int
	group   int
	size    int64
	mtime   time.Time
	mutex   sync.Mutex
	extents []extent
	loaded  bool
	last    *extent // the packed extent that was read last, and what it holds
	plain   []byte
}

var _ readfs.Inode = (*inode)(nil)

func (in *inode) Mode() fs.FileMode  { return in.mode }
func (in *inode) Size() int64        { return in.size }
func (in *inode) ModTime() time.Time { return in.mtime }

// Owner are the numbers of the file's user and group.
func (in *inode) Owner() (user, group int) { return in.user, in.group }

func (f *FS) inode(t tree, id, number uint64) (*inode, error) {
	item, err := t.find(key{number, typeInode, 0})
	if err != nil {
		return nil, err
	}
	if len(item) < inodeBytes {
		return nil, &FormatError{
			In: "btrfs", What: fmt.Sprintf("inode %d", number), Want: fmt.Sprintf("%d bytes", inodeBytes), Got: fmt.Sprint(len(item)),
		}
	}
	in := &inode{
		f: f, tree: t, id: id, number: number, mode: readfs.Mode(uint16(le.Uint32(item[inodeMode:]))),
		user: int(le.Uint32(item[inodeUser:])), group: int(le.Uint32(item[inodeGroup:])),
		size:  int64(le.Uint64(item[inodeSize:])),
		mtime: time.Unix(int64(le.Uint64(item[inodeModified:])), 0).UTC(),
	}
	if in.size < 0 {
		return nil, &FormatError{
			In:   "btrfs",
			What: fmt.Sprintf("inode %d: size", number),
			Want: "0 or more",
			Got:  fmt.Sprint(in.size),
		}
	}
	return in, nil
}

const kindFolder = 2

// An entry is a name in a folder.
type entry struct {
	name string
	kind byte
	to   key
}

// entriesIn are those in one item: several where their names have the same sum.
func entriesIn(item []byte) (list []entry) {
	for len(item) >= entryHead {
		name, extra := int(le.Uint16(item[entryName:])), int(le.Uint16(item[entryExtra:]))
		if entryHead+name+extra > len(item) {
			break
		}
		list = append(list, entry{string(item[entryHead : entryHead+name]), item[entryHead-1], parseKey(item)})
		item = item[entryHead+name+extra:]
	}
	return list
}

// mostEntries is how many names of a folder are read.
const mostEntries = 1 << 20

func (in *inode) list() (list []entry, err error) {
	err = in.tree.from(key{in.number, typeEntry, 0}, func(k key, item []byte) (bool, error) {
		if k.object != in.number || k.kind != typeEntry {
			return false, nil
		}
		if list = append(list, entriesIn(item)...); len(list) > mostEntries {
			return false, &FormatError{In: "btrfs", What: "folder", Want: "a million names at the most", Got: "more"}
		}
		return true, nil
	})
	return list, err
}

// Entries are what a folder holds.
func (in *inode) Entries() (map[string]readfs.Opener, error) {
	if !in.mode.IsDir() {
		return nil, errors.New("not a folder")
	}
	list, err := in.list()
	if err != nil {
		return nil, fmt.Errorf("folder inode %d: %w", in.number, err)
	}
	entries := make(map[string]readfs.Opener, len(list))
	for _, e := range list {
		entries[e.name] = func() (readfs.Inode, error) {
			if e.to.kind == typeTree {
				return in.f.subvolume(e.to.object)
			}
			return in.f.inode(in.tree, in.id, e.to.object)
		}
	}
	return entries, nil
}

// An extent is a part of a file's bytes.
type extent struct {
	first  int64 // byte of the file
	length int64
	inline []byte // what the item itself holds
	packed byte
	disk   uint64 // address; 0 for a hole
	taken  int64  // bytes on the disk
	ram    int64  // bytes when unpacked
	skip   int64  // of these, before the part begins
	hole   bool
}

// mostExtents is how many extents of a file are read.
const mostExtents = 1 << 20

func (in *inode) load() error {
	if in.loaded {
		return nil
	}
	err := in.tree.from(key{in.number, typeExtent, 0}, func(k key, item []byte) (bool, error) {
		if k.object != in.number || k.kind != typeExtent {
			return false, nil
		}
		e, err := parseExtent(int64(k.offset), item)
		if err != nil {
			return false, fmt.Errorf("inode %d: %w", in.number, err)
		}
		if in.extents = append(in.extents, e); len(in.extents) > mostExtents {
			return false, errors.New("btrfs: a file in more pieces than are read")
		}
		return true, nil
	})
	in.loaded = err == nil
	return err
}

func parseExtent(first int64, item []byte) (e extent, err error) {
	cut := &FormatError{In: "btrfs", What: "item of an extent", Want: "whole", Got: fmt.Sprintf("%d bytes", len(item))}
	if len(item) < extentData {
		return e, cut
	}
	e = extent{first: first, packed: item[extentPack], ram: int64(le.Uint64(item[extentRAM:]))}
	if item[extentOther] != 0 || e.first < 0 {
		return e, &FormatError{
			In:   "btrfs",
			What: "an extent",
			Want: "one that is not encrypted",
			Got:  fmt.Sprint(item[extentOther]),
		}
	}
	if item[extentKind] == inlineKind {
		e.inline, e.length = slices.Clone(item[extentData:]), e.ram
		if e.packed == 0 {
			e.length = int64(len(e.inline))
		}
		return e, nil
	}
	if len(item) < extentBytes {
		return e, cut
	}
	e.disk, e.taken = le.Uint64(item[extentDisk:]), int64(le.Uint64(item[extentTaken:]))
	e.skip, e.length = int64(le.Uint64(item[extentSkip:])), int64(le.Uint64(item[extentCount:]))
	e.hole = e.disk == 0 || item[extentKind] != writtenKind
	if e.length < 0 || e.skip < 0 || e.taken < 0 || e.first+e.length < 0 {
		return e, &FormatError{
			In:   "btrfs",
			What: "an extent",
			Want: "numbers of 63 bits",
			Got:  fmt.Sprint(e.length, e.skip, e.taken),
		}
	}
	return e, nil
}

// ReadAt reads the bytes of a file, and of a link where it leads.
func (in *inode) ReadAt(p []byte, off int64) (int, error) {
	if in.mode.IsDir() {
		return 0, errors.New("is a folder")
	}
	if off >= in.size {
		return 0, io.EOF
	}
	in.mutex.Lock()
	defer in.mutex.Unlock()
	if err := in.load(); err != nil {
		return 0, err
	}
	want := len(p)
	p = p[:min(int64(len(p)), in.size-off)]
	read := len(p)
	for len(p) > 0 {
		n, err := in.readPart(p, off)
		if err != nil {
			return 0, fmt.Errorf("inode %d: %w", in.number, err)
		}
		p, off = p[n:], off+n
	}
	if read < want {
		return read, io.EOF
	}
	return read, nil
}

// readPart reads as much as lies in one extent, or before the next.
func (in *inode) readPart(p []byte, off int64) (int64, error) {
	n := int64(len(p))
	for i := range in.extents {
		e := &in.extents[i]
		switch {
		case off >= e.first+e.length:
			continue
		case off < e.first:
			n = min(n, e.first-off)
			clear(p[:n])
			return n, nil
		}
		within := off - e.first
		n = min(n, e.length-within)
		switch {
		case e.hole:
			clear(p[:n])
		case e.packed != 0:
			plain, err := in.unpacked(e)
			if err != nil {
				return 0, err
			}
			if e.skip+within+n > int64(len(plain)) {
				return 0, &FormatError{
					In: "btrfs", What: "a packed extent", Want: fmt.Sprint(e.skip + within + n), Got: fmt.Sprint(len(plain)),
				}
			}
			copy(p[:n], plain[e.skip+within:])
		case e.inline != nil:
			copy(p[:n], e.inline[within:])
		default:
			return n, in.f.volume.read(p[:n], e.disk+uint64(e.skip+within), 0)
		}
		return n, nil
	}
	clear(p)
	return n, nil
}

// unpacked is what a packed extent holds. The last one is kept: a file is mostly read in order.
func (in *inode) unpacked(e *extent) ([]byte, error) {
	if in.last == e {
		return in.plain, nil
	}
	packed := e.inline
	if packed == nil {
		if e.taken > mostPacked {
			return nil, &FormatError{In: "btrfs", What: "a packed extent", Want: "128 KiB at the most", Got: fmt.Sprint(e.taken)}
		}
		packed = make([]byte, e.taken)
		if err := in.f.volume.read(packed, e.disk, 0); err != nil {
			return nil, err
		}
	}
	if e.ram < 0 || e.ram > mostPacked {
		return nil, &FormatError{In: "btrfs", What: "a packed extent", Want: "128 KiB at the most", Got: fmt.Sprint(e.ram)}
	}
	plain, err := unpack(e.packed, packed, e.ram)
	if err != nil {
		return nil, err
	}
	in.last, in.plain = e, plain
	return plain, nil
}

func unpack(how byte, packed []byte, size int64) ([]byte, error) {
	var from io.Reader
	switch how {
	case packedZlib:
		r, err := zlib.NewReader(bytes.NewReader(packed))
		if err != nil {
			return nil, err
		}
		from = r
	case packedZstd:
		r, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(16<<20))
		if err != nil {
			return nil, err
		}
		defer r.Close()
		from = r
	case packedLZO:
		return nil, errors.New("btrfs: files packed with LZO are not read")
	default:
		return nil, &FormatError{In: "btrfs", What: "how an extent is packed", Want: "zlib or zstd", Got: fmt.Sprint(how)}
	}
	plain := make([]byte, size)
	n, err := io.ReadFull(from, plain) // what follows fills the last block up
	filled := n > 0 && errors.Is(err, zstd.ErrMagicMismatch)
	if err != nil && !filled && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, fmt.Errorf("btrfs: unpack: %w", err)
	}
	return plain[:n], nil
}
