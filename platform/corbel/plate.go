package corbel

import (
	"errors"
	"io"
	"slices"

	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/platform/corbelfile"
)

// ReadFirmware reads the nameplate on a device that holds nothing else: there the
// firmware's state is held.
func (Adapter) ReadFirmware(dev block.Source) (*firmware.State, error) {
	raw := make([]byte, dev.Size())
	if _, err := dev.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	p, err := corbelfile.ReadPlate(raw)
	if err != nil {
		return nil, err
	}
	return firmwareOf(p), nil
}

func firmwareOf(p *corbelfile.Plate) *firmware.State {
	out := &firmware.State{
		Mark: "machine:" + p.Serial, Mode: firmware.Mode(p.Firmware.Mode), Order: slices.Clone(p.Firmware.Order),
		Clock: p.Clock.Offset, NetworkUp: p.Network.Up, TimeSync: p.Network.TimeSync,
	}
	for _, e := range p.Firmware.Entries {
		out.Entries = append(out.Entries, firmware.Entry{
			ID:        e.ID,
			Title:     e.Title,
			Partition: e.Partition,
			Path:      e.Path,
			Absent:    e.Partition == "" && isMedium(e) && p.Medium == nil,
		})
	}
	return out
}

// isMedium tells the entry of the drive from those of disks.
func isMedium(e corbelfile.StartEntry) bool { return e.ID == "0009" }

// WriteFirmware changes what can be changed of a nameplate.
func (Adapter) WriteFirmware(dev block.Device, want *firmware.State) error {
	raw := make([]byte, dev.Size())
	if _, err := dev.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	p, err := corbelfile.ReadPlate(raw)
	if err != nil {
		return err
	}
	p.Firmware.Order = want.Order
	p.Firmware.Entries = nil
	for _, e := range want.Entries {
		p.Firmware.Entries = append(p.Firmware.Entries, corbelfile.StartEntry{
			ID:        e.ID,
			Title:     e.Title,
			Partition: e.Partition,
			Path:      e.Path,
		})
	}
	p.Clock.Offset, p.Network.Up, p.Network.TimeSync = want.Clock, want.NetworkUp, want.TimeSync
	if raw, err = p.Bytes(); err != nil {
		return err
	}
	_, err = dev.WriteAt(raw, 0)
	return err
}

// LoaderPath is what a boot entry has to name.
func (Adapter) LoaderPath(mode firmware.Mode) string { return corbelfile.Loader(string(mode)) }
