package host

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/core/upkeep"
)

// OpenDisk opens a disk image or a block device. The sector size of a device
// is asked of the kernel; that of an image is sectorSize, 0 for 512.
func OpenDisk(path string, sectorSize int, readOnly bool) (*block.Image, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeDevice != 0 && sectorSize == 0 {
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

// A Platform knows one kind of operating system.
type Platform interface {
	// System tells which system lies on a volume.
	System(fs.FS) (bag.System, bool)
	// Mounts tells where that system mounts what, by UUID=, LABEL= or PARTUUID=.
	Mounts(fs.FS) map[string]string
	// Logs lists the logs of that system on a volume.
	Logs(fs.FS) []string
	// Catalogues lists the message catalogues by which those logs can be
	// understood, when they are not in English.
	Catalogues(fs.FS) []string
	// LogName is a log's name in a bag.
	LogName(string) string
	// Inventory lists what the system has installed; nil when it is not one.
	Inventory(fs.FS) *bag.Installed
	// Owed lists why the system has to be restarted; kernel is the running
	// one, empty when none does.
	Owed(fs.FS, string) []bag.Owed
}

// A Surveyor is a platform that can also tell how the parts of its systems
// stand.
type Surveyor interface {
	// HoldsLoader tells the volume from which the firmware starts the system.
	HoldsLoader(fs.FS) bool
	// Survey adds to the facts what it finds.
	Survey(upkeep.Ground, *bag.Facts)
}

// A found system, with the volume that holds it.
type found struct {
	platform Platform
	volume   fs.FS
	ground   upkeep.Ground
}

// DescribeDisk looks at the tables of a disk and at what lies on its
// partitions. The systems that it finds are returned beside the description.
func DescribeDisk(src block.Source, id, path string, platforms []Platform) (*bag.Disk, []found, error) {
	return DescribeDiskFor(src, id, path, platforms, Needs{})
}

// Needs are what a disk can be held against.
type Needs struct {
	Firmware string          // uefi or bios: what it needs to start from the disk
	Sizes    []layout.Demand // what a release asks
}

// DescribeDiskFor holds the disk against needs as well.
func DescribeDiskFor(src block.Source, id, path string, platforms []Platform, needs Needs) (*bag.Disk, []found, error) {
	table, err := layout.Read(src)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	d := &bag.Disk{
		ID: id, Source: filepath.Base(path), Size: table.Size, SectorSize: table.SectorSize, Style: string(table.Style()), Marks: table.Target(path).Marks,
		MBR:     bag.MBR{Signed: table.MBR.Signed, Protective: table.MBR.Protective(), HasCode: table.MBR.HasCode},
		Primary: describeCopy(&table.Primary, table.Style()), Backup: describeCopy(&table.Backup, table.Style()),
		Partitions: []bag.Partition{},
	}
	var systems []found
	mounts := map[string]string{}
	volumes := map[int]fs.FS{}
	around := layout.Surroundings{Firmware: needs.Firmware, Demands: needs.Sizes, Contents: map[int]layout.Content{}, Systems: map[int]bool{}, Roles: map[int]string{}}
	for _, p := range table.Partitions() {
		part := block.NewPart(src, p.Off, p.Length)
		content := layout.Recognise(part)
		if content.Kind == "" {
			content.Note = backupOf(part, p.Length)
		}
		around.Contents[p.Number] = content
		described := describePartition(p, content)
		if volume := openVolume(part, described.Content); volume != nil {
			volumes[p.Number] = volume
			for _, platform := range platforms {
				if s, ok := platform.(Surveyor); ok && s.HoldsLoader(volume) {
					around.Systems[p.Number], described.Role = true, "boot"
				}
				if sys, ok := platform.System(volume); ok {
					described.System, described.Role, described.Mount = &sys, "system", "/"
					around.Systems[p.Number] = true
					systems = append(systems, found{platform, volume, upkeep.Ground{Disk: src, Table: table, Contents: around.Contents, System: p.Number, Volume: func(n int) fs.FS { return volumes[n] }}})
					for id, at := range platform.Mounts(volume) {
						mounts[id] = at
					}
				}
			}
		}
		d.Partitions = append(d.Partitions, described)
	}
	assignRoles(d.Partitions, mounts)
	for _, p := range d.Partitions {
		around.Roles[p.Number] = p.Role
	}
	d.Problems = append([]layout.Problem{}, table.CheckIn(around)...)
	return d, systems, nil
}

// backupOf says what file system lies on a partition whose start is damaged, by
// the backup that it keeps of it; nothing when none is found.
func backupOf(part *block.Part, length int64) string {
	if v, err := fat.Open(part); err == nil && v.FromBackup != nil {
		return "FAT32: the boot sector is damaged, its backup is sound"
	}
	if b, err := ext.FindBackup(part, length); err == nil {
		return fmt.Sprintf("ext: the first superblock is damaged, the one of group %d is sound", b.Group)
	}
	return ""
}

// largestFAT is the size of the largest FAT volume whose files are looked at,
// in bytes: its table is read whole.
const largestFAT = 32 << 30

// openVolume returns nil for what cannot be read as files.
func openVolume(part *block.Part, content bag.Content) fs.FS {
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
	}
	return nil
}

// describeCopy calls a copy damaged that is not there while the other is.
func describeCopy(c *layout.Copy, style layout.Style) bag.TableCopy {
	d := bag.TableCopy{State: "absent", LBA: c.LBA}
	if style == layout.StyleGPT {
		d.State = "damaged"
	}
	if !c.Found {
		return d
	}
	if c.Sound() {
		d.State = "sound"
	}
	d.DiskGUID = c.Header.DiskGUID.String()
	d.HeaderCRC, d.HeaderComputed = hex32(c.Header.CRC), hex32(c.Computed.Header)
	d.EntriesCRC, d.EntriesComputed = hex32(c.Header.EntryCRC), hex32(c.Computed.Entries)
	d.FirstUsable, d.LastUsable = c.Header.FirstUsable, c.Header.LastUsable
	return d
}

func hex32(n uint32) string { return fmt.Sprintf("0x%08x", n) }

func describePartition(p layout.Partition, c layout.Content) bag.Partition {
	return bag.Partition{
		Number: p.Number, Type: p.Type, TypeCode: p.TypeCode, ID: p.ID, Name: p.Name, Active: p.Active,
		First: p.Span.First, Last: p.Span.Last, Offset: p.Off, Size: p.Length,
		Content: bag.Content{Kind: c.Kind, Label: c.Label, UUID: c.UUID, Size: c.Size, Free: c.Free, LastMount: c.LastMount, Note: c.Note},
	}
}

// assignRoles says what the system uses each partition for: by its own list
// of mounts, and only where that says nothing by the partition's type.
func assignRoles(parts []bag.Partition, mounts map[string]string) {
	for i := range parts {
		p := &parts[i]
		if p.Role != "" {
			continue
		}
		for _, id := range []string{"UUID=" + p.Content.UUID, "PARTUUID=" + p.ID, "LABEL=" + p.Content.Label} {
			if at, ok := mounts[id]; ok && p.Mount == "" {
				p.Mount = at
			}
		}
		switch {
		case p.Mount == "/boot/efi" || p.Mount == "/efi" || p.TypeCode == layout.TypeESP.String():
			p.Role = "esp"
		case p.Mount == "/boot":
			p.Role = "boot"
		default:
			p.Role = "data"
		}
	}
}

// SystemVolume opens the volume of a disk on which a known system lies. The
// disk stays open as long as the program runs.
func SystemVolume(path string, platforms []Platform) (fs.FS, error) {
	image, err := OpenDisk(path, 0, true)
	if err != nil {
		return nil, err
	}
	_, systems, err := DescribeDisk(image, "disk0", path, platforms)
	if err == nil && len(systems) == 0 {
		err = fmt.Errorf("%s: no system that is known lies on it", path)
	}
	if err != nil {
		_ = image.Close() // it was only read
		return nil, err
	}
	return systems[0].volume, nil
}
