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
				s := &stage{t: t, url: "http://127.0.0.1:1"}
				disk := brokenLVM(t, base, cases[name])
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
				if r := s.run(append([]string{"rehearse", "--limit", "4m", disk}, with...)...); r.status != 0 {
					t.Errorf("it does not start: %s%s\n%s", r.out, r.errout, said)
				} else {
					starts++
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
			})
		}
	}
	t.Logf("%d of %d start", starts, total)
}
