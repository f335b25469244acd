package service_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"diorthos/client"
)

// TestEvidenceJoinsTheCaseThatBeganWithWords begins a case by telephone, hands in evidence
// of the machine, and more of it afterwards.
func TestEvidenceJoinsTheCaseThatBeganWithWords(t *testing.T) {
	s := serve(t, false)
	words := client.NewCall{Machine: "tern-1", Site: "Lerrick", Words: "no space left on device", When: "attempt"}
	told, err := s.client().OpenCall(t.Context(), words)
	if err != nil {
		t.Fatal(err)
	}
	s.state(told.Number, 30*time.Second, client.Open)
	c, err := s.client().Case(t.Context(), told.Number)
	if err != nil {
		t.Fatal(err)
	}
	if c.Docket.Call == nil || len(c.Docket.Why) == 0 || len(c.Docket.ToDo) == 0 || len(c.Docket.Files) != 0 {
		t.Errorf("words alone gave %q with %d causes and %d rungs", c.Headline, len(c.Docket.Why), len(c.Docket.ToDo))
	}

	body := packed(t, "tern-1", map[string]string{"logs/apt/term.log": brokenUpdate}, nil)
	status, joined := s.handIn(body, false, 0)
	if status != 201 || joined.Number != told.Number || !joined.Joined {
		t.Fatalf("the evidence became case %d (%d, joined %t), want %d", joined.Number, status, joined.Joined, told.Number)
	}
	s.state(told.Number, 30*time.Second, client.Open)
	if c, err = s.client().Case(t.Context(), told.Number); err != nil {
		t.Fatal(err)
	}
	if c.Docket.Failure == nil || c.Docket.Call == nil || c.Docket.Call.Words != words.Words || c.Site != "Lerrick" {
		t.Errorf("the joined docket lost something: %q, call %+v, site %q", c.Headline, c.Docket.Call, c.Site)
	}
	files, err := os.ReadDir(s.bags)
	if err != nil || len(files) != 1 {
		t.Errorf("%d bags are kept, want the evidence alone (%v)", len(files), err)
	}

	if status, again := s.handIn(body, false, 0); status != 200 || again.Number != told.Number {
		t.Errorf("the same evidence became case %d (%d)", again.Number, status)
	}
	later := packed(
		t,
		"tern-1",
		map[string]string{"logs/apt/term.log": strings.ReplaceAll(brokenUpdate, "07:", "08:")},
		nil,
	)
	if _, further := s.handIn(later, false, 0); further.Number == told.Number || further.Joined {
		t.Errorf("evidence of another attempt joined the case that had its evidence")
	}

	for _, bad := range []string{
		`{"machine":"","words":"x"}`, `{"machine":"tern-1","words":""}`, `{"machine":"tern-1","words":"x","when":"noon"}`,
		`{"machine":"tern-1","words":"x","answers":{"no-such-check":1}}`,
	} {
		header := append(s.signedIn(), "Content-Type", "application/json")
		if status, text := s.call("POST", "/api/v1/calls", strings.NewReader(bad), header...); status != 422 {
			t.Errorf("%s gave %d: %.200s", bad, status, text)
		}
	}
}
