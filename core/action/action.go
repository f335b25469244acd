package action

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/core/tree"
)

// An ID names an action, such as layout.mend-gpt.
type ID string

// A Check is one thing that a guard or a proof looked at.
type Check struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Saw  string `json:"saw"`
	// Screen is what a machine printed last that was started for the check.
	Screen []string `json:"screen,omitempty"`
}

// FirstFailed is the first check that is not OK, or nil.
func FirstFailed(checks []Check) *Check {
	for i := range checks {
		if !checks[i].OK {
			return &checks[i]
		}
	}
	return nil
}

// ErrNothing means that an action found nothing to change.
var ErrNothing = errors.New("nothing was found that this would change")

// An Effect is what an action has drafted.
type Effect struct {
	Guard []Check  // one that is not OK keeps the rung from being taken
	Did   []string // in a technician's words
	Notes []string // what else should be known of it
	Loans []LoanTerms
}

// LoanTerms are something that was changed for a while, with the action that
// gives it back.
type LoanTerms struct {
	What   string            `json:"what"`
	Back   string            `json:"back"`
	Action ID                `json:"action,omitempty"`
	Params map[string]string `json:"params,omitempty"`
}

// A Parameter is what an action has to be told.
type Parameter struct {
	Name     string
	Required bool
	Says     string // what it means
}

// An Action is a typed change.
type Action struct {
	ID         ID
	OnFirmware bool // works on the firmware's state, not on a disk
	OnFiles    bool // works on the files of a system in a folder as well
	Destroys   bool // data of users is lost
	TriesAgain bool // when it is proven, the attempt that failed is made again on a copy
	Parameters []Parameter

	// fits chooses the disk that the action is for.
	fits func(*bag.Facts, bag.Disk) bool
	// loses lists what will be lost, in words; nil where nothing is, or where
	// the roles of partitions tell.
	loses func(*Context) ([]string, error)
	// do drafts the change.
	do func(context.Context, *Context) (Effect, error)
	// stream makes a change too large for a draft; need is how much is kept of
	// what was there, in bytes.
	stream func(context.Context, *Context, block.Device) error
	need   func(*Context) (int64, error)
	prove  func(context.Context, Proof) []Check
}

// A Proof is what a proof looks at: the target as it was, as the journal wants
// it, and as it is.
type Proof struct{ Before, Wanted, After *Context }

// all are the actions by name.
var all = index(tableActions, diskActions, volumeActions, mediaActions, systemActions, settingsActions, firmwareActions,
	holdActions)

func index(lists ...map[ID]Action) map[ID]Action {
	m := map[ID]Action{}
	for _, l := range lists {
		for id, a := range l {
			a.ID = id
			m[id] = a
		}
	}
	return m
}

// earlier are names that actions had before, as journals and ledgers on machines
// may still have them.
var earlier = map[ID]ID{
	"plate.set-clock": "firmware.set-clock", "plate.lend-clock": "firmware.lend-clock",
	"plate.give-back": "firmware.give-back", "plate.boot-order": "firmware.boot-order",
	"plate.boot-entry": "firmware.boot-entry",
}

// Named finds an action.
func Named(id ID) (Action, bool) {
	if now, ok := earlier[id]; ok {
		id = now
	}
	a, ok := all[id]
	return a, ok
}

// IDs lists the names of all actions.
func IDs() []ID { return slices.Sorted(maps.Keys(all)) }

// CheckParams says what is wrong with parameters for an action: one that it does
// not take, or one that it cannot do without.
func (a Action) CheckParams(params map[string]string) error {
	for _, p := range a.Parameters {
		if _, ok := params[p.Name]; !ok && p.Required {
			return fmt.Errorf("%s needs the parameter %q: %s", a.ID, p.Name, p.Says)
		}
	}
	for name := range params {
		if !slices.ContainsFunc(a.Parameters, func(p Parameter) bool { return p.Name == name }) {
			var names []string
			for _, p := range a.Parameters {
				names = append(names, p.Name)
			}
			return fmt.Errorf("%s takes no parameter %q: it takes %s", a.ID, name, orNone(names))
		}
	}
	return nil
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// Streams reports whether the change is too large to be drafted: it can be taken
// back, and not be resumed.
func (a Action) Streams() bool { return a.stream != nil }

// Fits reports whether the action is for a disk with these facts.
func (a Action) Fits(facts *bag.Facts, d bag.Disk) bool { return a.fits != nil && a.fits(facts, d) }

// Losses lists in words what the action would destroy; nothing where the roles
// of partitions tell.
func (a Action) Losses(c *Context) ([]string, error) {
	if a.loses == nil {
		return nil, nil
	}
	return a.loses(c)
}

// SaysLosses reports whether the action itself knows what would be lost.
func (a Action) SaysLosses() bool { return a.loses != nil }

// Do drafts the change.
func (a Action) Do(ctx context.Context, c *Context) (Effect, error) { return a.do(ctx, c) }

// Stream makes the change of an action that streams, on a device that keeps what
// was there.
func (a Action) Stream(ctx context.Context, c *Context, dev block.Device) error {
	return a.stream(ctx, c, dev)
}

// Need is how much a journal of an action that streams has to keep at most, in
// bytes.
func (a Action) Need(c *Context) (int64, error) { return a.need(c) }

// Prove holds what stands there against what was wanted.
func (a Action) Prove(ctx context.Context, p Proof) []Check { return a.prove(ctx, p) }

// TryAgain makes the command of an attempt that failed again, on a draft of what stands there now. The draft is then as
// the machine would be, and has to be thrown away.
func TryAgain(ctx context.Context, after *Context, command string) system.Trial {
	sys, check := able[system.Foreseer](after)
	if !check.OK {
		return system.Trial{Command: command, Outcome: system.NotMade, Why: check.Saw}
	}
	t, err := sys.TryAgain(ctx, command, after.toolOptions())
	if err != nil {
		t = system.Trial{Command: command, Outcome: system.NotMade, Why: err.Error()}
	}
	return t
}

// filesTarget is the target of a change of the files of a system in a folder.
func filesTarget(path string, marks []string) *block.Target {
	return &block.Target{Path: path, Size: tree.Span, SectorSize: 512, Marks: marks}
}

// TargetOf is the folder, the disk or the firmware's state that an action is for: the one
// that its guard accepts; nil if there is none.
func TargetOf(id ID, facts *bag.Facts) *block.Target {
	a, ok := all[id]
	if !ok {
		return nil
	}
	if a.OnFirmware {
		if facts.State == nil || facts.State.Firmware == nil {
			return nil
		}
		f := facts.State.Firmware
		return &block.Target{Path: f.Source, Size: f.Size, SectorSize: 512, Marks: []string{f.Mark}}
	}
	if a.OnFiles && facts.Tree != nil {
		return filesTarget(facts.Tree.Source, facts.Tree.Marks)
	}
	for _, d := range facts.Disks {
		if a.Fits(facts, d) {
			return &block.Target{Path: d.Source, Size: d.Size, SectorSize: d.SectorSize, Marks: d.Marks}
		}
	}
	return nil
}
