package records_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"diorthos/client"
)

// Entries that come at once are one chain; one that cannot be kept does not take others along.
func TestManyNotesAtOnceAreOneChain(t *testing.T) {
	s := opened(t)
	before, err := s.CheckAudit(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	const n = 300
	var refused atomic.Int64
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			e := client.AuditEntry{Who: "Ragna", Action: "tests", Object: fmt.Sprint(i), Outcome: client.AuditDone}
			if i == 150 {
				e.Detail = "not \x00 text"
			}
			if err := s.Note(t.Context(), e); err != nil {
				refused.Add(1)
			}
		})
	}
	all.Wait()
	after, err := s.CheckAudit(t.Context())
	if err != nil || after.Problem != "" || after.Entries != before.Entries+n-1 || refused.Load() != 1 {
		t.Errorf(
			"the chain: %+v, %v; before it had %d entries, and %d were refused",
			after,
			err,
			before.Entries,
			refused.Load(),
		)
	}
}
