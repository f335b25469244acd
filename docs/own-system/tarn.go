// Package tarn is the worked example of docs/own-system.md: an adapter for a
// made-up system that keeps its release in one file and logs in one more.
package tarn

import (
	"bufio"
	"bytes"
	"io/fs"
	"path"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/system"
)

// Adapter finds Tarn on a volume. What Tarn does not have, or nobody has written
// yet, it takes from system.OnlyRead.
type Adapter struct{ system.OnlyRead }

// Family is what facts call this kind of system.
func (Adapter) Family() string { return "tarn" }

// Find tells which system lies on a volume: by its content, never by its
// place.
func (Adapter) Find(fsys fs.FS) (bag.System, bool) {
	r := release(fsys)
	if r["system"] != "tarn" {
		return bag.System{}, false
	}
	return bag.System{Family: "tarn", Name: "Tarn " + r["version"], Version: r["version"], Host: r["host"]}, true
}

// Logs lists what goes into a bag.
func (Adapter) Logs(fsys fs.FS) []string {
	names, _ := fs.Glob(fsys, "tarn/log/*.log") // the pattern is right
	return names
}

// LogName is a log's name in the bag.
func (Adapter) LogName(name string) string { return path.Join("logs", path.Base(name)) }

// Inventory is what is installed. Its architecture and version are what
// releases are held against.
func (a Adapter) Inventory(fsys fs.FS) *bag.Installed {
	sys, ok := a.Find(fsys)
	if !ok {
		return nil
	}
	return &bag.Installed{
		Family:       "tarn",
		Name:         sys.Name,
		Version:      sys.Version,
		Architecture: release(fsys)["architecture"],
		Packages:     []bag.Package{},
		Sources:      []bag.Source{},
	}
}

// RestartReasons says why a restart is owed.
func (Adapter) RestartReasons(fsys fs.FS, _ string) []bag.RestartReason {
	if _, err := fs.Stat(fsys, "tarn/restart"); err != nil {
		return nil
	}
	return []bag.RestartReason{{By: "tarn/restart", Text: "the file is there"}}
}

// release reads "name: value" lines.
func release(fsys fs.FS) map[string]string {
	m := map[string]string{}
	raw, err := fs.ReadFile(fsys, "tarn/release")
	if err != nil {
		return m
	}
	for lines := bufio.NewScanner(bytes.NewReader(raw)); lines.Scan(); {
		if name, value, ok := strings.Cut(lines.Text(), ": "); ok {
			m[name] = value
		}
	}
	return m
}
