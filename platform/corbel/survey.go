package corbel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/platform/corbelfile"
)

// Survey fills the facts with how the parts of the system stand. What cannot
// be read is left out; why, stands in the chain and among the faults.
func (a Adapter) Survey(g system.Ground, facts *bag.Facts) {
	st := &bag.State{}
	facts.State = st
	var plate *corbelfile.Plate
	if g.Firmware != nil {
		if p, err := corbelfile.ReadPlate(g.Firmware); err == nil {
			plate = p
			a.machine(p, g, facts)
		}
	}
	s := a.look(g, facts)
	if s == nil {
		return
	}
	if st.Chain = boot.Follow(a.chain(g, s, plate, facts)); g.ChainAlone {
		return
	}
	st.FileSystems = fileSystems(g)
	s.parts(st)
	s.brought(st.History, plate)
	s.lists(st)
	s.client(g, st, plate)
}

// parts looks at each part, and notes what was looked at or why it could not be.
func (s *System) parts(st *bag.State) {
	note := func(part, saw string, err error) {
		l := bag.Looked{Part: part, Saw: saw}
		if err != nil {
			l = bag.Looked{Part: part, Problem: err.Error()}
		}
		st.Looked = append(st.Looked, l)
	}
	var err error
	st.Lists, err = s.StateFaults()
	note("lists", fmt.Sprintf("%d lists of the system's own state, each against the others", len(stateFiles)), err)
	st.Services, err = s.Services()
	note("services", fmt.Sprintf("%d services beside those that the release ships", len(st.Services)), err)
	if st.Store, err = store.Verify(context.Background(), s.store(), runtime.NumCPU(), nil); err == nil {
		note("store", fmt.Sprintf("%d components, %d files, each against its hash", st.Store.Components, st.Store.Files), nil)
	} else {
		note("store", "", err)
	}
	st.Pending, err = s.Pending()
	note("pending", "the list of work for the next start", err)
	st.Settings, err = s.SettingFaults()
	note("settings", "every branch that the release ships: sum, owner, grants, values", err)
	st.History, err = s.History()
	note("history", fmt.Sprintf("%d entries", len(st.History)), err)
}

// machine takes over what the nameplate says, and nobody has said before.
func (a Adapter) machine(p *corbelfile.Plate, g system.Ground, facts *bag.Facts) {
	said := facts.Machine
	facts.Machine = bag.Machine{
		Name: cmp.Or(said.Name, p.Name), Site: cmp.Or(said.Site, p.Site), Model: cmp.Or(said.Model, p.Model),
	}
	facts.Hardware = &bag.Hardware{
		Architecture: p.Architecture,
		Processor:    p.Processor,
		Processors:   p.Processors,
		Flags:        p.Flags,
		Memory:       p.Memory,
		Width:        p.Width,
		Height:       p.Height,
	}
	facts.Firmware = &bag.Firmware{Mode: firmware.Mode(p.Firmware.Mode)}
	facts.Clock = &bag.Clock{
		Synchronised: p.Network.Up && p.Network.TimeSync && max(p.Clock.Offset, -p.Clock.Offset) < 60,
		ReferenceOff: int64(p.Clock.Offset),
		Referenced:   true,
		Reference:    "the machine that gathered",
	}
	facts.Network = &bag.Network{
		Links:   []bag.Link{{Name: "net0", State: map[bool]string{true: "up", false: "down"}[p.Network.Up]}},
		Route:   p.Network.Up,
		Metered: map[bool]string{true: "yes", false: "no"}[p.Network.Metered],
	}
	facts.Devices = []bag.Device{}
	for _, d := range p.Devices {
		facts.Devices = append(facts.Devices, bag.Device{
			Name:      d.Name,
			Kind:      d.Kind,
			Bus:       d.Bus,
			Size:      d.Size,
			Removable: d.Removable,
		})
	}
	facts.Surveyed = true
	st := facts.State
	st.Firmware = &bag.FirmwareFile{Source: corbelfile.PlateName, Size: corbelfile.PlateSize, Mark: "machine:" + p.Serial}
	st.Health = &bag.Health{Reallocated: p.Wear.Reallocated, Unreadable: append([]int64{}, p.Wear.Unreadable...)}
	if p.Medium == nil {
		return
	}
	st.Medium = &bag.Medium{Modes: p.Medium.Modes}
	raw, err := g.Beside(p.Medium.File)
	if err != nil {
		st.Medium.Damaged = err.Error()
		return
	}
	pack, err := corbelfile.ReadPack(raw)
	if err != nil {
		st.Medium.Damaged = err.Error()
		return
	}
	st.Medium.Build = pack.Offer.Build
	if bad := pack.Damaged(); bad != "" {
		st.Medium.Damaged = "payload " + bad + " is not what its hash says"
	}
}

// look opens the system to be read.
func (a Adapter) look(g system.Ground, facts *bag.Facts) *System {
	s := &System{table: g.Table}
	if facts.Firmware != nil {
		s.mode = string(facts.Firmware.Mode)
	} else if s.mode = "bios"; g.Table.Style() == layout.StyleGPT {
		s.mode = "uefi"
	}
	for _, p := range g.Table.Partitions() {
		v := g.Volume(p.Number)
		switch {
		case v == nil:
		case isSystem(v):
			s.sys, s.serial = v, g.Contents[p.Number].UUID
		case s.boot == nil && isBoot(v, p):
			s.boot, s.bootPart = v, p
		}
	}
	if s.sys == nil {
		return nil
	}
	return s
}

func (a Adapter) chain(g system.Ground, s *System, plate *corbelfile.Plate, facts *bag.Facts) boot.Ground {
	out := boot.Ground{Mode: firmware.Mode(s.mode), Disk: g.Disk, Table: g.Table, Contents: g.Contents, Volume: g.Volume}
	if plate != nil {
		p := firmwareOf(plate)
		out.Entries = []firmware.Entry{}
		for _, id := range p.Order {
			if i := slices.IndexFunc(p.Entries, func(e firmware.Entry) bool { return firmware.SameID(e.ID, id) }); i >= 0 {
				out.Entries = append(out.Entries, p.Entries[i])
			}
		}
	}
	out.System = &bootSystem{sys: s.sys, serial: s.serial, wants: func(v fs.FS) []string { return wantsOf(v, plate) }}
	out.Known = func(name string) []byte {
		c := s.store()
		_, x, err := c.index()
		below, ok := strings.CutPrefix(name, corbelfile.SystemFolder+"/")
		if err != nil || !ok {
			return nil
		}
		return c.fileOf(x, "", below)
	}
	return out
}

// wantsOf lists what components ask of the machine and do not find.
func wantsOf(v fs.FS, plate *corbelfile.Plate) (list []string) {
	if plate == nil {
		return nil
	}
	c := &componentStore{fsys: v}
	_, x, err := c.index()
	if err != nil {
		return nil
	}
	for _, in := range x.Components {
		m, err := c.read(in.Name, in.Version)
		if err != nil {
			continue
		}
		list = append(list, lacks(m, plate)...)
	}
	return list
}

func lacks(m *corbelfile.Manifest, plate *corbelfile.Plate) (list []string) {
	for _, flag := range m.Wants.Flags {
		if !slices.Contains(plate.Flags, flag) {
			list = append(
				list,
				fmt.Sprintf(
					"%s %s wants a processor with %s; %s has %s",
					m.Name, m.Version, flag, plate.Processor, strings.Join(plate.Flags, " "),
				),
			)
		}
	}
	if m.Wants.Memory > plate.Memory {
		list = append(
			list,
			fmt.Sprintf(
				"%s %s wants %d MiB of memory; the machine has %d MiB", m.Name, m.Version, m.Wants.Memory>>20, plate.Memory>>20,
			),
		)
	}
	return list
}

// brought says of each entry of the history what it brought that the machine
// cannot run.
func (s *System) brought(list []bag.HistoryEntry, plate *corbelfile.Plate) {
	past, err := read[[]corbelfile.History](s.sys, corbelfile.HistoryPath)
	if err != nil || plate == nil || len(past) != len(list) {
		return
	}
	c := s.store()
	_, x, err := c.index()
	if err != nil {
		return
	}
	for i, h := range past {
		for _, was := range h.Changed {
			k := slices.IndexFunc(x.Components, func(o corbelfile.Component) bool { return o.Name == was.Name })
			if k < 0 || x.Components[k].Version == was.Version {
				continue
			}
			if m, err := c.read(was.Name, x.Components[k].Version); err == nil {
				list[i].Wants = append(list[i].Wants, lacks(m, plate)...)
			}
		}
	}
}

// fileSystems checks those of the boot and the system volume.
func fileSystems(g system.Ground) (list []bag.VolumeFault) {
	for _, p := range g.Table.Partitions() {
		if g.Contents[p.Number].Kind != "fat32" {
			continue
		}
		report, err := fat.Check(block.NewReadRange(g.Disk, p.Off, p.Length))
		if err != nil {
			list = append(list, bag.VolumeFault{Partition: p.Number, ID: "unreadable", Text: err.Error()})
			continue
		}
		for _, f := range report.Findings[:min(len(report.Findings), 20)] {
			list = append(list, bag.VolumeFault{Partition: p.Number, ID: f.ID, Text: f.Text})
		}
	}
	return list
}

// lists takes over what is installed.
func (s *System) lists(st *bag.State) {
	look := func(part string, n int, err error) {
		l := bag.Looked{Part: part, Saw: fmt.Sprintf("%d", n)}
		if err != nil {
			l = bag.Looked{Part: part, Problem: err.Error()}
		}
		st.Looked = append(st.Looked, l)
	}
	drivers, err := read[[]corbelfile.Driver](s.sys, corbelfile.DriversPath)
	look("drivers", len(drivers), err)
	for _, d := range drivers {
		st.Drivers = append(st.Drivers, bag.Driver(d))
	}
	features, err := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath)
	look("features", len(features), err)
	for _, f := range features {
		names, _ := fs.Glob(s.sys, path.Join(corbelfile.ManifestFolder, f.Component+"-*")) // the pattern is right
		st.Features = append(st.Features, bag.Feature{Name: f.Name, On: f.On, Present: len(names) > 0})
	}
	programs, err := read[[]corbelfile.Program](s.sys, corbelfile.ProgramsPath)
	look("programs", len(programs), err)
	for _, p := range programs {
		st.Programs = append(st.Programs, bag.Program{Name: p.Name, Version: p.Version, Installed: p.Installed})
	}
	names, _ := fs.Glob(s.sys, path.Join(corbelfile.CheckpointRoot, "*", "checkpoint.json")) // the pattern is right
	for _, name := range names {
		if c, err := read[corbelfile.Checkpoint](s.sys, filepath.ToSlash(name)); err == nil {
			st.Checkpoints = append(st.Checkpoints, bag.Checkpoint{ID: c.ID, When: c.When, Why: c.Why, Build: c.Build})
		}
	}
}

// client takes over how the update client stands.
func (s *System) client(g system.Ground, st *bag.State, plate *corbelfile.Plate) {
	u := &bag.UpdateClient{
		Service:     updateService,
		Policy:      map[string]string{},
		Offers:      []bag.Offer{},
		CacheLocked: s.CacheLocked(),
		Leftovers:   s.Leftovers(),
	}
	st.Update = u
	var errs [5]error
	u.CacheDamaged, errs[0] = s.DamagedDownloads()
	u.CacheOld, errs[1] = s.OldDownloads()
	u.EarlyOld, errs[2] = s.OldEarlyImages()
	defer func() {
		l := bag.Looked{Part: "update", Saw: "policy, offers, downloads, work folders, cache"}
		if err := errors.Join(errs[:]...); err != nil {
			l = bag.Looked{Part: "update", Problem: err.Error()}
		}
		st.Looked = append(st.Looked, l)
	}()
	var policy map[string]string
	if policy, errs[3] = s.Policy(); errs[3] == nil {
		u.Policy = policy
		u.PausedUntil = policy[corbelfile.PolicyPaused]
		u.FeatureOnline = policy[corbelfile.PolicyFeature] != "local"
	}
	var offers []corbelfile.Offer
	offers, errs[4] = s.offers()
	rel, _ := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	for _, o := range offers {
		out := bag.Offer{
			ID:           o.ID,
			Kind:         o.Kind,
			Title:        o.Title,
			Build:        o.Build,
			Base:         o.Base,
			Architecture: o.Architecture,
			SupersededBy: o.SupersededBy,
			Device:       o.Device,
			Version:      o.Version,
			Feature:      o.Feature,
			As:           o.As,
			Held:         o.Held,
			Lacks:        []bag.Lack{},
		}
		if raw, err := fs.ReadFile(s.sys, packPath(o.ID)); err == nil {
			out.Cached = true
			if pack, err := corbelfile.ReadPack(raw); err == nil {
				out.From, out.Until, _ = pack.Validity()
			}
		}
		out.Lacks = append(out.Lacks, s.lacksFor(o, rel, plate, g, st)...)
		u.Offers = append(u.Offers, out)
	}
}

// lacksFor holds the machine against what an offer asks.
func (s *System) lacksFor(
	o corbelfile.Offer, rel corbelfile.Release, plate *corbelfile.Plate, g system.Ground, st *bag.State,
) (list []bag.Lack) {
	add := func(kind string, fit bool, want, got string) {
		if !fit {
			list = append(list, bag.Lack{Kind: kind, Want: want, Got: got})
		}
	}
	add("architecture", o.Architecture == rel.Architecture, o.Architecture, rel.Architecture)
	add("superseded", o.SupersededBy == "", "the latest", "superseded by "+o.SupersededBy)
	add("build", o.Base == rel.Build || o.Kind == "driver", fmt.Sprint(o.Base), fmt.Sprint(rel.Build))
	for _, d := range st.Drivers {
		add("driver", o.Kind != "driver" || d.Device != o.Device || compareVersions(d.Version, o.Version) <= 0, "newer than "+
			d.Version, o.Version)
	}
	f := o.Fit
	if f == nil {
		free := g.Contents[g.System].Free
		add("system-space", free < 0 || free >= corbelfile.RoomForAttempt, mib(corbelfile.RoomForAttempt), mib(free))
		return list
	}
	add("system-space", g.Contents[g.System].Free >= f.Free, mib(f.Free), mib(g.Contents[g.System].Free))
	add(
		"boot-space", s.boot == nil || g.Contents[s.bootPart.Number].Free >= f.FreeBoot, mib(f.FreeBoot),
		mib(g.Contents[s.bootPart.Number].Free),
	)
	add("disk", g.Disk.Size() >= f.Disk, mib(f.Disk), mib(g.Disk.Size()))
	if plate == nil {
		return list
	}
	add("memory", plate.Memory >= f.Memory, mib(f.Memory), mib(plate.Memory))
	add(
		"display", plate.Width >= f.Width && plate.Height >= f.Height, fmt.Sprintf("%dx%d", f.Width, f.Height),
		fmt.Sprintf("%dx%d", plate.Width, plate.Height),
	)
	add("model", len(f.Models) == 0 || slices.Contains(f.Models, plate.Model), strings.Join(f.Models, ", "), plate.Model)
	for _, flag := range f.Flags {
		add("processor", slices.Contains(plate.Flags, flag), flag, strings.Join(plate.Flags, " "))
	}
	return list
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }
