package host

import (
	"path/filepath"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/ladder"
	"diorthos/core/store"
	"diorthos/core/upkeep"
)

// A Mender is a platform whose systems can be changed.
type Mender interface {
	// OpenSystem opens the system on a disk. What can be done to it shows in
	// its methods.
	OpenSystem(dev block.Device, mode string, now time.Time) (any, error)
	Plate(block.Source) (*upkeep.Plate, error)
	PutPlate(block.Device, *upkeep.Plate) error
	LoaderPath(mode string) string
}

// Bench is what a ladder's actions need besides the disk: the system that lies
// on it, the nameplate, and sources for components.
func Bench(platforms []Platform, facts *bag.Facts, sources []store.Source, now func() time.Time) ladder.Bench {
	b := ladder.Bench{Facts: facts, Sources: sources}
	mode := ""
	if facts.Firmware != nil {
		mode = facts.Firmware.Mode
	}
	for _, p := range platforms {
		m, ok := p.(Mender)
		if !ok {
			continue
		}
		b.Open = func(dev block.Device) (any, error) { return m.OpenSystem(dev, mode, now()) }
		b.Plate, b.PutPlate, b.LoaderPath = m.Plate, m.PutPlate, m.LoaderPath
	}
	return b
}

// Device is the file that a rung's action works on: the disk, or the
// nameplate.
func (at Place) Device(action string) string {
	if ladder.OnPlate(action) && at.Plate != "" {
		return at.Plate
	}
	return at.Disk
}

// Folder is where what belongs to the machine lies.
func (at Place) Folder() string { return filepath.Dir(at.Disk) }
