package debian

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// smallSystem lays out what dpkg and apt keep, with three packages that dpkg itself installed.
func smallSystem(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range neededFolders {
		if err := os.MkdirAll(filepath.Join(dir, f.name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(dir, f.name), f.mode); err != nil {
			t.Fatal(err)
		}
	}
	write := func(name, text string, mode os.FileMode) {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	write("etc/passwd", "root:x:0:0::/root:/bin/sh\n", 0o644)
	write("etc/shadow", "root:*:19000:0:99999:7:::\n", 0o640)
	write("etc/group", "root:x:0:\n", 0o644)
	write("etc/os-release", "ID=debian\nPRETTY_NAME=\"Debian\"\n", 0o644)
	write(statusFile, "", 0o644)
	note := "Package: skerrow-%s\nArchitecture: all\nAuto-Installed: 1\n\n"
	write(extendedStates, fmt.Sprintf(note+note, "deck", "tide"), 0o644) // as apt itself ends it
	write(dpkgFolder+"/available", "", 0o644)
	for _, name := range []string{"skerrow-chart", "skerrow-deck", "skerrow-tide"} {
		tree := t.TempDir()
		for file, text := range map[string]string{
			"DEBIAN/control": "Package: " + name + "\nVersion: 1.0\nArchitecture: all\nMaintainer: IT " +
				"<it@skerrow.example>\nDescription: " + name + "\n",
			"DEBIAN/postinst": "#!/bin/sh\nexit 0\n", "usr/bin/" + name: "#!/bin/sh\necho " + name + "\n",
		} {
			path := filepath.Join(tree, file)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		sums, err := exec.CommandContext(t.Context(), "sh", "-c", "cd "+tree+" && md5sum usr/bin/* > DEBIAN/md5sums").
			CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, sums)
		}
		deb := filepath.Join(dir, cacheFolder, name+"_1.0_all.deb")
		for _, args := range [][]string{
			{"dpkg-deb", "--root-owner-group", "--build", tree, deb},
			{"dpkg", "--root=" + dir, "--force-script-chrootless", "--force-not-root", "--log=/dev/null", "--install", deb},
		} {
			if out, err := exec.CommandContext(t.Context(), args[0], args[1:]...).CombinedOutput(); err != nil {
				t.Fatalf("%v: %v: %s", args, err, out)
			}
		}
	}
	return dir
}

// sound says what dpkg itself minds of a system.
func sound(t *testing.T, dir string) string {
	t.Helper()
	for _, args := range [][]string{{"--audit"}, {"--list"}, {"--configure", "-a"}} {
		args = append([]string{"--root=" + dir, "--force-not-root", "--force-script-chrootless", "--log=/dev/null"}, args...)
		out, err := exec.CommandContext(t.Context(), "dpkg", args...).CombinedOutput()
		if err != nil || args[4] == "--audit" && len(out) > 0 || strings.Contains(string(out), "warning") {
			return string(out)
		}
	}
	return ""
}

// Records that dpkg refuses, or would lose packages by, are found and put right: dpkg reads them
// then and still knows all packages, and what was there is kept aside. Nothing is found on a
// system where nothing is wrong.
func TestRecordsThatDpkgRefusesArePutRight(t *testing.T) {
	breaks := map[string]func(dir string) error{
		"the database is empty":   func(dir string) error { return os.Truncate(dir+"/"+statusFile, 0) },
		"the database is gone":    func(dir string) error { return os.Remove(dir + "/" + statusFile) },
		"the database has zeros":  func(dir string) error { return overwrite(dir+"/"+statusFile, 20, make([]byte, 30)) },
		"the database is cut off": func(dir string) error { return os.Truncate(dir+"/"+statusFile, 300) },
		"a word that is not a field": func(dir string) error {
			return overwrite(dir+"/"+statusFile, 1,
				[]byte(" nonsense\n"))
		},
		"the database is a folder": func(dir string) error { return folderInPlace(dir + "/" + statusFile) },
		"a note that is none": func(dir string) error {
			return os.WriteFile(dir+"/var/lib/dpkg/updates/0001",
				[]byte("x\n"), 0o600)
		},
		"no folder for notes": func(dir string) error { return os.Remove(dir + "/var/lib/dpkg/updates") },
		"a list of files is cut off": func(dir string) error {
			return os.Truncate(dir+"/"+infoFolder+"/skerrow-deck.list",
				20)
		},
		"a list of files is empty": func(dir string) error {
			return os.Truncate(dir+"/"+infoFolder+"/skerrow-deck.list",
				0)
		},
		"a list of files is gone": func(dir string) error { return os.Remove(dir + "/" + infoFolder + "/skerrow-deck.list") },
		"notes on what apt chose are cut off": func(dir string) error {
			return os.WriteFile(dir+"/"+extendedStates, []byte("Package: skerrow-deck\nArchitecture: all\nAuto-Installed: 1\n\n"+
				"Package: skerrow-tide\nArchit"), 0o644)
		},
		"a list of files is a folder": func(dir string) error {
			return folderInPlace(dir + "/" + infoFolder + "/skerrow-deck.list")
		},
		"a link to nowhere where apt makes a folder": func(dir string) error {
			return firstOf(os.RemoveAll(dir+"/"+cacheFolder+"/partial"), os.Symlink("/nowhere", dir+"/"+cacheFolder+"/partial"))
		},
		"a file where packages have a folder": func(dir string) error {
			return firstOf(os.Rename(dir+"/usr/bin", dir+"/usr/elsewhere"), os.WriteFile(dir+"/usr/bin", []byte("x"), 0o644))
		},
		"an override of nobody": func(dir string) error {
			return os.WriteFile(dir+"/"+overrideFile, []byte("ghost ghost 0755 /srv\n"), 0o600)
		},
		"diversions are cut off": func(dir string) error {
			return os.WriteFile(dir+"/"+diversions, []byte("/usr/bin/a\n/usr/bin/b\n"), 0o600)
		},
		"a trigger that is none": func(dir string) error {
			return os.WriteFile(dir+"/var/lib/dpkg/triggers/File",
				[]byte("x\n"), 0o600)
		},
		"the downloads are a file": func(dir string) error { return fileInPlace(dir + "/" + cacheFolder) },
		"a script cannot be run": func(dir string) error {
			return os.Chmod(dir+"/"+infoFolder+"/skerrow-tide.postinst", 0o644)
		},
		"a form that nobody knows": func(dir string) error {
			return os.WriteFile(dir+"/"+formatFile, []byte("7\n"), 0o600)
		},
		"a lock of accounts is left": func(dir string) error {
			return os.WriteFile(dir+"/etc/passwd.lock", []byte("4194999\x00"), 0o600)
		},
		"a trigger of no package": func(dir string) error {
			return os.WriteFile(dir+"/var/lib/dpkg/triggers/File", []byte("/usr/share/feeds Nobody!\n"), 0o600)
		},
		"a lock is a folder": func(dir string) error { return folderInPlace(dir + "/var/lib/dpkg/lock") },
		"a script is empty": func(dir string) error {
			return os.Truncate(dir+"/"+infoFolder+"/skerrow-tide.postinst", 0)
		},
		"the list of packages at hand": func(dir string) error {
			return os.WriteFile(dir+"/var/lib/dpkg/available",
				[]byte("junk\n"), 0o600)
		},
	}
	healthy := smallSystem(t)
	if list := (&inner{fsys: openRoot(t, healthy).FS()}).flaws(); len(list) != 0 {
		t.Fatalf("nothing is wrong, and this was found: %v", list[0].StateFault)
	}
	if why := sound(t, healthy); why != "" {
		t.Fatalf("dpkg minds what is sound: %s", why)
	}
	for name, spoil := range breaks {
		t.Run(name, func(t *testing.T) {
			dir := smallSystem(t)
			if err := spoil(dir); err != nil {
				t.Fatal(err)
			}
			root := openRoot(t, dir)
			n := &inner{fsys: root.FS(), now: time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)}
			list := n.flaws()
			if len(list) == 0 {
				t.Fatal("nothing was found")
			}
			for range 3 { // what is right again shows what else is wrong
				for _, f := range n.flaws() {
					if f.mend == nil {
						t.Fatalf("%v: nothing puts it right", f.StateFault)
					}
					if said, err := f.mend(root); err != nil {
						t.Fatalf("%v: %v (%s)", f.StateFault, err, said)
					}
				}
			}
			if left := n.flaws(); len(left) > 0 {
				t.Errorf("left: %v", left[0].StateFault)
			}
			if why := sound(t, dir); why != "" {
				t.Errorf("dpkg still minds: %s", why)
			}
			out, err := exec.CommandContext(t.Context(), "dpkg-query", "--admindir="+dir+"/"+dpkgFolder, "-W", "-f=${Package} ").
				Output()
			if err != nil || string(out) != "skerrow-chart skerrow-deck skerrow-tide " {
				t.Errorf("dpkg knows %q: %v", out, err)
			}
		})
	}
}

// A database that is gone, with no copy of it anywhere, takes a person: nothing says that all is well then.
func TestADatabaseThatIsGoneIsNeverWell(t *testing.T) {
	dir := smallSystem(t)
	if err := os.RemoveAll(dir + "/" + dpkgFolder); err != nil {
		t.Fatal(err)
	}
	root := openRoot(t, dir)
	if err := firstOf(root.MkdirAll("usr/bin", 0o755), root.WriteFile("usr/bin/dpkg", []byte("x"), 0o755)); err != nil {
		t.Fatal(err)
	}
	if sys, ok := (Adapter{}).Find(root.FS()); !ok || sys.Family != family {
		t.Error("what is left of the system is not recognised")
	}
	n := &inner{fsys: root.FS(), now: time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)}
	for range 3 {
		for _, f := range n.flaws() {
			if f.mend != nil {
				if _, err := f.mend(root); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	list, err := n.StateFaults()
	if err != nil || len(list) != 0 {
		t.Fatalf("%v, %v", list, err)
	}
	left := n.StateLeft()
	if len(left) != 1 || left[0].File != statusFile || !strings.Contains(left[0].Text, "is not there") {
		t.Errorf("left for a person: %v", left)
	}
}

func openRoot(t *testing.T, dir string) *os.Root {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = root.Close() })
	return root
}

func overwrite(name string, at int64, data []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(data, at)
	return firstOf(err, f.Close())
}

func folderInPlace(name string) error { return firstOf(os.Remove(name), os.Mkdir(name, 0o755)) }

func fileInPlace(name string) error {
	return firstOf(os.RemoveAll(name), os.WriteFile(name, []byte("x"), 0o644))
}

// A file that was altered or is missing is found and put back from its package, with its mode;
// one of another version is refused.
func TestFilesOfPackagesArePutBack(t *testing.T) {
	dir := smallSystem(t)
	root := openRoot(t, dir)
	if err := os.WriteFile(dir+"/usr/bin/skerrow-deck", []byte("altered"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(dir + "/usr/bin/skerrow-tide"); err != nil {
		t.Fatal(err)
	}
	report, err := VerifyPayloads(t.Context(), root.FS(), 2, nil)
	if err != nil || len(report.Faults) != 2 {
		t.Fatalf("found %+v, %v", report, err)
	}
	w := &worker{n: &inner{fsys: root.FS()}, in: onFolder{root}, say: func(string) {}}
	for _, faults := range byPackage(report.Faults) {
		want := map[string]string{}
		for _, f := range faults {
			want[strings.TrimPrefix(f.Path, "/")] = f.Want
		}
		p := packageOf(root.FS(), faults[0].Component)
		other := p
		other.Version = "2.0"
		if _, put, err := w.restore(other, want, nil); put != 0 || err != nil {
			t.Errorf("of another version: %d files, %v", put, err)
		}
		if _, put, err := w.restore(p, want, nil); put != len(want) || err != nil {
			t.Errorf("%s: %d files, %v", p.Name, put, err)
		}
	}
	report, err = VerifyPayloads(t.Context(), root.FS(), 2, nil)
	if err != nil || len(report.Faults) != 0 {
		t.Errorf("left: %+v, %v", report, err)
	}
	if info, err := os.Stat(dir + "/usr/bin/skerrow-deck"); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("its mode: %v, %v", info, err)
	}
}
