package e2e

import (
	"os"
	"path/filepath"
	"testing"
)

// systemVolume is where the system volume of a stand-in machine begins, as mtools
// wants it.
func systemVolume(machine string) string { return filepath.Join(machine, "disk.img") + "@@36700160" }

// Whatever part of a machine was damaged by tools of others, no command says that all
// is well, and the docket names it.
func TestNothingIsCalledFineThatIsNot(t *testing.T) {
	alone := &stage{t: t, url: "http://127.0.0.1:1"} // nobody answers there
	whole := filepath.Join(t.TempDir(), "whole")
	alone.must(0, "standin", "build", whole, "--seed", "8", "--name", "kestrel-kiosk-8")
	wants(t, alone.must(0, "upkeep", "show", whole), "Lists of its state")
	alone.must(0, "diagnose", "--image", whole)
	for name, c := range map[string]struct {
		file    string
		content string // empty: the file is deleted
		shows   []string
		says    string
	}{
		"services cut off":     {"corbel/services.json", "[{", []string{"upkeep", "boot"}, "services.json"},
		"settings gone":        {"corbel/settings.tree", "", []string{"upkeep"}, "settings.tree"},
		"index gone":           {"corbel/store/index", "", []string{"upkeep", "boot"}, "store/index"},
		"history gone":         {"corbel/update/history.json", "", []string{"upkeep"}, "history.json"},
		"drivers are no list":  {"corbel/drivers.json", "{}", []string{"upkeep"}, "drivers.json"},
		"release of elsewhere": {"corbel/release.json", `{"family": "tarn"}`, []string{"upkeep"}, "release.json"},
		"transaction garbled":  {"corbel/work/transaction.json", "garbage", []string{"upkeep", "boot"}, "transaction.json"},
		"offers zero-filled":   {"corbel/update/offers.json", "\x00\x00\x00\x00", []string{"upkeep"}, "offers.json"},
		"a kernel of zeros":    {"corbel/system/kernel.bin", "\x00\x00", []string{"upkeep", "boot"}, "kernel.bin"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			alone := &stage{t: t, url: alone.url}
			machine := filepath.Join(t.TempDir(), "kiosk")
			tool(t, "cp", "-r", "--sparse=always", whole, machine)
			if err := os.RemoveAll(filepath.Join(machine, "kestrel-kiosk-8.outbox")); err != nil {
				t.Fatal(err)
			}
			at := systemVolume(machine)
			if c.content == "" {
				tool(t, "mdel", "-i", at, "::"+c.file)
			} else {
				from := filepath.Join(t.TempDir(), "content")
				if err := os.WriteFile(from, []byte(c.content), 0o600); err != nil {
					t.Fatal(err)
				}
				tool(t, "mcopy", "-o", "-i", at, from, "::"+c.file)
			}
			for _, command := range c.shows {
				wants(t, alone.must(1, command, "show", machine), c.says)
			}
			wants(t, alone.must(1, "diagnose", "--image", machine), "WHY", c.says, "WHAT TO DO")
		})
	}
}

// A disk on which nothing stands, or only an empty table, is not a healthy machine.
func TestAnEmptyDiskIsNotHealthy(t *testing.T) {
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	image := filepath.Join(t.TempDir(), "blank.img")
	if err := os.WriteFile(image, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(image, 64<<20); err != nil {
		t.Fatal(err)
	}
	wants(t, alone.must(1, "diagnose", "--image", image), "no partition table stands on this disk", "open")
	tool(t, "sgdisk", "--clear", "--new=1:2048:+8M", image)
	wants(t, alone.must(1, "diagnose", "--image", image), "Nothing to judge by", "not measured")
}

// The menu of a real loader is not guessed over when it is gone.
func TestALoaderWithoutItsMenuIsNotFine(t *testing.T) {
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	image := copyImage(t)
	alone.must(0, "layout", "mend", image)
	alone.must(0, "boot", "show", image)
	tool(t, "debugfs", "-w", "-R", "rm /grub/grub.cfg", image+"?offset=68157440")
	wants(t, alone.must(1, "boot", "show", image), "the loader's menu is not there")
	wants(t, alone.must(1, "diagnose", "--image", image), "The loader has no menu", "update-grub")
}

func tool(t *testing.T, name string, args ...string) string {
	t.Helper()
	return runTool(t, "", name, args...)
}
