package volumes_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/layout"
	"diorthos/core/volumes"
)

// unpacked lays out a disk that LVM2's own tools have made (testdata/make.sh).
func unpacked(t testing.TB, name string) string {
	t.Helper()
	packed, err := os.ReadFile(filepath.Join("testdata", name+".img.zst"))
	if err != nil {
		t.Fatal(err)
	}
	d, err := zstd.NewReader(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	raw, err := d.DecodeAll(packed, nil)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), name+".img")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// opened opens a disk for writing, and finds its volumes.
func opened(t *testing.T, path string, keys *volumes.Keys) (*block.Image, *volumes.Set) {
	t.Helper()
	disk, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = disk.Close() })
	table, err := layout.Read(disk)
	if err != nil {
		t.Fatal(err)
	}
	return disk, volumes.Open(disk, table, keys)
}

func run(t *testing.T, stdin string, command ...string) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), command[0], command[1:]...)
	c.Stdin = strings.NewReader(stdin)
	var out, problem bytes.Buffer
	c.Stdout, c.Stderr = &out, &problem
	if err := c.Run(); err != nil {
		t.Fatalf("%v: %v: %s", command, err, problem.Bytes())
	}
	return out.String()
}

const said = "the ferry leaves at nine\n"

// filled makes a file system with one file in it, and writes it to a volume.
func filled(t *testing.T, v *volumes.Volume) {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "said"), []byte(said+strings.Repeat("x", 300_000)), 0o644); err != nil {
		t.Fatal(err)
	}
	image := filepath.Join(t.TempDir(), "fs")
	f, err := os.Create(image)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(f.Truncate(v.Size), f.Close()); err != nil {
		t.Fatal(err)
	}
	run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", dir, image)
	raw, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	dev := v.Device()
	if dev == nil {
		t.Fatalf("%s cannot be written: %s", v.Name, v.Problem)
	}
	for at := 0; at < len(raw); at += 100_000 { // neither sectors nor stripes are whole
		if _, err := dev.WriteAt(raw[at:min(at+100_000, len(raw))], int64(at)); err != nil {
			t.Fatal(err)
		}
	}
	if err := dev.Sync(); err != nil {
		t.Fatal(err)
	}
}

// holdsSaid reads the file through a volume.
func holdsSaid(t *testing.T, v *volumes.Volume) {
	t.Helper()
	if v == nil || v.Dev == nil {
		t.Fatal("the volume is not there")
	}
	files, err := ext.Open(v.Dev)
	if err != nil {
		t.Fatalf("%s: %v", v.Name, err)
	}
	text, err := fs.ReadFile(files, "said")
	if err != nil || !strings.HasPrefix(string(text), said) || len(text) != len(said)+300_000 {
		t.Errorf("%s: read %d bytes, %v", v.Name, len(text), err)
	}
}

// What is written to a logical volume is what GRUB's own reader finds in it, and lies where
// LVM2's tools say: also in two stretches, striped, and twice.
func TestLogicalVolumesAreWhereLVM2AndGRUBFindThem(t *testing.T) {
	for _, c := range []struct{ image, name, grub string }{
		{"linear", "/dev/mapper/quay--vg-root", "(lvm/quay--vg-root)"},
		{"two", "/dev/dock/wide", "(lvm/dock-wide)"},
		{"two", "/dev/mapper/dock-pair", "(lvm/dock-pair)"},
	} {
		path := unpacked(t, c.image)
		_, set := opened(t, path, nil)
		v := set.Named(c.name)
		if v == nil {
			t.Fatalf("%s is not found", c.name)
		}
		filled(t, v)
		if got := run(t, "", "grub-fstest", path, "cat", c.grub+"/said"); !strings.HasPrefix(got, said) {
			t.Errorf("%s: GRUB reads %.40q", c.name, got)
		}
		_, set = opened(t, path, nil)
		holdsSaid(t, set.Named(c.name))
	}
}

// A volume with all its copies at hand is written to each; with one of them gone it is read, and
// not written, and what needs both is not there at all.
func TestAMissingPhysicalVolumeIsSaid(t *testing.T) {
	path := unpacked(t, "two")
	disk, set := opened(t, path, nil)
	filled(t, set.Named("/dev/dock/pair"))
	second := set.Numbered(2)
	if _, err := disk.WriteAt(make([]byte, 2048), second.Partition.Off); err != nil {
		t.Fatal(err)
	}
	_, set = opened(t, path, nil)
	pair, wide := set.Named("/dev/dock/pair"), set.Named("/dev/dock/wide")
	holdsSaid(t, pair)
	if pair.Device() != nil {
		t.Error("one of two copies would be written")
	}
	if wide.Dev != nil || !strings.Contains(wide.Problem, "not on this disk") {
		t.Errorf("half a striped volume: %q", wide.Problem)
	}
	if got := set.Partitions(pair.Number); len(got) != 1 || got[0] != 1 {
		t.Errorf("pair lies in partitions %v", got)
	}
}

// Damaged metadata does not hide the volumes: an earlier text of the ring is taken, and said.
func TestDamagedMetadataIsReadFromAnEarlierCopy(t *testing.T) {
	for what, at := range map[string]int64{"header": 4096 + 8, "current text": -1} {
		path := unpacked(t, "linear")
		disk, set := opened(t, path, nil)
		sound, _ := opened(t, unpacked(t, "linear"), nil)
		filled(t, set.Named("/dev/quay-vg/root"))
		if at < 0 { // somewhere in the text that the header names
			head := make([]byte, 64)
			if _, err := disk.ReadAt(head, 4096); err != nil {
				t.Fatal(err)
			}
			at = 4096 + int64(binary.LittleEndian.Uint64(head[40:])) + 40
		}
		if _, err := disk.WriteAt([]byte{0xff, 0x7b}, at); err != nil {
			t.Fatal(err)
		}
		_, set = opened(t, path, nil)
		root := set.Named("/dev/quay-vg/root")
		if root == nil || !strings.Contains(root.Problem, "damaged") || root.Device() != nil {
			t.Fatalf("%s damaged: %+v", what, root)
		}
		if what == "header" { // the newest text is whole
			holdsSaid(t, root)
			was, now := make([]byte, 512), make([]byte, 512)
			if _, err := sound.ReadAt(was, 4096); err != nil {
				t.Fatal(err)
			}
			mends, err := set.MendGroups()
			for v, writes := range mends {
				err = errors.Join(err, v.Put(writes))
			}
			if _, failed := disk.ReadAt(now, 4096); failed != nil || err != nil || !bytes.Equal(was, now) {
				t.Errorf("the header is not what LVM2 had written: %v, %v", err, failed)
			}
		} else if root.Size >= 24<<20 { // the text before knows the volume as it was before it grew
			t.Errorf("the damaged text was taken: %d bytes", root.Size)
		}
	}
}

// An encrypted volume that another program has made and filled is read with its passphrase; the
// wrong one, and none, are told apart.
func TestLUKS1IsOpenedAsQEMUWroteIt(t *testing.T) {
	dir := t.TempDir()
	plain, disk := filepath.Join(dir, "plain"), filepath.Join(dir, "disk")
	tree := t.TempDir()
	if err := os.WriteFile(filepath.Join(tree, "said"), []byte(said+strings.Repeat("x", 300_000)), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", tree, plain, "16M")
	// It measures how fast this computer is first, and gives up where that is busy: then again.
	run(t, "", "sh", "-c", `for n in 1 2 3 4 5 6 7 8; do qemu-img convert -f raw \
		--object secret,id=s,data=harbour -O luks -o key-secret=s,iter-time=10 "$0" "$1" && exit; done; exit 1`,
		plain, disk)
	for secret, want := range map[string]error{"harbour": nil, "harbor": volumes.ErrWrongKey, "": volumes.ErrNoKey} {
		keys := &volumes.Keys{Ask: func(string) ([]byte, error) { return []byte(secret), nil }}
		_, set := opened(t, disk, keys)
		inner := set.Inner()
		if want != nil {
			if len(inner) > 0 || !strings.Contains(set.All()[0].Problem, want.Error()) {
				t.Errorf("%q: %q", secret, set.All()[0].Problem)
			}
			continue
		}
		if len(inner) != 1 {
			t.Fatalf("%q: %q", secret, set.All()[0].Problem)
		}
		holdsSaid(t, inner[0])
		filled(t, inner[0])
	}
	if got := run(t, "harbour\n", "grub-fstest", "-C", disk, "cat", "(crypto0)/said"); !strings.Contains(got, said) {
		t.Errorf("GRUB reads %.40q", got)
	}
}

// What is written to a volume of the second version is what GRUB reads, also by the second header
// when the first is damaged; the key that Argon2 guards is the one that cryptsetup tells.
func TestLUKS2IsOpenedAsCryptsetupMadeIt(t *testing.T) {
	dir := t.TempDir()
	key := filepath.Join(dir, "key")
	if err := os.WriteFile(key, []byte("harbour"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, how := range [][]string{
		{"--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000"},
		{"--pbkdf", "argon2id", "--pbkdf-force-iterations", "4", "--pbkdf-memory", "32768", "--sector-size", "4096"},
	} {
		disk := filepath.Join(dir, how[1])
		f, err := os.Create(disk)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(f.Truncate(40<<20), f.Close()); err != nil {
			t.Fatal(err)
		}
		run(
			t,
			"",
			append([]string{"cryptsetup", "luksFormat", "--batch-mode", "--type", "luks2", "--key-file", key, disk}, how...)...)
		keys := &volumes.Keys{}
		if err := keys.AddFile(key); err != nil {
			t.Fatal(err)
		}
		image, set := opened(t, disk, keys)
		if len(set.Inner()) != 1 {
			t.Fatalf("%v: %q", how, set.All()[0].Problem)
		}
		filled(t, set.Inner()[0])
		if how[1] == "pbkdf2" { // GRUB knows no other
			if got := run(t, "harbour\n", "grub-fstest", "-C", disk, "cat", "(crypto0)/said"); !strings.Contains(got, said) {
				t.Errorf("GRUB reads %.40q", got)
			}
		}
		if _, err := image.WriteAt([]byte("xx"), 5000); err != nil { // in the text of the first header
			t.Fatal(err)
		}
		_, set = opened(t, disk, &volumes.Keys{Secrets: [][]byte{[]byte("fog"), []byte("harbour")}})
		if len(set.Inner()) != 1 {
			t.Fatalf("%v, first header damaged: %q", how, set.All()[0].Problem)
		}
		holdsSaid(t, set.Inner()[0])
	}
}

// An array is read as GRUB reads it; mdadm is the witness that its superblocks are right.
func TestArraysArePutTogetherFromTheirMembers(t *testing.T) {
	for _, c := range []struct {
		name  string
		level int32
	}{{"twice", 1}, {"spread", 0}, {"behind", -1}} {
		path := filepath.Join(t.TempDir(), "md.img")
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(f.Truncate(66<<20), f.Close()); err != nil {
			t.Fatal(err)
		}
		run(t, "", "sgdisk", "-n", "1:2048:+32M", "-t", "1:fd00", "-n", "2:0:+32M", "-t", "2:fd00", path)
		disk, set := opened(t, path, nil)
		for i, p := range set.All() {
			if _, err := disk.WriteAt(superblock(c.name, c.level, i), p.Partition.Off+4096); err != nil {
				t.Fatal(err)
			}
			member := filepath.Join(t.TempDir(), "member")
			run(t, "", "dd", "if="+path, "of="+member, "bs=1M", "status=none", "skip="+[]string{"1", "33"}[i], "count=32")
			if said := run(t, "", "mdadm", "--examine", member); !strings.Contains(said, "- correct") ||
				!strings.Contains(said, "Device Role : Active device "+[]string{"0", "1"}[i]) {
				t.Fatalf("mdadm says of member %d:\n%s", i, said)
			}
		}
		_, set = opened(t, path, nil)
		v := set.Named("/dev/md/" + c.name)
		if v == nil || v.Problem != "" {
			t.Fatalf("%s: %+v", c.name, v)
		}
		filled(t, v)
		if c.level >= 0 { // GRUB knows no other
			if got := run(t, "", "grub-fstest", path, "cat", "(md/"+c.name+")/said"); !strings.HasPrefix(got, said) {
				t.Errorf("%s: GRUB reads %.40q", c.name, got)
			}
		}
		if _, err := disk.WriteAt(make([]byte, 4096), set.Numbered(2).Partition.Off+4096); err != nil {
			t.Fatal(err)
		}
		_, set = opened(t, path, nil)
		v = set.Named("/dev/md/" + c.name)
		if c.level == 1 {
			holdsSaid(t, v)
			if v.Device() != nil {
				t.Error("one of two members would be written")
			}
		} else if v.Dev != nil || v.Problem == "" {
			t.Errorf("%s without its second member: %q", c.name, v.Problem)
		}
	}
}

// superblock is that of one of two members, version 1.2 (md_p.h), 2 MiB into which the data begin.
func superblock(name string, level int32, role int) []byte {
	b := make([]byte, 4096)
	le := binary.LittleEndian
	le.PutUint32(b, 0xa92b4efc)
	le.PutUint32(b[4:], 1)
	copy(b[16:], "\x11\x22\x33\x44\x55\x66\x77\x88\x99\xaa\xbb\xcc\xdd\xee\xff\x00")
	copy(b[32:], "quay-4:"+name)
	le.PutUint32(b[72:], uint32(level))
	const data, sectors = 2048, 32<<11 - 4096
	size := uint64(sectors)
	if level != 1 {
		size = 0
	}
	le.PutUint64(b[80:], size)
	le.PutUint32(b[88:], 128) // sectors of a chunk
	le.PutUint32(b[92:], 2)
	le.PutUint64(b[128:], data)
	le.PutUint64(b[136:], sectors)
	le.PutUint64(b[144:], 8)
	le.PutUint32(b[160:], uint32(role))
	b[168] = byte(role + 1)
	le.PutUint64(b[200:], 17)
	le.PutUint64(b[208:], ^uint64(0))
	le.PutUint32(b[220:], 2)
	le.PutUint16(b[256:], 0)
	le.PutUint16(b[258:], 1)
	var sum uint64
	for i := 0; i < 260; i += 4 {
		sum += uint64(le.Uint32(b[i:]))
	}
	le.PutUint32(b[216:], uint32(sum)+uint32(sum>>32))
	return b
}

// memory is a disk in memory.
type memory struct{ *bytes.Reader }

func (memory) SectorSize() int { return 512 }

// Whatever stands where labels, superblocks and headers ought to stand: it is put together, or refused.
func FuzzOpen(f *testing.F) {
	for _, name := range []string{"linear", "two"} {
		raw, err := os.ReadFile(unpacked(f, name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(raw[:40<<10])
	}
	b := make([]byte, 12<<10)
	copy(b[4096:], superblock("fuzz", 1, 0))
	f.Add(b)
	f.Fuzz(func(t *testing.T, raw []byte) {
		disk := memory{bytes.NewReader(append(raw, make([]byte, 64<<10)...))}
		table, err := layout.Read(disk)
		if err != nil {
			return
		}
		for _, v := range volumes.Open(disk, table, &volumes.Keys{Secrets: [][]byte{[]byte("x")}}).All() {
			if v.Dev != nil {
				_, _ = v.Dev.ReadAt(make([]byte, 700), v.Size/2) // it may not be there
			}
		}
	})
}
