package ext_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/ext"
)

// freshVolume is made by mke2fs, with a file on it.
func freshVolume(t *testing.T, size string, args ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	if err := os.MkdirAll(filepath.Join(tree, "home/ragna"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(
		filepath.Join(tree, "home/ragna/sailings.csv"), bytes.Repeat([]byte("berth 2\n"), 4000), 0o644,
	); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "v")
	if out, err := exec.Command("mke2fs", append(append([]string{
		"-q", "-F", "-d", tree,
	}, args...), path, size)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// The first superblock and the descriptors are gone; a backup brings them
// back, the file is as it was, and e2fsck has nothing to say.
func TestTheFirstSuperblockComesBackFromABackup(t *testing.T) {
	for _, args := range [][]string{
		{"-t", "ext2", "-b", "1024"},
		{"-t", "ext3", "-b", "2048"},
		{"-t", "ext4", "-b", "1024", "-O", "64bit,metadata_csum"},
		{"-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^64bit"},
		{"-t", "ext4", "-b", "1024", "-O", "metadata_csum_seed"},
		{"-t", "ext4", "-O", "orphan_file,metadata_csum_seed"},
		{"-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"},
	} {
		raw := freshVolume(t, "70m", args...)
		want, err := ext.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		text, err := fs.ReadFile(want, "home/ragna/sailings.csv")
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		clear(raw[:3<<10]) // superblock and descriptors
		if _, err := ext.Open(bytes.NewReader(raw)); err == nil {
			t.Fatalf("%v: read without a superblock", args)
		}
		b, err := ext.FindBackup(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		writes, err := b.Restore(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range writes {
			copy(raw[w.Off:], w.Data)
		}
		after, err := ext.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		if got, err := fs.ReadFile(after, "home/ragna/sailings.csv"); err != nil || !bytes.Equal(got, text) {
			t.Errorf("%v: %v", args, err)
		}
		checkedByE2fsck(t, raw)
	}
	if _, err := ext.FindBackup(bytes.NewReader(make([]byte, 9<<20)), 9<<20); !errors.Is(err, ext.ErrNoBackup) {
		t.Errorf("zeros: %v", err)
	}
}

// checkedByE2fsck allows for the free counts that a backup does not know: -p
// mends them, and gives up on anything graver.
func checkedByE2fsck(t *testing.T, raw []byte) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "v")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("e2fsck", "-p", path).CombinedOutput(); err != nil {
		var exit *exec.ExitError
		if !errors.As(err, &exit) || exit.ExitCode() != 1 {
			t.Errorf("e2fsck: %v: %s", err, out)
		}
	}
}

// A backup superblock that claims more groups than there is room for is none.
func TestABackupThatClaimsTooMuchIsNone(t *testing.T) {
	raw := freshVolume(t, "70m", "-t", "ext2", "-b", "1024")
	const at = 8193 << 10
	binary.LittleEndian.PutUint32(raw[at+0x04:], 1<<31) // blocks
	binary.LittleEndian.PutUint32(raw[at+0x20:], 1)     // in a group
	for _, group := range []int{3, 5, 7} {
		clear(raw[(group*8192+1)<<10:][:1024])
	}
	clear(raw[:3<<10])
	if b, err := ext.FindBackup(bytes.NewReader(raw), int64(len(raw))); !errors.Is(err, ext.ErrNoBackup) {
		t.Errorf("%+v, %v", b, err)
	}
}

// With meta block groups each set of descriptors stands with its own groups.
// The first set goes with the superblock, the second is damaged by itself, the
// third stays as it is.
func TestDescriptorsThatStandWithTheirGroupsComeBack(t *testing.T) {
	raw := freshVolume(t, "300m", "-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode")
	const second, third = (1 + 16*8192) << 10, (1 + 32*8192) << 10
	kept := bytes.Clone(raw[second : second+1024])
	clear(raw[:3<<10])
	clear(raw[second : second+64])
	b, err := ext.FindBackup(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		t.Fatal(err)
	}
	writes, err := b.Restore(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range writes {
		if w.Off == third {
			t.Errorf("%s are sound, and would be written", w.What)
		}
		copy(raw[w.Off:], w.Data)
	}
	if !bytes.Equal(raw[second:second+1024], kept) {
		t.Error("the second set did not come back")
	}
	v, err := ext.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := fs.ReadFile(v, "home/ragna/sailings.csv"); err != nil || len(got) != 32000 {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	checkedByE2fsck(t, raw)
}

func TestAlteredStructuresAreNoticed(t *testing.T) {
	raw := freshVolume(t, "70m", "-t", "ext4", "-b", "1024", "-O", "metadata_csum")
	spoilt := bytes.Clone(raw)
	spoilt[1024+0x78] ^= 1 // a letter of the label
	if _, err := ext.Open(bytes.NewReader(spoilt)); err == nil || !strings.Contains(err.Error(), "checksum") {
		t.Errorf("superblock: %v", err)
	}
	v, err := ext.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	info, err := fs.Stat(v, "home/ragna/sailings.csv")
	if err != nil {
		t.Fatal(err)
	}
	size := []byte{byte(info.Size()), byte(info.Size() >> 8), byte(info.Size() >> 16), 0}
	found := 0
	for at := 0; at+256 <= 4<<20; at += 128 { // the inode that has that size
		if bytes.Equal(raw[at+4:at+8], size) && raw[at+1]&0xf0 == 0x80 {
			spoilt := bytes.Clone(raw)
			spoilt[at+4]++
			v, err := ext.Open(bytes.NewReader(spoilt))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := fs.ReadFile(v, "home/ragna/sailings.csv"); err != nil && strings.Contains(fmt.Sprint(err), "checksum") {
				found++
			}
		}
	}
	if found != 1 {
		t.Errorf("the altered inode was noticed %d times", found)
	}
}

// TestAlteredFoldersAndExtentsAreNoticed alters, one at a time, a name in a
// folder and the tree of a file in many pieces; e2fsck has to mind each too.
func TestAlteredFoldersAndExtentsAreNoticed(t *testing.T) {
	raw := freshVolume(t, "70m", "-t", "ext4", "-b", "1024", "-O", "metadata_csum")
	v, err := ext.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := fs.ReadDir(v, "home/ragna"); err != nil {
		t.Fatal(err)
	}
	spoilt := bytes.Clone(raw)
	at := bytes.Index(spoilt, []byte("sailings.csv"))
	spoilt[at] ^= 1
	if v, err = ext.Open(bytes.NewReader(spoilt)); err != nil {
		t.Fatal(err)
	}
	if _, err := fs.ReadDir(v, "home/ragna"); err == nil || !strings.Contains(err.Error(), "checksum") {
		t.Errorf("a name was altered: %v", err)
	}
}

// patched is a volume with other bytes at one place.
type patched struct {
	*bytes.Reader
	at   int64
	over []byte
}

func (p *patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Reader.ReadAt(b, off)
	for i := range b[:n] {
		if k := off + int64(i) - p.at; k >= 0 && k < int64(len(p.over)) {
			b[i] = p.over[k]
		}
	}
	return n, err
}

// Whatever a backup superblock says, looking for it and planning from it ends,
// and plans nothing beyond the volume.
func FuzzFindBackup(f *testing.F) {
	path := filepath.Join(f.TempDir(), "v")
	if out, err := exec.Command(
		"mke2fs", "-q", "-F", "-t", "ext2", "-b", "1024", path, "9m",
	).CombinedOutput(); err != nil {
		f.Fatalf("%v: %s", err, out)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	const at = 8193 << 10
	clear(raw[:3<<10])
	f.Add(uint16(0x04), []byte{0, 0, 0, 0x80})
	f.Add(uint16(0x60), []byte{0x10})
	f.Add(uint16(0x14), []byte{0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0})
	f.Fuzz(func(t *testing.T, off uint16, over []byte) {
		v := &patched{bytes.NewReader(raw), at + int64(off%1024), over[:min(len(over), 1024)]}
		b, err := ext.FindBackup(v, int64(len(raw)))
		if err != nil {
			return
		}
		writes, err := b.Restore(v)
		if err != nil {
			return
		}
		for _, w := range writes {
			if w.Off < 0 || w.Off+int64(len(w.Data)) > int64(len(raw)) {
				t.Errorf("%s at byte %d, %d bytes: outside the volume", w.What, w.Off, len(w.Data))
			}
		}
	})
}

// usedVolume is a volume that the kernel has written to since it was made: its backups are older than all that
// changes.
func usedVolume(t *testing.T, size string, args ...string) []byte {
	t.Helper()
	dir, err := os.MkdirTemp("", "diorthos-ext-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	path, at := filepath.Join(dir, "v"), filepath.Join(dir, "at")
	script := "set -e; mke2fs -q -F " + strings.Join(args, " ") + " " + path + " " + size + "; mkdir " + at +
		"; mount -o loop " + path + " " + at + "; cd " + at + "; for d in $(seq 40); do mkdir -p fleet/$d/logs; " +
		"for f in $(seq 20); do head -c $((f * 900)) /dev/zero >fleet/$d/$f; done; done; " +
		"head -c 9000000 /dev/urandom >chart; rm -r fleet/1*; cd /; umount " + at
	// In mounts of its own: others that begin theirs from ours would keep it in use after it was given back here.
	if out, err := exec.Command("unshare", "--mount", "sh", "-c", script).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", script, err, out)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// Of a volume in use a superblock or some descriptors are lost. What is sound stays, what is lost is counted anew, and
// a whole check by e2fsck finds nothing wrong.
func TestWhatABackupDoesNotKnowIsCounted(t *testing.T) {
	for _, args := range [][]string{
		{"-t", "ext4", "-b", "1024"},
		{"-t", "ext4", "-b", "4096"},
		{"-t", "ext4", "-b", "1024", "-O", "^metadata_csum,uninit_bg"},
		{"-t", "ext4", "-O", "orphan_file,metadata_csum_seed"},
		{"-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"},
		{"-t", "ext3", "-b", "1024"},
		{"-t", "ext2", "-b", "2048"},
	} {
		raw := usedVolume(t, "200m", args...)
		want, err := ext.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		if faults, err := want.Check(5, true); len(faults) > 0 || err != nil {
			t.Errorf("%v: a sound volume: %q, %v", args, faults, err)
		}
		block := 1024 << binary.LittleEndian.Uint32(raw[1024+0x18:])
		descs := (1 + int(binary.LittleEndian.Uint32(raw[1024+0x14:]))) * block
		for what, harm := range map[string]func([]byte){
			"superblock":                      func(b []byte) { clear(b[1024:2048]) },
			"superblock and descriptors":      func(b []byte) { clear(b[1024:2048]); clear(b[descs : descs+block]) },
			"superblock and one descriptor":   func(b []byte) { clear(b[1024:2048]); clear(b[descs+64 : descs+128]) },
			"superblock and a wrong checksum": func(b []byte) { clear(b[1024:2048]); b[descs+12] ^= 0x55 },
		} {
			broken := bytes.Clone(raw)
			harm(broken)
			b, err := ext.FindBackup(bytes.NewReader(broken), int64(len(broken)))
			if err != nil {
				t.Fatalf("%v, %s: %v", args, what, err)
			}
			writes, err := b.Restore(bytes.NewReader(broken))
			if err != nil {
				t.Fatalf("%v, %s: %v", args, what, err)
			}
			if what == "superblock" && len(writes) != 1 {
				t.Errorf("%v: %d writes where only the superblock is lost", args, len(writes))
			}
			for _, w := range writes {
				copy(broken[w.Off:], w.Data)
			}
			after, err := ext.Open(bytes.NewReader(broken))
			if err != nil {
				t.Fatalf("%v, %s: %v", args, what, err)
			}
			hidden := what == "superblock and a wrong checksum" && args[1] != "ext4" // nothing tells a wrong count there
			if faults, err := after.Check(5, true); !hidden && (len(faults) > 0 || err != nil) {
				t.Errorf("%v, %s: %q, %v", args, what, faults, err)
			}
			if out, status := wholeCheck(t, broken); status != 0 && !hidden {
				t.Errorf("%v, %s: e2fsck says %s", args, what, out)
			}
		}
	}
}

// wholeCheck is what e2fsck says of a volume that it must not change.
func wholeCheck(t *testing.T, raw []byte) (string, int) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "v")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("e2fsck", "-fn", path)
	out, _ := c.CombinedOutput()
	return string(out), c.ProcessState.ExitCode()
}
