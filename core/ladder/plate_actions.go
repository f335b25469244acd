package ladder

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/upkeep"
)

// plateActions change firmware variables, clock and network.
var plateActions = map[string]action{
	"plate.set-clock": onPlate(func(_ *ground, p *upkeep.Plate) (effect, error) {
		if p.Clock == 0 {
			return effect{}, errNothing
		}
		e := effect{did: []string{fmt.Sprintf("clock set by %d seconds", -p.Clock)}}
		p.Clock = 0
		return e, nil
	}),
	"plate.lend-clock": onPlate(lendClock),
	"plate.give-back": onPlate(func(g *ground, p *upkeep.Plate) (effect, error) {
		offset, err := strconv.ParseInt(g.params["clock"], 10, 64)
		if err != nil {
			return effect{}, fmt.Errorf("loan: clock %q: %w", g.params["clock"], err)
		}
		p.Clock, p.NetworkUp = offset, g.params["network"] == "up"
		return effect{did: []string{"clock and network are as they were"}}, nil
	}),
	"plate.boot-order": onPlate(func(g *ground, p *upkeep.Plate) (effect, error) {
		own := func(id string) bool {
			i := slices.IndexFunc(p.Entries, func(e boot.Entry) bool { return e.ID == id })
			return i >= 0 && g.onDisk(p.Entries[i].Partition)
		}
		order := slices.Clone(p.Order)
		slices.SortStableFunc(order, func(a, b string) int {
			switch {
			case own(a) && !own(b):
				return -1
			case own(b) && !own(a):
				return 1
			}
			return 0
		})
		if slices.Equal(order, p.Order) {
			return effect{}, errNothing
		}
		e := effect{did: []string{fmt.Sprintf("boot order %s, was %s", strings.Join(order, " "), strings.Join(p.Order, " "))}}
		p.Order = order
		return e, nil
	}),
	"plate.boot-entry": onPlate(putEntry),
}

// onPlate makes an action that changes a nameplate, and proves that it says
// what was wanted.
func onPlate(change func(*ground, *upkeep.Plate) (effect, error)) action {
	return action{plate: true,
		fits: func(f *bag.Facts, _ bag.Disk) bool { return f.State != nil && f.State.Plate != nil },
		do: func(_ context.Context, g *ground) (effect, error) {
			if g.PutPlate == nil {
				return effect{}, errNoPlate
			}
			e, err := change(g, g.plate)
			if err != nil {
				return e, err
			}
			g.draft.For("nameplate: firmware variables, clock and network")
			return e, g.PutPlate(g.draft, g.plate)
		},
		prove: func(_ context.Context, before, after *ground) []Check {
			want, got := before.plate, after.plate
			same := got.Clock == want.Clock && got.NetworkUp == want.NetworkUp && slices.Equal(got.Order, want.Order) && len(got.Entries) == len(want.Entries)
			return []Check{{What: "firmware variables, clock and network are as wanted", OK: same, Saw: fmt.Sprintf("clock %+d s, network up: %v, boot order %s", got.Clock, got.NetworkUp, strings.Join(got.Order, " "))}}
		}}
}

// onDisk reports whether a partition's GUID is one of the machine's disk.
func (g *ground) onDisk(id string) bool {
	_, found := g.partition(func(p bag.Partition) bool { return id != "" && strings.EqualFold(p.ID, id) })
	return found
}

func (g *ground) partition(f func(bag.Partition) bool) (bag.Partition, bool) {
	if g.Facts == nil {
		return bag.Partition{}, false
	}
	for _, d := range g.Facts.Disks {
		if i := slices.IndexFunc(d.Partitions, f); i >= 0 {
			return d.Partitions[i], true
		}
	}
	return bag.Partition{}, false
}

// lendClock sets the clock into the time for which the offered packages'
// signatures are valid, with the network detached, so that nothing puts it
// right in the middle.
func lendClock(g *ground, p *upkeep.Plate) (effect, error) {
	if g.Facts == nil || g.Facts.State == nil || g.Facts.State.Update == nil {
		return effect{}, errors.New("the facts do not say for when the package is valid")
	}
	for _, o := range g.Facts.State.Update.Offers {
		if o.Until.IsZero() || !g.now.Before(o.From) && !g.now.After(o.Until) {
			continue
		}
		at := o.Until.Add(-24 * time.Hour)
		if g.now.Before(o.From) {
			at = o.From.Add(24 * time.Hour)
		}
		e := effect{did: []string{fmt.Sprintf("clock set to %s, network detached", at.Format(time.DateOnly))}}
		state := map[bool]string{true: "up", false: "down"}
		e.loans = []Loan{{What: fmt.Sprintf("the clock says %s, and the network is detached", at.Format(time.DateOnly)), Back: "Clock and network are put back as they were.",
			Action: "plate.give-back", Params: map[string]string{"clock": "0", "network": state[p.NetworkUp]}}}
		p.Clock, p.NetworkUp = int64(at.Sub(g.now)/time.Second), false
		return e, nil
	}
	return effect{}, errNothing
}

// putEntry makes the firmware's own entry lead to the loader on this disk: one
// that leads nowhere is changed, else one is added, and it comes first.
func putEntry(g *ground, p *upkeep.Plate) (effect, error) {
	volume, found := g.partition(func(q bag.Partition) bool { return q.Role == "boot" || q.Role == "esp" })
	if !found || volume.ID == "" || g.LoaderPath == nil {
		return effect{guard: []Check{{What: "the partition with the loader is known", Saw: "none with a GUID was found"}}}, nil
	}
	path := g.LoaderPath(p.Mode)
	i := slices.IndexFunc(p.Entries, func(e boot.Entry) bool { return e.Partition != "" && !g.onDisk(e.Partition) })
	if i < 0 {
		i = slices.IndexFunc(p.Entries, func(e boot.Entry) bool { return strings.EqualFold(e.Partition, volume.ID) })
	}
	if i < 0 {
		i = len(p.Entries)
		p.Entries = append(p.Entries, boot.Entry{ID: freeID(p), Title: "System"})
	}
	e := &p.Entries[i]
	if strings.EqualFold(e.Partition, volume.ID) && e.Path == path && len(p.Order) > 0 && p.Order[0] == e.ID {
		return effect{}, errNothing
	}
	e.Partition, e.Path = volume.ID, path
	p.Order = append([]string{e.ID}, slices.DeleteFunc(slices.Clone(p.Order), func(id string) bool { return id == e.ID })...)
	return effect{did: []string{fmt.Sprintf("boot entry %s leads to %s on partition %d, and comes first", e.ID, path, volume.Number)}}, nil
}

func freeID(p *upkeep.Plate) string {
	for n := 1; ; n++ {
		id := fmt.Sprintf("%04d", n)
		if !slices.ContainsFunc(p.Entries, func(e boot.Entry) bool { return e.ID == id }) {
			return id
		}
	}
}
