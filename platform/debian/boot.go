package debian

import (
	"bytes"
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
	"diorthos/core/units"
	"diorthos/platform/grub"
)

// HoldsLoader is never said: the family's loader lies on the EFI system
// partition, which its type tells.
func (Adapter) HoldsLoader(fs.FS) bool { return false }

// Survey follows the boot chain as firmware, loader, kernel and the first program do. By
// UEFI: loader and a short configuration on the EFI system partition, which names the volume
// with the menu by its UUID. By the older firmware: the code of sector 0, GRUB's core image
// behind it and what that carries. Then the entry of the menu that is started by itself, its
// kernel and early-boot image, the root volume, the first program and what it mounts.
func (Adapter) Survey(g system.Ground, facts *bag.Facts) {
	if facts.State == nil {
		facts.State = &bag.State{}
	}
	facts.State.Chain = chainOf(g, facts)
	noteVariables(g, facts)
	if root := g.Volume(g.System); root != nil && !g.ChainAlone {
		root = g.Whole(root, Adapter{}.Mounts(root))
		n := &inner{ground: g, number: g.System, fsys: root}
		noteFaults(n, root, facts)
	}
}

// mostFlaws bounds how many flaws facts tell of.
const mostFlaws = 100

// chainOf follows the chain; it is nil for a way that is not followed.
func chainOf(g system.Ground, facts *bag.Facts) boot.Chain {
	esp := 0
	for _, p := range g.Table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() && esp == 0 {
			esp = p.Number
		}
	}
	switch {
	case modeOf(g, facts, esp) == firmware.BIOS:
		return biosChain(g)
	case esp != 0:
		return uefiChain(g, esp)
	case espOfMBR(g):
		return nil
	}
	return withoutESP(g)
}

// modeOf is by which firmware the disk is meant to be started: as the machine says, else as
// what lies on the disk asks for.
func modeOf(g system.Ground, facts *bag.Facts, esp int) firmware.Mode {
	switch {
	case facts.Firmware != nil && facts.Firmware.Mode != "":
		return facts.Firmware.Mode
	case esp == 0 && asksForBIOS(g):
		return firmware.BIOS
	}
	return firmware.UEFI
}

// asksForBIOS reports whether a disk without an EFI system partition of a GPT is made for the
// older firmware: by a partition for GRUB's core image, by its code, or by its table.
func asksForBIOS(g system.Ground) bool {
	for _, p := range g.Table.Partitions() {
		if p.TypeCode == layout.TypeBIOSBoot.String() {
			return true
		}
	}
	first := make([]byte, 512)
	if _, err := g.Disk.ReadAt(first, 0); err == nil && grub.IsGRUB(first) {
		return true
	}
	return g.Table.Style() == layout.StyleMBR && !espOfMBR(g)
}

// espOfMBR reports whether an MBR has an EFI system partition: UEFI firmware may start from it,
// and that way is not followed.
func espOfMBR(g system.Ground) bool {
	return slices.ContainsFunc(g.Table.Partitions(), func(p layout.Partition) bool { return p.TypeCode == "0xef" })
}

// uefiChain follows a machine that starts by UEFI.
func uefiChain(g system.Ground, esp int) boot.Chain {
	s := &loaderChain{ground: g, esp: g.Volume(esp), number: esp, read: map[string]readOnce{}}
	return boot.Follow(boot.Ground{
		Mode:     firmware.UEFI,
		Disk:     g.Disk,
		Table:    g.Table,
		Contents: g.Contents,
		Volume:   func(n int) fs.FS { return topOf(g, n) },
		System:   s,
	})
}

// withoutESP is the chain of a machine that starts by UEFI and has no partition of the type
// that its firmware looks for.
func withoutESP(g system.Ground) boot.Chain {
	l := boot.Link{
		Kind: boot.LinkFirmware, What: "EFI system partition", Saw: "there is none on this disk", Fault: boot.ESPMissing,
	}
	for _, p := range g.Table.Partitions() {
		if volume := g.Volume(p.Number); volume != nil && system.HoldsEFI(volume) {
			l.Fault = boot.ESPType
			l.Saw = fmt.Sprintf(
				"partition %d holds programs for UEFI, and is not of the type by which firmware finds them",
				p.Number,
			)
		}
	}
	return boot.Chain{
		{
			Kind: boot.LinkTable,
			What: string(g.Table.Style()),
			Saw:  units.Count(len(g.Table.Partitions()), "partition"),
		}, l,
	}
}

// loaderChain is the family's part of the chain.
type loaderChain struct {
	ground system.Ground
	esp    fs.FS // nil when it cannot be read
	number int   // of its partition

	start *grub.Start // what the menu starts; nil where that is not known

	path string              // of the loader that the firmware's entry names; empty where no entry is known
	read map[string]readOnce // programs that were read; nil where they may change meanwhile
}

// A readOnce is a program as it was read.
type readOnce struct {
	program program
	raw     []byte
	err     error
}

// program reads one of the EFI system partition, once where nothing is changed meanwhile.
func (s *loaderChain) program(esp fs.FS, name string) (program, []byte, error) {
	if s.read == nil {
		return readProgram(esp, name)
	}
	r, ok := s.read[name]
	if !ok {
		r.program, r.raw, r.err = readProgram(esp, name)
		s.read[name] = r
	}
	return r.program, r.raw, r.err
}

// loaders are where loaders lie, the first that is there and can run counts; the last are
// where firmware looks that has no boot entry.
var loaders = []string{
	"EFI/debian/shimx64.efi", "EFI/debian/grubx64.efi", "EFI/debian/shimaa64.efi", "EFI/debian/grubaa64.efi",
	"EFI/systemd/systemd-bootx64.efi", "EFI/systemd/systemd-bootaa64.efi",
	"EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/BOOTAA64.EFI",
}

// Code is not known: it differs with every version.
func (*loaderChain) Code() (disk, sector *boot.Piece) { return nil, nil }

// Loader is the first of the loaders that is there and can run, else the first that is there.
func (s *loaderChain) Loader(firmware.Mode) (string, [][]byte) {
	if s.path != "" {
		return s.path, nil
	}
	there := ""
	for _, name := range loaders {
		if s.esp == nil {
			break
		}
		if _, err := fs.Stat(s.esp, name); err != nil {
			continue
		}
		if _, _, err := s.program(s.esp, name); err == nil {
			return name, nil
		}
		if there == "" {
			there = name
		}
	}
	return cmp.Or(there, loaders[1]), nil
}

// NoteLoader says that only a boot entry of the firmware leads to a loader. Entries are not known of a disk.
func (s *loaderChain) NoteLoader(name string) string {
	if s.esp == nil || s.path != "" || strings.EqualFold(path.Dir(name), "EFI/BOOT") {
		return ""
	}
	list, _ := fs.Glob(s.esp, "EFI/BOOT/BOOT*.EFI") // the pattern is right
	if len(list) > 0 {
		return ""
	}
	return "; by a boot entry of the firmware alone: nothing lies in EFI/BOOT, where firmware without one looks"
}

// CheckLoader says why the loader cannot run, by its bytes; and, since which of them the firmware takes is not known
// here, why the one cannot that firmware without a boot entry takes.
func (s *loaderChain) CheckLoader(raw []byte) error {
	p, err := identify(raw)
	if err == nil {
		err = s.damage(raw)
	}
	if err != nil || s.esp == nil || s.path != "" {
		return err
	}
	name := "EFI/BOOT/" + fallback(p.machine)
	other, err := fs.ReadFile(s.esp, name)
	if err != nil || bytes.Equal(raw, other) {
		return nil //nolint:nilerr // a machine with a boot entry starts without it: said in its link
	}
	if _, err = identify(other); err == nil {
		err = s.damage(other)
	}
	if err != nil {
		return fmt.Errorf("%s, which firmware without a boot entry starts: %w", name, err)
	}
	return nil
}

// Config finds what the loader that is started reads: GRUB's short configuration beside it,
// or the commands that it carries, name the volume with the menu; systemd-boot's entries
// lie on the EFI system partition.
func (s *loaderChain) Config(esp fs.FS, mode firmware.Mode) (boot.Config, error) {
	name, _ := (&loaderChain{ground: s.ground, esp: esp, path: s.path, read: s.read}).Loader(mode)
	p, _, err := s.program(esp, name)
	if err != nil {
		return boot.Config{}, err
	}
	if p.kind == isShim { // it starts the GRUB beside it
		name = path.Join(path.Dir(name), "grub"+p.machine+".efi")
		if p, _, err = s.program(esp, name); err != nil {
			return boot.Config{}, fmt.Errorf("shim starts %s, and that cannot be: %w", name, err)
		}
	}
	if p.kind == isUnknown && s.path != "" {
		return boot.Config{}, fmt.Errorf("%w: %s is another loader than those that are known", boot.ErrNotFollowed, name)
	}
	if p.kind == isSystemdBoot {
		start, err := startOfEntries(s.ground, s.number)
		if err != nil {
			return boot.Config{}, &boot.FaultError{Fault: boot.MenuMissing, Err: err}
		}
		s.start = start
		return boot.Config{Volume: start.Kernel.Volume.UUID, Kernel: start.Kernel.Path}, nil
	}
	uuid, from, err := s.volumeOf(esp, name, p)
	if err != nil {
		return boot.Config{}, err
	}
	start, known, err := startOn(s.ground, uuid, true)
	var fault *boot.FaultError
	switch {
	case errors.As(err, &fault):
		return boot.Config{}, err
	case err != nil:
		return boot.Config{}, &boot.FaultError{
			Fault: boot.MenuMissing, Err: fmt.Errorf("%s: %w on volume %s: %w", from, errNoMenu, uuid, err),
		}
	case !known && volumeNamed(s.ground, "UUID="+uuid) == 0 && closed(s.ground) != "":
		return boot.Config{}, fmt.Errorf(
			"volume %s: %w: it may lie in %s", uuid, boot.ErrNotFollowed, closed(s.ground),
		)
	case !known: // no partition of this disk, or one that cannot be read: the next link says so
		return boot.Config{Volume: uuid, Kernel: "a kernel"}, nil
	case start.Kernel.Volume == nil:
		return boot.Config{Volume: uuid, Kernel: start.Chain}, nil
	}
	s.start = start
	return boot.Config{Volume: start.Kernel.Volume.UUID, Kernel: start.Kernel.Path}, nil
}

// containers are what volumes can lie in, as the layout calls them.
var containers = map[string]bool{"lvm": true, "luks": true, "md": true}

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
func (s *loaderChain) volumeOf(esp fs.FS, loader string, p program) (uuid, from string, err error) {
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
func (s *loaderChain) espUUID() string {
	return s.ground.Contents[s.number].UUID
}

// Rest follows what lies behind the kernel.
func (s *loaderChain) Rest(fs.FS) []boot.Link {
	if s.start == nil {
		return nil
	}
	return behind(s.ground, s.start)[1:] // the kernel was looked at
}

// CheckKernel says why what is started is no kernel, by its bytes.
func (s *loaderChain) CheckKernel() error {
	if s.start == nil {
		return nil
	}
	if l := kernelLink(s.start.Kernel); l.Fault != "" {
		return errors.New(l.Saw)
	}
	return nil
}

// errNoMenu means that the loader stops at its prompt.
var errNoMenu = errors.New("the loader's menu is not there")

var prefixLine = regexp.MustCompile(`(?m)^\s*set prefix=\(\$root\)'?([^'\s]+)`)
