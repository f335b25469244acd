package corbel

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// Adapter finds each idea of the core on Corbel.
type Adapter struct{}

// Family is what facts call this kind of system.
const Family = "corbel"

func read[T any](fsys fs.FS, name string) (v T, err error) {
	raw, err := fs.ReadFile(fsys, name)
	if err != nil {
		return v, err
	}
	return v, corbelfile.Decode(name, raw, &v)
}

// Family is what facts call this kind of system.
func (Adapter) Family() string { return Family }

// Find tells which system lies on a volume.
func (Adapter) Find(fsys fs.FS) (bag.System, bool) {
	r, err := read[corbelfile.Release](fsys, corbelfile.ReleasePath)
	if err != nil || r.Family != Family {
		// which release it is cannot be read; that it is one shows by its store
		return bag.System{
			Family: Family,
			Name:   "Corbel",
			Host:   r.Host,
		}, isSystem(fsys) && has(fsys, corbelfile.ManifestFolder)
	}
	return bag.System{Family: Family, Name: r.Title, Version: fmt.Sprintf("%s.%d", r.Version, r.Build), Host: r.Host}, true
}

// HoldsLoader tells the boot volume by what is on it.
func (Adapter) HoldsLoader(v fs.FS) bool { return isBoot(v, layout.Partition{}) }

// Mounts is empty: Corbel finds its volumes by what is on them.
func (Adapter) Mounts(fs.FS) map[string]string { return nil }

// Logs lists the three logs, with those that were put aside.
func (Adapter) Logs(fsys fs.FS) []string {
	names, _ := fs.Glob(fsys, path.Join(corbelfile.LogFolder, "*.log*")) // the pattern is right
	return names
}

// Catalogues is empty: Corbel logs in one language.
func (Adapter) Catalogues(fs.FS) []string { return nil }

// LogName is a log's name in a bag.
func (Adapter) LogName(name string) string {
	return path.Join("logs", strings.TrimPrefix(name, corbelfile.LogFolder+"/"))
}

// Inventory lists the components as packages.
func (a Adapter) Inventory(fsys fs.FS) *bag.Installed {
	sys, ok := a.Find(fsys)
	if !ok {
		return nil
	}
	r, _ := read[corbelfile.Release](fsys, corbelfile.ReleasePath) // Find has read it
	in := &bag.Installed{
		Family:       Family,
		Name:         sys.Name,
		Version:      sys.Version,
		Architecture: r.Architecture,
		Packages:     []bag.Package{},
		Sources:      []bag.Source{},
	}
	var x corbelfile.Index
	if raw, err := fs.ReadFile(fsys, corbelfile.IndexPath); err == nil &&
		corbelfile.Unseal(corbelfile.KindIndex, raw, &x) == nil {
		for _, c := range x.Components {
			in.Packages = append(in.Packages, bag.Package{
				Name:         c.Name,
				Version:      c.Version,
				Architecture: r.Architecture,
				State:        "installed",
			})
		}
	}
	return in
}

// RestartReasons says that a transaction waits for the next start.
func (Adapter) RestartReasons(fsys fs.FS, _ string) []bag.RestartReason {
	t, err := read[corbelfile.Transaction](fsys, corbelfile.TransactionPath)
	if err != nil || !t.Complete {
		return nil
	}
	return []bag.RestartReason{{
		By:   corbelfile.TransactionPath,
		Text: fmt.Sprintf("transaction %s is to be finished at the next start", t.ID),
	}}
}
