package tree_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/tree"
)

var errPower = errors.New("power lost")

// failing loses power at a given write.
type failing struct {
	*tree.Device
	left int
}

func (d *failing) WriteAt(p []byte, off int64) (int, error) {
	if d.left == 0 {
		return 0, errPower
	}
	d.left--
	return d.Device.WriteAt(p, off)
}

// grown makes a folder with files of every kind.
func grown(t *testing.T) string {
	t.Helper()
	top := t.TempDir()
	when := time.Date(2026, 11, 2, 3, 4, 5, 678, time.UTC)
	for _, folder := range []string{"etc/default", "usr/bin", "var/cache/old/deep", "var/lib/swap"} {
		if err := os.MkdirAll(filepath.Join(top, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{
		"etc/hosts": "127.0.0.1 localhost\n", "etc/default/winch": "PORT=7\n", "usr/bin/winch": "#!/bin/sh\n",
		"var/cache/old/deep/a": "a", "var/cache/old/b": strings.Repeat("b", 9<<20), "var/lib/swap/inner": "x",
		"etc/locked": "nobody changes this\n", "etc/mode": "same words\n",
	} {
		if err := os.WriteFile(filepath.Join(top, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	must := func(errs ...error) {
		t.Helper()
		if err := errors.Join(errs...); err != nil {
			t.Fatal(err)
		}
	}
	must(os.Chmod(filepath.Join(top, "usr/bin/winch"), 0o4755), os.Symlink("hosts", filepath.Join(top, "etc/names")),
		unix.Mkfifo(filepath.Join(top, "var/lib/pipe"), 0o600),
		unix.Setxattr(filepath.Join(top, "etc/hosts"), "user.origin", []byte("harbour"), 0))
	must(filepath.WalkDir(top, func(path string, _ fs.DirEntry, err error) error {
		ts := []unix.Timespec{unix.NsecToTimespec(when.UnixNano()), unix.NsecToTimespec(when.UnixNano())}
		return errors.Join(err, unix.UtimesNanoAt(unix.AT_FDCWD, path, ts, unix.AT_SYMLINK_NOFOLLOW))
	}))
	return top
}

// seen is everything below a folder, as a comparable text by path.
func seen(t *testing.T, top string) map[string]string {
	t.Helper()
	files, err := tree.OpenFiles(top)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = files.Close() }()
	m := map[string]string{}
	err = filepath.WalkDir(top, func(path string, _ fs.DirEntry, err error) error {
		name, _ := filepath.Rel(top, path)
		if err != nil || name == "." {
			return err
		}
		n, err := files.Node(name)
		m[name] = fmt.Sprintf("%o %d:%d %x %d %d %v %.40q %d", n.Mode, n.UID, n.GID, n.Marks, n.Time, n.Device, n.Attrs,
			n.Content, len(n.Content))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// wanted is a change of every sort: content, kind, owner, attributes, what comes and what goes.
func wanted(t *testing.T, top string) []tree.Change {
	t.Helper()
	files, err := tree.OpenFiles(top)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = files.Close() }()
	later := time.Date(2026, 11, 26, 6, 0, 0, 9, time.UTC).UnixNano()
	file := func(text string, mode uint32) tree.Node {
		return tree.Node{Mode: unix.S_IFREG | mode, Time: later, Content: []byte(text)}
	}
	folder := tree.Node{Mode: unix.S_IFDIR | 0o750, GID: 7, Time: later}
	mode, err := files.Node("etc/mode")
	if err != nil {
		t.Fatal(err)
	}
	mode.UID, mode.Mode = 65534, unix.S_IFREG|0o600
	hosts := file("10.0.0.1 harbour\n", 0o640)
	hosts.Attrs = []tree.Attr{{Name: "user.berth", Value: []byte("9")}}
	around, err := files.Node("etc")
	if err != nil {
		t.Fatal(err)
	}
	around.Time = later
	now := map[string]tree.Node{
		"etc/hosts": hosts, "etc": around, "etc/mode": mode, "etc/names": file("a file now\n", 0o644),
		"etc/default/winch": {}, "etc/default": {}, "usr/bin/winch": file(strings.Repeat("new", 40_000), 0o755),
		"var/cache/old/deep/a": {}, "var/cache/old/deep": {}, "var/cache/old/b": {}, "var/cache/old": file("", 0o644),
		"var/lib/pipe": folder, "var/lib/pipe/in": file("in a new folder\n", 0o400),
		"var/lib/fresh": folder, "var/lib/fresh/link": {Mode: unix.S_IFLNK | 0o777, Time: later, Content: []byte("/nowhere")},
		"var/lib/swap/inner": {}, "var/lib/swap": {Mode: unix.S_IFLNK | 0o777, Time: later, Content: []byte("fresh")},
	}
	var list []tree.Change
	for _, path := range slices.Sorted(maps.Keys(now)) {
		before, err := files.Node(path)
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, tree.Change{Path: path, Before: before, Now: now[path]})
	}
	return list
}

// applied makes the change with power for so many writes.
func applied(t *testing.T, top string, power int) (journal string, err error) {
	t.Helper()
	d, err := tree.Open(top, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = d.Close() }()
	places, writes, err := tree.Plan(wanted(t, top))
	if err != nil {
		t.Fatal(err)
	}
	d.Lay(places)
	journal = filepath.Join(t.TempDir(), "files.journal")
	j, err := block.CreateJournal(journal, block.Head{
		Action: "test", Target: block.Target{Path: top, Size: tree.Span, SectorSize: 512}, Files: places,
	})
	if err != nil {
		t.Fatal(err)
	}
	err = j.Apply(context.Background(), &failing{d, power}, writes)
	if e := j.Close(); e != nil {
		t.Fatal(e)
	}
	return journal, err
}

// by opens a journal again, as after a restart, and lets f work with it.
func by(t *testing.T, journal, top string, f func(*block.Journal, *tree.Device) error) error {
	t.Helper()
	j, err := block.OpenJournal(journal)
	if err != nil {
		t.Fatal(err)
	}
	d, err := tree.Open(top, false)
	if err != nil {
		t.Fatal(err)
	}
	d.Lay(j.Head().Files)
	return errors.Join(f(j, d), d.Close(), j.Close())
}

// Cut off at every single write, a change of files is taken back to the last bit, and completed to the last bit.
func TestEveryCutIsTakenBackOrCompleted(t *testing.T) {
	top := grown(t)
	before := seen(t, top)
	if _, err := applied(t, top, -1); err != nil {
		t.Fatal(err)
	}
	after := seen(t, top)
	if n, _, err := tree.Plan(wanted(t, top)); err != nil || len(n) < 17 {
		t.Fatalf("%d places: %v", len(n), err)
	}
	for power := 0; ; power++ {
		ended := false
		ways := []string{"undo", "resume"}
		if power%5 == 0 {
			ways = append(ways, "resume and undo")
		}
		for _, way := range ways {
			top := grown(t)
			journal, err := applied(t, top, power)
			if ended = err == nil; !ended && !errors.Is(err, errPower) {
				t.Fatal(err)
			}
			want := after
			err = by(t, journal, top, func(j *block.Journal, d *tree.Device) (err error) {
				if way != "undo" {
					err = j.Resume(context.Background(), d)
				}
				if way != "resume" && err == nil {
					err, want = j.Undo(context.Background(), d), before
				}
				return err
			})
			if err != nil {
				t.Fatalf("%s after %d writes: %v", way, power, err)
			}
			if have := seen(t, top); !maps.Equal(have, want) {
				for name := range want {
					if have[name] != want[name] {
						t.Errorf("%s: have %s\nwant %s", name, have[name], want[name])
					}
				}
				t.Fatalf("%s after %d writes: %d paths, want %d", way, power, len(have), len(want))
			}
		}
		if ended {
			t.Logf("cut off at each of %d writes", power)
			return
		}
	}
}

// What somebody changed since is not written over, and what came beside it does not matter.
func TestWhatWasChangedSinceIsKept(t *testing.T) {
	top := grown(t)
	journal, err := applied(t, top, -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(top, "etc/beside"), []byte("somebody's\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	undo := func(j *block.Journal, d *tree.Device) error { return j.Undo(context.Background(), d) }
	if err := os.WriteFile(filepath.Join(top, "etc/hosts"), []byte("10.0.0.2 mine\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := by(t, journal, top, undo); !errors.Is(err, block.ErrChangedSince) {
		t.Fatalf("undo over a file that was changed since: %v", err)
	}
	if raw, err := os.ReadFile(filepath.Join(top, "etc/hosts")); err != nil || string(raw) != "10.0.0.2 mine\n" {
		t.Fatalf("%q, %v", raw, err)
	}
}

// No link leads a change out of the folder, or to another place in it.
func TestNoLinkIsFollowed(t *testing.T) {
	top, outside := grown(t), t.TempDir()
	if err := os.Symlink(outside, filepath.Join(top, "etc/out")); err != nil {
		t.Fatal(err)
	}
	files, err := tree.OpenFiles(top)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = files.Close() }()
	for _, name := range []string{"etc/out/x", "../x", "/etc/x"} {
		if err := files.Put(name, tree.Node{Mode: unix.S_IFREG | 0o644, Content: []byte("x")}); err == nil {
			t.Errorf("%s was written", name)
		}
	}
	if list, err := os.ReadDir(outside); err != nil || len(list) != 0 {
		t.Fatalf("%v, %v", list, err)
	}
}
