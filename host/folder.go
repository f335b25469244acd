package host

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/system"
)

// Names in a machine's folder: its disk, what stands for all that is not on a
// disk, and what was seen on its screen.
const (
	diskName   = "disk.img"
	plateName  = "nameplate.json"
	screenName = "screen.txt"
	// variablesEnd is how the name of a file ends that holds the UEFI variables of a virtual machine, beside its disk.
	variablesEnd = "_VARS.fd"
)

// A Place is where a machine's disk is, and the state of its firmware, if it is
// held in a file.
type Place struct{ Disk, Firmware string }

// Locate takes the path of a disk, or of a machine's folder.
func Locate(path string) Place {
	info, err := os.Stat(path)
	if err == nil && info.Mode()&os.ModeDevice != 0 { // a disk of this computer: its own variables, if it has any
		at := Place{Disk: path}
		if leadTo(variablesFolder, path) {
			at.Firmware = variablesFolder
		}
		return at
	}
	if err != nil || !info.IsDir() {
		return Place{Disk: path, Firmware: there(strings.TrimSuffix(path, filepath.Ext(path)) + variablesEnd)}
	}
	at := Place{Disk: filepath.Join(path, diskName)}
	if there(at.Disk) == "" {
		return Place{Disk: path} // some other folder: opening it says so
	}
	if at.Firmware = there(filepath.Join(path, plateName)); at.Firmware == "" {
		at.Firmware = there(strings.TrimSuffix(at.Disk, filepath.Ext(at.Disk)) + variablesEnd)
	}
	return at
}

// VariablesOf is the file with the UEFI variables of the machine whose disk or folder is named; empty where there is
// none.
func VariablesOf(path string) string {
	if at := Locate(path); strings.HasSuffix(at.Firmware, variablesEnd) {
		return at.Firmware
	}
	return ""
}

// there is the path of a regular file that is there; else empty.
func there(path string) string {
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	return path
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
	dev, err := openFirmware(at.Firmware, true)
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

// firmwareBytes is all that holds the state of the firmware.
func (at Place) firmwareBytes() (raw []byte, err error) {
	dev, err := openFirmware(at.Firmware, true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	raw = make([]byte, dev.Size())
	if _, err = dev.ReadAt(raw, 0); errors.Is(err, io.EOF) {
		err = nil
	}
	return raw, err
}

// survey lets the adapter say how the parts of what was found stand.
func (at Place) survey(facts *bag.Facts, s system.Found) (err error) {
	if at.Firmware != "" {
		if s.Ground.Firmware, err = at.firmwareBytes(); err != nil {
			return fmt.Errorf("state of the firmware: %w", err)
		}
	}
	s.Ground.Beside = at.beside
	s.Adapter.Survey(s.Ground, facts)
	if facts.State != nil && facts.State.Firmware != nil && facts.State.Firmware.Source == "" {
		facts.State.Firmware.Source = filepath.Base(at.Firmware)
	}
	return nil
}
