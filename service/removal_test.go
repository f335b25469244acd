package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/service"
	"diorthos/service/backup"
	"diorthos/service/bags"
)

// stored counts the files in which bags lie.
func (s *served) stored() int {
	s.t.Helper()
	list, err := os.ReadDir(s.bags)
	if err != nil {
		s.t.Fatal(err)
	}
	return len(list)
}

// Evidence goes when it has been kept for long enough, or somebody who may says so; never that of a case that is open.
// What remains says so wherever it is asked for, and the same bag handed in again is evidence again.
func TestEvidenceIsRemoved(t *testing.T) {
	s := serve(t, false)
	bag := packed(t, "tern-1", map[string]string{"logs/apt/term.log": brokenUpdate}, nil)
	if status, a := s.handIn(bag, false, 0); status != http.StatusCreated {
		t.Fatalf("%d, case %d", status, a.Number)
	}
	s.state(1, 30*time.Second, client.Open)
	for _, m := range []string{"tern-2", "gannet-3"} {
		s.state(s.mustSubmit(m, "Lerrick"), 30*time.Second, client.Open)
	}
	files := s.stored() / 3
	c := s.client()
	for _, number := range []int64{1, 2} {
		change := client.CaseChange{State: client.Closed, Note: "made room"}
		if _, err := c.ChangeCase(t.Context(), number, change); err != nil {
			t.Fatal(err)
		}
	}
	if given := new(bytes.Buffer); c.Bag(t.Context(), 1, given) != nil || !bytes.Equal(given.Bytes(), bag) {
		t.Errorf("%d bytes are given back, want the %d that were handed in", given.Len(), len(bag))
	}
	s.sql(s.dsn, "update cases set updated_at = now() - interval '11 days' where number in (1, 3)")
	other := *s // a second process, which keeps for ten days
	other.changes = []func(*service.Config){func(c *service.Config) { c.KeepBags = 10 * 24 * time.Hour }}
	other.run(true)
	for end := time.Now().Add(20 * time.Second); s.stored() > 2*files && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	for number, want := range map[int64]bool{1: true, 2: false, 3: false} {
		got, err := c.Case(t.Context(), number)
		if err != nil || (got.Removed != nil) != want || got.Docket == nil {
			t.Errorf("case %d, removed: %v, %v", number, got.Removed, err)
		}
	}
	if got := s.stored(); got != 2*files {
		t.Errorf("%d files, want %d", got, 2*files)
	}

	if _, err := c.RemoveEvidence(t.Context(), 3); err != nil {
		t.Fatal(err)
	}
	d, err := c.Case(t.Context(), 3)
	if err != nil {
		t.Fatal(err)
	}
	line := d.Docket.Failure.Decisive
	lines := fmt.Sprintf("lines?file=%s&around=%d", url.QueryEscape(line.File), line.Line)
	for _, request := range []string{
		"DELETE /api/v1/cases/3/bag", "GET /api/v1/cases/3/bag", "POST /api/v1/cases/3/read",
		"GET /api/v1/cases/3/" + lines,
	} {
		method, path, _ := strings.Cut(request, " ")
		if got := s.status(method, path, s.signedIn()...); got != http.StatusGone {
			t.Errorf("%s: %d, want 410", request, got)
		}
	}
	from, err := bags.Open(t.Context(), s.bags)
	if err != nil {
		t.Fatal(err)
	}
	if sum, err := backup.Write(t.Context(), s.dsn, from, &bytes.Buffer{}, nil); err != nil || sum.Bags != 1 {
		t.Errorf("a backup after it: %+v, %v", sum, err)
	}

	if status, again := s.handIn(bag, false, 0); status != http.StatusOK || again.Number != 1 {
		t.Errorf("the same bag: %d, case %d", status, again.Number)
	}
	if got, err := c.Case(t.Context(), 1); err != nil || got.Removed != nil || s.stored() != 2*files {
		t.Errorf("handed in again: %+v, %v, %d files", got, err, s.stored())
	}
	if got := s.status(http.MethodGet, "/api/v1/cases/1/"+lines, s.signedIn()...); got != http.StatusOK {
		t.Errorf("its lines: %d", got)
	}
	audit, err := c.Audit(t.Context(), 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, e := range audit.Entries {
		seen[e.Action+" "+e.Object]++
	}
	if seen["reconcile bag outlived"] != 1 || seen["get-bag case 1, tern-1"] != 1 ||
		seen["remove-evidence case 3, gannet-3"] != 1 {
		t.Errorf("the audit tells of %v", seen)
	}
}
