package debian

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/readfs/readfstest"
	"diorthos/core/system"
)

// fewFiles is as little of a system as is followed from the menu to the mounts.
const fewFiles = `mkdir -p etc usr/bin usr/sbin usr/lib var/lib/dpkg boot/grub home; ln -s usr/sbin sbin; ln -s usr/bin bin
echo 'Package: dash' >var/lib/dpkg/status; printf 'ID=debian\nPRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\n' >etc/os-release
printf '#!/bin/sh\n' >usr/sbin/init; cp /bin/true usr/bin/sh; chmod 755 usr/sbin/init
mkdir -p lib64 usr/lib/x86_64-linux-gnu; cp -L /lib64/ld-linux* lib64/; cp -L /lib/x86_64-linux-gnu/libc.so.6 usr/lib/x86_64-linux-gnu/
 : >boot/vmlinuz-6.1.0-7; : >boot/initrd.img-6.1.0-7
uuid=$(blkid -p -s UUID -o value ../volume)
menu() { printf 'set timeout=0\nmenuentry one {\nlinux %s/boot/vmlinuz-6.1.0-7 root=UUID=%s %s\ninitrd %s/boot/initrd.img-6.1.0-7\n}\n' "$1" $uuid "$2" "$1" >boot/grub/grub.cfg; }
`

// diskWith is a disk whose one partition holds a volume.
func diskWith(t *testing.T, volume io.Reader) block.Device {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = f.Close() })
	if _, err := f.Seek(1<<20, io.SeekStart); err != nil {
		t.Fatal(err)
	}
	n, err := io.Copy(f, volume)
	if err == nil {
		err = f.Truncate(n + 2<<20)
	}
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("sgdisk", "-n", "1:2048:"+fmt.Sprint(2047+n/512), path).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = dev.Close() })
	return dev
}

// A system on XFS, or in a subvolume, is found and followed as its loader and its kernel see it; what names a subvolume
// that is not there does not hold.
func TestASystemIsFollowedOnOtherFileSystems(t *testing.T) {
	for _, c := range []struct{ name, mkfs, script, sub, root, mounts string }{
		{
			name: "xfs", mkfs: "mkfs.xfs -q",
			script: fewFiles + `menu "" ro; echo "UUID=$uuid / xfs defaults 0 0" >etc/fstab`,
		},
		{
			name: "a subvolume", mkfs: "mkfs.btrfs -q", sub: "@rootfs",
			script: "btrfs -q subvolume create @rootfs; btrfs -q subvolume create @home; cd @rootfs; " +
				strings.ReplaceAll(fewFiles, "../volume", "../../volume") + `menu /@rootfs rootflags=subvol=@rootfs
				printf "UUID=$uuid / btrfs subvol=@rootfs 0 0\nUUID=$uuid /home btrfs defaults,subvol=/@home 0 0\n" >etc/fstab
				btrfs -q subvolume snapshot . ../older`,
		},
		{
			name: "the one that is mounted by default", mkfs: "mkfs.btrfs -q", sub: "system", mounts: "no subvolume @home",
			script: "btrfs -q subvolume create system; btrfs subvolume set-default system; cd system; " +
				strings.ReplaceAll(fewFiles, "../volume", "../../volume") + `menu /system ro
				printf "UUID=$uuid / btrfs defaults 0 0\nUUID=$uuid /home btrfs defaults,subvol=@home 0 0\n" >etc/fstab`,
		},
		{
			name: "another one is named", mkfs: "mkfs.btrfs -q", sub: "@rootfs", root: `"@root", which is not there`,
			script: "btrfs -q subvolume create @rootfs; cd @rootfs; " +
				strings.ReplaceAll(fewFiles, "../volume", "../../volume") + "menu /@rootfs rootflags=noatime,subvol=@root",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			volume, _ := readfstest.Make(t, c.mkfs, "320M", c.script)
			dev := diskWith(t, volume)
			d, found, err := system.Describe(dev, "disk0", "disk", []system.Adapter{Adapter{}}, system.Needs{})
			if err != nil || len(found) != 1 {
				t.Fatalf("%d systems: %v", len(found), err)
			}
			table, err := layout.Read(dev)
			if err != nil {
				t.Fatal(err)
			}
			g := system.GroundOf(dev, table, nil, 1, Adapter{})
			if sub := g.Root().Subvolume; sub != c.sub || found[0].Ground.Root().Subvolume != c.sub {
				t.Errorf("the system lies in %q", sub)
			}
			if at := d.Partitions[0].Mount; at != "/" {
				t.Errorf("it is mounted at %q", at)
			}
			start, ok, err := startOn(g, d.Partitions[0].Content.UUID, false)
			if err != nil || !ok {
				t.Fatalf("the menu starts nothing: %v", err)
			}
			if _, err := fs.Stat(start.Kernel.Volume.Files, start.Kernel.Path); err != nil {
				t.Errorf("the loader does not see its kernel: %v", err)
			}
			number, _ := rootOf(g, start.Arguments)
			root, missing := rootFiles(g, number, argument(start.Arguments, "rootflags"))
			if (missing == "") != (c.root == "") || !strings.Contains(missing, c.root) {
				t.Fatalf("the root volume: %q", missing)
			}
			if missing != "" {
				return
			}
			if l := initLink(root, ""); l.Fault != "" {
				t.Errorf("the first program: %+v", l)
			}
			if l := mountsLink(g, root); (l.Fault == "") != (c.mounts == "") || !strings.Contains(l.Saw, c.mounts) {
				t.Errorf("what is mounted: %+v", l)
			}
		})
	}
}
