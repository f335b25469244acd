package debian

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"diorthos/core/store"
	"diorthos/core/system"
)

// A scriptedTree is a folder whose system answers its commands as told.
type scriptedTree struct {
	*scripted
	files fs.FS
}

func (t scriptedTree) Enter(context.Context) (system.Inside, error) { return t.scripted, nil }
func (t scriptedTree) Files() fs.FS                                 { return t.files }

// inTree is a small system in a folder, changed from inside by tools that answer as told.
func inTree(t *testing.T, answer func(args []string) (string, int)) (*inner, *scripted, string) {
	t.Helper()
	w, s, dir := working(t, func(_ *os.Root, args []string) (string, int) { return answer(args) })
	w.n.tree = scriptedTree{s, w.n.fsys}
	return w.n, s, dir
}

const notFetched = "Err:1 http://packages.skerrow.example/debian ./ skerrow-deck 1.0\n  Temporary failure resolving\n" +
	"E: Failed to fetch http://packages.skerrow.example/debian/./skerrow-deck_1.0_all.deb  Temporary failure resolving"

// Package files that could not be fetched come from a source at hand: the very file that the machine's own lists name,
// and no other.
func TestPackagesComeFromASourceAtHand(t *testing.T) {
	other := smallSystem(t)
	raw, err := os.ReadFile(filepath.Join(other, cacheFolder, "skerrow-deck_1.0_all.deb"))
	if err != nil {
		t.Fatal(err)
	}
	sum := fmt.Sprintf("%x", sha256.Sum256(raw))
	for name, c := range map[string]struct {
		said, version, sums string
		size                int
		from                string // empty for no source
		refused             string // part of what is said; empty where it is put
	}{
		"the very file": {said: notFetched, version: "1.0", sums: "SHA256: " + sum, size: len(raw), from: cacheFolder},
		"of two lists": {
			said: notFetched, version: "1.0", sums: "SHA256: 00\n\nPackage: skerrow-deck\nSHA256: " + sum, size: len(raw),
			from: cacheFolder,
		},
		"of another sum": {
			said: notFetched, version: "1.0", sums: "SHA256: " + strings.Repeat("0", 64), size: len(raw), from: cacheFolder,
			refused: "it is not the same file",
		},
		"of another size": {
			said: notFetched, version: "1.0", sums: "SHA256: " + sum, size: 7, from: cacheFolder, refused: "want 7",
		},
		"of another version": {
			said: notFetched, version: "1.1", sums: "SHA256: " + sum, size: len(raw), from: cacheFolder,
			refused: "no source has skerrow-deck_1.1_all.deb",
		},
		"of lists without a sum that proves anything": {
			said: notFetched, version: "1.0", sums: "MD5sum: 00", size: len(raw), from: cacheFolder,
			refused: "nothing would prove",
		},
		"with no source": {
			said: notFetched, version: "1.0", sums: "SHA256: " + sum, size: len(raw), refused: "no source was given",
		},
		"of what nobody named": {said: "E: Unable to locate", from: cacheFolder, refused: "is not known"},
	} {
		n, _, dir := inTree(t, func(args []string) (string, int) {
			if args[0] == "apt-cache" {
				return "Package: skerrow-deck\n" + c.sums + "\n\n", 0
			}
			return fmt.Sprintf("'http://packages.skerrow.example/x' skerrow-deck_%s_all.deb %d MD5Sum:00\n", c.version, c.size), 0
		})
		if err := os.RemoveAll(filepath.Join(dir, cacheFolder)); err != nil {
			t.Fatal(err)
		}
		var sources []store.Source
		if c.from != "" {
			s, err := Adapter{}.Twin("a medium", os.DirFS(filepath.Join(other, c.from)))
			if err != nil {
				t.Fatal(err)
			}
			sources = append(sources, s)
		}
		did, err := n.PutFeature(t.Context(), sources, system.ToolOptions{Said: c.said})
		got, _ := os.ReadFile(filepath.Join(dir, cacheFolder, "skerrow-deck_1.0_all.deb"))
		switch {
		case c.refused != "" && (err == nil || !strings.Contains(err.Error(), c.refused) || got != nil):
			t.Errorf("%s: %v, %v, %d bytes, want %q", name, did, err, len(got), c.refused)
		case c.refused == "" && (err != nil || string(got) != string(raw)):
			t.Errorf("%s: %v, %v, %d bytes", name, did, err, len(got))
		}
	}
}

// Only once apt itself would fetch nothing more is it all there.
func TestAFeatureIsThereWhenNothingIsFetched(t *testing.T) {
	text := ""
	n, s, _ := inTree(t, func(args []string) (string, int) {
		if args[0] == "apt-cache" {
			return "SHA256: 00\n", 0
		}
		return text, 0
	})
	name, err := n.FeatureStored(t.Context(), system.ToolOptions{Said: notFetched})
	if err != nil || name != "skerrow-deck" || !slices.Contains(s.ran, "apt-get -qq -y --print-uris install skerrow-deck") {
		t.Errorf("all there: %q, %v, %q", name, err, s.ran)
	}
	text = "'http://packages.skerrow.example/x' skerrow-deck_1%3a1.0_all.deb 9 MD5Sum:00\n"
	if _, err := n.FeatureStored(t.Context(), system.ToolOptions{Said: notFetched}); err == nil ||
		!strings.Contains(err.Error(), "skerrow-deck_1%3a1.0_all.deb has still to be fetched") {
		t.Errorf("one is missing: %v", err)
	}
}

// A policy is set in a file of its own, one beside another, and is gone without a trace once it is given back.
func TestAPolicyIsLentAndGivenBack(t *testing.T) {
	n, _, dir := inTree(t, func([]string) (string, int) { return "", 0 })
	set := func(name, value, before string) {
		t.Helper()
		if was, err := n.SetPolicy(t.Context(), name, value); err != nil || was != before {
			t.Errorf("%s=%s: was %q, %v, want %q", name, value, was, err, before)
		}
	}
	set("expired-lists", "allow", "")
	set("expired-lists", "allow", "allow")
	set("metered", "allow", "")
	if have, err := n.Policy(); err != nil || !reflect.DeepEqual(have, map[string]string{
		"expired-lists": "allow", "metered": "allow",
	}) {
		t.Errorf("%v, %v", have, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, policyFile))
	if err != nil || !strings.Contains(string(text), "Acquire::Check-Valid-Until \"false\";\n") {
		t.Errorf("%s, %v", text, err)
	}
	set("expired-lists", "", "allow")
	set("metered", "", "allow")
	if !gone(dir, policyFile) {
		t.Error("the file is left")
	}
	for name, value := range map[string]string{"expired-lists": "deny", "Acquire::Check-Valid-Until": "false"} {
		if _, err := n.SetPolicy(t.Context(), name, value); err == nil || !strings.Contains(err.Error(), "known are expired-lists") {
			t.Errorf("%s=%s: %v", name, value, err)
		}
	}
}

// What apt would put in place of a newer version is held back, by the version; an upgrade is not.
func TestTheOlderIsHeldBack(t *testing.T) {
	text := "Inst skerrow-deck [2.0] (1.4 skerrow [all])\nInst skerrow-tide [1:1.0] (1:1.2 skerrow [all])\n" +
		"Inst skerrow-new (3.0 skerrow [all])\nConf skerrow-deck (1.4 skerrow [all])\n"
	n, _, dir := inTree(t, func([]string) (string, int) { return text, 0 })
	held, err := n.HoldOlder(t.Context(), system.ToolOptions{})
	if err != nil || !slices.Equal(held, []string{"skerrow-deck=1.4"}) {
		t.Fatalf("%q, %v", held, err)
	}
	if pins, err := os.ReadFile(filepath.Join(dir, heldFile)); err != nil ||
		!strings.Contains(string(pins), "Package: skerrow-deck\nPin: version 1.4\nPin-Priority: -1\n") {
		t.Errorf("%s, %v", pins, err)
	}
	text = "0 upgraded, 0 newly installed\n"
	if held, err := n.HoldOlder(t.Context(), system.ToolOptions{}); err != nil || len(held) > 0 {
		t.Errorf("nothing older: %q, %v", held, err)
	}
}

// What the last run of apt named is held against its checksum, whatever it is; what an earlier run named is not.
func TestWhatTheLastRunNamesIsHeldAgainstItsSum(t *testing.T) {
	dir := startSystem(t)
	for name, c := range map[string]struct {
		log  string
		told bool
	}{
		"named":     {"\nLog started: 2026-12-01  08:00:00\ntide: /usr/bin/tides is of another build\n", true},
		"at a line": {"\nLog started: 2026-12-01  08:00:00\n/usr/bin/tides:7: no such berth\n", true},
		"an earlier run": {
			"\nLog started: 2026-11-01  08:00:00\ntide: /usr/bin/tides is bad\n\nLog started: 2026-12-01  08:00:00\nall well\n",
			false,
		},
		"another": {"\nLog started: 2026-12-01  08:00:00\n/usr/bin/tidesman is gone\n", false},
		"no log":  {"", false},
	} {
		mustWrite(t, filepath.Join(dir, "usr/bin/tides"), "ebb", 0o755)
		mustWrite(t, filepath.Join(dir, "var/log/apt/term.log"), c.log, 0o640)
		root := openRoot(t, dir).FS()
		told := slices.ContainsFunc(lookAtPayloads(root, payloads(root)), func(f flaw) bool {
			return f.File == "usr/bin/tides" && strings.HasSuffix(f.Text, "not as it was shipped"+lastNamed)
		})
		if told != c.told {
			t.Errorf("%s: told %t", name, told)
		}
	}
}
