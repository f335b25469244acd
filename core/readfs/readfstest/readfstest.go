// Package readfstest holds what a reader of a file system finds against what the kernel finds on the same volume.
//
//	volume, archive := readfstest.Make(t, "mkfs.xfs -q", "300M", "mkdir a; echo text >a/b")
//	readfstest.Compare(t, fsys, archive)
package readfstest

import (
	"archive/tar"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Make makes a volume by a command that is given its file, has the kernel mount it for a script that fills it, and
// packs what the kernel then shows into an archive. It takes root. options are those of mount.
func Make(t *testing.T, mkfs, size, script string, options ...string) (volume *os.File, archive string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "diorthos-volume-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	path, at := filepath.Join(dir, "volume"), filepath.Join(dir, "at")
	archive = filepath.Join(dir, "files.tar")
	mount := "mount -o " + strings.Join(append([]string{"loop"}, options...), ",") + " " + path + " " + at
	script = "set -e; truncate -s " + size + " " + path + "; " + mkfs + " " + path + " >&2; mkdir " + at + "; " +
		mount + "; cd " + at + "; " + script + "; cd /; umount " + at + "; " +
		mount + "; tar -C " + at + " --format=pax --numeric-owner -cf " + archive + " .; umount " + at
	// In mounts of its own: others that begin theirs from ours would keep it in use after it was given back here.
	if out, err := exec.Command("unshare", "--mount", "bash", "-c", script).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", script, err, out)
	}
	if volume, err = os.OpenFile(path, os.O_RDWR, 0); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = volume.Close() })
	return volume, archive
}

// Compare holds every name, kind, right, owner, time, link and byte of the archive against the files, which may have no
// other.
func Compare(t *testing.T, files fs.FS, archive string) {
	t.Helper()
	f, err := os.Open(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	if k, ok := files.(interface{ KeepFolders() }); ok {
		k.KeepFolders() // else it is slow
	}
	names := map[string]bool{}
	r := tar.NewReader(f)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Clean(h.Name)
		names[name] = true
		if err := same(files, name, h, r, names); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	found := 0
	err = fs.WalkDir(files, ".", func(name string, _ fs.DirEntry, err error) error {
		if found++; err == nil && !names[name] {
			t.Errorf("%s is not there", name)
		}
		return err
	})
	if err != nil || found != len(names) || found < 2 {
		t.Errorf("%d names in place of %d: %v", found, len(names), err)
	}
}

func same(files fs.FS, name string, h *tar.Header, body io.Reader, names map[string]bool) error {
	links, ok := files.(fs.ReadLinkFS)
	if !ok {
		return errors.New("links cannot be read")
	}
	info, err := links.Lstat(name)
	if err != nil {
		return err
	}
	want := h.FileInfo().Mode()
	if h.Typeflag == tar.TypeLink { // a second name of a file
		if !names[filepath.Clean(h.Linkname)] {
			return fmt.Errorf("a second name of %s, which is not there", h.Linkname)
		}
		want, body = info.Mode(), nil
	}
	owner, ok := info.Sys().(interface{ Owner() (user, group int) })
	if !ok {
		return errors.New("no owner is told")
	}
	user, group := owner.Owner()
	got := fmt.Sprint(info.Mode(), user, group, info.ModTime().Unix())
	if w := fmt.Sprint(want, h.Uid, h.Gid, h.ModTime.Unix()); got != w {
		return fmt.Errorf("%s in place of %s", got, w)
	}
	switch {
	case h.Typeflag == tar.TypeSymlink:
		if to, err := links.ReadLink(name); err != nil || to != h.Linkname {
			return fmt.Errorf("leads to %q in place of %q: %w", to, h.Linkname, err)
		}
	case want.IsRegular() && body != nil:
		return sameBytes(files, name, h.Size, body)
	}
	return nil
}

func sameBytes(files fs.FS, name string, size int64, body io.Reader) error {
	f, err := files.Open(name)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	got, want := sha256.New(), sha256.New()
	n, err := io.Copy(got, f)
	if err != nil {
		return err
	}
	if _, err := io.Copy(want, body); err != nil {
		return err
	}
	if n != size || string(got.Sum(nil)) != string(want.Sum(nil)) {
		return fmt.Errorf("other bytes, %d in place of %d", n, size)
	}
	return nil
}
