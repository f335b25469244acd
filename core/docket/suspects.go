package docket

import (
	"slices"
	"strings"
	"time"

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
	// Named says that the records of the failure name the object.
	Named bool `json:"named,omitempty"`
}

// Bounds of what is suspected: how long before the failure, and how many.
const (
	suspectFor  = 30 * 24 * time.Hour
	maxSuspects = 20
)

// suspects lists what earlier attempts changed before the latest failure:
// first what its records name, then the latest.
func suspects(t *reading.Timeline) []Suspect {
	list := []Suspect{}
	failed := t.Latest()
	if failed == nil || failed.Began.IsZero() {
		return list
	}
	var said strings.Builder
	for _, e := range failed.Chain {
		said.WriteString(e.Text)
		said.WriteByte('\n')
	}
	for _, a := range t.Attempts {
		if a == failed || a.Began.IsZero() || !a.Began.Before(failed.Began) || failed.Began.Sub(a.Began) > suspectFor {
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
