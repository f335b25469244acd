package xfs

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"diorthos/core/readfs"
)

// An FS is the files of a volume.
type FS struct {
	*readfs.Tree
	dev      io.ReaderAt
	geometry geometry
}

// Open reads a volume's superblock and the folder at its top.
func Open(dev io.ReaderAt) (*FS, error) {
	b := make([]byte, superBytes)
	if _, err := dev.ReadAt(b, 0); err != nil {
		return nil, fmt.Errorf("xfs: read the superblock: %w", err)
	}
	g, err := readGeometry(b)
	if err != nil {
		return nil, err
	}
	if g.version == 5 {
		sector := make([]byte, max(superBytes, min(int(be.Uint16(b[superSector:])), 32<<10)))
		if _, err := dev.ReadAt(sector, 0); err != nil {
			return nil, fmt.Errorf("xfs: read the superblock: %w", err)
		}
		if err := checkSum("superblock", sector, superSum); err != nil {
			return nil, err
		}
	}
	f := &FS{dev: dev, geometry: g}
	root, err := f.inode(g.root)
	if err != nil {
		return nil, err
	}
	if !root.Mode().IsDir() {
		return nil, &FormatError{In: "xfs", What: "inode of the top folder", Want: "a folder", Got: root.Mode().String()}
	}
	f.Tree = readfs.NewTree(root)
	return f, nil
}

// Fresh is the volume as it is now.
func (f *FS) Fresh() (fs.FS, error) { return Open(f.dev) }

// MarkedForRepair reports whether its own check has marked the volume as one that must be mended before it is mounted.
func (f *FS) MarkedForRepair() bool { return f.geometry.incompat&needsRepair != 0 }

// An inode is a file, folder or link.
type inode struct {
	f       *FS
	number  uint64
	mode    fs.FileMode
	user    int
	group   int
	size    int64
	mtime   time.Time
	held    byte
	shared  bool // it may share blocks with another file
	count   int64
	body    []byte // what the inode holds itself
	mutex   sync.Mutex
	extents []extent
	loaded  bool
}

var _ readfs.Inode = (*inode)(nil)

func (in *inode) Mode() fs.FileMode  { return in.mode }
func (in *inode) Size() int64        { return in.size }
func (in *inode) ModTime() time.Time { return in.mtime }

// Owner are the numbers of the file's user and group.
func (in *inode) Owner() (user, group int) { return in.user, in.group }

func (f *FS) inode(number uint64) (*inode, error) {
	at, err := f.geometry.inodeAt(number)
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", number, err)
	}
	b := make([]byte, f.geometry.inodeSize)
	if _, err := f.dev.ReadAt(b, at); err != nil {
		return nil, fmt.Errorf("xfs: read inode %d: %w", number, err)
	}
	what := fmt.Sprintf("inode %d", number)
	if be.Uint16(b) != inodeMagic {
		return nil, &FormatError{In: "xfs", What: what, Offset: at, Want: "IN", Got: fmt.Sprintf("%q", b[:2])}
	}
	in := &inode{
		f: f, number: number, mode: readfs.Mode(be.Uint16(b[inodeMode:])), held: b[inodeFormat],
		user: int(be.Uint32(b[inodeUser:])), group: int(be.Uint32(b[inodeGroup:])), size: int64(be.Uint64(b[inodeSize:])),
		mtime: time.Unix(int64(int32(be.Uint32(b[inodeModified:]))), 0).UTC(), count: int64(be.Uint32(b[inodeMany:])),
	}
	head := int64(inodeHeadOld)
	if b[inodeVersion] >= 3 {
		if err := checkSum(what, b, inodeSum); err != nil {
			return nil, err
		}
		if got := be.Uint64(b[inodeNumber:]); got != number {
			return nil, &FormatError{In: "xfs", What: what + ": its own number", Want: fmt.Sprint(number), Got: fmt.Sprint(got)}
		}
		head = inodeHead
		flags := be.Uint64(b[inodeFlags2:])
		in.shared = flags&flagReflink != 0
		if flags&flagBigTime != 0 { // nanoseconds since 1901-12-13
			in.mtime = time.Unix(int64(be.Uint64(b[inodeModified:])/1e9)-1<<31, 0).UTC()
		}
		if flags&flagBigCounts != 0 {
			in.count = int64(be.Uint64(b[inodeManyBig:]))
		}
	}
	end := f.geometry.inodeSize
	if fork := int64(b[inodeFork]) * 8; fork != 0 {
		end = min(end, head+fork)
	}
	if in.body = b[head:end]; in.size < 0 {
		return nil, &FormatError{In: "xfs", What: what + ": size", Want: "0 or more", Got: fmt.Sprint(in.size)}
	}
	return in, nil
}

// An extent is where some blocks of a file lie.
type extent struct {
	first   int64 // of the file
	block   uint64
	count   int64
	written bool
}

func parseExtent(b []byte) extent {
	high, low := be.Uint64(b), be.Uint64(b[8:])
	return extent{
		first: int64(high & (1<<63 - 1) >> 9), block: high&0x1ff<<43 | low>>21, count: int64(low & (1<<21 - 1)),
		written: high>>63 == 0,
	}
}

// mostExtents is how many extents of a file are read: more than a file of any system has.
const mostExtents = 1 << 20

var errExtents = errors.New("xfs: a file in more pieces than are read")

func (in *inode) load() error {
	in.mutex.Lock()
	defer in.mutex.Unlock()
	if in.loaded {
		return nil
	}
	list, err := in.readExtents()
	if err != nil {
		return fmt.Errorf("inode %d: %w", in.number, err)
	}
	in.extents, in.loaded = list, true
	return nil
}

func (in *inode) readExtents() ([]extent, error) {
	switch in.held {
	case heldExtents:
		if in.count > int64(len(in.body)/extentBytes) {
			return nil, &FormatError{
				In: "xfs", What: "extents in an inode", Want: fmt.Sprint(len(in.body) / extentBytes), Got: fmt.Sprint(in.count),
			}
		}
		return parseExtents(nil, in.body[:in.count*extentBytes]), nil
	case heldTree:
		return in.fromTree()
	}
	return nil, &FormatError{
		In:   "xfs",
		What: "how an inode keeps its blocks",
		Want: "extents or a tree",
		Got:  fmt.Sprint(in.held),
	}
}

func parseExtents(list []extent, b []byte) []extent {
	for ; len(b) >= extentBytes; b = b[extentBytes:] {
		list = append(list, parseExtent(b))
	}
	return list
}

// fromTree walks the tree of extents whose root the inode holds.
func (in *inode) fromTree() (list []extent, err error) {
	if len(in.body) < 4 {
		return nil, &FormatError{
			In:   "xfs",
			What: "root of a tree of extents",
			Want: "4 bytes or more",
			Got:  fmt.Sprint(len(in.body)),
		}
	}
	level, count := int(be.Uint16(in.body)), int(be.Uint16(in.body[2:]))
	most := (len(in.body) - 4) / 16
	if level < 1 || level > 8 || count > most {
		return nil, &FormatError{
			In: "xfs", What: "root of a tree of extents", Want: fmt.Sprintf("up to %d of levels 1 to 8", most),
			Got: fmt.Sprintf("%d of level %d", count, level),
		}
	}
	pointers := in.body[4+most*8:]
	for i := range count {
		if list, err = in.branch(list, be.Uint64(pointers[i*8:]), level-1); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (in *inode) branch(list []extent, number uint64, level int) ([]extent, error) {
	g := in.f.geometry
	at, err := g.blockAt(number)
	if err != nil {
		return nil, err
	}
	b := make([]byte, g.blockSize)
	if _, err := in.f.dev.ReadAt(b, at); err != nil {
		return nil, fmt.Errorf("xfs: read a block of a tree of extents: %w", err)
	}
	head, magic := treeHead, uint32(treeMagic)
	if g.version == 5 {
		head, magic = treeHead5, treeMagic5
		if err := checkSum("block of a tree of extents", b, treeSum); err != nil {
			return nil, err
		}
	}
	count := int(be.Uint16(b[6:]))
	most := (len(b) - head) / 16
	if be.Uint32(b) != magic || int(be.Uint16(b[4:])) != level || count > most {
		return nil, &FormatError{
			In: "xfs", What: "block of a tree of extents", Offset: at, Want: fmt.Sprintf("up to %d of level %d", most, level),
			Got: fmt.Sprintf("%d of level %d", count, be.Uint16(b[4:])),
		}
	}
	if level == 0 {
		if list = parseExtents(list, b[head:head+count*extentBytes]); len(list) > mostExtents {
			return nil, errExtents
		}
		return list, nil
	}
	for i := range count {
		if list, err = in.branch(list, be.Uint64(b[head+most*8+i*8:]), level-1); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// span is where a byte of a file lies, and how many follow it there; at is -1 for a hole, and for blocks that were
// never written.
func (in *inode) span(off int64) (at, length int64, err error) {
	g := in.f.geometry
	block := off / g.blockSize
	next := int64(1) << 62
	for _, e := range in.extents {
		if e.first > block {
			next = min(next, e.first)
			continue
		}
		if block >= e.first+e.count {
			continue
		}
		skip := off - e.first*g.blockSize
		if !e.written {
			return -1, e.count*g.blockSize - skip, nil
		}
		start, err := g.blockAt(e.block)
		if err != nil {
			return 0, 0, err
		}
		return start + skip, e.count*g.blockSize - skip, nil
	}
	if next > 1<<62/g.blockSize {
		return -1, 1 << 62, nil
	}
	return -1, next*g.blockSize - off, nil
}

// ReadAt reads the bytes of a file, and of a link where it leads.
func (in *inode) ReadAt(p []byte, off int64) (int, error) {
	if in.mode.IsDir() {
		return 0, errors.New("is a folder")
	}
	if off >= in.size {
		return 0, io.EOF
	}
	want := len(p)
	p = p[:min(int64(len(p)), in.size-off)]
	var err error
	switch {
	case in.mode&fs.ModeSymlink != 0:
		err = in.readLink(p, off)
	case in.held == heldLocal:
		err = in.readLocal(p, off)
	default:
		err = in.readBlocks(p, off)
	}
	if err != nil {
		return 0, err
	}
	if len(p) < want {
		return len(p), io.EOF
	}
	return len(p), nil
}

func (in *inode) readLocal(p []byte, off int64) error {
	if in.size > int64(len(in.body)) {
		return &FormatError{
			In: "xfs", What: fmt.Sprintf("inode %d: what it holds itself", in.number), Want: fmt.Sprint(in.size),
			Got: fmt.Sprint(len(in.body)),
		}
	}
	copy(p, in.body[off:])
	return nil
}

func (in *inode) readBlocks(p []byte, off int64) error {
	if err := in.load(); err != nil {
		return err
	}
	for len(p) > 0 {
		at, length, err := in.span(off)
		if err != nil {
			return fmt.Errorf("inode %d: %w", in.number, err)
		}
		n := min(int64(len(p)), length)
		if at < 0 {
			clear(p[:n])
		} else if _, err := in.f.dev.ReadAt(p[:n], at); err != nil {
			return fmt.Errorf("xfs: read inode %d: %w", in.number, err)
		}
		p, off = p[n:], off+n
	}
	return nil
}

// readLink reads a link that lies in blocks of its own; in version 5 each has a head.
func (in *inode) readLink(p []byte, off int64) error {
	if in.held == heldLocal {
		return in.readLocal(p, off)
	}
	if in.f.geometry.version < 5 {
		return in.readBlocks(p, off)
	}
	if in.size > 4096 {
		return &FormatError{In: "xfs", What: "a link", Want: "4096 bytes at the most", Got: fmt.Sprint(in.size)}
	}
	size := in.f.geometry.blockSize
	var whole []byte
	for at := int64(0); int64(len(whole)) < in.size; at += size {
		b := make([]byte, size)
		if err := in.readBlocks(b, at); err != nil {
			return err
		}
		length := int64(be.Uint32(b[8:]))
		if be.Uint32(b) != linkMagic || length < 1 || length > size-linkHead {
			return &FormatError{
				In: "xfs", What: fmt.Sprintf("inode %d: block of a link", in.number), Want: "XSLM", Got: fmt.Sprintf("%q", b[:4]),
			}
		}
		if err := checkSum("block of a link", b, linkSum); err != nil {
			return err
		}
		whole = append(whole, b[linkHead:linkHead+length]...)
	}
	copy(p, whole[off:])
	return nil
}
