package inside

import (
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"diorthos/core/system"
)

// A listing is what is known of each file of a system, by its path.
type listing map[string]standing

// standing is by what a file is known to be as it was.
type standing struct {
	inode, size int64
	changed     unix.Timespec
	mode        uint32
}

// notOfTheDraft is what is mounted inside that is only of the moment.
var notOfTheDraft = []string{"dev", "proc", "sys", "run"}

// scan looks at every file. It is done by the thread of the session.
func (s *session) scan() (listing, error) {
	t := listing{}
	err := filepath.WalkDir(s.root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			if d != nil && d.IsDir() {
				return fs.SkipDir // a damaged folder: what can be read is enough
			}
			return nil
		}
		name := strings.TrimPrefix(strings.TrimPrefix(path, s.root), "/")
		if d.IsDir() && slices.Contains(notOfTheDraft, name) {
			return fs.SkipDir
		}
		var st unix.Stat_t
		if err := unix.Lstat(path, &st); err != nil || d.IsDir() || name == policyFile || name == resolver[1:] {
			return nil //nolint:nilerr // it went away meanwhile, or is not one that is listed
		}
		t[name] = standing{inode: int64(st.Ino), size: st.Size, changed: st.Ctim, mode: st.Mode}
		return nil
	})
	return t, err
}

// Free is how many bytes are free for the system's own tools on the volume of a folder, as it stands in the draft.
func (s *session) Free(folder string) (int64, error) {
	f, err := s.files.Open(folder)
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.Close() }() // it was only looked at
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(f.Fd()), &st); err != nil {
		return 0, err
	}
	return int64(st.Bfree) * st.Bsize, nil
}

// Changed lists what differs from how the system was entered.
func (s *session) Changed() (list []system.Change, err error) {
	var now listing
	if err := s.do(func() error {
		now, err = s.scan()
		return err
	}); err != nil {
		return nil, err
	}
	for name, is := range now {
		if was, ok := s.before[name]; !ok {
			list = append(list, system.Change{Path: name, How: system.FileAdded})
		} else if was != is {
			list = append(list, system.Change{Path: name, How: system.FileChanged})
		}
	}
	for name := range s.before {
		if _, ok := now[name]; !ok {
			list = append(list, system.Change{Path: name, How: system.FileRemoved})
		}
	}
	slices.SortFunc(list, func(a, b system.Change) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}
