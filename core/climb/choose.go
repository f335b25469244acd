package climb

import (
	"errors"
	"fmt"
	"slices"

	"diorthos/core/ladder"
)

// A Choice says which rungs of a ladder are to be taken.
type Choice struct {
	Only   []int // these alone; empty for any
	Skip   []int
	To     int  // up to this one; 0 for the first that changes something
	Hands  bool // those for a person as well, one after the other
	Resume bool // complete one that was cut off
}

// ErrNothingLeft means that no rung is left that was not tried.
var ErrNothingLeft = errors.New("no rung is left")

// Chosen are the rungs to take, in order.
type Chosen struct {
	Rungs []ladder.Rung
	// First says that the climb ends with the first rung that changes something.
	First bool
	// Passed are rungs that are passed over, since taking them came to nothing
	// before, with how they stand.
	Passed map[int]Outcome
}

// Choose picks the rungs to take. Those that were tried before are passed over,
// unless they are named.
func Choose(all []ladder.Rung, stands map[int]Outcome, c Choice) (Chosen, error) {
	out := Chosen{First: c.To == 0 && len(c.Only) == 0 && !c.Hands, Passed: map[int]Outcome{}}
	if len(all) == 0 {
		return out, fmt.Errorf("%w: the case has no ladder", ErrNothingLeft)
	}
	for _, n := range slices.Concat(c.Only, c.Skip, []int{c.To}) {
		if n < 0 || n > len(all) {
			return out, fmt.Errorf("the case has rungs 1 to %d, no rung %d", len(all), n)
		}
	}
	for _, r := range all {
		named := slices.Contains(c.Only, r.Number)
		switch {
		case len(c.Only) > 0 && !named, slices.Contains(c.Skip, r.Number), c.To > 0 && r.Number > c.To:
			continue
		case !named && !c.Resume && stands[r.Number].Tried():
			out.Passed[r.Number] = stands[r.Number]
			continue
		}
		out.Rungs = append(out.Rungs, r)
	}
	if len(out.Rungs) == 0 {
		return out, fmt.Errorf("%w to take: %s", ErrNothingLeft, out.words())
	}
	return out, nil
}

// words says why rungs are passed over, and how to take them all the same.
func (c Chosen) words() string {
	text := ""
	for n := 1; len(c.Passed) > 0 && n <= slices.Max(keys(c.Passed)); n++ {
		if o, ok := c.Passed[n]; ok {
			text += fmt.Sprintf("rung %d is %s, ", n, o)
		}
	}
	if text == "" {
		return "all are left out"
	}
	return text + "take one again with --only N"
}

func keys(m map[int]Outcome) (list []int) {
	for k := range m {
		list = append(list, k)
	}
	return list
}
