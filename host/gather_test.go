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

	"diorthos/core/bag"
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
	for name, text := range map[string]string{
		"usr/lib/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\nVERSION_ID=\"12\"\n", "etc/hostname": "gannet-bridge-1\n", "var/lib/dpkg/status": "Package: x\n",
		"etc/fstab": "# notes\nLABEL=charts /srv/charts ext4 defaults 0 2\n", "var/log/dpkg.log": "2026-11-22 06:00:00 startup archives unpack\n", "var/log/apt/term.log.1": "Log started: 2026-11-01  06:00:00\n",
	} {
		path := filepath.Join(system, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("../usr/lib/os-release", filepath.Join(system, "etc/os-release")); err != nil {
		t.Fatal(err)
	}
	run(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-L", "charts", "-E", "offset=1048576", image, "64m")
	run(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=68157440", "-d", system, image, "28m")
	return image
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
		g, err := host.Gather(context.Background(), &out, host.GatherOptions{Image: image, Site: "MV Gannet", Zstd: label == "dos", Platforms: []host.Platform{debian.Adapter{}}, Now: time.Unix(1_795_000_000, 0)})
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
		if info.Facts.Machine.Name != "gannet-bridge-1" || d.Style != map[string]string{"gpt": "gpt", "dos": "mbr"}[label] || len(d.Partitions) != 2 {
			t.Fatalf("%s: %+v", label, info.Facts)
		}
		charts, system := d.Partitions[0], d.Partitions[1]
		if charts.Role != "data" || charts.Mount != "/srv/charts" || charts.System != nil || charts.Content.Label != "charts" {
			t.Errorf("%s: %+v", label, charts)
		}
		if system.Role != "system" || system.System == nil || system.System.Name != "Debian GNU/Linux 12" || system.Content.Free <= 0 {
			t.Errorf("%s: %+v", label, system)
		}
		var names []string
		for _, f := range info.Files {
			names = append(names, f.Name)
		}
		if want := []string{"disk0/first.bin", "disk0/last.bin", "logs/apt/term.log.1", "logs/dpkg.log"}; !slices.Equal(names, want) {
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
	g, err := host.Gather(context.Background(), &out, host.GatherOptions{Image: image, Platforms: []host.Platform{debian.Adapter{}}, Now: time.Unix(1_795_000_000, 0)})
	if err != nil || g.Facts.Machine.Name != "empty" || g.Facts.Disks[0].Style != "none" || len(g.Facts.Disks[0].Problems) != 0 {
		t.Errorf("%v: %+v", err, g)
	}
}
