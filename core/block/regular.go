package block

import (
	"fmt"
	"io/fs"
	"os"
)

// OpenRegular opens a file that lies on a disk, as os.OpenFile does. What may block for ever or never ends, such as a
// pipe, is refused, and a folder.
func OpenRegular(path string, flag int) (*os.File, error) {
	if err := isOf(path, "a regular file", fs.FileMode.IsRegular); err != nil {
		return nil, err
	}
	return os.OpenFile(path, flag, 0) //nolint:gosec // who calls names it
}

// isOf refuses what is of another kind than is wanted, before it is opened: opening alone can block.
func isOf(path, want string, fits func(fs.FileMode) bool) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if mode := info.Mode(); !fits(mode) {
		return fmt.Errorf("open %s: is %s; want %s", path, kindOf(mode), want)
	}
	return nil
}

func kindOf(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a folder"
	case mode&fs.ModeNamedPipe != 0:
		return "a pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeCharDevice != 0:
		return "a character device"
	case mode&fs.ModeDevice != 0:
		return "a block device"
	}
	return "a file"
}

// holdsDisk reports whether a disk can lie in a file of such a mode.
func holdsDisk(mode fs.FileMode) bool {
	return mode.IsRegular() || mode&fs.ModeDevice != 0 && mode&fs.ModeCharDevice == 0
}
