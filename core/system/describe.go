package system

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/btrfs"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/volumes"
	"diorthos/core/xfs"
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
	Keys     *volumes.Keys   // for what is encrypted
	// ChainAlone says that no more is asked than by what the machine starts: file systems are not checked.
	ChainAlone bool
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
	set := volumes.Open(src, table, needs.Keys)
	views := map[int]*View{}
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
	contents := map[int]layout.Content{}
	look := func(v *volumes.Volume, in place) {
		content := v.Content
		if content.Kind == "" && v.Dev != nil {
			content.Note = backupOf(v.Dev, v.Size)
		}
		if v.Problem != "" && v.Number < volumes.FirstInner {
			content.Note = v.Problem
		}
		contents[v.Number], *in.content = content, describeContent(content)
		top := Volume(v.Dev, content)
		if top == nil {
			if content.Kind == "btrfs" && v.Dev != nil {
				if f, err := btrfs.Open(v.Dev); err == nil {
					in.content.Note = notRead(f)
				}
			}
			return
		}
		views[v.Number] = viewOf(adapters, top).hold()
		volume := views[v.Number].Files()
		if in.content.Note == "" {
			in.content.Note = notRead(top)
		}
		if f, ok := volume.(*ext.FS); ok && f.NeedsRecovery() {
			in.content.Note = "it was not closed properly; it is read as if its journal had been replayed"
			if why := f.Unreplayed(); why != nil {
				in.content.Note = fmt.Sprintf("its journal was not replayed, so what was written last may not show: %v", why)
			}
		}
		if f, ok := volume.(*ext.FS); ok && in.content.Note == "" && !needs.ChainAlone {
			if faults, err := f.Check(1, false); err == nil && len(faults) > 0 {
				in.content.Note = faults[0]
			}
		}
		for _, a := range adapters {
			if a.HoldsLoader(volume) {
				around.Systems[v.Number], *in.role = true, layout.RoleBoot
			}
		}
		a, sys, ok := FindOn(adapters, volume)
		if !ok {
			return
		}
		*in.system, *in.role, *in.mount = &sys, layout.RoleSystem, "/"
		for _, n := range set.Partitions(v.Number) {
			around.Systems[n] = true
		}
		systems = append(systems, Found{Adapter: a, Volume: volume, Ground: Ground{
			Disk: src, Table: table, Volumes: set, Contents: contents, System: v.Number,
			Volume: func(n int) fs.FS { return views[n].Files() }, Views: views, ChainAlone: needs.ChainAlone,
		}})
		for id, at := range a.Mounts(volume) {
			mounts[id] = at
		}
	}
	for _, p := range table.Partitions() {
		described := describePartition(p)
		look(set.Numbered(p.Number), placeOf(&described))
		around.Contents[p.Number] = contents[p.Number]
		d.Partitions = append(d.Partitions, described)
	}
	for _, v := range set.Inner() {
		described := bag.InnerVolume{
			Number: v.Number, Kind: v.Kind, Name: v.Name, Names: v.Names, Within: v.Within, Size: v.Size, Problem: v.Problem,
			ReadOnly: v.ReadOnly, Damaged: v.Damaged, Mendable: v.Mendable,
		}
		look(v, place{
			content: &described.Content, role: &described.Role, mount: &described.Mount, system: &described.System,
		})
		d.Volumes = append(d.Volumes, described)
	}
	for i, s := range systems {
		systems[i].Volume = s.Ground.Whole(s.Volume, s.Adapter.Mounts(s.Volume))
	}
	noteInner(d, set)
	assignRoles(d, mounts)
	for _, p := range d.Partitions {
		around.Roles[p.Number] = p.Role
	}
	d.Problems = append([]layout.Problem{}, table.CheckIn(around)...)
	return d, systems, nil
}

// notRead says what of a volume is not seen when it is read as it lies there; empty for nothing.
func notRead(volume fs.FS) string {
	const newest = "it was not closed properly, and what was written last may not show: its log is read by the kernel alone"
	switch f := volume.(type) {
	case *xfs.FS:
		open, err := f.NeedsRecovery()
		switch {
		case f.MarkedForRepair():
			return "it is marked as one that must be mended before it is mounted"
		case err != nil:
			return "its log cannot be read: " + err.Error()
		case open:
			return newest
		}
	case *btrfs.FS:
		switch {
		case f.Devices() > 1:
			return fmt.Sprintf("it goes over %d devices, of which one is looked at", f.Devices())
		case f.NeedsRecovery():
			return newest
		}
	}
	return ""
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
func backupOf(part block.Source, length int64) string {
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

func describePartition(p layout.Partition) bag.Partition {
	return bag.Partition{
		Number: p.Number, Type: p.Type, TypeCode: p.TypeCode, ID: p.ID, Name: p.Name, Active: p.Active,
		First: p.Span.First, Last: p.Span.Last, Offset: p.Off, Size: p.Length,
	}
}

func describeContent(c layout.Content) bag.Content {
	return bag.Content{
		Kind:      c.Kind,
		Label:     c.Label,
		UUID:      c.UUID,
		Size:      c.Size,
		Free:      c.Free,
		LastMount: c.LastMount,
		Note:      c.Note,
	}
}

// A place is where what is found out of a volume is written: a partition's, or one inside it.
type place struct {
	content *bag.Content
	role    *layout.Role
	mount   *string
	system  **bag.System
}

func placeOf(p *bag.Partition) place {
	return place{content: &p.Content, role: &p.Role, mount: &p.Mount, system: &p.System}
}

// noteInner says of each partition what lies inside it.
func noteInner(d *bag.Disk, set *volumes.Set) {
	for i := range d.Partitions {
		p := &d.Partitions[i]
		var names []string
		for _, v := range d.Volumes {
			if !slices.Contains(set.Partitions(v.Number), p.Number) {
				continue
			}
			name := v.Name
			if v.System != nil {
				name += " with " + v.System.Name
			}
			names = append(names, name)
		}
		if len(names) > 0 && p.Content.Note == "" {
			p.Content.Note = "holds " + strings.Join(names, ", ")
		}
	}
}

// assignRoles says what the system uses each partition for: by its own list
// of mounts, and only where that says nothing by the partition's type.
func assignRoles(d *bag.Disk, mounts map[string]string) {
	for i := range d.Partitions {
		p := &d.Partitions[i]
		assignRole(placeOf(p), mounts, p.TypeCode == layout.TypeESP.String(), "PARTUUID="+p.ID)
	}
	for i := range d.Volumes {
		v := &d.Volumes[i]
		at := place{content: &v.Content, role: &v.Role, mount: &v.Mount, system: &v.System}
		assignRole(at, mounts, false, v.Names...)
	}
}

func assignRole(p place, mounts map[string]string, isESP bool, names ...string) {
	if *p.role != "" {
		return
	}
	for _, id := range append(names, "UUID="+p.content.UUID, "LABEL="+p.content.Label) {
		if at, ok := mounts[id]; ok && *p.mount == "" {
			*p.mount = at
		}
	}
	switch {
	case *p.mount == "/boot/efi" || *p.mount == "/efi" || isESP:
		*p.role = layout.RoleESP
	case *p.mount == "/boot":
		*p.role = layout.RoleBoot
	default:
		*p.role = layout.RoleData
	}
}
