package ext

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"sync"
	"time"
)

// Limits on what a damaged volume can make us do.
const (
	maxDirBytes  = 64 << 20
	maxLinks     = 40
	maxTreeDepth = 5
)

// FS is a volume as an io/fs.FS. Paths are relative to its root; symbolic
// links are followed within the volume and never leave it. It is safe for
// use by several goroutines if its device is.
type FS struct {
	dev        io.ReaderAt
	sb         super
	replay     *replay // what the journal still holds, where it does
	unreplayed error   // why that is not read

	keep  bool
	mutex sync.Mutex
	known map[int64]map[string]int64 // names in folders, by the number of their inode
}

var (
	_ fs.ReadDirFS = (*FS)(nil)
	_ fs.StatFS    = (*FS)(nil)
)

// Open reads the superblock of the volume that begins at byte 0 of dev.
func Open(dev io.ReaderAt) (*FS, error) {
	b := make([]byte, superSize)
	if _, err := dev.ReadAt(b, superAt); err != nil {
		return nil, fmt.Errorf("ext: read the superblock: %w", err)
	}
	sb, err := parseSuper(b)
	if err != nil {
		return nil, err
	}
	if err := checkSuper(b, sb, superAt); err != nil {
		return nil, err
	}
	f := &FS{dev: dev, sb: sb}
	if sb.incompat&incompatRecover == 0 {
		return f, nil
	}
	if f.replay, f.unreplayed = f.readJournal(b); f.replay == nil || len(f.replay.blocks) == 0 {
		return f, nil
	}
	f.dev = &replayed{ReaderAt: dev, replay: f.replay, size: sb.blockSize}
	return f, nil
}

// NeedsRecovery reports whether the volume was not closed properly: its journal has to be replayed
// before anything of it is changed.
func (f *FS) NeedsRecovery() bool { return f.sb.incompat&incompatRecover != 0 }

// Unreplayed says why the journal is not read although it has to be replayed: what was written last
// may then not show. It is nil where the volume is read as if it had been.
func (f *FS) Unreplayed() error { return f.unreplayed }

func (f *FS) inode(number int64) (inode, error) {
	if number < 1 || number > f.sb.inodes {
		return inode{}, &FormatError{
			In:   "ext",
			What: "inode number",
			Want: fmt.Sprintf("1 to %d", f.sb.inodes),
			Got:  fmt.Sprint(number),
		}
	}
	group, index := (number-1)/f.sb.inodesGroup, (number-1)%f.sb.inodesGroup
	desc := make([]byte, f.sb.descSize)
	at := f.sb.descAt(group)
	if _, err := f.dev.ReadAt(desc, at); err != nil {
		return inode{}, fmt.Errorf("ext: read the descriptor of group %d: %w", group, err)
	}
	table := int64(binary.LittleEndian.Uint32(desc[gdTableLow:]))
	if f.sb.incompat&incompat64 != 0 && f.sb.descSize >= 64 {
		table |= int64(binary.LittleEndian.Uint32(desc[gdTableHigh:])) << 32
	}
	if table <= 0 || table >= f.sb.blocks {
		return inode{}, &FormatError{
			In:     "ext",
			What:   fmt.Sprintf("inode table of group %d", group),
			Offset: at,
			Want:   "within the volume",
			Got:    fmt.Sprintf("block %d", table),
		}
	}
	raw := make([]byte, f.sb.inodeSize)
	if _, err := f.dev.ReadAt(raw, table*f.sb.blockSize+index*f.sb.inodeSize); err != nil {
		return inode{}, fmt.Errorf("ext: read inode %d: %w", number, err)
	}
	if err := f.sb.checkInode(number, raw, table*f.sb.blockSize+index*f.sb.inodeSize); err != nil {
		return inode{}, err
	}
	in := parseInode(number, raw)
	in.seed = f.sb.seedOf(number, raw)
	return in, nil
}

// block finds the volume's block that holds block n of the file; 0 is a hole.
func (f *FS) block(in *inode, n int64) (int64, error) {
	var at int64
	var err error
	if in.flags&flagExtents != 0 {
		at, err = f.extentBlock(in, n)
	} else {
		at, err = f.mapBlock(in, n)
	}
	if err == nil && (at < 0 || at >= f.sb.blocks) {
		err = &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: block %d", in.number, n),
			Want: fmt.Sprintf("below %d", f.sb.blocks),
			Got:  fmt.Sprint(at),
		}
	}
	return at, err
}

// extentBlock walks the extent tree (ext4/ifork.rst).
func (f *FS) extentBlock(in *inode, n int64) (int64, error) {
	le := binary.LittleEndian
	node := in.block[:]
	for depth := 0; ; depth++ {
		if le.Uint16(node) != extentMagic || depth > maxTreeDepth {
			return 0, &FormatError{
				In:   "ext",
				What: fmt.Sprintf("inode %d: extent node", in.number),
				Want: "0xf30a, 5 levels at the most",
				Got:  fmt.Sprintf("0x%04x at level %d", le.Uint16(node), depth),
			}
		}
		count := int(le.Uint16(node[2:]))
		if 12+12*count > len(node) {
			return 0, &FormatError{
				In:   "ext",
				What: fmt.Sprintf("inode %d: extent node", in.number),
				Want: "entries within the node",
				Got:  fmt.Sprint(count),
			}
		}
		entry := func(i int) []byte { return node[12+12*i:] }
		i := sort.Search(count, func(i int) bool { return int64(le.Uint32(entry(i))) > n }) - 1
		if i < 0 {
			return 0, nil
		}
		e := entry(i)
		if le.Uint16(node[6:]) == 0 {
			length, start := int64(le.Uint16(e[4:])), int64(le.Uint16(e[6:]))<<32|int64(le.Uint32(e[8:]))
			unwritten := length > 32768
			if unwritten {
				length -= 32768
			}
			skip := n - int64(le.Uint32(e))
			if skip >= length || unwritten {
				return 0, nil
			}
			return start + skip, nil
		}
		next := int64(le.Uint16(e[8:]))<<32 | int64(le.Uint32(e[4:]))
		if next <= 0 || next >= f.sb.blocks {
			return 0, &FormatError{
				In:   "ext",
				What: fmt.Sprintf("inode %d: extent index", in.number),
				Want: "a block of the volume",
				Got:  fmt.Sprint(next),
			}
		}
		if node = in.last.get(next); node != nil {
			continue
		}
		node = make([]byte, f.sb.blockSize)
		if _, err := f.dev.ReadAt(node, next*f.sb.blockSize); err != nil {
			return 0, fmt.Errorf("ext: read block %d: %w", next, err)
		}
		if err := f.sb.checkExtents(in, node); err != nil {
			return 0, err
		}
		in.last.put(next, node)
	}
}

// mapBlock follows direct and indirect block numbers.
func (f *FS) mapBlock(in *inode, n int64) (int64, error) {
	le := binary.LittleEndian
	if n < 12 {
		return int64(le.Uint32(in.block[4*n:])), nil
	}
	n -= 12
	per := f.sb.blockSize / 4
	span := per
	for level := int64(1); level <= 3; level++ {
		if n >= span {
			n -= span
			span *= per
			continue
		}
		at := int64(le.Uint32(in.block[4*(11+level):]))
		for step := span / per; ; step /= per {
			if at == 0 {
				return 0, nil
			}
			if at >= f.sb.blocks {
				return 0, &FormatError{
					In:   "ext",
					What: fmt.Sprintf("inode %d: indirect block", in.number),
					Want: "a block of the volume",
					Got:  fmt.Sprint(at),
				}
			}
			var b [4]byte
			if _, err := f.dev.ReadAt(b[:], at*f.sb.blockSize+4*(n/step)); err != nil {
				return 0, fmt.Errorf("ext: read block %d: %w", at, err)
			}
			at = int64(le.Uint32(b[:]))
			n %= step
			if step == 1 {
				return at, nil
			}
		}
	}
	return 0, &FormatError{
		In:   "ext",
		What: fmt.Sprintf("inode %d: file", in.number),
		Want: "within three levels of indirect blocks",
		Got:  "more",
	}
}

func (f *FS) readAt(in *inode, p []byte, off int64) (int, error) {
	if off >= in.size {
		return 0, io.EOF
	}
	want := len(p)
	p = p[:min(int64(len(p)), in.size-off)]
	if in.flags&flagInline != 0 {
		data := append(in.block[:len(in.block):len(in.block)], in.inlineTail()...)
		if int64(len(data)) < in.size {
			return 0, &FormatError{
				In:   "ext",
				What: fmt.Sprintf("inode %d: inline data", in.number),
				Want: fmt.Sprintf("%d bytes", in.size),
				Got:  fmt.Sprint(len(data)),
			}
		}
		copy(p, data[off:])
	} else if err := f.readBlocks(in, p, off); err != nil {
		return 0, err
	}
	if len(p) < want {
		return len(p), io.EOF
	}
	return len(p), nil
}

func (f *FS) readBlocks(in *inode, p []byte, off int64) error {
	for len(p) > 0 {
		n, skip := off/f.sb.blockSize, off%f.sb.blockSize
		length := min(int64(len(p)), f.sb.blockSize-skip)
		at, err := f.block(in, n)
		if err != nil {
			return err
		}
		if at == 0 {
			clear(p[:length])
		} else if _, err := f.dev.ReadAt(p[:length], at*f.sb.blockSize+skip); err != nil {
			return fmt.Errorf("ext: read block %d: %w", at, err)
		}
		p, off = p[length:], off+length
	}
	return nil
}

// entries reads a folder. Blocks of a hashed tree carry empty linear entries
// around their index, so reading all blocks in order finds every name.
func (f *FS) entries(in *inode) (map[string]int64, error) {
	if in.size > maxDirBytes {
		return nil, &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: folder", in.number),
			Want: "64 MiB at the most",
			Got:  fmt.Sprint(in.size),
		}
	}
	data := make([]byte, in.size)
	if _, err := f.readAt(in, data, 0); err != nil && err != io.EOF {
		return nil, err
	}
	names := map[string]int64{}
	if in.flags&flagInline != 0 { // the first four bytes are the parent
		names[".."] = int64(binary.LittleEndian.Uint32(data))
		rest := data[4:]
		cut := min(len(rest), inBlockBytes-4)
		if err := scanEntries(rest[:cut], names); err != nil {
			return nil, err
		}
		return names, scanEntries(rest[cut:], names)
	}
	for len(data) > 0 {
		n := min(int64(len(data)), f.sb.blockSize)
		if err := f.sb.checkFolder(in, data[:n]); err != nil {
			return nil, err
		}
		if err := scanEntries(data[:n], names); err != nil {
			return nil, fmt.Errorf("ext: folder inode %d: %w", in.number, err)
		}
		data = data[n:]
	}
	return names, nil
}

func scanEntries(b []byte, names map[string]int64) error {
	le := binary.LittleEndian
	for len(b) >= 8 {
		ino, length, nameLen := int64(le.Uint32(b)), int(le.Uint16(b[4:])), int(b[6])
		if length < 8 || length > len(b) || 8+nameLen > length {
			return &FormatError{
				In:   "ext",
				What: "folder entry",
				Want: fmt.Sprintf("8 to %d bytes", len(b)),
				Got:  fmt.Sprint(length),
			}
		}
		if ino != 0 && nameLen > 0 {
			names[string(b[8:8+nameLen])] = ino
		}
		b = b[length:]
	}
	return nil
}

// KeepFolders has what folders hold kept, for those that were asked for last: for a volume that nobody changes meanwhile.
func (f *FS) KeepFolders() { f.keep = true }

// mostKnown is of how many folders is kept what they hold.
const mostKnown = 32

// namesIn are the names in a folder on the way to a file.
func (f *FS) namesIn(in *inode) (map[string]int64, error) {
	if !f.keep {
		return f.entries(in)
	}
	f.mutex.Lock()
	names, ok := f.known[in.number]
	f.mutex.Unlock()
	if ok {
		return names, nil
	}
	names, err := f.entries(in)
	if err != nil {
		return nil, err
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if len(f.known) >= mostKnown || f.known == nil {
		f.known = map[int64]map[string]int64{}
	}
	f.known[in.number] = names
	return names, nil
}

// walk finds the inode of name, following links except, unless follow, a last one.
func (f *FS) walk(name string, follow bool) (inode, error) {
	in, err := f.inode(rootInode)
	if err != nil {
		return in, err
	}
	rest := strings.Split(name, "/")
	trail := []inode{in} // from the root to where we are
	for links := 0; len(rest) > 0; {
		part := rest[0]
		rest = rest[1:]
		if part == "" || part == "." {
			continue
		}
		here := trail[len(trail)-1]
		if part == ".." {
			trail = trail[:max(1, len(trail)-1)]
			continue
		}
		if !here.isDir() {
			return in, fs.ErrNotExist
		}
		names, err := f.namesIn(&here)
		if err != nil {
			return in, err
		}
		number, ok := names[part]
		if !ok {
			return in, fs.ErrNotExist
		}
		next, err := f.inode(number)
		if err != nil {
			return in, err
		}
		if next.fileMode()&fs.ModeSymlink != 0 && (follow || len(rest) > 0) {
			if links++; links > maxLinks {
				return in, errors.New("too many symbolic links")
			}
			target, err := f.link(&next)
			if err != nil {
				return in, err
			}
			if strings.HasPrefix(target, "/") {
				trail = trail[:1]
			}
			rest = append(strings.Split(target, "/"), rest...)
			continue
		}
		trail = append(trail, next)
	}
	return trail[len(trail)-1], nil
}

func (f *FS) link(in *inode) (string, error) {
	if in.size > 4096 {
		return "", &FormatError{
			In:   "ext",
			What: fmt.Sprintf("inode %d: symbolic link", in.number),
			Want: "4096 bytes at the most",
			Got:  fmt.Sprint(in.size),
		}
	}
	if in.size < inBlockBytes && in.flags&(flagInline|flagExtents) == 0 {
		return string(in.block[:in.size]), nil
	}
	b := make([]byte, in.size)
	if _, err := f.readAt(in, b, 0); err != nil && err != io.EOF {
		return "", err
	}
	return string(b), nil
}

func (in inode) isDir() bool { return in.mode&0xf000 == 0x4000 }

func (in inode) fileMode() fs.FileMode {
	kinds := map[uint16]fs.FileMode{
		0x1000: fs.ModeNamedPipe,
		0x2000: fs.ModeDevice | fs.ModeCharDevice,
		0x4000: fs.ModeDir,
		0x6000: fs.ModeDevice,
		0xa000: fs.ModeSymlink,
		0xc000: fs.ModeSocket,
	}
	mode := kinds[in.mode&0xf000] | fs.FileMode(in.mode&0o777)
	for bit, mark := range map[uint16]fs.FileMode{
		0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky,
	} {
		if in.mode&bit != 0 {
			mode |= mark
		}
	}
	return mode
}

// Open opens the named file or folder.
func (f *FS) Open(name string) (fs.File, error) {
	in, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	in.last = &lastNode{}
	return &file{fsys: f, info: info{name: path.Base(name), in: in}}, nil
}

// Stat describes what a name leads to.
func (f *FS) Stat(name string) (fs.FileInfo, error) {
	in, err := f.find("stat", name)
	if err != nil {
		return nil, err
	}
	return info{name: path.Base(name), in: in}, nil
}

// ReadDir lists a folder by name.
func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	in, err := f.find("readdir", name)
	if err != nil {
		return nil, err
	}
	list, err := f.list(&in)
	if err != nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: err}
	}
	return list, nil
}

// Lstat describes a name itself, also that of a link.
func (f *FS) Lstat(name string) (fs.FileInfo, error) {
	in, err := f.locate("lstat", name, false)
	if err != nil {
		return nil, err
	}
	return info{name: path.Base(name), in: in}, nil
}

// ReadLink is where a link leads to, as it was written.
func (f *FS) ReadLink(name string) (string, error) {
	in, err := f.locate("readlink", name, false)
	if err != nil {
		return "", err
	}
	if in.fileMode()&fs.ModeSymlink == 0 {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
	}
	return f.link(&in)
}

func (f *FS) find(op, name string) (inode, error) { return f.locate(op, name, true) }

func (f *FS) locate(op, name string, follow bool) (inode, error) {
	if !fs.ValidPath(name) {
		return inode{}, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	in, err := f.walk(name, follow)
	if err != nil {
		return in, &fs.PathError{Op: op, Path: name, Err: err}
	}
	return in, nil
}

func (f *FS) list(in *inode) ([]fs.DirEntry, error) {
	if !in.isDir() {
		return nil, errors.New("not a folder")
	}
	names, err := f.entries(in)
	if err != nil {
		return nil, err
	}
	var list []fs.DirEntry
	for name, number := range names {
		if name == "." || name == ".." {
			continue
		}
		child, err := f.inode(number)
		if err != nil {
			return nil, err
		}
		list = append(list, fs.FileInfoToDirEntry(info{name: name, in: child}))
	}
	sort.Slice(list, func(i, k int) bool { return list[i].Name() < list[k].Name() })
	return list, nil
}

type info struct {
	name string
	in   inode
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.in.size }
func (i info) Mode() fs.FileMode  { return i.in.fileMode() }
func (i info) ModTime() time.Time { return time.Unix(i.in.mtime, 0).UTC() }
func (i info) IsDir() bool        { return i.in.isDir() }

// Sys is an Attributes.
func (i info) Sys() any {
	return Attributes{
		Immutable: i.in.flags&flagImmutable != 0, AppendOnly: i.in.flags&flagAppend != 0,
		User: i.in.user, Group: i.in.group,
	}
}

// Attributes are whose a file is, and marks that keep it from being changed, whoever tries.
type Attributes struct {
	Immutable  bool
	AppendOnly bool
	User       int
	Group      int
}

// Owner are the numbers of the file's user and group.
func (a Attributes) Owner() (user, group int) { return a.User, a.Group }

// file is an open file or folder. It reads at random as well as in order.
type file struct {
	fsys *FS
	info info
	at   int64
	rest []fs.DirEntry
	read bool
}

func (o *file) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *file) Close() error               { return nil }

func (o *file) Read(p []byte) (int, error) {
	n, err := o.ReadAt(p, o.at)
	o.at += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}

func (o *file) ReadAt(p []byte, off int64) (int, error) {
	if o.info.IsDir() {
		return 0, &fs.PathError{Op: "read", Path: o.info.name, Err: errors.New("is a folder")}
	}
	return o.fsys.readAt(&o.info.in, p, off)
}

func (o *file) ReadDir(n int) ([]fs.DirEntry, error) {
	if !o.read {
		list, err := o.fsys.list(&o.info.in)
		if err != nil {
			return nil, err
		}
		o.rest, o.read = list, true
	}
	if n <= 0 {
		list := o.rest
		o.rest = nil
		return list, nil
	}
	if len(o.rest) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(o.rest))
	list := o.rest[:n]
	o.rest = o.rest[n:]
	return list, nil
}
