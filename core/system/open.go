package system

import (
	"errors"
	"fmt"
	"io/fs"

	"diorthos/core/block"
	"diorthos/core/btrfs"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/core/volumes"
	"diorthos/core/xfs"
)

// ErrOnlyRead means that the systems of a family can be read, and not changed.
var ErrOnlyRead = errors.New("systems of this family are only read")

// largestFAT is the size of the largest FAT volume whose files are looked at,
// in bytes: its table is read whole.
const largestFAT = 32 << 30

// Volume opens the file system of a partition for reading; nil for what cannot
// be read as files.
func Volume(part block.Source, content layout.Content) fs.FS {
	if part == nil {
		return nil
	}
	switch content.Kind {
	case "fat12", "fat16", "fat32":
		if content.Size > largestFAT {
			return nil
		}
		if volume, err := fat.Open(part); err == nil && volume.FromBackup == nil {
			return volume
		}
	case "ext2", "ext3", "ext4":
		if volume, err := ext.Open(part); err == nil {
			return volume
		}
	case "xfs":
		if volume, err := xfs.Open(part); err == nil {
			return volume
		}
	case "btrfs":
		// Of half a volume, what lies on the other device would look missing.
		if volume, err := btrfs.Open(part); err == nil && volume.Whole() {
			return volume
		}
	}
	return nil
}

// OpenAll opens every system on a disk that can be changed, each by the adapter
// that knows it. A system that cannot be opened does not keep others from being
// mended: it is an error only where none can.
func OpenAll(adapters []Adapter, dev block.Device, o Options) ([]Opened, error) {
	table, err := layout.Read(dev)
	if err != nil {
		return nil, err
	}
	var list []Opened
	var failed []error
	set := volumes.Open(dev, table, o.Keys)
	for _, p := range set.All() {
		volume := Volume(p.Dev, p.Content)
		if volume == nil {
			continue
		}
		a, found, ok := FindOn(adapters, viewOf(adapters, volume).Files())
		if !ok {
			continue
		}
		s, err := a.Open(dev, p.Number, o)
		if errors.Is(err, ErrOnlyRead) {
			continue
		}
		if err != nil {
			failed = append(failed, fmt.Errorf("%s on %s: %w", found.Name, p.Name, err))
			continue
		}
		list = append(list, Opened{Partition: p.Number, Title: found.Name, System: s})
	}
	if len(list) == 0 {
		return nil, errors.Join(failed...)
	}
	return list, nil
}

// GroundOf looks at a disk as it stands, for the system on one of its volumes. The adapters know the systems on it.
func GroundOf(
	disk block.Source, table *layout.Table, keys *volumes.Keys, number int, adapters ...Adapter,
) Ground {
	set := volumes.Open(disk, table, keys)
	g := Ground{
		Disk: disk, Table: table, Volumes: set, System: number, Contents: map[int]layout.Content{}, Views: map[int]*View{},
	}
	for _, v := range set.All() {
		g.Contents[v.Number] = v.Content
		if volume := Volume(v.Dev, v.Content); volume != nil {
			g.Views[v.Number] = viewOf(adapters, volume)
		}
	}
	g.Volume = func(n int) fs.FS { return g.Views[n].Files() }
	return g
}
