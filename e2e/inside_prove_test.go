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

// biosBase is a Debian machine that starts by the older firmware.
func biosBase(t *testing.T) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), "../standin/debian/bios.sh")
	c.Stderr = os.Stderr
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// spoil changes a copy of a machine's root volume by shell, in a mount of its own.
func spoil(t *testing.T, base, how string) (disk string) {
	t.Helper()
	disk = filepath.Join(t.TempDir(), "disk.img")
	at := filepath.Join(t.TempDir(), "m")
	witness(t, "cp", "--sparse=always", base, disk)
	witness(t, "mkdir", at)
	witness(t, "mount", "-o", "loop,offset=1048576", disk, at)
	defer func() { witness(t, "umount", at) }()
	c := exec.CommandContext(t.Context(), "bash", "-ec", "cd "+at+"\n"+how)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", how, err, out)
	}
	return disk
}

// atRest says what dpkg and apt of a machine itself still mind, and sums its users' files.
func atRest(t *testing.T, disk string) (minds, data string) {
	t.Helper()
	at, copied := filepath.Join(t.TempDir(), "m"), filepath.Join(t.TempDir(), "copy.img")
	witness(t, "cp", "--sparse=always", disk, copied) // looking changes it
	witness(t, "mkdir", at)
	witness(t, "mount", "-o", "loop,offset=1048576", copied, at)
	defer func() { witness(t, "umount", "-R", at) }()
	witness(t, "mount", "-t", "proc", "proc", at+"/proc")
	c := exec.CommandContext(
		t.Context(),
		"chroot",
		at,
		"env",
		"-i",
		"PATH=/usr/sbin:/usr/bin:/sbin:/bin",
		"LC_ALL=C", "DEBIAN_FRONTEND=noninteractive",
		"sh",
		"-c",
		"dpkg --audit 2>&1 | head -3; dpkg --configure -a >/dev/null 2>&1 || echo configure; "+
			"apt-get check -q >/dev/null 2>&1 || echo check; apt-get -s install hello >/dev/null 2>&1 || echo the next run",
	)
	out, err := c.CombinedOutput()
	if err != nil {
		out = append(out, err.Error()...)
	}
	sums, err := exec.CommandContext(t.Context(), "sh", "-c",
		"cd "+at+" && find home srv root -type f -exec sha256sum {} + | sort | sha256sum").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out)), string(sums)
}

// half sets the state of a package.
func half(state string, packages ...string) string {
	var lines []string
	for _, p := range packages {
		lines = append(
			lines,
			fmt.Sprintf(`sed -i '/^Package: %s$/,/^$/s/^Status: .*/Status: %s/' var/lib/dpkg/status`, p, state),
		)
	}
	return strings.Join(lines, "\n")
}

const fails = `printf '#!/bin/sh\n[ "$1" = prereqs ] && exit 0\necho boo >&2; exit 3\n' >%[1]s; chmod 755 %[1]s`

// What keeps the next run of apt from being made: each is done to a machine by shell, found,
// mended by climbs alone, and proven by the machine's own dpkg and apt.
var packageBreaks = map[string]string{
	"the database is empty": "truncate -s 0 var/lib/dpkg/status",
	"the database is gone":  "rm var/lib/dpkg/status",
	"the database is full of zeros": "s=$(stat -c %s var/lib/dpkg/status); dd if=/dev/zero of=var/lib/dpkg/status " +
		"bs=$s count=1",
	"the database is cut off":      "truncate -s 50000 var/lib/dpkg/status",
	"a line of it is damaged":      "sed -i '200s/.*/garbage here/' var/lib/dpkg/status",
	"a folder stands in its place": "rm var/lib/dpkg/status; mkdir var/lib/dpkg/status",
	"a note that cannot be read":   "echo hello >var/lib/dpkg/updates/0001",
	"no folder for notes":          "rmdir var/lib/dpkg/updates",
	"a list of files is cut off":   "truncate -s -3 var/lib/dpkg/info/sed.list",
	"a list of files is empty":     "truncate -s 0 var/lib/dpkg/info/sed.list",
	"an override of nobody":        "echo 'ghost ghost 0755 /srv' >>var/lib/dpkg/statoverride",
	"diversions are cut off":       `printf '/usr/bin/a\n/usr/bin/a.x\n' >>var/lib/dpkg/diversions`,
	"a trigger that is none":       "echo nonsense >>var/lib/dpkg/triggers/File",
	"the downloads are a file":     "rm -rf var/cache/apt/archives; echo x >var/cache/apt/archives",
	"files are marked":             "chattr +i usr/bin/sed var/lib/dpkg/info",
	"a source that apt refuses":    "echo 'debb http://x y' >etc/apt/sources.list.d/local.list",
	"half configured":              half("install ok half-configured", "sed"),
	"several unpacked":             half("install ok unpacked", "sed", "tar", "grep"),
	"half installed":               half("install reinstreq half-installed", "sed"),
	"a hook fails": half(
		"install ok half-configured",
		"initramfs-tools",
	) + "\n" + fmt.Sprintf(
		fails,
		"etc/initramfs-tools/hooks/skerrow",
	),
	"a setting that apt refuses": half(
		"install ok half-configured",
		"sed",
	) + "\necho 'APT { Broken' >etc/apt/apt.conf.d/99local",
	"a pin that apt refuses": half(
		"install ok half-configured",
		"sed",
	) + "\n" + `printf 'Package: *\nPin: nonsense\n' >etc/apt/preferences.d/local`,
	"an option that dpkg refuses": half(
		"install ok half-configured",
		"sed",
	) + "\necho 'no-such-option' >etc/dpkg/dpkg.cfg.d/local",
	"a command before dpkg fails": half(
		"install ok half-installed",
		"sed",
	) + "\necho 'DPkg::Pre-Invoke {\"false\";};' >etc/apt/apt.conf.d/50hook",
	"a program in the way": half(
		"install ok half-configured",
		"ca-certificates",
	) + "\n" + fmt.Sprintf(
		fails,
		"usr/local/sbin/update-ca-certificates",
	),
	"a script is empty": half(
		"install ok half-configured",
		"ca-certificates",
	) + "\ntruncate -s 0 var/lib/dpkg/info/ca-certificates.postinst",
	"a script cannot be run": half(
		"install ok half-configured",
		"ca-certificates",
	) + "\nchmod 644 var/lib/dpkg/info/ca-certificates.postinst",
	"perl is gone":             "rm usr/bin/perl",
	"a library of apt is gone": "rm usr/lib/x86_64-linux-gnu/libapt-pkg.so.6.0*",
	"a library is empty":       "truncate -s 0 usr/lib/x86_64-linux-gnu/libzstd.so.1.*",
	"tar is gone":              "rm bin/tar",
	"the answers are zeros": "s=$(stat -c %s var/cache/debconf/templates.dat); dd if=/dev/zero " +
		"of=var/cache/debconf/templates.dat bs=$s count=1",
	"accounts are gone":                 "cp etc/passwd etc/passwd-; truncate -s 0 etc/passwd",
	"a preloaded library is not there":  "echo /usr/lib/libnone.so >etc/ld.so.preload",
	"the C library is gone":             "rm usr/lib/x86_64-linux-gnu/libc.so.6",
	"the link to all programs is gone":  "rm bin",
	"the package's script always fails": newPackage("", "exit 1"),
	"what a package needs is nowhere":   newPackage("Depends: nonesuch\n", "exit 0"),
}

// newPackage installs one as the last run did.
func newPackage(fields, script string) string {
	return `mkdir -p root/p/DEBIAN
		printf 'Package: skerrow\nVersion: 1.0\nArchitecture: all\nMaintainer: x <x@y>\nDescription: x\n` +
		strings.ReplaceAll(
			fields,
			"\n",
			`\n`,
		) + `' >root/p/DEBIAN/control; printf '#!/bin/sh\n` + script + `\n' >root/p/DEBIAN/postinst
		chmod 755 root/p/DEBIAN/postinst; dpkg-deb --root-owner-group -b root/p var/cache/skerrow.deb; rm -r root/p
		chroot . dpkg -i /var/cache/skerrow.deb || true`
}

func TestProveThatTheNextRunCanBeMade(t *testing.T) {
	base := biosBase(t)
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	if out := s.must(0, "diagnose", "--image", base); !strings.Contains(out, "nothing wrong was found") {
		t.Errorf("of a healthy machine: %s", out)
	}
	names := make([]string, 0, len(packageBreaks))
	for name := range packageBreaks {
		names = append(names, name)
	}
	slices.Sort(names)
	mended := 0
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := spoil(t, base, packageBreaks[name])
			broken, _ := os.ReadFile(disk)
			s.must(1, "diagnose", "--image", disk)
			for range 4 {
				if r := s.run("climb", "--image", disk, "--yes"); r.status != 0 {
					break
				}
			}
			minds, data := atRest(t, disk)
			if minds != "" {
				t.Errorf("it is still minded: %s", minds)
			} else {
				mended++
			}
			journals, _ := filepath.Glob(filepath.Dir(disk) + "/*.journal")
			slices.Sort(journals)
			for _, j := range slices.Backward(journals) {
				s.must(0, "undo", j)
			}
			if now, _ := os.ReadFile(disk); !bytes.Equal(now, broken) {
				t.Error("undo is not exact")
			}
			if _, before := atRest(t, disk); before != data {
				t.Error("users' files differ")
			}
		})
	}
	t.Logf("of %d machines, the next run can be made on %d", len(names), mended)
}

// What keeps a machine from starting, and is mended by what lies on it: it starts in the
// emulator afterwards.
func TestProveThatWhatWasMendedInsideStarts(t *testing.T) {
	base := biosBase(t)
	names, starts := []string{}, 0
	breaks := map[string]string{
		"no early-boot image":                 "rm boot/initrd*",
		"the early-boot image is cut off":     "truncate -s 5000000 boot/initrd*",
		"no menu":                             "rm boot/grub/grub.cfg",
		"the kernel is cut off":               "truncate -s 1000000 boot/vmlinuz*",
		"no kernel":                           "rm boot/vmlinuz*",
		"neither kernel nor early-boot image": "rm boot/vmlinuz* boot/initrd*",
		"no C library":                        "rm usr/lib/x86_64-linux-gnu/libc.so.6",
		"no shell":                            "rm bin/sh",
		"no dynamic linker":                   "rm usr/lib/x86_64-linux-gnu/ld-linux-x86-64.so.2",
		"no link to all programs":             "rm bin",
		"no early-boot image, and a hook that fails": "rm boot/initrd*\n" + fmt.Sprintf(
			fails,
			"etc/initramfs-tools/hooks/skerrow",
		),
		"a mount that is not there": "echo 'UUID=11111111-2222-3333-4444-555555555555 /data ext4 defaults 0 2' >>etc/fstab",
	}
	for name := range breaks {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := spoil(t, base, breaks[name])
			s.must(1, "diagnose", "--image", disk)
			for range 3 {
				if r := s.run("climb", "--image", disk, "--yes"); r.status != 0 {
					break
				}
			}
			r := s.run("rehearse", "--memory", "512", "--limit", "5m", disk)
			if r.status != 0 {
				t.Errorf("it does not start: %s%s", r.out, r.errout)
				return
			}
			starts++
		})
	}
	t.Logf("%d of %d start", starts, len(names))
}
