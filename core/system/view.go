package system

import (
	"io/fs"

	"diorthos/core/bag"
)

// A divided volume keeps several trees of files, as Btrfs does with its subvolumes.
type divided interface {
	Default() string      // the one that is mounted where none is named; "." for all
	Subvolumes() []string // paths, from the top of the volume
}

// An aging volume keeps what it has read: one that was changed meanwhile has to be read anew.
type aging interface{ Fresh() (fs.FS, error) }

// A View is the files of a volume: all of them, as a loader sees them, and those that a system on it sees as its own.
type View struct {
	top   fs.FS
	sub   string // the subvolume whose files a system sees; "." where it sees all
	still bool   // nobody changes it meanwhile
}

// viewOf looks for the subvolume that a system lies in: the one that is mounted by itself, else the first that holds
// one.
func viewOf(adapters []Adapter, volume fs.FS) *View {
	v := &View{top: volume, sub: "."}
	d, ok := volume.(divided)
	if !ok {
		return v
	}
	v.sub = d.Default()
	if _, _, ok := FindOn(adapters, v.Files()); ok {
		return v
	}
	for _, name := range d.Subvolumes() {
		other := &View{top: volume, sub: name}
		if _, _, ok := FindOn(adapters, other.Files()); ok {
			return other
		}
	}
	return v
}

// hold takes the volume as one that nobody changes meanwhile: what was read of it is kept.
func (v *View) hold() *View {
	if k, ok := v.top.(interface{ KeepFolders() }); ok {
		k.KeepFolders()
	}
	v.still = true
	return v
}

// Top is the files of the whole volume, as they are now.
func (v *View) Top() fs.FS {
	if v == nil {
		return nil
	}
	a, ok := v.top.(aging)
	if !ok || v.still {
		return v.top
	}
	fresh, err := a.Fresh()
	if err != nil {
		return nil
	}
	v.top = fresh
	return fresh
}

// Files are those that a system on the volume sees, as they are now; nil for none.
func (v *View) Files() fs.FS {
	top := v.Top()
	if top == nil || v.sub == "." {
		return top
	}
	sub, err := fs.Sub(top, v.sub)
	if err != nil {
		return nil
	}
	return sub
}

// Sub is the subvolume whose files a system sees, by its path; empty where it sees all.
func (v *View) Sub() string {
	if v == nil || v.sub == "." {
		return ""
	}
	return v.sub
}

// Others are the subvolumes beside it that hold no system, each with its files; snapshots are those that do.
func (v *View) Others(adapters []Adapter) (others map[string]fs.FS, snapshots []string) {
	d, ok := v.Top().(divided)
	if !ok {
		return nil, nil
	}
	others = map[string]fs.FS{}
	for _, name := range d.Subvolumes() {
		files := (&View{top: v.top, sub: name}).Files()
		switch _, _, holds := FindOn(adapters, files); {
		case name == v.sub || files == nil:
		case holds:
			snapshots = append(snapshots, name)
		default:
			others[name] = files
		}
	}
	return others, snapshots
}

// FindOn finds the adapter that knows the system on a volume.
func FindOn(adapters []Adapter, volume fs.FS) (Adapter, bag.System, bool) {
	if volume == nil {
		return nil, bag.System{}, false
	}
	for _, a := range adapters {
		if s, ok := a.Find(volume); ok {
			return a, s, true
		}
	}
	return nil, bag.System{}, false
}
