package readfs_test

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"testing/fstest"

	"golang.org/x/sys/unix"

	"diorthos/core/readfs"
)

// asked is what the kernel finds at a name when the folder is the root (openat2(2), RESOLVE_IN_ROOT).
func asked(t *testing.T, dir, name string) (string, error) {
	t.Helper()
	at, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = unix.Close(at) }()
	fd, err := unix.Openat2(at, name, &unix.OpenHow{Flags: unix.O_RDONLY, Resolve: unix.RESOLVE_IN_ROOT})
	if err != nil {
		return "", err
	}
	f := os.NewFile(uintptr(fd), name)
	defer func() { _ = f.Close() }()
	raw, err := io.ReadAll(f)
	return string(raw), err
}

// A folder is read as a system that starts from it reads it: the kernel says what lies behind each name.
func TestLinksLeadWhereTheyLeadWithin(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"usr/bin/mawk": "mawk", "etc/hosts": "hosts", "usr/share/doc/a": "a", "etc/alternatives/none": "",
	} {
		at := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	for name, to := range map[string]string{
		"usr/bin/awk": "/etc/alternatives/awk", "etc/alternatives/awk": "/usr/bin/mawk", "run": "/nowhere/run",
		"up": "../../../../etc/hosts", "doc": "/usr/share/doc", "usr/share/man": "/doc/../doc", "around": "/around2",
		"around2": "/around", "gone": "/nowhere/x", "abs": "/", "dots": "/usr/./bin/../bin//mawk/", "through": "/etc/hosts/x",
		"usr/far": "../../../doc/../bin/awk", "plain": "usr/bin/mawk",
	} {
		if err := os.Symlink(to, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = root.Close() }()
	w := readfs.Within(root)
	found := 0
	for _, name := range []string{
		"usr/bin/awk", "etc/alternatives/awk", "run", "up", "doc/a", "doc/b", "usr/share/man/a", "around", "gone", "gone/y",
		"abs/etc/hosts", "abs/abs/usr/bin/awk", "through", "usr/far", "plain", "etc/hosts", "etc/hosts/x", "none",
	} {
		want, refused := asked(t, dir, name)
		raw, err := fs.ReadFile(w, name)
		if string(raw) != want || (err == nil) != (refused == nil) || refused != nil && !errors.Is(err, refused) {
			t.Errorf("%s: %q, %v; the kernel: %q, %v", name, raw, err, want, refused)
		}
		if _, err := fs.Stat(w, name); (err == nil) != (refused == nil) {
			t.Errorf("stat %s: %v; the kernel: %v", name, err, refused)
		}
		if refused == nil {
			found++
		}
	}
	if found < 9 {
		t.Errorf("only %d names lead anywhere", found)
	}
	if to, err := fs.ReadLink(w, "abs/usr/bin/awk"); err != nil || to != "/etc/alternatives/awk" {
		t.Errorf("%q, %v", to, err)
	}
	if list, err := fs.ReadDir(w, "usr/share/man"); err != nil || len(list) != 1 || list[0].Name() != "a" {
		t.Errorf("%v, %v", list, err)
	}
	if _, err := fs.Stat(w, "../etc/hosts"); !errors.Is(err, fs.ErrInvalid) || errors.Is(err, syscall.ENOENT) {
		t.Errorf("out of it: %v", err)
	}

	plain, err := root.OpenRoot("usr/share")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = plain.Close() }()
	if err := errors.Join(plain.Remove("man"), fstest.TestFS(readfs.Within(plain), "doc/a")); err != nil {
		t.Error(err)
	}
}
