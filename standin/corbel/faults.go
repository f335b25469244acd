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

	"diorthos/platform/corbelfile"
)

// Faults are all that a machine can be broken by.
var Faults = []Fault{
	{
		Name:  "service-disabled",
		Group: "update client",
		Try:   TryUpdate,
		harm: service("courier", func(s *corbelfile.Service) {
			s.Start = corbelfile.StartOff
			s.Running = false
		}),
	},
	{Name: "service-need-stopped", Group: "update client", Try: TryUpdate, harm: func(d *damage) error {
		return service([]string{"line", "ledger"}[d.r.IntN(2)], func(s *corbelfile.Service) { s.Running = false })(d)
	}},
	{
		Name:  "start-type-wrong",
		Group: "update client",
		Try:   TryUpdate,
		harm:  service("courier", func(s *corbelfile.Service) { s.Start = corbelfile.StartDemand }),
	},
	{Name: "cache-package-damaged", Group: "update client", Try: TryUpdate, harm: func(d *damage) error {
		raw := bytes.Clone(d.o.Vendor.raw[OfferUpdate])
		raw[len(raw)-1-d.r.IntN(len(raw)/2)] ^= byte(1 + d.r.IntN(255))
		return d.cache(OfferUpdate, raw)
	}},
	{
		Name:  "cache-unwritable",
		Group: "update client",
		Try:   TryUpdate,
		harm:  func(d *damage) error { return d.v.sys.SetReadOnly(corbelfile.CacheFolder, true) },
	},
	{Name: "leftover-work-folder", Group: "update client", Try: TryUpdate, harm: func(d *damage) error {
		return put(
			d.v.sys,
			path.Join(corbelfile.UpdateFolder, fmt.Sprintf("%sU72%02d", corbelfile.WorkPrefix, d.r.IntN(9)), "part.tmp"),
			content("left", "over", 3000),
		)
	}},
	{Name: "list-cut-off", Group: "update client", Try: TryUpdate, harm: func(d *damage) error {
		name := []string{corbelfile.OffersPath, corbelfile.HistoryPath}[d.r.IntN(2)]
		raw, err := fs.ReadFile(d.v.sys, name)
		if err != nil {
			return err
		}
		return d.v.sys.WriteFile(name, raw[:len(raw)/2])
	}},
	{Name: "updates-paused", Group: "update client", Try: TryUpdate, harm: func(d *damage) error {
		return d.set(
			corbelfile.PolicyBranch, corbelfile.PolicyPaused, d.o.Now.AddDate(0, 1+d.r.IntN(20), 0).Format(time.DateOnly),
		)
	}},
	{
		Name:  "rights-missing",
		Group: "update client",
		Try:   TryUpdate,
		harm:  onOffer(TryUpdate, func(o *corbelfile.Offer) { o.As = "ines" }),
	},

	{Name: "payload-missing", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		_, f := d.anyFile()
		return d.v.sys.Remove(payloadPath(f.Payload))
	}},
	{Name: "payload-altered", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		_, f := d.anyFile()
		return d.alter(payloadPath(f.Payload))
	}},
	{Name: "manifest-damaged", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		m, _ := d.anyFile()
		return d.alter(manifestPath(m.Name, m.Version))
	}},
	{Name: "protected-file-altered", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		for {
			// what the machine starts from is broken by other faults
			if m, f := d.anyFile(); f.Protected && m.Name != "corbel-kernel" && m.Name != "corbel-ledger" &&
				m.Name != "corbel-shell" && !strings.HasSuffix(f.Path, ".shipped") {
				return d.alter(path.Join(corbelfile.SystemFolder, f.Path))
			}
		}
	}},
	{Name: "source-other-build", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		m := d.manifests()[slices.IndexFunc(d.manifests(), func(m corbelfile.Manifest) bool {
			return m.Name == "corbel-net"
		})]
		if err := d.medium(OfferRelease, nil); err != nil {
			return err
		}
		return d.v.sys.Remove(payloadPath(m.Files[d.r.IntN(len(m.Files))].Payload))
	}},
	{Name: "dependency-missing", Group: "store", Try: TryUpdate, harm: func(d *damage) error {
		name := []string{"corbel-fonts", "corbel-files"}[d.r.IntN(2)]
		return d.index(func(x *corbelfile.Index) {
			x.Components = slices.DeleteFunc(x.Components, func(c corbelfile.Component) bool { return c.Name == name })
		})
	}},

	{
		Name:  "pending-component-gone",
		Group: "pending work",
		Try:   TryStart,
		harm:  func(d *damage) error { return d.pending(200, 1, true, true) },
	},
	{
		Name:  "pending-many-gone",
		Group: "pending work",
		Try:   TryStart,
		harm:  func(d *damage) error { return d.pending(4000+d.r.IntN(2000), 3+d.r.IntN(9), true, true) },
	},
	{
		Name:  "transaction-half-done",
		Group: "pending work",
		Try:   TryStart,
		harm:  func(d *damage) error { return d.pending(120, 0, false, false) },
	},
	{
		Name:  "restart-owed",
		Group: "pending work",
		Try:   TryUpdate,
		harm:  func(d *damage) error { return d.pending(60, 0, true, true) },
	},

	{Name: "branch-owner-wrong", Group: "settings", Try: TryUpdate, harm: func(d *damage) error {
		return d.tree(func(t *corbelfile.Tree) { t.Find(corbelfile.StageBranch).Owner = "installer-3" })
	}},
	{Name: "branch-damaged", Group: "settings", Try: TryUpdate, harm: func(d *damage) error {
		raw, err := fs.ReadFile(d.v.sys, corbelfile.SettingsPath)
		if err != nil {
			return err
		}
		return d.v.sys.WriteFile(corbelfile.SettingsPath, bytes.Replace(raw, []byte("\nlevel="), []byte("\nl\x00vel~"), 1))
	}},
	{Name: "policy-value-wrong", Group: "settings", Try: TryUpdate, harm: func(d *damage) error {
		return d.set("courier/limits", "block", []string{"0", "-1", "sixty", "65536"}[d.r.IntN(4)])
	}},
	{
		Name:  "source-policy-none",
		Group: "settings",
		Try:   TryUpdate,
		harm:  func(d *damage) error { return d.set(corbelfile.PolicyBranch, corbelfile.PolicySource, "none") },
	},

	{Name: "driver-older", Group: "drivers and features", Try: TryDriver, harm: func(d *damage) error {
		list, err := state[[]corbelfile.Driver](d.v.sys, corbelfile.DriversPath)
		if err != nil {
			return err
		}
		list[0].Version = "3.6"
		return putState(d.v.sys, corbelfile.DriversPath, list)
	}},
	{
		Name:  "driver-policy",
		Group: "drivers and features",
		Try:   TryDriver,
		harm:  func(d *damage) error { return d.set(corbelfile.PolicyBranch, corbelfile.PolicyDrivers, "refuse") },
	},
	{
		Name:  "feature-source-forbidden",
		Group: "drivers and features",
		Try:   TryFeature,
		harm:  func(d *damage) error { return d.set(corbelfile.PolicyBranch, corbelfile.PolicyFeature, "local") },
	},
	{Name: "feature-source-other-build", Group: "drivers and features", Try: TryFeature, harm: func(d *damage) error {
		if err := d.medium(OfferRelease, nil); err != nil {
			return err
		}
		return d.set(corbelfile.PolicyBranch, corbelfile.PolicyFeature, "local")
	}},

	{Name: "signature-expired", Group: "trust and clock", Try: TryUpdate, harm: func(d *damage) error {
		return d.signed(d.o.Now.AddDate(-1, 0, 0), d.o.Now.AddDate(0, 0, -3-d.r.IntN(40)))
	}},
	{Name: "signature-not-yet-valid", Group: "trust and clock", Try: TryUpdate, harm: func(d *damage) error {
		return d.signed(d.o.Now.AddDate(0, 0, 2+d.r.IntN(9)), d.o.Now.AddDate(1, 0, 0))
	}},
	{Name: "clock-wrong", Group: "trust and clock", Try: TryUpdate, harm: func(d *damage) error {
		d.m.Plate.Network.TimeSync = false
		d.m.Plate.Clock.Offset = -int64(700+d.r.IntN(900)) * 86400
		return nil
	}},
	{Name: "clock-put-right", Group: "trust and clock", Try: TryUpdate, harm: func(d *damage) error {
		d.m.Plate.Clock.Offset = -int64(120+d.r.IntN(60)) * 86400
		return d.signed(d.o.Now.AddDate(-1, 0, 0), d.o.Now.AddDate(0, 0, -3-d.r.IntN(40)))
	}},

	{Name: "network-metered", Group: "network", Try: TryUpdate, harm: func(d *damage) error {
		d.m.Plate.Network.Metered = true
		return nil
	}},
	{Name: "network-unstable", Group: "network", Try: TryUpdate, harm: func(d *damage) error {
		d.m.Plate.Network.LossEvery = 3 + d.r.IntN(4)
		return nil
	}},
	{Name: "network-absent", Group: "network", Try: TryUpdate, harm: func(d *damage) error {
		d.m.Plate.Network.Up = false
		return nil
	}},
	{Name: "vendor-down", Group: "network", Try: TryUpdate, Beyond: true, harm: func(d *damage) error {
		d.o.Vendor.SetDown(d.m.Plate.Serial, true)
		return nil
	}},

	{
		Name:   "memory-short",
		Group:  "fitness",
		Try:    TryUpgrade,
		Beyond: true,
		harm:   onPlate(func(p *corbelfile.Plate) { p.Memory = 2 << 30 }),
	},
	{
		Name:   "processor-lacks",
		Group:  "fitness",
		Try:    TryUpgrade,
		Beyond: true,
		harm:   onPlate(func(p *corbelfile.Plate) { p.Flags = []string{"aes", "vx1"} }),
	},
	{Name: "display-small", Group: "fitness", Try: TryUpgrade, Beyond: true, harm: onPlate(func(p *corbelfile.Plate) {
		p.Width = 800
		p.Height = 600
	})},
	{
		Name:   "disk-small",
		Group:  "fitness",
		Try:    TryUpgrade,
		Beyond: true,
		harm:   onOffer(TryUpgrade, func(o *corbelfile.Offer) { o.Fit.Disk = 512 << 20 }),
	},
	{
		Name:   "model-unsupported",
		Group:  "fitness",
		Try:    TryUpgrade,
		Beyond: true,
		harm:   onPlate(func(p *corbelfile.Plate) { p.Model = "Havnar D1 desktop" }),
	},
	{
		Name:   "architecture-other",
		Group:  "fitness",
		Try:    TryUpdate,
		Beyond: true,
		harm:   onOffer(TryUpdate, func(o *corbelfile.Offer) { o.Architecture = "arm64" }),
	},
	{
		Name:   "build-other",
		Group:  "fitness",
		Try:    TryUpdate,
		Beyond: true,
		harm:   onOffer(TryUpdate, func(o *corbelfile.Offer) { o.Base = 7212 }),
	},
	{
		Name:   "superseded",
		Group:  "fitness",
		Try:    TryUpdate,
		Beyond: true,
		harm:   onOffer(TryUpdate, func(o *corbelfile.Offer) { o.SupersededBy = "U7216" }),
	},
	{Name: "system-volume-full", Group: "fitness", Try: TryUpgrade, harm: func(d *damage) error {
		for i := 0; d.v.sys.Free() > 2<<20; i++ { // downloads of updates that were done long ago
			if err := d.cache(
				fmt.Sprintf("U71%02d", i), content("old", fmt.Sprint(i), int(min(3<<20, d.v.sys.Free()-1<<20))),
			); err != nil {
				return err
			}
		}
		return nil
	}},
	{Name: "boot-volume-full", Group: "fitness", Try: TryUpgrade, harm: func(d *damage) error {
		for i := 0; d.v.boot.Free() > 1<<20; i++ { // early images of builds that are gone
			if err := put(
				d.v.boot, earlyPath(d.m.Plate.Firmware.Mode, 7100+i),
				content("early", fmt.Sprint(i), int(min(4<<20, d.v.boot.Free()-1<<19))),
			); err != nil {
				return err
			}
		}
		return nil
	}},

	{Name: "external-disk-first", Group: "devices", Try: TryInstall, harm: func(d *damage) error {
		d.m.Plate.Devices = append([]corbelfile.Device{{
			Name:      "usb0",
			Kind:      "disk",
			Bus:       "usb",
			Size:      32 << 30,
			Removable: true,
		}}, d.m.Plate.Devices...)
		return d.medium(OfferMedium, nil)
	}},
	{Name: "second-disk-first", Group: "devices", Try: TryInstall, harm: func(d *damage) error {
		d.m.Plate.Devices = append([]corbelfile.Device{{
			Name: "disk1",
			Kind: "disk",
			Bus:  "sata",
			Size: 500 << 30,
		}}, d.m.Plate.Devices...)
		return d.medium(OfferMedium, nil)
	}},
	{Name: "medium-damaged", Group: "devices", Try: TryInstall, harm: func(d *damage) error {
		return d.medium(OfferMedium, func(raw []byte) { raw[len(raw)-1-d.r.IntN(len(raw)/3)] ^= 0x21 })
	}},
	{Name: "medium-other-mode", Group: "devices", Try: TryInstall, harm: func(d *damage) error {
		err := d.medium(OfferMedium, nil)
		d.m.Plate.Medium.Modes = []string{map[string]string{"uefi": "bios", "bios": "uefi"}[d.m.Plate.Firmware.Mode]}
		return err
	}},

	{Name: "style-against-firmware", Group: "disk", Try: TryInstall, Modes: []string{"bios"}, harm: func(d *damage) error {
		d.m.Plate.Firmware = corbelfile.Firmware{Mode: "uefi"}
		err := d.medium(OfferMedium, nil)
		d.m.Plate.Medium.Modes = []string{"uefi", "bios"}
		return err
	}},
	{
		Name:  "active-flag-absent",
		Group: "disk",
		Try:   TryStart,
		Modes: []string{"bios"},
		harm:  func(d *damage) error { return d.active(0) },
	},
	{
		Name:  "active-flag-wrong",
		Group: "disk",
		Try:   TryStart,
		Modes: []string{"bios"},
		harm:  func(d *damage) error { return d.active(2 + d.r.IntN(2)) },
	},
	{
		Name:  "table-not-signed",
		Group: "disk",
		Try:   TryStart,
		Modes: []string{"bios"},
		harm: func(d *damage) error {
			_, err := d.v.draft.WriteAt([]byte{0, byte(d.r.IntN(0xaa))}, 510)
			return err
		},
	},
	{Name: "file-system-errors", Group: "disk", Try: TryUpdate, harm: (*damage).tables},
	{Name: "disk-dying", Group: "disk", Try: TryUpdate, Beyond: true, harm: (*damage).dying},
	{Name: "primary-table-damaged", Group: "disk", Try: TryStart, Modes: []string{"uefi"}, harm: func(d *damage) error {
		junk := content("junk", fmt.Sprint(d.o.Seed), 2048)
		_, err := d.v.draft.WriteAt(junk, 512)
		return err
	}},

	{Name: "boot-code-damaged", Group: "boot", Try: TryStart, Modes: []string{"bios"}, harm: func(d *damage) error {
		_, err := d.v.draft.WriteAt(make([]byte, 200+d.r.IntN(200)), int64(d.r.IntN(40)))
		return err
	}},
	{Name: "boot-sector-damaged", Group: "boot", Try: TryStart, Modes: []string{"bios"}, harm: func(d *damage) error {
		_, err := d.v.draft.WriteAt(content("x", "y", 128), d.v.parts[0].Off+corbelfile.BootSectorAt+int64(d.r.IntN(200)))
		return err
	}},
	{Name: "loader-gone", Group: "boot", Try: TryStart, harm: func(d *damage) error {
		at := corbelfile.Loader(d.m.Plate.Firmware.Mode)
		if d.r.IntN(2) == 0 {
			raw, err := fs.ReadFile(d.v.boot, at)
			if err != nil {
				return err
			}
			return d.v.boot.WriteFile(at, raw[:len(raw)/2])
		}
		return d.v.boot.Remove(at)
	}},
	{Name: "boot-store-gone", Group: "boot", Try: TryStart, harm: func(d *damage) error {
		at := corbelfile.BootStore(d.m.Plate.Firmware.Mode)
		if d.r.IntN(2) == 0 {
			return d.v.boot.WriteFile(at, content("boot", "store", 60))
		}
		return d.v.boot.Remove(at)
	}},
	{Name: "boot-store-other-volume", Group: "boot", Try: TryStart, harm: func(d *damage) error {
		e := corbelfile.BootEntry{
			Volume: fmt.Sprintf("%04X-%04X", d.r.UintN(65536), d.r.UintN(65536)),
			Kernel: corbelfile.KernelPath,
			Mode:   "normal",
		}
		return d.v.boot.WriteFile(corbelfile.BootStore(d.m.Plate.Firmware.Mode), e.Bytes())
	}},
	{
		Name:  "kernel-gone",
		Group: "boot",
		Try:   TryStart,
		harm:  func(d *damage) error { return d.v.sys.Remove(corbelfile.KernelPath) },
	},
	{Name: "boot-order-wrong", Group: "boot", Try: TryStart, Modes: []string{"uefi"}, harm: func(d *damage) error {
		f := &d.m.Plate.Firmware
		f.Entries = append(f.Entries, corbelfile.StartEntry{ID: "0002", Title: "Second disk"})
		f.Order = []string{"0002", "0001"}
		return nil
	}},
	{Name: "medium-left-in", Group: "boot", Try: TryStart, Modes: []string{"uefi"}, harm: func(d *damage) error {
		f := &d.m.Plate.Firmware
		f.Entries = append(f.Entries, corbelfile.StartEntry{ID: "0009", Title: "Install medium"})
		f.Order = []string{"0009", "0001"}
		return d.medium(OfferMedium, nil)
	}},
	{Name: "firmware-variables-stale", Group: "boot", Try: TryStart, Modes: []string{"uefi"}, harm: func(d *damage) error {
		d.m.Plate.Firmware.Entries[0].Partition = randomGUID(d.r).String()
		return nil
	}},

	{Name: "update-stops-start", Group: "regressions", Try: TryStart, harm: func(d *damage) error {
		return d.regress(OfferUpdate, "corbel-display", corbelfile.Wants{Flags: []string{"vx4"}})
	}},
	{Name: "release-stops-start", Group: "regressions", Try: TryStart, harm: func(d *damage) error {
		return d.regress(OfferRelease, "corbel-kernel", corbelfile.Wants{Memory: 64 << 30})
	}},
	{Name: "program-stops-start", Group: "regressions", Try: TryStart, harm: func(d *damage) error {
		list, err := state[[]corbelfile.Program](d.v.sys, corbelfile.ProgramsPath)
		if err != nil {
			return err
		}
		list = append(list, corbelfile.Program{
			Name:      "deckhand",
			Version:   "1.1",
			Installed: d.o.Now.AddDate(0, 0, -1),
			Folder:    "programs/deckhand",
		})
		if err := putState(d.v.sys, corbelfile.ProgramsPath, list); err != nil {
			return err
		}
		if err := put(d.v.sys, "programs/deckhand/watch.bin", content("deckhand", "1.1", 2000)); err != nil {
			return err
		}
		all, err := state[[]corbelfile.Service](d.v.sys, corbelfile.ServicesPath)
		if err != nil {
			return err
		}
		all = append(all, corbelfile.Service{
			Name:    "deckhand-watch",
			Start:   corbelfile.StartAuto,
			File:    "programs/deckhand/watch.bin",
			AtStart: true,
			Program: "deckhand",
		})
		return putState(d.v.sys, corbelfile.ServicesPath, all)
	}},
}

func onPlate(f func(*corbelfile.Plate)) func(*damage) error {
	return func(d *damage) error {
		f(d.m.Plate)
		return nil
	}
}

func onOffer(try string, f func(*corbelfile.Offer)) func(*damage) error {
	return func(d *damage) error {
		list, err := state[[]corbelfile.Offer](d.v.sys, corbelfile.OffersPath)
		if err != nil {
			return err
		}
		for i := range list {
			if list[i].ID == offerOf[try] {
				f(&list[i])
			}
		}
		return putState(d.v.sys, corbelfile.OffersPath, list)
	}
}

func service(name string, f func(*corbelfile.Service)) func(*damage) error {
	return func(d *damage) error {
		list, err := state[[]corbelfile.Service](d.v.sys, corbelfile.ServicesPath)
		if err != nil {
			return err
		}
		for i := range list {
			if list[i].Name == name {
				f(&list[i])
			}
		}
		return putState(d.v.sys, corbelfile.ServicesPath, list)
	}
}

// offered makes sure that the machine is offered what is to be tried.
func (d *damage) offered(try string) error {
	list, err := state[[]corbelfile.Offer](d.v.sys, corbelfile.OffersPath)
	id := offerOf[try]
	if err != nil || id == "" || slices.ContainsFunc(list, func(o corbelfile.Offer) bool { return o.ID == id }) {
		return err
	}
	return putState(d.v.sys, corbelfile.OffersPath, append(list, d.o.Vendor.Offer(id)))
}

func (d *damage) cache(id string, raw []byte) error {
	if info, err := fs.Stat(d.v.sys, corbelfile.CacheFolder); err == nil && info.Mode()&0o200 == 0 { // by another fault
		if err := d.v.sys.SetReadOnly(corbelfile.CacheFolder, false); err != nil {
			return err
		}
		defer func() { _ = d.v.sys.SetReadOnly(corbelfile.CacheFolder, true) }() // it was just cleared
	}
	return put(d.v.sys, path.Join(corbelfile.CacheFolder, id+".pack"), raw)
}

// signed puts the update, signed with other dates, into the cache.
func (d *damage) signed(from, to time.Time) error {
	raw, err := d.o.Vendor.Resigned(OfferUpdate, from, to)
	if err != nil {
		return err
	}
	return d.cache(OfferUpdate, raw)
}

func (d *damage) tree(f func(*corbelfile.Tree)) error {
	t, err := settings(d.v.sys)
	if err != nil {
		return err
	}
	f(t)
	return d.v.sys.WriteFile(corbelfile.SettingsPath, t.Bytes())
}

func (d *damage) set(branch, name, value string) (err error) {
	failed := d.tree(func(t *corbelfile.Tree) { err = t.Set(branch, name, value) })
	if err == nil {
		err = failed
	}
	return err
}

func (d *damage) index(f func(*corbelfile.Index)) error {
	raw, err := fs.ReadFile(d.v.sys, corbelfile.IndexPath)
	if err != nil {
		return err
	}
	var x corbelfile.Index
	if err := corbelfile.Unseal(corbelfile.KindIndex, raw, &x); err != nil {
		return err
	}
	f(&x)
	return d.v.sys.WriteFile(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, x))
}

func (d *damage) manifests() []corbelfile.Manifest { return d.o.Vendor.pub[BuildBase].manifests }

func (d *damage) anyFile() (corbelfile.Manifest, corbelfile.File) {
	for {
		m := d.manifests()[d.r.IntN(len(d.manifests()))]
		if len(m.Files) > 0 && m.Name != corbelfile.BootComponent && m.Name != "corbel-base" {
			return m, m.Files[d.r.IntN(len(m.Files))]
		}
	}
}

// alter changes one byte of a file.
func (d *damage) alter(name string) error {
	raw, err := fs.ReadFile(d.v.sys, name)
	if err != nil {
		return err
	}
	raw[d.r.IntN(len(raw))] ^= byte(1 + d.r.IntN(255))
	return d.v.sys.WriteFile(name, raw)
}

// medium puts a medium into the drive.
func (d *damage) medium(id string, harm func([]byte)) error {
	raw := bytes.Clone(d.o.Vendor.raw[id])
	if harm != nil {
		harm(raw)
	}
	d.m.Plate.Medium = &corbelfile.Medium{File: "medium.pack", Modes: []string{"bios", "uefi"}}
	return os.WriteFile(filepath.Join(d.m.Folder, "medium.pack"), raw, 0o600)
}

// pending leaves work for the next start: good operations, and some on a
// component that is not in the store.
func (d *damage) pending(good, gone int, end, complete bool) error {
	var ops []corbelfile.Operation
	list := d.manifests()
	for len(ops) < good {
		m := list[d.r.IntN(len(list))]
		if len(m.Files) == 0 {
			continue
		}
		f := m.Files[d.r.IntN(len(m.Files))]
		ops = append(ops, corbelfile.Operation{
			Do:        "place",
			Component: m.Name,
			Version:   m.Version,
			Payload:   f.Payload,
			At:        f.Path,
		})
	}
	name := "corbel-ticket-" + []string{"scan", "print", "gate"}[d.r.IntN(3)]
	for range gone {
		at := d.r.IntN(len(ops))
		ops = slices.Insert(ops, at, corbelfile.Operation{
			Do:        "place",
			Component: name,
			Version:   "7.2.13",
			Payload:   corbelfile.Hash([]byte(fmt.Sprint(at))),
			At:        name + "/part0.bin",
		})
	}
	for i := range ops {
		ops[i].Number = i + 1
	}
	var buf bytes.Buffer
	if err := corbelfile.WriteWorklist(&buf, "U7213", ops); err != nil {
		return err
	}
	raw := buf.Bytes()
	if !end {
		raw = raw[:len(raw)*2/3]
	}
	if err := put(d.v.sys, corbelfile.WorklistPath, raw); err != nil {
		return err
	}
	return putState(d.v.sys, corbelfile.TransactionPath, corbelfile.Transaction{
		ID:       "U7213",
		Build:    BuildBase,
		Was:      BuildBase,
		Complete: complete,
	})
}

// active sets the active flag on one partition alone; 0 for none.
func (d *damage) active(number int) error {
	raw := make([]byte, 512)
	if _, err := d.v.draft.ReadAt(raw, 0); err != nil {
		return err
	}
	for i := range 4 {
		raw[446+16*i] = 0
		if i+1 == number {
			raw[446+16*i] = 0x80
		}
	}
	_, err := d.v.draft.WriteAt(raw, 0)
	return err
}

// tables makes the two copies of the system volume's table disagree, and loses
// a few clusters.
func (d *damage) tables() error {
	p := d.v.parts[1]
	g := d.v.sys.Geometry
	second := p.Off + (g.Reserved+g.TableSize)*g.Sector
	// far behind what is in use: entries that say "in use" and belong to nobody
	at := int64(g.Clusters-uint32(300+d.r.IntN(200))) * 4
	_, err := d.v.draft.WriteAt([]byte{0xff, 0xff, 0xff, 0x0f, 0xff, 0xff, 0xff, 0x0f}, second+at)
	return err
}

// dying makes sectors unreadable that a part of the system lies on.
func (d *damage) dying() error {
	m := d.manifests()[slices.IndexFunc(d.manifests(), func(m corbelfile.Manifest) bool {
		return m.Name == "corbel-fonts"
	})]
	data := d.o.Vendor.pub[BuildBase].payloads[m.Files[d.r.IntN(len(m.Files))].Payload]
	disk, err := os.ReadFile(d.m.Disk())
	if err != nil {
		return err
	}
	at := bytes.Index(disk, data[:512])
	if at < 0 {
		return fmt.Errorf("no payload of %s lies on the disk", m.Name)
	}
	d.m.Plate.Wear.Unreadable = []int64{int64(at / 512)}
	d.m.Plate.Wear.Reallocated = 200 + d.r.IntN(3000)
	return nil
}

// regress lets the machine take an offer, the day before, of which one component
// asks what the machine does not have. The attempt itself goes well: it ends
// with the pending work, and the component is first started after that.
func (d *damage) regress(id, name string, wants corbelfile.Wants) error {
	raw, offer, err := d.o.Vendor.wanting(id, name, wants, d.o.Now)
	if err != nil {
		return err
	}
	list, err := state[[]corbelfile.Offer](d.v.sys, corbelfile.OffersPath)
	if err != nil {
		return err
	}
	list = append(slices.DeleteFunc(list, func(o corbelfile.Offer) bool { return o.ID == id }), offer)
	if err := errors.Join(putState(d.v.sys, corbelfile.OffersPath, list), d.cache(id, raw)); err != nil {
		return err
	}
	r := d.m.run(d.ctx, d.v, Request{
		Offer: id,
		At:    d.o.Now.AddDate(0, 0, -1).Add(time.Duration(d.r.IntN(300)) * time.Minute),
	})
	if err := r.stages(); err != nil {
		return fmt.Errorf("take %s: %w", id, err)
	}
	return r.done()
}
