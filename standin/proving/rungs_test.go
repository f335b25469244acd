package proving

import (
	"slices"
	"strings"
	"testing"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/ladder"
	standin "diorthos/standin/corbel"
)

// TestHigherRungsHelpToo takes, instead of the first rung of a ladder, one that
// stands above it: each must make the failed thing work by itself, with the
// users' files as they were.
// A clean install takes what is on the system volume and nothing else, makes the
// failed attempt succeed, and is taken back byte for byte.
func TestACleanInstallKeepsTheOtherPartitions(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	for _, fault := range []string{"manifest-damaged", "branch-damaged"} {
		f := standin.FaultNamed(fault)
		r := prepared(t, loop, f, 910)
		r.try = f.Try
		before, err := r.m.Digest()
		if err != nil {
			t.Fatal(err)
		}
		files, err := r.m.UserFiles()
		if err != nil {
			t.Fatal(err)
		}
		d, err := r.diagnose()
		if err != nil {
			t.Fatal(err)
		}
		facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State}
		rung := ladder.Rung{
			Number: 1,
			Remedy: "install-clean",
			Action: "upkeep.install-clean",
			Target: action.TargetOf("upkeep.install-clean", facts),
		}
		if went, err := r.take(rung, facts); err != nil || !went {
			t.Fatalf("%s: not taken: %v %v", fault, r.res.Notes, err)
		}
		left, err := r.m.UserFiles()
		if err != nil {
			t.Fatal(err)
		}
		for name, sum := range files {
			plans := strings.Contains(name, "/Berths ") // on the partition of their own
			if got := left[name]; plans && got != sum || !plans && got != "" {
				t.Errorf("%s: %s: %q, was %q", fault, name, got, sum)
			}
		}
		if len(left) != 2 {
			t.Errorf("%s: left are %v", fault, left)
		}
		r.files = left
		if ok, err := r.again(); err != nil || !ok {
			t.Errorf("%s: it still fails: %v %v", fault, r.res.Notes, err)
		}
		if err := undo(t.Context(), r.journals[0]); err != nil {
			t.Fatal(err)
		}
		if after, err := r.m.Digest(); err != nil || after != before {
			t.Errorf("%s: taken back, and not as before: %v", fault, err)
		}
	}
}

func TestHigherRungsHelpToo(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	for _, c := range []struct{ fault, remedy string }{
		{
			"payload-missing", "reinstall-keeping-files",
		}, {"manifest-damaged", "reinstall-keeping-files"}, {"protected-file-altered", "reinstall-keeping-files"},
		{"kernel-gone", "reinstall-keeping-files"}, {"dependency-missing", "reinstall-keeping-files"},
		{
			"update-stops-start", "return-to-the-checkpoint",
		}, {"release-stops-start", "return-to-the-checkpoint"}, {"program-stops-start", "return-to-the-checkpoint"},
		{
			"program-stops-start", "start-in-minimal-mode",
		}, {"service-disabled", "reset-update-client"}, {"cache-package-damaged", "reset-update-client"},
		{
			"leftover-work-folder", "reset-update-client",
		}, {"cache-unwritable", "reset-update-client"}, {"pending-component-gone", "give-up-pending-work"},
		{"boot-order-wrong", "boot-entry-anew"}, {"feature-source-forbidden", "lend-the-feature-policy"},
	} {
		t.Run(c.fault+" by "+c.remedy, func(t *testing.T) {
			f := standin.FaultNamed(c.fault)
			r := prepared(t, loop, f, 900)
			r.try = f.Try
			if r.files, err = r.m.UserFiles(); err != nil {
				t.Fatal(err)
			}
			d, err := r.diagnose()
			if err != nil {
				t.Fatal(err)
			}
			i := slices.IndexFunc(d.ToDo, func(x ladder.Rung) bool { return x.Remedy == c.remedy })
			if i < 0 {
				t.Fatalf("the ladder has no such rung: %+v", d.ToDo)
			}
			went, err := r.take(d.ToDo[i], &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State})
			if err != nil || !went {
				t.Fatalf("not taken: %v %v", r.res.Notes, err)
			}
			if ok, err := r.again(); err != nil || !ok {
				t.Errorf("it still fails: %v %v", r.res.Notes, err)
			}
		})
	}
}
