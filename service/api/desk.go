package api

import (
	"context"
	"math"
	"slices"
	"sync"
	"time"

	"diorthos/client"
	"diorthos/service/records"
)

const (
	// mostWaiting is how many agents may wait at once: each costs a connection and some 90 KiB. Those beyond are
	// told when to ask again.
	mostWaiting = 2000
	// askedRate is how many agents a second may ask when more than those that may wait do.
	askedRate = 200
	// soonest and latest bound when an agent is told to ask again.
	soonest = 30 * time.Second
	latest  = 10 * time.Minute
	// paceEvery is how often the pace is set anew.
	paceEvery = 10 * time.Second
	// windowEvery is how often it is looked whether an order may be begun by now that has to wait for its site.
	windowEvery = time.Second
	// heldFor is how long it is believed that nothing is held back, should a call have been missed.
	heldFor = 10 * time.Second
)

// A desk is where agents wait. They are called when there is something for them, and ask nothing meanwhile.
type desk struct {
	store *records.Store

	mu      sync.Mutex
	waiting map[string]map[chan struct{}]bool // by machine
	count   int
	asked   int           // since the pace was set
	paced   time.Time     // when it was
	again   time.Duration // after which those who may not wait ask again
	none    time.Time     // until when it is known that nothing is held back anywhere
	called  int           // how often all were called
}

func newDesk(store *records.Store) *desk {
	return &desk{store: store, waiting: map[string]map[chan struct{}]bool{}, paced: time.Now(), again: soonest}
}

// call calls the agents of a machine; of all, where none is named.
func (d *desk) call(machine string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	ring := func(all map[chan struct{}]bool) {
		for bell := range all {
			select {
			case bell <- struct{}{}:
			default: // it was called already
			}
		}
	}
	if machine != "" {
		ring(d.waiting[machine])
		return
	}
	d.none, d.called = time.Time{}, d.called+1
	for _, all := range d.waiting {
		ring(all)
	}
}

// sit gives an agent a place to wait; where there is none, it says after how long to ask again.
func (d *desk) sit(machine string) (bell chan struct{}, leave func(), again time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked++
	if since := time.Since(d.paced); since >= paceEvery {
		rate := float64(d.asked) / since.Seconds()
		// The root keeps it from swinging: agents hear of a new pace only when they ask.
		d.again = time.Duration(float64(d.again) * math.Sqrt(rate/askedRate))
		d.again, d.asked, d.paced = min(max(d.again, soonest), latest), 0, time.Now()
	}
	if d.count >= mostWaiting {
		return nil, nil, d.again
	}
	bell = make(chan struct{}, 1)
	if d.waiting[machine] == nil {
		d.waiting[machine] = map[chan struct{}]bool{}
	}
	d.waiting[machine][bell] = true
	d.count++
	return bell, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.count--
		if delete(d.waiting[machine], bell); len(d.waiting[machine]) == 0 {
			delete(d.waiting, machine)
		}
	}, 0
}

// held is what a machine has to hold back.
func (d *desk) held(ctx context.Context, machine string) ([]string, error) {
	d.mu.Lock()
	none, called, asked := time.Now().Before(d.none), d.called, time.Now()
	d.mu.Unlock()
	if none {
		return []string{}, nil
	}
	something, err := d.store.AnyHeld(ctx)
	if err != nil || something {
		if err != nil {
			return nil, err
		}
		return d.store.HoldsFor(ctx, machine)
	}
	d.mu.Lock()
	if called == d.called { // nothing was changed meanwhile
		d.none = asked.Add(heldFor)
	}
	d.mu.Unlock()
	return []string{}, nil
}

// task waits for what an agent is to do: an order, or that something else is to be held back than what it says that
// it holds back.
func (d *desk) task(ctx context.Context, machine string, holding []string, wait time.Duration) (*client.Task, error) {
	bell, leave, again := d.sit(machine)
	if leave != nil {
		defer leave()
	}
	end := time.NewTimer(wait)
	defer end.Stop()
	for {
		o, begin, err := d.store.NextOrder(ctx, machine)
		if err != nil {
			return nil, err
		}
		held, err := d.held(ctx, machine)
		if err != nil {
			return nil, err
		}
		if o != nil && begin {
			return &client.Task{Order: o, Held: held}, nil
		}
		if bell == nil || wait == 0 || !slices.Equal(holding, held) {
			return &client.Task{Held: held, Again: int(again.Seconds())}, nil
		}
		var opens <-chan time.Time
		if o != nil {
			opens = time.After(windowEvery)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-end.C:
			return &client.Task{Held: held}, nil
		case <-opens:
		case <-bell:
		}
	}
}
