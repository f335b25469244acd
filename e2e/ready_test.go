package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/readiness"
)

// rootFolder holds a small system that is one release behind.
func rootFolder(t *testing.T) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n",
		"etc/hostname":   "tern-laptop-1\n",
		"var/lib/dpkg/status": "Package: dpkg\n" +
			"Status: install ok installed\n" +
			"Architecture: amd64\n" +
			"Version: 1.21\n" +
			"Installed-Size: 6000\n\n" +
			"Package: skerrow-crew\n" +
			"Status: install ok installed\n" +
			"Architecture: all\n" +
			"Version: 4.0\n" +
			"Installed-Size: 100\n",
	} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

const nextRelease = "Package: dpkg\n" +
	"Architecture: amd64\n" +
	"Version: 1.22\n" +
	"Size: 1500000\n" +
	"Installed-Size: 7000\n" +
	"Depends: libskerrow1 (>= 2)\n\n" +
	"Package: libskerrow1\n" +
	"Architecture: amd64\n" +
	"Version: 2.0\n" +
	"Size: 500000\n" +
	"Installed-Size: 900\n"

func TestAMachineIsJudgedForARelease(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	root := rootFolder(t)
	index := filepath.Join(t.TempDir(), "Packages")
	if err := os.WriteFile(index, []byte(nextRelease), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("xz", "-k", index).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	out := s.run("ready", "--root", root, "--for", "trixie", "--index", index+".xz", "--needs", "skerrow-crew").out
	wants(
		t, out, "tern-laptop-1 for Debian 13 (trixie)",
		"1 package to upgrade, 1 new, 1.9 MiB to download, from Packages.xz", "installed size, new less old",
		"skerrow-crew: the release does not have it", "unfit", "not measured",
	)

	var choices []readiness.Choice
	if err := json.Unmarshal([]byte(s.must(0, "ready", "--root", root, "--recommend", "--json")), &choices); err != nil {
		t.Fatal(err)
	}
	if len(choices) != 3 || !choices[0].Picked || choices[0].Report.Release != "debian-13" || choices[1].Picked ||
		choices[2].Picked {
		t.Errorf("%+v", choices)
	}
	packed := filepath.Join(t.TempDir(), "tern.bag.tar.zst")
	s.must(0, "gather", "--root", root, "--out", packed)
	wants(
		t, s.must(0, "ready", "--bag", packed, "--recommend"), "✓ go to",
		"Way from the installed release: from 12, want from 10",
	)

	tree := t.TempDir()
	if err := os.MkdirAll(filepath.Join(tree, "DEBIAN"), 0o755); err != nil {
		t.Fatal(err)
	}
	for version, want := range map[string]int{"4.1": 0, "3.9": 1} {
		if err := os.WriteFile(filepath.Join(tree, "DEBIAN/control"), []byte("Package: skerrow-crew\nVersion: "+version+
			"\nArchitecture: all\nMaintainer: x\nDescription: x\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		deb := filepath.Join(t.TempDir(), "crew.deb")
		if out, err := exec.Command("dpkg-deb", "--root-owner-group", "--build", tree, deb).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		wants(t, s.must(want, "ready", "--root", root, "--update", deb), "skerrow-crew "+version, "4.0 is installed")
	}
	for args, says := range map[string]string{
		"--root " + root:                        "say what for",
		"--for debian-13":                       "say what to look at",
		"--root " + root + " --for harbour-9":   "known are corbel-8, debian-13",
		"--root /nowhere --for debian-13":       "no such file",
		"--root " + tree + " --for debian-13":   "no system that is known",
		"--root " + root + " --update " + index: "not a Debian package",
		"--root " + root + " --for debian-13 --index " + filepath.Join(root, "etc/hostname"): "is no field of a control file",
		"--root " + root + " --for debian-13 --firmware steam":                               "want uefi or bios",
	} {
		if r := s.run(append([]string{"ready"}, strings.Fields(args)...)...); r.status != 2 ||
			!strings.Contains(r.errout, says) {
			t.Errorf("ready %s: %+v", args, r)
		}
	}
}

// A log in another language is judged as the same in English, and shown as it
// was written.
func TestALogInAnotherLanguageIsUnderstood(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	out := s.must(1, "read", "../standin/debian/captured/volume-full-de")
	wants(
		t, out, "Fehler beim Bearbeiten des Archivs", "means", "error processing archive", "No space left on device",
		"A volume is full",
	)
	// A catalogue that is handed in along with the logs does the same.
	dir := t.TempDir()
	for from, to := range map[string]string{
		"../knowledge/catalogues/de/dpkg.mo":                    "de/LC_MESSAGES/dpkg.mo",
		"../standin/debian/captured/volume-full-de/console.txt": "console.txt",
	} {
		raw, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, to)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, to), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	wants(t, s.must(1, "read", dir), "error processing archive")
}

// A FAT file system inside a disk is checked and mended in place; so is the
// first superblock of an ext one. Both can be taken back.
func TestVolumesAreMendedInPlace(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	image := copyImage(t)
	s.must(0, "layout", "mend", image) // its table is damaged too
	wants(t, s.must(0, "layout", "volume", "--partition", "1", image), "nothing wrong")
	f, err := os.OpenFile(image, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt(make([]byte, 512), 1<<20); err != nil { // the FAT's boot sector
		t.Fatal(err)
	}
	if _, err := f.WriteAt(make([]byte, 1024), 133120*512+1024); err != nil { // the superblock of the boot volume
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	spoilt := filepath.Join(t.TempDir(), "spoilt.img")
	if out, err := exec.Command("cp", "--sparse=always", image, spoilt).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	wants(t, s.must(1, "layout", "volume", "--partition", "1", image), "boot-sector-damaged", "to mend: write it anew")
	wants(t, s.must(1, "layout", "volume", "--partition", "2", image), "superblock-damaged", "of group")
	var undo []string
	for _, n := range []string{"1", "2"} {
		wants(t, s.must(0, "layout", "volume", "--mend", "--dry-run", "--partition", n, image), "write")
		out := s.must(0, "layout", "volume", "--mend", "--journal", filepath.Join(t.TempDir(), n), "--partition", n, image)
		wants(t, out, "done and proven")
		undo = append(undo, strings.TrimSpace(out[strings.LastIndex(out, "diorthos undo ")+len("diorthos undo "):]))
	}
	wants(t, s.must(0, "layout", "volume", "--partition", "2", image), "can be read")
	wants(t, s.must(0, "layout", "show", image), "fat32", "boot at /boot")
	for i := len(undo) - 1; i >= 0; i-- {
		s.must(0, "undo", undo[i])
	}
	if !same(t, image, spoilt) {
		t.Error("after the undos the image is not what it was, byte for byte")
	}
	wants(t, s.run("layout", "volume", "--partition", "9", image).errout, "no partition 9")
}
