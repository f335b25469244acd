package host_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform/debian"
)

func run(t *testing.T, in string, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Stdin = strings.NewReader(in)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
}

// disk makes an image by sfdisk and mke2fs: a data volume first, the system
// after it, so that nothing can be told by number or size.
func disk(t *testing.T, label string) string {
	t.Helper()
	image := filepath.Join(t.TempDir(), "disk.img")
	if err := os.WriteFile(image, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(image, 96<<20); err != nil {
		t.Fatal(err)
	}
	run(t, "label: "+label+"\n2048,131072\n133120,57344\n", "sfdisk", "--quiet", image)
	system := t.TempDir()
	lay(t, system, map[string]string{
		"usr/lib/os-release":     "PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\nVERSION_ID=\"12\"\n",
		"etc/hostname":           "gannet-bridge-1\n",
		"var/lib/dpkg/status":    "Package: x\n",
		"etc/fstab":              "# notes\nLABEL=charts /srv/charts ext4 defaults 0 2\n",
		"var/log/dpkg.log":       "2026-11-22 06:00:00 startup archives unpack\n",
		"var/log/apt/term.log.1": "Log started: 2026-11-01  06:00:00\n",
	})
	if err := os.Symlink("../usr/lib/os-release", filepath.Join(system, "etc/os-release")); err != nil {
		t.Fatal(err)
	}
	run(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-L", "charts", "-E", "offset=1048576", image, "64m")
	run(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=68157440", "-d", system, image, "28m")
	return image
}

// lay writes files below a folder.
func lay(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func digest(t *testing.T, path string) [32]byte {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return sha256.Sum256(raw)
}

func TestGatherFindsTheSystemByItsContent(t *testing.T) {
	for _, label := range []string{"gpt", "dos"} {
		image := disk(t, label)
		before := digest(t, image)
		var out bytes.Buffer
		g, err := host.Gather(context.Background(), &out, host.GatherOptions{
			Image:    image,
			Site:     "MV Gannet",
			Zstd:     label == "dos",
			Adapters: []system.Adapter{debian.Adapter{}},
			Now:      time.Unix(1_795_000_000, 0),
		})
		if err != nil {
			t.Fatal(err)
		}
		if digest(t, image) != before {
			t.Error("gathering changed the image")
		}
		info, err := bag.Read(context.Background(), &out, bag.DefaultLimits, nil)
		if err != nil || info.Digest != g.Digest {
			t.Fatalf("%s: %v", label, err)
		}
		d := info.Facts.Disks[0]
		if info.Facts.Machine.Name != "gannet-bridge-1" || d.Style != map[string]layout.Style{
			"gpt": "gpt",
			"dos": "mbr",
		}[label] || len(d.Partitions) != 2 {
			t.Fatalf("%s: %+v", label, info.Facts)
		}
		charts, system := d.Partitions[0], d.Partitions[1]
		if charts.Role != "data" || charts.Mount != "/srv/charts" || charts.System != nil ||
			charts.Content.Label != "charts" {
			t.Errorf("%s: %+v", label, charts)
		}
		if system.Role != "system" || system.System == nil || system.System.Name != "Debian GNU/Linux 12" ||
			system.Content.Free <= 0 {
			t.Errorf("%s: %+v", label, system)
		}
		var names []string
		for _, f := range info.Files {
			names = append(names, f.Name)
		}
		if want := []string{
			"disk0/first.bin", "disk0/last.bin", "logs/apt/term.log.1", "logs/dpkg.log",
		}; !slices.Equal(names, want) {
			t.Errorf("%s: files %v", label, names)
		}
	}
}

func TestADiskWithoutATableIsDescribedAsWell(t *testing.T) {
	image := filepath.Join(t.TempDir(), "empty.img")
	if err := os.WriteFile(image, make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	g, err := host.Gather(context.Background(), &out, host.GatherOptions{
		Image:    image,
		Adapters: []system.Adapter{debian.Adapter{}},
		Now:      time.Unix(1_795_000_000, 0),
	})
	if err != nil || g.Facts.Machine.Name != "empty" || g.Facts.Disks[0].Style != "none" ||
		len(g.Facts.Disks[0].Problems) != 1 || g.Facts.Disks[0].Problems[0].ID != "table-missing" {
		t.Errorf("%v: %+v", err, g)
	}
}

// A whole system in a folder is a machine too: what is installed, what a
// restart is owed for, whether its lists are dated in the future.
func TestAFolderWithASystemIsGathered(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12\"\n" +
			"ID=debian\n" +
			"VERSION_ID=\"12\"\n" +
			"VERSION_CODENAME=bookworm\n",
		"etc/hostname":       "tern-laptop-1\n",
		"etc/default/locale": "LANG=de_DE.UTF-8\n",
		"var/lib/dpkg/status": "Package: dpkg\n" +
			"Status: install ok installed\n" +
			"Architecture: arm64\n" +
			"Version: 1.21\n" +
			"Installed-Size: 6000\n\n" +
			"Package: skerrow-crew\n" +
			"Status: hold ok half-configured\n" +
			"Architecture: all\n" +
			"Version: 2:4.0-1\n\n",
		"var/lib/apt/lists/h_InRelease": "-----BEGIN PGP SIGNED MESSAGE-----\n" +
			"Origin: Skerrow\n" +
			"Codename: bookworm\n" +
			"Date: Sat, 21 Nov 2026 08:00:00 UTC\n" +
			"Valid-Until: Sat, 28 Nov 2026 08:00:00 UTC\n",
		"run/reboot-required":                     "",
		"run/reboot-required.pkgs":                "linux-image-6.1\n",
		"boot/initrd.img-6.1":                     "0123456789",
		"var/log/dpkg.log":                        "2026-11-22 06:00:00 startup archives unpack\n",
		"usr/share/locale/de/LC_MESSAGES/dpkg.mo": "not a catalogue",
	} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var out bytes.Buffer
	if _, err := host.Gather(t.Context(), &out, host.GatherOptions{
		Root:     root,
		Adapters: []system.Adapter{debian.Adapter{}},
		Now:      time.Unix(1_795_000_000, 0),
	}); err != nil {
		t.Fatal(err)
	}
	info, err := bag.Read(t.Context(), &out, bag.DefaultLimits, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := info.Facts
	in := f.Installed
	if f.Machine.Name != "tern-laptop-1" || in == nil || in.Version != "12" || in.Architecture != "arm64" ||
		in.EarlyBoot != 10 || f.Hardware.Architecture != "arm64" || len(f.Volumes) == 0 {
		t.Fatalf("%+v %+v", f.Machine, in)
	}
	if p := in.Packages; len(p) != 2 || p[1] != (bag.Package{
		Name:         "skerrow-crew",
		Version:      "2:4.0-1",
		Architecture: "all",
		State:        "half-configured",
		Held:         true,
	}) || p[0].Size != 6000<<10 {
		t.Errorf("%+v", p)
	}
	if s := in.Sources; len(s) != 1 || s[0].Suite != "bookworm" || s[0].ValidUntil.Format(time.DateOnly) != "2026-11-28" {
		t.Errorf("%+v", s)
	}
	if len(f.Owed) != 1 || f.Owed[0].Text != "asked for by linux-image-6.1" {
		t.Errorf("%+v", f.Owed)
	}
	var names []string
	for _, file := range info.Files {
		names = append(names, file.Name)
	}
	if want := []string{"catalogues/de/LC_MESSAGES/dpkg.mo", "logs/dpkg.log"}; !slices.Equal(names, want) {
		t.Errorf("files %v", names)
	}
}

// The folder is somebody else's disk: a link in it must not bring a file of this
// machine into the bag, and what cannot be read must not keep the rest out.
func TestAHostileFolderGivesNothingOfThisMachine(t *testing.T) {
	root, outside := t.TempDir(), filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(outside, []byte("a key of the technician's own machine\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{"etc", "var/lib/dpkg", "var/log/apt"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{
		"etc/os-release":      "ID=debian\nVERSION_ID=\"12\"\n",
		"var/lib/dpkg/status": "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.21\n\n",
		"var/log/real.log":    "2026-11-22 06:00:00 startup archives unpack\n",
	} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, to := range map[string]string{
		"var/log/syslog":          outside,
		"var/log/apt/history.log": "../../../../../../../../../../" + outside,
		"var/log/dpkg.log":        "real.log",
		"etc/hostname":            outside,
	} {
		if err := os.Symlink(to, filepath.Join(root, name)); err != nil {
			t.Fatal(err)
		}
	}
	// to open it would wait for ever
	if err := unix.Mkfifo(filepath.Join(root, "var/log/apt/term.log"), 0o644); err != nil {
		t.Fatal(err)
	}
	huge := filepath.Join(root, "var/log/unattended-upgrades")
	if err := os.MkdirAll(huge, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(huge, "unattended-upgrades.log"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(filepath.Join(huge, "unattended-upgrades.log"), 1<<30+1); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	g, err := host.Gather(t.Context(), &out, host.GatherOptions{
		Root:     root,
		Adapters: []system.Adapter{debian.Adapter{}},
		Now:      time.Unix(1_795_000_000, 0),
	})
	if err != nil {
		t.Fatal(err)
	}
	opened := t.TempDir()
	info, err := bag.Unpack(t.Context(), &out, bag.DefaultLimits, opened)
	if err != nil {
		t.Fatal(err)
	}
	var taken []string
	for _, f := range info.Files {
		taken = append(taken, f.Name)
		raw, err := os.ReadFile(filepath.Join(opened, f.Name))
		if err != nil || bytes.Contains(raw, []byte("technician")) {
			t.Errorf("%s: %v: %q", f.Name, err, raw)
		}
	}
	if !slices.Equal(taken, []string{"logs/dpkg.log"}) {
		t.Errorf("taken are %v", taken)
	}
	if left := info.Facts.LeftOut; len(left) != 1 ||
		left[0].Name != "var/log/unattended-upgrades/unattended-upgrades.log" ||
		!strings.Contains(left[0].Why, "cut it to its last part") {
		t.Errorf("left out are %+v", left)
	}
	if name := g.Facts.Machine.Name; strings.Contains(name, "technician") {
		t.Errorf("the machine is called %q", name)
	}
}

func TestTheRunningMachineIsSurveyed(t *testing.T) {
	l, err := host.Look(host.GatherOptions{Live: true, Adapters: []system.Adapter{debian.Adapter{}}, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	f := l.Facts
	if f.Hardware == nil || f.Hardware.Memory < 64<<20 || f.Hardware.Processors < 1 || f.Clock == nil ||
		f.Clock.Uptime <= 0 || f.Network == nil || !f.Surveyed || len(f.Volumes) == 0 {
		t.Errorf("%+v", f)
	}
	var s unix.Statfs_t
	if err := unix.Statfs("/", &s); err != nil {
		t.Fatal(err)
	}
	for _, v := range f.Volumes {
		if v.Mount == "/" && v.Size != int64(s.Blocks)*s.Bsize {
			t.Errorf("the root has %d bytes: %+v", int64(s.Blocks)*s.Bsize, v)
		}
	}
}

// TestTheDisksBelowTheRootAreFound asks lsblk which disks carry the root. Where it
// lies on none that the kernel shows, as in a container, none may be claimed.
func TestTheDisksBelowTheRootAreFound(t *testing.T) {
	l, err := host.Look(host.GatherOptions{Live: true, Adapters: []system.Adapter{debian.Adapter{}}, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var got, want []string
	for _, d := range l.Facts.Devices {
		if d.Mount == "/" {
			got = append(got, d.Name)
		}
	}
	source, err := exec.Command("findmnt", "-nvo", "SOURCE", "/").Output()
	if err != nil {
		t.Fatal(err)
	}
	// fails for what is no block device
	rows, _ := exec.Command("lsblk", "-nrso", "NAME,TYPE", strings.TrimSpace(string(source))).Output()
	for row := range strings.Lines(string(rows)) {
		if f := strings.Fields(row); len(f) == 2 && f[1] == "disk" {
			want = append(want, f[0])
		}
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, slices.Compact(want)) {
		t.Errorf("the root lies on %q, lsblk says %q", got, want)
	}
}

// What a person asks to be left out is not taken, and is named; with a mask nothing that was taken tells of people,
// what was compressed neither, and all the rest is as it was.
func TestEvidenceIsMaskedAndLeftOut(t *testing.T) {
	root := t.TempDir()
	lay(t, root, map[string]string{
		"usr/lib/os-release":      "PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\nVERSION_ID=\"12\"\n",
		"etc/os-release":          "PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\nVERSION_ID=\"12\"\n",
		"etc/hostname":            "gannet-bridge-1\n",
		"etc/passwd":              "root:x:0:0::/root:/bin/sh\neivind:x:1000:1000:Eivind Skerrow,,,:/home/eivind:/bin/bash\n",
		"var/lib/dpkg/status":     "Package: x\n",
		"var/log/apt/history.log": "Start-Date: 2026-11-22  06:00:00\nRequested-By: eivind (1000)\nEnd-Date: 2026-11-22  06:00:09\n",
		"var/log/apt/term.log":    "Log started: 2026-11-22  06:00:00\ncannot reach 10.20.30.40\n",
		"var/log/dpkg.log":        "2026-11-22 06:00:00 startup archives unpack\n",
	})
	run(
		t,
		"",
		"sh",
		"-c",
		"cp "+root+"/var/log/apt/history.log "+root+"/var/log/apt/history.log.1; gzip -n "+root+"/var/log/apt/history.log.1",
	)
	o := host.GatherOptions{
		Root: root, Now: time.Unix(1_795_000_000, 0), Adapters: []system.Adapter{debian.Adapter{}},
		Mask: true, LeaveOut: []string{"dpkg.log*"},
	}
	list, _, err := host.List(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	var packed bytes.Buffer
	g, err := host.Gather(t.Context(), &packed, o)
	if err != nil {
		t.Fatal(err)
	}
	if len(list) != g.Files || len(g.Facts.LeftOut) != 1 || g.Facts.LeftOut[0].Name != "logs/dpkg.log" {
		t.Errorf("%d of %d files, left out %+v", g.Files, len(list), g.Facts.LeftOut)
	}
	dir := t.TempDir()
	if _, err := bag.Unpack(t.Context(), &packed, bag.DefaultLimits, dir); err != nil {
		t.Fatal(err)
	}
	all, err := exec.Command("grep", "-rEi", "eivind|skerrow|10\\.20\\.30", dir).CombinedOutput()
	if err == nil || len(all) > 0 {
		t.Errorf("left: %s", all)
	}
	said, _ := exec.Command("grep", "-rh", "Requested-By", dir).Output()
	if string(said) != "Requested-By: person-1 (1000)\nRequested-By: person-1 (1000)\n" {
		t.Errorf("%q", said)
	}
	if g.Masked["person"] != 1 || g.Masked["ip4"] != 1 {
		t.Errorf("%v", g.Masked)
	}
}
