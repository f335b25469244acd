package proving

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/reading"
	standin "diorthos/standin/corbel"
)

// A machine tries its update again and again, until all of its logs have been
// put aside twice and the oldest are gone. What is left reads as one history:
// the attempts in their order, and the last one explained.
func TestLogsThatWerePutAsideAreReadInOrder(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	r := &round{loop: loop, ctx: t.Context(), folder: t.TempDir(), res: &Result{}}
	o := standin.Options{
		Seed:   4,
		Mode:   "uefi",
		Name:   "tern-office-4",
		Now:    Now.AddDate(0, -2, 0),
		Vendor: loop.Vendor,
		Link:   loop.Link,
	}
	if r.m, err = standin.Build(r.ctx, filepath.Join(r.folder, "machine"), o); err != nil {
		t.Fatal(err)
	}
	r.look = r.m.Folder
	if err := standin.FaultNamed("payload-missing").Break(r.ctx, r.m, o); err != nil {
		t.Fatal(err)
	}
	const tries = 150
	for i := range tries {
		at := o.Now.Add(time.Duration(i) * 5 * time.Hour)
		if out, err := standin.TryOn(r.ctx, r.m, standin.TryUpdate, at, loop.Link); err != nil || out.OK {
			t.Fatalf("try %d: %+v, %v", i, out, err)
		}
	}
	var timeline *reading.Timeline
	err = r.evidence(func(_ *bag.Facts, logs []reading.Source) error {
		timeline, err = loop.Knowledge.Reader.Read(r.ctx, logs, reading.Anchor{Now: Now}, nil)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range timeline.Files {
		names = append(names, filepath.Base(f.Name))
	}
	for _, want := range []string{"engine.log", "engine.log.1", "engine.log.2"} {
		if !slices.Contains(names, want) {
			t.Fatalf("of the logs %v there is no %s: it was not put aside", names, want)
		}
	}
	if slices.Contains(names, "engine.log.3") {
		t.Error("a third is kept")
	}
	// Those of which the engine's log is gone still stand in the courier's.
	list := timeline.Attempts
	for i, a := range list {
		if i > 0 && a.Began.Before(list[i-1].Began) {
			t.Errorf("attempt %d, of %s, stands behind that of %s", i, a.Began, list[i-1].Began)
		}
	}
	if len(list) < tries/2 || len(list) > tries+1 {
		t.Errorf("%d attempts are read, of %d made", len(list), tries)
	}
	last := list[len(list)-1] // its clock shows local time, an hour ahead
	if want := o.Now.Add((tries - 1) * 5 * time.Hour); last.Began.Sub(want).Abs() > 2*time.Hour ||
		last.Outcome != reading.Failed || last.Decisive == nil ||
		!strings.Contains(last.Decisive.Text, "missing from the store") {
		t.Errorf("the last attempt is %+v, of %s, want %s", last.Decisive, last.Began, want)
	}
}
