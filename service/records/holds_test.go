package records_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/climb"
	"diorthos/service/records"
)

// enrolled makes an agent of a machine.
func enrolled(t *testing.T, s *records.Store, machine string) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	code := rand.Text()[:10]
	if _, err := s.MakeCode(t.Context(), client.CodeWish{Machine: machine}, code, "Ragna"); err != nil {
		t.Fatal(err)
	}
	done, err := s.Enrol(t.Context(), code, public, "")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Now()
	if _, err := s.SignOn(t.Context(), client.SignOn{
		Agent: done.Agent, Time: at, Signature: ed25519.Sign(private, client.SignOnText(done.Agent, at)),
	}, rand.Text()); err != nil {
		t.Fatal(err)
	}
}

// What is held because of an outbreak is to be held by the machines of its family alone, until it is lifted; how many
// do it is what they say themselves.
func holds(t *testing.T, s *records.Store) {
	var last int64
	for i := range 12 {
		last = failed(t, s, fmt.Sprintf("held-%d", i), "bad-update", map[string]string{"system": "corbel"})
	}
	for _, name := range []string{"held-0", "held-1", "other-0"} {
		enrolled(t, s, name)
	}
	well(t, s, "other-0", map[string]string{"system": "debian"})
	c := cohortOf(t, s, last)
	list, err := s.Outbreaks(t.Context(), nil)
	at := slices.IndexFunc(list, func(o client.Outbreak) bool { return o.Cohort == c.ID })
	if err != nil || at < 0 {
		t.Fatalf("twelve failures of one cause raised no outbreak: %+v, %v", list, err)
	}
	id := list[at].ID
	if _, err := s.Hold(t.Context(), id, "Update 2026-11", "Ragna"); err != nil {
		t.Fatal(err)
	}
	for machine, want := range map[string][]string{
		"held-0": {"Update 2026-11"}, "other-0": {}, "nobody": {"Update 2026-11"},
	} {
		if have, err := s.HoldsFor(t.Context(), machine); err != nil || !slices.Equal(have, want) {
			t.Errorf("%s has to hold %v, want %v: %v", machine, have, want, err)
		}
	}
	if err := s.TellHeld(t.Context(), "held-0", map[string]string{"Update 2026-11": ""}); err != nil {
		t.Fatal(err)
	}
	cannot := map[string]string{"Update 2026-11": "the policy cannot be read"}
	if err := s.TellHeld(t.Context(), "held-1", cannot); err != nil {
		t.Fatal(err)
	}
	if err := s.TellHeld(t.Context(), "nobody", map[string]string{}); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("a machine without an agent tells what it holds: %v", err)
	}
	list, err = s.Outbreaks(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	o := list[slices.IndexFunc(list, func(o client.Outbreak) bool { return o.ID == id })]
	if o.HeldOn != 1 || len(o.HoldProblems) != 1 || o.HoldProblems[0].Machine != "held-1" {
		t.Errorf("held on %d of %d, problems %v", o.HeldOn, o.HeldOf, o.HoldProblems)
	}
	if _, err := s.Hold(t.Context(), id, "", "Joren"); err != nil {
		t.Fatal(err)
	}
	if have, err := s.HoldsFor(t.Context(), "held-0"); err != nil || len(have) != 0 {
		t.Errorf("after it was lifted: %v, %v", have, err)
	}
}

// Where a site's rule says so, what an outbreak points to is held back as soon as it is raised, and at no other site; a
// person's word counts for all. What fails at the start points to nothing.
func holdsByRule(t *testing.T, s *records.Store) {
	rule := client.SiteRule{Site: "Fender Quay", Holds: true}
	if _, err := s.SetSiteRule(t.Context(), rule, "Ragna"); err != nil {
		t.Fatal(err)
	}
	for machine, site := range map[string]string{"quay-0": "Fender Quay", "far-0": "Lerrick"} {
		var q queued
		if _, err := s.Accept(t.Context(), records.Bag{
			Digest: "d-rule-" + machine, Blob: "b-rule-" + machine, Machine: bag.Machine{Name: machine, Site: site},
		}, whole, q.put); err != nil {
			t.Fatal(err)
		}
	}
	outbreak := func(cause string, traits map[string]string) client.Outbreak {
		t.Helper()
		var last int64
		for i := range 12 {
			last = failed(t, s, fmt.Sprintf("%s-%d", cause, i), cause, traits)
		}
		c := cohortOf(t, s, last)
		list, err := s.Outbreaks(t.Context(), nil)
		at := slices.IndexFunc(list, func(o client.Outbreak) bool { return o.Cohort == c.ID })
		if err != nil || at < 0 {
			t.Fatalf("no outbreak: %+v, %v", list, err)
		}
		return list[at]
	}
	held := func(step string, want map[string][]string) {
		t.Helper()
		for machine, list := range want {
			if have, err := s.HoldsFor(t.Context(), machine); err != nil || !slices.Equal(have, list) {
				t.Errorf("%s: %s has to hold %v, want %v: %v", step, machine, have, list, err)
			}
		}
	}
	if o := outbreak("dark-start", nil); o.Held != "" {
		t.Errorf("a failure of the start has %q held back", o.Held)
	}
	o := outbreak("bad-fender", map[string]string{"object": "skerrow-fender"})
	if o.Held != "skerrow-fender" || !o.ByRule || o.Suspect != "skerrow-fender" {
		t.Errorf("held back: %q, by rule: %t, it points to %q", o.Held, o.ByRule, o.Suspect)
	}
	held("as it was raised", map[string][]string{"quay-0": {"skerrow-fender"}, "far-0": {}, "nobody": {}})
	if _, err := s.Hold(t.Context(), o.ID, "skerrow-fender=5.1", "Joren"); err != nil {
		t.Fatal(err)
	}
	held("by a person", map[string][]string{"quay-0": {"skerrow-fender=5.1"}, "far-0": {"skerrow-fender=5.1"}})
	if _, err := s.Hold(t.Context(), o.ID, "", "Joren"); err != nil {
		t.Fatal(err)
	}
	held("lifted", map[string][]string{"quay-0": {}, "far-0": {}})
}

// An order is begun within its site's hours, and on so many machines at a time as the site allows; one that was begun
// is given again at any hour.
func windows(t *testing.T, s *records.Store) {
	for _, wrong := range []client.SiteRule{
		{Site: "Tarvoe", Opens: "20:00"}, {Site: "Tarvoe", Opens: "25:00", Closes: "05:00"},
		{Site: "Tarvoe", Opens: "05:00", Closes: "05:00"},
		{Site: "Tarvoe", Opens: "20:00", Closes: "05:00", Zone: "Skerrow/Sea"},
	} {
		if _, err := s.SetSiteRule(t.Context(), wrong, "Ragna"); !errors.Is(err, records.ErrWindow) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	var numbers []int64
	for i := range 4 {
		name := fmt.Sprintf("window-%d", i)
		var q queued
		if _, err := s.Accept(t.Context(), records.Bag{
			Digest: "d-site-" + name, Blob: "b-site-" + name, Machine: bag.Machine{Name: name, Site: "Tarvoe"},
		}, whole, q.put); err != nil {
			t.Fatal(err)
		}
		numbers = append(numbers, failed(t, s, name, "at-night", nil))
		enrolled(t, s, name)
	}
	proven(t, s, numbers[0])
	r, err := s.Offer(t.Context(), nil, client.RolloutWish{Cohort: cohortOf(t, s, numbers[0]).ID, Remedy: "mend"}, "Ragna")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	at := func(d time.Duration) string { return now.Add(d).Format("15:04") }
	set := func(rule client.SiteRule) {
		t.Helper()
		rule.Site = "Tarvoe"
		if _, err := s.SetSiteRule(t.Context(), rule, "Ragna"); err != nil {
			t.Fatal(err)
		}
	}
	given := func() map[string]int64 {
		t.Helper()
		m := map[string]int64{}
		for range 3 {
			if err := s.Conduct(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
		for i := range 4 {
			name := fmt.Sprintf("window-%d", i)
			o, begin, err := s.NextOrder(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			if begin {
				m[name] = o.ID
			}
		}
		return m
	}
	set(client.SiteRule{Opens: at(2 * time.Hour), Closes: at(3 * time.Hour)})
	if m := given(); len(m) != 0 {
		t.Errorf("orders were begun outside of the window: %v", m)
	}
	set(client.SiteRule{Opens: at(-time.Hour), Closes: at(time.Hour), AtOnce: 1})
	first := given()
	if len(first) != 1 {
		t.Fatalf("with one at a time %d were begun: %v", len(first), first)
	}
	set(client.SiteRule{Opens: at(2 * time.Hour), Closes: at(3 * time.Hour), AtOnce: 1})
	if again := given(); !maps.Equal(again, first) {
		t.Errorf("what was begun is given again as %v, it was %v", again, first)
	}
	for name, id := range first {
		if err := s.ReportOrder(t.Context(), name, id, client.OrderReport{State: client.OrderProven}); err != nil {
			t.Fatal(err)
		}
	}
	set(client.SiteRule{AtOnce: 2})
	if m := given(); len(m) != 2 {
		t.Errorf("of the second wave, with two at a time, %d were begun: %v", len(m), m)
	}
	if _, err := s.ChangeRollout(t.Context(), nil, r.ID, "stopped", "Ragna"); err != nil {
		t.Fatal(err)
	}
	rules, err := s.SiteRules(t.Context(), []string{"Lerrick"})
	if err != nil || len(rules) != 0 {
		t.Errorf("rules of another site: %v, %v", rules, err)
	}
}

// proven climbs the first rung of a case, and it helps.
func proven(t *testing.T, s *records.Store, number int64) {
	t.Helper()
	c, err := s.StartClimb(t.Context(), number, "Ragna", client.ClimbStart{Host: "here", Rung: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.ReportClimb(t.Context(), c.ID, "Ragna", client.ClimbReport{
		State: client.Ended, Run: &climb.Run{Rung: 1, Remedy: "mend", Outcome: climb.Proven, Began: time.Now()},
	}); err != nil {
		t.Fatal(err)
	}
}
