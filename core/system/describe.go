package system

import (
	"fmt"
	"io/fs"
	"path/filepath"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
)

// A Found system, with the adapter that knows it and the volume that holds it.
type Found struct {
	Adapter Adapter
	Volume  fs.FS
	Ground  Ground
}

// Needs are what a disk can be held against.
type Needs struct {
	Firmware firmware.Mode   // what it needs to start from the disk
	Sizes    []layout.Demand // what a release asks
}

// Describe looks at the tables of a disk and at what lies on its partitions, and
// holds it against needs. The systems that it finds are returned beside the
// description.
func Describe(src block.Source, id, path string, adapters []Adapter, needs Needs) (*bag.Disk, []Found, error) {
	table, err := layout.Read(src)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	d := &bag.Disk{
		ID:         id,
		Source:     filepath.Base(path),
		Size:       table.Size,
		SectorSize: table.SectorSize,
		Style:      table.Style(),
		Marks:      table.Target(path).Marks,
		MBR:        bag.MBR{Signed: table.MBR.Signed, Protective: table.MBR.Protective(), HasCode: table.MBR.HasCode},
		Primary:    describeCopy(&table.Primary, table.Style()),
		Backup:     describeCopy(&table.Backup, table.Style()),
		Partitions: []bag.Partition{},
	}
	var systems []Found
	mounts := map[string]string{}
	volumes := map[int]fs.FS{}
	around := layout.CheckContext{
		Firmware: needs.Firmware,
		Demands:  needs.Sizes,
		Contents: map[int]layout.Content{},
		Systems:  map[int]bool{},
		Roles:    map[int]layout.Role{},
	}
	if table.Style() == layout.StyleNone {
		around.Whole = layout.Recognise(src)
		around.First, around.FirstLBA = firstWithoutTable(src, int64(table.SectorSize))
	}
	for _, p := range table.Partitions() {
		part := block.NewReadRange(src, p.Off, p.Length)
		content := layout.Recognise(part)
		if content.Kind == "" {
			content.Note = backupOf(part, p.Length)
		}
		around.Contents[p.Number] = content
		described := describePartition(p, content)
		if volume := Volume(part, content); volume != nil {
			volumes[p.Number] = volume
			if v, ok := volume.(interface{ NeedsRecovery() bool }); ok && v.NeedsRecovery() {
				described.Content.Note = "its journal was not replayed: what was written last may not show in its files"
			}
			for _, a := range adapters {
				if a.HoldsLoader(volume) {
					around.Systems[p.Number], described.Role = true, layout.RoleBoot
				}
			}
			if a, sys, ok := FindOn(adapters, volume); ok {
				described.System, described.Role, described.Mount = &sys, layout.RoleSystem, "/"
				around.Systems[p.Number] = true
				systems = append(systems, Found{Adapter: a, Volume: volume, Ground: Ground{
					Disk: src, Table: table, Contents: around.Contents, System: p.Number,
					Volume: func(n int) fs.FS { return volumes[n] },
				}})
				for id, at := range a.Mounts(volume) {
					mounts[id] = at
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

// firstWithoutTable recognises what lies where tools put the first partition: at the
// first MiB, or behind the first track of old disks.
func firstWithoutTable(src block.Source, sector int64) (layout.Content, int64) {
	for _, at := range []int64{1 << 20, 63 * sector} {
		if at >= src.Size() {
			continue
		}
		if c := layout.Recognise(block.NewReadRange(src, at, src.Size()-at)); c.Kind != "" {
			return c, at / sector
		}
	}
	return layout.Content{}, 0
}

// backupOf says what file system lies on a partition whose start is damaged, by
// the backup that it keeps of it; nothing when none is found.
func backupOf(part *block.ReadRange, length int64) string {
	if v, err := fat.Open(part); err == nil && v.FromBackup != nil {
		return "FAT32: the boot sector is damaged, its backup is sound"
	}
	if b, err := ext.FindBackup(part, length); err == nil {
		return fmt.Sprintf("ext: the first superblock is damaged, the one of group %d is sound", b.Group)
	}
	return ""
}

// describeCopy calls a copy damaged that is not there while the other is.
func describeCopy(c *layout.Copy, style layout.Style) bag.TableCopy {
	d := bag.TableCopy{State: layout.CopyAbsent, LBA: c.LBA}
	if style == layout.StyleGPT {
		d.State = layout.CopyDamaged
	}
	if !c.Found {
		return d
	}
	if c.Sound() {
		d.State = layout.CopySound
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
		Content: bag.Content{
			Kind:      c.Kind,
			Label:     c.Label,
			UUID:      c.UUID,
			Size:      c.Size,
			Free:      c.Free,
			LastMount: c.LastMount,
			Note:      c.Note,
		},
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
			p.Role = layout.RoleESP
		case p.Mount == "/boot":
			p.Role = layout.RoleBoot
		default:
			p.Role = layout.RoleData
		}
	}
}
