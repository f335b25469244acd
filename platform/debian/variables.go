package debian

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/efivar"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/units"
)

// ReadFirmware reads a store of UEFI variables.
func (Adapter) ReadFirmware(dev block.Source) (*firmware.State, error) {
	s, err := efivar.Open(dev)
	if err != nil {
		return nil, err
	}
	entries, order := s.Boot()
	state := &firmware.State{Mark: "variables:" + s.Mark(), Mode: firmware.UEFI, Order: order}
	for _, e := range entries {
		state.Entries = append(state.Entries, firmware.Entry{
			ID: e.ID, Title: e.Title, Partition: e.Partition, Path: e.Path, Kind: e.Kind, Active: e.Active,
		})
	}
	return state, nil
}

// WriteFirmware changes the entries that differ, and the order.
func (a Adapter) WriteFirmware(dev block.Device, want *firmware.State) error {
	s, err := efivar.Open(dev)
	if err != nil {
		return err
	}
	before := bytes.Clone(s.Bytes())
	have, err := a.ReadFirmware(dev)
	if err != nil {
		return err
	}
	if want.Clock != have.Clock || want.NetworkUp != have.NetworkUp {
		return fmt.Errorf("a store of variables holds neither clock nor network")
	}
	for _, e := range want.Entries {
		i := slices.IndexFunc(have.Entries, func(o firmware.Entry) bool { return firmware.SameID(o.ID, e.ID) })
		if i >= 0 && strings.EqualFold(have.Entries[i].Partition, e.Partition) && have.Entries[i].Path == e.Path {
			continue
		}
		guid, err := layout.ParseGUID(e.Partition)
		if err != nil {
			return err
		}
		err = s.SetEntry(e.ID, efivar.Target{
			Title: e.Title, Number: e.Number, First: e.First, Length: e.Sectors, GUID: guid, Path: e.Path,
		})
		if err != nil {
			return err
		}
	}
	if !slices.Equal(want.Order, have.Order) {
		if err := s.SetOrder(want.Order); err != nil {
			return err
		}
	}
	const sector = 512
	after := s.Bytes()
	for at := 0; at < len(after); at += sector {
		end := min(at+sector, len(after))
		if bytes.Equal(before[at:end], after[at:end]) {
			continue
		}
		if _, err := dev.WriteAt(after[at:end], int64(at)); err != nil {
			return err
		}
	}
	return nil
}

// LoaderPath is what an entry names where nothing is known of the loaders on the disk.
func (Adapter) LoaderPath(firmware.Mode) string { return loaders[0] }

// noteVariables goes by what the firmware's variables say, where they are at hand: each way in their order, and last
// the path that is tried without an entry. The machine starts by the first whose loader is there and can run.
func noteVariables(g system.Ground, facts *bag.Facts) {
	if g.Firmware == nil {
		return
	}
	held := heldBytes{bytes.NewReader(g.Firmware)}
	state, err := Adapter{}.ReadFirmware(held)
	if err != nil {
		return
	}
	disk := espOf(g)
	facts.State.Firmware = &bag.FirmwareFile{Size: held.Size(), Mark: state.Mark}
	if facts.Firmware == nil {
		facts.Firmware = &bag.Firmware{Mode: firmware.UEFI}
	}
	if disk == 0 {
		return
	}
	own := &loaderChain{ground: g, esp: g.Volume(disk), number: disk}
	if name, _ := own.Loader(firmware.UEFI); own.esp != nil && there(own.esp, name) {
		facts.State.Firmware.Loader = name
	}
	ways := waysOf(g, state, own)
	taken := slices.IndexFunc(ways, func(w boot.Way) bool { return w.Chain.HoldsTo(boot.LinkLoader) })
	facts.State.Ways = ways
	if taken >= 0 {
		ways[taken].Taken = true
		facts.State.Chain = ways[taken].Chain
		return
	}
	if facts.State.Chain.HoldsTo(boot.LinkLoader) { // else it is the loader itself that is to be put back
		facts.State.Chain = nowhere(g, state)
	}
}

// heldBytes is a device that lies in memory.
type heldBytes struct{ *bytes.Reader }

// SectorSize is that of any file.
func (heldBytes) SectorSize() int { return 512 }

// waysOf follows each entry in its order, then the fallback path.
func waysOf(g system.Ground, state *firmware.State, own *loaderChain) (ways []boot.Way) {
	for _, id := range state.Order {
		i := slices.IndexFunc(state.Entries, func(e firmware.Entry) bool { return firmware.SameID(e.ID, id) })
		if i < 0 {
			ways = append(ways, boot.Way{Entry: id, Title: "Boot" + id, Note: "the order names it, and there is no such entry"})
			continue
		}
		e := state.Entries[i]
		w := boot.Way{Entry: e.ID, Title: e.Title}
		number := partitionNamed(g, e.Partition)
		switch {
		case !e.Active:
			w.Note = "not started in its turn"
		case e.Kind != efivar.File:
			w.Note = ledElsewhere[e.Kind]
		case number == 0:
			w.Note = fmt.Sprintf("partition %s is not on this disk: passed over where it is on no other", e.Partition)
		default:
			name := e.Path
			if name == "" {
				name = fallbackOf(g.Volume(number))
			}
			w.Chain = follow(g, number, name, []firmware.Entry{e})
		}
		ways = append(ways, w)
	}
	return append(ways, boot.Way{
		Title: "fallback path", Chain: follow(g, own.number, fallbackOf(own.esp), nil),
	})
}

func follow(g system.Ground, number int, loader string, entries []firmware.Entry) boot.Chain {
	s := &loaderChain{ground: g, esp: g.Volume(number), number: number, path: loader, read: map[string]readOnce{}}
	return boot.Follow(boot.Ground{
		Mode: firmware.UEFI, Disk: g.Disk, Table: g.Table, Contents: g.Contents, Entries: entries, Fallback: entries == nil,
		Volume: func(n int) fs.FS { return topOf(g, n) }, System: s,
	})
}

// fallbackOf is the program that firmware without an entry starts.
func fallbackOf(esp fs.FS) string {
	if esp != nil {
		if list, _ := fs.Glob(esp, "EFI/BOOT/BOOT*.EFI"); len(list) > 0 { // the pattern is right
			return list[0]
		}
	}
	return path.Join("EFI/BOOT", fallback("x64"))
}

func partitionNamed(g system.Ground, id string) int {
	for _, p := range g.Table.Partitions() {
		if id != "" && strings.EqualFold(p.ID, id) {
			return p.Number
		}
	}
	return 0
}

// nowhere is the chain of a machine of which no way leads to a loader.
func nowhere(g system.Ground, state *firmware.State) boot.Chain {
	l := boot.Link{Kind: boot.LinkFirmware, What: "boot entries", Fault: boot.EntriesMissing}
	l.Saw = "none leads to this disk, and nothing lies where firmware without one looks"
	for _, e := range state.Entries {
		number := partitionNamed(g, e.Partition)
		tried := slices.ContainsFunc(state.Order, func(id string) bool { return firmware.SameID(id, e.ID) })
		if e.Kind != efivar.File || number == 0 || !tried {
			continue
		}
		l.Fault = boot.EntriesStale
		l.Saw = fmt.Sprintf(
			"entry %s leads to %s on partition %d, which is not there or cannot run, and nothing lies where firmware without "+
				"an entry looks", e.ID, e.Path, number,
		)
	}
	return boot.Chain{
		{Kind: boot.LinkTable, What: "GPT", Saw: units.Count(len(g.Table.Partitions()), "partition")}, l,
	}
}

// ledElsewhere says of entries that name no partition where they lead.
var ledElsewhere = map[efivar.Kind]string{
	efivar.Device:   "a whole device, on which the fallback path is tried",
	efivar.Network:  "from a server: not followed",
	efivar.Firmware: "a program of the firmware's own",
	efivar.Unknown:  "where it leads cannot be told",
}
