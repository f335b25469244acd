package climb_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/firmware"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/layout"
)

// script attends a climb by answers that were written beforehand.
type script struct {
	answers map[climb.QuestionKind][]string
	consent []string
	events  []climb.Event
	phase   func(string) // called as phases begin
}

func (s *script) next(list *[]string) (string, error) {
	if len(*list) == 0 {
		return "", climb.ErrUnanswered
	}
	answer := (*list)[0]
	*list = (*list)[1:]
	return answer, nil
}

func (s *script) Consent(context.Context, climb.Consent) (string, error) { return s.next(&s.consent) }

func (s *script) Answer(_ context.Context, q climb.Question) (string, error) {
	list := s.answers[q.Kind]
	answer, err := s.next(&list)
	if s.answers != nil {
		s.answers[q.Kind] = list
	}
	return answer, err
}

func (s *script) Progress(_ context.Context, e climb.Event) error {
	s.events = append(s.events, e)
	if e.Kind == climb.PhaseBegins && s.phase != nil {
		s.phase(e.Phase)
	}
	return nil
}

func (s *script) heard(k climb.EventKind) bool {
	return slices.ContainsFunc(s.events, func(e climb.Event) bool { return e.Kind == k })
}

// plates holds a machine's firmware as a JSON text of 4096 bytes.
type plates struct{}

func (plates) ReadFirmware(dev block.Source) (*firmware.State, error) {
	raw := make([]byte, dev.Size())
	if _, err := dev.ReadAt(raw, 0); err != nil {
		return nil, err
	}
	var s firmware.State
	return &s, json.Unmarshal(bytes.TrimRight(raw, "\x00 "), &s)
}

func (plates) WriteFirmware(dev block.Device, s *firmware.State) error {
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = dev.WriteAt(append(raw, bytes.Repeat([]byte{' '}, 4096-len(raw))...), 0)
	return err
}

func (plates) LoaderPath(firmware.Mode) string { return "EFI/x" }

// bench is a machine of two files in a folder: its disk, and its firmware.
type bench struct {
	t        *testing.T
	folder   string
	facts    *bag.Facts
	boot     string
	journals int
	wrap     func(*block.Image) climb.Device
}

func (b *bench) path(name string) string { return filepath.Join(b.folder, name) }

func (b *bench) Open(a action.Action, readOnly bool) (climb.Device, string, error) {
	name := "disk.img"
	if a.OnFirmware {
		name = "firmware"
	}
	dev, err := block.OpenImage(b.path(name), 512, readOnly)
	if err == nil && b.wrap != nil && !a.OnFirmware {
		return b.wrap(dev), b.path(name), nil
	}
	return dev, b.path(name), err
}

func (b *bench) Environment() (action.Environment, error) {
	return action.Environment{Firmware: plates{}, Facts: b.facts}, nil
}

func (b *bench) Measure(context.Context) (*bag.Facts, error) { return nil, climb.ErrNotAtHand }
func (b *bench) Boot() string                                { return b.boot }

func (b *bench) Journal(string) (string, int64, error) {
	b.journals++
	return b.path(fmt.Sprintf("%d.journal", b.journals)), 1 << 40, nil
}

var now = time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)

// setUp is a machine whose primary GPT is gone and whose clock is 42 seconds off,
// with an offer whose signature has expired.
func setUp(t *testing.T) (*bench, []ladder.Rung) {
	t.Helper()
	b := &bench{t: t, folder: t.TempDir(), facts: &bag.Facts{State: &bag.State{
		Firmware: &bag.FirmwareFile{Source: "firmware", Size: 4096, Mark: "machine:tern-1"},
		Update: &bag.UpdateClient{Offers: []bag.Offer{{
			ID:    "u",
			From:  now.AddDate(-1, 0, 0),
			Until: now.AddDate(0, 0, -3),
		}}},
	}}}
	disk := image(t)
	r := rung(t, disk)
	raw := read(t, disk)
	dev := make([]byte, 4096)
	state, err := json.Marshal(firmware.State{Mark: "machine:tern-1", Mode: "uefi", Clock: 42, NetworkUp: true})
	copy(dev, append(state, bytes.Repeat([]byte{' '}, 4096-len(state))...))
	err = errors.Join(err, os.WriteFile(b.path("disk.img"), raw, 0o600), os.WriteFile(b.path("firmware"), dev, 0o600))
	if err != nil {
		t.Fatal(err)
	}
	target := action.TargetOf("firmware.lend-clock", b.facts)
	return b, []ladder.Rung{
		{
			Number:   1,
			Remedy:   "table",
			Title:    "Table",
			Action:   r.Action,
			By:       knowledge.ByDiorthos,
			Invasive: knowledge.Undoable,
			Target:   r.Target,
		},
		{
			Number:   2,
			Remedy:   "clock",
			Title:    "Clock",
			Action:   "firmware.lend-clock",
			By:       knowledge.ByDiorthos,
			Invasive: knowledge.Undoable,
			Target:   target,
		},
		{
			Number:   3,
			Remedy:   "order",
			Title:    "Order",
			Action:   "firmware.boot-order",
			By:       knowledge.ByDiorthos,
			Invasive: knowledge.Disrupts,
			Target:   target,
			Restart:  true,
		},
		{
			Number:   4,
			Remedy:   "hand",
			Title:    "Hand",
			By:       knowledge.ByHands,
			Invasive: knowledge.Undoable,
			Steps:    []knowledge.Step{{Do: "a", Shows: "b"}},
			Loans:    []knowledge.LoanTerms{{What: "a cable", Back: "plug it in"}},
		},
	}
}

func (b *bench) record() *climb.Record {
	b.t.Helper()
	r, err := climb.OpenRecord(b.path("tern-1.climbs"), "tern-1")
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { _ = r.Close() })
	return r
}

// climb takes rungs as case number 7, and lets go of the record afterwards.
func (b *bench) climb(
	ctx context.Context, s *script, change func(*climb.Climb), rungs ...ladder.Rung,
) ([]climb.Run, *climb.Record, error) {
	r := b.record()
	c := &climb.Climb{
		Plan: climb.Plan{Machine: "tern-1", Case: 7, Of: 4, Rungs: rungs}, On: b, Attendant: s, Record: r,
		Now: func() time.Time { return now },
	}
	if change != nil {
		change(c)
	}
	runs, err := c.Run(ctx)
	_ = r.Close()
	return runs, r, err
}

func (b *bench) state() *firmware.State {
	b.t.Helper()
	dev, err := block.OpenImage(b.path("firmware"), 512, true)
	if err != nil {
		b.t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	s, err := plates{}.ReadFirmware(dev)
	if err != nil {
		b.t.Fatal(err)
	}
	return s
}

// TestAStopWhileItIsProvenTakesTheChangeBack: the undo does not run under the
// context that is dead.
func TestAStopWhileItIsProvenTakesTheChangeBack(t *testing.T) {
	b, rungs := setUp(t)
	before := read(t, b.path("disk.img"))
	ctx, stop := context.WithCancel(t.Context())
	s := &script{phase: func(phase string) {
		if phase == climb.Proving {
			stop()
		}
	}}
	runs, r, err := b.climb(ctx, s, nil, rungs[0])
	if !errors.Is(err, climb.ErrStopped) || len(runs) != 1 || runs[0].Outcome != climb.TakenBack {
		t.Fatalf("%v: %+v", err, runs)
	}
	if !bytes.Equal(read(t, b.path("disk.img")), before) {
		t.Error("the disk stayed changed")
	}
	if got := r.Runs(7); len(got) != 1 || got[0].Outcome != climb.TakenBack {
		t.Errorf("on record: %+v", got)
	}
	// One that is stopped before anything is written says so, and is not passed over.
	ctx, stop = context.WithCancel(t.Context())
	stop()
	runs, _, err = b.climb(ctx, &script{}, nil, rungs[0])
	if !errors.Is(err, climb.ErrStopped) || runs[0].Outcome != climb.Stopped || runs[0].Outcome.Tried() {
		t.Errorf("%v: %+v", err, runs)
	}
}

// failing is a disk that takes a few writes and then no more.
type failing struct {
	*block.Image
	left *int
}

func (f failing) WriteAt(p []byte, off int64) (int, error) {
	if *f.left--; *f.left < 0 {
		return 0, errors.New("i/o error")
	}
	return f.Image.WriteAt(p, off)
}

// stumbling is a disk that refuses one write.
type stumbling struct {
	*block.Image
	until *int
}

func (f stumbling) WriteAt(p []byte, off int64) (int, error) {
	if *f.until--; *f.until == 0 {
		return 0, errors.New("no space left on device")
	}
	return f.Image.WriteAt(p, off)
}

// TestWhatCannotBeWrittenIsTakenBack: a write that fails while the computer goes on leaves nothing done in part, and
// nothing to be resumed; the rung is not called refused.
func TestWhatCannotBeWrittenIsTakenBack(t *testing.T) {
	b, rungs := setUp(t)
	before := read(t, b.path("disk.img"))
	until := 2
	b.wrap = func(m *block.Image) climb.Device { return stumbling{m, &until} }
	runs, r, err := b.climb(t.Context(), &script{}, nil, rungs[0])
	if !errors.Is(err, climb.ErrNotWritten) || runs[0].Outcome != climb.TakenBack || r.Unfinished() != nil ||
		!strings.Contains(err.Error(), "no space left on device; it was taken back") {
		t.Errorf("%v: %+v", err, runs)
	}
	if until > 0 || !bytes.Equal(read(t, b.path("disk.img")), before) {
		t.Errorf("the disk is not as it was, after %d writes", until)
	}
}

// TestARungThatWasCutOffIsCalledSo: not refused, with its journal, on the record;
// the next climb goes on only when it was resumed or taken back.
func TestARungThatWasCutOffIsCalledSo(t *testing.T) {
	b, rungs := setUp(t)
	before := read(t, b.path("disk.img"))
	left := 1
	b.wrap = func(m *block.Image) climb.Device { return failing{m, &left} }
	s := &script{}
	runs, r, err := b.climb(t.Context(), s, nil, rungs[0])
	if !errors.Is(err, climb.ErrCutOff) || runs[0].Outcome != climb.CutOff || runs[0].Journal == "" ||
		!strings.Contains(err.Error(), "diorthos undo "+runs[0].Journal) ||
		strings.Contains(err.Error(), "nothing was changed") {
		t.Fatalf("%v: %+v", err, runs)
	}
	if e := r.Unfinished(); e == nil || e.Journal != runs[0].Journal {
		t.Errorf("unfinished: %+v", e)
	}
	if last := s.events[len(s.events)-1]; last.Kind != climb.RungEnds || last.Run.Outcome != climb.CutOff {
		t.Errorf("told last: %+v", last)
	}
	b.wrap = nil
	if _, _, err := b.climb(t.Context(), &script{}, nil, rungs[1]); !errors.Is(err, climb.ErrBlocked) ||
		!strings.Contains(err.Error(), "--resume") {
		t.Errorf("another rung was taken: %v", err)
	}
	runs, r, err = b.climb(t.Context(), &script{}, func(c *climb.Climb) { c.Resume = runs[0].Journal }, rungs[0])
	if err != nil || runs[0].Outcome != climb.Proven || r.Unfinished() != nil {
		t.Fatalf("resumed: %v %+v", err, runs)
	}
	j := openJournal(t, runs[0].Journal)
	if err := j.Undo(t.Context(), open(t, b.path("disk.img"))); err != nil ||
		!bytes.Equal(read(t, b.path("disk.img")), before) {
		t.Errorf("undone: %v", err)
	}
}

// TestWhatIsLentIsGivenBack: unanswered at once, or when the window is over; by
// the next climb when somebody wants to keep it for now; to what it was, and never
// to another machine.
func TestWhatIsLentIsGivenBack(t *testing.T) {
	b, rungs := setUp(t)
	lent := func(s *script) { // while the attempt is made
		s.phase = nil
	}
	s := &script{}
	lent(s)
	runs, r, err := b.climb(t.Context(), s, nil, rungs[1])
	if err != nil || len(runs[0].Loans) != 1 || len(r.Owed()) != 0 || !s.heard(climb.LoanReturned) {
		t.Fatalf("%v %+v, owed %+v", err, runs, r.Owed())
	}
	if got := b.state(); got.Clock != 42 || !got.NetworkUp {
		t.Errorf("given back as %+v, it was 42 seconds off, network up", got)
	}
	s = &script{answers: map[climb.QuestionKind][]string{climb.AskAttempt: {climb.No}}}
	if _, r, err = b.climb(t.Context(), s, nil, rungs[1]); err != nil || len(r.Owed()) != 1 || b.state().NetworkUp {
		t.Fatalf("kept for now: %v, owed %+v, %+v", err, r.Owed(), b.state())
	}
	stranger := r.Owed()[0].Loan
	stranger.Machine = "tern-2"
	dev, path, err := b.Open(action.Action{OnFirmware: true}, false)
	if err != nil {
		t.Fatal(err)
	}
	env, _ := b.Environment()
	o := climb.Options{Machine: "tern-1", Path: path, Environment: env, Now: time.Now}
	if _, err := climb.GiveBack(t.Context(), stranger, dev, o); !errors.Is(err, climb.ErrNotTheLender) {
		t.Errorf("given to another machine: %v", err)
	}
	stranger = r.Owed()[0].Loan
	target := *stranger.Target
	target.Marks = []string{"machine:tern-9"}
	stranger.Target = &target
	if _, err := climb.GiveBack(t.Context(), stranger, dev, o); !errors.Is(err, climb.ErrGuard) {
		t.Errorf("given to another disk: %v", err)
	}
	_ = dev.Close()
	// A climb without a rung, of another case, gives back what is owed.
	s = &script{}
	if _, r, err = b.climb(t.Context(), s, func(c *climb.Climb) { c.Case = 8 }); err != nil || len(r.Owed()) != 0 ||
		b.state().Clock != 42 {
		t.Errorf("the next climb: %v, owed %+v", err, r.Owed())
	}
}

// TestNothingIsOwedAfterARefusal: what a rung would have borrowed is noted only
// when its guard has passed.
func TestNothingIsOwedAfterARefusal(t *testing.T) {
	b, rungs := setUp(t)
	refused := rungs[1]
	refused.Target = &block.Target{Size: 4096, Marks: []string{"machine:other"}}
	refused.Loans = []knowledge.LoanTerms{{What: "the clock", Back: "set it"}}
	runs, r, err := b.climb(t.Context(), &script{}, nil, refused)
	if !errors.Is(err, climb.ErrGuard) || runs[0].Outcome != climb.Refused || len(r.Owed()) != 0 {
		t.Errorf("%v %+v, owed %+v", err, runs, r.Owed())
	}
}

// TestARungWithNothingToDoLeadsToTheNext, and what was tried is passed over until
// it is named.
func TestARungWithNothingToDoLeadsToTheNext(t *testing.T) {
	b, rungs := setUp(t)
	first := func(c *climb.Climb) { c.First = true }
	runs, r, err := b.climb(t.Context(), &script{consent: []string{climb.Yes}}, first, rungs[2], rungs[0], rungs[1])
	if err != nil || len(runs) != 2 || runs[0].Outcome != climb.NothingToDo || runs[1].Outcome != climb.Proven {
		t.Fatalf("%v %+v", err, runs)
	}
	stands := climb.Standing(r.Runs(7))
	c, err := climb.Choose(rungs, stands, climb.Choice{})
	if err != nil || len(c.Rungs) != 2 || c.Rungs[0].Number != 2 || c.Passed[1] != climb.Proven ||
		c.Passed[3] != climb.NothingToDo {
		t.Errorf("%v %+v", err, c)
	}
	if c, err = climb.Choose(rungs, stands, climb.Choice{Only: []int{3}}); err != nil || len(c.Rungs) != 1 {
		t.Errorf("named: %v %+v", err, c)
	}
	for n := range rungs {
		stands[n+1] = climb.Refused
	}
	if _, err = climb.Choose(rungs, stands, climb.Choice{}); !errors.Is(err, climb.ErrNothingLeft) ||
		!strings.Contains(err.Error(), "--only N") {
		t.Errorf("%v", err)
	}
}

// TestConsentAndRestarts: what disrupts is not done unasked, and before an owed
// restart nothing else is.
func TestConsentAndRestarts(t *testing.T) {
	b, rungs := setUp(t)
	b.facts.Disks = []bag.Disk{{Partitions: []bag.Partition{{
		Number: 1,
		Role:   layout.RoleESP,
		ID:     "9e0ae4ee-0000-4000-8000-000000000001",
	}}}}
	entry := ladder.Rung{
		Number:   3,
		Remedy:   "entry",
		Action:   "firmware.boot-entry",
		By:       knowledge.ByDiorthos,
		Invasive: knowledge.Disrupts,
		Restart:  true,
		Target:   rungs[1].Target,
	}
	for _, consent := range [][]string{nil, {climb.No}} {
		if runs, _, err := b.climb(t.Context(), &script{consent: consent}, nil, entry); !errors.Is(err, climb.ErrBlocked) ||
			runs[0].Outcome != climb.Refused {
			t.Errorf("consent %v: %v %+v", consent, err, runs)
		}
	}
	b.boot = "start-1"
	_, r, err := b.climb(t.Context(), &script{consent: []string{climb.Yes}}, nil, entry)
	if err != nil || r.OwedRestart() == nil || len(b.state().Entries) != 1 {
		t.Fatalf("%v, owed %+v", err, r.OwedRestart())
	}
	if _, _, err := b.climb(t.Context(), &script{}, nil, rungs[0]); !errors.Is(err, climb.ErrBlocked) {
		t.Errorf("before the restart: %v", err)
	}
	b.boot = "start-2"
	if _, _, err := b.climb(t.Context(), &script{}, nil, rungs[0]); err != nil {
		t.Errorf("after the restart: %v", err)
	}
}

// TestAPersonsWordIsAskedFor: steps, whether it helped, and what is to be given
// back; nobody there takes nothing for granted.
func TestAPersonsWordIsAskedFor(t *testing.T) {
	b, rungs := setUp(t)
	hands := func(c *climb.Climb) { c.Hands = true }
	if _, _, err := b.climb(t.Context(), &script{}, nil, rungs[3]); !errors.Is(err, climb.ErrBlocked) {
		t.Errorf("without --hands: %v", err)
	}
	runs, r, err := b.climb(t.Context(), &script{}, hands, rungs[3])
	if !errors.Is(err, climb.ErrUnanswered) || runs[0].Outcome != climb.Stopped || len(r.Owed()) != 1 {
		t.Errorf("unanswered: %v %+v", err, runs)
	}
	s := &script{answers: map[climb.QuestionKind][]string{
		climb.AskReturned: {"the cable is broken"}, climb.AskStep: {climb.Yes}, climb.AskHelped: {climb.Yes},
	}}
	runs, r, err = b.climb(t.Context(), s, hands, rungs[3], rungs[0])
	if err != nil || len(runs) != 1 || runs[0].Outcome != climb.Proven || len(r.Owed()) != 1 {
		t.Errorf("%v %+v, owed %+v", err, runs, r.Owed())
	}
}

// TestTheRecordSurvives: a torn line, a damaged one, the ledger of an earlier
// version, another case; and two climbs at once are one too many.
func TestTheRecordSurvives(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "tern-1.climbs")
	old := `{"case":3,"machine":"tern-1","runs":[{"rung":1,"outcome":"proven"}],` +
		`"loans":[{"what":"the clock","back":"set it","rung":1,"borrowed":"2026-11-01T00:00:00Z"}],` +
		`"restart":2,"boot":"start-1"}`
	if err := os.WriteFile(filepath.Join(folder, "tern-1.ledger"), []byte(old), 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := climb.OpenRecord(path, "tern-1")
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Owed()) != 1 || r.OwedRestart().Rung != 2 || len(r.Runs(3)) != 1 {
		t.Fatalf("taken over: %+v %+v", r.Owed(), r.OwedRestart())
	}
	if _, err := climb.OpenRecord(path, "tern-1"); !errors.Is(err, climb.ErrBusy) {
		t.Errorf("two at once: %v", err)
	}
	if err := r.Borrow(9, climb.Loan{What: "the network", Back: "attach it"}); err != nil {
		t.Fatal(err)
	}
	if err := r.Borrow(9, climb.Loan{What: "the network"}); err != nil { // borrowed already
		t.Fatal(err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	whole := read(t, path)
	for cut := range len(whole) { // a machine that stopped at any byte of it
		if err := os.WriteFile(path, whole[:cut], 0o600); err != nil {
			t.Fatal(err)
		}
		r, err := climb.OpenRecord(path, "tern-1")
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(r.Note(climb.Entry{At: now, Mark: climb.MarkPlanned, Case: 9}), r.Close()); err != nil {
			t.Fatal(err)
		}
		if r, err = climb.ReadRecord(path, "tern-1"); err != nil || cut > 0 && r.Damaged > 1 {
			t.Fatalf("cut at %d: %v, %d lines are damaged", cut, err, r.Damaged)
		}
	}
	if err := os.WriteFile(path, bytes.Replace(whole, []byte(`"mark"`), []byte(`"mork"`), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	if r, err = climb.ReadRecord(path, "tern-1"); err != nil || r.Damaged != 1 || len(r.Owed()) != 2 {
		t.Errorf("damaged: %v %d, owed %+v", err, r.Damaged, r.Owed())
	}
}
