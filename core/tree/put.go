package tree

import (
	"errors"
	"fmt"
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// fresh is what a file is called while it is being written.
func fresh(base string) string {
	const tail = ".diorthos-new"
	if most := 255 - len(tail) - 1; len(base) > most {
		base = base[:most]
	}
	return "." + base + tail
}

// Put makes a path be what n says, in one step where it is a file: a kill leaves what was there or what
// shall be. A folder that is taken away has to be empty. The time of the folder around it stays.
func (f *Files) Put(name string, n Node) (err error) {
	dir, err := f.folder(name)
	if absent(err) && n.Mode == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dir.Close()) }()
	var around unix.Stat_t
	if err := unix.Fstat(int(dir.Fd()), &around); err != nil {
		return err
	}
	if _, known := f.written[around.Dev]; !known {
		fd, err := unix.FcntlInt(dir.Fd(), unix.F_DUPFD_CLOEXEC, 0)
		if err != nil {
			return err
		}
		f.written[around.Dev] = fd
	}
	if err := put(dir, path.Base(name), n); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return unix.UtimesNanoAt(int(dir.Fd()), "", []unix.Timespec{around.Atim, around.Mtim}, unix.AT_EMPTY_PATH)
}

func put(dir *os.File, base string, n Node) error {
	at := int(dir.Fd())
	if err := unix.Unlinkat(at, fresh(base), 0); err != nil && !absent(err) {
		return err
	}
	now, _, err := stat(dir, base)
	if err != nil {
		return err
	}
	if now.Mode != 0 {
		if err := unmark(dir, base, now); err != nil {
			return err
		}
	}
	switch {
	case n.IsDir() && now.IsDir():
		return dress(at, base, n)
	case now.Mode != 0 && (n.Mode == 0 || n.IsDir() || now.IsDir()):
		flags := 0
		if now.IsDir() {
			flags = unix.AT_REMOVEDIR
		}
		if err := unix.Unlinkat(at, base, flags); err != nil {
			return err
		}
	}
	switch {
	case n.Mode == 0:
		return nil
	case n.IsDir():
		if err := unix.Mkdirat(at, base, 0o700); err != nil {
			return err
		}
		return dress(at, base, n)
	}
	bare := n
	bare.Marks = 0 // one that is marked cannot take its name
	if err := create(at, fresh(base), n); err != nil {
		return err
	}
	if err := dress(at, fresh(base), bare); err != nil {
		return err
	}
	if err := unix.Renameat(at, fresh(base), at, base); err != nil {
		return err
	}
	return mark(at, base, n)
}

// create makes a file of any kind but a folder.
func create(at int, base string, n Node) error {
	switch n.Mode & unix.S_IFMT {
	case unix.S_IFLNK:
		return unix.Symlinkat(string(n.Content), at, base)
	case unix.S_IFREG:
		fd, err := unix.Openat(at, base, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
		if err != nil {
			return err
		}
		file := os.NewFile(uintptr(fd), base)
		_, err = file.Write(n.Content)
		return errors.Join(err, file.Sync(), file.Close())
	}
	return unix.Mknodat(at, base, n.Mode, int(n.Device))
}

// dress gives a file owner, permissions, attributes, time and marks.
func dress(at int, base string, n Node) error {
	if err := unix.Fchownat(at, base, int(n.UID), int(n.GID), unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	if n.Mode&unix.S_IFMT != unix.S_IFLNK {
		if err := unix.Fchmodat(at, base, n.Mode&0o7777, 0); err != nil {
			return err
		}
	}
	if k := n.Mode & unix.S_IFMT; k == unix.S_IFREG || k == unix.S_IFDIR {
		if err := setAttrs(at, base, n); err != nil {
			return err
		}
	}
	times := []unix.Timespec{unix.NsecToTimespec(n.Time), unix.NsecToTimespec(n.Time)}
	if err := unix.UtimesNanoAt(at, base, times, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return err
	}
	return mark(at, base, n)
}

// setAttrs gives a file its extended attributes, and takes away those that it has besides, such as what a
// new file takes over from its folder.
func setAttrs(at int, base string, n Node) (err error) {
	fd, err := unix.Openat(at, base, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unix.Close(fd)) }()
	now, err := attrsOf(fd)
	if err != nil {
		return err
	}
	want := map[string]bool{}
	for _, a := range n.Attrs {
		want[a.Name] = true
		if err := unix.Fsetxattr(fd, a.Name, a.Value, 0); err != nil {
			return fmt.Errorf("attribute %s: %w", a.Name, err)
		}
	}
	for _, a := range now {
		if !want[a.Name] {
			if err := unix.Fremovexattr(fd, a.Name); err != nil {
				return fmt.Errorf("attribute %s: %w", a.Name, err)
			}
		}
	}
	return nil
}

// unmark lets a file be changed.
func unmark(dir *os.File, base string, now Node) error {
	if k := now.Mode & unix.S_IFMT; k != unix.S_IFREG && k != unix.S_IFDIR {
		return nil
	}
	return changeMarks(int(dir.Fd()), base, func(m int) int { return m &^ marks })
}

// mark keeps a file from being changed, where it shall be so.
func mark(at int, base string, n Node) error {
	if n.Marks == 0 {
		return nil
	}
	return changeMarks(at, base, func(m int) int { return m&^marks | int(n.Marks) })
}

func changeMarks(at int, base string, change func(int) int) (err error) {
	fd, err := unix.Openat(at, base, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unix.Close(fd)) }()
	m, err := unix.IoctlGetInt(fd, unix.FS_IOC_GETFLAGS)
	if err != nil {
		return nil //nolint:nilerr // a file system without marks
	}
	if to := change(m); to != m {
		return unix.IoctlSetPointerInt(fd, unix.FS_IOC_SETFLAGS, to)
	}
	return nil
}
