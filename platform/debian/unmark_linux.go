package debian

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Marks of files (ioctl_iflags(2)).
const (
	markImmutable = 0x10
	markAppend    = 0x20
)

// marksOf reads the marks of a file of a mounted system.
func marksOf(files *os.Root, name string) (marks int, err error) {
	f, err := files.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	return unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
}

// unmark takes away the marks that keep a file from being changed.
func unmark(files *os.Root, name string) (err error) {
	f, err := files.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	marks, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		return err
	}
	return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, marks&^(markImmutable|markAppend))
}
