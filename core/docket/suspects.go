package docket

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/reading"
)

// A Suspect is something that was changed on the machine before the failure.
type Suspect struct {
	When    time.Time `json:"when"`
	Command string    `json:"command,omitempty"`
	Action  string    `json:"action"` // install, upgrade, remove, …
	Object  string    `json:"object"`
	From    string    `json:"from,omitempty"`
	To      string    `json:"to,omitempty"`
	// Named says that the records of the failure name the object, or that it brought what asks of the machine
	// what it lacks.
	Named bool `json:"named,omitempty"`
}

// Bounds of what is suspected: how long before the failure, and how many.
const (
	suspectFor  = 30 * 24 * time.Hour
	maxSuspects = 20
)

// suspects lists what was changed before the latest failure, by earlier attempts or by
// the system's own history: first what its records name, then the latest. Of a machine that
// does not start and has no log of that, the failure is taken to be new when it was gathered.
func suspects(t *reading.Timeline, facts *bag.Facts) []Suspect {
	list := []Suspect{}
	failed := t.Latest()
	struck := facts.Gathered
	var said strings.Builder
	switch {
	case failed != nil && failed.Began.IsZero() && failed.Kind != reading.Start:
		return list
	case failed != nil && failed.Began.IsZero(): // what a screen shows has no time
		struck = facts.Gathered
	case failed != nil:
		struck = failed.Began
		for _, e := range failed.Chain {
			said.WriteString(e.Text)
			said.WriteByte('\n')
		}
	case facts.State == nil || facts.State.Chain.Broken() == nil:
		return list
	}
	before := func(at time.Time) bool {
		return !at.IsZero() && at.Before(struck) && struck.Sub(at) <= suspectFor
	}
	for _, a := range t.Attempts {
		if a == failed || !before(a.Began) {
			continue
		}
		for _, c := range a.Changes {
			list = append(list, Suspect{
				When:    a.Began,
				Command: a.Command,
				Action:  c.Action,
				Object:  c.Object,
				From:    c.From,
				To:      c.To,
				Named:   strings.Contains(said.String(), c.Object),
			})
		}
	}
	for _, h := range history(facts) {
		if before(h.When) && !slices.ContainsFunc(list, func(s Suspect) bool { return s.Object == h.ID }) {
			list = append(list, Suspect{
				When: h.When, Action: h.Kind, Object: h.ID, From: build(h.Was), To: build(h.Build),
				Named: strings.Contains(said.String(), h.ID) || len(h.Wants) > 0,
			})
		}
	}
	slices.SortStableFunc(list, func(a, b Suspect) int {
		if a.Named != b.Named {
			if a.Named {
				return -1
			}
			return 1
		}
		return b.When.Compare(a.When)
	})
	return list[:min(len(list), maxSuspects)]
}

// history is what the system itself notes of what was installed.
func history(facts *bag.Facts) []bag.HistoryEntry {
	if facts.State == nil {
		return nil
	}
	return facts.State.History
}

func build(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}
