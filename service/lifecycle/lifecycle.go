package lifecycle

import (
	"errors"
	"fmt"
	"slices"

	"diorthos/client"
)

// An Event is something that happens to a case.
type Event string

// The events.
const (
	Claimed     Event = "claimed"      // a worker begins to read it
	Released    Event = "released"     // the worker gives up for now, or fell silent
	ReadFailing Event = "read failing" // it was read, and something is wrong
	ReadHealthy Event = "read healthy" // it was read, and nothing failed
	Unreadable  Event = "unreadable"   // it cannot be read
	HandedIn    Event = "handed in"    // its bag came once more
	ReadAgain   Event = "read again"   // somebody asks for it, such as with newer knowledge
	Joined      Event = "joined"       // it began with words, and evidence came
	ClimbBegins Event = "climb begins"
	ClimbEnds   Event = "climb ends" // however it ends, also by falling silent
	Closed      Event = "closed"     // by a person, or since the machine is well again
	Reopened    Event = "reopened"   // by a person, or since it came back
)

// ErrNotNow means that an event cannot happen in a state.
var ErrNotNow = errors.New("not in this state")

// steps are the states that each event leads to, by the state that it finds. What
// is not listed cannot happen.
var steps = map[Event]map[client.CaseState]client.CaseState{
	// the second of a worker that fell silent
	Claimed:     {client.Received: client.Reading, client.Reading: client.Reading},
	Released:    {client.Reading: client.Received},
	ReadFailing: {client.Reading: client.Open},
	ReadHealthy: {client.Reading: client.Healthy},
	Unreadable:  {client.Reading: client.Unreadable},
	HandedIn: {
		client.Received: client.Received, client.Reading: client.Reading, client.Open: client.Open,
		client.Climbing: client.Climbing, client.Healthy: client.Healthy, client.Unreadable: client.Received,
		client.Closed: client.Closed,
	},
	ReadAgain: {
		client.Unreadable: client.Received, client.Open: client.Received, client.Healthy: client.Received,
	},
	Joined: {
		client.Received: client.Received, client.Open: client.Received, client.Healthy: client.Received,
		client.Unreadable: client.Received,
	},
	ClimbBegins: {
		client.Open: client.Climbing, client.Healthy: client.Climbing, client.Climbing: client.Climbing,
		client.Closed: client.Climbing,
	},
	Closed:    {client.Open: client.Closed, client.Healthy: client.Closed},
	Reopened:  {client.Closed: client.Open},
	ClimbEnds: {client.Climbing: client.Open, client.Open: client.Open},
}

// Events lists those that there are.
func Events() []Event {
	return []Event{
		Claimed, Released, ReadFailing, ReadHealthy, Unreadable, HandedIn, ReadAgain, Joined, ClimbBegins, ClimbEnds, Closed,
		Reopened,
	}
}

// Next is the state that an event leads to.
func Next(state client.CaseState, e Event) (client.CaseState, error) {
	next, ok := steps[e][state]
	if !ok {
		return state, fmt.Errorf("%w: %s, %s", ErrNotNow, state, e)
	}
	return next, nil
}

// From lists the states in which an event can happen.
func From(e Event) (list []client.CaseState) {
	for s := range steps[e] {
		list = append(list, s)
	}
	slices.Sort(list)
	return list
}
