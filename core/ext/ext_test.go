package ext_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/ext"
)

// tree makes a folder with what is awkward: many names, a large file with a
// hole, tiny files, deep links.
func tree(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(1, 2))
	big := make([]byte, 3<<20)
	for i := range big {
		big[i] = byte(r.Uint32())
	}
	files := map[string][]byte{
		"etc/os-release":  []byte("ID=debian\n"),
		"empty":           nil,
		"var/big":         big,
		"var/log/é ü.log": []byte("text"),
	}
	for i := range 600 {
		files[fmt.Sprintf("many/a-rather-long-name-number-%04d", i)] = []byte(fmt.Sprint(i))
	}
	for name, data := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	hole, err := os.Create(filepath.Join(dir, "hole"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = hole.WriteAt([]byte("end"), 5<<20)
	if err := errors.Join(err, hole.Close()); err != nil {
		t.Fatal(err)
	}
	for name, target := range map[string]string{
		"link":     "etc/os-release",
		"absolute": "/etc/os-release",
		"up":       "../../../etc/os-release",
		"loop":     "loop",
		"far":      strings.Repeat("./", 60) + "etc/os-release",
		"folder":   "var/log",
	} {
		if err := os.Symlink(target, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func volume(t *testing.T, dir string, options ...string) *os.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "volume")
	args := append([]string{"-q", "-F", "-d", dir}, options...)
	if out, err := exec.Command("mke2fs", append(args, path, "16m")...).CombinedOutput(); err != nil {
		t.Fatalf("mke2fs %v: %v: %s", args, err, out)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func TestReadsEveryFileOfWhatMke2fsMade(t *testing.T) {
	dir := tree(t)
	for _, options := range [][]string{
		{
			"-t", "ext4", "-b", "1024",
		}, {
			"-t", "ext4", "-b", "4096",
		}, {"-t", "ext4", "-O", "inline_data", "-I", "256"}, {"-t", "ext4", "-O", "^64bit,^extent"},
		{
			"-t", "ext3",
		}, {"-t", "ext2", "-b", "1024", "-I", "128"}, {"-t", "ext4", "-E", "hash_seed=00000000-0000-0000-0000-000000000001"},
		{
			"-t", "ext4", "-b", "1024", "-g", "256", "-O", "meta_bg,^resize_inode",
		}, {"-t", "ext4", "-b", "1024", "-g", "512", "-O", "meta_bg,^resize_inode,^64bit,sparse_super2"},
		{"-t", "ext2", "-b", "1024", "-g", "256", "-O", "meta_bg,^resize_inode,^sparse_super"},
		{"-t", "ext4", "-O", "orphan_file,metadata_csum_seed"}, // as Debian 13 makes them
	} {
		fsys, err := ext.Open(volume(t, dir, options...))
		if err != nil {
			t.Fatalf("%v: %v", options, err)
		}
		compare(t, fmt.Sprint(options), os.DirFS(dir), fsys)
		for _, link := range []string{"link", "absolute", "up", "far"} {
			if text, err := fs.ReadFile(fsys, link); err != nil || string(text) != "ID=debian\n" {
				t.Errorf("%v: %s: %q, %v", options, link, text, err)
			}
		}
		if _, err := fs.ReadFile(fsys, "loop"); err == nil {
			t.Errorf("%v: a link to itself was followed", options)
		}
		if text, err := fs.ReadFile(fsys, "folder/é ü.log"); err != nil || string(text) != "text" {
			t.Errorf("%v: through a linked folder: %q, %v", options, text, err)
		}
	}
}

func compare(t *testing.T, what string, want, got fs.FS) {
	t.Helper()
	n := 0
	err := fs.WalkDir(want, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		n++
		if a, b := digest(t, want, name), digest(t, got, name); a != b {
			t.Errorf("%s: %s differs", what, name)
		}
		return nil
	})
	if err != nil || n < 600 {
		t.Errorf("%s: compared %d files: %v", what, n, err)
	}
}

func digest(t *testing.T, fsys fs.FS, name string) string {
	t.Helper()
	f, err := fsys.Open(name)
	if err != nil {
		t.Error(err)
		return ""
	}
	defer func() { _ = f.Close() }()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		t.Errorf("%s: %v", name, err)
	}
	return fmt.Sprintf("%x", sum.Sum(nil))
}

func TestIsAnFS(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "a/b"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "a/b/c"), []byte("text"), 0o644); err != nil {
		t.Fatal(err)
	}
	fsys, err := ext.Open(volume(t, dir, "-t", "ext4"))
	if err != nil {
		t.Fatal(err)
	}
	if err := fstest.TestFS(fsys, "a/b/c", "lost+found"); err != nil {
		t.Error(err)
	}
}

func FuzzOpen(f *testing.F) {
	path := filepath.Join(f.TempDir(), "volume")
	if out, err := exec.Command("mke2fs", "-q", "-t", "ext4", "-b", "1024", path, "256k").CombinedOutput(); err != nil {
		f.Fatalf("mke2fs: %v: %s", err, out)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(0, []byte{})
	f.Add(1024+88, []byte{0xff})
	f.Fuzz(func(_ *testing.T, at int, over []byte) {
		damaged := bytes.Clone(raw)
		if at >= 0 && at < len(damaged) {
			copy(damaged[at:], over)
		}
		fsys, err := ext.Open(bytes.NewReader(damaged))
		if err != nil {
			return
		}
		_ = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || strings.Count(name, "/") > 8 {
				return fs.SkipDir
			}
			if d.Type().IsRegular() {
				if o, err := fsys.Open(name); err == nil {
					_, _ = io.CopyN(io.Discard, o, 1<<20)
				}
			}
			return nil
		})
	})
}

// A folder whose names are found by an index, made by e2fsck; and, where this may be done
// here, one that grew under a running kernel, whose first block still ends like one with
// names. A damaged index is not read.
func TestAFolderWithAnIndexIsRead(t *testing.T) {
	path := volume(t, tree(t), "-t", "ext4", "-O", "metadata_csum,dir_index").Name()
	if out, err := exec.Command("e2fsck", "-fyD", path).CombinedOutput(); err != nil &&
		!strings.Contains(string(out), "MODIFIED") {
		t.Fatalf("e2fsck: %v: %s", err, out)
	}
	names := func(raw []byte, folder string) (int, error) {
		v, err := ext.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		list, err := fs.ReadDir(v, folder)
		return len(list), err
	}
	if os.Geteuid() == 0 {
		grow(t, path)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := names(raw, "many"); err != nil || n != 600 {
		t.Errorf("%d names, %v; want 600", n, err)
	}
	if os.Geteuid() == 0 {
		if n, err := names(raw, "grown"); err != nil || n != 900 {
			t.Errorf("of a folder that grew: %d names, %v; want 900", n, err)
		}
	}
	out, err := exec.Command("debugfs", "-R", "bmap many 0", path).Output()
	if err != nil {
		t.Fatal(err)
	}
	at, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	if err != nil {
		t.Fatalf("debugfs: %q", out)
	}
	raw[at<<10<<binary.LittleEndian.Uint32(raw[1024+24:])+40] ^= 1
	if n, err := names(raw, "many"); err == nil {
		t.Errorf("a damaged index is read: %d names", n)
	}
}

// grow makes a folder large under the kernel.
func grow(t *testing.T, path string) {
	t.Helper()
	at := t.TempDir()
	if out, err := exec.Command("mount", "-o", "loop", path, at).CombinedOutput(); err != nil {
		t.Fatalf("mount: %v: %s", err, out)
	}
	err := os.Mkdir(filepath.Join(at, "grown"), 0o755)
	for i := 0; err == nil && i < 900; i++ {
		err = os.WriteFile(filepath.Join(at, "grown", fmt.Sprintf("a-name-of-some-length-%04d", i)), nil, 0o644)
	}
	if out, gone := exec.Command("umount", at).CombinedOutput(); gone != nil {
		t.Fatalf("umount: %v: %s", gone, out)
	}
	if err != nil {
		t.Fatal(err)
	}
}
