//go:build prove

package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// A machine whose firmware has forgotten it, and on whose disk nothing lies where firmware without an entry looks: the
// firmware itself, with a copy of the machine's own variables, finds nothing before, and starts it after one rung,
// which writes into the variables alone. What is taken back is as it was.
func TestProveThatTheFirmwareStartsByAnEntry(t *testing.T) {
	for _, kind := range []string{"whole", "btrfs"} {
		t.Run(kind, func(t *testing.T) {
			base := wholeMachines[kind].made(t)
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			dir := t.TempDir()
			disk, variables := filepath.Join(dir, "quay.img"), filepath.Join(dir, "quay_VARS.fd")
			witness(t, "cp", "--sparse=always", base, disk)
			witness(t, "cp", "/usr/share/OVMF/OVMF_VARS_4M.fd", variables)
			witness(t, "mdel", "-i", disk+"@@1M", "::/EFI/BOOT/BOOTX64.EFI")
			before, fresh := witness(t, "sha256sum", disk), witness(t, "sha256sum", variables)
			if starts, end := begins(t, s, disk); starts || !strings.Contains(end, "the firmware finds nothing to start") {
				t.Fatalf("it starts before: %v, %s", starts, end)
			}
			wants(t, s.must(1, "boot", "show", disk), "boot-entries-missing")
			s.must(0, "climb", "--image", disk, "--yes")
			if witness(t, "sha256sum", disk) != before {
				t.Error("the disk was written")
			}
			if starts, end := begins(t, s, disk); !starts {
				t.Errorf("it does not start: %s", end)
			}
			journals, err := filepath.Glob(filepath.Join(dir, "*.journal"))
			if err != nil || len(journals) != 1 {
				t.Fatal(journals, err)
			}
			s.must(0, "undo", journals[0])
			if witness(t, "sha256sum", variables) != fresh {
				t.Error("the undo is not exact")
			}
		})
	}
}
