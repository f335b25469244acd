package corbel

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// ScreenName is the picture of the screen that a start left, in words.
const ScreenName = "screen.txt"

// Start starts the machine. What it does at a start, such as pending work, is
// kept if it starts; what a person would see is written beside the disk.
func (m *Machine) Start(at time.Time) (out *Outcome, err error) {
	dev, err := block.OpenImage(m.Disk(), 512, false)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	v, err := m.mount(dev, at)
	if err != nil {
		return nil, err
	}
	failed := m.start(v)
	out = &Outcome{
		OK:     failed == nil,
		Screen: []string{fmt.Sprintf("%s  %s  %s firmware", m.Plate.Model, m.Plate.Serial, m.Plate.Firmware.Mode)},
	}
	var s *stop
	switch {
	case failed == nil:
		out.Screen = append(out.Screen, "Corbel is ready.")
		out.Text = "started"
		if err := v.keep(dev); err != nil {
			return nil, err
		}
	case errors.As(failed, &s):
		out.Stage, out.Code, out.Text = s.stage, s.code, s.text
		out.Screen = append(
			out.Screen, fmt.Sprintf("STOPPED at %s: %s", s.operation, s.text), fmt.Sprintf("code 0x%08x", s.code),
		)
		if s.operation == "pending" || s.operation == "services" {
			out.Screen = append(out.Screen, "Restarting to try again (4)")
		}
	default: // something that it reads is not as it has to be
		out.Stage, out.Code, out.Text = "start", codeState, failed.Error()
		out.Screen = append(
			out.Screen, "STOPPED at state: "+failed.Error(), fmt.Sprintf("code 0x%08x", codeState),
		)
	}
	return out, os.WriteFile(filepath.Join(m.Folder, ScreenName), []byte(strings.Join(out.Screen, "\n")+"\n"), 0o600)
}

// start follows the chain: firmware, table, loader, boot store, kernel, pending
// work, services.
func (m *Machine) start(v *volumes) error {
	entry, err := m.startToWork(v)
	if err != nil {
		return err
	}
	if err := m.wants(v); err != nil {
		return err
	}
	return v.serve(entry.Mode == "minimal")
}

// startToWork goes as far as the pending work.
func (m *Machine) startToWork(v *volumes) (entry corbelfile.BootEntry, err error) {
	loader, err := m.fromFirmware(v)
	if err != nil {
		return entry, err
	}
	raw, err := fs.ReadFile(loader, corbelfile.Loader(m.Plate.Firmware.Mode))
	if err != nil || !runs(magicLoader, raw) {
		return entry, halt(
			"start", "loader", codeNoLoader, "the loader %s is missing or damaged", corbelfile.Loader(m.Plate.Firmware.Mode),
		)
	}
	raw, err = fs.ReadFile(loader, corbelfile.BootStore(m.Plate.Firmware.Mode))
	if err != nil {
		return entry, halt("start", "boot store", codeBootStore, "the boot store is missing")
	}
	entry, err = corbelfile.ReadBootStore(raw)
	if err != nil {
		return entry, halt("start", "boot store", codeBootStore, "the boot store cannot be read: %v", err)
	}
	sys := v.bySerial(entry.Volume)
	if sys == nil {
		return entry, halt("start", "volume", codeNoVolume, "no volume has the serial %s", entry.Volume)
	}
	raw, err = fs.ReadFile(sys, entry.Kernel)
	if err != nil || !runs(magicKernel, raw) {
		return entry, halt(
			"start", "kernel", codeNoKernel, "%s on volume %s is missing or damaged", entry.Kernel, entry.Volume,
		)
	}
	if v.sys == nil {
		return entry, halt("start", "kernel", codeNoKernel, "the system volume cannot be read")
	}
	return entry, v.work()
}

// fromFirmware finds the volume with the loader.
func (m *Machine) fromFirmware(v *volumes) (fs.FS, error) {
	f := m.Plate.Firmware
	if f.Mode != "uefi" {
		return m.fromSectorZero(v)
	}
	if v.table.Style() != layout.StyleGPT || !v.table.Primary.Sound() {
		return nil, halt("start", "table", codeTable, "no sound GPT stands at the start of the disk")
	}
	for _, id := range f.Order {
		i := slices.IndexFunc(f.Entries, func(e corbelfile.StartEntry) bool { return e.ID == id })
		if i < 0 {
			continue
		}
		e := f.Entries[i]
		if e.Partition == "" { // a medium or a second disk
			if strings.Contains(e.Title, "medium") && m.Plate.Medium == nil {
				continue
			}
			return nil, halt("start", "firmware", codeNoSystem, "started from %s, which holds no system", e.Title)
		}
		for _, p := range v.parts {
			if strings.EqualFold(p.ID, e.Partition) {
				volume, err := fat.Open(block.NewReadRange(v.draft, p.Off, p.Length))
				if err != nil {
					return nil, halt("start", "loader", codeNoLoader, "the boot volume cannot be read: %v", err)
				}
				return volume, nil
			}
		}
	}
	return nil, halt("start", "firmware", codeNoEntry, "no boot entry leads to a loader")
}

// fromSectorZero is how the older firmware finds it: code in sector 0, the
// active partition, code in its boot sector.
func (m *Machine) fromSectorZero(v *volumes) (fs.FS, error) {
	if len(m.Plate.Firmware.Order) == 0 || m.Plate.Firmware.Order[0] != "disk0" {
		return nil, halt("start", "firmware", codeNoEntry, "the first device holds no system")
	}
	if v.table.Style() != layout.StyleMBR || !v.table.MBR.Signed {
		return nil, halt("start", "table", codeTable, "no table that this firmware can start from is on the disk")
	}
	code := make([]byte, corbelfile.BootCodeSize)
	if _, err := v.draft.ReadAt(code, 0); err != nil || !runs(magicCode, code) {
		return nil, halt("start", "boot code", codeBootCode, "the code in sector 0 does not run")
	}
	var active []layout.Partition
	for _, p := range v.parts {
		if p.Active {
			active = append(active, p)
		}
	}
	if len(active) != 1 {
		return nil, halt("start", "active partition", codeNoActive, "%d partitions are active", len(active))
	}
	p := active[0]
	code = make([]byte, corbelfile.BootSectorSize)
	if _, err := v.draft.ReadAt(code, p.Off+corbelfile.BootSectorAt); err != nil || !runs(magicSector, code) {
		return nil, halt("start", "boot sector", codeBootSector, "the boot sector of partition %d does not run", p.Number)
	}
	volume, err := fat.Open(block.NewReadRange(v.draft, p.Off, p.Length))
	if err != nil {
		return nil, halt("start", "boot sector", codeBootSector, "partition %d cannot be read: %v", p.Number, err)
	}
	return volume, nil
}

func (v *volumes) bySerial(serial string) fs.FS {
	for _, p := range v.parts {
		part := block.NewReadRange(v.draft, p.Off, p.Length)
		if c := layout.Recognise(part); c.UUID == serial {
			if volume, err := fat.Open(part); err == nil {
				return volume
			}
		}
	}
	return nil
}

// work does what is pending, all of it or nothing.
func (v *volumes) work() error {
	t, err := state[corbelfile.Transaction](v.sys, corbelfile.TransactionPath)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	raw, err := fs.ReadFile(v.sys, corbelfile.WorklistPath)
	if err != nil {
		return halt("wake", "pending", codePendingShort, "the worklist of %s is missing", t.ID)
	}
	ops, whole, err := corbelfile.ReadWorklist(bytes.NewReader(raw))
	if err != nil || !whole || !t.Complete {
		return halt("wake", "pending", codePendingShort, "the worklist of %s breaks off after operation %d", t.ID, len(ops))
	}
	var index corbelfile.Index
	if raw, err = fs.ReadFile(v.sys, corbelfile.IndexPath); err == nil {
		err = corbelfile.Unseal(corbelfile.KindIndex, raw, &index)
	}
	if err != nil {
		return halt("wake", "pending", codeManifest, "index: %v", err)
	}
	for _, op := range ops {
		if err := v.operate(op, &index); err != nil {
			return err
		}
	}
	index.Build = t.Build
	if err := v.sys.WriteFile(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, index)); err != nil {
		return err
	}
	rel, err := state[corbelfile.Release](v.sys, corbelfile.ReleasePath)
	if err != nil {
		return err
	}
	rel.Build = t.Build
	if t.Build >= BuildRelease {
		rel.Title, rel.Version = "Corbel 8.0", "8.0"
	}
	if err := putState(v.sys, corbelfile.ReleasePath, rel); err != nil {
		return err
	}
	return errors.Join(v.sys.Remove(corbelfile.WorklistPath), v.sys.Remove(corbelfile.TransactionPath))
}

func (v *volumes) operate(op corbelfile.Operation, index *corbelfile.Index) error {
	raw, err := fs.ReadFile(v.sys, manifestPath(op.Component, op.Version))
	if err != nil {
		return halt(
			"wake", "pending", codePendingGone, "operation %d: component %s %s is not in the store", op.Number, op.Component,
			op.Version,
		)
	}
	switch op.Do {
	case "place":
		data, err := fs.ReadFile(v.sys, payloadPath(op.Payload))
		if err != nil {
			return halt(
				"wake", "pending", codePayloadGone, "operation %d: payload %s of %s is missing from the store", op.Number,
				op.Payload, op.Component,
			)
		}
		return put(v.sys, path.Join(corbelfile.SystemFolder, op.At), data)
	case "switch":
		c := corbelfile.Component{Name: op.Component, Version: op.Version, Manifest: corbelfile.Hash(raw)}
		if i := slices.IndexFunc(index.Components, func(o corbelfile.Component) bool { return o.Name == c.Name }); i >= 0 {
			index.Components[i] = c
		} else {
			index.Components = append(index.Components, c)
		}
	}
	return nil
}

// wants holds what the components ask of the machine against it.
func (m *Machine) wants(v *volumes) error {
	var index corbelfile.Index
	raw, err := fs.ReadFile(v.sys, corbelfile.IndexPath)
	if err == nil {
		err = corbelfile.Unseal(corbelfile.KindIndex, raw, &index)
	}
	if err != nil {
		return halt("start", "kernel", codeManifest, "index: %v", err)
	}
	for _, c := range index.Components {
		raw, err := fs.ReadFile(v.sys, manifestPath(c.Name, c.Version))
		var man corbelfile.Manifest
		if err != nil || corbelfile.Unseal(corbelfile.KindManifest, raw, &man) != nil {
			continue // it is not needed to start
		}
		for _, flag := range man.Wants.Flags {
			if !slices.Contains(m.Plate.Flags, flag) {
				return halt(
					"start", "services", codeWants, "%s %s: an instruction that this processor does not know", c.Name, c.Version,
				)
			}
		}
		if man.Wants.Memory > m.Plate.Memory {
			return halt("start", "services", codeWants, "%s %s: not enough memory to start", c.Name, c.Version)
		}
	}
	return nil
}

// serve starts the services; in minimal mode, those of programs stay out.
func (v *volumes) serve(minimal bool) error {
	list, err := state[[]corbelfile.Service](v.sys, corbelfile.ServicesPath)
	if err != nil {
		return halt("start", "services", codeStartService, "the list of services cannot be read: %v", err)
	}
	for _, s := range list {
		if !s.AtStart || s.Start == corbelfile.StartOff || s.File == "" || minimal && s.Program != "" {
			continue
		}
		at := path.Join(corbelfile.SystemFolder, s.File)
		if s.Program != "" {
			at = s.File
		}
		raw, err := fs.ReadFile(v.sys, at)
		if err != nil || !runs(magicProgram, raw) {
			return halt("start", "services", codeStartService, "service %s stopped at once", s.Name)
		}
	}
	return nil
}
