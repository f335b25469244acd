package debian

import (
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
	s := &grub{ground: g, esp: g.Volume(esp)}
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
}

// loaders are where the family's packages put the loader, the first that is
// there counts; the last is where firmware looks that has no boot entry.
var loaders = []string{
	"EFI/debian/shimx64.efi", "EFI/debian/grubx64.efi", "EFI/debian/shimaa64.efi", "EFI/debian/grubaa64.efi",
	"EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/BOOTAA64.EFI",
}

// Code is not known: it differs with every version.
func (*grub) Code() (disk, sector *boot.Piece) { return nil, nil }

// Loader is the first of the loaders that is there.
func (s *grub) Loader(firmware.Mode) (string, [][]byte) {
	for _, name := range loaders {
		if s.esp == nil {
			break
		}
		if _, err := fs.Stat(s.esp, name); err == nil {
			return name, nil
		}
	}
	return loaders[1], nil
}

// Config reads the short configuration on the EFI system partition, and takes
// the kernel from the menu on the volume that it names.
func (s *grub) Config(esp fs.FS, _ firmware.Mode) (boot.Config, error) {
	const name = "EFI/debian/grub.cfg"
	text := readText(esp, name)
	if text == "" {
		return boot.Config{}, fmt.Errorf("%s is not there or empty", name)
	}
	for _, line := range strings.Split(text, "\n") {
		words := strings.Fields(line)
		if len(words) < 2 || words[0] != "search.fs_uuid" {
			continue
		}
		if at, ok := s.menuOn(words[1]); !ok {
			return boot.Config{}, fmt.Errorf("%s: %w on volume %s: %s", name, errNoMenu, words[1], at)
		}
		return boot.Config{Volume: words[1], Kernel: s.kernel(words[1])}, nil
	}
	return boot.Config{}, fmt.Errorf("%s names no volume: it has no line \"search.fs_uuid UUID root\"", name)
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
	if _, err := fs.Stat(volume, early); err != nil {
		return []boot.Link{{Kind: "early-boot image", What: early, Saw: "it is not there", Fault: "early-image-missing"}}
	}
	return []boot.Link{{Kind: "early-boot image", What: early, Saw: "it is there"}}
}
