package system

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// ErrNotReadHere means that a folder lies on a volume whose files cannot be read: what is in it is
// not known, which is not the same as missing.
var ErrNotReadHere = errors.New("it lies on a volume whose files are not read here")

// Mounted is a system's files as it sees them itself: those of its root volume, and below the
// folders where it mounts others those of these.
type Mounted struct {
	root   fs.FS
	points []point // the deepest first
}

type point struct {
	path  string
	files fs.FS // nil where they cannot be read
	why   string
}

// Whole is what a system that mounts volumes by these names sees.
func (g Ground) Whole(root fs.FS, mounts map[string]string) fs.FS {
	m := &Mounted{root: root}
	for id, at := range mounts {
		at = strings.TrimPrefix(path.Clean(at), "/")
		v := g.Volumes.Named(id)
		if at == "" || at == "." || !fs.ValidPath(at) || v == nil || v.Number == g.System || v.Content.Kind == "swap" {
			continue
		}
		m.points = append(m.points, point{path: at, files: g.Volume(v.Number), why: v.Name + ", " + v.Content.Kind})
	}
	if len(m.points) == 0 {
		return root
	}
	slices.SortFunc(m.points, func(a, b point) int {
		if n := strings.Count(b.path, "/") - strings.Count(a.path, "/"); n != 0 {
			return n
		}
		return strings.Compare(a.path, b.path)
	})
	return m
}

// at is where a name lies.
func (m *Mounted) at(op, name string) (fs.FS, string, error) {
	if !fs.ValidPath(name) {
		return nil, "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	for _, p := range m.points {
		rest, ok := strings.CutPrefix(name, p.path+"/")
		if name == p.path {
			rest, ok = ".", true
		}
		if !ok {
			continue
		}
		if p.files == nil {
			return nil, "", &fs.PathError{Op: op, Path: name, Err: fmt.Errorf("%w (%s)", ErrNotReadHere, p.why)}
		}
		return p.files, rest, nil
	}
	return m.root, name, nil
}

// try does something with a name; one that is not found is looked for once more by following
// links from volume to volume.
func (m *Mounted) try(op, name string, do func(files fs.FS, name string) error) error {
	files, rest, err := m.at(op, name)
	if err != nil {
		return err
	}
	err = do(files, rest)
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	real, ok := m.follow(name)
	if !ok || real == name {
		return err
	}
	if files, rest, err = m.at(op, real); err != nil {
		return err
	}
	return do(files, rest)
}

// mostLinks bounds how many links are followed for one name.
const mostLinks = 40

// follow resolves every link of a name over all volumes.
func (m *Mounted) follow(name string) (string, bool) {
	done, todo := ".", strings.Split(name, "/")
	for links := 0; len(todo) > 0; {
		next := path.Join(done, todo[0])
		todo = todo[1:]
		if next == ".." || strings.HasPrefix(next, "../") {
			next = "." // above the root is the root
		}
		files, rest, err := m.at("readlink", next)
		if err != nil {
			return "", false
		}
		to, err := fs.ReadLink(files, rest)
		if err != nil { // no link, or nothing at all: the end says so
			done = next
			continue
		}
		if links++; links > mostLinks {
			return "", false
		}
		if strings.HasPrefix(to, "/") {
			done = "."
		}
		todo = append(strings.Split(strings.Trim(path.Clean(to), "/"), "/"), todo...)
	}
	return done, true
}

// Open opens a file or folder.
func (m *Mounted) Open(name string) (f fs.File, err error) {
	err = m.try("open", name, func(files fs.FS, name string) (err error) {
		f, err = files.Open(name)
		return err
	})
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Stat describes a file or folder; links are followed.
func (m *Mounted) Stat(name string) (info fs.FileInfo, err error) {
	err = m.try("stat", name, func(files fs.FS, name string) (err error) {
		info, err = fs.Stat(files, name)
		return err
	})
	return info, err
}

// ReadDir lists a folder.
func (m *Mounted) ReadDir(name string) (list []fs.DirEntry, err error) {
	err = m.try("readdir", name, func(files fs.FS, name string) (err error) {
		list, err = fs.ReadDir(files, name)
		return err
	})
	return list, err
}

// ReadLink is where a link leads to.
func (m *Mounted) ReadLink(name string) (string, error) {
	files, rest, err := m.at("readlink", name)
	if err != nil {
		return "", err
	}
	return fs.ReadLink(files, rest)
}

// Lstat describes a file or folder, or a link itself.
func (m *Mounted) Lstat(name string) (fs.FileInfo, error) {
	files, rest, err := m.at("lstat", name)
	if err != nil {
		return nil, err
	}
	return fs.Lstat(files, rest)
}

var (
	_ fs.StatFS     = (*Mounted)(nil)
	_ fs.ReadDirFS  = (*Mounted)(nil)
	_ fs.ReadLinkFS = (*Mounted)(nil)
)
