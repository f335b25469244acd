package records_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/docket"
	"diorthos/service/records"
	"diorthos/standin/cluster"
)

// opened is a store on a database of its own.
func opened(t *testing.T) *records.Store {
	t.Helper()
	dir, err := os.MkdirTemp("", "diorthos-records-") // not below what the database's user cannot enter
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	c, err := cluster.Start(context.Background(), filepath.Join(dir, "database"), cluster.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Stop() })
	s, err := records.Open(t.Context(), c.DSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// The claims of three workers.
const (
	worker1 = "5ca1ab1e-0000-4000-8000-000000000001"
	worker2 = "5ca1ab1e-0000-4000-8000-000000000002"
	worker3 = "5ca1ab1e-0000-4000-8000-000000000003"
)

// queued stands for the queue: it only counts what was put into it.
type queued []int64

func (q *queued) put(_ pgx.Tx, number int64) error {
	*q = append(*q, number)
	return nil
}

// failing is a docket that says something is wrong.
func failing() *docket.Docket {
	return &docket.Docket{Why: []diagnosis.Finding{{
		Cause:       "primary-gpt-damaged",
		Title:       "The primary GPT is damaged",
		Probability: 0.9,
	}}}
}

func state(t *testing.T, s *records.Store, number int64) client.CaseState {
	t.Helper()
	c, err := s.Case(t.Context(), number)
	if err != nil {
		t.Fatal(err)
	}
	return c.State
}

func TestRecords(t *testing.T) {
	s := opened(t)
	t.Run("the database knows the states that there are", func(t *testing.T) { knowsTheStates(t, s) })
	t.Run("a bag is recorded once, or not at all", func(t *testing.T) { bagOnce(t, s) })
	t.Run("what is gone is taken in again", func(t *testing.T) { lostBlob(t, s) })
	t.Run("a stranded case is queued again", func(t *testing.T) { strandedCases(t, s) })
	t.Run("only who holds the claim settles", func(t *testing.T) { claims(t, s) })
	t.Run("a climb belongs to who began it", func(t *testing.T) { climbs(t, s) })
	t.Run("a site that is known is kept", func(t *testing.T) { siteIsKept(t, s) })
}

// knowsTheStates holds the checks of the database against the lists in Go.
func knowsTheStates(t *testing.T, s *records.Store) {
	for constraint, want := range map[string][]string{
		"cases_state_check": texts(client.CaseStates()), "climbs_state_check": texts(client.ClimbStates()),
	} {
		var text string
		const ask = "select pg_get_constraintdef(oid) from pg_constraint where conname = $1"
		if err := s.Pool.QueryRow(t.Context(), ask, constraint).Scan(&text); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, m := range regexp.MustCompile(`'([^']+)'::text`).FindAllStringSubmatch(text, -1) {
			got = append(got, m[1])
		}
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s: the database allows %q, Go knows %q", constraint, got, want)
		}
	}
}

func texts[T ~string](list []T) (out []string) {
	for _, w := range list {
		out = append(out, string(w))
	}
	slices.Sort(out)
	return out
}

// bagOnce: a queue that refuses leaves no case behind, and a digest that is known
// gives the case that is there.
func bagOnce(t *testing.T, s *records.Store) {
	b := records.Bag{Digest: "d-once", Blob: "blob-1", Size: 7, Machine: bag.Machine{Name: "once-1"}}
	refused := errors.New("the queue is full")
	if _, err := s.Accept(t.Context(), b, whole, func(pgx.Tx, int64) error { return refused }); !errors.Is(err, refused) {
		t.Fatalf("the queue refuses: %v", err)
	}
	page, err := s.Cases(t.Context(), nil, client.CaseQuery{Machine: "once-1", Limit: 10})
	if err != nil || len(page.Cases) != 0 {
		t.Fatalf("what was refused is there: %+v %v", page, err)
	}
	var q queued
	first, err := s.Accept(t.Context(), b, whole, q.put)
	if err != nil || first.Known || len(q) != 1 {
		t.Fatalf("%+v %v, queued %v", first, err, q)
	}
	b.Blob = "blob-2"
	again, err := s.Accept(t.Context(), b, whole, q.put)
	if err != nil || !again.Known || again.Number != first.Number || again.UnusedBlob != "blob-2" {
		t.Errorf("handed in twice: %+v %v", again, err)
	}
}

// whole says of every blob that it is still there.
func whole(string, int64) bool { return true }

// lostBlob: what was acknowledged and is gone from the disk is there again once
// the same bag comes; a commit whose answer was lost is not taken for a copy.
func lostBlob(t *testing.T, s *records.Store) {
	b := records.Bag{Digest: "d-lost", Blob: "lost-1", Size: 7, Machine: bag.Machine{Name: "lost-1"}}
	var q queued
	first, err := s.Accept(t.Context(), b, whole, q.put)
	if err != nil {
		t.Fatal(err)
	}
	if same, err := s.Accept(t.Context(), b, whole, q.put); err != nil || same.Known || same.UnusedBlob != "" {
		t.Errorf("recorded again by the same request: %+v %v: its blob would be dropped", same, err)
	}
	b.Blob = "lost-2"
	gone := func(blob string, size int64) bool { return blob != "lost-1" || size != 7 }
	again, err := s.Accept(t.Context(), b, gone, q.put)
	if err != nil || again.Number != first.Number || again.UnusedBlob != "lost-1" {
		t.Errorf("%+v %v", again, err)
	}
	if blob, err := s.BagOf(t.Context(), first.Number); err != nil || blob != "lost-2" {
		t.Errorf("the case reads %q: %v", blob, err)
	}
}

// strandedCases: a case that was received and that no job will come to goes into
// the queue again, once.
func strandedCases(t *testing.T, s *records.Store) {
	var q queued
	a, err := s.Accept(t.Context(), records.Bag{
		Digest:  "d-stranded",
		Blob:    "b-stranded",
		Machine: bag.Machine{Name: "stranded-1"},
	}, whole, q.put)
	if err != nil {
		t.Fatal(err)
	}
	requeued := func(awaited string) bool {
		t.Helper()
		numbers, err := s.Requeue(t.Context(), awaited, q.put)
		if err != nil {
			t.Fatal(err)
		}
		return slices.Contains(numbers, a.Number)
	}
	if requeued("false") {
		t.Error("a case that just came is taken for stranded")
	}
	if _, err := s.Pool.Exec(
		t.Context(), "update cases set updated_at = now() - interval '1 minute' where number = $1", a.Number,
	); err != nil {
		t.Fatal(err)
	}
	if requeued("true") {
		t.Error("a case that the queue will come to is queued twice")
	}
	if !requeued("false") {
		t.Error("a stranded case stays where it is")
	}
	if requeued("false") {
		t.Error("it is queued twice")
	}
}

// taken is the number of a new case, and the claim by which it is being read.
func taken(t *testing.T, s *records.Store, name string) int64 {
	t.Helper()
	return takenAs(t, s, name, name)
}

// takenAs does it for one of several bags of a machine.
func takenAs(t *testing.T, s *records.Store, name, digest string) int64 {
	t.Helper()
	var q queued
	a, err := s.Accept(t.Context(), records.Bag{
		Digest:  "d-" + digest,
		Blob:    "b-" + digest,
		Machine: bag.Machine{Name: name},
	}, whole, q.put)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok, err := s.Claim(t.Context(), a.Number, worker1); err != nil || !ok {
		t.Fatalf("claim: %v %v", ok, err)
	}
	return a.Number
}

func claims(t *testing.T, s *records.Store) {
	n := taken(t, s, "claims-1")
	if err := s.Settle(t.Context(), n, worker2, failing(), "", records.FleetNote{}); err != nil {
		t.Fatal(err)
	}
	if got := state(t, s, n); got != client.Reading {
		t.Errorf("settled by one without the claim: %s", got)
	}
	if err := s.Settle(t.Context(), n, worker1, failing(), "", records.FleetNote{}); err != nil {
		t.Fatal(err)
	}
	if got := state(t, s, n); got != client.Open {
		t.Errorf("settled: %s", got)
	}
	if _, ok, err := s.Claim(t.Context(), n, worker3); err != nil || ok {
		t.Errorf("a case that was read is claimed again: %v %v", ok, err)
	}
	silent := taken(t, s, "claims-2")
	if _, err := s.Pool.Exec(
		t.Context(), "update cases set heartbeat = now() - interval '1 hour' where number = $1", silent,
	); err != nil {
		t.Fatal(err)
	}
	var q queued
	back, err := s.Requeue(t.Context(), "true", q.put)
	if err != nil || !slices.Equal(back, []int64{silent}) || !slices.Equal(q, queued{silent}) ||
		state(t, s, silent) != client.Received {
		t.Errorf("of a worker that fell silent: %v, queued %v, %v", back, q, err)
	}
}

func climbs(t *testing.T, s *records.Store) {
	n := taken(t, s, "climbs-1")
	start := client.ClimbStart{Host: "desk-1", Rung: 1}
	if _, err := s.StartClimb(t.Context(), n, "ailsa", start); !errors.Is(err, records.ErrNotOpen) {
		t.Errorf("while it is read: %v", err)
	}
	if err := s.Settle(t.Context(), n, worker1, failing(), "", records.FleetNote{}); err != nil {
		t.Fatal(err)
	}
	first, err := s.StartClimb(t.Context(), n, "ailsa", start)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.StartClimb(t.Context(), n, "bram", start); !errors.Is(err, records.ErrBusy) {
		t.Errorf("another person's, at the same time: %v", err)
	}
	if _, err := s.ReportClimb(
		t.Context(), first.ID, "bram", client.ClimbReport{State: client.Ended},
	); !errors.Is(err, records.ErrNotYours) {
		t.Errorf("another person reports: %v", err)
	}
	second, err := s.StartClimb(t.Context(), n, "ailsa", start) // after a crash, from the same desk
	if err != nil {
		t.Fatalf("the same person goes on: %v", err)
	}
	if _, err := s.ReportClimb(
		t.Context(), first.ID, "ailsa", client.ClimbReport{State: client.Running},
	); !errors.Is(err, records.ErrEnded) {
		t.Errorf("the climb that was given up reports: %v", err)
	}
	if _, err := s.Pool.Exec(
		t.Context(), "update climbs set heartbeat = now() - interval '31 seconds' where id = $1", second.ID,
	); err != nil {
		t.Fatal(err)
	}
	silent, err := s.EndSilentClimbs(t.Context())
	if err != nil || !slices.Equal(silent, []int64{n}) || state(t, s, n) != client.Open {
		t.Errorf("fell silent: %v %v, the case is %s", silent, err, state(t, s, n))
	}
	if _, err := s.StartClimb(t.Context(), n, "bram", start); err != nil {
		t.Errorf("after it fell silent: %v", err)
	}
}

func siteIsKept(t *testing.T, s *records.Store) {
	var q queued
	for i, site := range []string{"MV Kestrel", ""} {
		b := records.Bag{
			Digest:  fmt.Sprint("d-site-", i),
			Blob:    fmt.Sprint("b-site-", i),
			Machine: bag.Machine{Name: "site-1", Site: site},
		}
		if _, err := s.Accept(t.Context(), b, whole, q.put); err != nil {
			t.Fatal(err)
		}
	}
	m, err := s.MachineDetail(t.Context(), "site-1")
	if err != nil || m.Site != "MV Kestrel" {
		t.Errorf("a bag without a site came later: %+v %v", m, err)
	}
}
