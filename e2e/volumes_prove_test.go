//go:build prove

package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Where the volumes of standin/debian/lvm.sh lie, in bytes.
const (
	lvmBoot = 65 << 20
	lvmPV   = 321 << 20
	lvmRoot = lvmPV + 1<<20
)

// lvmBase is a Debian machine with its root on a logical volume.
func lvmBase(t *testing.T, words ...string) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), "../standin/debian/lvm.sh", words...)
	c.Stderr = os.Stderr
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// A breaking says on which of a machine's volumes something is broken, and how: by shell, in a
// mount of the volume or, where it has none, with the disk as $disk.
type breaking struct {
	at  int64
	how string
}

// brokenLVM breaks a copy of a machine.
func brokenLVM(t *testing.T, base string, list []breaking) (disk string) {
	t.Helper()
	disk = filepath.Join(t.TempDir(), "disk.img")
	witness(t, "cp", "--sparse=always", base, disk)
	for _, b := range list {
		how, at := b.how, filepath.Join(t.TempDir(), "m")
		if b.at != 0 {
			witness(t, "mkdir", "-p", at)
			witness(t, "mount", "-o", "loop,offset="+fmt.Sprint(b.at), disk, at)
			how = "cd " + at + "\n" + how
		}
		c := exec.CommandContext(t.Context(), "bash", "-ec", how)
		c.Env = append(os.Environ(), "disk="+disk)
		out, err := c.CombinedOutput()
		if b.at != 0 {
			witness(t, "umount", at)
		}
		if err != nil {
			t.Fatalf("%s: %v: %s", b.how, err, out)
		}
	}
	return disk
}

// mendedStarts diagnoses a broken disk, climbs as long as rungs are left, starts the machine from a copy, and
// takes everything back; it reports whether the machine started.
func mendedStarts(t *testing.T, disk string, with ...string) (starts bool) {
	t.Helper()
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	broken := read(t, disk)
	said := s.must(1, append([]string{"diagnose", "--image", disk}, with...)...)
	if strings.Contains(said, "harbour") {
		t.Error("the passphrase is in the output")
	}
	for range 5 {
		if r := s.run(append([]string{"climb", "--image", disk, "--yes"}, with...)...); r.status != 0 {
			t.Logf("climb: %s%s", r.out, r.errout)
			break
		}
	}
	mended := read(t, disk)
	r := s.run(append([]string{"rehearse", "--limit", "4m", disk}, with...)...)
	if starts = r.status == 0; !starts {
		t.Errorf("it does not start: %s%s\n%s", r.out, r.errout, said)
	}
	if !bytes.Equal(mended, read(t, disk)) {
		t.Error("the rehearsal changed the disk")
	}
	journals, err := filepath.Glob(filepath.Join(filepath.Dir(disk), "*.journal"))
	if err != nil {
		t.Fatal(err)
	}
	for _, j := range slices.Backward(journals) {
		s.must(0, "undo", j)
	}
	if !bytes.Equal(read(t, disk), broken) {
		t.Error("the undo is not exact")
	}
	return starts
}

// A machine as the installer's guided set-up makes it, with its root on a logical volume, plain and
// encrypted, is followed, mended and started again, and the undo is exact.
func TestProveThatAMachineOnLogicalVolumesStartsAgain(t *testing.T) {
	key := filepath.Join(t.TempDir(), "key")
	put(t, key, []byte("harbour"))
	gone := "/dev/mapper/quay--vg-gone"
	breaks := map[string][]breaking{
		"no early-boot image":             {{lvmBoot, "rm initrd*"}},
		"the early-boot image is cut off": {{lvmBoot, "truncate -s 5000000 initrd*"}},
		"no menu":                         {{lvmBoot, "rm grub/grub.cfg"}},
		"no kernel":                       {{lvmBoot, "rm vmlinuz*"}},
		"nothing on the boot volume":      {{lvmBoot, "rm -rf vmlinuz* initrd* grub"}},
		"no loader":                       {{0, "mdeltree -i $disk@@1M ::/EFI"}},
		"no short configuration":          {{0, "mdel -i $disk@@1M ::/EFI/debian/grub.cfg"}},
		"another root in the menu":        {{lvmBoot, "sed -i s,quay--vg-root,quay--vg-old," + " grub/grub.cfg"}},
		"no table":                        {{0, "dd if=/dev/zero of=$disk bs=512 seek=1 count=1 conv=notrunc status=none"}},
	}
	onPlain := map[string][]breaking{
		"a mount that is not there": {{lvmRoot, "echo '" + gone + " /data ext4 defaults 0 2' >>etc/fstab"}},
		"no shell":                  {{lvmRoot, "rm bin/sh"}},
		"no C library":              {{lvmRoot, "rm usr/lib/x86_64-linux-gnu/libc.so.6"}},
		"the group's metadata are damaged": {
			{0, "dd if=/dev/zero of=$disk bs=1 seek=$((321*1048576+4096)) count=64 conv=notrunc status=none"},
		},
		"the first superblock of the root": {
			{0, "dd if=/dev/zero of=$disk bs=1024 seek=$((322*1024+1)) count=1 conv=notrunc status=none"},
		},
		"no early-boot image and a mount that is not there": {
			{lvmBoot, "rm initrd*"}, {lvmRoot, "echo '" + gone + " /data ext4 defaults 0 2' >>etc/fstab"},
		},
	}
	total, starts := 0, 0
	for _, kind := range []string{"plain", "encrypted"} {
		base := lvmBase(t, kind)
		cases := map[string][]breaking{}
		for name, list := range breaks {
			cases[name] = list
		}
		var with []string
		if kind == "encrypted" {
			with = []string{"--key-file", key}
		} else {
			for name, list := range onPlain {
				cases[name] = list
			}
		}
		var names []string
		for name := range cases {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			total++
			t.Run(kind+": "+name, func(t *testing.T) {
				disk := brokenLVM(t, base, cases[name])
				if mendedStarts(t, disk, with...) {
					starts++
				}
			})
		}
	}
	t.Logf("%d of %d start", starts, total)
}

// An update of a genuine machine is done on a draft before it is done: one whose script fails is told
// with its docket, the rest succeeds while that package is held back, and the disk is not touched.
func TestProveThatAnUpdateIsForeseen(t *testing.T) {
	base := biosBase(t)
	prepare := `
pack() { d=$(mktemp -d); mkdir -p $d/DEBIAN $d/usr/share/$1 srv/repo; echo $2 >$d/usr/share/$1/v; chmod 755 $d
  printf 'Package: %s\nVersion: %s\nArchitecture: all\n' $1 $2 >$d/DEBIAN/control
  printf 'Maintainer: ines <ines@skerrow.example>\nDescription: x\n' >>$d/DEBIAN/control
  [ -z "$3" ] || { printf '#!/bin/sh\nset -e\n%s\n' "$3" >$d/DEBIAN/postinst; chmod 755 $d/DEBIAN/postinst; }
  dpkg-deb -b $d srv/repo/$1_$2_all.deb >/dev/null; rm -rf $d; }
pack skerrow-tide 1.0; pack skerrow-winch 1.0
chroot . dpkg -i /srv/repo/skerrow-tide_1.0_all.deb /srv/repo/skerrow-winch_1.0_all.deb >/dev/null
pack skerrow-tide 2.0; pack skerrow-winch 2.0 'winchctl calibrate'
(cd srv/repo; for f in *.deb; do dpkg-deb -f $f; echo "Filename: ./$f"; echo "Size: $(stat -c %s $f)"
  echo "SHA256: $(sha256sum $f | cut -d' ' -f1)"; echo; done >Packages)
rm -f etc/apt/sources.list.d/*; echo 'deb [trusted=yes] file:/srv/repo ./' >etc/apt/sources.list`
	disk := spoil(t, base, prepare)
	before := read(t, disk)
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	wants(
		t,
		s.must(1, "ready", "--image", disk, "--rehearse"),
		"the update would fail",
		"winchctl: not found",
		"--hold skerrow-winch",
	)
	wants(t, s.must(0, "ready", "--image", disk, "--rehearse", "--hold", "skerrow-winch", "--start"),
		"1 upgraded, 0 new, 0 removed, 1 kept back", "the update succeeds", "it starts to a login prompt")
	if !bytes.Equal(before, read(t, disk)) {
		t.Error("the disk was changed")
	}
}
