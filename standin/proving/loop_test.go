package proving_test

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"diorthos/standin/corbel"
	"diorthos/standin/proving"
)

// TestLoop closes the loop on one machine of every fault: its cause comes
// first, the same attempt succeeds afterwards (or, where no repair can help,
// nothing is changed), the users' files are the same, what was borrowed is
// given back, and every byte can be brought back.
func TestLoop(t *testing.T) {
	loop, err := proving.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	only := os.Getenv("FAULT")
	from, _ := strconv.Atoi(os.Getenv("SEED"))
	for i := range corbel.Faults {
		f := &corbel.Faults[i]
		if only != "" && !strings.HasPrefix(f.Name, only) {
			continue
		}
		t.Run(f.Name, func(t *testing.T) {
			r, err := loop.Run(t.Context(), t.TempDir(), uint64(i+from), f)
			if err != nil {
				t.Fatal(err)
			}
			if !r.First || !r.Intact || !r.Loans || !r.Undone || r.Repaired == f.Beyond {
				t.Errorf("first %v, repaired %v, intact %v, loans %v, undone %v\nfound %v\nrungs %v\n%s", r.First, r.Repaired, r.Intact, r.Loans, r.Undone, r.Found, r.Rungs, strings.Join(r.Notes, "\n"))
			}
		})
	}
	_ = fmt.Sprint()
}
