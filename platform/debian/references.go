package debian

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"diorthos/core/boot"
	"diorthos/core/ext"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/xfs"
	"diorthos/platform/grub"
)

// references are the names of volumes by which a system starts: on the kernel's command line,
// and in what the first program mounts. They are put right in place, without a byte more or
// less: nothing else of a volume is written.
type references struct {
	inner
	uefi bool
}

// overwrite changes a file of a volume.
func (r *references) overwrite(number int, name string, at int, data []byte) error {
	v := r.ground.Volumes.Numbered(number)
	if v == nil {
		return fmt.Errorf("volume %d is not there", number)
	}
	dev := v.Device()
	if dev == nil {
		return fmt.Errorf("%s cannot be written: %s", v.Name, cmp.Or(v.Problem, "it is opened for reading only"))
	}
	var refused error
	switch v.Content.Kind {
	case "xfs":
		if refused = xfs.Overwrite(dev, name, int64(at), data); refused == nil {
			return nil
		}
	case "btrfs":
	default:
		return ext.Overwrite(dev, name, int64(at), data)
	}
	if number != r.number {
		return errors.Join(refused, fmt.Errorf("%s is not the system's own volume: its files are not written", v.Name))
	}
	// What cannot be written in place is written by the kernel, inside the system.
	return r.within(context.Background(), func(in system.Inside) error {
		file, err := in.Files().OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = file.WriteAt(data, int64(at))
		return errors.Join(err, file.Close())
	})
}

const fstab = "etc/fstab"

// MendMounts puts right what etc/fstab names: an entry whose volume has another name now gets
// that, where there is only one volume that it can be; one that cannot be met is taken out of
// the way by the mark of a comment.
func (r *references) MendMounts() (did []string, err error) {
	text := readText(r.ground.Volume(r.ground.System), fstab)
	list := mountsIn(text)
	for _, m := range list {
		why := m.unmet(r.ground)
		if why == "" || m.elsewhere(list) || !m.stops() && m.point != "/" {
			continue
		}
		old, uuid := strings.CutPrefix(m.device, "UUID=")
		volume := r.only(m, list)
		if m.point == "/" {
			volume = r.ground.Contents[r.ground.System].UUID
		}
		switch {
		case uuid && volume != "" && len(volume) == len(old):
			if err := r.overwrite(r.ground.System, fstab, m.at+strings.Index(m.text, old), []byte(volume)); err != nil {
				return did, err
			}
			did = append(
				did,
				fmt.Sprintf("%s: %s names volume %s in place of %s, which is not there", fstab, m.point, volume, old),
			)
		case m.point == "/":
			continue // the kernel has mounted it by then
		default:
			if err := r.overwrite(r.ground.System, fstab, m.at, []byte("#")); err != nil {
				return did, err
			}
			did = append(did, fmt.Sprintf("%s: the entry of %s is a comment now: %s, %s", fstab, m.point, m.device, why))
		}
	}
	return did, nil
}

// only is the UUID of the one volume that a mount can mean: of its kind, and named by no
// other; empty where there is none, or more than one.
func (r *references) only(m mount, list []mount) string {
	found := ""
	for _, p := range r.ground.Volumes.All() {
		c := r.ground.Contents[p.Number]
		if c.UUID == "" || p.Number == r.ground.System || !sameKind(m.kind, c.Kind) {
			continue
		}
		if slices.ContainsFunc(list, func(o mount) bool { return volumeNamed(r.ground, o.device) == p.Number }) {
			continue
		}
		if found != "" {
			return ""
		}
		found = c.UUID
	}
	return found
}

// menu is the configuration of GRUB that is read, by its volume and name, with what it
// starts.
func (r *references) menu() (number int, name string, start *grub.Start, err error) {
	for _, p := range r.ground.Volumes.All() {
		volume := r.ground.Volume(p.Number)
		if volume == nil {
			continue
		}
		folder, ok := menuFolder(volume)
		if !ok || !there(volume, path.Join(folder, "grub.cfg")) {
			continue
		}
		start, _, err := startOn(r.ground, r.ground.Contents[p.Number].UUID, r.uefi)
		return p.Number, path.Join(folder, "grub.cfg"), start, err
	}
	return 0, "", nil, errNoMenu
}

// MendRoot gives the kernel's command lines in GRUB's menu the name that the system's volume
// has now, in place of one that no volume has.
func (r *references) MendRoot() (did []string, err error) {
	number, name, start, err := r.menu()
	if err != nil {
		return nil, err
	}
	old, ok := strings.CutPrefix(argument(start.Arguments, "root"), "UUID=")
	now := r.ground.Contents[r.ground.System].UUID
	switch {
	case !ok:
		return nil, fmt.Errorf(
			"the menu names the root volume %q, and not by a UUID: build the menu anew",
			argument(start.Arguments, "root"),
		)
	case volumeNamed(r.ground, "UUID="+old) != 0:
		return nil, nil
	case len(now) != len(old):
		return nil, fmt.Errorf(
			"the system's volume has the name %q, of another length than %q: build the menu anew",
			now,
			old,
		)
	}
	raw, err := fs.ReadFile(r.ground.Volume(number), name)
	if err != nil {
		return nil, err
	}
	times := 0
	for from := 0; ; times++ {
		at := bytes.Index(raw[from:], []byte(old))
		if at < 0 {
			break
		}
		if err := r.overwrite(number, name, from+at, []byte(now)); err != nil {
			return did, err
		}
		from += at + len(old)
	}
	return []string{fmt.Sprintf("%s: volume %s in place of %s, in %d places", name, now, old, times)}, nil
}

// reference says why what the start goes by is not right.
func (r *references) reference(kind string) error {
	if kind == "mounts" {
		if l := mountsLink(r.ground, r.ground.Volume(r.ground.System)); l.Fault != "" {
			return errors.New(l.Saw)
		}
		return nil
	}
	_, _, start, err := r.menu()
	if err != nil {
		return err
	}
	if _, l := rootOf(r.ground, start.Arguments); l.Fault != "" {
		return errors.New(l.What + ": " + l.Saw)
	}
	return nil
}

// A BIOSSystem is one that starts by the older firmware and was opened to be changed.
type BIOSSystem struct{ references }

// Family is what facts call this kind of system.
func (*BIOSSystem) Family() string { return family }

const (
	codeBytes   = 440  // of code in sector 0, before the disk's signature and the table
	parameters  = 0x5a // bytes at its beginning that belong to the disk, behind the first jump
	coreAddress = 0x5c
	driveCheck  = 0x66 // two bytes that a disk does not need
	coreList    = 0x1f4
	coreSegment = 0x820
)

// PutBootCode writes GRUB's code and its core image anew, from the copies among its files:
// into sector 0 and into the gap behind it, or into the partition for it.
func (s *BIOSSystem) PutBootCode() error {
	number, name, _, err := s.menu()
	if number == 0 {
		return err
	}
	volume, folder := s.ground.Volume(number), path.Join(path.Dir(name), "i386-pc")
	code, err := fs.ReadFile(volume, path.Join(folder, "boot.img"))
	if err != nil {
		return fmt.Errorf("the copy of GRUB's code: %w", err)
	}
	core, err := fs.ReadFile(volume, path.Join(folder, "core.img"))
	if err != nil {
		return fmt.Errorf("the copy of GRUB's core image: %w", err)
	}
	if err := grub.CheckCopy(core); err != nil {
		return fmt.Errorf("the copy of GRUB's core image in %s is damaged too: %w", folder, err)
	}
	at, room := s.gap()
	sectors := (int64(len(core)) + 511) / 512
	switch {
	case len(code) != 512 || !grub.IsGRUB(code):
		return fmt.Errorf("%s is not GRUB's code", path.Join(folder, "boot.img"))
	case sectors*512 > room:
		return fmt.Errorf("the core image has %d bytes, and there is room for %d before the first partition", len(core), room)
	}
	image := make([]byte, sectors*512)
	copy(image, core)
	putLE(image[coreList:], uint64(at/512+1), 8)
	putLE(image[coreList+8:], uint64(sectors-1), 2)
	putLE(image[coreList+10:], coreSegment, 2)

	first := make([]byte, 512)
	if _, err := s.dev.ReadAt(first, 0); err != nil {
		return err
	}
	copy(first[:3], code[:3])
	copy(first[parameters:codeBytes], code[parameters:codeBytes])
	putLE(first[coreAddress:], uint64(at/512), 8)
	first[driveCheck], first[driveCheck+1] = 0x90, 0x90
	if _, err := s.dev.WriteAt(image, at); err != nil {
		return err
	}
	_, err = s.dev.WriteAt(first, 0)
	return err
}

func putLE(b []byte, v uint64, n int) {
	for i := range n {
		b[i] = byte(v >> (8 * i))
	}
}

// gap is where a core image goes: the partition that is there for it, or what is free between
// sector 0 and the first partition.
func (s *BIOSSystem) gap() (at, room int64) {
	first := s.dev.Size()
	for _, p := range s.ground.Table.Partitions() {
		if p.TypeCode == layout.TypeBIOSBoot.String() {
			return p.Off, p.Length
		}
		first = min(first, p.Off)
	}
	if s.ground.Table.MBR.Protective() {
		return 512, 0 // the table lies there
	}
	return 512, first - 512
}

// PutBootSector is not needed: GRUB's code in sector 0 does not ask for one.
func (*BIOSSystem) PutBootSector() error {
	return errors.New("the boot sector of this machine's partition is not GRUB's: nothing is known of what it has to be")
}

// BootPiece follows what firmware and loader do on this disk.
func (s *BIOSSystem) BootPiece(kind string) error {
	if kind != "code" {
		return s.reference(kind)
	}
	var broken error
	image, ok := codeLinks(s.ground, func(l boot.Link) bool {
		if l.Fault != "" {
			broken = errors.New(l.Saw)
		}
		return broken == nil
	})
	if broken == nil && (!ok || image == nil) {
		return errors.New("what the code in sector 0 starts is not known")
	}
	return broken
}
