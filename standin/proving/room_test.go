package proving

import (
	"io/fs"
	"path"
	"slices"
	"strings"
	"testing"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/ladder"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
	standin "diorthos/standin/corbel"
)

// TestRoomThatDoesNotSufficeIsNotProven: the old downloads go, and what is on
// offer still does not fit, because the users' files fill the volume. The proof
// says so, and the downloads come back.
func TestRoomThatDoesNotSufficeIsNotProven(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	r := prepared(t, loop, standin.FaultNamed("system-volume-full"), 79)
	fillWithUsersFiles(t, r.m.Disk())
	if err := r.reopen(); err != nil {
		t.Fatal(err)
	}
	before, err := r.m.Digest()
	if err != nil {
		t.Fatal(err)
	}
	d, err := r.diagnose()
	if err != nil {
		t.Fatal(err)
	}
	facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State}
	const id = action.ID("upkeep.make-room")
	went, err := r.take(ladder.Rung{Number: 1, Remedy: string(id), Action: id, Target: action.TargetOf(id, facts)}, facts)
	if err != nil || went {
		t.Errorf("it counts as done: %v %v", went, err)
	}
	if !slices.ContainsFunc(r.res.Notes, func(n string) bool {
		return strings.Contains(n, "there is room for the next attempt")
	}) {
		t.Errorf("it does not say why: %q", r.res.Notes)
	}
	if after, err := r.m.Digest(); err != nil || after != before {
		t.Errorf("the downloads did not come back: %v", err)
	}
}

// fillWithUsersFiles leaves one old download, and of the room 64 KiB.
func fillWithUsersFiles(t *testing.T, disk string) {
	t.Helper()
	dev, err := block.OpenImage(disk, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table, err := layout.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range table.Partitions() {
		e, err := fat.Edit(block.NewWriteRange(dev, p.Off, p.Length), Now)
		if err != nil {
			continue
		}
		old, err := fs.Glob(e, path.Join(corbelfile.CacheFolder, "U71*.pack"))
		if err != nil {
			t.Fatal(err)
		}
		if len(old) < 2 {
			continue // not the system volume
		}
		for _, name := range old[1:] {
			if err := e.Remove(name); err != nil {
				t.Fatal(err)
			}
		}
		if err := e.WriteFile("users/voyages.bin", make([]byte, e.Free()-64<<10)); err != nil {
			t.Fatal(err)
		}
		return
	}
	t.Fatal("no volume holds old downloads")
}
