package host

import (
	"io/fs"
	"os"
	"syscall"

	"diorthos/core/upkeep"
)

// OnVolume measures files below a path of this computer by the blocks that they take, and leaves out folders at which
// something else is mounted: another volume, or what the kernel shows there. Where the kernel does not tell, a file
// counts with its length, and no folder is left out.
func OnVolume(path string) upkeep.Measure {
	status := func(info fs.FileInfo, err error) *syscall.Stat_t {
		if err != nil {
			return nil
		}
		s, _ := info.Sys().(*syscall.Stat_t)
		return s
	}
	own := status(os.Stat(path))
	return upkeep.Measure{
		Skip: func(folder fs.DirEntry) bool {
			s := status(folder.Info())
			return own != nil && s != nil && s.Dev != own.Dev
		},
		Taken: func(info fs.FileInfo) int64 {
			if s := status(info, nil); s != nil {
				return s.Blocks * blockSize
			}
			return info.Size()
		},
	}
}

// blockSize is the unit of what stat(2) tells a file takes, in bytes.
const blockSize = 512
