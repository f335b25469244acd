package debian

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
)

// HoldsLoader is never said: the family's loader lies on the EFI system
// partition, which its type tells.
func (Adapter) HoldsLoader(fs.FS) bool { return false }

// Survey follows the boot chain of a machine that starts by UEFI, as GRUB's
// packages lay it out: loader and a short configuration on the EFI system
// partition, which names the volume with the rest by its UUID; there, the first entry of the
// menu. How a machine
// with the older firmware finds GRUB is not told by files, and not followed.
func (Adapter) Survey(g system.Ground, facts *bag.Facts) {
	esp := 0
	for _, p := range g.Table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() && esp == 0 {
			esp = p.Number
		}
	}
	if esp == 0 || facts.Firmware != nil && facts.Firmware.Mode != firmware.UEFI {
		return
	}
	if facts.State == nil {
		facts.State = &bag.State{}
	}
	s := &grub{ground: g, esp: g.Volume(esp), number: esp}
	facts.State.Chain = boot.Follow(boot.Ground{
		Mode:     firmware.UEFI,
		Disk:     g.Disk,
		Table:    g.Table,
		Contents: g.Contents,
		Volume:   g.Volume,
		System:   s,
	})
}

// grub is the family's part of the chain.
type grub struct {
	ground system.Ground
	esp    fs.FS // nil when it cannot be read
	number int   // of its partition
}

// loaders are where loaders lie, the first that is there and can run counts; the last are
// where firmware looks that has no boot entry.
var loaders = []string{
	"EFI/debian/shimx64.efi", "EFI/debian/grubx64.efi", "EFI/debian/shimaa64.efi", "EFI/debian/grubaa64.efi",
	"EFI/systemd/systemd-bootx64.efi", "EFI/systemd/systemd-bootaa64.efi",
	"EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/BOOTAA64.EFI",
}

// Code is not known: it differs with every version.
func (*grub) Code() (disk, sector *boot.Piece) { return nil, nil }

// Loader is the first of the loaders that is there and can run, else the first that is there.
func (s *grub) Loader(firmware.Mode) (string, [][]byte) {
	there := ""
	for _, name := range loaders {
		if s.esp == nil {
			break
		}
		if _, err := fs.Stat(s.esp, name); err != nil {
			continue
		}
		if _, _, err := readProgram(s.esp, name); err == nil {
			return name, nil
		}
		if there == "" {
			there = name
		}
	}
	return cmp.Or(there, loaders[1]), nil
}

// CheckLoader says why the loader cannot run, by its bytes.
func (*grub) CheckLoader(raw []byte) error {
	_, err := identify(raw)
	return err
}

// Config finds what the loader that is started reads: GRUB's short configuration beside it,
// or the commands that it carries, name the volume with the menu; systemd-boot's entries
// lie on the EFI system partition.
func (s *grub) Config(esp fs.FS, mode firmware.Mode) (boot.Config, error) {
	name, _ := (&grub{ground: s.ground, esp: esp}).Loader(mode)
	p, _, err := readProgram(esp, name)
	if err != nil {
		return boot.Config{}, err
	}
	if p.kind == isShim { // it starts the GRUB beside it
		name = path.Join(path.Dir(name), "grub"+p.machine+".efi")
		if p, _, err = readProgram(esp, name); err != nil {
			return boot.Config{}, fmt.Errorf("shim starts %s, and that cannot be: %w", name, err)
		}
	}
	if p.kind == isSystemdBoot {
		kernel, err := entryOf(esp)
		return boot.Config{Volume: s.espUUID(), Kernel: kernel}, err
	}
	uuid, from, err := s.volumeOf(esp, name, p)
	if err != nil {
		return boot.Config{}, err
	}
	if at, ok := s.menuOn(uuid); !ok {
		return boot.Config{}, &boot.FaultError{
			Fault: boot.MenuMissing, Err: fmt.Errorf("%s: %w on volume %s: %s", from, errNoMenu, uuid, at),
		}
	}
	return boot.Config{Volume: uuid, Kernel: s.kernel(uuid)}, nil
}

// stubs are the short configurations that a GRUB of this family reads first, where it was
// put together to look for one on the EFI system partition.
func stubs(loader string) []string {
	beside := path.Join(path.Dir(loader), "grub.cfg")
	if own := "EFI/debian/grub.cfg"; own != beside {
		return []string{own, beside}
	}
	return []string{beside}
}

// volumeOf is the volume on which GRUB looks for its menu, and what says so.
func (s *grub) volumeOf(esp fs.FS, loader string, p program) (uuid, from string, err error) {
	if uuid = volumeIn(p.config); uuid != "" {
		return uuid, loader, nil
	}
	found := ""
	for _, name := range stubs(loader) {
		text := readText(esp, name)
		if uuid = volumeIn(text); uuid != "" {
			return uuid, name, nil
		}
		if text != "" {
			found = name
		}
	}
	if found != "" {
		return "", "", fmt.Errorf("%s names no volume: it has no line \"search.fs_uuid UUID root\"", found)
	}
	return "", "", fmt.Errorf(
		"%s is not there or empty, and %s carries no commands that find the menu",
		stubs(loader)[0],
		loader,
	)
}

// espUUID is the name of the EFI system partition's file system.
func (s *grub) espUUID() string {
	return s.ground.Contents[s.number].UUID
}

// errNoMenu means that the loader stops at its prompt.
var errNoMenu = errors.New("the loader's menu is not there")

// menuOn reports whether a volume that can be read has a menu that starts a kernel,
// and where it was looked for. Of a volume that cannot be read nothing is said here.
func (s *grub) menuOn(uuid string) (at string, ok bool) {
	for number, content := range s.ground.Contents {
		volume := s.ground.Volume(number)
		if !strings.EqualFold(content.UUID, uuid) || volume == nil {
			continue
		}
		for _, folder := range []string{"boot", "."} {
			text := readText(volume, path.Join(folder, "grub/grub.cfg"))
			if strings.Contains(text, "blscfg") || menuLine.MatchString(text) {
				return "", true
			}
		}
		return "no grub/grub.cfg that starts a kernel", false
	}
	return "", true
}

// A menuEntry is what the loader starts when nobody chooses.
type menuEntry struct{ kernel, early string }

var menuLine = regexp.MustCompile(`(?m)^\s*(linux|initrd)\s+(\S+)`)

// entry is the first of the loader's menu on a volume. Where the menu cannot be
// read it is the newest kernel that has an early-boot image, or the newest.
func entry(volume fs.FS) menuEntry {
	for _, folder := range []string{"boot", "."} { // a boot volume of its own has them at its root
		var e menuEntry
		for _, m := range menuLine.FindAllStringSubmatch(readText(volume, path.Join(folder, "grub/grub.cfg")), -1) {
			name := strings.TrimPrefix(m[2], "/")
			switch {
			case m[1] == "linux" && e.kernel == "":
				e.kernel = name
			case m[1] == "initrd" && e.early == "" && e.kernel != "":
				e.early = name
			}
		}
		if e.kernel != "" {
			return e
		}
		names, _ := fs.Glob(volume, path.Join(folder, "vmlinuz-*")) // the pattern is right
		slices.SortFunc(names, func(a, b string) int { return compareKernels(b, a) })
		for _, kernel := range names {
			early := path.Join(folder, strings.Replace(path.Base(kernel), "vmlinuz-", "initrd.img-", 1))
			if _, err := fs.Stat(volume, early); err == nil {
				return menuEntry{kernel, early}
			}
		}
		if len(names) > 0 {
			return menuEntry{names[0], path.Join(folder, strings.Replace(path.Base(names[0]), "vmlinuz-", "initrd.img-", 1))}
		}
	}
	return menuEntry{kernel: "boot/vmlinuz"}
}

func compareKernels(a, b string) int {
	return CompareVersions(strings.TrimPrefix(path.Base(a), "vmlinuz-"), strings.TrimPrefix(path.Base(b), "vmlinuz-"))
}

// kernel is what the loader starts from a volume.
func (s *grub) kernel(uuid string) string {
	for number, content := range s.ground.Contents {
		if volume := s.ground.Volume(number); strings.EqualFold(content.UUID, uuid) && volume != nil {
			return entry(volume).kernel
		}
	}
	return "boot/vmlinuz"
}

// Rest looks for the early-boot image that is started with the kernel.
func (s *grub) Rest(volume fs.FS) []boot.Link {
	early := entry(volume).early
	if early == "" {
		return nil
	}
	info, err := fs.Stat(volume, early)
	switch {
	case err != nil:
		return []boot.Link{{Kind: "early-boot image", What: early, Saw: "it is not there", Fault: "early-image-missing"}}
	case info.Size() == 0:
		return []boot.Link{{Kind: "early-boot image", What: early, Saw: "it is empty", Fault: "early-image-missing"}}
	}
	return []boot.Link{{Kind: "early-boot image", What: early, Saw: "it is there"}}
}
