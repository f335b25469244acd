package debian

import (
	"io/fs"
	"syscall"
)

// ownerOf is whose a file of a mounted system is; root's where that is not known.
func ownerOf(info fs.FileInfo) (uid, gid int) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Uid), int(st.Gid)
	}
	return 0, 0
}
