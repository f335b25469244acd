package corbel

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"diorthos/platform/corbelfile"
)

// Hands is what a person can do to a machine, by what they are asked for.
var Hands = map[string]func(*Person) error{
	"restart-the-machine": func(p *Person) error {
		_, err := p.Machine.Start(p.Now)
		return err
	},
	"other-network": func(p *Person) error {
		p.Machine.Plate.Network = corbelfile.PlateNetwork{Up: true, TimeSync: true}
		return p.Machine.SavePlate()
	},
	"connect-the-network": func(p *Person) error {
		p.Machine.Plate.Network.Up = true
		return p.Machine.SavePlate()
	},
	"unplug-external-disks": func(p *Person) error {
		d := &p.Machine.Plate.Devices
		*d = slices.DeleteFunc(*d, func(x corbelfile.Device) bool { return x.Removable })
		return p.Machine.SavePlate()
	},
	"detach-the-second-disk": func(p *Person) error {
		d := p.Machine.Plate.Devices
		slices.SortStableFunc(d, func(a, b corbelfile.Device) int {
			return map[bool]int{true: -1}[a.Name == "disk0"] - map[bool]int{true: -1}[b.Name == "disk0"]
		})
		return p.Machine.SavePlate()
	},
	"write-the-medium-anew": (*Person).medium,
	"medium-for-this-firmware": func(p *Person) error {
		p.Machine.Plate.Medium.Modes = []string{p.Machine.Plate.Firmware.Mode}
		return p.Machine.SavePlate()
	},
	"firmware-mode-as-the-disk": func(p *Person) error {
		p.Machine.Plate.Firmware = corbelfile.Firmware{
			Mode:    "bios",
			Order:   []string{"disk0"},
			Entries: []corbelfile.StartEntry{{ID: "disk0", Title: "Internal disk"}},
		}
		return p.Machine.SavePlate()
	},
	"take-the-medium-out": func(p *Person) error {
		p.Machine.Plate.Medium = nil
		return p.Machine.SavePlate()
	},
}

// A Person stands before a machine.
type Person struct {
	Machine *Machine
	Vendor  *Vendor
	Now     time.Time
}

func (p *Person) medium() error {
	return os.WriteFile(filepath.Join(p.Machine.Folder, p.Machine.Plate.Medium.File), p.Vendor.raw[OfferMedium], 0o600)
}

// Do does what is asked for. done is false if nothing is to be done at the
// machine itself: a piece of advice.
func (p *Person) Do(_ context.Context, what string) (done bool, err error) {
	f, ok := Hands[what]
	if !ok {
		return false, nil
	}
	if err := f(p); err != nil {
		return false, fmt.Errorf("%s: %w", what, err)
	}
	return true, nil
}

// Medium is an install medium of the build that machines have.
func (v *Vendor) Medium() []byte { return v.raw[OfferMedium] }
