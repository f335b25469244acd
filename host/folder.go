package host

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/system"
)

// Names in a machine's folder: its disk, what stands for all that is not on a
// disk, and what was seen on its screen.
const (
	diskName   = "disk.img"
	plateName  = "nameplate.json"
	screenName = "screen.txt"
)

// A Place is where a machine's disk is, and the state of its firmware, if it is
// held in a file.
type Place struct{ Disk, Firmware string }

// Locate takes the path of a disk, or of a machine's folder.
func Locate(path string) Place {
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return Place{Disk: path}
	}
	at := Place{Disk: filepath.Join(path, diskName), Firmware: filepath.Join(path, plateName)}
	if _, err := os.Stat(at.Disk); err != nil {
		return Place{Disk: path} // some other folder: opening it says so
	}
	if _, err := os.Stat(at.Firmware); err != nil {
		at.Firmware = ""
	}
	return at
}

// HoldsSystem reports whether a path is a folder with the files of a system, and not a machine's folder.
func HoldsSystem(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir() && Locate(path).Disk == path
}

// firmware is the mode of the machine's firmware; empty when not known.
func (at Place) firmware(adapters []system.Adapter) firmware.Mode {
	if _, state := at.holder(adapters); state != nil {
		return state.Mode
	}
	return ""
}

// holder is the adapter that can read the state of the machine's firmware, with
// that state; nil when there is none.
func (at Place) holder(adapters []system.Adapter) (system.FirmwareHolder, *firmware.State) {
	if at.Firmware == "" {
		return nil, nil
	}
	dev, err := block.OpenImage(at.Firmware, 512, true)
	if err != nil {
		return nil, nil
	}
	defer func() { _ = dev.Close() }() // it was only read
	for _, a := range adapters {
		if h, ok := a.(system.FirmwareHolder); ok {
			if state, err := h.ReadFirmware(dev); err == nil {
				return h, state
			}
		}
	}
	return nil, nil
}

// Folder is where what belongs to the machine lies.
func (at Place) Folder() string { return filepath.Dir(at.Disk) }

// beside reads a file of the machine's folder; a link cannot lead out of it.
func (at Place) beside(name string) (raw []byte, err error) {
	f, err := os.OpenInRoot(at.Folder(), filepath.Base(name))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	return io.ReadAll(f)
}

// survey lets the adapter say how the parts of what was found stand.
func (at Place) survey(facts *bag.Facts, s system.Found) (err error) {
	if at.Firmware != "" {
		if s.Ground.Firmware, err = os.ReadFile(at.Firmware); err != nil {
			return fmt.Errorf("nameplate: %w", err)
		}
	}
	s.Ground.Beside = at.beside
	s.Adapter.Survey(s.Ground, facts)
	return nil
}
