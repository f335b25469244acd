package fleet

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/standin/debian"
)

// Sizes of kestrel-office-3's disk, in bytes.
const (
	mib        = 1 << 20
	diskSize   = 768 * mib
	espSize    = 64 * mib
	bootSize   = 72 * mib
	sectorSize = 512
	// overwritten is how much of the start of the disk was lost: the MBR and
	// the whole primary GPT.
	overwritten = 34 * sectorSize
)

// Technician is the person whom the demo signs in.
const Technician = "Ragna Holm"

// A Machine is one computer of the demo.
type Machine struct {
	Name, Site, Model string
	FullBoot          bool // its last update failed, for the boot volume is full
	Overwritten       bool // and the first sectors of its disk were overwritten since
}

// Machines are the computers of the demo. The first is that of the
// walk-through.
var Machines = []Machine{
	{Name: "kestrel-office-3", Site: "MV Kestrel", Model: "Havnar D4 desktop", FullBoot: true, Overwritten: true},
	{Name: "fulmar-office-1", Site: "MV Fulmar", Model: "Havnar D4 desktop", FullBoot: true},
	{Name: "lerrick-kiosk-2", Site: "Lerrick terminal", Model: "Havnar K1 kiosk"},
}

// Make makes the machine's disk at path. Needs mke2fs.
func (m Machine) Make(ctx context.Context, path string) (err error) {
	work, err := os.MkdirTemp(filepath.Dir(path), "making-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(work)) }()
	partial := filepath.Join(work, "disk.img")
	if err := makeImage(partial, diskSize); err != nil {
		return err
	}
	if err := m.fill(ctx, partial, work); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	if m.Overwritten {
		if err := overwriteStart(partial); err != nil {
			return err
		}
	}
	return os.Rename(partial, path)
}

func makeImage(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}

// plan is the layout: room for the loader, a boot volume that was
// generous years ago, and the rest for the system.
func (m Machine) plan() layout.Plan {
	entry := func(name string, kind layout.GUID, first, size int64) layout.Entry {
		return layout.Entry{Type: kind, ID: guid(m.Name + " " + name), Name: name,
			Span: layout.Span{First: uint64(first / sectorSize), Last: uint64((first+size)/sectorSize - 1)}}
	}
	const espAt, bootAt, rootAt = mib, mib + espSize, mib + espSize + bootSize
	return layout.Plan{DiskGUID: guid(m.Name + " disk"), Partitions: []layout.Entry{
		entry("ESP", layout.TypeESP, espAt, espSize),
		entry("boot", layout.TypeLinux, bootAt, bootSize),
		entry("system", layout.TypeLinuxRoot, rootAt, diskSize-mib-rootAt),
	}}
}

func (m Machine) fill(ctx context.Context, image, work string) (err error) {
	dev, err := block.OpenImage(image, sectorSize, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	plan := m.plan()
	writes, err := layout.Create(dev.Size(), dev.SectorSize(), plan)
	if err != nil {
		return err
	}
	for _, w := range writes {
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	esp, boot, root := plan.Partitions[0], plan.Partitions[1], plan.Partitions[2]
	if err := fat.Format(&shifted{dev, int64(esp.First) * sectorSize}, int64(esp.Sectors())*sectorSize, fat.Options{
		Label:  "ESP",
		Serial: 0x5ca1ab1e,
	}); err != nil {
		return err
	}
	if err := m.loader(dev, esp); err != nil {
		return err
	}
	if err := m.bootTree(filepath.Join(work, "boot")); err != nil {
		return err
	}
	if err := m.systemTree(filepath.Join(work, "system")); err != nil {
		return err
	}
	if err := dev.Sync(); err != nil {
		return err
	}
	if err := m.makeExt(ctx, image, boot, "boot", "/boot", filepath.Join(work, "boot")); err != nil {
		return err
	}
	return m.makeExt(ctx, image, root, "system", "/", filepath.Join(work, "system"))
}

// loader puts onto the EFI system partition what GRUB's packages put there.
func (m Machine) loader(dev *block.Image, esp layout.Entry) error {
	e, err := fat.Edit(
		block.NewWriteRange(dev, int64(esp.First)*sectorSize, int64(esp.Sectors())*sectorSize),
		time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC),
	)
	if err != nil {
		return err
	}
	if err := e.Mkdir("EFI/debian"); err != nil {
		return err
	}
	image := make([]byte, 150<<10)
	_, _ = rand.NewChaCha8(sha256.Sum256([]byte("grub"))).Read(image)
	cfg := fmt.Sprintf(
		"search.fs_uuid %s root\nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n", m.fsUUID("boot"),
	)
	return errors.Join(
		e.WriteFile("EFI/debian/grubx64.efi", append(debian.Program(""), image...)),
		e.WriteFile("EFI/debian/grub.cfg", []byte(cfg)),
	)
}

// shifted is a device from a byte offset on.
type shifted struct {
	dev *block.Image
	by  int64
}

func (s *shifted) WriteAt(p []byte, off int64) (int, error) { return s.dev.WriteAt(p, off+s.by) }

// makeExt makes an ext4 volume in place, with the files of folder in it.
func (m Machine) makeExt(ctx context.Context, image string, e layout.Entry, label, lastMount, folder string) error {
	blocks := int64(e.Sectors()) * sectorSize / 1024
	cmd := exec.CommandContext(
		ctx, "mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-m", "0", "-L", label, "-M", lastMount,
		"-U",
		m.fsUUID(label), "-E", "offset="+strconv.FormatInt(int64(e.First)*sectorSize, 10)+",root_owner=0:0,nodiscard",
		"-d", folder, image, strconv.FormatInt(blocks, 10),
	)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("mke2fs: %w: %s (is e2fsprogs installed?)", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// bootTree is what years of updates left on the boot volume.
func (m Machine) bootTree(folder string) error {
	noise := rand.NewChaCha8(sha256.Sum256([]byte(m.Name)))
	files := map[string]int{"vmlinuz-6.1.0-50-cloud-amd64": 7 * mib, "initrd.img-6.1.0-50-cloud-amd64": 15 * mib}
	if m.FullBoot {
		files["vmlinuz-5.10.0-28-cloud-amd64"], files["initrd.img-5.10.0-28-cloud-amd64"] = 6*mib, 18*mib
		files["vmlinuz-6.1.0-56-cloud-amd64"], files["config-6.1.0-56-cloud-amd64"] = 7*mib, 180<<10
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		data := make([]byte, files[name])
		_, _ = noise.Read(data)
		if strings.HasPrefix(name, "vmlinuz-") {
			copy(data, debian.Kernel(len(data))[:0x400])
		} else {
			data = debian.EarlyImage(data[:len(data)-4096])
		}
		if err := putFile(folder, name, data); err != nil {
			return err
		}
	}
	// The update that failed did not come so far as to write the menu anew.
	menu := fmt.Sprintf(
		"menuentry 'Debian GNU/Linux' {\n"+
			"\tsearch --no-floppy --fs-uuid --set=root %s\n"+
			"\tlinux\t/vmlinuz-6.1.0-50-cloud-amd64 root=UUID=%s ro quiet\n"+
			"\tinitrd\t/initrd.img-6.1.0-50-cloud-amd64\n"+
			"}\n",
		m.fsUUID("boot"), m.fsUUID("system"),
	)
	return putFile(folder, "grub/grub.cfg", []byte(menu))
}

func (m Machine) systemTree(folder string) error {
	files := map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\n" +
			"NAME=\"Debian GNU/Linux\"\n" +
			"VERSION_ID=\"12\"\n" +
			"VERSION=\"12 (bookworm)\"\n" +
			"ID=debian\n",
		"etc/hostname": m.Name + "\n",
		"sbin/init":    "#!/bin/sh\nexec sleep 1000000\n",
		"bin/sh":       "what scripts are run by\n",
		"etc/fstab": fmt.Sprintf(
			"UUID=%s / ext4 errors=remount-ro 0 1\n"+
				"UUID=%s /boot ext4 defaults 0 2\n"+
				"UUID=5CA1-AB1E /boot/efi vfat umask=0077 0 1\n",
			m.fsUUID("system"), m.fsUUID("boot"),
		),
		"home/ragna/sailing-list-november.csv": "date,vessel,terminal,berth\n2026-11-24,MV Kestrel,Skerrow,2\n",
	}
	for name, text := range files {
		if err := putFile(folder, name, []byte(text)); err != nil {
			return err
		}
	}
	for _, name := range workFolders {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o755); err != nil {
			return err
		}
	}
	for _, name := range []string{"tmp", "var/tmp"} {
		if err := os.Chmod(filepath.Join(folder, name), 0o777|fs.ModeSticky); err != nil {
			return err
		}
	}
	logs, err := fs.Sub(debian.Captured, "captured/full-boot-volume")
	if err != nil {
		return err
	}
	for from, to := range map[string]string{
		"dpkg.log":        "var/log/dpkg.log",
		"apt/history.log": "var/log/apt/history.log",
		"apt/term.log":    "var/log/apt/term.log",
	} {
		text, err := fs.ReadFile(logs, from)
		if err != nil {
			return err
		}
		if !m.FullBoot {
			text = quietDay(from, text)
		}
		if from == "dpkg.log" {
			if err := putDatabase(folder, database(text)); err != nil {
				return err
			}
		}
		if err := putFile(folder, to, text); err != nil {
			return err
		}
	}
	return nil
}

// workFolders are those that dpkg, apt and the scripts of packages work in.
var workFolders = []string{
	"dev", "proc", "sys", "run", "tmp", "var/tmp", "etc/alternatives", "var/cache/debconf", "var/log/apt",
	"var/cache/apt/archives/partial", "var/lib/apt/lists/partial", "var/lib/dpkg/info", "var/lib/dpkg/updates",
	"var/lib/dpkg/triggers", "var/lib/dpkg/alternatives", "var/lib/dpkg/parts",
}

// putDatabase writes dpkg's database, with a list of files for each package.
func putDatabase(folder string, text []byte) error {
	for _, line := range strings.Split(string(text), "\n") {
		if name, ok := strings.CutPrefix(line, "Package: "); ok {
			if err := putFile(folder, "var/lib/dpkg/info/"+name+".list", []byte("/.\n")); err != nil {
				return err
			}
		}
	}
	return putFile(folder, "var/lib/dpkg/status", text)
}

var stateLine = regexp.MustCompile(`(?m)^\S+ \S+ status (\S+) ([^:\s]+):(\S+) (\S+)$`)

// database is what dpkg's database holds after what its log tells of.
func database(log []byte) []byte {
	last := map[string][]string{}
	for _, m := range stateLine.FindAllStringSubmatch(string(log), -1) {
		last[m[2]] = m
	}
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(last)) {
		m := last[name]
		if m[1] == "not-installed" {
			continue
		}
		_, _ = fmt.Fprintf(
			&b, "Package: %s\nStatus: install ok %s\nArchitecture: %s\nVersion: %s\n\n", name, m[1], m[3], m[4],
		)
	}
	return b.Bytes()
}

// Logs lays the package logs of the walk-through's machine out in a folder, as
// a technician would have copied them off it.
func Logs(folder string) error {
	logs, err := fs.Sub(debian.Captured, "captured/full-boot-volume")
	if err != nil {
		return err
	}
	for _, name := range []string{"dpkg.log", "apt/history.log", "apt/term.log"} {
		text, err := fs.ReadFile(logs, name)
		if err != nil {
			return err
		}
		if err := putFile(folder, name, text); err != nil {
			return err
		}
	}
	return nil
}

// quietDay keeps of a log what was written before the night of the update.
func quietDay(name string, text []byte) []byte {
	begin := map[string]string{
		"dpkg.log":        "startup archives unpack\n",
		"apt/history.log": "\nStart-Date: ",
		"apt/term.log":    "\nLog started: ",
	}[name]
	second := bytes.LastIndex(text, []byte(begin))
	if name == "dpkg.log" {
		first := bytes.Index(text, []byte(begin)) + len(begin)
		second = first + bytes.Index(text[first:], []byte(begin))
		second = bytes.LastIndexByte(text[:second], '\n') + 1
	}
	return text[:second]
}

func putFile(folder, name string, data []byte) error {
	path := filepath.Join(folder, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if strings.Contains(name, "bin/") {
		mode = 0o755
	}
	return os.WriteFile(path, data, mode)
}

// overwriteStart does what a program does that takes the disk for a file.
func overwriteStart(path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	line := "2026-11-23 08:02:11 berth=2 vessel=KESTREL draught=3.1 wind=NNW7\n"
	data := []byte(strings.Repeat(line, overwritten/len(line)+1))[:overwritten]
	_, err = f.WriteAt(data, 0)
	return errors.Join(err, f.Close())
}

// guid is made from a name, so that a machine is the same each time.
func guid(name string) layout.GUID {
	sum := sha256.Sum256([]byte(name))
	g := layout.GUID(sum[:16])
	g[7] = g[7]&0x0f | 0x40 // version 4, in the disk's byte order
	g[8] = g[8]&0x3f | 0x80
	return g
}

func (m Machine) fsUUID(name string) string { return guid(m.Name + " volume " + name).String() }
