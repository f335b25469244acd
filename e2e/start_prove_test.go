//go:build prove

package e2e

import (
	"bytes"
	"crypto/sha256"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const (
	startRoot = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	rootAt    = 65 << 20
)

// startBase makes a Debian machine that starts by UEFI: a genuine kernel and early-boot
// image, GRUB's own loader, and an init that says that the machine is up. It is made of the
// minimal root that is kept for provoking failures.
func startBase(t *testing.T) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "bash", "-c", ". ../standin/debian/lib.sh; base_root").Output()
	if err != nil {
		t.Fatal(err)
	}
	root := strings.TrimSpace(string(out))
	kernels, err := filepath.Glob(root + "/boot/vmlinuz-*")
	if err != nil || len(kernels) == 0 {
		t.Fatalf("%s holds no kernel: %v", root, err)
	}
	version := strings.TrimPrefix(filepath.Base(kernels[0]), "vmlinuz-")
	disk, dir := filepath.Join(t.TempDir(), "disk.img"), t.TempDir()
	witness(t, "truncate", "-s", "900M", disk)
	witness(t, "sgdisk", "-n1:2048:+64M", "-t1:EF00", "-n2:0:+800M", disk)
	witness(t, "mkfs.vfat", "-F", "32", "-s", "1", "--offset", "2048", disk, "65536")
	witness(t, "mke2fs", "-q", "-t", "ext4", "-U", startRoot, "-d", root, "-E", "offset=68157440", disk, "800M")
	put(
		t,
		filepath.Join(dir, "grub.cfg"),
		[]byte("serial --unit=0 --speed=115200\nterminal_output serial\nset timeout=0\n"+
			"menuentry 'Debian' {\n\tsearch --no-floppy --fs-uuid --set=root "+startRoot+"\n"+
			"\tlinux /boot/vmlinuz-"+version+" root=UUID="+startRoot+" ro console=ttyS0 panic=1\n"+
			"\tinitrd /boot/initrd.img-"+version+"\n}\n"),
	)
	put(t, filepath.Join(dir, "init"), []byte("#!/bin/sh\nexec >/dev/console 2>&1\necho \"quay-3 login:\"\nsleep 2\n"+
		"mount -t proc proc /proc; echo o >/proc/sysrq-trigger; sleep 60\n"))
	const monolithic = "/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi"
	commands := "mkdir /boot/grub\nwrite " + dir + "/grub.cfg /boot/grub/grub.cfg\n" +
		"write " + dir + "/init /usr/sbin/init\n" +
		"set_inode_field /usr/sbin/init mode 0100755\nmkdir /usr/lib/grub\nmkdir /usr/lib/grub/x86_64-efi\n" +
		"mkdir /usr/lib/grub/x86_64-efi/monolithic\nwrite " + monolithic + " " + monolithic + "\n"
	c := exec.CommandContext(t.Context(), "debugfs", "-w", "-f", "-", disk+"?offset=68157440")
	c.Stdin = strings.NewReader(commands)
	if out, err := c.CombinedOutput(); err != nil || bytes.Contains(out, []byte("not found")) {
		t.Fatalf("debugfs: %v: %s", err, out)
	}
	at := disk + "@@1048576"
	put(
		t,
		filepath.Join(dir, "stub"),
		[]byte("search.fs_uuid "+startRoot+" root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
	)
	witness(t, "mmd", "-i", at, "::/EFI", "::/EFI/debian", "::/EFI/BOOT")
	witness(t, "mcopy", "-i", at, monolithic, "::/EFI/debian/grubx64.efi")
	witness(t, "mcopy", "-i", at, monolithic, "::/EFI/BOOT/BOOTX64.EFI")
	witness(t, "mcopy", "-i", at, filepath.Join(dir, "stub"), "::/EFI/debian/grub.cfg")
	return disk
}

// A genuine Debian machine whose loader is gone, cut off or led astray is mended from what
// it has, and starts in QEMU again; its files are the same, and the undo is exact.
func TestProveThatADebianMachineStartsAgain(t *testing.T) {
	base := startBase(t)
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	startsBy(t, base, "virtio", "uefi", "quay-3 login:")
	healthy := s.must(0, "diagnose", "--image", base)
	wants(t, healthy, "nothing wrong was found")
	elsewhere := filepath.Join(t.TempDir(), "stub")
	put(t, elsewhere, []byte("search.fs_uuid 00000000-1111-4222-8333-444444444444 root\n"))
	short := filepath.Join(t.TempDir(), "short.efi")
	put(t, short, read(t, "/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi")[:100_000])
	for name, commands := range map[string][][]string{
		"nothing on the EFI system partition": {{"mdeltree", "::/EFI"}},
		"both loaders are gone":               {{"mdel", "::/EFI/debian/grubx64.efi"}, {"mdel", "::/EFI/BOOT/BOOTX64.EFI"}},
		"both loaders are cut off": {
			{"mcopy", "-o", short, "::/EFI/debian/grubx64.efi"}, {"mcopy", "-o", short, "::/EFI/BOOT/BOOTX64.EFI"},
		},
		"the short configuration is gone":              {{"mdel", "::/EFI/debian/grub.cfg"}},
		"the short configuration names another volume": {{"mcopy", "-o", elsewhere, "::/EFI/debian/grub.cfg"}},
		"the loader and its configuration are both bad": {
			{"mdeltree", "::/EFI/BOOT"}, {"mcopy", "-o", short, "::/EFI/debian/grubx64.efi"},
			{"mdel", "::/EFI/debian/grub.cfg"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := filepath.Join(t.TempDir(), "disk.img")
			witness(t, "cp", "--sparse=always", base, disk)
			for _, c := range commands {
				witness(t, c[0], append([]string{"-i", disk + "@@1048576"}, c[1:]...)...)
			}
			broken := read(t, disk)
			s.must(1, "diagnose", "--image", disk)
			for range 3 { // one rung can show what else is broken
				if r := s.run("diagnose", "--image", disk); r.status == 0 ||
					strings.Contains(r.out, "Mended, and not started since") {
					break
				}
				s.must(0, "climb", "--image", disk)
			}
			mended := read(t, disk)
			startsBy(t, disk, "virtio", "uefi", "quay-3 login:")
			if sha256.Sum256(mended[rootAt:]) != sha256.Sum256(broken[rootAt:]) &&
				!bytes.Equal(mended[rootAt:rootAt+800<<20], broken[rootAt:rootAt+800<<20]) {
				t.Error("the system's own volume was written to")
			}
			put(t, disk, mended)
			journals, err := filepath.Glob(filepath.Join(filepath.Dir(disk), "*.journal"))
			if err != nil || len(journals) == 0 {
				t.Fatal(journals, err)
			}
			for i := len(journals) - 1; i >= 0; i-- {
				s.must(0, "undo", journals[i])
			}
			if !bytes.Equal(read(t, disk), broken) {
				t.Error("the undo is not exact")
			}
			if err := os.Remove(disk); err != nil {
				t.Fatal(err)
			}
		})
	}
}
