//go:build prove

package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// A place is a folder of a machine, by where its volume lies.
type place struct {
	at      int64 // bytes from the start of the disk
	options string
	below   string // the folder on the volume
}

// A wholeMachine is one that standin/debian makes.
type wholeMachine struct {
	script           []string
	boot, root, home place
}

var wholeMachines = map[string]wholeMachine{
	"whole": {
		script: []string{"whole.sh"},
		boot: place{
			at:    65 << 20,
			below: ".",
		}, root: place{at: 321 << 20, below: "."}, home: place{at: 1721 << 20, below: "."},
	},
	"xfs": {
		script: []string{"rootfs.sh", "xfs"},
		boot: place{
			at:    65 << 20,
			below: "boot",
		}, root: place{at: 65 << 20, below: "."}, home: place{at: 65 << 20, below: "home"},
	},
	"btrfs": {
		script: []string{"rootfs.sh", "btrfs"},
		boot:   place{65 << 20, ",subvol=@rootfs", "boot"}, root: place{65 << 20, ",subvol=@rootfs", "."},
		home: place{65 << 20, ",subvol=@home", "."},
	},
}

// made is the disk of the machine.
func (m wholeMachine) made(t *testing.T) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "../standin/debian/"+m.script[0], m.script[1:]...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// onFolder runs a script in a folder of a machine's disk.
func onFolder(t *testing.T, disk string, p place, script string) string {
	t.Helper()
	at := t.TempDir()
	script = fmt.Sprintf(
		"mount -o loop,offset=%d%s %s %s\ncd %s/%s\n%s\ncd /\numount %s", p.at, p.options, disk, at, at, p.below, script, at,
	)
	// In mounts of its own: others that begin theirs from ours would keep it in use after it was given back here.
	out, err := exec.CommandContext(t.Context(), "unshare", "--mount", "sh", "-ec", script).Output()
	if err != nil {
		t.Fatalf("%s: %v", script, err)
	}
	return string(out)
}

// harmedPlaces are what a start goes through: in a folder of the machine, or on the EFI system partition.
var harmedPlaces = []struct {
	at    string
	names string // a list of the shell's patterns
}{
	{"boot", "grub/grub.cfg vmlinuz-* initrd.img-* grub/x86_64-efi/normal.mod grub/x86_64-efi/*.mod"},
	{"esp", "EFI/debian/grubx64.efi EFI/debian/grub.cfg EFI/BOOT/BOOTX64.EFI"},
	{
		"root",
		"etc/fstab etc/passwd etc/shadow etc/group etc/nsswitch.conf etc/pam.d/login etc/pam.d/common-* etc/login.defs",
	},
	{
		"root",
		"usr/lib/systemd/systemd usr/lib/systemd/systemd-udevd usr/lib/systemd/*.so " +
			"usr/bin/udevadm usr/sbin/agetty usr/bin/login",
	},
	{"root", "usr/bin/dash usr/bin/mount usr/sbin/init usr/lib/systemd/system/*.target usr/lib/systemd/system/*getty*"},
	{
		"root",
		"usr/lib/x86_64-linux-gnu/libc.so.6 usr/lib/x86_64-linux-gnu/ld-linux* " +
			"usr/lib/x86_64-linux-gnu/security/*.so bin lib lib64",
	},
}

// harms are what is done to a file $f, by tools that are not ours.
var harms = []string{
	"rm -rf $f", "truncate -s $(($(stat -c %s $f) / 2)) $f", "truncate -s 0 $f", "chmod 000 $f", "rm -rf $f; mkdir $f",
	"rm -rf $f; ln -s /nowhere $f", "dd if=/dev/urandom of=$f bs=4096 count=1 conv=notrunc status=none",
	"dd if=/dev/zero of=$f bs=65536 count=1 conv=notrunc status=none",
}

// harmed harms one thing, by chance, and says what.
func (m wholeMachine) harmed(t *testing.T, disk string, random *rand.Rand) string {
	t.Helper()
	place, how := harmedPlaces[random.IntN(len(harmedPlaces))], harms[random.IntN(len(harms))]
	choose := "f=$(ls -d " + place.names + " | sed -n " + strconv.Itoa(
		1+random.IntN(8),
	) + "p); [ -n \"$f\" ] || f=$(ls -d " + place.names + " | head -1)\n"
	if place.at == "esp" {
		names := strings.Fields(place.names)
		name := names[random.IntN(len(names))]
		file := filepath.Join(t.TempDir(), "f")
		witness(t, "mcopy", "-n", "-i", disk+"@@1M", "::/"+name, file)
		out, err := exec.CommandContext(t.Context(), "sh", "-ec", "f="+file+"\n"+how).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v: %s", how, err, out)
		}
		witness(t, "mdel", "-i", disk+"@@1M", "::/"+name)
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Mode().Perm() != 0 {
			witness(t, "mcopy", "-i", disk+"@@1M", file, "::/"+name)
		}
		return how + " of " + name
	}
	where := m.root
	if place.at == "boot" {
		where = m.boot
	}
	how = "{ [ -f $f ] || rm -rf $f; }\n[ ! -f $f ] || { " + how + "; }" // a link to a folder can only go
	return how + " of " + strings.TrimSpace(onFolder(t, disk, where, choose+"echo $f\n"+how))
}

// begins says whether a machine starts to a login prompt, and how it ended.
func begins(t *testing.T, s *stage, disk string) (bool, string) {
	t.Helper()
	r := s.run("rehearse", "--json", "--limit", "5m", disk)
	var seen struct {
		Starts   bool
		End, Saw string
	}
	if err := json.Unmarshal([]byte(r.out), &seen); err != nil {
		t.Fatalf("%v: %s%s", err, r.out, r.errout)
	}
	return seen.Starts, seen.End + ": " + seen.Saw
}

// A whole machine is harmed in one place by chance, again and again: where it does not start any more, that is told and
// never "nothing wrong"; it is mended from a healthy twin, starts, keeps its users' files, and the undo is exact.
// DIORTHOS_HARMS is how many machines, DIORTHOS_SEED the seed of the first, DIORTHOS_BASE which one of wholeMachines.
func TestDamageToAWholeMachineIsTold(t *testing.T) {
	number := func(name string, otherwise uint64) uint64 {
		if n, err := strconv.ParseUint(os.Getenv(name), 10, 32); err == nil {
			return n
		}
		return otherwise
	}
	m, ok := wholeMachines[cmp.Or(os.Getenv("DIORTHOS_BASE"), "whole")]
	if !ok {
		t.Fatalf("DIORTHOS_BASE is %q, and no machine is called so", os.Getenv("DIORTHOS_BASE"))
	}
	base := m.made(t)
	from, count := number("DIORTHOS_SEED", 1), number("DIORTHOS_HARMS", 20)
	stopped, told, mended := 0, 0, 0
	for seed := from; seed < from+count; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := filepath.Join(t.TempDir(), "disk.img")
			witness(t, "cp", "--sparse=always", base, disk)
			did := m.harmed(t, disk, rand.New(rand.NewPCG(seed, 99)))
			before, kept := witness(t, "sha256sum", disk), m.users(t, disk)
			starts, end := begins(t, s, disk)
			found := s.run("diagnose", "--image", disk).status != 0
			if starts {
				t.Logf("%s: it starts all the same, told as wrong: %t", did, found)
				return
			}
			if stopped++; !found {
				t.Errorf("%s: nothing is told to be wrong, and %s", did, end)
				return
			}
			told++
			for range 5 {
				if s.run("climb", "--image", disk, "--yes", "--source", base).status != 0 {
					break
				}
			}
			now, after := begins(t, s, disk)
			t.Logf("%s: %s; mended: %t, %s", did, end, now, after)
			if now {
				mended++
			}
			if got := m.users(t, disk); got != kept {
				t.Errorf("%s: users' files are %q, want %q", did, got, kept)
			}
			journals, err := filepath.Glob(filepath.Join(filepath.Dir(disk), "*.journal"))
			if err != nil {
				t.Fatal(err)
			}
			for _, j := range slices.Backward(journals) {
				s.must(0, "undo", j)
			}
			if witness(t, "sha256sum", disk) != before {
				t.Errorf("%s: the undo is not exact", did)
			}
		})
	}
	t.Logf("of %d machines %d did not start any more: told %d, started again %d", count, stopped, told, mended)
	if mended*10 < stopped*7 {
		t.Errorf("%d of %d started again", mended, stopped)
	}
}

// users are the users' files of the machine, as the kernel reads them.
func (m wholeMachine) users(t *testing.T, disk string) string {
	t.Helper()
	copied := filepath.Join(t.TempDir(), "copy") // looking at it would change it
	witness(t, "cp", "--sparse=always", disk, copied)
	defer func() { _ = os.Remove(copied) }()
	return onFolder(t, copied, m.home, "cat eivind/note") + onFolder(t, copied, m.root, "cat srv/tides/today")
}
