package proving

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/action"
	"diorthos/core/ladder"
	"diorthos/host"
	"diorthos/platform"
)

// TestWhatIsMendedInsideCutOffAtEveryWrite does it with what a Debian machine's own tools and the files of its
// packages are mended by, inside the system: a package is half installed, a file of another is altered, a list
// of packages cannot be read. The system's tools are ours here, and say and do what those say and do; the
// records are dpkg's own.
func TestWhatIsMendedInsideCutOffAtEveryWrite(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a system is entered by root alone")
	}
	disk := innerDisk(t)
	m := &host.Machine{
		Path: disk, Name: "cut", SectorSize: 512, Adapters: platform.All(), Now: func() time.Time { return Now },
	}
	facts, err := m.Measure(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	m.Facts = facts
	for _, id := range []action.ID{"packages.finish", "packages.restore-files", "packages.lists-anew"} {
		rung := ladder.Rung{Number: 1, Remedy: string(id), Action: id, Target: action.TargetOf(id, facts)}
		n := cutOff(t, m, rung)
		if n < 3 {
			t.Errorf("%s was cut off %d times", id, n)
		}
		t.Logf("%s: cut off %d times", id, n)
	}
}

// innerDisk is that of a small system with two packages that dpkg installed.
func innerDisk(t *testing.T) string {
	t.Helper()
	dir, tree := t.TempDir(), filepath.Join(t.TempDir(), "tree")
	for _, folder := range []string{
		"dev", "proc", "sys", "run", "tmp", "etc", "usr/bin", "usr/sbin", "var/lib/dpkg/info", "var/lib/dpkg/updates",
		"var/lib/dpkg/triggers", "var/lib/dpkg/alternatives", "var/lib/dpkg/parts", "var/cache/apt/archives/partial",
		"var/lib/apt/lists", "var/log/apt", "var/cache/debconf", "etc/alternatives", "var/tmp",
	} {
		if err := os.MkdirAll(filepath.Join(tree, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	shell := func(line string) {
		t.Helper()
		c := exec.CommandContext(t.Context(), "sh", "-ec", line)
		c.Env = append(os.Environ(), "T="+tree, "D="+dir, "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", line, err, out)
		}
	}
	shell(`chmod 1777 $T/tmp $T/var/tmp; printf 'ID=debian\nPRETTY_NAME="Debian"\n' >$T/etc/os-release
		echo root:x:0:0::/root:/bin/sh >$T/etc/passwd; echo root:x:0: >$T/etc/group; echo root:*:1:0::::: >$T/etc/shadow
		: >$T/var/lib/dpkg/status; : >$T/var/lib/dpkg/available
		for p in skerrow-deck skerrow-tide; do
			mkdir -p $D/$p/DEBIAN $D/$p/usr/bin; head -c 3000 /dev/urandom >$D/$p/usr/bin/$p; chmod 755 $D/$p/usr/bin/$p
			printf 'Package: %s\nVersion: 1.0\nArchitecture: all\nMaintainer: x <x@y>\nDescription: x\n' $p \
				>$D/$p/DEBIAN/control
			(cd $D/$p; md5sum usr/bin/* >DEBIAN/md5sums)
			dpkg-deb --root-owner-group -b $D/$p $T/var/cache/apt/archives/${p}_1.0_all.deb
			dpkg --root=$T --force-not-root --force-script-chrootless --log=/dev/null \
				-i $T/var/cache/apt/archives/${p}_1.0_all.deb
		done
		echo altered >$T/usr/bin/skerrow-tide
		sed -i '/^Package: skerrow-deck$/,/^$/s/^Status: .*/Status: install ok unpacked/' $T/var/lib/dpkg/status
		CGO_ENABLED=0 go build -o $T/usr/bin/dpkg ./testdata/tools; cp $T/usr/bin/dpkg $T/usr/bin/apt-get
		cp $T/usr/bin/dpkg $T/usr/bin/apt-cache; head -c 9000 /dev/urandom >$T/var/lib/apt/lists/deck_Packages
		truncate -s 40M $D/disk.img; printf 'label: dos\n2048,,83,*\n' | sfdisk -q $D/disk.img
		mke2fs -q -F -t ext4 -d $T -E offset=1048576 $D/disk.img 38m`)
	return filepath.Join(dir, "disk.img")
}
