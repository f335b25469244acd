package debian

import (
	"crypto/md5" //nolint:gosec // the sums that packages carry
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
)

// startSystem is a folder with a service manager that is important, what that depends on, and a tide table that
// nothing needs.
func startSystem(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	var status strings.Builder
	for _, p := range []struct {
		name, fields string
		files        map[string]string
	}{
		{
			"manager", "Priority: important\nDepends: libwatch1 (>= 2.0), awaken | rouse\n",
			map[string]string{
				"usr/lib/systemd/manager": "manager", "usr/lib/systemd/system/up.target": "[Unit]\n",
				"usr/share/doc/manager/copyright": "free",
			},
		},
		{
			"libwatch1", "Priority: optional\nPre-Depends: libc6:any\n",
			map[string]string{"usr/lib/x86_64-linux-gnu/libwatch.so.1.4": "watch"},
		},
		{"rouse-devices", "Priority: optional\nProvides: rouse\n", map[string]string{"usr/bin/rouse": "rouse"}},
		{"tides", "Priority: optional\n", map[string]string{"usr/bin/tides": "tides"}},
	} {
		fmt.Fprintf(
			&status,
			"Package: %s\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n%s\n",
			p.name,
			p.fields,
		)
		var sums, list strings.Builder
		for file, text := range p.files {
			mustWrite(t, filepath.Join(dir, file), text, 0o755)
			fmt.Fprintf(&sums, "%x  %s\n", md5.Sum([]byte(text)), file) //nolint:gosec // as above
			fmt.Fprintf(&list, "/%s\n", file)
		}
		if p.name == "libwatch1" {
			list.WriteString("/usr/lib/x86_64-linux-gnu/libwatch.so.1\n")
		}
		mustWrite(t, filepath.Join(dir, infoFolder, p.name+".md5sums"), sums.String(), 0o644)
		mustWrite(t, filepath.Join(dir, infoFolder, p.name+".list"), list.String(), 0o644)
	}
	mustWrite(t, filepath.Join(dir, statusFile), status.String(), 0o644)
	if err := os.Symlink("libwatch.so.1.4", filepath.Join(dir, "usr/lib/x86_64-linux-gnu/libwatch.so.1")); err != nil {
		t.Fatal(err)
	}
	return dir
}

func mustWrite(t *testing.T, name, text string, mode fs.FileMode) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
}

// What the start runs is held against its checksums, whatever package it comes with; what nothing needs for the start
// is told by whether it is there alone, and documents by nothing.
func TestWhatTheStartRunsIsHeldAgainstItsChecksums(t *testing.T) {
	for name, c := range map[string]struct {
		harm func(dir string) error
		want string // the file, and what is said of it; empty for nothing
		runs bool   // the start runs it
	}{
		"whole": {func(string) error { return nil }, "", false},
		"a library": {func(d string) error {
			return os.WriteFile(d+"/usr/lib/x86_64-linux-gnu/libwatch.so.1.4", []byte("witch"), 0o644)
		}, "libwatch.so.1.4: its content is not what the package brought", true},
		"its link": {
			func(d string) error { return relink(d+"/usr/lib/x86_64-linux-gnu/libwatch.so.1", "libwatch.so.1.3") },
			"libwatch.so.1: it is a link that leads nowhere", true,
		},
		"a unit": {
			func(d string) error { return os.Truncate(d+"/usr/lib/systemd/system/up.target", 0) },
			"up.target: it is empty", true,
		},
		"a folder": {
			func(d string) error { return folderInPlace(d + "/usr/lib/systemd/manager") },
			"manager: it cannot be read", true,
		},
		"an other":   {func(d string) error { return os.Remove(d + "/usr/bin/rouse") }, "rouse: it is not there", true},
		"a document": {func(d string) error { return os.Remove(d + "/usr/share/doc/manager/copyright") }, "", false},
		"a mode": {
			func(d string) error { return os.Chmod(d+"/usr/bin/rouse", 0o644) },
			"rouse: nobody can run this program: its mode is -rw-r--r--", false,
		},
		"the manager's mode": {
			func(d string) error { return os.Chmod(d+"/usr/lib/systemd/manager", 0) },
			"manager: nobody can run this program: its mode is ----------", false,
		},
		"no program of the start, altered": {
			func(d string) error { return os.WriteFile(d+"/usr/bin/tides", []byte("ebb"), 0o755) },
			"", false,
		},
		"no program of the start, gone": {
			func(d string) error { return os.Remove(d + "/usr/bin/tides") },
			"tides: it is not there", false,
		},
	} {
		dir := startSystem(t)
		if err := c.harm(dir); err != nil {
			t.Fatal(err)
		}
		root := openRoot(t, dir)
		list, held := faultsOf(&inner{fsys: root.FS(), now: time.Now()}, root.FS())
		list = slices.DeleteFunc(list, func(f bag.StateFault) bool { // of a system that is no more than these files
			return !strings.HasPrefix(f.File, "usr/")
		})
		if held != 4 {
			t.Errorf("%s: %d files were held against their checksums, want 4", name, held)
		}
		var said []string
		for _, f := range list {
			text := f.Text
			for _, begin := range []string{"the start runs this file of the package ", ofPackage + " "} {
				if rest, ok := strings.CutPrefix(text, begin); ok {
					_, text, _ = strings.Cut(rest, ": ")
				}
			}
			said = append(said, filepath.Base(f.File)+": "+text)
			if f.Start != c.runs {
				t.Errorf("%s: %+v, want that the start runs it: %t", name, f, c.runs)
			}
		}
		if c.want == "" && len(said) > 0 || c.want != "" && (len(said) != 1 || !strings.HasPrefix(said[0], c.want)) {
			t.Errorf("%s: %q, want %q", name, said, c.want)
		}
	}
}

func relink(name, to string) error { return firstOf(os.Remove(name), os.Symlink(to, name)) }

// A program that nobody may run may be run again.
func TestAProgramMayBeRunAgain(t *testing.T) {
	dir := startSystem(t)
	if err := os.Chmod(dir+"/usr/bin/rouse", 0); err != nil {
		t.Fatal(err)
	}
	root := openRoot(t, dir)
	list := lookAtPrograms(nil, root.FS())
	if len(list) != 1 {
		t.Fatalf("%+v", list)
	}
	if _, err := list[0].mend(root); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(dir + "/usr/bin/rouse"); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("%v, %v", info, err)
	}
	if list := lookAtPrograms(nil, root.FS()); len(list) != 0 {
		t.Errorf("left: %+v", list)
	}
}
