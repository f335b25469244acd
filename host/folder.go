package host

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/upkeep"
)

// Names in a machine's folder: its disk, what stands for all that is not on a
// disk, and what was seen on its screen.
const (
	diskName   = "disk.img"
	plateName  = "nameplate.json"
	screenName = "screen.txt"
)

// A Place is where a machine's disk is, and its nameplate, if it has one.
type Place struct{ Disk, Plate string }

// Locate takes the path of a disk, or of a machine's folder.
func Locate(path string) Place {
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return Place{Disk: path}
	}
	at := Place{Disk: filepath.Join(path, diskName), Plate: filepath.Join(path, plateName)}
	if _, err := os.Stat(at.Disk); err != nil {
		return Place{Disk: path} // some other folder: opening it says so
	}
	if _, err := os.Stat(at.Plate); err != nil {
		at.Plate = ""
	}
	return at
}

// A Plated is a platform that can read a nameplate.
type Plated interface {
	Plate(block.Source) (*upkeep.Plate, error)
}

// firmware is the mode of the machine's firmware; empty when not known.
func (at Place) firmware(platforms []Platform) string {
	if at.Plate == "" {
		return ""
	}
	dev, err := block.OpenImage(at.Plate, 512, true)
	if err != nil {
		return ""
	}
	defer func() { _ = dev.Close() }() // it was only read
	for _, p := range platforms {
		if reader, ok := p.(Plated); ok {
			if plate, err := reader.Plate(dev); err == nil {
				return plate.Mode
			}
		}
	}
	return ""
}

// beside reads a file of the machine's folder; a link cannot lead out of it.
func (at Place) beside(name string) (raw []byte, err error) {
	f, err := os.OpenInRoot(at.Folder(), filepath.Base(name))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	return io.ReadAll(f)
}

// survey lets the platforms say how the parts of what was found stand.
func (at Place) survey(facts *bag.Facts, systems []found) (err error) {
	var plate []byte
	if at.Plate != "" {
		if plate, err = os.ReadFile(at.Plate); err != nil {
			return fmt.Errorf("nameplate: %w", err)
		}
	}
	for _, s := range systems {
		if surveyor, ok := s.platform.(Surveyor); ok {
			s.ground.Plate = plate
			s.ground.Beside = at.beside
			surveyor.Survey(s.ground, facts)
		}
	}
	return nil
}
