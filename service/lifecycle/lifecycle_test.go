package lifecycle_test

import (
	"errors"
	"slices"
	"testing"

	"diorthos/client"
	"diorthos/service/lifecycle"
)

// TestEveryStateIsReachedAndHasAWayOn: from the moment a case is taken in, every
// state can come about, and none is a dead end.
func TestEveryStateIsReachedAndHasAWayOn(t *testing.T) {
	reached := map[client.CaseState]bool{client.Received: true}
	for range client.CaseStates() {
		for s := range reached {
			for _, e := range lifecycle.Events() {
				if next, err := lifecycle.Next(s, e); err == nil {
					reached[next] = true
				}
			}
		}
	}
	for _, s := range client.CaseStates() {
		if !reached[s] {
			t.Errorf("%s is never reached", s)
		}
		moves := slices.ContainsFunc(lifecycle.Events(), func(e lifecycle.Event) bool {
			next, err := lifecycle.Next(s, e)
			return err == nil && next != s
		})
		if !moves {
			t.Errorf("nothing leads out of %s", s)
		}
	}
}

func TestWhatCannotHappenIsRefused(t *testing.T) {
	for _, c := range []struct {
		state client.CaseState
		event lifecycle.Event
		next  client.CaseState
		ok    bool
	}{
		{client.Received, lifecycle.Claimed, client.Reading, true},
		{client.Open, lifecycle.Claimed, client.Open, false},             // read once, it is not read again
		{client.Received, lifecycle.ReadFailing, client.Received, false}, // a worker that lost its claim
		{client.Received, lifecycle.ClimbBegins, client.Received, false}, // there is no ladder yet
		{client.Unreadable, lifecycle.ClimbBegins, client.Unreadable, false},
		{client.Unreadable, lifecycle.HandedIn, client.Received, true},
		{client.Climbing, lifecycle.HandedIn, client.Climbing, true}, // the climb is not disturbed
		{client.Climbing, lifecycle.ClimbEnds, client.Open, true},
		{client.Healthy, lifecycle.ClimbEnds, client.Healthy, false},
	} {
		next, err := lifecycle.Next(c.state, c.event)
		if next != c.next || (err == nil) != c.ok || err != nil && !errors.Is(err, lifecycle.ErrNotNow) {
			t.Errorf("%s, %s: %s %v", c.state, c.event, next, err)
		}
		if slices.Contains(lifecycle.From(c.event), c.state) != c.ok {
			t.Errorf("%s can happen in %v", c.event, lifecycle.From(c.event))
		}
	}
}
