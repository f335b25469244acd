package readfs

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"
)

// An Inode is a file, folder or link as a file system keeps it, without a name.
type Inode interface {
	// ReadAt reads the bytes of a file; of a link, where it leads.
	io.ReaderAt
	Mode() fs.FileMode
	Size() int64 // bytes
	ModTime() time.Time
	// Entries are what a folder holds, without itself and the folder above it.
	Entries() (map[string]Opener, error)
}

// An Opener reads the inode that an entry of a folder names.
type Opener func() (Inode, error)

// A Tree is the files below a folder. It follows links as a system that starts from there would: none leads out of it.
// Several may read at once.
type Tree struct {
	root Inode
	keep bool

	mutex sync.Mutex
	known map[string]map[string]Opener // what a folder holds, by its path without links
}

// NewTree makes a tree of the folder at its top.
func NewTree(root Inode) *Tree { return &Tree{root: root, known: map[string]map[string]Opener{}} }

// KeepFolders has what folders hold kept, for those that were asked for last: for files that nobody changes meanwhile.
func (t *Tree) KeepFolders() { t.keep = true }

// mostKnown is of how many folders is kept what they hold.
const mostKnown = 32

// entries are what a folder holds.
func (t *Tree) entries(folder string, in Inode) (map[string]Opener, error) {
	if !t.keep {
		return in.Entries()
	}
	t.mutex.Lock()
	entries, ok := t.known[folder]
	t.mutex.Unlock()
	if ok {
		return entries, nil
	}
	entries, err := in.Entries()
	if err != nil {
		return nil, err
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if len(t.known) >= mostKnown {
		clear(t.known)
	}
	t.known[folder] = entries
	return entries, nil
}

// longestLink is how long the path in a link may be, in bytes (PATH_MAX).
const longestLink = 4096

var (
	errNoFolder = errors.New("not a folder")
	errLinks    = errors.New("too many symbolic links")
)

func linkOf(in Inode) (string, error) {
	if in.Size() > longestLink {
		return "", errors.New("a symbolic link longer than a path can be")
	}
	b := make([]byte, in.Size())
	n, err := in.ReadAt(b, 0)
	if err == io.EOF {
		err = nil
	}
	return string(b[:n]), err
}

// walk finds what a name means, following links except, unless follow, a last one.
func (t *Tree) walk(name string, follow bool) (Inode, error) {
	rest, trail := strings.Split(name, "/"), []Inode{t.root} // from the root to where we are
	names := []string{"."}                                   // of these
	for links := 0; len(rest) > 0; {
		part, here := rest[0], trail[len(trail)-1]
		rest = rest[1:]
		switch {
		case part == "" || part == ".":
			continue
		case part == "..":
			trail = trail[:max(1, len(trail)-1)]
			names = names[:len(trail)]
			continue
		case !here.Mode().IsDir():
			return nil, fs.ErrNotExist
		}
		entries, err := t.entries(strings.Join(names, "/"), here)
		if err != nil {
			return nil, err
		}
		open, ok := entries[part]
		if !ok {
			return nil, fs.ErrNotExist
		}
		next, err := open()
		if err != nil {
			return nil, err
		}
		if next.Mode()&fs.ModeSymlink == 0 || !follow && len(rest) == 0 {
			trail, names = append(trail, next), append(names, part)
			continue
		}
		if links++; links > mostLinks {
			return nil, errLinks
		}
		target, err := linkOf(next)
		if err != nil {
			return nil, err
		}
		if strings.HasPrefix(target, "/") {
			trail, names = trail[:1], names[:1]
		}
		rest = append(strings.Split(target, "/"), rest...)
	}
	return trail[len(trail)-1], nil
}

func (t *Tree) find(op, name string, follow bool) (Inode, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	in, err := t.walk(name, follow)
	if err != nil {
		return nil, &fs.PathError{Op: op, Path: name, Err: err}
	}
	return in, nil
}

// Inode is what a name leads to.
func (t *Tree) Inode(name string) (Inode, error) { return t.find("open", name, true) }

// Sub is the tree below a folder, as a system would see it that starts from there.
func (t *Tree) Sub(folder string) (fs.FS, error) {
	in, err := t.find("sub", folder, true)
	if err == nil && !in.Mode().IsDir() {
		err = &fs.PathError{Op: "sub", Path: folder, Err: errNoFolder}
	}
	if err != nil {
		return nil, err
	}
	sub := NewTree(in)
	sub.keep = t.keep
	return sub, nil
}

// Open opens the named file or folder.
func (t *Tree) Open(name string) (fs.File, error) {
	in, err := t.find("open", name, true)
	if err != nil {
		return nil, err
	}
	info := inodeInfo{in, path.Base(name)}
	if in.Mode().IsDir() {
		return OpenFolder(info, func() ([]fs.FileInfo, error) { return list(in) }), nil
	}
	return OpenFile(info, io.NewSectionReader(in, 0, in.Size())), nil
}

// Stat describes what a name leads to.
func (t *Tree) Stat(name string) (fs.FileInfo, error) {
	in, err := t.find("stat", name, true)
	if err != nil {
		return nil, err
	}
	return inodeInfo{in, path.Base(name)}, nil
}

// Lstat describes a name itself, also that of a link.
func (t *Tree) Lstat(name string) (fs.FileInfo, error) {
	in, err := t.find("lstat", name, false)
	if err != nil {
		return nil, err
	}
	return inodeInfo{in, path.Base(name)}, nil
}

// ReadLink is where a link leads to, as it was written.
func (t *Tree) ReadLink(name string) (string, error) {
	in, err := t.find("readlink", name, false)
	if err != nil {
		return "", err
	}
	if in.Mode()&fs.ModeSymlink == 0 {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
	}
	return linkOf(in)
}

func list(folder Inode) ([]fs.FileInfo, error) {
	entries, err := folder.Entries()
	if err != nil {
		return nil, err
	}
	infos := make([]fs.FileInfo, 0, len(entries))
	for name, open := range entries {
		in, err := open()
		if err != nil {
			return nil, err
		}
		infos = append(infos, inodeInfo{in, name})
	}
	return infos, nil
}

type inodeInfo struct {
	Inode
	name string
}

func (i inodeInfo) Name() string { return i.name }
func (i inodeInfo) IsDir() bool  { return i.Mode().IsDir() }

// Sys is the inode, which may tell more than any file system does.
func (i inodeInfo) Sys() any { return i.Inode }

// Mode is what a Unix file system keeps in 16 bits as the type and the rights of a file.
func Mode(bits uint16) fs.FileMode {
	mode := kinds[bits&0xf000] | fs.FileMode(bits&0o777)
	for bit, mark := range marks {
		if bits&bit != 0 {
			mode |= mark
		}
	}
	return mode
}

var (
	kinds = map[uint16]fs.FileMode{
		0x1000: fs.ModeNamedPipe,
		0x2000: fs.ModeDevice | fs.ModeCharDevice,
		0x4000: fs.ModeDir,
		0x6000: fs.ModeDevice,
		0xa000: fs.ModeSymlink,
		0xc000: fs.ModeSocket,
	}
	marks = map[uint16]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky}
)
