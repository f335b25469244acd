package climb_test

import (
	"testing"

	"diorthos/core/climb"
)

func TestStandingIsByTheLastRunThatChangedAnything(t *testing.T) {
	runs := []climb.Run{
		{Rung: 1, Outcome: climb.Refused},
		{Rung: 1, Outcome: climb.Proven},
		{Rung: 1, Outcome: climb.Refused},
		{Rung: 2, Outcome: climb.Proven},
		{Rung: 2, Outcome: climb.TakenBack},
		{Rung: 3, Outcome: climb.Refused},
	}
	got := climb.Standing(runs)
	want := map[int]climb.Outcome{1: climb.Proven, 2: climb.TakenBack, 3: climb.Refused}
	for rung, outcome := range want {
		if got[rung] != outcome {
			t.Errorf("rung %d stands %q, want %q", rung, got[rung], outcome)
		}
	}
}
