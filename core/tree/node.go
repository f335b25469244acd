package tree

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// A Node is what a path is. The zero Node is nothing.
type Node struct {
	Mode     uint32 // kind and permissions, as stat(2) has them
	UID, GID uint32
	Marks    uint32 // what keeps it from being changed
	Time     int64  // of its last change, in nanoseconds since 1970
	Device   uint64 // of a device's node
	Attrs    []Attr // extended ones, in order
	Content  []byte // of a file; of a link, where it leads
}

// An Attr is an extended attribute.
type Attr struct {
	Name  string
	Value []byte
}

// IsDir reports whether it is a folder.
func (n Node) IsDir() bool { return n.Mode&unix.S_IFMT == unix.S_IFDIR }

// Equal reports whether both are the same.
func (n Node) Equal(o Node) bool { return slices.Equal(n.bytes(), o.bytes()) }

const (
	headSize = 48
	// marks are those of files that nobody can change (ioctl_iflags(2)).
	marks = 0x10 | 0x20
	// MostContent is how large a file may be, in bytes.
	MostContent = 1 << 30
)

// The bytes of a node, all numbers little-endian. Nothing is all zeros.
//
//	0   u32  mode
//	4   u32  user
//	8   u32  group
//	12  u32  marks
//	16  i64  time
//	24  u64  device
//	32  u32  length of the attributes: of each u16 length of the name, name, u32 length, value
//	36  u32  0
//	40  u64  length of the content
//	48  …    attributes, content
func (n Node) bytes() []byte {
	if n.Mode == 0 {
		return make([]byte, headSize)
	}
	var attrs []byte
	for _, a := range n.Attrs {
		attrs = binary.LittleEndian.AppendUint16(attrs, uint16(len(a.Name)))
		attrs = append(attrs, a.Name...)
		attrs = binary.LittleEndian.AppendUint32(attrs, uint32(len(a.Value)))
		attrs = append(attrs, a.Value...)
	}
	b := make([]byte, headSize, headSize+len(attrs)+len(n.Content))
	binary.LittleEndian.PutUint32(b[0:], n.Mode)
	binary.LittleEndian.PutUint32(b[4:], n.UID)
	binary.LittleEndian.PutUint32(b[8:], n.GID)
	binary.LittleEndian.PutUint32(b[12:], n.Marks)
	binary.LittleEndian.PutUint64(b[16:], uint64(n.Time))
	binary.LittleEndian.PutUint64(b[24:], n.Device)
	binary.LittleEndian.PutUint32(b[32:], uint32(len(attrs)))
	binary.LittleEndian.PutUint64(b[40:], uint64(len(n.Content)))
	return append(append(b, attrs...), n.Content...)
}

var errNoNode = errors.New("the bytes are not those of a file")

// nodeOf reads a node from its bytes; what is behind them does not count.
func nodeOf(b []byte) (n Node, err error) {
	if len(b) < headSize {
		return n, errNoNode
	}
	n = Node{
		Mode: binary.LittleEndian.Uint32(b[0:]), UID: binary.LittleEndian.Uint32(b[4:]),
		GID: binary.LittleEndian.Uint32(b[8:]), Marks: binary.LittleEndian.Uint32(b[12:]),
		Time: int64(binary.LittleEndian.Uint64(b[16:])), Device: binary.LittleEndian.Uint64(b[24:]),
	}
	if n.Mode == 0 {
		return Node{}, nil
	}
	attrs, size := int(binary.LittleEndian.Uint32(b[32:])), binary.LittleEndian.Uint64(b[40:])
	if b = b[headSize:]; attrs > len(b) || size > uint64(len(b)-attrs) {
		return n, errNoNode
	}
	n.Content = b[attrs : attrs+int(size)]
	for rest := b[:attrs]; len(rest) > 0; {
		name, after, ok := cut(rest, 2)
		value, after, ok2 := cut(after, 4)
		if !ok || !ok2 {
			return n, errNoNode
		}
		n.Attrs = append(n.Attrs, Attr{Name: string(name), Value: value})
		rest = after
	}
	return n, nil
}

// cut takes a piece whose length stands before it in so many bytes.
func cut(b []byte, width int) (piece, rest []byte, ok bool) {
	if len(b) < width {
		return nil, nil, false
	}
	n := int(binary.LittleEndian.Uint16(b))
	if width == 4 {
		n = int(binary.LittleEndian.Uint32(b))
	}
	if b = b[width:]; n > len(b) {
		return nil, nil, false
	}
	return b[:n], b[n:], true
}

// Files are those below a folder.
type Files struct {
	top  *os.File
	path string
	// written are folders in which something was written, one of each file system, by its number.
	written map[uint64]int
}

// OpenFiles opens those below the folder at path.
func OpenFiles(path string) (*Files, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return &Files{top: os.NewFile(uintptr(fd), path), path: path, written: map[uint64]int{}}, nil
}

// Close lets go of the folder.
func (f *Files) Close() error {
	err := f.top.Close()
	for _, fd := range f.written {
		err = errors.Join(err, unix.Close(fd))
	}
	return err
}

// Sync makes durable what was written, on each file system that something was written to.
func (f *Files) Sync() (err error) {
	for _, fd := range f.written {
		err = errors.Join(err, unix.Syncfs(fd))
	}
	return err
}

// folder opens the folder in which a path lies, by its name alone.
func (f *Files) folder(name string) (*os.File, error) {
	dir := path.Dir(name)
	fd, err := unix.Openat2(int(f.top.Fd()), dir, &unix.OpenHow{
		Flags: unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS,
	})
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path.Join(f.path, dir), Err: err}
	}
	return os.NewFile(uintptr(fd), dir), nil
}

// absent reports whether a path is nothing: also where a link or a file stands in the place of its folder.
func absent(err error) bool {
	return errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP)
}

// Stat is what a path is, without its content, attributes and marks; nothing if it is not there. Changed is when it was
// changed last in any way, in nanoseconds since 1970.
func (f *Files) Stat(name string) (n Node, changed int64, err error) {
	dir, err := f.folder(name)
	if absent(err) {
		return Node{}, 0, nil
	}
	if err != nil {
		return Node{}, 0, err
	}
	defer func() { err = errors.Join(err, dir.Close()) }()
	return stat(dir, path.Base(name))
}

func stat(dir *os.File, base string) (n Node, changed int64, err error) {
	var st unix.Stat_t
	err = unix.Fstatat(int(dir.Fd()), base, &st, unix.AT_SYMLINK_NOFOLLOW)
	if absent(err) {
		return Node{}, 0, nil
	}
	if err != nil {
		return Node{}, 0, &os.PathError{Op: "stat", Path: path.Join(dir.Name(), base), Err: err}
	}
	n = Node{Mode: st.Mode, UID: st.Uid, GID: st.Gid, Time: st.Mtim.Nano()}
	if k := st.Mode & unix.S_IFMT; k == unix.S_IFCHR || k == unix.S_IFBLK {
		n.Device = uint64(st.Rdev)
	}
	return n, st.Ctim.Nano(), nil
}

// Node is what a path is; nothing if it is not there.
func (f *Files) Node(name string) (n Node, err error) {
	dir, err := f.folder(name)
	if absent(err) {
		return Node{}, nil
	}
	if err != nil {
		return Node{}, err
	}
	defer func() { err = errors.Join(err, dir.Close()) }()
	base := path.Base(name)
	if n, _, err = stat(dir, base); err != nil || n.Mode == 0 {
		return n, err
	}
	switch n.Mode & unix.S_IFMT {
	case unix.S_IFLNK:
		buf := make([]byte, unix.PathMax)
		k, err := unix.Readlinkat(int(dir.Fd()), base, buf)
		n.Content = buf[:max(k, 0)]
		return n, err
	case unix.S_IFREG, unix.S_IFDIR:
		return n, fill(&n, dir, base)
	}
	return n, nil
}

// Names lists what lies in a folder; nothing where the path is no folder.
func (f *Files) Names(name string) (list []string, err error) {
	dir, err := f.folder(path.Join(name, "x"))
	if absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list, err = dir.Readdirnames(-1)
	return list, errors.Join(err, dir.Close())
}

// fill reads content, attributes and marks.
func fill(n *Node, dir *os.File, base string) (err error) {
	fd, err := unix.Openat(int(dir.Fd()), base, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return &os.PathError{Op: "open", Path: path.Join(dir.Name(), base), Err: err}
	}
	file := os.NewFile(uintptr(fd), base)
	defer func() { err = errors.Join(err, file.Close()) }()
	if m, err := unix.IoctlGetInt(fd, unix.FS_IOC_GETFLAGS); err == nil { // not every file system has any
		n.Marks = uint32(m) & marks
	}
	if n.Attrs, err = attrsOf(fd); err != nil || n.IsDir() {
		return err
	}
	n.Content, err = io.ReadAll(io.LimitReader(file, MostContent+1))
	if err == nil && len(n.Content) > MostContent {
		err = fmt.Errorf("%s: it has more than %d bytes", base, MostContent)
	}
	return err
}

// ownOfDraft begins the names of attributes by which the kernel keeps the layers of a draft apart.
const ownOfDraft = "trusted.overlay."

func attrsOf(fd int) (list []Attr, err error) {
	size, err := unix.Flistxattr(fd, nil)
	if errors.Is(err, unix.ENOTSUP) || err == nil && size == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	names := make([]byte, size)
	if size, err = unix.Flistxattr(fd, names); err != nil {
		return nil, err
	}
	for _, name := range strings.Split(strings.TrimSuffix(string(names[:size]), "\x00"), "\x00") {
		if name == "" || strings.HasPrefix(name, ownOfDraft) {
			continue
		}
		size, err := unix.Fgetxattr(fd, name, nil)
		if err != nil {
			return nil, fmt.Errorf("attribute %s: %w", name, err)
		}
		value := make([]byte, size)
		if size, err = unix.Fgetxattr(fd, name, value); err != nil {
			return nil, fmt.Errorf("attribute %s: %w", name, err)
		}
		list = append(list, Attr{name, value[:size]})
	}
	slices.SortFunc(list, func(a, b Attr) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}
