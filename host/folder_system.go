package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"diorthos/core/readfs"
	"diorthos/core/system"
)

// readTree is the files of a system that are only looked at.
type readTree struct{ files fs.FS }

func (t readTree) Files() fs.FS { return t.files }

func (readTree) Enter(context.Context) (system.Inside, error) {
	return nil, errors.New("it is only looked at")
}

// ReadFolder opens the system in a folder, to be looked at.
func ReadFolder(path string, adapters []system.Adapter, now time.Time) (system.System, func() error, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, nil, err
	}
	files := readfs.Within(root)
	a, found, ok := system.FindOn(adapters, files)
	if !ok {
		return nil, nil, errors.Join(fmt.Errorf("%s: no system that is known lies there", path), root.Close())
	}
	opener, ok := a.(system.FolderAdapter)
	if !ok {
		return nil, nil, errors.Join(fmt.Errorf("%s: %s is looked at on its disk alone", path, found.Name), root.Close())
	}
	s, err := opener.OpenFolder(readTree{files}, system.Options{Now: now})
	if err != nil {
		return nil, nil, errors.Join(err, root.Close())
	}
	return s, root.Close, nil
}
