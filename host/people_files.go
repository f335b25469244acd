package host

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/core/readfs"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/core/volumes"
)

// PeopleFiles is where a machine holds files of people.
type PeopleFiles struct {
	Volumes []upkeep.Volume
	Unread  []string // volumes that hold files and cannot be read, each with why

	open []io.Closer
}

// Close lets go of what is read.
func (p *PeopleFiles) Close() error {
	var err error
	for _, c := range p.open {
		err = errors.Join(err, c.Close())
	}
	return err
}

// FindPeopleFiles looks for files of people on a disk, or in a folder that holds a system: on the volumes of systems
// all that does not come back by itself, on others everything. A disk without any system is as good.
func FindPeopleFiles(
	path string, sectorSize int, adapters []system.Adapter, keys *volumes.Keys, owners func(family string) []upkeep.Owner,
) (*PeopleFiles, error) {
	if HoldsSystem(path) {
		return filesOfFolder(path, adapters, owners)
	}
	at := Locate(path)
	image, err := OpenDisk(at.Disk, sectorSize, true)
	if err != nil {
		return nil, err
	}
	p := &PeopleFiles{open: []io.Closer{image}}
	disk, systems, err := system.Describe(image, "disk0", at.Disk, adapters, system.Needs{Keys: keys, ChainAlone: true})
	if err != nil {
		return nil, errors.Join(err, p.Close())
	}
	table, err := layout.Read(image)
	if err != nil {
		return nil, errors.Join(err, p.Close())
	}
	ground := system.GroundOf(image, table, keys, 0, adapters...)
	for i, s := range systems {
		name := "system"
		if len(systems) > 1 {
			name = fmt.Sprintf("system-%d", i+1)
		}
		p.Volumes = append(p.Volumes, upkeep.Volume{Name: name, FS: s.Volume, Owners: owners(s.Adapter.Family())})
		p.beside(name, s.Ground.Views[s.Ground.System], adapters)
	}
	for _, place := range disk.Places() {
		p.place(disk, place, ground)
	}
	return p, nil
}

// beside takes what lies beside a system in subvolumes of its own. Earlier states of the system are left out.
func (p *PeopleFiles) beside(name string, view *system.View, adapters []system.Adapter) {
	others, snapshots := view.Others(adapters)
	for _, sub := range slices.Sorted(maps.Keys(others)) {
		p.Volumes = append(p.Volumes, upkeep.Volume{Name: filepath.Join(name+"-subvolumes", sub), FS: others[sub]})
	}
	if len(snapshots) > 0 {
		p.Unread = append(p.Unread, fmt.Sprintf(
			"%d subvolumes that hold the system as it was (%s): left out", len(snapshots), strings.Join(snapshots, ", "),
		))
	}
}

// place takes a volume that no system mounts.
func (p *PeopleFiles) place(d *bag.Disk, v bag.Partition, ground system.Ground) {
	files := ground.Volume(v.Number)
	what := fmt.Sprintf("volume %d", v.Number)
	if v.Name != "" {
		what += fmt.Sprintf(" (%s)", v.Name)
	}
	switch {
	case files != nil && (v.System != nil || v.Mount != "" || v.Role == layout.RoleBoot || v.Role == layout.RoleESP):
	case files != nil:
		p.Volumes = append(p.Volumes, upkeep.Volume{Name: fmt.Sprintf("volume-%d", v.Number), FS: files})
	case v.Content.Kind == "swap", v.TypeCode == layout.TypeBIOSBoot.String():
	case holdsVolumes[v.Content.Kind]:
		if !slices.ContainsFunc(d.Volumes, func(in bag.InnerVolume) bool { return slices.Contains(in.Within, v.Number) }) {
			p.Unread = append(p.Unread, what+": nothing could be opened in it; of an encrypted one, give --key-file or --unlock")
		}
	case v.Content.Kind == "":
		if !blank(ground, v.Number) {
			p.Unread = append(p.Unread, what+": what lies there is not known")
		}
	default:
		p.Unread = append(
			p.Unread,
			fmt.Sprintf("%s: %s is not read here: mount it, and copy what is needed", what, v.Content.Kind),
		)
	}
}

// holdsVolumes are contents in which further volumes lie.
var holdsVolumes = map[string]bool{"lvm": true, "md": true, "luks1": true, "luks2": true}

// blank reports whether the first MiB of a volume is empty, in which every file system has its head.
func blank(ground system.Ground, number int) bool {
	v := ground.Volumes.Numbered(number)
	if v == nil || v.Dev == nil {
		return false
	}
	head := make([]byte, min(1<<20, v.Size))
	n, err := v.Dev.ReadAt(head, 0)
	return (err == nil || errors.Is(err, io.EOF)) && len(bytes.Trim(head[:n], "\x00")) == 0
}

// filesOfFolder takes the files of a system in a folder, and of what is mounted below it.
func filesOfFolder(
	path string, adapters []system.Adapter, owners func(family string) []upkeep.Owner,
) (*PeopleFiles, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	files := readfs.Within(root)
	p := &PeopleFiles{open: []io.Closer{root}}
	a, _, ok := system.FindOn(adapters, files)
	if !ok {
		return nil, errors.Join(fmt.Errorf("%s: no system that is known lies there", path), root.Close())
	}
	p.Volumes = []upkeep.Volume{{
		Name: "system", FS: files, Owners: owners(a.Family()), Skip: OnVolume(path).Skip,
	}}
	mounts, err := mounted()
	if err != nil {
		return nil, errors.Join(err, p.Close())
	}
	full := absolute(path)
	for _, v := range mounts {
		below, err := filepath.Rel(full, v.Mount)
		if err != nil || below == "." || !filepath.IsLocal(below) {
			continue
		}
		sub, err := root.OpenRoot(below)
		if err != nil {
			p.Unread = append(p.Unread, fmt.Sprintf("%s: %v", v.Mount, err))
			continue
		}
		p.open = append(p.open, sub)
		p.Volumes = append(p.Volumes, upkeep.Volume{
			Name: filepath.Join("system", below), FS: readfs.Within(sub), Skip: OnVolume(v.Mount).Skip,
		})
	}
	return p, nil
}
