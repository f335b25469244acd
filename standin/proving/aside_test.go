package proving

import (
	"testing"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/ladder"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	standin "diorthos/standin/corbel"
)

// aside lists what lies aside on the machine.
func (r *round) aside(t *testing.T) []upkeep.Aside {
	t.Helper()
	m := r.machine(&bag.Facts{})
	a, _ := action.Named("upkeep.put-back")
	dev, _, err := m.Open(a, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	list, err := system.OpenAll(m.Adapters, dev, system.Options{Now: Now})
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	things, err := list[0].System.(system.Aside).MovedAside()
	if err != nil {
		t.Fatal(err)
	}
	return things
}

// TestWhatWasMovedAsideComesBackAfterTheMachineWasUsed: a folder that was moved
// aside is put back by name, though the machine was updated since; cut off at
// every write it is undone and resumed like any other change.
func TestWhatWasMovedAsideComesBackAfterTheMachineWasUsed(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	f := standin.FaultNamed("leftover-work-folder")
	r := prepared(t, loop, f, 77)
	r.try = f.Try
	d, err := r.diagnose()
	if err != nil {
		t.Fatal(err)
	}
	facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State}
	rung := func(id action.ID, params map[string]string) ladder.Rung {
		return ladder.Rung{Number: 1, Remedy: string(id), Action: id, Params: params, Target: action.TargetOf(id, facts)}
	}
	if went, err := r.take(rung("upkeep.leftovers-aside", nil), facts); err != nil || !went {
		t.Fatalf("%v %v", err, r.res.Notes)
	}
	if out, err := standin.TryOn(t.Context(), r.m, f.Try, Now, loop.Link); err != nil || !out.OK {
		t.Fatalf("the attempt: %+v %v", out, err)
	}
	things := r.aside(t)
	if len(things) != 1 || things[0].Digest == "" {
		t.Fatalf("aside: %+v", things)
	}
	if err := undo(t.Context(), r.journals[0]); err == nil {
		t.Error("the whole journal was undone though the machine was used")
	}
	back := rung("upkeep.put-back", map[string]string{"name": things[0].Name})
	if n := cutOff(t, r.machine(facts), back); n < 3 {
		t.Errorf("cut off %d times", n)
	}
	if went, err := r.take(back, facts); err != nil || !went {
		t.Fatalf("%v %v", err, r.res.Notes)
	}
	if left := r.aside(t); len(left) != 0 {
		t.Errorf("still aside: %+v", left)
	}
	if err := r.reopen(); err != nil {
		t.Fatal(err)
	}
	again, err := r.diagnose()
	if err != nil || len(again.State.Update.Leftovers) != 1 || again.State.Update.Leftovers[0] != things[0].From {
		t.Errorf("back are %+v %v", again.State.Update.Leftovers, err)
	}
	if went, _ := r.take(rung("upkeep.put-back", map[string]string{"name": "never"}), facts); went {
		t.Error("something was put back that never lay aside")
	}
	// Moved aside again, it is freed at the end, on request: only what is named, then all, and never twice.
	if went, err := r.take(rung("upkeep.leftovers-aside", nil), facts); err != nil || !went {
		t.Fatalf("%v %v", err, r.res.Notes)
	}
	if things = r.aside(t); len(things) != 1 || things[0].Size == 0 {
		t.Fatalf("aside: %+v", things)
	}
	if went, _ := r.take(rung("upkeep.tidy", map[string]string{"name": "never"}), facts); went {
		t.Error("something was freed that does not lie aside")
	}
	for _, rung := range []ladder.Rung{
		rung("upkeep.tidy", map[string]string{"name": things[0].Name}), rung("upkeep.tidy", nil),
	} {
		if n := cutOff(t, r.machine(facts), rung); n < 3 {
			t.Errorf("cut off %d times", n)
		}
	}
	if went, err := r.take(rung("upkeep.tidy", nil), facts); err != nil || !went {
		t.Fatalf("%v %v", err, r.res.Notes)
	}
	if left := r.aside(t); len(left) != 0 {
		t.Errorf("still aside: %+v", left)
	}
	if went, _ := r.take(rung("upkeep.tidy", nil), facts); went {
		t.Error("something was freed twice")
	}
}
