package inside

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
)

// A fatFolder is a FAT volume laid out as a folder, and written back.
type fatFolder struct {
	part   block.Device
	folder string
	was    map[string][]byte // content by name; nil for a folder
}

const largestFAT = 2 << 30 // bytes of files that are laid out

// layOut writes the files of a volume into a new folder.
func layOut(part block.Device, folder string) (*fatFolder, error) {
	volume, err := fat.Open(part)
	if err != nil {
		return nil, err
	}
	f := &fatFolder{part: part, folder: folder, was: map[string][]byte{}}
	if err := os.Mkdir(folder, 0o755); err != nil {
		return nil, err
	}
	total := int64(0)
	return f, fs.WalkDir(volume, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		to := filepath.Join(folder, name)
		if d.IsDir() {
			f.was[name] = nil
			return os.Mkdir(to, 0o755)
		}
		raw, err := fs.ReadFile(volume, name)
		if err != nil {
			return err
		}
		if total += int64(len(raw)); total > largestFAT {
			return fmt.Errorf("its files have more than %d bytes", largestFAT)
		}
		f.was[name] = append([]byte{}, raw...)
		return os.WriteFile(to, raw, 0o644)
	})
}

// writeBack brings what differs onto the volume.
func (f *fatFolder) writeBack() error {
	is, err := f.read()
	if err != nil {
		return err
	}
	var editor *fat.Editor
	edit := func(do func(*fat.Editor) error) error {
		if editor == nil {
			if editor, err = fat.Edit(f.part, time.Now()); err != nil {
				return err
			}
		}
		return do(editor)
	}
	for _, name := range slices.Backward(sorted(f.was)) { // what lies in a folder before the folder
		if now, ok := is[name]; ok && (now == nil) == (f.was[name] == nil) {
			continue
		}
		if err := edit(func(e *fat.Editor) error { return e.Remove(name) }); err != nil {
			return fmt.Errorf("remove %s: %w", name, err)
		}
	}
	for _, name := range sorted(is) {
		now := is[name]
		if was, ok := f.was[name]; ok && (now == nil) == (was == nil) && bytes.Equal(now, was) {
			continue
		}
		err := edit(func(e *fat.Editor) error {
			if now == nil {
				return e.Mkdir(name)
			}
			return e.WriteFile(name, now)
		})
		if err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	return nil
}

func (f *fatFolder) read() (map[string][]byte, error) {
	is := map[string][]byte{}
	root := os.DirFS(f.folder)
	err := fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || name == ".":
			return err
		case d.IsDir():
			is[name] = nil
			return nil
		case !d.Type().IsRegular():
			return errors.New(name + " cannot lie on a FAT volume")
		}
		raw, err := fs.ReadFile(root, name)
		if raw == nil {
			raw = []byte{}
		}
		is[name] = raw
		return err
	})
	return is, err
}

func sorted(m map[string][]byte) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
