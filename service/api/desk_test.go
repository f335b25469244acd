package api

import (
	"fmt"
	"testing"
	"time"
)

// Agents wait at the desk until they are called, by name or all; more than may wait are told to come again, the later
// the more of them ask.
func TestTheDeskCallsAndSendsAway(t *testing.T) {
	d := newDesk(nil)
	rang := func(bell chan struct{}) bool {
		select {
		case <-bell:
			return true
		default:
			return false
		}
	}
	one, leave, again := d.sit("kiosk-1")
	other, _, _ := d.sit("kiosk-2")
	if again != 0 {
		t.Fatalf("the first is sent away for %s", again)
	}
	d.call("kiosk-1")
	d.call("kiosk-1")
	d.call("kiosk-3")
	if !rang(one) || rang(one) || rang(other) {
		t.Error("a call for one machine: want its bell once, and no other")
	}
	d.call("")
	if !rang(one) || !rang(other) {
		t.Error("a call for all was not heard by all")
	}
	for i := d.count; i < mostWaiting; i++ {
		if bell, _, _ := d.sit(fmt.Sprintf("desk-%d", i)); bell == nil {
			t.Fatalf("number %d has no place", i)
		}
	}
	if bell, _, again := d.sit("late"); bell != nil || again != soonest {
		t.Errorf("one too many: a place %v, again after %s", bell != nil, again)
	}
	leave()
	if bell, leave, _ := d.sit("late"); bell == nil {
		t.Error("there is a place again, and nobody gets it")
	} else {
		leave()
		d.call("late") // nobody hears it
	}
	// Five thousand that ask each half minute come at less than the rate; a hundred thousand are slowed down.
	for agents, want := range map[int]time.Duration{5_000: soonest, 100_000: 500 * time.Second, 1_000_000: latest} {
		d.again = soonest
		for range 30 {
			d.asked = int(float64(agents) / d.again.Seconds() * paceEvery.Seconds())
			d.paced = time.Now().Add(-paceEvery)
			d.sit("late")
			d.count = mostWaiting
		}
		if got := d.again; got < want*9/10 || got > want*11/10 {
			t.Errorf("%d agents are told to ask again after %s, want about %s", agents, got, want)
		}
	}
}
