package debian

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/platform/grub"
)

// A System is one that starts by UEFI and was opened to be changed: what lies on its EFI
// system partition, and the names of volumes by which it starts.
type System struct {
	references
	esp    *fat.Editor
	number int // of the EFI system partition
	chain  *loaderChain
	uuid   string // of the volume with the menu
	folder string // of GRUB's files on it
}

// Open opens a system: one with an EFI system partition starts by UEFI, any other by the
// older firmware.
func (Adapter) Open(dev block.Device, number int, o system.Options) (system.System, error) {
	table, err := layout.Read(dev)
	if err != nil {
		return nil, err
	}
	s := &System{}
	ground := system.GroundOf(dev, table, o.Keys, number, Adapter{})
	files := ground.Volume
	for _, p := range table.Partitions() {
		if p.TypeCode != layout.TypeESP.String() || s.esp != nil {
			continue
		}
		e, err := fat.Edit(block.NewWriteRange(dev, p.Off, p.Length), o.Now)
		if err != nil {
			continue
		}
		if alike, err := e.TablesAgree(); err != nil || !alike {
			return nil, fmt.Errorf(
				"the copies of the allocation table of partition %d differ: mend its file system first", p.Number,
			)
		}
		s.esp, s.number = e, p.Number
	}
	root := files(number)
	if root == nil {
		return nil, system.ErrOnlyRead
	}
	ground.Volume = func(n int) fs.FS {
		if s.esp != nil && n == s.number {
			return s.esp
		}
		return files(n)
	}
	s.references = references{
		inner: inner{
			dev: dev, number: number, enter: o.Enter, keys: o.Keys, now: o.Now, ground: ground,
			fsys: ground.Whole(root, Adapter{}.Mounts(root)),
		},
		uefi: s.esp != nil,
	}
	if s.esp == nil {
		return &BIOSSystem{s.references}, nil
	}
	s.chain = &loaderChain{ground: ground, esp: s.esp, number: s.number}
	s.uuid, s.folder = s.menuVolume()
	return s, nil
}

// root is the files of the system's own volume, as they are now.
func (s *System) root() fs.FS { return s.ground.Volume(s.ground.System) }

// Family is what facts call this kind of system.
func (*System) Family() string { return family }

// menuVolume is the volume on which GRUB's menu lies, and the folder of its files there: a
// volume of its own for /boot, or the system's.
func (s *System) menuVolume() (uuid, folder string) {
	for name, mount := range (Adapter{}).Mounts(s.root()) {
		for _, content := range s.chain.ground.Contents {
			if id, ok := strings.CutPrefix(name, "UUID="); ok && mount == "/boot" && strings.EqualFold(id, content.UUID) {
				return content.UUID, "/grub"
			}
		}
	}
	ground := s.chain.ground
	return ground.Contents[ground.System].UUID, path.Join("/", ground.Root().Subvolume, "boot/grub")
}

// BootPartition is the number of the EFI system partition.
func (s *System) BootPartition() int { return s.number }

// A loaderSet is the files of a loader, by the names that they get in a folder.
type loaderSet struct {
	what   string
	folder string // on the EFI system partition; empty for the family's own
	first  string // the one that firmware starts
	files  map[string][]byte
}

// sets lists what the machine has of loaders for its kind of processor, the best first:
// signed ones, one that lies elsewhere on the EFI system partition, the one of GRUB's package.
func (s *System) sets(machine string) (list []loaderSet) {
	target := map[string]string{"x64": "x86_64-efi", "aa64": "arm64-efi"}[machine]
	runs := func(volume fs.FS, name string, kinds ...programKind) []byte {
		p, raw, err := readProgram(volume, name)
		for _, k := range kinds {
			if err == nil && p.machine == machine && p.kind == k && s.chain.damage(raw) == nil {
				return raw
			}
		}
		return nil
	}
	signed := runs(s.root(), "usr/lib/grub/"+target+"-signed/grub"+machine+".efi.signed", isGRUB)
	shim := runs(s.root(), "usr/lib/shim/shim"+machine+".efi.signed", isShim)
	if signed != nil && shim != nil {
		set := loaderSet{
			what:  "the signed loader of the installed packages",
			first: "shim" + machine + ".efi",
			files: map[string][]byte{
				"shim" + machine + ".efi": shim, "grub" + machine + ".efi": signed,
			},
		}
		if raw, err := fs.ReadFile(s.root(), "usr/lib/shim/mm"+machine+".efi.signed"); err == nil {
			set.files["mm"+machine+".efi"] = raw
		}
		list = append(list, set)
	}
	if set := s.systemdBoot(machine, runs); set != nil {
		list = append(list, *set)
	}
	grubFile := "grub" + machine + ".efi"
	for _, name := range []string{
		"EFI/debian/" + grubFile, "EFI/BOOT/" + fallback(machine), "EFI/BOOT/" + grubFile,
	} {
		if raw := runs(s.esp, name, isGRUB); raw != nil {
			list = append(
				list,
				loaderSet{what: name + " of the EFI system partition", first: grubFile, files: map[string][]byte{grubFile: raw}},
			)
		}
	}
	if raw := runs(s.root(), "usr/lib/grub/"+target+"/monolithic/"+grubFile, isGRUB); raw != nil {
		list = append(
			list,
			loaderSet{what: "the loader of GRUB's package", first: grubFile, files: map[string][]byte{grubFile: raw}},
		)
	}
	return list
}

// systemdBoot is the loader of a machine that has entries for it, and no menu of GRUB's.
func (s *System) systemdBoot(machine string, runs func(fs.FS, string, ...programKind) []byte) *loaderSet {
	hasEntries := slices.ContainsFunc(
		entryVolumes(s.chain.ground, s.number),
		func(v *grub.Volume) bool { return len(entriesOn(v)) > 0 },
	)
	hasGRUB := there(s.root(), "usr/sbin/grub-install") || there(s.root(), "usr/sbin/update-grub")
	if _, menu, _, err := s.menu(); !hasEntries && hasGRUB || err == nil && menu != "" {
		return nil
	}
	name := "systemd-boot" + machine + ".efi"
	for _, from := range []struct {
		volume fs.FS
		name   string
	}{
		{s.esp, "EFI/systemd/" + name}, {s.esp, "EFI/BOOT/" + fallback(machine)},
		{s.root(), "usr/lib/systemd/boot/efi/" + name},
	} {
		if raw := runs(from.volume, from.name, isSystemdBoot); raw != nil {
			return &loaderSet{what: from.name, folder: "EFI/systemd/", first: name, files: map[string][]byte{name: raw}}
		}
	}
	return nil
}

// fallback is the name under which firmware without a boot entry looks for a loader.
func fallback(machine string) string { return "BOOT" + strings.ToUpper(machine) + ".EFI" }

// machine is for which processors the system is, by GRUB's files and the C library's.
func (s *System) machine() string {
	for _, name := range []string{"usr/lib/aarch64-linux-gnu", "usr/lib/grub/arm64-efi"} {
		if _, err := fs.Stat(s.root(), name); err == nil {
			return "aa64"
		}
	}
	return "x64"
}

// errNoLoader means that the machine has no loader that could be put back.
var errNoLoader = errors.New(
	"neither the EFI system partition nor the installed packages hold a loader for this machine: install GRUB's package " +
		"from a rescue system",
)

// PutLoader puts the loader where the firmware's entry and firmware without an entry
// look for it, and what it reads, if that leads nowhere.
func (s *System) PutLoader() error {
	machine := s.machine()
	sets := s.sets(machine)
	if own := s.own(machine); own != nil {
		sets = append([]loaderSet{*own}, sets...) // that it can run is enough: what is sound stays
	}
	if len(sets) == 0 {
		return errNoLoader
	}
	set := sets[0]
	for name, raw := range set.files {
		if err := s.put(cmp.Or(set.folder, "EFI/debian/")+name, raw); err != nil {
			return err
		}
	}
	if s.runs("EFI/BOOT/"+fallback(machine)) != nil {
		if err := s.put("EFI/BOOT/"+fallback(machine), set.files[set.first]); err != nil {
			return err
		}
		for name, raw := range set.files { // shim starts what lies beside it
			if name != set.first {
				if err := s.put("EFI/BOOT/"+name, raw); err != nil {
					return err
				}
			}
		}
	}
	if _, err := s.chain.Config(s.esp, firmware.UEFI); err == nil || errors.Is(err, errNoMenu) || set.folder != "" {
		return nil
	}
	return s.PutBootStore()
}

// own is the loader that lies where the firmware's entry leads, with what it starts; nil if it cannot run.
func (s *System) own(machine string) *loaderSet {
	at, _ := s.chain.Loader(firmware.UEFI)
	p, _, err := readProgram(s.esp, at)
	if err != nil || p.machine != machine || s.runs(at) != nil || path.Dir(at) == "EFI/BOOT" {
		return nil
	}
	folder := path.Dir(at) + "/"
	set := &loaderSet{
		what:   at,
		folder: strings.TrimPrefix(folder, "EFI/debian/"),
		first:  path.Base(at),
		files:  map[string][]byte{},
	}
	for _, name := range []string{set.first, "grub" + machine + ".efi", "mm" + machine + ".efi"} {
		if raw, err := fs.ReadFile(s.esp, folder+name); err == nil {
			set.files[name] = raw
		}
	}
	return set
}

// PutBootStore writes GRUB's short configuration, which finds the menu on this disk.
func (s *System) PutBootStore() error {
	if s.uuid == "" {
		return errors.New("the volume with the menu has no UUID by which it could be found")
	}
	return s.put("EFI/debian/grub.cfg", s.stub())
}

func (s *System) stub() []byte {
	return []byte(
		"search.fs_uuid " + s.uuid + " root\nset prefix=($root)'" + s.folder + "'\nconfigfile $prefix/grub.cfg\n",
	)
}

func (s *System) put(name string, raw []byte) error {
	if have, err := fs.ReadFile(s.esp, name); err == nil && bytes.Equal(have, raw) {
		return nil
	}
	dir := ""
	for _, part := range strings.Split(path.Dir(name), "/") {
		dir = path.Join(dir, part)
		if _, err := fs.Stat(s.esp, dir); err != nil {
			if err := s.esp.Mkdir(dir); err != nil {
				return err
			}
		}
	}
	return s.esp.WriteFile(name, raw)
}

// BootPiece follows what firmware and loader do on this disk, and says whether the loader
// can run, and whether what it reads leads to a menu of this disk.
func (s *System) BootPiece(kind string) error {
	if kind == "mounts" || kind == "root" {
		return s.reference(kind)
	}
	name, _ := s.chain.Loader(firmware.UEFI)
	if err := s.runs(name); err != nil {
		return err
	}
	if kind == "loader" {
		return s.runs("EFI/BOOT/" + fallback(s.machine()))
	}
	c, err := s.chain.Config(s.esp, firmware.UEFI)
	if err != nil {
		return err
	}
	if !strings.EqualFold(c.Volume, s.uuid) && !strings.EqualFold(c.Volume, s.chain.espUUID()) {
		return fmt.Errorf("it leads to volume %s, and the menu of this system lies on %s", c.Volume, s.uuid)
	}
	return nil
}

// runs says why a loader cannot run, with the one that it starts in its turn.
func (s *System) runs(name string) error {
	p, raw, err := readProgram(s.esp, name)
	if err == nil && p.kind == isShim {
		_, raw, err = readProgram(s.esp, path.Join(path.Dir(name), "grub"+p.machine+".efi"))
	}
	if err == nil {
		err = s.chain.damage(raw)
	}
	return err
}

var _ boot.LoaderChecker = (*loaderChain)(nil)
