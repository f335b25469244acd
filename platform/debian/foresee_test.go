package debian

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"diorthos/core/system"
)

// rehearsed rehearses an update in a small system whose programs answer as told.
func rehearsed(
	t *testing.T, o system.UpdateWish, sources string, answer func(args []string) (string, int),
) (*system.Foreseen, []string, string, error) {
	t.Helper()
	w, s, dir := working(t, func(_ *os.Root, args []string) (string, int) {
		if args[0] == "df" {
			return "Mounted on Avail\n/ 1000000\n/etc/resolv.conf 5\n", 0
		}
		return answer(args)
	})
	lay(t, dir, "etc/resolv.conf", "")
	lay(t, dir, "etc/hostname", "quay-4\n")
	lay(t, dir, "etc/os-release", "ID=debian\nVERSION_CODENAME=bookworm\n")
	lay(t, dir, "etc/apt/sources.list", sources)
	w.network = o.Network
	f := &foreseeing{worker: w, seen: &system.Foreseen{Steps: []system.Step{}, Asked: []string{}, Rooms: []system.Room{}}}
	err := f.do(t.Context(), o)
	text, _ := os.ReadFile(filepath.Join(dir, "etc/apt/sources.list"))
	return f.seen, s.ran, string(text), err
}

const remote = "deb http://deb.skerrow.example/debian bookworm main\n" +
	"deb http://security.skerrow.example/debian-security bookworm-security main\n# bookworms\n"

// An update is done as a person would do it, up to the first step that fails; what is asked, what is
// kept back and what a screen would show is told.
func TestAnUpdateIsTriedUpToTheFirstStepThatFails(t *testing.T) {
	plan := "The following packages have been kept back:\n  crane\nInst winch [1.0] (2.0 x [all])\n" +
		"Inst rope (1.0 x [all])\nRemv hemp [0.9]\nConf winch (2.0 x [all])\n"
	said := "Configuration file '/etc/winch.conf'\n ==> Modified\nwinch.postinst: 3: winchctl: not found\n" +
		"E: Sub-process /usr/bin/dpkg returned an error code (1)\n"
	seen, ran, _, err := rehearsed(
		t,
		system.UpdateWish{ToolOptions: system.ToolOptions{Network: true}, Hold: []string{"anchor"}},
		remote,
		func(args []string) (string, int) {
			switch {
			case slices.Contains(args, "-s"):
				return plan, 0
			case slices.Contains(args, "dist-upgrade"):
				return said, 100
			}
			return "", 0
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	var steps []string
	for _, a := range ran {
		if !strings.HasPrefix(a, "df ") {
			steps = append(steps, a)
		}
	}
	if len(steps) != 4 || steps[0] != "apt-mark hold anchor" || !strings.HasSuffix(steps[1], "update") ||
		!strings.HasSuffix(steps[2], "-s dist-upgrade") || !strings.Contains(steps[3], "force-confold") {
		t.Errorf("ran %q", steps)
	}
	p := seen.Plan
	if !seen.Failed || !slices.Equal(p.Upgraded, []string{"winch"}) || !slices.Equal(p.Added, []string{"rope"}) ||
		!slices.Equal(p.Removed, []string{"hemp"}) || !slices.Equal(p.Kept, []string{"crane"}) {
		t.Errorf("%+v", seen)
	}
	if len(seen.Asked) != 1 || !strings.Contains(seen.Asked[0], "/etc/winch.conf") {
		t.Errorf("asked: %q", seen.Asked)
	}
	if len(seen.Rooms) != 1 || seen.Rooms[0].Mount != "/" {
		t.Errorf("rooms: %+v", seen.Rooms)
	}
	if !strings.Contains(seen.Console, "root@quay-4:~# apt-get") ||
		!strings.Contains(seen.Console, "winchctl: not found") {
		t.Errorf("console: %s", seen.Console)
	}
}

// An update after which packages are not at rest has not succeeded, whatever apt's status was.
func TestAnUpdateThatLeavesPackagesHalfDoneHasFailed(t *testing.T) {
	seen, _, _, err := rehearsed(
		t,
		system.UpdateWish{},
		"deb [trusted=yes] file:/srv/repo ./\n",
		func(args []string) (string, int) {
			if args[0] == "dpkg" {
				return "The following packages are only half configured:\n winch\n", 0
			}
			return "", 0
		},
	)
	if err != nil || !seen.Failed {
		t.Errorf("%+v, %v", seen, err)
	}
}

// To another release only the sources' words for the release are changed; without a network and with
// sources that need one, nothing is tried at all.
func TestAnUpgradeChangesTheSourcesOfTheDraft(t *testing.T) {
	fine := func([]string) (string, int) { return "", 0 }
	_, ran, text, err := rehearsed(
		t,
		system.UpdateWish{Release: "trixie", ToolOptions: system.ToolOptions{Network: true}},
		remote,
		fine,
	)
	want := strings.ReplaceAll(
		strings.ReplaceAll(remote, "debian bookworm", "debian trixie"),
		"bookworm-security",
		"trixie-security",
	)
	if err != nil || text != want {
		t.Errorf("%q, %v", text, err)
	}
	if !slices.ContainsFunc(ran, func(s string) bool { return strings.HasSuffix(s, "upgrade --without-new-pkgs") }) {
		t.Errorf("ran %q", ran)
	}
	for name, c := range map[string]struct {
		wish    system.UpdateWish
		sources string
		want    string
	}{
		"no network": {system.UpdateWish{Release: "trixie"}, remote, "--network"},
		"the same release": {
			system.UpdateWish{Release: "bookworm", ToolOptions: system.ToolOptions{Network: true}}, remote, "installed already",
		},
		"no source names it": {
			system.UpdateWish{Release: "trixie"}, "deb [trusted=yes] file:/srv/repo ./\n", "nothing to change",
		},
	} {
		if _, _, _, err := rehearsed(t, c.wish, c.sources, fine); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is not fetched is not called a success: apt itself ends well when lists cannot be fetched, and without a
// network the newest versions are not known.
func TestListsThatWereNotFetchedAreSaid(t *testing.T) {
	online := system.UpdateWish{ToolOptions: system.ToolOptions{Network: true}}
	for name, text := range map[string]string{
		"no host": "Err:1 http://deb.skerrow.example/debian bookworm InRelease\n  Could not resolve\n",
		"ignored": "W: Failed to fetch http://deb.skerrow.example/dists/bookworm/InRelease\n",
		"old":     "W: Some index files failed to download. They have been ignored, or old ones used instead.\n",
	} {
		seen, ran, _, err := rehearsed(t, online, remote, func([]string) (string, int) { return text, 0 })
		if err != nil || !seen.Failed || len(seen.Steps) != 1 {
			t.Errorf("%s: failed %v after %q, %v", name, seen.Failed, ran, err)
		}
	}
	seen, _, _, err := rehearsed(t, system.UpdateWish{}, remote, func([]string) (string, int) { return "", 0 })
	if err != nil || seen.Failed || seen.Stale == "" || seen.Tried() {
		t.Errorf("without a network: %+v, %v", seen, err)
	}
	seen, _, _, err = rehearsed(t, online, remote, func([]string) (string, int) { return "Inst a [1] (2 x [all])\n", 0 })
	if err != nil || seen.Stale != "" || !seen.Tried() {
		t.Errorf("with one: %+v, %v", seen, err)
	}
}
