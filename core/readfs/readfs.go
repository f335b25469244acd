// Package readfs holds what every file system that is only read needs: an open
// file and an open folder, as [io/fs] wants them.
//
//	return readfs.OpenFolder(info, func() ([]fs.FileInfo, error) { … }), nil
package readfs

import (
	"io"
	"io/fs"
	"sort"
)

// OpenFile is an open file: its bytes and what is known of it.
func OpenFile(info fs.FileInfo, body *io.SectionReader) fs.File { return &file{body, info} }

type file struct {
	*io.SectionReader
	info fs.FileInfo
}

func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *file) Close() error               { return nil }

// OpenFolder is an open folder. list is called once, when entries are first
// asked for; entries whose names are no plain ones are left out.
func OpenFolder(info fs.FileInfo, list func() ([]fs.FileInfo, error)) fs.ReadDirFile {
	return &folder{info: info, list: list}
}

type folder struct {
	info fs.FileInfo
	list func() ([]fs.FileInfo, error)
	rest []fs.DirEntry
}

func (f *folder) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *folder) Close() error               { return nil }
func (f *folder) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: f.info.Name(), Err: fs.ErrInvalid}
}

// ReadDir gives up to n entries in the order of their names; all that are left
// when n is not above 0.
func (f *folder) ReadDir(n int) ([]fs.DirEntry, error) {
	if f.list != nil {
		infos, err := f.list()
		if err != nil {
			return nil, err
		}
		f.list = nil
		for _, info := range infos {
			if plain(info.Name()) {
				f.rest = append(f.rest, fs.FileInfoToDirEntry(info))
			}
		}
		sort.Slice(f.rest, func(i, k int) bool { return f.rest[i].Name() < f.rest[k].Name() })
	}
	if n > 0 && len(f.rest) == 0 {
		return nil, io.EOF
	}
	if n <= 0 || n > len(f.rest) {
		n = len(f.rest)
	}
	list := f.rest[:n:n]
	f.rest = f.rest[n:]
	return list, nil
}

// plain reports whether a name is that of one entry, and not a path.
func plain(name string) bool {
	if name == "." || !fs.ValidPath(name) {
		return false
	}
	for i := range len(name) {
		if name[i] == '/' {
			return false
		}
	}
	return true
}
