package records_test

import (
	"fmt"
	"testing"

	"diorthos/client"
	"diorthos/service/records"
)

// What outcomes taught counts at once, or only once somebody has looked at it; and it can be forgotten.
func learns(t *testing.T, s *records.Store) {
	shipped := func(remedy string) float64 {
		if remedy == "mend" {
			return 0.5
		}
		return 0
	}
	on := func(what string, l *client.Taught, err error, tried, waiting int) {
		t.Helper()
		if err != nil {
			t.Fatal(what, err)
		}
		got, wait := 0, 0
		for _, c := range l.Counts {
			got += c.Tried
		}
		for _, w := range l.Waiting {
			wait += w.Tried
		}
		if got != tried || wait != waiting {
			t.Errorf("%s: %d outcomes count and %d wait, want %d and %d: %+v", what, got, wait, tried, waiting, l)
		}
	}
	look := func(what string, tried, waiting int) {
		t.Helper()
		l, err := s.Learned(t.Context(), shipped)
		on(what, l, err, tried, waiting)
	}
	change := func(do client.LearnedWhat, tried, waiting int) {
		t.Helper()
		l, err := s.ChangeLearned(t.Context(), do, "Ragna", shipped)
		on(string(do), l, err, tried, waiting)
		if l.By != "Ragna" {
			t.Errorf("%s: by %q", do, l.By)
		}
	}
	change(client.ResetLearned, 0, 0)
	n := 0
	more := func() {
		n++
		proven(t, s, failed(t, s, fmt.Sprintf("learner-%d", n), "learnt", nil))
	}
	more()
	look("one", 1, 0)
	change(client.FreezeLearned, 1, 0)
	more()
	look("another while it is frozen", 1, 2)
	change(client.FreezeLearned, 2, 0)
	more()
	change(client.ThawLearned, 3, 0)
	change(client.ResetLearned, 0, 0)
	more()
	look("one after it was forgotten", 1, 0)
	change(client.FreezeLearned, 1, 0)
	change(client.ResetLearned, 0, 0)
	more()
	look("one after it was forgotten while frozen", 0, 1)
	change(client.ThawLearned, 1, 0)
}
