package inside

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/core/tree"
)

// marking is an adapter as far as a folder needs one.
type marking struct{ system.FolderAdapter }

func (marking) FolderMarks(fs.FS) []string { return []string{"host lerrick-kiosk-2"} }
func (marking) LockFiles() []string        { return []string{"var/lock-frontend", "var/none"} }
func (marking) MadeAnew() []string         { return []string{"var/cache.bin", "var/in-the-way.bin"} }

// folderSystem makes a system in a folder whose only program is ours.
func folderSystem(t *testing.T) string {
	t.Helper()
	root := t.TempDir()
	for _, folder := range []string{
		"bin", "dev", "proc", "sys", "run", "tmp", "etc/conf.d/deep", "var/moved", "home", "usr/sbin", "var/in-the-way.bin",
	} {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{
		"etc/keep": "as it was", "home/letter": "a user's", "etc/gone": "x", "etc/conf.d/deep/a": "a", "var/moved/in": "m",
		"var/lock-frontend": "",
	} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.CommandContext(t.Context(), "sh", "-c",
		"CGO_ENABLED=0 go build -o "+root+"/bin/tool ./testdata/tool").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return root
}

// contents is every file below a folder with its text, its mode and its time.
func contents(t *testing.T, root string) map[string]string {
	t.Helper()
	m := map[string]string{}
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		text := ""
		if info.Mode().IsRegular() {
			raw, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			text = string(raw)
		}
		m[strings.TrimPrefix(path, root)] = info.Mode().String() + info.ModTime().String() + text
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// A folder's system is changed on a draft: nothing reaches the folder before a journal has noted it, all
// of it arrives then, whatever was renamed, replaced or taken away, and undo brings every file back.
func TestAFolderIsChangedByItsDraft(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("drafts of folders are mounted, which takes root")
	}
	root := folderSystem(t)
	before := contents(t, root)
	f, err := OpenFolder(root, marking{}, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	draft, err := f.Draft()
	if err != nil {
		t.Fatal(err)
	}
	in, err := draft.Enter(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	files := in.Files()
	for _, err := range []error{
		files.WriteFile("etc/fresh", []byte("new"), 0o600), files.Remove("etc/gone"),
		files.WriteFile("etc/keep", []byte("other"), 0o644), files.RemoveAll("etc/conf.d"),
		files.Mkdir("etc/conf.d", 0o700), files.WriteFile("etc/conf.d/b", []byte("b"), 0o644),
		files.Rename("var/moved", "var/elsewhere"), files.WriteFile("tmp/of-the-moment", nil, 0o644),
		files.WriteFile("var/cache.bin", []byte("made anew"), 0o644), files.Remove("var/in-the-way.bin"),
		files.WriteFile("var/in-the-way.bin", []byte("a file again"), 0o644),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	out, err := in.Run(t.Context(), system.Command{Args: []string{"/bin/tool"}})
	if err != nil || out.Status != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	changed, err := in.Changed()
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]system.ChangeKind{}
	for _, c := range changed {
		kinds[c.Path] = c.How
	}
	for path, how := range map[string]system.ChangeKind{
		"etc/fresh": system.FileAdded, "etc/gone": system.FileRemoved, "etc/keep": system.FileChanged,
		"etc/conf.d/deep/a": system.FileRemoved, "etc/conf.d/b": system.FileAdded, "var/elsewhere/in": system.FileAdded,
		"var/moved/in": system.FileRemoved,
	} {
		if kinds[path] != how {
			t.Errorf("%s: %q, want %q", path, kinds[path], how)
		}
	}
	if kinds["tmp/of-the-moment"]+kinds["usr/sbin/policy-rc.d"]+kinds["var/cache.bin"] != "" {
		t.Errorf("what is of the moment is listed: %v", kinds)
	}
	if err := in.Leave(); err != nil {
		t.Fatal(err)
	}
	if now := contents(t, root); !reflect.DeepEqual(now, before) {
		t.Fatal("the folder was changed by the draft")
	}
	writes, places, err := draft.Writes()
	if err != nil {
		t.Fatal(err)
	}
	f.Lay(places)
	journal, err := block.CreateJournal(filepath.Join(t.TempDir(), "j"), block.Head{
		Target: block.Target{Size: tree.Span}, Files: places,
	})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = journal.Close() }()
	if err := journal.Apply(t.Context(), f, writes); err != nil {
		t.Fatal(err)
	}
	if err := draft.Close(); err != nil {
		t.Fatal(err)
	}
	now := contents(t, root)
	for name, text := range map[string]string{"/etc/fresh": "new", "/etc/keep": "other", "/var/elsewhere/in": "m"} {
		if !strings.HasSuffix(now[name], text) {
			t.Errorf("%s: %q", name, now[name])
		}
	}
	for _, name := range []string{
		"/etc/gone", "/etc/conf.d/deep", "/var/moved", "/tmp/of-the-moment", "/var/in-the-way.bin",
	} {
		if now[name] != "" {
			t.Errorf("%s is there: %q", name, now[name])
		}
	}
	if err := journal.Undo(context.Background(), f); err != nil {
		t.Fatal(err)
	}
	if now := contents(t, root); !reflect.DeepEqual(now, before) {
		for name := range before {
			if now[name] != before[name] {
				t.Errorf("%s: %q, was %q", name, now[name], before[name])
			}
		}
		t.Errorf("after the undo there are %d files, before there were %d", len(now), len(before))
	}
	if left, err := os.ReadFile("/proc/self/mountinfo"); err != nil || ofDrafts.Match(left) {
		t.Errorf("something is mounted still: %v", err)
	}
}

// A folder that its own tools change right now is left alone, and they wait for us.
func TestAFolderIsNotChangedByTwo(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("takes root")
	}
	root := folderSystem(t)
	other, err := os.OpenFile(filepath.Join(root, "var/lock-frontend"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	whole := unix.Flock_t{Type: unix.F_WRLCK}
	if err := unix.FcntlFlock(other.Fd(), unix.F_OFD_SETLK, &whole); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenFolder(root, marking{}, false); !errors.Is(err, ErrBusy) {
		t.Fatalf("a folder that is being changed: %v", err)
	}
	if err := other.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := OpenFolder(root, marking{}, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	if other, err = os.OpenFile(filepath.Join(root, "var/lock-frontend"), os.O_RDWR, 0); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Close() }()
	if err := unix.FcntlFlock(other.Fd(), unix.F_OFD_SETLK, &whole); err == nil {
		t.Error("its tools could begin meanwhile")
	}
	draft, err := f.Draft()
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = draft.Close() }()
	in, err := draft.Enter(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := in.Files().WriteFile("etc/keep", []byte("drafted"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := in.Leave(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, "etc/keep"), []byte("a person's, meanwhile"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, _, err := draft.Writes(); err == nil || !strings.Contains(err.Error(), "/etc/keep was changed") {
		t.Errorf("a file that was changed meanwhile would be written over: %v", err)
	}
}
