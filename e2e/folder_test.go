package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// debianFolder makes a folder with the files of a small Debian system: the packages of this computer that dpkg,
// apt and scripts need, by their own lists of files, and a database that knows those alone.
func debianFolder(t testing.TB) string {
	t.Helper()
	root := filepath.Join(t.TempDir(), "lerrick-kiosk-2")
	if madeFolder != "" {
		witness(t, "cp", "-a", madeFolder, root)
		return root
	}
	witness(t, "../standin/debian/folder.sh", root)
	kept := filepath.Join(filepath.Dir(binary), "folder") // it goes with the binary
	witness(t, "cp", "-a", root, kept)
	madeFolder = kept
	return root
}

// madeFolder is one that was made before.
var madeFolder string

// inFolder runs a command inside a folder's system, as its technician would.
func inFolder(t testing.TB, root, command string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "unshare", "--mount", "sh", "-c",
		`mount -t proc proc "$0/proc" && mount --rbind /dev "$0/dev" &&
		exec chroot "$0" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive LC_ALL=C sh -c "$1"`,
		root, command).CombinedOutput()
	if err != nil {
		return string(out) + err.Error()
	}
	return string(out)
}

// packageIn makes a package file in a folder's /repo, with a script that configures it.
func packageIn(t testing.TB, root, name, version, script string, fields ...string) {
	t.Helper()
	tree := filepath.Join(t.TempDir(), name)
	control := "Package: " + name + "\nVersion: " + version + "\nArchitecture: all\n" +
		"Maintainer: Skerrow Ferries IT <it@skerrow.example>\nDescription: " + name + "\n"
	for _, f := range fields {
		control += f + "\n"
	}
	for file, text := range map[string]string{
		"DEBIAN/control": control, "DEBIAN/postinst": "#!/bin/sh\nset -e\n" + script + "\n",
		"usr/share/" + name + "/text": version,
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(tree, file)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(tree, file), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	witness(t, "dpkg-deb", "--root-owner-group", "-b", tree, filepath.Join(root, "repo", name+"_"+version+"_all.deb"))
}

// standing is what every file of a folder is: kind, mode, owner, size, time, where a link leads, and its sum; but for
// apt's cache of what it has read, which looking makes anew.
func standing(t *testing.T, root string) string {
	t.Helper()
	return witness(
		t,
		"sh",
		"-c",
		`cd "$0" && find . -xdev ! -name 'pkgcache.bin' ! -name 'lock*' -printf '%p %y %m %U %G %s %T@ %l\n' | sort &&
		find . -xdev -type f ! -name 'pkgcache.bin' -print0 | sort -z | xargs -0 sha256sum`,
		root,
	)
}

// A system in a folder, as of a mounted disk or of the running machine, is diagnosed and mended by its own tools on a
// draft: the proof is dpkg's own, users' files stay, and undo brings every file back as it was.
func TestASystemInAFolderIsMended(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a draft of a folder is mounted, which takes root")
	}
	root := debianFolder(t)
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	if out := inFolder(t, root, "dpkg --audit && apt-get check -q && echo fit"); !strings.HasSuffix(out, "fit\n") {
		t.Fatalf("the system is not fit to begin with: %s", out)
	}
	healthy := standing(t, root)
	alone.must(0, "diagnose", "--root", root)
	wants(t, alone.must(0, "upkeep", "do", "mend-lists", root), "nothing to do")
	if standing(t, root) != healthy {
		t.Error("a healthy system was changed")
	}

	wants(t, alone.must(0, "upkeep", "hold", "mawk", root), "held back", "proven")
	wants(t, alone.must(0, "upkeep", "hold", "mawk", root), "nothing to do")
	wants(t, inFolder(t, root, "apt-cache policy | grep -A9 Pinned; apt-get -s install --reinstall mawk"), "mawk -> ")
	wants(t, alone.must(0, "upkeep", "release", "mawk", root), "may be begun again")
	if r := alone.run("upkeep", "hold", "no such thing", root); r.status != 1 ||
		!strings.Contains(r.errout, "PACKAGE=VERSION") {
		t.Errorf("holding back what cannot be told: %+v", r)
	}
	packageIn(
		t,
		root,
		"skerrow-deck",
		"1.0",
		`[ -e /srv/berths ] || { echo "deck: the list of berths is missing" >&2; exit 3; }`,
	)
	inFolder(t, root, "apt-get -y install /repo/skerrow-deck_1.0_all.deb")
	broken := standing(t, root)
	wants(t, alone.must(1, "diagnose", "--root", root), "A package's own script failed", "by Diorthos",
		"deck: the list of berths is missing")
	dry := alone.must(0, "climb", "--root", root, "--dry-run")
	wants(t, dry, "planned, nothing changed", "skerrow-deck.postinst: removed", "it is the machine that was diagnosed")
	if standing(t, root) != broken {
		t.Error("a dry run changed something")
	}

	lock := holdLock(t, root)
	if r := alone.run("climb", "--root", root); r.status != 2 || !strings.Contains(r.errout, "wait until it has ended") {
		t.Errorf("a climb while apt works: status %d: %s", r.status, r.errout)
	}
	if err := lock.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = lock.Wait() // it was killed

	// At rest is not all: the package that was wanted cannot be had, and that is said.
	wants(
		t, alone.must(1, "climb", "--root", root), "proven", "the system's own tools say so", "take it back",
		"still fails on a copy: apt-get -y install /repo/skerrow-deck_1.0_all.deb: deck: the list",
		"since it still fails: rung 2",
	)
	if out := inFolder(t, root, "dpkg --audit; apt-get check -q >/dev/null && echo fit"); out != "fit\n" {
		t.Errorf("after the climb: %s", out)
	}
	wants(t, inFolder(t, root, "cat /home/anna/letter"), "the harbour's timetable")
	last := strings.TrimSpace(witness(t, "sh", "-c", "ls -t "+filepath.Dir(root)+"/*.journal | head -1"))
	wants(t, alone.must(0, "undo", last), "/usr/share/skerrow-deck/text: removed", "every file is as it was")
	if now := standing(t, root); now != broken {
		t.Errorf("the undo left a difference:\n%s", firstDifference(now, broken))
	}
	// A record that was damaged is moved aside, listed, and freed at the end; that too is taken back.
	harmed := filepath.Join(root, "var/lib/dpkg/diversions")
	if err := os.WriteFile(harmed, []byte("one line only\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	wants(t, alone.must(0, "upkeep", "do", "mend-lists", root), "the 0 entries that are whole")
	aside := standing(t, root)
	wants(t, alone.must(0, "upkeep", "aside", root), "var/lib/dpkg/diversions", "14 B")
	wants(t, alone.must(0, "upkeep", "tidy", root), "is freed, 14 B", "lies aside no more")
	wants(t, alone.must(0, "upkeep", "aside", root), "nothing was moved aside")
	last = strings.TrimSpace(witness(t, "sh", "-c", "ls -t "+filepath.Dir(root)+"/*.journal | head -1"))
	wants(t, alone.must(0, "undo", last), "every file is as it was")
	if now := standing(t, root); now != aside {
		t.Errorf("the undo left a difference:\n%s", firstDifference(now, aside))
	}
	if out := witness(t, "sh", "-c", "grep -c ' - tmpfs diorthos' /proc/self/mountinfo || :"); strings.TrimSpace(
		out,
	) != "0" {
		t.Errorf("%s mounts were left", out)
	}
}

// The latest run is taken back whole: what it upgraded, added and removed, from the cache and from a folder of package
// files; what it brought is held back; a second time nothing is left to do, and undo is exact. Where the earlier
// version is nowhere, nothing is changed. A run that failed half-way is taken back too.
func TestTheLatestRunIsTakenBack(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("takes root")
	}
	root := debianFolder(t)
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	packageIn(t, root, "skerrow-deck", "1.0", "true")
	packageIn(t, root, "skerrow-deck", "2.0", "echo deck: no harbour >&2; exit 3", "Depends: skerrow-rope")
	packageIn(t, root, "skerrow-rope", "1.0", "true")
	packageIn(t, root, "skerrow-chart", "3.0", "true")
	inFolder(t, root, `apt-get -y install /repo/skerrow-deck_1.0_all.deb /repo/skerrow-chart_3.0_all.deb
		apt-get -y install /repo/skerrow-deck_2.0_all.deb /repo/skerrow-rope_1.0_all.deb skerrow-chart-
		apt-mark auto skerrow-deck`)
	broken := standing(t, root)
	if r := alone.run("upkeep", "do", "remove-update", root, "--yes"); r.status != 1 ||
		!strings.Contains(r.errout, "skerrow-deck 1.0 for") || standing(t, root) != broken {
		t.Fatalf("with the earlier version nowhere: %+v", r)
	}
	source := filepath.Join(root, "repo")
	wants(t, alone.must(0, "upkeep", "do", "remove-update", root, "--source", source, "--yes"), "proven",
		"back at the version before: skerrow-deck 1.0", "had added: skerrow-rope", "had removed: skerrow-chart 3.0",
		"held back until")
	out := inFolder(
		t,
		root,
		`dpkg --audit; apt-get check -q >/dev/null && dpkg-query -W -f '${Package}=${Version} ' 'skerrow-*'
		apt-mark showauto skerrow-deck; cat /etc/apt/preferences.d/diorthos-held`,
	)
	if out = strings.Join(strings.Fields(out), " "); !strings.HasPrefix(
		out,
		"skerrow-chart=3.0 skerrow-deck=1.0 skerrow-deck ",
	) ||
		!strings.HasSuffix(out, "Package: skerrow-deck Pin: version 2.0 Pin-Priority: -1") {
		t.Errorf("afterwards: %s", out)
	}
	wants(t, alone.must(0, "upkeep", "do", "remove-update", root, "--source", source, "--yes"), "nothing to do")
	last := strings.TrimSpace(witness(t, "sh", "-c", "ls -t "+filepath.Dir(root)+"/*.journal | head -1"))
	wants(t, alone.must(0, "undo", last), "every file is as it was")
	if now := standing(t, root); now != broken {
		t.Errorf("the undo left a difference:\n%s", firstDifference(now, broken))
	}
}

// A boot volume that is full gets the room that the next run needs, and not more; what is a person's stays, and what
// goes is kept. Where all that can go is not enough, nothing is changed, and it is said. A change for which there is no room
// is not begun.
func TestRoomIsMadeOnAFullVolume(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("takes root")
	}
	root := debianFolder(t)
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	small := filepath.Join(t.TempDir(), "boot.img")
	witness(t, "sh", "-ec", `truncate -s 24M "$0"; mke2fs -q -t ext4 -m 0 -O ^has_journal "$0"; mkdir -p "$1/boot"
		mount -o loop "$0" "$1/boot"; cd "$1/boot"
		fill() { head -c "$2" /dev/urandom >"$1"; }
		fill vmlinuz-6.1.0-9-amd64 2000000; fill initrd.img-6.1.0-9-amd64 5000000
		fill initrd.img-5.10.0-1-amd64 3000000; fill initrd.img-5.10.0-2-amd64 3000000; fill letter 8000000`, small, root)
	t.Cleanup(func() { witness(t, "umount", filepath.Join(root, "boot")) })
	full := standing(t, filepath.Join(root, "boot"))
	wants(t, alone.must(0, "upkeep", "do", "make-boot-room", root), "early-boot images of kernels that are gone",
		"there is room for the next attempt: /boot")
	if out := inFolder(t, root, "cd /boot; ls"); !strings.Contains(out, "initrd.img-6.1.0-9") ||
		!strings.Contains(out, "letter") || strings.Contains(out, "5.10.0-1") {
		t.Errorf("on the boot volume are %s", out)
	}
	wants(t, alone.must(0, "upkeep", "aside", root), "boot/initrd.img-5.10.0-1-amd64")
	wants(t, alone.must(0, "upkeep", "do", "make-boot-room", root), "nothing to do")
	last := strings.TrimSpace(witness(t, "sh", "-c", "ls -t "+filepath.Dir(root)+"/*.journal | head -1"))
	wants(t, alone.must(0, "undo", last), "every file is as it was")
	if now := standing(t, filepath.Join(root, "boot")); now != full {
		t.Errorf("the undo left a difference:\n%s", firstDifference(now, full))
	}
	witness(t, "sh", "-c", "cd '"+root+"/boot'; rm initrd.img-5*; head -c 30000000 /dev/urandom >log || :")
	full = standing(t, filepath.Join(root, "boot"))
	if r := alone.run("upkeep", "do", "make-boot-room", root); r.status != 1 ||
		!strings.Contains(r.errout, "people's or needed") || standing(t, filepath.Join(root, "boot")) != full {
		t.Errorf("with nothing that can go: %+v", r)
	}
	packageIn(t, root, "skerrow-deck", "1.0", "head -c 3000000 /dev/zero >/boot/deck")
	inFolder(t, root, "dpkg --unpack /repo/skerrow-deck_1.0_all.deb")
	full = standing(t, root)
	if r := alone.run("climb", "--root", root, "--yes"); strings.Contains(r.out, "cut off") ||
		!strings.Contains(r.out+r.errout, "would not fit") || standing(t, root) != full {
		t.Errorf("a change without room for it: %+v", r)
	}
}

// holdLock has another process lock what apt locks.
func holdLock(t *testing.T, root string) *exec.Cmd {
	t.Helper()
	c := exec.CommandContext(t.Context(), "perl", "-MFcntl=:DEFAULT", "-e",
		`open F, ">", $ARGV[0]; my $l = pack("s s l! l! i", 1, 0, 0, 0, 0); fcntl(F, F_SETLK, $l) or die; sleep 60`,
		filepath.Join(root, "var/lib/dpkg/lock-frontend"))
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	return c
}

func firstDifference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range x {
		if i >= len(y) || x[i] != y[i] {
			return x[i] + "\n" + y[min(i, len(y)-1)]
		}
	}
	return "one is longer"
}

// A chain of packages that need each other, a run that was killed while it unpacked, a hook of the machine's owner, a
// record in a form that nobody knows: each is brought to rest by Diorthos alone, also where the docket's first rung
// is for a person.
func TestWhatStopsPackagesIsClearedInAFolder(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("takes root")
	}
	for name, c := range map[string]struct {
		harm  string // what happens to the machine
		check string // a command that has to end well afterwards
		says  []string
		fails bool // what failed still fails: a package's own script does
	}{
		"a chain": {
			fails: true,
			harm:  "apt-get -y install /repo/skerrow-base_1.0_all.deb /repo/skerrow-top_1.0_all.deb",
			check: "! dpkg -s skerrow-top 2>/dev/null | grep -q 'ok installed'",
			says:  []string{"skerrow-top", "skerrow-base", "removed"},
		},
		"killed while it unpacked": {
			harm: `dpkg --unpack /repo/skerrow-base_1.0_all.deb; sed -i '/^Package: skerrow-base$/,/^$/{
				s/^Status:.*/Status: install reinstreq half-installed/}' /var/lib/dpkg/status
				rm /repo/skerrow-base_1.0_all.deb /var/lib/dpkg/info/skerrow-base.*`,
			check: "! dpkg -s skerrow-base",
			says:  []string{"skerrow-base, which the last run had added"},
		},
		"a hook of the owner": {
			harm: `mkdir -p /etc/apt/apt.conf.d
				echo 'DPkg::Pre-Invoke { "/usr/local/bin/berths"; };' >/etc/apt/apt.conf.d/70berths
				printf '#!/bin/sh\necho berths: no list >&2\nexit 7\n' >/usr/local/bin/berths; chmod 755 /usr/local/bin/berths
				apt-get -y install /repo/skerrow-plain_1.0_all.deb`,
			check: "apt-get -y install /repo/skerrow-plain_1.0_all.deb",
			says:  []string{"/etc/apt/apt.conf.d/70berths is held aside", "goes through on a copy: apt-get -y install"},
		},
		"a hook of dpkg's": {
			harm: `mkdir -p /etc/dpkg/dpkg.cfg.d; echo "pre-invoke=echo 'berths: locked' >&2; exit 4" >/etc/dpkg/dpkg.cfg.d/berths
				dpkg -i /repo/skerrow-plain_1.0_all.deb`,
			check: "dpkg -i /repo/skerrow-plain_1.0_all.deb",
			says:  []string{"/etc/dpkg/dpkg.cfg.d/berths is held aside", "goes through on a copy: dpkg -i"},
		},
		"an account that a script needs": {
			fails: true,
			harm:  "apt-get -y install /repo/skerrow-owner_1.0_all.deb",
			check: "! dpkg -s skerrow-owner 2>/dev/null | grep -q 'ok installed'",
			says:  []string{"Make the account again", "nothing to do here", "skerrow-owner"},
		},
		"an account that every system has": {
			harm: `cp /etc/passwd /usr/share/base-passwd/passwd.master; cp /etc/group /usr/share/base-passwd/group.master
				sed -i '/^games:/d' /etc/passwd /etc/shadow /etc/group; apt-get -y install /repo/skerrow-games_1.0_all.deb`,
			check: "dpkg -s skerrow-games | grep -q 'ok installed' && grep -q '^games:x:5:' /etc/passwd && " +
				"grep -q '^games:' /etc/shadow",
			says: []string{"Make the account again", "the account games is there again", "goes through on a copy"},
		},
		"a limit of the owner's": {
			harm: `echo 'APT::Cache-Start "4096"; APT::Cache-Limit "4096"; APT::Cache-Grow "0";' >/etc/apt/apt.conf.d/30small
				apt-get -y install /repo/skerrow-plain_1.0_all.deb`,
			check: "apt-get -y install /repo/skerrow-plain_1.0_all.deb",
			says:  []string{"/etc/apt/apt.conf.d/30small is held aside", "APT::Cache-", "goes through on a copy"},
		},
		"what the run was started with": { // which is not there on a copy: that it goes through there tells nothing
			harm:  "export HARBOUR=closed; apt-get -y install /repo/skerrow-harbour_1.0_all.deb",
			check: "dpkg -s skerrow-harbour | grep -q 'ok installed'",
			says:  []string{"tells nothing on a copy: apt-get -y install", "try again what failed"},
		},
		"a form that nobody knows": {
			harm:  "echo 7 >/var/lib/dpkg/info/format; dpkg -i /repo/skerrow-plain_1.0_all.deb",
			check: "dpkg -i /repo/skerrow-plain_1.0_all.deb",
			says:  []string{"it says 1"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			root := debianFolder(t)
			packageIn(t, root, "skerrow-base", "1.0", "echo base: no compass >&2; exit 3")
			packageIn(t, root, "skerrow-top", "1.0", "true", "Depends: skerrow-base")
			packageIn(t, root, "skerrow-plain", "1.0", "true")
			packageIn(t, root, "skerrow-games", "1.0", "chown games /usr/share/skerrow-games/text")
			packageIn(t, root, "skerrow-owner", "1.0", "chown harbourmaster /usr/share/skerrow-owner/text")
			packageIn(t, root, "skerrow-harbour", "1.0", `[ "$HARBOUR" != closed ] || { echo "harbour: closed" >&2; exit 4; }`)
			screen := inFolder(t, root, c.harm)
			logs := filepath.Join(t.TempDir(), "logs")
			if err := os.MkdirAll(logs, 0o755); err != nil {
				t.Fatal(err)
			}
			witness(t, "sh", "-c", `cp -r "$0/var/log/apt" "$0/var/log/dpkg.log" "$1" || :`, root, logs)
			if err := os.WriteFile(filepath.Join(logs, "console.txt"), []byte(screen), 0o644); err != nil {
				t.Fatal(err)
			}
			alone := &stage{t: t, url: "http://127.0.0.1:1"}
			alone.must(1, "diagnose", "--root", root, "--logs", logs)
			commands := strings.FieldsFunc(c.harm, func(r rune) bool { return r == '\n' || r == ';' })
			r := alone.run("climb", "--root", root, "--yes", "--again", strings.TrimSpace(commands[len(commands)-1]))
			want := 0
			if c.fails {
				want, c.says = 1, append(c.says, "still fails on a copy")
			}
			if r.status != want {
				t.Fatalf("climb: status %d: %s%s\nscreen: %s", r.status, r.out, r.errout, screen)
			}
			wants(t, r.out, append(c.says, "proven")...)
			judged := "dpkg --audit; apt-get check -q >/dev/null && { " + c.check + "; } >/dev/null 2>&1 && echo fit"
			if out := inFolder(t, root, judged); !strings.HasSuffix(out, "fit\n") {
				t.Errorf("afterwards: %s", out)
			}
		})
	}
}
