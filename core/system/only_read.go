package system

import (
	"io/fs"

	"diorthos/core/bag"
	"diorthos/core/block"
)

// OnlyRead is for adapters to embed whose systems are read and not changed. It
// has what such an adapter need not say: no mounts, no loader of its own, logs in
// one language, nothing to survey.
type OnlyRead struct{}

// Mounts is empty: the system finds its volumes by itself.
func (OnlyRead) Mounts(fs.FS) map[string]string { return nil }

// HoldsLoader is never said.
func (OnlyRead) HoldsLoader(fs.FS) bool { return false }

// Catalogues is empty: logs are in one language.
func (OnlyRead) Catalogues(fs.FS) []string { return nil }

// Survey adds nothing: the parts are not measured.
func (OnlyRead) Survey(Ground, *bag.Facts) {}

// Open says that the system is only read.
func (OnlyRead) Open(block.Device, int, Options) (System, error) { return nil, ErrOnlyRead }

// Lacks says so of every ability.
func (OnlyRead) Lacks() map[Ability]string {
	m := map[Ability]string{}
	for _, a := range Abilities() {
		m[a] = ErrOnlyRead.Error()
	}
	return m
}
