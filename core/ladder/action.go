package ladder

import (
	"context"
	"maps"
	"slices"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/store"
	"diorthos/core/upkeep"
)

// A Check is one thing that a guard or a proof looked at.
type Check struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Saw  string `json:"saw"`
}

// A Bench is how actions reach what a disk alone does not tell. What is nil is
// not at hand.
type Bench struct {
	// Open opens the system on a disk; which actions it serves, shows in the
	// methods that it has.
	Open func(block.Device) (any, error)
	// Plate reads the nameplate on a device, PutPlate writes it.
	Plate    func(block.Source) (*upkeep.Plate, error)
	PutPlate func(block.Device, *upkeep.Plate) error
	// LoaderPath is what a boot entry has to name, by firmware mode.
	LoaderPath func(mode string) string
	Sources    []store.Source // for components
	Facts      *bag.Facts     // as they were gathered
}

// A ground is what an action works on: a draft of the disk, or of the
// nameplate. Nothing reaches the device before the journal has noted it.
type ground struct {
	Bench
	draft  *block.Draft
	table  *layout.Table // nil on a nameplate
	plate  *upkeep.Plate // nil on a disk
	system any           // nil when no known system lies on the disk
	params map[string]string
	now    time.Time
}

// An effect is what an action has drafted.
type effect struct {
	guard []Check // one that is not OK keeps the rung from being taken
	did   []string
	loans []Loan
}

// An action is a typed change. do drafts it; prove holds what stands there
// afterwards against what stood there before.
type action struct {
	plate    bool // works on the nameplate, not on the disk
	destroys bool // data of users is lost
	fits     func(*bag.Facts, bag.Disk) bool
	do       func(context.Context, *ground) (effect, error)
	prove    func(ctx context.Context, before, after *ground) []Check
}

// actions are all that a remedy can name.
var actions = merge(tableActions, systemActions, settingsActions, plateActions)

func merge(lists ...map[string]action) map[string]action {
	all := map[string]action{}
	for _, l := range lists {
		maps.Copy(all, l)
	}
	return all
}

// Actions lists the names that a remedy may use.
func Actions() []string { return slices.Sorted(maps.Keys(actions)) }

// OnPlate reports whether an action works on the nameplate of a machine, and
// not on its disk.
func OnPlate(name string) bool { return actions[name].plate }

// Destroys reports whether data of users is lost by an action.
func Destroys(name string) bool { return actions[name].destroys }

// open makes the ground of an action over a draft of dev.
func (o *Options) open(dev block.Source, act action, params map[string]string) (*ground, error) {
	g := &ground{Bench: o.Bench, draft: block.NewDraft(dev), params: params, now: o.Now()}
	if act.plate {
		if g.Plate == nil {
			return nil, errNoPlate
		}
		var err error
		g.plate, err = g.Plate(g.draft)
		return g, err
	}
	var err error
	if g.table, err = layout.Read(g.draft); err != nil {
		return nil, err
	}
	if g.Open != nil {
		g.system, _ = g.Open(g.draft) // an action that needs it says that there is none
	}
	return g, nil
}

// target is what a device is known again by.
func (g *ground) target(path string) block.Target {
	if g.plate != nil {
		return block.Target{Path: path, Size: g.draft.Size(), SectorSize: g.draft.SectorSize(), Marks: []string{g.plate.Mark}}
	}
	return g.table.Target(path)
}
