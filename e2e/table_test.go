package e2e

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/standin/fleet"
)

// witness runs a tool that is not ours.
func witness(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v: %s", name, err, out)
	}
	return string(out)
}

// A disk whose table leads nowhere is never told that nothing keeps it from starting: the
// docket names what is wrong, its first rung is one that Diorthos takes, and the chain is
// whole afterwards.
func TestATableThatLeadsNowhereIsACause(t *testing.T) {
	base := filepath.Join(t.TempDir(), "base.img")
	if err := (fleet.Machine{Name: "kestrel-office-5"}).Make(t.Context(), base); err != nil {
		t.Fatal(err)
	}
	alone := &stage{t: t, url: "http://127.0.0.1:1"}
	if healthy := alone.must(0, "boot", "show", base); strings.Contains(healthy, "▲") {
		t.Fatalf("a healthy machine: %s", healthy)
	}
	for name, c := range map[string]struct {
		harm  [][]string // of sgdisk
		cause string
	}{
		"the loader's partition is of another type": {[][]string{{"-t", "1:8300"}}, "not marked as an EFI system partition"},
		"the system's entry is gone":                {[][]string{{"-d", "3"}}, "No system is found where the table"},
		"it begins a sector too late": {
			[][]string{{"-d", "3"}, {"-a", "1", "-n", "3:280577:1570815", "-t", "3:8304"}}, "No system is found where the table",
		},
		"it ends too early": {
			[][]string{{"-d", "3"}, {"-n", "3:280576:900000", "-t", "3:8304"}}, "The root volume is larger than its partition",
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := filepath.Join(t.TempDir(), "disk.img")
			witness(t, "cp", "--sparse=always", base, disk)
			for _, args := range c.harm {
				witness(t, "sgdisk", append(args, disk)...)
			}
			broken := read(t, disk)
			wants(t, s.must(1, "diagnose", "--image", disk), c.cause)
			wants(t, s.must(0, "climb", "--image", disk, "--yes"), "rung 1 ✓ proven")
			if after := s.must(0, "boot", "show", disk); strings.Contains(after, "▲") {
				t.Errorf("the chain afterwards: %s", after)
			}
			journals, err := filepath.Glob(filepath.Join(filepath.Dir(disk), "*.journal"))
			if err != nil || len(journals) != 1 {
				t.Fatal(journals, err)
			}
			s.must(0, "undo", journals[0])
			if string(read(t, disk)) != string(broken) {
				t.Error("the undo is not exact")
			}
		})
	}
	gone := filepath.Join(t.TempDir(), "gone.img")
	witness(t, "cp", "--sparse=always", base, gone)
	witness(t, "sgdisk", "-d", "1", gone)
	wants(t, alone.must(1, "diagnose", "--image", gone), "The disk has no EFI system partition")
}
