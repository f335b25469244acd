package debian

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/bag"
)

// What a text names is put right, if it is what it takes, and nothing else of the same sort is touched.
func TestWhatATextNamesIsPutRight(t *testing.T) {
	const unit = "etc/systemd/system/deck.service"
	for name, c := range map[string]struct {
		says, done string
		stays      string // a file that nobody may touch
		lay        func(t *testing.T, dir string)
	}{
		"a masked unit": {
			says: "Failed to start deck.service: Unit deck.service is masked.", done: "/" + unit + " is held aside",
			stays: "etc/systemd/system/other.service",
			lay: func(t *testing.T, dir string) {
				lay(t, dir, "etc/systemd/system/other.service", "[Unit]\n")
				if err := os.Symlink("/dev/null", filepath.Join(dir, unit)); err != nil {
					t.Fatal(err)
				}
			},
		},
		"a unit of that name that is not masked": {
			says: "Unit deck.service is masked.", stays: unit,
			lay: func(t *testing.T, dir string) { lay(t, dir, unit, "[Unit]\n") },
		},
		"a command that apt is told to run": { // what calls it goes, not the command: a missing one fails too
			says: "snapshot: no volume\nE: Problem executing scripts DPkg::Pre-Invoke '/usr/local/bin/snapshot'",
			done: "/etc/apt/apt.conf.d/90snapshot is held aside", stays: "usr/local/bin/snapshot",
			lay: func(t *testing.T, dir string) {
				lay(t, dir, "usr/local/bin/snapshot", "#!/bin/sh\nexit 4\n")
				lay(t, dir, "etc/apt/apt.conf.d/90snapshot", "DPkg::Pre-Invoke {\"/usr/local/bin/snapshot\";};\n")
			},
		},
		"an option of apt's": {
			says: "E: Dynamic MMap ran out of room. Please increase the size of APT::Cache-Start.",
			done: "/etc/apt/apt.conf.d/30small is held aside", stays: "etc/apt/apt.conf.d/40other",
			lay: func(t *testing.T, dir string) {
				lay(t, dir, "etc/apt/apt.conf.d/30small", "APT {\n  Cache-Start \"4096\";\n};\n")
				lay(t, dir, "etc/apt/apt.conf.d/40other", "# APT::Cache-Start \"1\";\nAPT::Install-Recommends \"0\";\n")
			},
		},
		"a download that is cut off": {
			says: "dpkg-deb: error: /var/cache/apt/archives/skerrow-tide_1.0_all.deb: unexpected end",
			done: "is held aside", stays: cacheFolder + "/skerrow-deck_1.0_all.deb",
			lay: func(t *testing.T, dir string) {
				at := filepath.Join(dir, cacheFolder, "skerrow-tide_1.0_all.deb")
				info, err := os.Stat(at)
				if err != nil || os.Truncate(at, info.Size()-20) != nil {
					t.Fatal(err)
				}
			},
		},
		"a download that is whole": {
			says:  "dpkg: error processing archive /var/cache/apt/archives/skerrow-tide_1.0_all.deb (--unpack):",
			stays: cacheFolder + "/skerrow-tide_1.0_all.deb", lay: func(*testing.T, string) {},
		},
		"an account": {
			says: "chown: invalid user: 'games:games'", done: "the account games is there again", stays: "etc/passwd",
			lay: func(t *testing.T, dir string) {
				lay(t, dir, "etc/passwd", "root:x:0:0:root:/root:/bin/sh\n")
				lay(t, dir, "etc/group", "root:x:0:")
				lay(t, dir, "usr/share/base-passwd/passwd.master", "games:*:5:60:games:/usr/games:/usr/sbin/nologin\n")
				lay(t, dir, "usr/share/base-passwd/group.master", "games:*:60:\n")
			},
		},
		"an account whose number is another's": {
			says: "chown: invalid user: 'games'", stays: "etc/passwd",
			lay: func(t *testing.T, dir string) {
				lay(t, dir, "etc/passwd", "root:x:0:0:root:/root:/bin/sh\nanna:x:5:5::/home/anna:/bin/sh\n")
				lay(t, dir, "usr/share/base-passwd/passwd.master", "games:*:5:60:games:/usr/games:/usr/sbin/nologin\n")
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			w, _, dir := working(t, func(*os.Root, []string) (string, int) { return "", 0 })
			c.lay(t, dir)
			cleared, err := w.clearNamed(t.Context(), c.says)
			if err != nil || cleared != (c.done != "") || cleared && !strings.Contains(w.did[0], c.done) {
				t.Errorf("cleared: %v, %v, %q", cleared, err, w.did)
			}
			if gone(dir, c.stays) {
				t.Errorf("%s is gone", c.stays)
			}
		})
	}
}

// apt's history tells of the latest run that was a person's; what was changed once more since then is not its own.
func TestTheLatestRunIsReadFromAptsHistory(t *testing.T) {
	const text = "\nStart-Date: 2026-12-01  07:00:00\nCommandline: apt-get install a\nInstall: a:amd64 (1)\n" +
		"End-Date: 2026-12-01  07:00:09\n\nStart-Date: 2026-12-02  07:00:00\nCommandline: apt-get dist-upgrade\n" +
		"Install: new:amd64 (1:2.0, automatic)\nUpgrade: a:amd64 (1, 2), b:i386 (3, 4), c:amd64 (5, 6)\n" +
		"Remove: old:amd64 (7)\nError: Sub-process /usr/bin/dpkg returned an error code (1)\n" +
		"End-Date: 2026-12-02  07:00:09\n\nStart-Date: 2026-12-02  08:00:00\n" +
		"Commandline: apt-get -o Diorthos::Mends=true -f install\nUpgrade: c:amd64 (6, 7)\nEnd-Date: 2026-12-02  08:00:01\n"
	runs := runsIn(text)
	if len(runs) != 2 || runs[0].failed || !runs[1].failed || len(runs[1].changes) != 5 {
		t.Fatalf("%+v", runs)
	}
	if c := runs[1].changes[0]; c != (packageChange{name: "new", architecture: "amd64", now: "1:2.0"}) {
		t.Errorf("%+v", c)
	}
	installed := []bag.Package{
		{Name: "new", Version: "1:2.0", Architecture: "amd64", State: "unpacked"},
		{Name: "a", Version: "1", Architecture: "amd64", State: "installed"},     // is back
		{Name: "b", Version: "4", Architecture: "amd64", State: "installed"},     // of another architecture
		{Name: "b", Version: "3", Architecture: "i386", State: "half-installed"}, // between two states
		{Name: "c", Version: "7", Architecture: "amd64", State: "installed"},     // changed once more
	}
	var names []string
	for _, c := range runs[1].standing(installed) {
		names = append(names, c.name+":"+c.architecture)
	}
	if got := strings.Join(names, " "); got != "new:amd64 b:i386 old:amd64" {
		t.Errorf("what stands: %s", got)
	}
}
