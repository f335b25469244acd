package corbel

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"
)

// What is tried on a broken machine.
const (
	TryStart   = "start"
	TryUpdate  = "update"
	TryUpgrade = "upgrade"
	TryDriver  = "driver"
	TryFeature = "feature"
	TryInstall = "install"
)

// A Fault is one way in which a machine can be broken: a change of its state,
// and no more.
type Fault struct {
	Name  string
	Group string
	Modes []string // firmware modes in which it can be; empty for both
	Try   string   // what fails because of it
	// Beyond says that no repair of this machine can make the attempt succeed:
	// what is wanted is the right advice.
	Beyond bool

	harm func(*damage) error
}

// damage is what a fault works with.
type damage struct {
	ctx context.Context //nolint:containedctx // lives as long as one call
	m   *Machine
	v   *volumes
	r   *rand.Rand
	o   Options
}

// FaultNamed finds a fault; nil if there is none of that name.
func FaultNamed(name string) *Fault {
	i := slices.IndexFunc(Faults, func(f Fault) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	return &Faults[i]
}

// Mode is the firmware mode of a machine that is to have the fault.
func (f *Fault) Mode(seed uint64) string {
	modes := f.Modes
	if len(modes) == 0 {
		modes = []string{"uefi", "bios"}
	}
	return modes[seed%uint64(len(modes))]
}

// Break changes the machine.
func (f *Fault) Break(ctx context.Context, m *Machine, o Options) error {
	d := &damage{ctx: ctx, m: m, r: rand.New(rand.NewPCG(o.Seed, 0xfa)), o: o}
	err := m.change(o.Now.Add(-time.Hour), func(v *volumes) error {
		d.v = v
		if err := d.offered(f.Try); err != nil {
			return err
		}
		return f.harm(d)
	})
	if err != nil {
		return fmt.Errorf("break %s by %s: %w", m.Plate.Name, f.Name, err)
	}
	return m.SavePlate()
}

// TryOn tries on the machine what its fault lets fail.
func (f *Fault) TryOn(ctx context.Context, m *Machine, at time.Time, link Link) (*Outcome, error) {
	return TryOn(ctx, m, f.Try, at, link)
}

// TryOn tries one of the things that can be tried.
func TryOn(ctx context.Context, m *Machine, try string, at time.Time, link Link) (*Outcome, error) {
	if try == TryStart {
		return m.Start(at)
	}
	offer, known := offerOf[try]
	if !known {
		return nil, fmt.Errorf("%q: want one of start, update, upgrade, driver, feature, install", try)
	}
	return m.Attempt(ctx, Request{Offer: offer, At: at, Link: link})
}

var offerOf = map[string]string{
	TryUpdate:  OfferUpdate,
	TryUpgrade: OfferRelease,
	TryDriver:  OfferDriver,
	TryFeature: OfferFeature,
	TryInstall: "",
}
