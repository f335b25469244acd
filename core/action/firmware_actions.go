package action

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/layout"
)

// firmwareActions change firmware variables, clock and network.
var firmwareActions = map[ID]Action{
	"firmware.set-clock":  onFirmware(setClock),
	"firmware.lend-clock": onFirmware(lendClock),
	"firmware.give-back": taking(onFirmware(giveBackClock),
		Parameter{Name: "clock", Required: true, Says: "how many seconds the clock was ahead, when it was lent"},
		Parameter{Name: "network", Required: true, Says: "up or down, as it was"}),
	"firmware.boot-order": onFirmware(ownEntriesFirst),
	"firmware.boot-entry": onFirmware(putEntry),
}

// onFirmware makes an action that changes the firmware's state, and proves that
// all of it is as wanted.
func onFirmware(change func(*Context, *firmware.State) (Effect, error)) Action {
	return Action{
		OnFirmware: true,
		do: func(_ context.Context, c *Context) (Effect, error) {
			want := *c.firmware
			want.Order, want.Entries = slices.Clone(want.Order), slices.Clone(want.Entries)
			e, err := change(c, &want)
			if err != nil || FirstFailed(e.Guard) != nil {
				return e, err
			}
			c.draft.For("firmware variables, clock and network")
			return e, c.Firmware.WriteFirmware(c.draft, &want)
		},
		prove: func(_ context.Context, p Proof) []Check {
			got := p.After.firmware
			different := got.Difference(p.Wanted.firmware)
			saw := fmt.Sprintf("clock %+d s, network up: %t, boot order %s, %d entries",
				got.Clock, got.NetworkUp, strings.Join(got.Order, " "), len(got.Entries))
			if different != "" {
				saw = different
			}
			return []Check{{
				What: "firmware variables, clock and network are as wanted, each of them", OK: different == "", Saw: saw,
			}}
		},
	}
}

func setClock(_ *Context, s *firmware.State) (Effect, error) {
	if s.Clock == 0 {
		return Effect{}, ErrNothing
	}
	e := Effect{Did: []string{fmt.Sprintf("clock set by %d seconds", -s.Clock)}}
	s.Clock = 0
	return e, nil
}

// onDisk reports whether a partition's GUID is one of the machine's disk.
func (c *Context) onDisk(id string) bool {
	_, found := c.partition(func(p bag.Partition) bool { return id != "" && strings.EqualFold(p.ID, id) })
	return found
}

// ownEntriesFirst puts the entries that lead to this machine's disk before all
// others.
func ownEntriesFirst(c *Context, s *firmware.State) (Effect, error) {
	own := func(id string) bool {
		i := slices.IndexFunc(s.Entries, func(e firmware.Entry) bool { return firmware.SameID(e.ID, id) })
		return i >= 0 && c.onDisk(s.Entries[i].Partition)
	}
	order := slices.Clone(s.Order)
	slices.SortStableFunc(order, func(a, b string) int {
		switch {
		case own(a) && !own(b):
			return -1
		case own(b) && !own(a):
			return 1
		}
		return 0
	})
	if slices.Equal(order, s.Order) {
		return Effect{}, ErrNothing
	}
	did := fmt.Sprintf("boot order %s, was %s", strings.Join(order, " "), strings.Join(s.Order, " "))
	s.Order = order
	return Effect{Did: []string{did}}, nil
}

// lendClock sets the clock into the time for which the offered packages'
// signatures are valid, with the network detached, so that nothing puts it
// right in the middle. What is given back is the clock and the network as they
// are now.
func lendClock(c *Context, s *firmware.State) (Effect, error) {
	if c.Facts == nil || c.Facts.State == nil || c.Facts.State.Update == nil {
		return Effect{}, errors.New("the facts do not say for when the package is valid")
	}
	for _, o := range c.Facts.State.Update.Offers {
		if o.Until.IsZero() || !c.now.Before(o.From) && !c.now.After(o.Until) {
			continue
		}
		at := o.Until.Add(-24 * time.Hour)
		if c.now.Before(o.From) {
			at = o.From.Add(24 * time.Hour)
		}
		day := at.Format(time.DateOnly)
		e := Effect{Did: []string{fmt.Sprintf("clock set to %s, network detached", day)}}
		e.Loans = []LoanTerms{{
			What: fmt.Sprintf("the clock says %s, and the network is detached", day),
			Back: "Clock and network are put back as they were.", Action: "firmware.give-back",
			Params: map[string]string{
				"clock":   strconv.FormatInt(s.Clock, 10),
				"network": map[bool]string{true: "up", false: "down"}[s.NetworkUp],
			},
		}}
		s.Clock, s.NetworkUp = int64(at.Sub(c.now)/time.Second), false
		return e, nil
	}
	return Effect{}, ErrNothing
}

// giveBackClock puts clock and network back to what they were when they were
// lent.
func giveBackClock(c *Context, s *firmware.State) (Effect, error) {
	offset, err := strconv.ParseInt(c.params["clock"], 10, 64)
	if err != nil {
		return Effect{}, fmt.Errorf("loan: clock %q: %w", c.params["clock"], err)
	}
	up := c.params["network"] == "up"
	if s.Clock == offset && s.NetworkUp == up {
		return Effect{}, ErrNothing
	}
	s.Clock, s.NetworkUp = offset, up
	return Effect{Did: []string{"clock and network are as they were"}}, nil
}

// putEntry makes the firmware's own entry lead to the loader on this disk: one
// that leads nowhere is changed, else one is added, and it comes first.
func putEntry(c *Context, s *firmware.State) (Effect, error) {
	volume, found := c.partition(func(q bag.Partition) bool {
		return q.Role == layout.RoleBoot || q.Role == layout.RoleESP
	})
	if !found || volume.ID == "" {
		return Effect{Guard: []Check{{
			What: "the partition with the loader is known",
			Saw:  "none with a GUID was found",
		}}}, nil
	}
	path := c.Firmware.LoaderPath(s.Mode)
	if c.Facts.State.Firmware.Loader != "" {
		path = c.Facts.State.Firmware.Loader
	}
	i := slices.IndexFunc(s.Entries, func(e firmware.Entry) bool {
		return e.Kind == "" && e.Partition != "" && !c.onDisk(e.Partition) // one of UEFI may lead to another disk
	})
	if i < 0 {
		i = slices.IndexFunc(s.Entries, func(e firmware.Entry) bool { return strings.EqualFold(e.Partition, volume.ID) })
	}
	if i < 0 {
		i = len(s.Entries)
		title := "System"
		if c.Facts.State.Firmware.Loader != "" && c.Facts.Family() != "" {
			title = c.Facts.Family() // as its own tools call it
		}
		s.Entries = append(s.Entries, firmware.Entry{ID: s.FreeID(), Title: title})
	}
	e := &s.Entries[i]
	first := len(s.Order) > 0 && firmware.SameID(s.Order[0], e.ID)
	if strings.EqualFold(e.Partition, volume.ID) && e.Path == path && first {
		return Effect{}, ErrNothing
	}
	e.Partition, e.Path, e.Number = volume.ID, path, volume.Number
	e.First, e.Sectors = uint64(volume.First), uint64(volume.Last-volume.First+1)
	rest := slices.DeleteFunc(slices.Clone(s.Order), func(id string) bool { return firmware.SameID(id, e.ID) })
	s.Order = append([]string{e.ID}, rest...)
	did := fmt.Sprintf("boot entry %s leads to %s on partition %d, and comes first", e.ID, path, volume.Number)
	return Effect{Did: []string{did}}, nil
}
