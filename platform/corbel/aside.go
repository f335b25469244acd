package corbel

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/platform/corbelfile"
)

// Lacks says what the stand-in has not.
func (Adapter) Lacks() map[system.Ability]string {
	return map[system.Ability]string{
		system.HasReferences:   "its boot store names the one volume, and is put right as a whole",
		system.HasPackageTools: "pending work is cut or reverted as a list; it has no tool of its own for it",
		system.HasLists:        "what is offered comes from the vendor's catalogue, which the update client fetches itself",
		system.HasPayloads:     "its component store holds every file, and is verified and repaired as one",
		system.HasForesight: "its setup engine runs on the machine alone: an update is judged by its needs and " +
			"by the room",
		system.HasBootTools: "its loader, boot store and kernel are put back as components, by their hashes",
		system.HasPackages:  "what is offered comes from the vendor's catalogue, with what it asks of a machine",
	}
}

// FindGone finds in a worklist what refers to components without a manifest.
func (Adapter) FindGone(manifests fs.FS) upkeep.Finder {
	return corbelfile.FindOperations(Missing(manifests))
}

// MoveAside moves a file or folder of the system volume to a place under a
// dated name, and says where. Where it was is kept beside it.
func (s *System) MoveAside(name string) (string, error) {
	list, err := s.MovedAside()
	if err != nil {
		return "", err
	}
	stamp := s.now.UTC().Format("20060102-150405")
	entry := upkeep.Aside{Name: path.Join(stamp, path.Base(name)), From: name}
	for n := 2; has(s.sys, path.Join(corbelfile.AsideFolder, entry.Name)); n++ { // two of one name within a second
		entry.Name = path.Join(fmt.Sprintf("%s-%d", stamp, n), path.Base(name))
	}
	if entry.Digest, err = digestOf(s.sys, name); err != nil {
		return "", err
	}
	to := path.Join(corbelfile.AsideFolder, entry.Name)
	if err := s.edit.Mkdir(path.Dir(to)); err != nil {
		return "", err
	}
	if err := s.edit.Rename(name, to); err != nil {
		return "", err
	}
	return to, s.put(corbelfile.AsideIndex, append(list, entry))
}

// MovedAside lists what was moved aside and is still there.
func (s *System) MovedAside() ([]upkeep.Aside, error) {
	list, err := read[[]upkeep.Aside](s.sys, corbelfile.AsideIndex)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(a upkeep.Aside) bool {
		return !has(s.sys, path.Join(corbelfile.AsideFolder, a.Name))
	})
	for i := range list {
		list[i].Size = 0 // as it is now
		err = errors.Join(err, fs.WalkDir(s.sys, path.Join(corbelfile.AsideFolder, list[i].Name),
			func(_ string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				info, err := d.Info()
				if err == nil {
					list[i].Size += info.Size()
				}
				return err
			}))
	}
	return list, err
}

// FreeAside takes something off the volume that was moved aside, and the folder of its time once nothing else is in it.
func (s *System) FreeAside(name string) error {
	list, err := s.MovedAside()
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(a upkeep.Aside) bool { return a.Name == name }) {
		return fmt.Errorf("corbel: nothing called %q lies aside", name)
	}
	at := path.Join(corbelfile.AsideFolder, name)
	var below []string
	if err := fs.WalkDir(s.sys, at, func(name string, _ fs.DirEntry, err error) error {
		below = append(below, name)
		return err
	}); err != nil {
		return err
	}
	for _, name := range slices.Backward(below) { // what is in a folder before the folder
		if err := s.edit.Remove(name); err != nil {
			return err
		}
	}
	if rest, err := fs.ReadDir(s.sys, path.Dir(at)); err == nil && len(rest) == 0 {
		if err := s.edit.Remove(path.Dir(at)); err != nil {
			return err
		}
	}
	return s.put(corbelfile.AsideIndex, slices.DeleteFunc(list, func(a upkeep.Aside) bool { return a.Name == name }))
}

// PutBack moves something back that was moved aside, if it is still as it was.
// What stands in its place now is moved aside in its turn.
func (s *System) PutBack(name string) (to, overwrote string, err error) {
	list, err := s.MovedAside()
	if err != nil {
		return "", "", err
	}
	i := slices.IndexFunc(list, func(a upkeep.Aside) bool { return a.Name == name })
	if i < 0 {
		var names []string
		for _, a := range list {
			names = append(names, a.Name)
		}
		return "", "", fmt.Errorf("corbel: nothing called %q lies aside: there are %v", name, names)
	}
	entry := list[i]
	from := path.Join(corbelfile.AsideFolder, entry.Name)
	now, err := digestOf(s.sys, from)
	if err != nil {
		return "", "", err
	}
	if now != entry.Digest {
		return "", "", fmt.Errorf("corbel: %s is not as it was when it was moved aside", from)
	}
	if has(s.sys, entry.From) {
		if overwrote, err = s.MoveAside(entry.From); err != nil {
			return "", "", err
		}
		if list, err = s.MovedAside(); err != nil {
			return "", "", err
		}
	}
	if err := s.edit.Rename(from, entry.From); err != nil {
		return "", "", err
	}
	list = slices.DeleteFunc(list, func(a upkeep.Aside) bool { return a.Name == name })
	return entry.From, overwrote, s.put(corbelfile.AsideIndex, list)
}

// digestOf is over the names and contents of a file, or of all in a folder.
func digestOf(fsys fs.FS, root string) (string, error) {
	sum := sha256.New()
	err := fs.WalkDir(fsys, root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		below := name[len(root):]
		if d.IsDir() {
			_, _ = fmt.Fprintf(sum, "folder %q\n", below)
			return nil
		}
		raw, err := fs.ReadFile(fsys, name)
		_, _ = fmt.Fprintf(sum, "file %q %d\n", below, len(raw))
		_, _ = sum.Write(raw)
		return err
	})
	return hex.EncodeToString(sum.Sum(nil)), err
}
