package docket

import (
	"fmt"
	"slices"
	"strconv"

	"diorthos/core/bag"
	"diorthos/core/reading"
)

// withState adds to the facts what files beside the logs tell of the machine's
// state. What was measured counts for more.
func withState(facts *bag.Facts, state []reading.StateRecord) *bag.Facts {
	if len(state) == 0 {
		return facts
	}
	more := *facts
	more.Volumes = slices.Clone(facts.Volumes)
	var packages []bag.Package
	for _, r := range state {
		from := fmt.Sprintf("%s line %d", r.Place.File, r.Place.Line)
		switch r.Of {
		case "volumes":
			more.Volumes = addVolume(more.Volumes, r.Fields, from)
		case "packages":
			packages = append(packages, bag.Package{
				Name:         r.Fields["name"],
				Version:      r.Fields["version"],
				Architecture: r.Fields["architecture"],
				State:        r.Fields["state"],
				Held:         r.Fields["held"] != "",
				From:         from,
			})
		}
	}
	if len(packages) > 0 && facts.Installed == nil {
		more.Installed = &bag.Installed{Packages: packages, Sources: []bag.Source{}}
	}
	return &more
}

func addVolume(list []bag.Volume, fields map[string]string, from string) []bag.Volume {
	i := slices.IndexFunc(list, func(v bag.Volume) bool { return v.Mount == fields["mount"] })
	if i < 0 {
		i = len(list)
		list = append(list, bag.Volume{Mount: fields["mount"], Device: fields["device"], From: from, Free: -1})
	}
	v := &list[i]
	if v.From == "" {
		return list
	}
	if _, ok := fields["size"]; ok {
		v.Size, v.Free = number(fields["size"]), number(fields["free"])
	}
	// A file system that makes inodes as it needs them, or has none, shows 0 of 0.
	if n, ok := fields["inodes"]; ok && number(n) > 0 {
		v.Inodes, v.InodesFree, v.InodesKnown = number(fields["inodes"]), number(fields["inodesFree"]), true
	}
	return list
}

func number(s string) int64 {
	n, _ := strconv.ParseInt(s, 10, 64) // digits, by the pattern
	return n
}
