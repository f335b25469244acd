package debian

import (
	"context"
	"os"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/system"
)

// onFolder is a system in a folder, of which no program is run.
type onFolder struct{ root *os.Root }

func (onFolder) Run(context.Context, system.Command) (system.Output, error) {
	return system.Output{}, os.ErrInvalid
}
func (f onFolder) Files() *os.Root                 { return f.root }
func (onFolder) Free(string) (int64, error)        { return 1 << 40, nil }
func (onFolder) Changed() ([]system.Change, error) { return nil, nil }
func (onFolder) Leave() error                      { return nil }

// restoreFrom restores from one source.
func (w *worker) restoreFrom(p bag.Package, want map[string]string, source any) (string, int, error) {
	return w.restore(p, want, []store.Source{source.(store.Source)})
}
