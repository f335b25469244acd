package records_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/docket"
	"diorthos/core/fleet"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/service/records"
)

// failed hands in and settles a case of a machine that fails in a way.
func failed(t *testing.T, s *records.Store, machine, cause string, traits map[string]string) int64 {
	t.Helper()
	n := takenAs(t, s, machine, machine+" "+cause+" "+rand.Text())
	d := failing()
	d.ToDo = []ladder.Rung{{Number: 1, Remedy: "mend", Title: "Mend it", By: knowledge.ByDiorthos,
		Invasive: knowledge.Undoable}}
	note := records.FleetNote{
		Family: "corbel", Traits: traits, Tried: true,
		Failure: &fleet.Fingerprint{Family: "corbel", Explains: "start", Cause: cause, Title: "It is " + cause},
	}
	if object := traits["object"]; object != "" { // at which something that was tried failed
		note.Failure.Explains, note.Failure.Object, note.Failure.Suspect = knowledge.ExplainsAttempt, object, object
	}
	for name, value := range traits {
		note.Attributes = append(note.Attributes, name+"="+value)
	}
	if err := s.Settle(t.Context(), n, worker1, d, "", note); err != nil {
		t.Fatal(err)
	}
	return n
}

// well does it for one on which nothing is wrong.
func well(t *testing.T, s *records.Store, machine string, traits map[string]string) {
	t.Helper()
	n := taken(t, s, machine)
	note := records.FleetNote{Family: "corbel", Traits: traits, Tried: true}
	for name, value := range traits {
		note.Attributes = append(note.Attributes, name+"="+value)
	}
	d := &docket.Docket{Attempts: []docket.Attempt{{Outcome: "succeeded"}}}
	if err := s.Settle(t.Context(), n, worker1, d, "", note); err != nil {
		t.Fatal(err)
	}
}

func TestTheFleet(t *testing.T) {
	s := opened(t)
	t.Run("equal failures are one cohort, and an outbreak is raised once", func(t *testing.T) { cohorts(t, s) })
	t.Run("what people say of a cohort holds for cases to come", func(t *testing.T) { ruled(t, s) })
	t.Run("a twin is found", func(t *testing.T) { twins(t, s) })
	t.Run("a notice is kept until somebody took it", func(t *testing.T) { noticed(t, s) })
	t.Run("an agent enrols once, and signs in by its key", func(t *testing.T) { enrols(t, s) })
	t.Run("a roll-out gives each order once", func(t *testing.T) { rollsOut(t, s) })
	t.Run("what is held is held by the machines of its kind", func(t *testing.T) { holds(t, s) })
	t.Run("outbreaks are held where a site's rule says so", func(t *testing.T) { holdsByRule(t, s) })
	t.Run("what was learned can be frozen and forgotten", func(t *testing.T) { learns(t, s) })
	t.Run("orders are begun within a site's hours", func(t *testing.T) { windows(t, s) })
}

func cohortOf(t *testing.T, s *records.Store, number int64) *client.Cohort {
	t.Helper()
	c, err := s.CohortOf(t.Context(), number)
	if err != nil || c == nil {
		t.Fatalf("the cohort of case %d: %v, %v", number, c, err)
	}
	return c
}

func cohorts(t *testing.T, s *records.Store) {
	kiosk, desk := map[string]string{"model": "K1", "release": "7"}, map[string]string{"model": "D4", "release": "7"}
	for i := range 12 {
		well(t, s, fmt.Sprintf("well-%d", i), desk)
	}
	var last int64
	for i := range 7 {
		last = failed(t, s, fmt.Sprintf("kiosk-%d", i), "loader-gone", kiosk)
	}
	again := failed(t, s, "kiosk-3", "loader-gone", kiosk) // the same machine once more
	other := failed(t, s, "kiosk-0", "store-damaged", kiosk)
	c := cohortOf(t, s, last)
	if c.Machines != 7 || cohortOf(t, s, again).ID != c.ID || cohortOf(t, s, other).ID == c.ID {
		t.Errorf("the cohort: %+v", c)
	}
	list, err := s.Outbreaks(t.Context(), nil)
	if err != nil || len(list) != 1 || list[0].Cohort != c.ID || list[0].Now != 7 {
		t.Fatalf("outbreaks: %+v, %v", list, err)
	}
	d, err := s.CohortDetail(t.Context(), nil, c.ID)
	if err != nil || len(d.Cases) != 7 || len(d.Shared) != 1 || d.Shared[0].Attribute != "model=K1" {
		t.Errorf("in detail: %d cases, shared %+v, %v", len(d.Cases), d.Shared, err)
	}
	o, err := s.Hold(t.Context(), list[0].ID, "Corbel 7", "Ragna")
	if err != nil || o.Held != "Corbel 7" || o.LiftedAt != nil {
		t.Errorf("held: %+v, %v", o, err)
	}
	if o, err = s.Hold(t.Context(), list[0].ID, "", "Ragna"); err != nil || o.LiftedAt == nil {
		t.Errorf("lifted: %+v, %v", o, err)
	}
	if _, err = s.Hold(t.Context(), list[0].ID, "", "Ragna"); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("lifted twice: %v", err)
	}
	if page, err := s.Cohorts(t.Context(), []string{"nowhere"}, 0, 10); err != nil || len(page.Cohorts) != 0 {
		t.Errorf("of another site: %+v, %v", page, err)
	}
}

func ruled(t *testing.T, s *records.Store) {
	a := cohortOf(t, s, failed(t, s, "ruled-1", "rule-a", nil))
	b := cohortOf(t, s, failed(t, s, "ruled-2", "rule-b", nil))
	name, muted := "Both", true
	if _, err := s.ChangeCohort(t.Context(), b.ID, client.CohortChange{Name: &name, Muted: &muted,
		Into: &a.ID}); err != nil {
		t.Fatal(err)
	}
	if c := cohortOf(t, s, failed(t, s, "ruled-3", "rule-b", nil)); c.ID != a.ID || c.Machines != 3 {
		t.Errorf("a case to come went to %+v", c)
	}
	if _, err := s.ChangeCohort(t.Context(), a.ID, client.CohortChange{Into: &a.ID}); !errors.Is(err, records.ErrItself) {
		t.Errorf("into itself: %v", err)
	}
	by := "site"
	if _, err := s.ChangeCohort(t.Context(), a.ID, client.CohortChange{By: &by}); err != nil {
		t.Fatal(err)
	}
	north := cohortOf(t, s, failed(t, s, "ruled-4", "rule-a", map[string]string{"site": "north"}))
	south := cohortOf(t, s, failed(t, s, "ruled-5", "rule-a", map[string]string{"site": "south"}))
	if north.ID == south.ID || north.ID == a.ID {
		t.Errorf("split by site: %d and %d", north.ID, south.ID)
	}
}

func twins(t *testing.T, s *records.Store) {
	traits := func(sed string) map[string]string {
		return map[string]string{"model": "T", "release": "7", "package sed": sed, "package tar": "1"}
	}
	well(t, s, "twin-well", traits("4.9"))
	failed(t, s, "twin-bad", "sed-old", traits("4.8"))
	r, err := s.Twin(t.Context(), nil, "twin-bad", "")
	if err != nil || len(r.Twins) != 1 || r.Against != "twin-well" || len(r.Differences) != 1 ||
		r.Differences[0].Trait != "package sed" || r.Differences[0].There != "4.9" {
		t.Errorf("the twin: %+v, %v", r, err)
	}
	if _, err := s.Twin(t.Context(), nil, "nobody", ""); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("of nobody: %v", err)
	}
}

func noticed(t *testing.T, s *records.Store) {
	var kinds []string
	refuse := true
	send := func(n records.Notice) error {
		if refuse {
			return errors.New("it is down")
		}
		kinds = append(kinds, n.Kind)
		return nil
	}
	if more, err := s.SendNotice(t.Context(), send); err != nil || !more {
		t.Fatalf("the first try: %v, %v", more, err)
	}
	if _, err := s.Pool.Exec(t.Context(), "update notices set due_at = now()"); err != nil {
		t.Fatal(err)
	}
	refuse = false
	for more := true; more; {
		var err error
		if more, err = s.SendNotice(t.Context(), send); err != nil {
			t.Fatal(err)
		}
	}
	if len(kinds) != 3 || !slices.Contains(kinds, "outbreak.raised") {
		t.Errorf("sent: %v", kinds)
	}
}

func enrols(t *testing.T, s *records.Store) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.MakeCode(t.Context(), client.CodeWish{Machine: "kiosk-0"}, "a code", "Ragna"); err != nil {
		t.Fatal(err)
	}
	done, err := s.Enrol(t.Context(), "a code", public, "board 1")
	if err != nil || done.Machine != "kiosk-0" {
		t.Fatalf("enrolled: %+v, %v", done, err)
	}
	if _, err := s.Enrol(t.Context(), "a code", public, ""); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("the same code again: %v", err)
	}
	on := func(at time.Time, key ed25519.PrivateKey) error {
		_, err := s.SignOn(t.Context(), client.SignOn{
			Agent: done.Agent, Time: at, Signature: ed25519.Sign(key, client.SignOnText(done.Agent, at)),
		}, fmt.Sprint("secret", at.UnixNano()))
		return err
	}
	_, other, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if err := on(time.Now(), private); err != nil {
		t.Errorf("by its key: %v", err)
	}
	for what, err := range map[string]error{
		"by another key": on(time.Now(), other), "an hour ago": on(time.Now().Add(-time.Hour), private),
	} {
		if !errors.Is(err, records.ErrNotFound) {
			t.Errorf("%s: %v", what, err)
		}
	}
	// A copy of the disk comes with the key, and is known by the hardware that it runs on.
	from := func(hardware string) error {
		at := time.Now()
		_, err := s.SignOn(t.Context(), client.SignOn{
			Agent: done.Agent, Time: at, Signature: ed25519.Sign(private, client.SignOnText(done.Agent, at)),
			Hardware: client.Hardware{Hardware: hardware},
		}, fmt.Sprint("secret of ", hardware))
		return err
	}
	told := func() (n int) {
		list, err := s.Agents(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range list {
			if a.ID == done.Agent && a.Copied != nil {
				n++
			}
		}
		return n
	}
	if err := from("board 1"); err != nil || told() != 0 {
		t.Errorf("on its own hardware: %v, called copied %d", err, told())
	}
	for range 2 {
		if err := from("board 2"); !errors.Is(err, records.ErrCopied) {
			t.Errorf("on other hardware: %v", err)
		}
	}
	if told() != 1 {
		t.Error("the copy is not told of")
	}
	if err := s.EndAgent(t.Context(), done.Agent); err != nil {
		t.Fatal(err)
	}
	if err := on(time.Now(), private); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("turned off: %v", err)
	}
}

// rollsOut lets a repair go round on three machines; several processes conduct it at once.
func rollsOut(t *testing.T, s *records.Store) {
	var numbers []int64
	for i := range 4 {
		name := fmt.Sprintf("round-%d", i)
		numbers = append(numbers, failed(t, s, name, "goes-round", nil))
		enrolled(t, s, name)
	}
	wish := client.RolloutWish{Cohort: cohortOf(t, s, numbers[0]).ID, Remedy: "mend"}
	if _, err := s.Offer(t.Context(), nil, wish, "Ragna"); !errors.Is(err, records.ErrNotProven) {
		t.Errorf("before it was proven: %v", err)
	}
	proven(t, s, numbers[0])
	r, err := s.Offer(t.Context(), nil, wish, "Ragna")
	if err != nil {
		t.Fatal(err)
	}
	for _, state := range []string{"paused", "stopped", "taking back"} {
		if _, err := s.ChangeRollout(t.Context(), []string{"elsewhere"}, r.ID, state, "Joren"); !errors.Is(
			err, records.ErrNotFound,
		) {
			t.Errorf("%s by one of another site: %v", state, err)
		}
	}
	conduct := func() {
		t.Helper()
		var wait sync.WaitGroup
		for range 4 {
			wait.Go(func() {
				if err := s.Conduct(t.Context()); err != nil {
					t.Error(err)
				}
			})
		}
		wait.Wait()
	}
	given := map[string]int64{}
	resumed := 0
	for range 8 {
		conduct()
		for i := range 4 {
			name := fmt.Sprintf("round-%d", i)
			o, _, err := s.NextOrder(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			if o == nil {
				continue
			}
			if given[name] != 0 {
				t.Errorf("%s got a second order", name)
			}
			given[name] = o.ID
			if err := s.ReportOrder(t.Context(), "round-9", o.ID, client.OrderReport{State: client.OrderProven}); err == nil {
				t.Error("another machine's agent told of it")
			}
			state := client.OrderProven
			if len(given) == 1 {
				state = client.OrderFailed // the first of all
			}
			if err := s.ReportOrder(t.Context(), name, o.ID, client.OrderReport{State: state}); err != nil {
				t.Fatal(err)
			}
		}
		if r, err := s.Rollout(t.Context(), nil, r.ID); err != nil || len(given) == 1 && r.State == "halted" {
			// A person looks at it and lets it go on: it does not halt for the same again.
			if r, err = s.ChangeRollout(t.Context(), nil, r.ID, "going", "Ragna"); err != nil || r.State != "going" {
				t.Fatalf("let go on: %+v, %v", r, err)
			}
			resumed++
		}
	}
	r, err = s.Rollout(t.Context(), nil, r.ID)
	if err != nil || r.State != "done" || r.Tally.Proven != 2 || r.Tally.Failed != 1 || len(given) != 3 ||
		given["round-0"] != 0 || resumed != 1 {
		t.Errorf("the roll-out: %+v, orders %v, %v", r, given, err)
	}
	if _, err := s.ChangeRollout(t.Context(), nil, r.ID, "paused", "Ragna"); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("one that is done was paused: %v", err)
	}
}
