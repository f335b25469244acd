package host

import (
	"fmt"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// OpenDisk opens a disk image or a block device. The sector size of a device
// is asked of the kernel; that of an image is sectorSize, 0 for 512.
func OpenDisk(path string, sectorSize int, readOnly bool) (*block.Image, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeDevice != 0 && info.Mode()&fs.ModeCharDevice == 0 && sectorSize == 0 {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		sectorSize, err = unix.IoctlGetInt(int(f.Fd()), unix.BLKSSZGET)
		_ = f.Close()
		if err != nil {
			return nil, fmt.Errorf("open %s: ask for its sector size: %w", path, err)
		}
	}
	return block.OpenImage(path, sectorSize, readOnly)
}

// SystemVolume opens the volume of a disk on which a known system lies. The
// disk stays open as long as the program runs.
func SystemVolume(path string, adapters []system.Adapter, keys *volumes.Keys) (fs.FS, error) {
	image, err := OpenDisk(path, 0, true)
	if err != nil {
		return nil, err
	}
	_, systems, err := system.Describe(image, "disk0", path, adapters, system.Needs{Keys: keys})
	if err == nil && len(systems) == 0 {
		err = fmt.Errorf("%s: no system that is known lies on it", path)
	}
	if err != nil {
		_ = image.Close() // it was only read
		return nil, err
	}
	return systems[0].Volume, nil
}
