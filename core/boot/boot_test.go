package boot_test

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/firmware"
	"diorthos/core/layout"
)

const (
	espID  = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
	rootID = "4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"
	loader = "EFI/anchor/anchor.efi"
	menu   = "EFI/anchor/menu"
	kernel = "boot/kernel"
)

// harbour is a small system of two volumes: its loader reads the kernel's place
// from a menu.
type harbour struct {
	code bool
	rest []boot.Link
}

func (h harbour) Code() (disk, sector *boot.Piece) {
	if !h.code {
		return nil, nil
	}
	return &boot.Piece{
		What: "anchor 2",
		Data: []byte("ANCHOR"),
		Also: [][]byte{[]byte("ANCH-1")},
	}, &boot.Piece{What: "anchor's second half", Data: []byte("STAY"), At: 90}
}

func (harbour) Loader(firmware.Mode) (string, [][]byte) {
	return loader, [][]byte{[]byte("the loader")}
}

func (harbour) Config(volume fs.FS, _ firmware.Mode) (boot.Config, error) {
	raw, err := fs.ReadFile(volume, menu)
	if err != nil {
		return boot.Config{}, err
	}
	id, path, ok := strings.Cut(string(raw), " ")
	if !ok {
		return boot.Config{}, errors.New("the menu names no kernel")
	}
	return boot.Config{Volume: id, Kernel: path}, nil
}

func (h harbour) Rest(fs.FS) []boot.Link { return h.rest }

// made are the disks of each mode; the tools that make them take their time.
var made sync.Map

// disk is a copy of one that another tool made, with two partitions.
func disk(t *testing.T, mode firmware.Mode) string {
	t.Helper()
	raw, known := made.Load(mode)
	if !known {
		first, err := os.ReadFile(partitioned(t, mode))
		if err != nil {
			t.Fatal(err)
		}
		raw, _ = made.LoadOrStore(mode, first)
	}
	path := filepath.Join(t.TempDir(), "disk.img")
	if err := os.WriteFile(path, raw.([]byte), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func partitioned(t *testing.T, mode firmware.Mode) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.img")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, 16<<20); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sgdisk", "-n1:2048:+2M", "-t1:ef00", "-u1:"+espID, "-n2:0:+8M", "-u2:"+rootID, path)
	if mode == "bios" {
		cmd = exec.Command("sfdisk", "--quiet", path)
		cmd.Stdin = strings.NewReader("label: dos\n2048,4096,c,*\n6144,16384,83\n")
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if mode == "bios" {
		poke(t, path, 0, "ANCHOR")
		poke(t, path, 2048*512+90, "STAY")
	}
	return path
}

func poke(t *testing.T, path string, at int64, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt([]byte(text), at); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

// A scene is a sound machine, to be spoilt before it is looked at.
type scene struct {
	path    string
	volumes map[int]fs.FS
	ground  boot.Ground
	system  harbour
}

func (s *scene) file(number int, name, text string) {
	s.volumes[number].(fstest.MapFS)[name] = &fstest.MapFile{Data: []byte(text)}
}

func (s *scene) remove(number int, name string) { delete(s.volumes[number].(fstest.MapFS), name) }

func (s *scene) follow(t *testing.T) boot.Chain {
	t.Helper()
	image, err := block.OpenImage(s.path, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = image.Close() }()
	if s.ground.Table, err = layout.Read(image); err != nil {
		t.Fatal(err)
	}
	s.ground.Disk, s.ground.System = image, s.system
	s.ground.Volume = func(n int) fs.FS { return s.volumes[n] }
	return boot.Follow(s.ground)
}

func sound(t *testing.T, mode firmware.Mode) *scene {
	s := &scene{
		path:   disk(t, mode),
		system: harbour{code: true, rest: []boot.Link{{Kind: boot.LinkServices, What: "services", Saw: "all run"}}},
	}
	s.volumes = map[int]fs.FS{1: fstest.MapFS{}, 2: fstest.MapFS{}}
	s.file(1, loader, "the loader")
	s.file(1, menu, "cafe-0001 "+kernel)
	s.file(2, kernel, "the kernel")
	s.ground = boot.Ground{
		Mode: mode,
		Contents: map[int]layout.Content{
			1: {Kind: "fat32", UUID: "AA-BB"},
			2: {Kind: "ext4", UUID: "CAFE-0001", Label: "root"},
		},
		Known: func(path string) []byte { return map[string][]byte{kernel: []byte("the kernel")}[path] },
	}
	if mode == "uefi" {
		s.ground.Entries = []firmware.Entry{
			{ID: "0007", Title: "a medium that is gone", Absent: true},
			{ID: "0001", Title: "Anchor", Partition: strings.ToLower(espID), Path: loader},
		}
	}
	return s
}

// A torn volume has a file of which some bytes cannot be read.
type torn struct {
	fs.FS
	name string
	at   int64
}

type tornFile struct {
	fs.File
	io.ReaderAt
	at  int64
	pos int64
}

func (t torn) Open(name string) (fs.File, error) {
	f, err := t.FS.Open(name)
	if err != nil || name != t.name {
		return f, err
	}
	return &tornFile{File: f, ReaderAt: f.(io.ReaderAt), at: t.at}, nil
}

// ReadAt fails in the block that is torn.
func (f *tornFile) ReadAt(p []byte, off int64) (int, error) {
	if f.at >= off-4096 && f.at < off+int64(len(p)) {
		return 0, errors.New("input/output error")
	}
	return f.ReaderAt.ReadAt(p, off)
}

// Read fails when it comes there.
func (f *tornFile) Read(p []byte) (int, error) {
	n, err := f.ReadAt(p, f.pos)
	f.pos += int64(n)
	return n, err
}

func kinds(c boot.Chain) (list []boot.LinkKind) {
	for _, l := range c {
		list = append(list, l.Kind)
	}
	return list
}

func TestASoundChainIsFollowedToItsEnd(t *testing.T) {
	for mode, want := range map[firmware.Mode][]boot.LinkKind{
		"uefi": {
			boot.LinkTable, boot.LinkFirmware, boot.LinkLoader, boot.LinkConfig, boot.LinkVolume, boot.LinkKernel,
			boot.LinkServices,
		},
		"bios": {
			boot.LinkTable, boot.LinkCode, boot.LinkActive, boot.LinkSector, boot.LinkLoader, boot.LinkConfig,
			boot.LinkVolume, boot.LinkKernel, boot.LinkServices,
		},
	} {
		c := sound(t, mode).follow(t)
		if c.Broken() != nil || !slices.Equal(kinds(c), want) {
			t.Errorf("%s: %v, broken: %+v", mode, kinds(c), c.Broken())
		}
	}
}

// Each thing that is spoilt breaks one link; the chain ends there, and what lies
// before it is as in a sound one.
func TestTheFirstBrokenLinkIsNamed(t *testing.T) {
	for name, c := range map[string]struct {
		mode  firmware.Mode
		spoil func(t *testing.T, s *scene)
		kind  boot.LinkKind
		fault boot.Fault
	}{
		"an MBR, for UEFI": {"uefi", func(t *testing.T, s *scene) {
			s.path = disk(t, "bios")
		}, boot.LinkTable, "style-against-firmware"},
		"a GPT, for BIOS": {"bios", func(t *testing.T, s *scene) {
			s.path = disk(t, "uefi")
		}, boot.LinkTable, "style-against-firmware"},
		"primary table overwritten": {"uefi", func(t *testing.T, s *scene) {
			poke(t, s.path, 512, "nothing")
		}, boot.LinkTable, "table-damaged"},
		"the middle of a kernel cannot be read": {"uefi", func(_ *testing.T, s *scene) {
			s.ground.Known = nil
			s.file(2, kernel, strings.Repeat("the kernel ", 30_000))
			s.volumes[2] = torn{s.volumes[2], kernel, 180_000}
		}, boot.LinkKernel, "kernel-missing"},
		"no entry": {"uefi", func(_ *testing.T, s *scene) {
			s.ground.Entries = []firmware.Entry{}
		}, boot.LinkFirmware, "boot-entries-missing"},
		"entry of another disk": {"uefi", func(_ *testing.T, s *scene) {
			s.ground.Entries[1].Partition = "11111111-2222-3333-4444-555555555555"
		}, boot.LinkFirmware, "boot-entries-stale"},
		"a medium comes first": {"uefi", func(_ *testing.T, s *scene) {
			s.ground.Entries[0].Absent = false
		}, boot.LinkFirmware, "boot-order"},
		"entries not known, no ESP": {"uefi", func(t *testing.T, s *scene) {
			s.ground.Entries = nil
			if out, err := exec.Command("sgdisk", "-t1:8300", s.path).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
		}, boot.LinkFirmware, "esp-missing"},
		"boot volume unreadable": {"uefi", func(_ *testing.T, s *scene) {
			s.volumes[1] = nil
		}, boot.LinkLoader, "boot-volume-unreadable"},
		"loader gone": {"uefi", func(_ *testing.T, s *scene) {
			s.remove(1, loader)
		}, boot.LinkLoader, "loader-missing"},
		"loader altered": {"bios", func(_ *testing.T, s *scene) {
			s.file(1, loader, "the loadar")
		}, boot.LinkLoader, "loader-altered"},
		"menu gone": {"uefi", func(_ *testing.T, s *scene) {
			s.remove(1, menu)
		}, boot.LinkConfig, "boot-store-damaged"},
		"menu senseless": {"bios", func(_ *testing.T, s *scene) {
			s.file(1, menu, "?")
		}, boot.LinkConfig, "boot-store-damaged"},
		"menu of another volume": {"uefi", func(_ *testing.T, s *scene) {
			s.file(1, menu, "beef-0002 "+kernel)
		}, boot.LinkVolume, "boot-store-other-volume"},
		"kernel gone": {"uefi", func(_ *testing.T, s *scene) { s.remove(2, kernel) }, boot.LinkKernel, "kernel-missing"},
		"kernel altered": {"bios", func(_ *testing.T, s *scene) {
			s.file(2, kernel, "the kermel")
		}, boot.LinkKernel, "kernel-altered"},
		"a service stops": {"uefi", func(_ *testing.T, s *scene) {
			s.system.rest = []boot.Link{{Kind: boot.LinkPending, Fault: "pending-gone"}, {Kind: boot.LinkServices}}
		}, boot.LinkPending, "pending-gone"},
		"code overwritten": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 0, "XXXXXX")
		}, boot.LinkCode, "boot-code-damaged"},
		"boot sector overwritten": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 2048*512+90, "GONE")
		}, boot.LinkSector, "boot-sector-damaged"},
		"nothing active": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 446, "\x00")
		}, boot.LinkActive, "active-flag"},
		"two active": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 446+16, "\x80")
		}, boot.LinkActive, "active-flag"},
		"another than the loader's": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 446, "\x00")
			poke(t, s.path, 446+16, "\x80")
		}, boot.LinkActive, "active-flag"},
		"another, and the loader is gone": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 446, "\x00")
			poke(t, s.path, 446+16, "\x80")
			s.remove(1, loader)
		}, boot.LinkActive, "active-flag"},
		"another, and all is gone but the boot sector": {"bios", func(t *testing.T, s *scene) {
			poke(t, s.path, 446, "\x00")
			poke(t, s.path, 446+16, "\x80")
			s.remove(1, loader)
			s.remove(1, menu)
		}, boot.LinkActive, "active-flag"},
	} {
		s := sound(t, c.mode)
		whole := kinds(s.follow(t))
		c.spoil(t, s)
		got := s.follow(t)
		b := got.Broken()
		if b == nil || b.Kind != c.kind || b.Fault != c.fault {
			t.Errorf("%s: broken is %+v, want %s, %s", name, b, c.kind, c.fault)
			continue
		}
		for i, l := range got[:len(got)-1] {
			if l.Fault != "" || l.Kind != whole[i] {
				t.Errorf("%s: link %d is %+v, in a sound chain %s", name, i, l, whole[i])
			}
		}
	}
}

// What is not known breaks nothing: code that no store describes, entries that
// nobody could read, code of an earlier version.
func TestWhatIsNotKnownBreaksNothing(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, s *scene){
		"no code known":        func(_ *testing.T, s *scene) { s.system.code = false },
		"code of old":          func(t *testing.T, s *scene) { poke(t, s.path, 0, "ANCH-1") },
		"kernel not described": func(_ *testing.T, s *scene) { s.ground.Known = nil; s.file(2, kernel, "another") },
	} {
		s := sound(t, "bios")
		change(t, s)
		if b := s.follow(t).Broken(); b != nil {
			t.Errorf("%s: %+v", name, b)
		}
	}
	s := sound(t, "uefi")
	s.ground.Entries = nil
	if c := s.follow(t); c.Broken() != nil || !strings.Contains(c[1].Saw, "not known") {
		t.Errorf("%+v", c)
	}
}
