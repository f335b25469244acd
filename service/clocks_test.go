package service_test

import (
	"crypto/ed25519"
	"fmt"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/climb"
)

// databaseClock makes the database's clock, as every statement of the service reads it, one that is off.
func databaseClock(off time.Duration) string {
	return fmt.Sprintf(`create or replace function public.now() returns timestamptz language sql stable as
		$f$ select pg_catalog.now() + interval '%d seconds' $f$;
		do $$ begin
			execute format('alter database %%I set search_path = public, pg_catalog', current_database());
		end $$`, int(off.Seconds()))
}

// The clocks of the service and of its database are hours apart, and the database's jumps while work goes on: what goes
// on is not taken for silent, what is silent is, nobody is shut out, and a bag is read once.
func TestClocksThatAreApart(t *testing.T) {
	for _, off := range []time.Duration{2 * time.Hour, -2 * time.Hour} {
		s := serveOn(t, false, databaseClock(off))
		c := s.client()
		number := s.mustSubmit("tern-1", "Lerrick")
		s.state(number, 20*time.Second, client.Open)
		started, err := c.StartClimb(t.Context(), number, client.ClimbStart{Host: "a", Rung: 1})
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(4 * time.Second) // whoever looks for silent climbs has looked
		going := client.ClimbReport{State: client.Running, Phase: "writing"}
		if _, err := c.ReportClimb(t.Context(), started.ID, going); err != nil {
			t.Errorf("%s: a climb that goes on: %v", off, err)
		}
		if got := s.state(number, 5*time.Second, client.Climbing).State; got != client.Climbing {
			t.Errorf("%s: its case is %s", off, got)
		}
		s.sql(s.dsn, databaseClock(off+time.Hour)) // it jumps: nothing of the climb was heard for an hour, as it seems
		s.state(number, 90*time.Second, client.Open)
		if _, err = c.ReportClimb(t.Context(), started.ID, going); status(err) != 409 {
			t.Errorf("%s: a climb that was given up is told of: %v", off, err)
		}
		again, err := c.StartClimb(t.Context(), number, client.ClimbStart{Host: "a", Rung: 1})
		if err != nil {
			t.Fatalf("%s: told anew: %v", off, err)
		}
		run := &climb.Run{
			Rung: 1, Remedy: "configure-pending", Outcome: climb.Proven, Took: time.Second, Began: time.Now(),
			Guard: []action.Check{}, Proof: []action.Check{}, Planned: []climb.Planned{},
		}
		if _, err := c.ReportClimb(t.Context(), again.ID, client.ClimbReport{State: client.Ended, Run: run}); err != nil {
			t.Errorf("%s: how it ended: %v", off, err)
		}
		s.letIn(off)
		// It is set back while a climb goes on that then falls silent: that is seen in time.
		silent, err := c.StartClimb(t.Context(), number, client.ClimbStart{Host: "b", Rung: 1})
		if err != nil {
			t.Fatal(err)
		}
		s.sql(s.dsn, databaseClock(off-time.Hour))
		time.Sleep(4 * time.Second)
		s.sql(s.dsn, databaseClock(off-time.Hour+31*time.Second)) // half a minute later
		s.state(number, 20*time.Second, client.Open)
		if _, err := c.ReportClimb(t.Context(), silent.ID, going); status(err) != 409 {
			t.Errorf("%s: a climb of before it was set back: %v", off, err)
		}
		if next := s.mustSubmit("tern-2", "Lerrick"); s.state(next, 20*time.Second, client.Open).Number != next {
			t.Errorf("%s: a bag behind the jump", off)
		}
	}
}

// letIn lets an agent in by a code, and a machine by the code on its screen.
func (s *served) letIn(off time.Duration) {
	s.t.Helper()
	code, err := s.client().MakeCode(s.t.Context(), client.CodeWish{Machine: "tern-1"})
	if err != nil {
		s.t.Fatal(err)
	}
	k := newKnocker(s.t)
	in, err := client.New(s.url, "").Enrol(s.t.Context(), client.Enrolment{Code: code.Code, Public: k.public})
	if err != nil {
		s.t.Errorf("%s: a code that was made just now: %v", off, err)
		return
	}
	now := time.Now()
	agent := client.New(s.url, "")
	if _, err := agent.SignOn(s.t.Context(), client.SignOn{
		Agent: in.Agent, Time: now, Signature: ed25519.Sign(k.private, client.SignOnText(in.Agent, now)),
	}); err != nil {
		s.t.Errorf("%s: an agent signs on: %v", off, err)
	} else if _, err := agent.NextTask(s.t.Context(), 0, nil); err != nil {
		s.t.Errorf("%s: and asks: %v", off, err)
	}
	stick := newKnocker(s.t)
	shown, err := client.New(s.url, "").Knock(s.t.Context(), client.Knock{Public: stick.public})
	if err != nil {
		s.t.Fatal(err)
	}
	wish := client.Admission{Code: shown.Code, Machine: "tern-1"}
	if _, err := s.client().Admit(s.t.Context(), wish); err != nil {
		s.t.Errorf("%s: a code on a screen: %v", off, err)
	}
	if list, err := s.client().Agents(s.t.Context()); err != nil || len(list) != 2 {
		s.t.Errorf("%s: the agents: %+v, %v", off, list, err)
	}
	if _, err := s.client().AddToken(s.t.Context(), "Ragna Holm", client.TokenWish{Name: "new", Days: 1}); err != nil {
		s.t.Errorf("%s: a token for a day: %v", off, err)
	}
}
