package debian_test

import (
	"encoding/binary"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/platform/debian"
	standin "diorthos/standin/debian"
)

// A healthy machine is not told that its loader is missing, wherever the ways of putting
// GRUB onto it have laid its pieces.
func TestLoadersAreKnownByTheirContent(t *testing.T) {
	const uuid = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	menu := fstest.MapFS{
		"boot/vmlinuz-6.1.0-50":    {Data: standin.Kernel(0)},
		"boot/initrd.img-6.1.0-50": {Data: standin.EarlyImage([]byte("image"))},
		"boot/grub/grub.cfg": {Data: []byte("menuentry 'x' {\n\tlinux /boot/vmlinuz-6.1.0-50 ro\n" +
			"\tinitrd /boot/initrd.img-6.1.0-50\n}\n")},
	}
	stub := &fstest.MapFile{Data: []byte("search.fs_uuid " + uuid + " root hd0,gpt2\n")}
	carries := &fstest.MapFile{
		Data: standin.Program("search.fs_uuid " + uuid + " root hd0,gpt2\nset prefix=($root)'/boot/grub'\n"),
	}
	bare := &fstest.MapFile{Data: standin.Program("")}
	shim := standin.Program("")
	copy(shim[len(shim)-80:], "no modules here at all, only a word: UEFI SHIM and what comes behind it, to the end.")
	sdBoot := append(standin.Program("")[:0x400], "#### LoaderInfo: systemd-boot 252 ####"...)
	binary.LittleEndian.PutUint32(sdBoot[0x80+24+0xf0+16:], 8)
	for name, c := range map[string]struct {
		esp   fstest.MapFS
		fault string
	}{
		"carries its commands":       {fstest.MapFS{"EFI/debian/grubx64.efi": carries}, ""},
		"at the fallback path alone": {fstest.MapFS{"EFI/BOOT/BOOTX64.EFI": carries}, ""},
		"reads a stub":               {fstest.MapFS{"EFI/debian/grubx64.efi": bare, "EFI/debian/grub.cfg": stub}, ""},
		"reads no stub":              {fstest.MapFS{"EFI/debian/grubx64.efi": bare}, "boot-store-damaged"},
		"a damaged one before a sound one": {fstest.MapFS{
			"EFI/debian/grubx64.efi": {Data: bare.Data[:900]}, "EFI/BOOT/BOOTX64.EFI": carries,
		}, ""},
		"cut off": {fstest.MapFS{"EFI/debian/grubx64.efi": {Data: bare.Data[:len(bare.Data)-9]}}, "loader-altered"},
		"shim without the second": {fstest.MapFS{
			"EFI/debian/shimx64.efi": {Data: shim}, "EFI/debian/grub.cfg": stub,
		}, "boot-store-damaged"},
		"shim and GRUB": {fstest.MapFS{
			"EFI/debian/shimx64.efi": {Data: shim}, "EFI/debian/grubx64.efi": bare, "EFI/debian/grub.cfg": stub,
		}, ""},
		"systemd-boot": {fstest.MapFS{
			"EFI/systemd/systemd-bootx64.efi": {Data: sdBoot},
			"loader/entries/debian-6.1.conf": {Data: []byte(
				"title Debian\nlinux /debian/6.1/linux\ninitrd /debian/6.1/initrd\n",
			)},
			"debian/6.1/linux": {Data: standin.Kernel(0)}, "debian/6.1/initrd": {Data: []byte("\x1f\x8b and more than that")},
		}, ""},
		"systemd-boot without the early-boot image": {fstest.MapFS{
			"EFI/systemd/systemd-bootx64.efi": {Data: sdBoot},
			"loader/entries/debian-6.1.conf": {Data: []byte(
				"title Debian\nlinux /debian/6.1/linux\ninitrd /debian/6.1/initrd\noptions root=UUID=" + uuid + "\n",
			)},
			"debian/6.1/linux": {Data: standin.Kernel(0)},
		}, "early-image-missing"},
		"systemd-boot without an entry": {
			fstest.MapFS{"EFI/systemd/systemd-bootx64.efi": {Data: sdBoot}}, "menu-missing",
		},
	} {
		esp := layout.Entry{
			Type: layout.TypeESP, ID: layout.MustParseGUID("0c921feb-119f-4abf-99c7-8854c89ced36"),
			Span: layout.Span{First: 2048, Last: 4095},
		}
		sys := layout.Entry{
			Type: layout.TypeLinuxRoot, ID: layout.MustParseGUID("1c921feb-119f-4abf-99c7-8854c89ced36"),
			Span: layout.Span{First: 4096, Last: 8191},
		}
		facts := &bag.Facts{}
		debian.Adapter{}.Survey(withVolumes(system.Ground{
			Table:    read(t, 8<<20, []layout.Entry{esp, sys}),
			Contents: map[int]layout.Content{1: {Kind: "fat32", UUID: "4711-0815"}, 2: {Kind: "ext4", UUID: uuid}},
			System:   2,
			Volume:   func(n int) fs.FS { return map[int]fs.FS{1: c.esp, 2: menu}[n] },
		}), facts)
		got := ""
		if b := facts.State.Chain.Broken(); b != nil {
			got = string(b.Fault)
		}
		if got != c.fault {
			t.Errorf("%s: %q, want %q: %+v", name, got, c.fault, facts.State.Chain)
		}
	}
}

// What is missing of the loader is put back from what the machine has, byte for byte what
// mtools reads then.
func TestTheLoaderIsPutBackFromWhatTheMachineHas(t *testing.T) {
	folder := t.TempDir()
	disk, tree := filepath.Join(folder, "disk.img"), filepath.Join(folder, "tree")
	files := map[string]string{
		"etc/os-release": "ID=debian\nPRETTY_NAME=\"Debian of the harbour\"\n", "etc/hostname": "quay-3\n",
		"var/lib/dpkg/status": "", "boot/grub/grub.cfg": "menuentry x {\n linux /boot/vmlinuz-6.1.0-50 ro\n}\n",
		"usr/lib/grub/x86_64-efi/monolithic/grubx64.efi": string(standin.Program("")),
	}
	lay(t, tree, files)
	run := func(name string, args ...string) string {
		t.Helper()
		out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
		return string(out)
	}
	const uuid = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	run("truncate", "-s", "80M", disk)
	run("sgdisk", "-n1:2048:+36M", "-t1:EF00", "-n2:0:+32M", disk)
	run("mkfs.vfat", "-F", "32", "--offset", "2048", disk, "36864")
	run("mke2fs", "-q", "-t", "ext4", "-U", uuid, "-d", tree, "-E", "offset=38797312", disk, "32M")
	dev, err := block.OpenImage(disk, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	draft := block.NewDraft(dev)
	opened, err := debian.Adapter{}.Open(draft, 2, system.Options{Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	s := opened.(*debian.System)
	if err := s.BootPiece("loader"); err == nil {
		t.Error("an empty EFI system partition has a loader")
	}
	if err := s.PutLoader(); err != nil {
		t.Fatal(err)
	}
	for _, piece := range []string{"loader", "store"} {
		if err := s.BootPiece(piece); err != nil {
			t.Errorf("%s: %v", piece, err)
		}
	}
	writes, err := draft.Writes()
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range writes {
		if w.Off < 2048*512 || w.Off >= 38797312 {
			t.Errorf("%s at byte %d is outside of the EFI system partition", w.What, w.Off)
		}
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			t.Fatal(err)
		}
	}
	if err := dev.Sync(); err != nil {
		t.Fatal(err)
	}
	at := disk + "@@1048576"
	for _, name := range []string{"::/EFI/debian/grubx64.efi", "::/EFI/BOOT/BOOTX64.EFI"} {
		if got := run("mtype", "-i", at, name); got != string(standin.Program("")) {
			t.Errorf("%s: %d bytes", name, len(got))
		}
	}
	if got := run("mtype", "-i", at, "::/EFI/debian/grub.cfg"); !strings.Contains(got, "search.fs_uuid "+uuid+" root") {
		t.Errorf("the short configuration is %q", got)
	}
}

// lay writes files below a folder.
func lay(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		at := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
