package layout

import (
	"errors"
	"fmt"
	"slices"
)

// A PartitionRequest is one partition of a wanted layout. Sizes are in bytes.
type PartitionRequest struct {
	Name string
	Type GUID
	Min  int64 // at least this much
	Max  int64 // at most this much; 0 for no bound
	// Share is the part of what is left over that it gets, in proportion to
	// the shares of the others; 0 takes no more than Min.
	Share float64
	// Keep is the number of a partition that is there and stays as it is.
	Keep int
}

// ErrPlan means that a wanted layout cannot be had.
var ErrPlan = errors.New("the wanted layout does not fit")

// Allocate fits the requests into the disk: partitions that are kept stay where
// they are, the others are laid into the gaps in their order, on whole MiB.
// What is there and not kept is given up; the caller says so first.
func (t *Table) Allocate(requests []PartitionRequest, newGUID func() GUID) ([]Entry, error) {
	ss := int64(t.SectorSize)
	room := (gptEntries*minEntrySize + uint64(ss) - 1) / uint64(ss)
	usable := Span{2 + room, t.Sectors() - room - 2}
	there := map[int]Partition{}
	for _, p := range t.Partitions() {
		there[p.Number] = p
	}
	var kept []Entry
	for _, w := range requests {
		if w.Keep == 0 {
			continue
		}
		p, ok := there[w.Keep]
		if !ok {
			return nil, fmt.Errorf("%w: there is no partition %d to keep", ErrPlan, w.Keep)
		}
		kept = append(kept, t.keptEntry(w, p))
	}
	free := gaps(spansOf(kept), usable)
	for i := range free {
		free[i].First = alignUp(free[i].First, t.SectorSize)
	}
	free = slices.DeleteFunc(free, func(s Span) bool { return s.First+(1<<20)/uint64(ss)-1 > s.Last })
	var fresh []PartitionRequest
	for _, w := range requests {
		if w.Keep == 0 {
			fresh = append(fresh, w)
		}
	}
	placed, err := place(fresh, free, t.SectorSize)
	if err != nil {
		return nil, err
	}
	entries := kept
	for i, w := range fresh {
		entries = append(entries, Entry{Type: w.Type, ID: newGUID(), Name: w.Name, Span: placed[i]})
	}
	slices.SortFunc(entries, func(a, b Entry) int { return int(int64(a.First) - int64(b.First)) })
	for i := range entries {
		entries[i].Index = i + 1
	}
	return entries, nil
}

func (t *Table) keptEntry(w PartitionRequest, p Partition) Entry {
	e := Entry{Type: w.Type, Name: w.Name, Span: p.Span}
	if c := t.Trusted(); c != nil {
		for _, old := range c.Entries {
			if old.Index == p.Number {
				e.ID, e.Attrs = old.ID, old.Attrs
				if e.Type.IsZero() {
					e.Type = old.Type
				}
				if e.Name == "" {
					e.Name = old.Name
				}
			}
		}
	}
	return e
}

// place lays the requests into the gaps, first fit by their least sizes, and
// then hands out what is left over in each gap by shares.
func place(requests []PartitionRequest, free []Span, sectorSize int) ([]Span, error) {
	step := uint64(1<<20) / uint64(sectorSize)
	type spot struct{ gap int }
	in := make([]spot, len(requests))
	size := make([]uint64, len(requests))
	left := make([]uint64, len(free))
	for i, s := range free {
		left[i] = s.Sectors() / step * step
	}
	for i, w := range requests {
		size[i] = max(alignUp(uint64((w.Min+int64(sectorSize)-1)/int64(sectorSize)), sectorSize), step)
		g := slices.IndexFunc(left, func(n uint64) bool { return n >= size[i] })
		if g < 0 {
			return nil, fmt.Errorf("%w: no gap has the %d MiB that %q needs at least", ErrPlan, size[i]/step, w.Name)
		}
		in[i].gap = g
		left[g] -= size[i]
	}
	for g := range free {
		shareOut(requests, size, left[g], func(i int) bool { return in[i].gap == g }, step, sectorSize)
	}
	spans := make([]Span, len(requests))
	at := make([]uint64, len(free))
	for g := range free {
		at[g] = free[g].First
	}
	for i := range requests {
		g := in[i].gap
		spans[i] = Span{at[g], at[g] + size[i] - 1}
		at[g] += size[i]
	}
	return spans, nil
}

// shareOut gives what is left to those with a share, until all have their most
// or nothing is left.
func shareOut(
	requests []PartitionRequest, size []uint64, left uint64, here func(int) bool, step uint64, sectorSize int,
) {
	for range len(requests) + 1 {
		total := 0.0
		most := func(i int) uint64 {
			if requests[i].Max == 0 {
				return 1 << 62
			}
			return uint64(requests[i].Max) / uint64(sectorSize) / step * step
		}
		for i, w := range requests {
			if here(i) && size[i] < most(i) {
				total += w.Share
			}
		}
		if total == 0 || left < step {
			return
		}
		given := uint64(0)
		for i, w := range requests {
			if !here(i) || w.Share == 0 || size[i] >= most(i) {
				continue
			}
			part := min(uint64(float64(left)*w.Share/total)/step*step, most(i)-size[i])
			size[i] += part
			given += part
		}
		if given == 0 { // less than a step for each: the first gets it
			for i, w := range requests {
				if here(i) && w.Share > 0 && size[i]+step <= most(i) {
					size[i] += left / step * step
					return
				}
			}
			return
		}
		left -= given
	}
}
