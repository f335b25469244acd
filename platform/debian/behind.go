package debian

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"diorthos/core/boot"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/platform/grub"
)

// behind follows what lies behind the loader: the kernel that an entry starts, its
// early-boot image, the root volume, the first program on it and what that mounts.
func behind(g system.Ground, s *grub.Start) (list []boot.Link) {
	add := func(l boot.Link) bool {
		list = append(list, l)
		return l.Fault == ""
	}
	if !add(kernelLink(s.Kernel)) {
		return list
	}
	for _, f := range s.Early {
		if !add(earlyLink(f)) {
			return list
		}
	}
	if root := argument(s.Arguments, "root"); len(s.Early) == 0 && !kernelFinds(root) {
		add(boot.Link{
			Kind: boot.LinkEarly, What: "early-boot image", Fault: boot.EarlyImageMissing,
			Saw: fmt.Sprintf("the entry names none, and without one the kernel does not find %q", "root="+root),
		})
		return list
	}
	number, link := rootOf(g, s.Arguments)
	if l, ok := layersLink(g, s, number); ok && l.Fault != "" && !add(l) {
		return list
	}
	if !add(link) || number == 0 {
		return list
	}
	root, missing := rootFiles(g, number, argument(s.Arguments, "rootflags"))
	if missing != "" {
		list[len(list)-1].Saw, list[len(list)-1].Fault = missing, boot.RootMissing
		return list
	}
	if root == nil {
		add(boot.Link{
			Kind: boot.LinkInit, What: "first program",
			Saw: "not looked at: files of " + g.Contents[number].Kind + " are not read here",
		})
		return list
	}
	if add(initLink(root, s.Arguments)) {
		add(mountsLink(g, root))
	}
	return list
}

// rootFiles are those of the root volume as the kernel mounts it: of a subvolume where its options name one, which is
// missing where there is none of that name.
func rootFiles(g system.Ground, number int, options string) (files fs.FS, missing string) {
	view := g.Views[number]
	d, ok := view.Top().(interface{ Default() string })
	if !ok {
		return g.Volume(number), ""
	}
	name := d.Default()
	for _, o := range strings.Split(options, ",") {
		if sub, ok := strings.CutPrefix(o, "subvol="); ok {
			name = path.Join(".", strings.Trim(sub, "/"))
		} else if strings.HasPrefix(o, "subvolid=") {
			return g.Volume(number), ""
		}
	}
	sub, err := fs.Sub(view.Top(), name)
	if err != nil {
		return nil, fmt.Sprintf("the kernel is told to take the subvolume %q, which is not there", name)
	}
	return sub, ""
}

// kernelFinds reports whether the kernel by itself knows what a name of the root volume means
// (Documentation/admin-guide/kernel-parameters.txt, root=): not what only user space can tell.
func kernelFinds(root string) bool {
	return root == "" || strings.HasPrefix(root, "PARTUUID=") || strings.HasPrefix(root, "PARTLABEL=") ||
		strings.HasPrefix(root, "/dev/") && !ofMapper(root) && !strings.HasPrefix(root, "/dev/disk/") ||
		len(root) > 0 && root[0] >= '0' && root[0] <= '9'
}

// Headers of kernels: the Linux boot protocol for x86 (Documentation/arch/x86/boot.rst), and
// that for arm64 (booting.rst).
const (
	setupSectors = 0x1f1
	bootFlag     = 0x1fe
	setupMark    = 0x202 // "HdrS"
	kernelSize   = 0x1f4 // of what is behind the set-up code, in units of 16 bytes
	armMark      = 56    // "ARM\x64"
	armSize      = 16    // of the image in memory, 64 bits
)

func kernelLink(f grub.File) boot.Link {
	l := boot.Link{Kind: boot.LinkKernel, What: f.Path}
	info, err := fs.Stat(f.Volume.Files, f.Path)
	if err != nil {
		l.Saw, l.Fault = "it is not there", boot.KernelMissing
		return l
	}
	head := make([]byte, 1024)
	file, err := f.Volume.Files.Open(f.Path)
	if err == nil {
		_, err = io.ReadFull(file, head)
		_ = file.Close()
	}
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		l.Saw, l.Fault = err.Error(), boot.KernelAltered
		return l
	}
	why := notAKernel(head, info.Size())
	if why == "" && bytes.HasPrefix(head, []byte("MZ")) && string(head[setupMark:setupMark+4]) != "HdrS" {
		why = programCut(f.Volume.Files, f.Path)
	}
	if why != "" {
		l.Saw, l.Fault = why, boot.KernelAltered
		return l
	}
	l.Saw = fmt.Sprintf("%d bytes, whole by its header", info.Size())
	return l
}

// programCut says of an EFI program, such as a kernel that carries all it needs, why it cannot run.
func programCut(volume fs.FS, name string) string {
	raw, err := fs.ReadFile(volume, name)
	if err == nil {
		_, err = machineOf(raw)
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

// notAKernel says why a file is none, by its header and its size.
func notAKernel(head []byte, size int64) string {
	le := binary.LittleEndian
	switch {
	case size == 0:
		return "it is empty"
	case len(bytes.Trim(head, "\x00")) == 0:
		return fmt.Sprintf("%d bytes, and its beginning is zeros", size)
	case le.Uint16(head[bootFlag:]) == 0xaa55 && string(head[setupMark:setupMark+4]) == "HdrS":
		sectors := int64(head[setupSectors])
		if sectors == 0 {
			sectors = 4
		}
		if want := (sectors+1)*512 + int64(le.Uint32(head[kernelSize:]))*16; size < want {
			return fmt.Sprintf("it is cut off: %d bytes, and its header says %d", size, want)
		}
		return ""
	case string(head[armMark:armMark+4]) == "ARM\x64",
		bytes.HasPrefix(head, []byte("MZ")),
		bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return ""
	}
	return fmt.Sprintf("%d bytes that are no kernel: neither its mark nor that of an EFI program is there", size)
}

// packings are how early-boot images are packed, by their first bytes.
var packings = []struct {
	name string
	mark []byte
}{
	{"gzip", []byte{0x1f, 0x8b}}, {"xz", []byte{0xfd, '7', 'z', 'X', 'Z', 0}}, {"zstd", []byte{0x28, 0xb5, 0x2f, 0xfd}},
	{"lz4", []byte{0x02, 0x21, 0x4c, 0x18}}, {"lz4", []byte{0x04, 0x22, 0x4d, 0x18}}, {"bzip2", []byte("BZh")},
	{"lzma", []byte{0x5d, 0, 0}}, {"lzop", []byte{0x89, 'L', 'Z', 'O'}}, {"not packed", []byte("070701")},
}

// earlyLink looks at an early-boot image: its segments (initramfs buffer format,
// Documentation/driver-api/early-userspace), and whether the last one ends.
func earlyLink(f grub.File) boot.Link {
	l := boot.Link{Kind: boot.LinkEarly, What: f.Path}
	info, err := fs.Stat(f.Volume.Files, f.Path)
	switch {
	case err != nil:
		l.Saw, l.Fault = "it is not there", boot.EarlyImageMissing
		return l
	case info.Size() == 0:
		l.Saw, l.Fault = "it is empty", boot.EarlyImageMissing
		return l
	}
	file, err := f.Volume.Files.Open(f.Path)
	if err != nil {
		l.Saw, l.Fault = err.Error(), boot.EarlyImageMissing
		return l
	}
	defer func() { _ = file.Close() }()
	at, ok := file.(io.ReaderAt)
	if !ok {
		l.Saw = fmt.Sprintf("%d bytes", info.Size())
		return l
	}
	packed, from, err := packingOf(at, info.Size())
	if err == nil && packed == "zstd" {
		err = zstdEnds(at, from, info.Size())
	}
	if err != nil {
		l.Saw, l.Fault = err.Error(), boot.EarlyImageMissing
		return l
	}
	l.Saw = fmt.Sprintf("%d bytes, %s", info.Size(), packed)
	return l
}

// packingOf goes over archives that are not packed, such as those with microcode, to the
// first that is.
func packingOf(r io.ReaderAt, size int64) (name string, from int64, err error) {
	head := make([]byte, 16)
	for from < size {
		n, err := r.ReadAt(head, from)
		if err != nil && !errors.Is(err, io.EOF) {
			return "", from, err
		}
		if bytes.Equal(head[:min(n, 4)], []byte{0, 0, 0, 0}[:min(n, 4)]) { // what archives are filled up with
			from += 4
			if from > 64<<10 && name == "" {
				return "", from, errors.New("it begins with zeros alone")
			}
			continue
		}
		found := ""
		for _, p := range packings {
			if bytes.HasPrefix(head[:n], p.mark) {
				found = p.name
			}
		}
		switch found {
		case "":
			return "", from, fmt.Errorf("what begins at byte %d is neither an archive nor packed in a known way", from)
		case "not packed":
			name = found
			if from, err = cpioEnd(r, from, size); err != nil {
				return "", from, err
			}
			continue
		}
		return found, from, nil
	}
	if name == "" {
		return "", from, errors.New("it holds no archive")
	}
	return name, from, nil
}

// cpioEnd is where an archive in the new ASCII form ends, behind its last entry.
func cpioEnd(r io.ReaderAt, from, size int64) (int64, error) {
	const header = 110
	head := make([]byte, header+16)
	for entries := 0; entries < 200_000; entries++ {
		if n, err := r.ReadAt(head, from); n < header {
			return from, fmt.Errorf("it is cut off: an archive goes on at byte %d, and the file ends (%w)", from, err)
		}
		if string(head[:6]) != "070701" {
			return from, fmt.Errorf("its archive is damaged at byte %d", from)
		}
		length, err1 := strconv.ParseInt(string(head[54:62]), 16, 64)
		name, err2 := strconv.ParseInt(string(head[94:102]), 16, 64)
		if err1 != nil || err2 != nil || name <= 0 {
			return from, fmt.Errorf("its archive is damaged at byte %d", from)
		}
		last := bytes.HasPrefix(head[header:], []byte("TRAILER!!!"))
		if from = align4(align4(from+header+name) + length); last {
			return from, nil
		}
		if from > size {
			return from, fmt.Errorf("it is cut off: an entry of its archive ends at byte %d, and it has %d", from, size)
		}
	}
	return from, errors.New("its archive has more entries than an early-boot image can have")
}

func align4(n int64) int64 { return (n + 3) &^ 3 }

// zstdEnds goes from block to block by their headers (RFC 8878) and says where they do not
// end as they have to.
func zstdEnds(r io.ReaderAt, at, size int64) error {
	cut := func() error { return fmt.Errorf("it is cut off: its packed part goes on behind its %d bytes", size) }
	head := make([]byte, 14)
	if n, _ := r.ReadAt(head, at); n < 6 {
		return cut()
	}
	d := head[4]
	length := int64(5 + []int{0, 1, 2, 4}[d&3])
	if d&0x20 == 0 {
		length++ // the window
	}
	switch d >> 6 {
	case 0:
		if d&0x20 != 0 {
			length++
		}
	case 1:
		length += 2
	case 2:
		length += 4
	case 3:
		length += 8
	}
	at += length
	for range 1 << 20 {
		if n, _ := r.ReadAt(head[:3], at); n < 3 {
			return cut()
		}
		b := int64(head[0]) | int64(head[1])<<8 | int64(head[2])<<16
		last, kind, data := b&1 == 1, b>>1&3, b>>3
		if kind == 3 {
			return fmt.Errorf("its packed part is damaged at byte %d", at)
		}
		if kind == 1 {
			data = 1
		}
		if at += 3 + data; at > size {
			return cut()
		}
		if last {
			return nil
		}
	}
	return nil
}

// argument is the last value of a word of the kernel's command line.
func argument(line, name string) string {
	value := ""
	for _, w := range strings.Fields(line) {
		if v, ok := strings.CutPrefix(w, name+"="); ok {
			value = v
		}
	}
	return strings.Trim(value, `"`)
}

var devicePartition = regexp.MustCompile(`^/dev/(?:[shv]d[a-z]|xvd[a-z]|nvme\d+n\d+p|mmcblk\d+p)(\d+)$`)

// rootOf is the partition that the kernel is told to take as its root; 0 where that cannot
// be told, or is none of this disk.
func rootOf(g system.Ground, arguments string) (int, boot.Link) {
	l := boot.Link{Kind: boot.LinkRoot, What: "root=" + argument(arguments, "root")}
	name := argument(arguments, "root")
	switch {
	case name == "":
		l.What, l.Saw = "root volume", "the entry names none: the early-boot image has to know it"
		return 0, l
	}
	number := volumeNamed(g, name)
	v := g.Volumes.Numbered(number)
	switch {
	case number == 0 && closed(g) != "":
		l.Saw = "not followed: it may lie in " + closed(g)
		return 0, l
	case number == 0 && ofMapper(name) && !groupThere(g, name):
		l.Saw = "not followed: no volume group or array of that name lies on this disk"
		return 0, l
	case number == 0:
		l.Saw, l.Fault = "no volume of this disk has that name", boot.RootMissing
		return 0, l
	case v.Dev == nil:
		l.Saw = "not followed: " + v.Name + ": " + v.Problem
		return 0, l
	}
	c := g.Contents[number]
	l.Saw = strings.TrimSpace(fmt.Sprintf("%s, %s %s", v.Name, c.Kind, c.Label))
	if c.Kind == "" {
		l.Saw, l.Fault = v.Name+", and no file system is recognised on it", boot.VolumeUnreadable
	} else if why := cutOff(g, number); why != "" {
		l.Saw, l.Fault = why, boot.RootCut
	}
	return number, l
}

// cutOff says of a volume that it reaches beyond its partition, or the disk.
func cutOff(g system.Ground, number int) string {
	c := g.Contents[number]
	if c.Size <= 0 {
		return ""
	}
	length := lengthOf(g, number)
	if c.Size <= length {
		return ""
	}
	name := g.Volumes.Numbered(number).Name
	return fmt.Sprintf(
		"the %s on %s has %d bytes, and %s has %d: the kernel refuses it", c.Kind, name, c.Size, name, length,
	)
}

func lengthOf(g system.Ground, number int) int64 {
	v := g.Volumes.Numbered(number)
	if v == nil {
		return 0
	}
	if p := v.Partition; p != nil {
		return min(p.Length, g.Disk.Size()-p.Off)
	}
	return v.Size
}

// ofMapper reports whether a name is one of the device mapper's, of an array's, or a volume group's.
func ofMapper(name string) bool {
	return strings.HasPrefix(name, "/dev/mapper/") || strings.HasPrefix(name, "/dev/md") ||
		strings.HasPrefix(name, "/dev/dm-") || strings.Count(name, "/") == 3 && !strings.HasPrefix(name, "/dev/disk/")
}

// groupThere reports whether the volume group that a name is of lies on this disk: its other
// volumes are then known.
func groupThere(g system.Ground, name string) bool {
	return slices.ContainsFunc(g.Volumes.All(), func(v *volumes.Volume) bool {
		group, _, ok := strings.Cut(v.Name, "/")
		mapped := "/dev/mapper/" + strings.ReplaceAll(group, "-", "--") + "-"
		return ok && v.Kind == volumes.Logical &&
			(strings.HasPrefix(name, "/dev/"+group+"/") || strings.HasPrefix(name, mapped))
	})
}

// closed says which volume of the disk may hold others and could not be looked into; empty for none.
func closed(g system.Ground) string {
	for _, v := range g.Volumes.All() {
		holds := slices.ContainsFunc(
			g.Volumes.All(),
			func(o *volumes.Volume) bool { return slices.Contains(o.Within, v.Number) },
		)
		switch {
		case containers[strings.TrimRight(v.Content.Kind, "12")] && !holds:
			return strings.TrimSuffix(fmt.Sprintf("%s (%s): %s", v.Name, v.Content.Kind, v.Problem), ": ")
		case v.Dev == nil:
			return v.Name + ": " + v.Problem
		}
	}
	return ""
}

// volumeNamed is the volume that a name means as fstab and kernel write it, also by the number of a
// partition; 0 for none.
func volumeNamed(g system.Ground, name string) int {
	if v := g.Volumes.Named(name); v != nil {
		return v.Number
	}
	if m := devicePartition.FindStringSubmatch(name); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil && g.Volumes.Numbered(n) != nil {
			return n
		}
	}
	return 0
}

// initLink looks at the first program, and at what it cannot run without.
func initLink(root fs.FS, arguments string) boot.Link {
	name := strings.TrimPrefix(argument(arguments, "init"), "/")
	if name == "" {
		name = "sbin/init"
	}
	l := boot.Link{Kind: boot.LinkInit, What: name}
	info, err := fs.Stat(root, name)
	if err != nil {
		l.Saw, l.Fault = "it is not there", boot.InitMissing
		return l
	}
	if info.Size() == 0 || info.Mode()&0o111 == 0 {
		l.Saw, l.Fault = fmt.Sprintf("%d bytes, mode %s: it cannot be run", info.Size(), info.Mode().Perm()), boot.InitMissing
		return l
	}
	if missing := neededBy(root, name); missing != "" {
		l.Saw, l.Fault = missing, boot.InitMissing
		return l
	}
	l.Saw = fmt.Sprintf("%d bytes, and what it is run by", info.Size())
	return l
}

// libraryFolders are where the dynamic linker looks by itself, with those of the two processors.
var libraryFolders = []string{
	"usr/local/lib", "lib/x86_64-linux-gnu", "usr/lib/x86_64-linux-gnu", "lib/aarch64-linux-gnu",
	"usr/lib/aarch64-linux-gnu", "lib", "usr/lib", "lib64", "usr/lib64", "usr/lib/x86_64-linux-gnu/systemd",
	"usr/lib/aarch64-linux-gnu/systemd", "usr/lib/systemd", "lib/systemd",
}

// neededBy says what a program needs and does not find: the interpreter of a script, or the
// dynamic linker and libraries of a binary.
func neededBy(root fs.FS, name string) string { return neededAt(root, name, 0) }

// neededAt is deep where a program is looked at that runs another.
func neededAt(root fs.FS, name string, deep int) string {
	file, err := root.Open(name)
	if err != nil {
		return err.Error()
	}
	defer func() { _ = file.Close() }()
	at, ok := file.(io.ReaderAt)
	if !ok {
		return ""
	}
	head := make([]byte, 128)
	n, _ := at.ReadAt(head, 0)
	if line, isScript := strings.CutPrefix(string(head[:n]), "#!"); isScript {
		line, _, _ = strings.Cut(line, "\n")
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
			return ""
		case !there(root, words[0]):
			return "it is run by " + words[0] + ", and that is not there"
		case deep == 0:
			return neededAt(root, strings.TrimPrefix(words[0], "/"), deep+1)
		}
		return ""
	}
	program, err := elf.NewFile(at)
	if err != nil && deep > 0 {
		return "" // what runs a script is a program of some other kind: nothing is known of it
	}
	if err != nil {
		return "it is neither a script nor a program: " + err.Error()
	}
	for _, p := range program.Progs {
		if p.Type != elf.PT_INTERP {
			continue
		}
		raw, err := io.ReadAll(io.LimitReader(p.Open(), 4096))
		if linker := string(bytes.TrimRight(raw, "\x00")); err == nil && !there(root, linker) {
			return "it is run by " + linker + ", and that is not there"
		}
	}
	libraries, err := program.ImportedLibraries()
	if err != nil {
		return ""
	}
	for _, library := range libraries {
		if !slices.ContainsFunc(libraryFolders, func(dir string) bool { return there(root, path.Join(dir, library)) }) {
			return "it needs " + library + ", and that is in none of the folders of libraries"
		}
	}
	return ""
}

func there(root fs.FS, name string) bool {
	info, err := fs.Stat(root, strings.TrimPrefix(path.Clean(name), "/"))
	return err == nil && info.Size() > 0
}

// A mount is one line of fstab(5).
type mount struct {
	at      int // of its first byte in the file
	text    string
	device  string
	point   string
	was     string // the disk that it was on when the system was installed, by the installer's comment
	kind    string
	options []string
}

// option is the value of an option; empty where it is not given.
func (m mount) option(name string) string {
	for _, o := range m.options {
		if value, ok := strings.CutPrefix(o, name+"="); ok {
			return value
		}
	}
	return ""
}

func mountsIn(fstab string) (list []mount) {
	at, was := 0, ""
	for _, line := range strings.SplitAfter(fstab, "\n") {
		w := strings.Fields(line)
		if m := installedOn.FindStringSubmatch(line); m != nil {
			was = m[1]
		}
		if len(w) >= 3 && !strings.HasPrefix(w[0], "#") {
			m := mount{at: at, text: strings.TrimRight(line, "\n"), device: w[0], point: w[1], kind: w[2], was: was}
			was = ""
			if len(w) > 3 {
				m.options = strings.Split(w[3], ",")
			}
			list = append(list, m)
		}
		at += len(line)
	}
	return list
}

// installedOn is what Debian's installer notes above an entry.
var installedOn = regexp.MustCompile(`^#\s+\S+ was on /dev/([a-z]+|nvme\d+n\d+|mmcblk\d+)p?\d* during installation`)

// elsewhere reports whether a mount was on another disk than the root volume when the system
// was installed: that one need not be at hand.
func (m mount) elsewhere(list []mount) bool {
	for _, root := range list {
		if root.point == "/" {
			return m.was != "" && root.was != "" && m.was != root.was
		}
	}
	return false
}

// stops reports whether start-up waits for the mount and ends in the emergency shell without
// it (systemd.mount(5), "fstab").
func (m mount) stops() bool {
	for _, o := range m.options {
		if o == "nofail" || o == "noauto" || o == "_netdev" || strings.HasPrefix(o, "x-systemd.automount") {
			return false
		}
	}
	return m.kind != "swap" && m.point != "/" && strings.HasPrefix(m.point, "/") && !network[m.kind]
}

// network are file systems that are not on a disk of the machine.
var network = map[string]bool{
	"nfs": true, "nfs4": true, "cifs": true, "smb3": true, "sshfs": true, "tmpfs": true, "proc": true, "sysfs": true,
	"devpts": true, "overlay": true, "none": true, "fuse": true, "9p": true, "virtiofs": true,
}

// unmet says why a mount cannot be; empty where it can, or where that cannot be told.
func (m mount) unmet(g system.Ground) string {
	name := m.device
	number := volumeNamed(g, name)
	switch {
	case number == 0 && ofMapper(name) && !groupThere(g, name):
		// opened by crypttab under a name of its own, or of another disk
		return ""
	case strings.HasPrefix(name, "/dev/") && !strings.HasPrefix(name, "/dev/disk/by-") && !ofMapper(name) &&
		devicePartition.FindStringSubmatch(name) == nil, !strings.ContainsAny(name, "=/"), slices.Contains(m.options, "bind"):
		return ""
	case number == 0 && closed(g) != "":
		return ""
	case number == 0:
		return "no volume of this disk has that name"
	}
	if c := g.Contents[number]; c.Kind != "" && m.kind != "auto" && !sameKind(m.kind, c.Kind) {
		return fmt.Sprintf("%s holds %s, and not %s", g.Volumes.Numbered(number).Name, c.Kind, m.kind)
	}
	if top := g.Views[number].Top(); m.option("subvol") != "" && top != nil {
		if _, err := fs.Stat(top, path.Join(".", strings.Trim(m.option("subvol"), "/"))); errors.Is(err, fs.ErrNotExist) {
			return fmt.Sprintf("%s has no subvolume %s", g.Volumes.Numbered(number).Name, m.option("subvol"))
		}
	}
	return ""
}

// sameKind reports whether a type as fstab writes it can be what was recognised.
func sameKind(fstab, content string) bool {
	switch {
	case strings.HasPrefix(content, "fat"), strings.HasPrefix(content, "FAT"):
		return fstab == "vfat" || fstab == "msdos"
	case strings.HasPrefix(content, "ext"):
		return strings.HasPrefix(fstab, "ext")
	case content == "ntfs":
		return strings.HasPrefix(fstab, "ntfs")
	}
	return fstab == content
}

// mountsLink looks at what the first program mounts before anybody can sign in.
func mountsLink(g system.Ground, root fs.FS) boot.Link {
	l := boot.Link{Kind: boot.LinkMounts, What: "etc/fstab"}
	list := mountsIn(readText(root, "etc/fstab"))
	for _, m := range list {
		if why := m.unmet(g); why != "" && m.stops() && !m.elsewhere(list) {
			l.What, l.Saw, l.Fault = m.point, fmt.Sprintf("%s %s: %s", m.device, m.kind, why), boot.MountMissing
			return l
		}
	}
	l.Saw = fmt.Sprintf("%d entries, none of which stops the start", len(list))
	return l
}
