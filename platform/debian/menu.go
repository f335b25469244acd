package debian

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"diorthos/core/boot"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/units"
	"diorthos/core/volumes"
	"diorthos/platform/grub"
)

// volumesOf are a disk's volumes as GRUB calls them.
func volumesOf(g system.Ground) (list []grub.Volume) {
	style := "gpt"
	if g.Table.Style() == layout.StyleMBR {
		style = "msdos"
	}
	for _, v := range g.Volumes.All() {
		c := g.Contents[v.Number]
		list = append(list, grub.Volume{
			Device: deviceOf(v, style), UUID: c.UUID, Label: c.Label, Files: topOf(g, v.Number),
		})
	}
	return list
}

// topOf is a volume as a loader sees it: with all its subvolumes.
func topOf(g system.Ground, number int) fs.FS {
	if files := g.Volume(number); g.Views[number].Sub() == "" || files == nil {
		return files
	}
	return g.Views[number].Top()
}

// deviceOf is what GRUB calls a volume.
func deviceOf(v *volumes.Volume, style string) string {
	switch v.Kind {
	case volumes.Logical:
		for _, name := range v.Names {
			if mapper, ok := strings.CutPrefix(name, "/dev/mapper/"); ok {
				return "lvm/" + mapper
			}
		}
	case volumes.Array:
		for _, name := range v.Names {
			if short, ok := strings.CutPrefix(name, "/dev/md/"); ok {
				return "md/" + short
			}
		}
	case volumes.Opened:
		return "cryptouuid/" + strings.ReplaceAll(v.ID, "-", "")
	}
	return fmt.Sprintf("hd0,%s%d", style, v.Number)
}

// numberOf is the number of a volume as GRUB calls it.
func numberOf(g system.Ground, of *grub.Volume) int {
	for i, v := range volumesOf(g) {
		if v.Device == of.Device {
			return g.Volumes.All()[i].Number
		}
	}
	return 0
}

// menuFolder is the folder of GRUB's files on a volume: below /boot, or at the root of a
// volume of its own.
func menuFolder(volume fs.FS) (string, bool) {
	tops := []string{"."}
	if d, ok := volume.(interface{ Subvolumes() []string }); ok {
		tops = append(tops, d.Subvolumes()...)
	}
	for _, top := range tops {
		for _, folder := range []string{"boot/grub", "grub"} {
			folder = path.Join(top, folder)
			if info, err := fs.Stat(volume, folder); err == nil && info.IsDir() {
				return folder, true
			}
		}
	}
	return "", false
}

// startOn runs the menu of the volume with a UUID and says what is started from it. Of a
// volume that cannot be read nothing is known, and ok is false.
func startOn(g system.Ground, uuid string, uefi bool) (start *grub.Start, ok bool, err error) {
	for _, v := range volumesOf(g) {
		if !strings.EqualFold(v.UUID, uuid) || v.Files == nil {
			continue
		}
		if why := cutOff(g, numberOf(g, &v)); why != "" {
			return nil, true, &boot.FaultError{Fault: boot.RootCut, Err: errors.New(why)}
		}
		folder, there := menuFolder(v.Files)
		if !there {
			return nil, true, errors.New("no folder grub lies on it")
		}
		menu, err := grub.Run(volumesOf(g), grub.Begin{Device: v.Device, Prefix: "/" + folder, UEFI: uefi})
		if err != nil {
			return nil, true, err
		}
		start, err := defaultOf(menu)
		return start, true, err
	}
	return nil, false, nil
}

// defaultOf is what a menu starts by itself, or why it starts nothing.
func defaultOf(menu *grub.Menu) (*grub.Start, error) {
	if menu.Problem != nil {
		return nil, errors.New(menu.Problem.String())
	}
	start := menu.Default()
	switch {
	case start == nil:
		return nil, errors.New("it has no entry")
	case start.Kernel.Volume == nil && start.Chain == "":
		return nil, fmt.Errorf("entry %q: %s", start.Title, start.Missing)
	}
	return start, nil
}

// biosChain follows a machine that starts by the older firmware.
func biosChain(g system.Ground) boot.Chain {
	var c boot.Chain
	add := func(l boot.Link) bool {
		c = append(c, l)
		return l.Fault == ""
	}
	table := boot.Link{
		Kind: boot.LinkTable, What: strings.ToUpper(string(g.Table.Style())),
		Saw: units.Count(len(g.Table.Partitions()), "partition"),
	}
	if !g.Table.MBR.Signed {
		table.Saw, table.Fault = "the two bytes by which sector 0 is a table are not there", boot.TableNotSigned
	}
	if !add(table) {
		return c
	}
	image, ok := codeLinks(g, add)
	if !ok {
		return c
	}
	start, ok := menuLinks(g, image, add)
	if !ok {
		return c
	}
	return append(c, behind(g, start)...)
}

// codeLinks follows sector 0 to a core image, by way of the active partition where other
// code than GRUB's lies there. The image is nil where it is not known what the code does.
func codeLinks(g system.Ground, add func(boot.Link) bool) (*grub.Image, bool) {
	first := make([]byte, 512)
	l := boot.Link{Kind: boot.LinkCode, What: "sector 0"}
	if _, err := g.Disk.ReadAt(first, 0); err != nil {
		l.Saw, l.Fault = err.Error(), boot.CodeUnreadable
		return nil, add(l)
	}
	const codeBytes = 440
	switch {
	case len(bytes.Trim(first[:codeBytes], "\x00")) == 0:
		l.Saw, l.Fault = "it holds no code: 440 bytes of zeros", boot.CodeDamaged
		return nil, add(l)
	case grub.IsGRUB(first):
		l.Saw = "GRUB's"
		add(l)
		return coreLink(g, first, add)
	}
	l.Saw = "other code than GRUB's: such code starts the active partition"
	add(l)
	var active []layout.Partition
	for _, p := range g.Table.Partitions() {
		if p.Active {
			active = append(active, p)
		}
	}
	if len(active) != 1 {
		return nil, add(boot.Link{
			Kind: boot.LinkActive, What: "active partition",
			Saw: fmt.Sprintf("%d partitions are active; one has to be", len(active)), Fault: boot.ActiveFlag,
		})
	}
	p := active[0]
	if other := elsewhere(g, p); other != 0 {
		return nil, add(boot.Link{
			Kind: boot.LinkActive, What: fmt.Sprintf("partition %d", p.Number), Fault: boot.ActiveFlag,
			Saw: fmt.Sprintf(
				"it is active, and its boot sector holds zeros alone; that of partition %d holds GRUB's code",
				other,
			),
		})
	}
	add(boot.Link{Kind: boot.LinkActive, What: fmt.Sprintf("partition %d", p.Number), Saw: "it alone is active"})
	s := boot.Link{Kind: boot.LinkSector, What: fmt.Sprintf("partition %d", p.Number)}
	if _, err := g.Disk.ReadAt(first, p.Off); err != nil {
		s.Saw, s.Fault = err.Error(), boot.SectorUnreadable
		return nil, add(s)
	}
	switch {
	case grub.IsGRUB(first):
		s.Saw = "GRUB's"
		add(s)
		return coreLink(g, first, add)
	case len(bytes.Trim(first, "\x00")) == 0:
		s.Saw, s.Fault = "it holds no code: zeros alone", boot.SectorDamaged
		return nil, add(s)
	}
	s.Saw = "other code than GRUB's: what it starts is not known"
	add(s)
	return nil, false
}

// elsewhere is the one partition that holds GRUB's code, where the active one holds none at all; 0 if there is none.
func elsewhere(g system.Ground, active layout.Partition) (number int) {
	sector := make([]byte, 512)
	if _, err := g.Disk.ReadAt(sector, active.Off); err != nil || len(bytes.Trim(sector, "\x00")) > 0 {
		return 0
	}
	for _, p := range g.Table.Partitions() {
		if _, err := g.Disk.ReadAt(sector, p.Off); err != nil || p.Number == active.Number || !grub.IsGRUB(sector) {
			continue
		}
		if number != 0 {
			return 0 // two could be meant
		}
		number = p.Number
	}
	return number
}

// coreLink follows code of GRUB to its core image, and holds that against its copy.
func coreLink(g system.Ground, first []byte, add func(boot.Link) bool) (*grub.Image, bool) {
	var kept []byte
	for _, v := range volumesOf(g) {
		if v.Files == nil {
			continue
		}
		if folder, ok := menuFolder(v.Files); ok {
			if raw, err := fs.ReadFile(v.Files, path.Join(folder, "i386-pc/core.img")); err == nil {
				kept = raw
			}
		}
	}
	image, err := grub.ReadImage(g.Disk, first, kept)
	l := boot.Link{Kind: boot.LinkCore, What: "GRUB's core image"}
	if err != nil {
		l.Saw, l.Fault = err.Error(), boot.CoreImageDamaged
		return nil, add(l)
	}
	l.Saw = fmt.Sprintf("%d bytes at sector %d", len(image.Bytes), image.At/512)
	if kept != nil {
		l.Saw += ", as its copy among GRUB's files"
	}
	if image.Packed != nil {
		l.Saw += fmt.Sprintf("; what it carries could not be read: %v", image.Packed)
	}
	return image, add(l)
}

// menuLinks follows the core image to the menu, and what that starts by itself.
func menuLinks(g system.Ground, image *grub.Image, add func(boot.Link) bool) (*grub.Start, bool) {
	list := volumesOf(g)
	begin, at := beginOf(list, image)
	l := boot.Link{Kind: boot.LinkConfig, What: "GRUB's menu"}
	if at == nil {
		l.Saw = "GRUB looks for its files on a volume that is not on this disk: " + wanted(image)
		if l.Fault = boot.StoreOtherVolume; image != nil {
			l.Fault = boot.CoreOtherVolume
		}
		return nil, add(l)
	}
	if at.Files == nil {
		l.Saw = fmt.Sprintf("it lies on (%s), whose file system cannot be read", at.Device)
		l.Fault = boot.VolumeUnreadable
		return nil, add(l)
	}
	if why := cutOff(g, numberOf(g, at)); why != "" {
		l.Saw, l.Fault = why, boot.RootCut
		return nil, add(l)
	}
	folder := strings.TrimPrefix(begin.Prefix, "/")
	if !there(at.Files, path.Join(folder, "i386-pc/normal.mod")) {
		l.Saw = fmt.Sprintf("(%s)/%s holds none of GRUB's modules: GRUB stops at its rescue prompt", at.Device, folder)
		l.Fault = boot.ModulesMissing
		return nil, add(l)
	}
	begin.Config = "" // what it carries has done its work: it found the volume
	menu, err := grub.Run(list, begin)
	var start *grub.Start
	if err == nil {
		start, err = defaultOf(menu)
	}
	if err != nil {
		l.Saw, l.Fault = err.Error(), boot.MenuMissing
		return nil, add(l)
	}
	l.Saw = fmt.Sprintf("(%s)/%s/grub.cfg starts %q", at.Device, folder, start.Title)
	if !add(l) || start.Kernel.Volume == nil {
		if start.Chain != "" {
			add(boot.Link{Kind: boot.LinkLoader, What: start.Chain, Saw: "another loader: what it starts is not followed"})
		}
		return nil, false
	}
	return start, true
}

// beginOf is where GRUB looks for its files, by what the core image carries; without that,
// the volume that holds them.
func beginOf(volumes []grub.Volume, image *grub.Image) (b grub.Begin, at *grub.Volume) {
	b.Prefix = "/boot/grub"
	if image != nil && image.Packed == nil {
		device, folder := "", image.Prefix
		if strings.HasPrefix(folder, "(") {
			device, folder, _ = strings.Cut(folder[1:], ")")
		}
		if folder != "" {
			b.Prefix = folder
		}
		if uuid := volumeIn(image.Config); uuid != "" {
			for i := range volumes {
				if strings.EqualFold(volumes[i].UUID, uuid) {
					at = &volumes[i]
				}
			}
			if m := prefixLine.FindStringSubmatch(image.Config); m != nil {
				b.Prefix = m[1]
			}
			return withDevice(b, at), at
		}
		part := strings.TrimPrefix(strings.TrimPrefix(device, "hd0"), ",")
		if device == "" && image.Part > 0 { // what it was told when it was installed
			part = strconv.Itoa(image.Part)
		}
		for i := range volumes { // without a partition the whole disk is the volume
			_, own, _ := strings.Cut(volumes[i].Device, ",")
			if own == part || part != "" && strings.TrimLeft(own, "gptmsdo") == part {
				at = &volumes[i]
			}
		}
		return withDevice(b, at), at
	}
	for i := range volumes {
		if volumes[i].Files == nil {
			continue
		}
		if folder, ok := menuFolder(volumes[i].Files); ok {
			b.Prefix = "/" + folder
			return withDevice(b, &volumes[i]), &volumes[i]
		}
	}
	return b, nil
}

func withDevice(b grub.Begin, at *grub.Volume) grub.Begin {
	if at != nil {
		b.Device = at.Device
	}
	return b
}

func wanted(image *grub.Image) string {
	if image == nil {
		return "no volume holds a folder grub"
	}
	if uuid := volumeIn(image.Config); uuid != "" {
		return uuid
	}
	if strings.HasPrefix(image.Prefix, "()") || !strings.HasPrefix(image.Prefix, "(") {
		return "it takes the whole disk for one volume"
	}
	return image.Prefix
}

// BootPartition is the partition in whose boot sector the loader lies, where it lies in one; else 0.
func (n *inner) BootPartition() int {
	if n.dev == nil {
		return 0
	}
	table, err := layout.Read(n.dev)
	if err != nil {
		return 0
	}
	first := make([]byte, 512)
	for _, p := range table.Partitions() {
		if _, err := n.dev.ReadAt(first, p.Off); err == nil && grub.IsGRUB(first) {
			return p.Number
		}
	}
	return 0
}
