package corbel

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// Options say what machine to build.
type Options struct {
	Seed   uint64
	Mode   string // uefi or bios
	Name   string
	Site   string
	Model  string
	Now    time.Time // the machine was installed a while before
	Vendor *Vendor
	Link   Link
}

// Sizes of the disk and of its partitions, in bytes.
const (
	mib        = int64(1) << 20
	diskSize   = 136 * mib
	bootSize   = 34 * mib
	systemSize = 44 * mib
	plansSize  = 8 * mib
)

// Build makes a machine in folder: installed with the first build, and brought
// to the second by an update, so that it has a history and logs.
func Build(ctx context.Context, folder string, o Options) (m *Machine, err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	r := rand.New(rand.NewPCG(o.Seed, 0xc0))
	m = &Machine{Folder: folder, Plate: plate(o, r)}
	f, err := os.OpenFile(m.Disk(), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("build machine: %w", err)
	}
	if err := errors.Join(f.Truncate(diskSize), f.Close()); err != nil {
		return nil, err
	}
	if err := m.partition(r); err != nil {
		return nil, err
	}
	installed := o.Now.AddDate(0, -2, -r.IntN(20))
	first := o.Vendor.pub[BuildFirst]
	if err := m.change(installed, func(v *volumes) error { return m.install(v, first, o, r, installed) }); err != nil {
		return nil, fmt.Errorf("build machine: %w", err)
	}
	if err := m.SavePlate(); err != nil {
		return nil, err
	}
	out, err := m.Attempt(ctx, Request{Offer: OfferFirst, At: o.Now.AddDate(0, -1, -r.IntN(5)), Link: o.Link})
	if err != nil {
		return nil, err
	}
	if !out.OK {
		return nil, fmt.Errorf("build machine: its first update failed: %s", out.Text)
	}
	offers := []corbelfile.Offer{o.Vendor.Offer(OfferUpdate)}
	return m, m.change(o.Now, func(v *volumes) error { return putState(v.sys, corbelfile.OffersPath, offers) })
}

func plate(o Options, r *rand.Rand) *corbelfile.Plate {
	model := o.Model
	if model == "" {
		model = []string{"Havnar D4 desktop", "Havnar K1 kiosk", "Havnar B2 bridge computer", "Havnar L3 laptop"}[r.IntN(4)]
	}
	return &corbelfile.Plate{
		Serial:       fmt.Sprintf("SF%08X", r.Uint32()),
		Name:         o.Name,
		Site:         o.Site,
		Model:        model,
		Architecture: architecture,
		Memory:       int64(8+8*r.IntN(2)) << 30,
		Processor:    "Harrier 4",
		Processors:   4 + 4*r.IntN(2),
		Flags:        []string{"aes", "vx1", "vx2"},
		Width:        1920,
		Height:       1080,
		Firmware:     corbelfile.Firmware{Mode: o.Mode},
		Clock:        corbelfile.PlateClock{Offset: int64(r.IntN(3)), Zone: 60},
		Network:      corbelfile.PlateNetwork{Up: true, TimeSync: true},
		Devices:      []corbelfile.Device{{Name: "disk0", Kind: "disk", Bus: "nvme", Size: diskSize}},
	}
}

func randomGUID(r *rand.Rand) (g layout.GUID) {
	binary.LittleEndian.PutUint64(g[:], r.Uint64())
	binary.LittleEndian.PutUint64(g[8:], r.Uint64())
	return g
}

// partition writes the table and makes the volumes.
func (m *Machine) partition(r *rand.Rand) (err error) {
	dev, err := block.OpenImage(m.Disk(), 512, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	var spans []layout.Span
	at := mib
	for _, size := range []int64{bootSize, systemSize, plansSize} {
		spans = append(spans, layout.Span{First: uint64(at / 512), Last: uint64((at+size)/512 - 1)})
		at += size
	}
	var writes []block.Write
	if m.Plate.Firmware.Mode == "uefi" {
		types := []layout.GUID{layout.TypeESP, layout.TypeBasicData, layout.TypeBasicData}
		plan := layout.Plan{DiskGUID: randomGUID(r)}
		for i, name := range []string{"keystone", "corbel", "plans"} {
			plan.Partitions = append(plan.Partitions, layout.Entry{
				Type: types[i],
				ID:   randomGUID(r),
				Span: spans[i],
				Name: name,
			})
		}
		if writes, err = layout.Create(diskSize, 512, plan); err != nil {
			return err
		}
		m.Plate.Firmware.Entries = []corbelfile.StartEntry{{
			ID:        "0001",
			Title:     "Corbel",
			Partition: plan.Partitions[0].ID.String(),
			Path:      corbelfile.LoaderUEFI,
		}}
		m.Plate.Firmware.Order = []string{"0001"}
	} else {
		writes = []block.Write{{Data: classicTable(spans, r.Uint32())}}
		m.Plate.Firmware.Entries = []corbelfile.StartEntry{{ID: "disk0", Title: "Internal disk"}}
		m.Plate.Firmware.Order = []string{"disk0"}
	}
	for _, w := range writes {
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	for i, o := range []fat.Options{{Label: labelBoot}, {Label: labelSystem}, {Label: labelPlans, Bits: 16}} {
		o.Serial = r.Uint32()
		if err := fat.Format(
			block.NewWriteRange(dev, int64(spans[i].First)*512, int64(spans[i].Sectors())*512), int64(spans[i].Sectors())*512,
			o,
		); err != nil {
			return err
		}
	}
	return nil
}

// classicTable is sector 0 of an MBR disk with three FAT partitions, the first
// active.
func classicTable(spans []layout.Span, id uint32) []byte {
	raw := make([]byte, 512)
	binary.LittleEndian.PutUint32(raw[440:], id)
	for i, s := range spans {
		e := raw[446+16*i:]
		if i == 0 {
			e[0] = 0x80
		}
		e[4] = []byte{0x0c, 0x0c, 0x0e}[i]
		copy(e[1:4], []byte{0xfe, 0xff, 0xff})
		copy(e[5:8], []byte{0xfe, 0xff, 0xff})
		binary.LittleEndian.PutUint32(e[8:], uint32(s.First))
		binary.LittleEndian.PutUint32(e[12:], uint32(s.Sectors()))
	}
	raw[510], raw[511] = 0x55, 0xaa
	return raw
}

// install lays a release out on empty volumes.
func (m *Machine) install(v *volumes, p *published, o Options, r *rand.Rand, at time.Time) error {
	if err := layRelease(v.sys, p, p.manifests); err != nil {
		return err
	}
	host := m.Plate.Name
	files := []struct {
		name string
		v    any
	}{
		{corbelfile.ReleasePath, corbelfile.Release{
			Family:       "corbel",
			Title:        "Corbel 7.2",
			Version:      "7.2",
			Build:        p.build,
			Architecture: architecture,
			Host:         host,
		}},
		{corbelfile.ServicesPath, services},
		{corbelfile.HistoryPath, []corbelfile.History{{
			When:    at,
			Kind:    "install",
			ID:      "M7205",
			Title:   "Corbel 7.2",
			Build:   p.build,
			Changed: []corbelfile.Component{},
		}}},
		{corbelfile.FeaturesPath, []corbelfile.Feature{{Name: FeatureName, Component: FeatureComponent}}},
		{corbelfile.DriversPath, []corbelfile.Driver{
			{Device: "berth-printer", Version: "3.2"},
			{Device: "panel", Version: "7.1"},
		}},
		{corbelfile.ProgramsPath, []corbelfile.Program{{
			Name:      "skerrow-crew",
			Version:   "2.6",
			Installed: at.AddDate(0, 0, 1),
			Folder:    "programs/skerrow-crew",
		}}},
		{corbelfile.OffersPath, []corbelfile.Offer{o.Vendor.Offer(OfferFirst)}},
	}
	for _, f := range files {
		if err := putState(v.sys, f.name, f.v); err != nil {
			return err
		}
	}
	for name, data := range map[string][]byte{
		corbelfile.SettingsPath:          shippedSettings().Bytes(),
		"programs/skerrow-crew/crew.bin": summed(magicProgram, "skerrow-crew", "2.6", 3000),
	} {
		if err := put(v.sys, name, data); err != nil {
			return err
		}
	}
	if err := v.sys.Mkdir(corbelfile.CacheFolder); err != nil {
		return err
	}
	if err := m.users(v, r); err != nil {
		return err
	}
	return m.layBoot(v, p)
}

// layRelease writes store, index and projected files.
func layRelease(sys *fat.Editor, p *published, list []corbelfile.Manifest) error {
	index := corbelfile.Index{Build: p.build}
	for _, folder := range []string{corbelfile.ManifestFolder, corbelfile.PayloadFolder} {
		if err := sys.Mkdir(folder); err != nil {
			return err
		}
	}
	for _, c := range list {
		raw := corbelfile.Seal(corbelfile.KindManifest, c)
		index.Components = append(index.Components, corbelfile.Component{
			Name:     c.Name,
			Version:  c.Version,
			Manifest: corbelfile.Hash(raw),
		})
		if err := sys.WriteFile(manifestPath(c.Name, c.Version), raw); err != nil {
			return err
		}
		for _, f := range c.Files {
			if err := sys.WriteFile(payloadPath(f.Payload), p.payloads[f.Payload]); err != nil {
				return err
			}
			if err := put(sys, filepath.Join(corbelfile.SystemFolder, f.Path), p.payloads[f.Payload]); err != nil {
				return err
			}
		}
	}
	return put(sys, corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, index))
}

func manifestPath(name, version string) string {
	return filepath.Join(corbelfile.ManifestFolder, name+"-"+version)
}

func payloadPath(hash string) string { return filepath.Join(corbelfile.PayloadFolder, hash) }

// users writes the files of one or two people, and plans on a volume of their
// own.
func (m *Machine) users(v *volumes, r *rand.Rand) error {
	for _, who := range []string{"ines", "magnus"}[:1+r.IntN(2)] {
		for i := range 3 + r.IntN(4) {
			name := fmt.Sprintf("%s/%s/Documents/Crossing plan %d.txt", corbelfile.UsersFolder, who, i+1)
			if err := put(v.sys, name, content(m.Plate.Serial+name, who, 200+r.IntN(9000))); err != nil {
				return err
			}
		}
	}
	for _, p := range v.parts {
		e, err := fat.Edit(block.NewWriteRange(v.draft, p.Off, p.Length), time.Time{})
		if err != nil || e.Label != labelPlans {
			continue
		}
		for i := range 2 {
			if err := e.WriteFile(fmt.Sprintf("Berths %d.txt", i+1), content(m.Plate.Serial, fmt.Sprint(i), 4000)); err != nil {
				return err
			}
		}
	}
	return nil
}

// layBoot writes the loader, its boot store, the early image and, for the
// older firmware, the code in sector 0 and in the boot sector.
func (m *Machine) layBoot(v *volumes, p *published) error {
	mode := m.Plate.Firmware.Mode
	loader := map[string]string{"uefi": corbelfile.LoaderFileUEFI, "bios": corbelfile.LoaderFileBIOS}[mode]
	boot := map[string][]byte{}
	for _, c := range p.manifests {
		if c.Name == corbelfile.BootComponent {
			for _, f := range c.Files {
				boot[f.Path] = p.payloads[f.Payload]
			}
		}
	}
	serial, err := m.systemSerial(v)
	if err != nil {
		return err
	}
	entry := corbelfile.BootEntry{Volume: serial, Kernel: corbelfile.KernelPath, Mode: "normal"}
	for name, data := range map[string][]byte{
		corbelfile.Loader(mode):    boot[loader],
		corbelfile.BootStore(mode): entry.Bytes(),
		earlyPath(mode, p.build):   early(p.build),
	} {
		if err := put(v.boot, name, data); err != nil {
			return err
		}
	}
	if mode == "uefi" {
		return nil
	}
	if _, err := v.draft.WriteAt(boot[corbelfile.BootCodeFile], 0); err != nil {
		return err
	}
	for _, p := range v.parts {
		if p.Active {
			_, err = v.draft.WriteAt(boot[corbelfile.BootSectorFile], p.Off+corbelfile.BootSectorAt)
		}
	}
	return err
}

func earlyPath(mode string, build int) string {
	return filepath.Join(corbelfile.Early(mode), fmt.Sprintf("early-%d.img", build))
}

func early(build int) []byte { return content("early", fmt.Sprint(build), 40000) }

// systemSerial is the serial of the system volume's file system, as the boot
// store names it.
func (m *Machine) systemSerial(v *volumes) (string, error) {
	for _, p := range v.parts {
		c := layout.Recognise(block.NewReadRange(v.draft, p.Off, p.Length))
		if c.Label == labelSystem {
			return c.UUID, nil
		}
	}
	return "", fmt.Errorf("machine %s has no volume %s", m.Plate.Name, labelSystem)
}
