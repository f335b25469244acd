package firmware

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"diorthos/core/block"
	"diorthos/core/efivar"
)

// A State is what can be changed of a machine beside its disks.
type State struct {
	Mark      string // by which the machine is known again
	Mode      Mode
	Order     []string // identifiers of the boot entries that are tried, the first first
	Entries   []Entry
	Clock     int64 // seconds that the clock is ahead of the true time
	NetworkUp bool
	TimeSync  bool // the network sets the clock
}

// An Entry is what the firmware can start. ID is four hexadecimal digits, as
// in the name of the variable Boot####.
type Entry struct {
	ID        string
	Title     string
	Partition string // GUID; empty for what is not a partition of this disk
	Path      string
	Absent    bool // what it leads to is not there, so that the firmware goes on

	// Of an entry that is a variable of UEFI: what it leads to, whether firmware starts it in its turn, and where its
	// partition lies, in sectors, which an entry that is to be written needs.
	Kind           efivar.Kind
	Active         bool
	Number         int
	First, Sectors uint64
}

// A Keeper reads and writes the state of one machine's firmware, which it holds
// on a device of its own: a file, or a view of the running machine's variables.
type Keeper interface {
	ReadFirmware(block.Source) (*State, error)
	WriteFirmware(block.Device, *State) error
}

// FreeID is the lowest identifier that no entry has.
func (s *State) FreeID() string {
	for n := 1; ; n++ {
		id := fmt.Sprintf("%04X", n)
		if !slices.ContainsFunc(s.Entries, func(e Entry) bool { return SameID(e.ID, id) }) {
			return id
		}
	}
}

// SameID reports whether two identifiers name one entry: they are hexadecimal
// numbers.
func SameID(a, b string) bool {
	m, errA := strconv.ParseUint(a, 16, 16)
	n, errB := strconv.ParseUint(b, 16, 16)
	if errA != nil || errB != nil {
		return strings.EqualFold(a, b)
	}
	return m == n
}

// byID is the entries by their numbers.
func byID(entries []Entry) []Entry {
	return slices.SortedStableFunc(slices.Values(entries), func(a, b Entry) int {
		return strings.Compare(strings.ToUpper(a.ID), strings.ToUpper(b.ID))
	})
}

// Difference says in words the first thing in which s is not as wanted; nothing
// when it is.
func (s *State) Difference(want *State) string {
	switch {
	case s.Clock != want.Clock:
		return fmt.Sprintf("the clock is %+d s off, wanted %+d s", s.Clock, want.Clock)
	case s.NetworkUp != want.NetworkUp:
		return fmt.Sprintf("network up: %t, wanted %t", s.NetworkUp, want.NetworkUp)
	case s.TimeSync != want.TimeSync:
		return fmt.Sprintf("the network sets the clock: %t, wanted %t", s.TimeSync, want.TimeSync)
	case !slices.Equal(s.Order, want.Order):
		return fmt.Sprintf("boot order %s, wanted %s", strings.Join(s.Order, " "), strings.Join(want.Order, " "))
	case len(s.Entries) != len(want.Entries):
		return fmt.Sprintf("%d boot entries, wanted %d", len(s.Entries), len(want.Entries))
	}
	have, wanted := byID(s.Entries), byID(want.Entries)
	for i, e := range have {
		w := wanted[i]
		if e.ID != w.ID || e.Title != w.Title || !strings.EqualFold(e.Partition, w.Partition) || e.Path != w.Path {
			return fmt.Sprintf("boot entry %s leads to %s on %s, wanted entry %s to %s on %s",
				e.ID, e.Path, e.Partition, w.ID, w.Path, w.Partition)
		}
	}
	return ""
}
