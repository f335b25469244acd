package proving_test

import (
	"strings"
	"testing"

	"diorthos/standin/proving"
)

// TestLoop closes the loop on one machine of every fault, on pairs of faults
// of which one hides the other, and on a healthy machine: a cause comes first
// that is there; the same attempt succeeds afterwards or, where no repair can
// help, nothing is changed; the users' files are the same; what was borrowed
// is given back; and every byte can be brought back.
func TestLoop(t *testing.T) {
	loop, err := proving.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	totals, err := loop.Prove(t.Context(), proving.Plan{Seeds: 1, From: 31, Workers: proving.Workers(), Pairs: 4}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(totals.Lines) < 70 {
		t.Errorf("only %d kinds of machines", len(totals.Lines))
	}
	if len(totals.Failures) > 0 {
		t.Errorf("%d runs:\n%s", len(totals.Failures), strings.Join(totals.Failures, "\n"))
	}
}

// Machines that were changed at random can be read and judged, are never told that
// nothing is wrong while they fail, are repaired where a reinstall keeping files
// would repair them, and keep their users' files.
func TestMutations(t *testing.T) {
	loop, err := proving.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(loop.Close)
	m := loop.ProveMutations(t.Context(), 4100, 20, proving.Workers(), nil)
	if m.Fail < 10 || len(m.Failures) > 0 {
		t.Errorf("%d of %d fail by what was changed; wrong:\n%s", m.Fail, m.Runs, strings.Join(m.Failures, "\n"))
	}
}
