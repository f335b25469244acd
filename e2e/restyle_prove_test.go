//go:build prove

package e2e

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// manifest is the digest of every file below a folder.
func manifest(t *testing.T, folder string) map[string]string {
	t.Helper()
	sums := map[string]string{}
	root := os.DirFS(folder)
	err := fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		raw, err := fs.ReadFile(root, name)
		sums[name] = fmt.Sprintf("%x", sha256.Sum256(raw))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return sums
}

// mounted is the manifest of what the kernel itself finds on a partition.
func mounted(t *testing.T, disk string, offset, size int64) map[string]string {
	t.Helper()
	at := t.TempDir()
	witness(t, "mount", "-o", fmt.Sprintf("loop,ro,offset=%d,sizelimit=%d", offset, size), disk, at)
	defer witness(t, "umount", at)
	return manifest(t, at)
}

// places are where partx finds partitions, as start and length in sectors.
func places(t *testing.T, disk string) []string {
	t.Helper()
	out, err := exec.Command("partx", "--show", "--noheadings", "--output", "START,SECTORS", disk).CombinedOutput()
	if err != nil {
		t.Fatalf("partx: %v: %s", err, out)
	}
	var list []string
	for line := range strings.Lines(string(out)) {
		list = append(list, strings.Join(strings.Fields(line), "+"))
	}
	return list
}

// A disk with primary and logical partitions goes from MBR to GPT and back.
// Each partition is where it was, the kernel mounts it, and every file has the
// digest that it had.
func TestProveThatARestyledDiskKeepsEveryFile(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	dir := t.TempDir()
	disk := filepath.Join(dir, "old.img")
	if err := os.WriteFile(disk, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(disk, 1<<30); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sfdisk", "--quiet", disk)
	cmd.Stdin = strings.NewReader("label: dos\n2048,204800,c\n206848,409600,83,*\n616448,524288,5\n618496,200704,83\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sfdisk: %v: %s", err, out)
	}
	want := manifest(t, "../core")
	if len(want) < 100 {
		t.Fatalf("only %d files to keep", len(want))
	}
	const fat, root, logical = 2048 * 512, 206848 * 512, 618496 * 512
	witness(t, "mkfs.vfat", "-C", filepath.Join(dir, "fat.img"), "102400")
	witness(t, "mcopy", "-s", "-Q", "-i", filepath.Join(dir, "fat.img"), "../core", "::")
	witness(t, "dd", "if="+filepath.Join(dir, "fat.img"), "of="+disk, "bs=1M", "seek=1", "conv=notrunc")
	witness(t, "mke2fs", "-q", "-F", "-t", "ext4", "-d", "../core", "-E", fmt.Sprintf("offset=%d", root), disk, "200m")
	witness(t, "mke2fs", "-q", "-F", "-t", "ext4", "-d", "../core", "-E", fmt.Sprintf("offset=%d", logical), disk, "98m")

	same := func(when string) {
		t.Helper()
		for name, at := range map[string][2]int64{"root": {root, 409600 * 512}, "logical": {logical, 200704 * 512}} {
			if got := mounted(t, disk, at[0], at[1]); !maps.Equal(got, want) {
				t.Errorf("%s: %s: %d files of %d, or other digests", when, name, len(got), len(want))
			}
		}
		out := t.TempDir()
		witness(t, "mcopy", "-s", "-n", "-Q", "-i", fmt.Sprintf("%s@@%d", disk, fat), "::core", out)
		if got := manifest(t, filepath.Join(out, "core")); !maps.Equal(got, want) {
			t.Errorf("%s: FAT: %d files of %d, or other digests", when, len(got), len(want))
		}
	}
	sees := func(when string) {
		t.Helper()
		got := places(t, disk)
		for _, p := range []string{"2048+204800", "206848+409600", "618496+200704"} {
			if !slices.Contains(got, p) {
				t.Errorf("%s: partx sees %v, want %s", when, got, p)
			}
		}
	}
	same("before")
	sees("before")
	wants(t, s.must(0, "layout", "restyle", "--to", "gpt", "--firmware", "uefi", disk), "done and proven")
	witness(t, "sgdisk", "--verify", disk)
	same("as GPT")
	sees("as GPT")
	wants(t, s.must(0, "layout", "restyle", "--to", "mbr", disk), "done and proven")
	witness(t, "sfdisk", "--verify", disk)
	same("as MBR again")
	sees("as MBR again")
}
