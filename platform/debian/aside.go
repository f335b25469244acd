package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"diorthos/core/system"
	"diorthos/core/upkeep"
)

// MovedAside lists the files that were moved aside, each by the time when and by where it was.
func (n *inner) MovedAside() (list []upkeep.Aside, err error) {
	err = fs.WalkDir(n.fsys, asideFolder, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return fs.SkipAll // nothing was, ever
		}
		if err != nil || d.IsDir() {
			return err
		}
		entry := strings.TrimPrefix(name, asideFolder+"/")
		if _, from, ok := strings.Cut(entry, "/"); ok {
			info, err := d.Info()
			if err != nil {
				return err
			}
			list = append(list, upkeep.Aside{Name: entry, From: from, Size: info.Size()})
		}
		return nil
	})
	return list, err
}

// PutBack moves a file to where it was. What stands there now is moved aside in its turn.
func (n *inner) PutBack(name string) (to, overwrote string, err error) {
	_, to, ok := strings.Cut(name, "/")
	if !ok || !fs.ValidPath(name) {
		return "", "", fmt.Errorf("%q: no file lies aside under this name", name)
	}
	// What is put back is one file: there is nothing to be waited for that could be stopped.
	err = n.within(context.Background(), func(in system.Inside) error {
		files, from := in.Files(), path.Join(asideFolder, name)
		if _, err := files.Lstat(from); err != nil {
			return fmt.Errorf("%q: no file lies aside under this name", name)
		}
		if _, err := files.Lstat(to); err == nil {
			if overwrote, err = n.moveAside(files, to); err != nil {
				return err
			}
		}
		return errors.Join(files.MkdirAll(path.Dir(to), 0o755), files.Rename(from, to))
	})
	return to, overwrote, err
}

// FreeAside takes a file off the volume that was moved aside, and the folders that are empty then.
func (n *inner) FreeAside(name string) error {
	if _, _, ok := strings.Cut(name, "/"); !ok || !fs.ValidPath(name) {
		return fmt.Errorf("%q: no file lies aside under this name", name)
	}
	return n.within(context.Background(), func(in system.Inside) error {
		files, at := in.Files(), path.Join(asideFolder, name)
		if err := files.Remove(at); err != nil {
			return fmt.Errorf("%q lies aside no more: %w", name, err)
		}
		for dir := path.Dir(at); dir != asideFolder; dir = path.Dir(dir) {
			if files.Remove(dir) != nil {
				break // others lie in it
			}
		}
		return nil
	})
}
