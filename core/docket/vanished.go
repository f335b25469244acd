package docket

import (
	"fmt"
	"sort"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/reading"
)

// withVanished adds to the facts the packages that the logs saw installed and
// never taken away again, and that the package database does not know any
// more. Only a database that was read itself can show that.
func withVanished(facts *bag.Facts, timeline *reading.Timeline) *bag.Facts {
	in := facts.Installed
	if in == nil || len(in.Packages) == 0 || in.Packages[0].From != "" {
		return facts
	}
	known := map[string]bool{}
	for _, p := range in.Packages {
		known[p.Name] = true
	}
	last := map[string]reading.Event{}
	note := func(list []reading.Event) {
		for _, e := range list {
			if e.Mark == reading.State {
				name, _, _ := strings.Cut(e.Object, ":")
				last[name] = e
			}
		}
	}
	for _, a := range timeline.Attempts {
		note(a.Events())
	}
	note(timeline.Unassigned)
	var gone []string
	for name, e := range last {
		if e.State == "installed" && !known[name] {
			gone = append(gone, fmt.Sprintf("%s %s, installed by %s line %d", name, e.To, e.File, e.Line))
		}
	}
	if len(gone) == 0 {
		return facts
	}
	sort.Strings(gone)
	more, installed := *facts, *in
	installed.Vanished = gone
	more.Installed = &installed
	return &more
}
