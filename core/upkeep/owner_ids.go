package upkeep

import (
	"io/fs"
	"syscall"
)

// ownerIDs are the numbers of a file's user and group; 0 where its file system has none.
func ownerIDs(info fs.FileInfo) (user, group int) {
	switch s := info.Sys().(type) {
	case *syscall.Stat_t:
		return int(s.Uid), int(s.Gid)
	case interface{ Owner() (user, group int) }:
		return s.Owner()
	}
	return 0, 0
}
