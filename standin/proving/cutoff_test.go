package proving

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/host"
	standin "diorthos/standin/corbel"
)

var errCut = errors.New("the power is gone")

// A cut device loses its power in the middle of one write: half of it is
// there, and nothing after it.
type cut struct {
	*block.Draft
	left int
}

func (c *cut) WriteAt(p []byte, off int64) (int, error) {
	if c.left <= 0 {
		if c.left == 0 {
			_, _ = c.Draft.WriteAt(p[:len(p)/2], off)
		}
		c.left--
		return 0, errCut
	}
	c.left--
	return c.Draft.WriteAt(p, off)
}

func (c *cut) Sync() error {
	if c.left < 0 {
		return errCut
	}
	return nil
}

// askedFor are actions that a person asks for, each list one after the other on
// one machine.
var askedFor = [][]ladder.Rung{
	{
		{Action: "upkeep.set-value", Params: map[string]string{"branch": "display/panel", "name": "theme", "value": "night"}},
		{
			Action: "upkeep.set-owner",
			Params: map[string]string{"branch": "shell/menu", "owner": "ines", "grants": "ines:full"},
		},
		{
			Action: "upkeep.rename-setting",
			Params: map[string]string{"branch": "print/default", "name": "tray", "to": "drawer"},
		},
		{Action: "upkeep.rename-setting", Params: map[string]string{"branch": "shell/menu", "name": "", "to": "shell/list"}},
		{Action: "upkeep.restore-settings", Params: map[string]string{"branch": "display/panel"}},
		{Action: "upkeep.restore-settings", Params: map[string]string{}},
	},
	{{Action: "upkeep.install-clean"}},
	{
		{Action: action.HoldBack, Params: map[string]string{"what": "Corbel 7.2 update of November"}},
		{Action: action.LetGo, Params: map[string]string{"what": "Corbel 7.2 update of November"}},
	},
}

// TestEveryActionCutOffAtEveryWrite takes the first rung of every fault's
// ladder and cuts it off at every single write. Undo must bring every byte
// back, and resume must end where the whole rung ends.
func TestEveryActionCutOffAtEveryWrite(t *testing.T) {
	loop, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	done := map[action.ID]bool{}
	cuts := 0
	for i := range standin.Faults {
		f := &standin.Faults[i]
		r := prepared(t, loop, f, uint64(400+i))
		d, err := r.diagnose()
		if err != nil {
			t.Fatal(err)
		}
		for _, rung := range d.ToDo {
			if rung.By != knowledge.ByDiorthos || done[rung.Action] || d.Why[0].Cause != Cause(f) {
				continue
			}
			facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State}
			if n := cutOff(t, r.machine(facts), rung); n > 0 {
				done[rung.Action] = true
				cuts += n
			}
		}
	}
	for _, x := range askedFor {
		r := prepared(t, loop, standin.FaultNamed("network-metered"), 500)
		d, err := r.diagnose()
		if err != nil {
			t.Fatal(err)
		}
		facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State}
		for _, rung := range x {
			rung.Number, rung.Remedy, rung.Target = 1, string(rung.Action), action.TargetOf(rung.Action, facts)
			n := cutOff(t, r.machine(facts), rung)
			if n < 3 {
				t.Errorf("%s was cut off %d times", rung.Action, n)
			}
			done[rung.Action] = true
			cuts += n
			if _, err := r.take(rung, facts); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, name := range action.IDs() {
		elsewhere := []action.ID{ // cut off in other tests, or the way back of a loan
			"layout.mend-gpt", "layout.restyle", "layout.wipe", "layout.rescue", "layout.allocate", "media.write",
			"firmware.give-back", "boot.normal-mode", "upkeep.put-back", "upkeep.tidy",
			"boot.mounts", "boot.root", "layout.type-esp", "volume.mend-group", // of a Debian machine, below
			"packages.finish", "packages.restore-files", "packages.lists-anew", // inside one, below
			"packages.clear-way", "packages.upgrade",
			"boot.early-images", "boot.menu", "boot.install-loader",
			// they draft and write as those do; a real machine is started by "make prove-disks"
		}
		if !done[name] && !slices.Contains(elsewhere, name) {
			t.Errorf("%s was not cut off", name)
		}
	}
	t.Logf("%d actions, cut off %d times", len(done), cuts)
}

func prepared(t *testing.T, l *Loop, f *standin.Fault, seed uint64) *round {
	t.Helper()
	folder := t.TempDir()
	o := standin.Options{Seed: seed, Mode: f.Mode(seed), Name: "cut", Now: Now, Vendor: l.Vendor, Link: l.Link}
	m, err := standin.Build(t.Context(), filepath.Join(folder, "machine"), o)
	if err == nil {
		err = f.Break(t.Context(), m, o)
	}
	if err == nil {
		_, err = f.TryOn(t.Context(), m, Now, l.Link)
	}
	if err == nil {
		m, err = standin.Open(m.Folder)
	}
	if err != nil {
		t.Fatal(err)
	}
	return &round{loop: l, ctx: t.Context(), folder: folder, m: m, look: m.Folder, res: &Result{}}
}

// cutOff takes the rung over and over, each time cut off one write later, and
// returns how often. A rung that finds nothing to change returns 0.
func cutOff(t *testing.T, m *host.Machine, rung ladder.Rung) int {
	t.Helper()
	a, _ := action.Named(rung.Action)
	image, device, err := m.Open(a, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = image.Close() }()
	env, err := m.Environment()
	if err != nil {
		t.Fatal(err)
	}
	for n := 0; ; n++ {
		journal := filepath.Join(t.TempDir(), fmt.Sprintf("%d", n))
		o := climb.Options{
			Machine: m.Name, Path: device, Environment: env, Now: m.Now,
			Journal: func(h block.Head, _ int64) (*block.Journal, string, error) {
				j, err := block.CreateJournal(journal, h)
				return j, journal, err
			},
		}
		undone, resumed := block.NewDraft(image), block.NewDraft(image)
		run, err := climb.Take(context.Background(), rung, &cut{undone, n}, o)
		if errors.Is(err, climb.ErrGuard) || errors.Is(err, climb.ErrProof) || run.Outcome == climb.NothingToDo {
			return 0
		}
		if err != nil && (run.Outcome != climb.CutOff || run.Journal != journal) {
			t.Fatalf("%s, cut off at write %d: called %q, journal %q", rung.Action, n, run.Outcome, run.Journal)
		}
		whole := err == nil
		if err != nil && !errors.Is(err, errCut) {
			t.Fatalf("%s, cut off at write %d: %v", rung.Action, n, err)
		}
		if !whole {
			if err := resumed.Put(must(undone.Writes())); err != nil { // a twin of the torn disk
				t.Fatal(err)
			}
			resumes(t, rung, resumed, journal, o, n)
		}
		undo := reopened(t, journal)
		if err := undo.Undo(t.Context(), undone); err != nil {
			t.Fatalf("%s, cut off at write %d: undo: %v", rung.Action, n, err)
		}
		_ = undo.Close()
		if left := must(undone.Writes()); len(left) > 0 {
			t.Fatalf(
				"%s, cut off at write %d: after undo %d places differ, the first at byte %d: %s",
				rung.Action, n, len(left), left[0].Off, left[0].What,
			)
		}
		if whole {
			return n
		}
	}
}

// resumes ends a rung that was cut off, on a copy of its journal.
func resumes(t *testing.T, rung ladder.Rung, dev *block.Draft, journal string, o climb.Options, n int) {
	t.Helper()
	copied := journal + ".copy"
	raw, err := os.ReadFile(journal)
	if err == nil {
		err = os.WriteFile(copied, raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	j := reopened(t, copied)
	defer func() { _ = j.Close() }()
	run, err := climb.Resume(t.Context(), rung, dev, j, copied, o)
	if err != nil || run.Outcome != climb.Proven {
		t.Fatalf("%s, cut off at write %d: resume: %+v %v", rung.Action, n, run, err)
	}
}

func reopened(t *testing.T, path string) *block.Journal {
	t.Helper()
	j, err := block.OpenJournal(path)
	if err != nil {
		t.Fatal(err)
	}
	return j
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
