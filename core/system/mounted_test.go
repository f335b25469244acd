package system_test

import (
	"errors"
	"io/fs"
	"testing"
	"testing/fstest"

	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// blank is a disk of zeros.
type blank int64

func (b blank) Size() int64     { return int64(b) }
func (b blank) SectorSize() int { return 512 }
func (b blank) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	return len(p), nil
}

var _ block.Source = blank(0)

// mountedGround has a root on partition 1, /boot on 2, and /usr on 3, which cannot be read.
func mountedGround(t *testing.T) (system.Ground, map[string]string) {
	t.Helper()
	table := &layout.Table{Size: 64 << 20, SectorSize: 512}
	table.MBR.Signed = true
	for i := range 3 {
		e := layout.MBREntry{Index: i + 1, Type: 0x83, First: uint64(2048 * (i + 1)), Sectors: 2048}
		table.MBR.Entries = append(table.MBR.Entries, e)
	}
	root := fstest.MapFS{
		"etc/fstab": {Data: []byte("x")}, "vmlinuz": {Data: []byte("boot/vmlinuz-6"), Mode: fs.ModeSymlink},
		"boot/hidden": {Data: []byte("below the mount")}, "usr/bin/hidden": {Data: []byte("x")},
		"loop": {Data: []byte("boot/again"), Mode: fs.ModeSymlink},
	}
	boot := fstest.MapFS{
		"vmlinuz-6": {Data: []byte("a kernel")}, "back": {Data: []byte("../etc/fstab"), Mode: fs.ModeSymlink},
		"again": {Data: []byte("../loop"), Mode: fs.ModeSymlink},
	}
	g := system.Ground{
		Table: table, System: 1, Volumes: volumes.Open(blank(64<<20), table, nil),
		Volume: func(n int) fs.FS { return map[int]fs.FS{1: root, 2: boot}[n] },
	}
	for i, id := range []string{"", "ROOT", "BOOT", "USR"} {
		if v := g.Volumes.Numbered(i); v != nil {
			v.Content = layout.Content{Kind: "ext4", UUID: id}
		}
	}
	if len(g.Volumes.All()) != 3 {
		t.Fatalf("%d volumes", len(g.Volumes.All()))
	}
	return g, map[string]string{"UUID=ROOT": "/", "UUID=BOOT": "/boot", "UUID=USR": "/usr", "UUID=GONE": "/srv"}
}

// A system's files are those that it sees itself: what it mounts hides what lies below, links lead from
// volume to volume, and what lies on a volume that is not read is not called missing.
func TestFilesAreThoseThatTheSystemSees(t *testing.T) {
	g, mounts := mountedGround(t)
	files := g.Whole(g.Volume(1), mounts)
	for name, want := range map[string]string{
		"etc/fstab": "x", "boot/vmlinuz-6": "a kernel", "vmlinuz": "a kernel", "boot/back": "x",
	} {
		if got, err := fs.ReadFile(files, name); err != nil || string(got) != want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	for name, want := range map[string]error{
		"boot/hidden": fs.ErrNotExist, "usr/bin/hidden": system.ErrNotReadHere, "usr": system.ErrNotReadHere,
		"loop": nil, "../etc": fs.ErrInvalid, "srv/x": fs.ErrNotExist,
	} {
		_, err := fs.Stat(files, name)
		if err == nil || want != nil && !errors.Is(err, want) {
			t.Errorf("%s: %v, want %v", name, err, want)
		}
	}
	if list, err := fs.ReadDir(files, "boot"); err != nil || len(list) != 3 {
		t.Errorf("boot lists %v, %v", list, err)
	}
	if to, err := fs.ReadLink(files, "vmlinuz"); err != nil || to != "boot/vmlinuz-6" {
		t.Errorf("the link leads to %q, %v", to, err)
	}
	if whole := g.Whole(g.Volume(1), map[string]string{"UUID=ROOT": "/"}); whole == files {
		t.Error("a system that mounts nothing is seen through mounts")
	}
}
