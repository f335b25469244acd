package platform_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/platform"
	standin "diorthos/standin/corbel"
)

// built is a sound Corbel machine.
func built(t *testing.T, seed uint64, name string) *standin.Machine {
	t.Helper()
	now := time.Date(2026, 11, 22, 8, 0, 0, 0, time.UTC)
	vendor, err := standin.NewVendor(now)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(vendor)
	t.Cleanup(server.Close)
	link := standin.Link{Base: server.URL, Client: http.DefaultClient}
	m, err := standin.Build(t.Context(), filepath.Join(t.TempDir(), name), standin.Options{
		Seed:   seed,
		Mode:   "uefi",
		Name:   name,
		Now:    now,
		Vendor: vendor,
		Link:   link,
	})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// opened is a system of each family that can be changed.
func opened(t *testing.T) map[string]system.System {
	t.Helper()
	dev, err := block.OpenImage(built(t, 3, "m").Disk(), 512, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = dev.Close() })
	list, err := system.OpenAll(platform.All(), block.NewDraft(dev), system.Options{Mode: firmware.UEFI, Now: time.Now()})
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	both := map[string]system.System{list[0].System.Family(): list[0].System}
	for _, a := range platform.All() {
		if both[a.Family()] == nil {
			both[a.Family()] = openedDebian(t, a)
		}
	}
	return both
}

// openedDebian is a system that starts by UEFI, as far as it has to be one to be opened.
func openedDebian(t *testing.T, a system.Adapter) system.System {
	t.Helper()
	disk := filepath.Join(t.TempDir(), "disk.img")
	run := func(name string, args ...string) {
		t.Helper()
		if out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
	}
	run("truncate", "-s", "80M", disk)
	run("sgdisk", "-n1:2048:+36M", "-t1:EF00", "-n2:0:+32M", disk)
	run("mkfs.vfat", "-F", "32", "--offset", "2048", disk, "36864")
	run("mke2fs", "-q", "-t", "ext4", "-E", "offset=38797312", disk, "32M")
	dev, err := block.OpenImage(disk, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = dev.Close() })
	s, err := a.Open(block.NewDraft(dev), 2, system.Options{Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// systemVolume is the largest partition of a machine's disk.
func systemVolume(t *testing.T, m *standin.Machine) io.ReadCloser {
	t.Helper()
	f, err := os.Open(m.Disk())
	if err != nil {
		t.Fatal(err)
	}
	dev, err := block.OpenImage(m.Disk(), 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table, err := layout.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	p := slices.MaxFunc(table.Partitions(), func(a, b layout.Partition) int { return int(a.Length - b.Length) })
	if p.Length > 120<<20 {
		t.Fatalf("it is larger than the room for it: %d bytes", p.Length)
	}
	return struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(f, p.Off, p.Length), f}
}

// TestEachSystemOfADiskGetsItsOwnAdapter lays two systems of one family and one
// of another onto one disk.
func TestEachSystemOfADiskGetsItsOwnAdapter(t *testing.T) {
	folder := t.TempDir()
	disk := filepath.Join(folder, "disk.img")
	if err := os.WriteFile(disk, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	run := func(name string, args ...string) {
		t.Helper()
		if out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
	}
	tree := filepath.Join(folder, "tree")
	for name, text := range map[string]string{
		"etc/os-release":      "ID=debian\nPRETTY_NAME=\"Debian of the harbour\"\nVERSION_ID=12\n",
		"etc/hostname":        "quay-3\n",
		"var/lib/dpkg/status": "",
	} {
		if err := os.MkdirAll(filepath.Join(tree, filepath.Dir(name)), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(tree, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	run("truncate", "-s", "400M", disk)
	run("sgdisk", "-n1:2048:+120M", "-n2:0:+32M", "-n3:0:+120M", disk)
	run("mkfs.ext4", "-q", "-d", tree, "-E", "offset="+strconv.Itoa((1+120)<<20), disk, "32M")
	for i, seed := range []uint64{3, 4} {
		part := systemVolume(t, built(t, seed, []string{"berth-1", "berth-2"}[i]))
		defer func() { _ = part.Close() }()
		at := int64(1+i*152) << 20
		out, err := os.OpenFile(disk, os.O_RDWR, 0)
		if err == nil {
			_, err = io.Copy(io.NewOffsetWriter(out, at), part)
		}
		if err := errors.Join(err, out.Close()); err != nil {
			t.Fatal(err)
		}
	}
	dev, err := block.OpenImage(disk, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	_, found, err := system.Describe(dev, "disk-0", disk, platform.All(), system.Needs{})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range found {
		sys, _ := f.Adapter.Find(f.Volume)
		got = append(got, fmt.Sprintf("%d %s %s", f.Ground.System, f.Adapter.Family(), sys.Host))
	}
	if want := []string{"1 corbel berth-1", "2 debian quay-3", "3 corbel berth-2"}; !slices.Equal(got, want) {
		t.Errorf("found %q, want %q", got, want)
	}
	list, err := system.OpenAll(platform.All(), block.NewDraft(dev), system.Options{Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	var opened []string
	for _, o := range list {
		opened = append(opened, fmt.Sprintf("%d %s", o.Partition, o.System.Family()))
	}
	if want := []string{"1 corbel", "2 debian", "3 corbel"}; !slices.Equal(opened, want) {
		t.Errorf("opened %q, want %q", opened, want)
	}
}

// table lists all abilities and platforms: what is there, and why something is not.
func table(t *testing.T) string {
	t.Helper()
	systems := opened(t)
	var out strings.Builder
	out.WriteString("| ability |")
	for _, a := range platform.All() {
		fmt.Fprintf(&out, " %s |", a.Family())
	}
	out.WriteString("\n|" + strings.Repeat("---|", 1+len(platform.All())) + "\n")
	for _, ability := range system.Abilities() {
		fmt.Fprintf(&out, "| %s |", ability)
		for _, a := range platform.All() {
			has, why := system.Has(a, systems[a.Family()], ability), a.Lacks()[ability]
			switch {
			case has && why != "":
				t.Errorf("%s has %q, and says why it has not: %s", a.Family(), ability, why)
			case !has && why == "":
				t.Errorf("%s does not have %q, and does not say why", a.Family(), ability)
			}
			if has {
				why = "yes"
			}
			fmt.Fprintf(&out, " %s |", why)
		}
		out.WriteString("\n")
	}
	return out.String()
}

// TestEveryAbilityIsThereOrMissedWithAReason, and the documentation shows it as
// it is.
func TestEveryAbilityIsThereOrMissedWithAReason(t *testing.T) {
	want := table(t)
	text, err := os.ReadFile("../docs/own-system.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(text), want) {
		t.Errorf("docs/own-system.md does not show the table as it is:\n%s", want)
	}
}
