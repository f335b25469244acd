package fleet_test

import (
	"context"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/standin/fleet"
)

// The volumes must be sound in the eyes of tools that are not ours; only the
// table at the start of the disk is broken.
func TestKestrelIsBrokenInOnePlaceOnly(t *testing.T) {
	image := filepath.Join(t.TempDir(), "k.img")
	if err := fleet.Machines[0].Make(context.Background(), image); err != nil {
		t.Fatal(err)
	}
	out, _ := exec.Command("sgdisk", "--verify", image).CombinedOutput()
	if !strings.Contains(string(out), "CRC") && !strings.Contains(string(out), "invalid") {
		t.Errorf("sgdisk sees no damage:\n%s", out)
	}
	parts := t.TempDir()
	for _, p := range []struct {
		name          string
		first, length string // MiB
		check         []string
	}{
		{"esp", "1", "64", []string{"fsck.fat", "-n", "-v"}},
		{"boot", "65", "72", []string{"e2fsck", "-f", "-n"}},
		{"system", "137", "630", []string{"e2fsck", "-f", "-n"}},
	} {
		file := filepath.Join(parts, p.name)
		if out, err := exec.Command(
			"dd", "if="+image, "of="+file, "bs=1M", "skip="+p.first, "count="+p.length, "conv=sparse",
		).CombinedOutput(); err != nil {
			t.Fatalf("dd: %v: %s", err, out)
		}
		if out, err := exec.Command(p.check[0], append(p.check[1:], file)...).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", p.check[0], err, out)
		}
	}
}
