package corbel

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"hash/fnv"
	"math/rand/v2"
	"slices"
	"strings"

	"diorthos/platform/corbelfile"
)

// The builds that the vendor has published.
const (
	BuildFirst   = 7205 // what machines are installed with
	BuildBase    = 7210 // what they have after their first update
	BuildNext    = 7215 // the update of the month
	BuildRelease = 8000 // the next release
)

// components of a release: name, what it needs, and how many files it has.
var components = []struct {
	name  string
	needs []string
	files int
}{
	{"corbel-base", nil, 2},
	{"corbel-boot", []string{"corbel-base"}, 0},
	{"corbel-kernel", []string{"corbel-base"}, 1},
	{"corbel-store", []string{"corbel-base"}, 2},
	{"corbel-net", []string{"corbel-base"}, 3},
	{"corbel-courier", []string{"corbel-net", "corbel-store"}, 3},
	{"corbel-ledger", []string{"corbel-base"}, 2},
	{"corbel-clock", []string{"corbel-net"}, 1},
	{"corbel-display", []string{"corbel-kernel"}, 3},
	{"corbel-audio", []string{"corbel-kernel"}, 2},
	{"corbel-input", []string{"corbel-kernel"}, 2},
	{"corbel-print", []string{"corbel-net", "corbel-ledger"}, 3},
	{"corbel-fonts", []string{"corbel-base"}, 4},
	{"corbel-shell", []string{"corbel-display", "corbel-fonts"}, 4},
	{"corbel-help", []string{"corbel-shell"}, 2},
	{"corbel-files", []string{"corbel-shell"}, 2},
	{"corbel-search", []string{"corbel-ledger", "corbel-files"}, 2},
	{"corbel-mail", []string{"corbel-net", "corbel-shell"}, 2},
	{"corbel-wireless", []string{"corbel-net"}, 2},
	{"corbel-scan", []string{"corbel-print"}, 2},
	{"corbel-camera", []string{"corbel-display"}, 2},
	{"corbel-access", []string{"corbel-shell"}, 2},
	{"corbel-remote", []string{"corbel-net", "corbel-shell"}, 2},
	{"corbel-backup", []string{"corbel-files"}, 2},
}

// updated are the components that the update of the month brings anew.
var updated = []string{"corbel-net", "corbel-courier", "corbel-print", "corbel-shell", "corbel-display"}

// FeatureComponent is one that machines do not have at first.
const (
	FeatureName      = "berth-plans"
	FeatureComponent = "corbel-berth-plans"
)

func versionAt(component string, build int) string {
	switch {
	case build >= BuildRelease:
		return "8.0.0"
	case build >= BuildNext && slices.Contains(updated, component):
		return "7.2.15"
	case build >= BuildBase && (component == "corbel-net" || component == "corbel-help"):
		return "7.2.10"
	}
	return "7.2.5"
}

// builtAt is the build with which a version came.
var builtAt = map[string]int{"7.2.5": BuildFirst, "7.2.10": BuildBase, "7.2.15": BuildNext, "8.0.0": BuildRelease}

// before is the version of a component that another takes the place of.
func before(component, version string) string {
	switch version {
	case "7.2.5":
		return ""
	case "7.2.10":
		return versionAt(component, BuildFirst)
	}
	return versionAt(component, BuildBase)
}

// content makes the bytes of a file; the same name and version give the same.
func content(name, version string, size int) []byte {
	h := fnv.New64a()
	_, _ = h.Write([]byte(name + " " + version))
	r := rand.New(rand.NewPCG(h.Sum64(), 1))
	out := make([]byte, size)
	for i := range out {
		out[i] = byte(r.UintN(256))
	}
	return out
}

// summed makes a file that can check itself: a magic, the CRC-32 of the rest,
// the rest. What is started (boot code, loader, kernel, services) is of this
// kind.
func summed(magic, name, version string, size int) []byte {
	body := content(name, version, size-len(magic)-4)
	out := binary.LittleEndian.AppendUint32([]byte(magic), crc32.ChecksumIEEE(body))
	return append(out, body...)
}

// runs reports whether a file that can check itself is whole.
func runs(magic string, raw []byte) bool {
	n := len(magic)
	return len(raw) > n+4 && string(raw[:n]) == magic &&
		binary.LittleEndian.Uint32(raw[n:]) == crc32.ChecksumIEEE(raw[n+4:])
}

// Magics of what is started.
const (
	magicCode    = "KSTN0"
	magicSector  = "KSTN1"
	magicLoader  = "KEYSTONE"
	magicKernel  = "CORBELKERNEL"
	magicProgram = "CORBELRUN"
)

// services as a release ships them.
var services = []corbelfile.Service{
	{Name: "line", Start: corbelfile.StartAuto, Running: true},
	{Name: "ledger", Start: corbelfile.StartAuto, Running: true, File: "ledger/part0.bin", AtStart: true},
	{
		Name:    "courier",
		Needs:   []string{"line", "ledger"},
		Start:   corbelfile.StartAuto,
		Running: true,
		File:    "courier/part0.bin",
	},
	{Name: "timekeeper", Needs: []string{"line"}, Start: corbelfile.StartDemand},
	{Name: "papers", Needs: []string{"ledger"}, Start: corbelfile.StartAuto, Running: true},
	{Name: "almanac", Needs: []string{"ledger"}, Start: corbelfile.StartDemand},
	{Name: "shell", Start: corbelfile.StartAuto, Running: true, File: "shell/part0.bin", AtStart: true},
	{Name: "remote", Needs: []string{"line"}, Start: corbelfile.StartOff},
}

// settings as a release ships them.
func shippedSettings() *corbelfile.Tree {
	branch := func(name string, values map[string]string) corbelfile.Branch {
		return corbelfile.Branch{Name: name, Owner: corbelfile.OwnerSystem, Grants: corbelfile.GrantsShipped, Values: values}
	}
	return &corbelfile.Tree{Branches: []corbelfile.Branch{
		branch(corbelfile.PolicyBranch, map[string]string{
			corbelfile.PolicyMetered: "refuse",
			corbelfile.PolicyDrivers: "take",
			corbelfile.PolicySource:  "vendor",
			corbelfile.PolicyFeature: "online",
		}),
		branch("courier/limits", map[string]string{"block": "64", "retries": "3"}),
		branch(corbelfile.StageBranch, map[string]string{"level": "0"}),
		branch("display/panel", map[string]string{"scale": "100", "theme": "harbour"}),
		branch("print/default", map[string]string{"tray": "upper"}),
		branch("shell/menu", map[string]string{"order": "name"}),
	}}
}

// A published release: its manifests and their payloads.
type published struct {
	build     int
	manifests []corbelfile.Manifest
	payloads  map[string][]byte
}

func (p *published) add(m *corbelfile.Manifest, path string, protected bool, data []byte) {
	hash := corbelfile.Hash(data)
	p.payloads[hash] = data
	m.Files = append(m.Files, corbelfile.File{Path: path, Payload: hash, Size: int64(len(data)), Protected: protected})
}

// publish makes all of a build. For another build the payloads of what has not
// changed are the same.
func publish(build int, architecture string) *published {
	p := &published{build: build, payloads: map[string][]byte{}}
	for _, c := range components {
		version := versionAt(c.name, build)
		m := corbelfile.Manifest{
			Name:         c.name,
			Version:      version,
			Build:        builtAt[version],
			Supersedes:   before(c.name, version),
			Architecture: architecture,
			Needs:        c.needs,
		}
		folder := strings.TrimPrefix(c.name, "corbel-")
		for i := range c.files {
			name := fmt.Sprintf("%s/part%d.bin", folder, i)
			data := content(name+architecture, version, 500+113*i+len(c.name)*40)
			if i == 0 {
				data = summed(magicProgram, name+architecture, version, 900+len(c.name)*30)
			}
			p.add(&m, name, i%2 == 0, data)
		}
		p.special(&m, version)
		p.manifests = append(p.manifests, m)
	}
	return p
}

// special adds the files of components that are more than a few parts.
func (p *published) special(m *corbelfile.Manifest, version string) {
	switch m.Name {
	case "corbel-base":
		list, err := json.MarshalIndent(services, "", " ")
		if err != nil {
			panic(err) // a constant
		}
		p.add(m, "services.shipped", true, append(list, '\n'))
		p.add(m, "settings.shipped", true, shippedSettings().Bytes())
	case corbelfile.BootComponent:
		p.add(m, corbelfile.LoaderFileUEFI, true, summed(magicLoader, "keystone.efi", version, 5000))
		p.add(m, corbelfile.LoaderFileBIOS, true, summed(magicLoader, "keystone.bin", version, 4000))
		p.add(m, corbelfile.BootCodeFile, true, summed(magicCode, "sector0", version, corbelfile.BootCodeSize))
		p.add(m, corbelfile.BootSectorFile, true, summed(magicSector, "partition", version, corbelfile.BootSectorSize))
	case "corbel-kernel":
		p.add(m, "kernel.bin", true, summed(magicKernel, "kernel"+m.Architecture, version, 9000))
	}
}

// featureManifest is the optional feature of a build.
func (p *published) feature(architecture string) corbelfile.Manifest {
	m := corbelfile.Manifest{
		Name:         FeatureComponent,
		Version:      fmt.Sprintf("7.2.%d", p.build%100),
		Build:        p.build,
		Architecture: architecture,
		Needs:        []string{"corbel-shell"},
	}
	p.add(&m, "berth-plans/plans.bin", false, content("berth-plans", m.Version, 1800))
	return m
}

// changedSince lists the components that differ from those of an older build.
func (p *published) changedSince(older *published) (list []corbelfile.Manifest) {
	for i, m := range p.manifests {
		if m.Version != older.manifests[i].Version {
			list = append(list, m)
		}
	}
	return list
}

// contents lists the payloads of manifests, each once.
func contents(
	list []corbelfile.Manifest, payloads map[string][]byte,
) (out []corbelfile.Content, have map[string][]byte) {
	have = map[string][]byte{}
	for _, m := range list {
		for _, f := range m.Files {
			if have[f.Payload] == nil {
				have[f.Payload] = payloads[f.Payload]
				out = append(out, corbelfile.Content{Payload: f.Payload, Size: len(payloads[f.Payload])})
			}
		}
	}
	return out, have
}
