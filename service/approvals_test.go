package service_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"diorthos/client"
)

// What destroys is not begun before another person has agreed who may, and never by who takes it; what
// disrupts is for those who approve, or needs one of them. Every refusal is in the audit.
func TestWhatDestroysNeedsASecondPerson(t *testing.T) {
	s := serve(t, false)
	body := packed(t, "tern-7", map[string]string{"logs/apt/term.log": brokenUpdate}, nil)
	_, told := s.handIn(body, false, 0)
	s.state(told.Number, 30*time.Second, client.Open)
	rung := func(is string) {
		s.sql(s.dsn, fmt.Sprintf(
			"update cases set docket = jsonb_set(docket::jsonb, '{toDo,0,invasive}', '%q') where number = %d", is, told.Number))
	}
	as := map[string]*client.Client{"admin": s.client()}
	for name, role := range map[string]client.Role{"ines": client.Work, "olaf": client.Approve} {
		if _, err := s.client().SetPerson(t.Context(), name, client.PersonChange{Role: role}); err != nil {
			t.Fatal(err)
		}
		key, err := s.client().AddToken(t.Context(), name, client.TokenWish{Name: "desk"})
		if err != nil {
			t.Fatal(err)
		}
		as[name] = client.New(s.url, key.Secret)
	}
	begins := func(who string) (string, bool) {
		c, err := as[who].StartClimb(t.Context(), told.Number, client.ClimbStart{Host: who, Rung: 1})
		if err == nil {
			_, err = as[who].ReportClimb(t.Context(), c.ID, client.ClimbReport{State: client.Ended})
		}
		var p *client.Problem
		if errors.As(err, &p) {
			return p.Error(), false
		}
		if err != nil {
			t.Fatal(err)
		}
		return "", true
	}
	for i, step := range []struct {
		is, approver string // who agrees before
		climber      string
		begins       bool
	}{
		{"looks", "", "ines", true}, {"undoable", "", "ines", true},
		{"disrupts", "", "ines", false}, {"disrupts", "", "olaf", true},
		{"destroys", "", "olaf", false}, {"destroys", "olaf", "olaf", false}, // not by oneself
		{"disrupts", "", "ines", true},                                      // olaf has agreed meanwhile
		{"destroys", "", "ines", true}, {"destroys", "admin", "olaf", true}, // now another one has
	} {
		rung(step.is)
		if step.approver != "" {
			if _, err := as[step.approver].ApproveRung(t.Context(), told.Number, 1); err != nil {
				t.Fatal(err)
			}
		}
		said, ok := begins(step.climber)
		if ok != step.begins || !ok && !strings.Contains(said, "agree first") {
			t.Errorf("step %d, %+v: began %v: %s", i+1, step, ok, said)
		}
	}
	if _, err := as["ines"].ApproveRung(t.Context(), told.Number, 1); err == nil {
		t.Error("one who works has approved")
	}
	page, err := s.client().Audit(t.Context(), 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	refused := 0
	for _, e := range page.Entries {
		if e.Action == "start-climb" && e.Outcome == client.AuditRefused {
			refused++
		}
	}
	if refused != 3 {
		t.Errorf("%d refusals are in the audit, want 3", refused)
	}
}
