package host_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/host"
	"diorthos/platform/debian"
)

// onLogicalVolume is a disk that is one physical volume, as LVM2's own tools made it, with a small
// system on a logical one, whose journal the service manager's own tool wrote.
func onLogicalVolume(t *testing.T) string {
	t.Helper()
	tree := t.TempDir()
	lay(t, tree, map[string]string{
		"etc/os-release": "ID=debian\nPRETTY_NAME=\"Debian GNU/Linux 12\"\n", "etc/hostname": "gannet-bridge-1\n",
		"var/lib/dpkg/status": "Package: base\nStatus: install ok installed\nVersion: 1\n", "var/log/dpkg.log": "x\n",
		"etc/fstab": "/dev/mapper/quay--vg-root / ext4 defaults 0 1\n/dev/mapper/quay--vg-swap_1 none swap sw 0 0\n",
	})
	journal := filepath.Join(tree, "var/log/journal/51ee7fe7f7ae42aa8481f07b74d0fa3f")
	if err := os.MkdirAll(journal, 0o755); err != nil {
		t.Fatal(err)
	}
	var records bytes.Buffer
	for i, text := range []string{
		"Starting local-fs.target", "Timed out waiting for device dev-vdb1.device - /dev/vdb1.",
		"Dependency failed for data.mount - /data.", "Reached target emergency.target - Emergency Mode.",
	} {
		fmt.Fprintf(
			&records,
			"__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n_BOOT_ID=6b0c6f7e0b8e4b5c8d9e0f1a2b3c4d5e\n"+
				"PRIORITY=4\n_HOSTNAME=gannet-bridge-1\nSYSLOG_IDENTIFIER=systemd\n_PID=1\nMESSAGE=%s\n\n",
			1_795_000_000_000_000+i*1_000_000,
			(i+1)*1_000_000,
			text,
		)
	}
	c := exec.CommandContext(
		t.Context(),
		"/lib/systemd/systemd-journal-remote",
		"--output="+journal+"/system.journal",
		"-",
	)
	c.Stdin = &records
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	packed, err := os.ReadFile("../core/volumes/testdata/linear.img.zst")
	if err != nil {
		t.Fatal(err)
	}
	z, err := zstd.NewReader(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	raw, err := z.DecodeAll(packed, nil)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "gannet.img")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	image := filepath.Join(t.TempDir(), "root")
	run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", tree, image, "24M")
	files, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	disk, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = disk.Close() }()
	table, err := layout.Read(disk)
	if err != nil {
		t.Fatal(err)
	}
	root := volumes.Open(disk, table, nil).Named("/dev/quay-vg/root").Device()
	if _, err := root.WriteAt(files, 0); err != nil {
		t.Fatal(err)
	}
	return path
}

// A system on a logical volume, plain and inside an encrypted one, is found with its journal; without
// the passphrase the volume is said to be closed; the passphrase is nowhere in what is gathered.
func TestASystemInsideVolumesIsGathered(t *testing.T) {
	plain := onLogicalVolume(t)
	closed := filepath.Join(t.TempDir(), "closed.img")
	// It measures how fast this computer is first, and gives up where that is busy: then again.
	run(t, "", "sh", "-c", `for n in 1 2 3 4 5 6 7 8; do qemu-img convert -f raw \
		--object secret,id=s,data=harbour-light-9 -O luks -o key-secret=s,iter-time=10 "$0" "$1" && exit; done; exit 1`,
		plain, closed)
	keys := &volumes.Keys{Secrets: [][]byte{[]byte("harbour-light-9")}}
	for _, c := range []struct {
		image string
		keys  *volumes.Keys
		found bool
	}{{plain, nil, true}, {closed, keys, true}, {closed, nil, false}} {
		var out bytes.Buffer
		_, err := host.Gather(t.Context(), &out, host.GatherOptions{
			Image: c.image, Keys: c.keys, Adapters: []system.Adapter{debian.Adapter{}}, Now: time.Unix(1_795_000_900, 0),
		})
		if err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		info, err := bag.Read(context.Background(), bytes.NewReader(out.Bytes()), bag.DefaultLimits, nil)
		if err != nil {
			t.Fatal(err)
		}
		save := filepath.Join(dir, "bag.tar.gz")
		if err := os.WriteFile(save, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		unpacked, err := exec.CommandContext(t.Context(), "tar", "xzOf", save).Output()
		if err != nil {
			t.Fatal(err)
		}
		text := string(unpacked)
		if strings.Contains(text, "harbour-light-9") {
			t.Error("the passphrase is in the bag")
		}
		starts := slices.ContainsFunc(info.Files, func(f bag.File) bool { return f.Name == "logs/journal/starts.log" })
		told := strings.Contains(text, "failed: it ended in emergency mode") &&
			strings.Contains(text, "Timed out waiting for device dev-vdb1.device")
		if starts != c.found || told != c.found || (info.Facts.Machine.Name == "gannet-bridge-1") != c.found {
			t.Errorf("%s, keys %v: starts %v, told %v, name %q", c.image, c.keys != nil, starts, told, info.Facts.Machine.Name)
		}
		if !c.found {
			continue
		}
		list := info.Facts.Disks[0].Volumes
		root := list[slices.IndexFunc(list, func(v bag.InnerVolume) bool { return v.Name == "quay-vg/root" })]
		if root.System == nil || root.Mount != "/" || root.Role != layout.RoleSystem || root.Content.Free <= 0 {
			t.Errorf("the root volume: %+v", root)
		}
		if v := info.Facts.Volumes; len(v) != 1 || v[0].Mount != "/" || v[0].Free != root.Content.Free {
			t.Errorf("volumes: %+v", v)
		}
	}
}
