package debian

import (
	"context"
	"os"

	"diorthos/core/system"
)

// onFolder is a system in a folder, of which no program is run.
type onFolder struct{ root *os.Root }

func (onFolder) Run(context.Context, system.Command) (system.Output, error) {
	return system.Output{}, os.ErrInvalid
}
func (f onFolder) Files() *os.Root                 { return f.root }
func (onFolder) Changed() ([]system.Change, error) { return nil, nil }
func (onFolder) Leave() error                      { return nil }
