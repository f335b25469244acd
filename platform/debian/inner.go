package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// An inner is a system whose files are changed from inside it: by its own tools, or by us where
// only the kernel can write.
type inner struct {
	dev    block.Device
	number int
	enter  system.Enter
	tree   system.Tree // the files of a folder; nil where they lie on a disk
	keys   *volumes.Keys
	now    time.Time
	ground system.Ground
	fsys   fs.FS // as it was found; what was changed inside is read by files
}

// within enters the system, and leaves it whatever happens: what f has changed is in the draft.
func (n *inner) within(ctx context.Context, f func(in system.Inside) error) (err error) {
	var in system.Inside
	switch {
	case n.tree != nil:
		in, err = n.tree.Enter(ctx)
	case n.enter != nil:
		in, err = n.enter(ctx, n.dev, n.keys, n.ground.Root(), n.mounts())
	default:
		err = errNotInside
	}
	if err != nil {
		return err
	}
	err = f(in)
	if e := in.Leave(); e != nil {
		return errors.Join(err, e)
	}
	n.fsys = n.files()
	return err
}

// mounts are the volumes of this disk that the system mounts for itself.
func (n *inner) mounts() (list []system.Mount) {
	for _, m := range mountsIn(readText(n.fsys, fstab)) {
		at := strings.TrimPrefix(path.Clean(m.point), "/")
		number := volumeNamed(n.ground, m.device)
		kind := n.ground.Contents[number].Kind
		sub := strings.Trim(m.option("subvol"), "/")
		own := number == n.number && (sub == "" || sub == n.ground.Root().Subvolume)
		if m.unmet(n.ground) != "" { // the system does not get it either
			continue
		}
		if at == "" || number == 0 || own || kind == "swap" || kind == "" || !strings.HasPrefix(m.point, "/") {
			continue
		}
		if !slices.ContainsFunc(list, func(o system.Mount) bool {
			return o.Path == at || o.Volume == number && o.Subvolume == sub
		}) {
			list = append(list, system.Mount{Volume: number, Path: at, Subvolume: sub})
		}
	}
	if m, ok := n.espMount(list); ok {
		list = append(list, m)
	}
	return list
}

// files reads the system's volume as it stands in the draft.
func (n *inner) files() fs.FS {
	if n.tree != nil {
		return n.tree.Files()
	}
	g := system.GroundOf(n.dev, n.ground.Table, n.keys, n.number, Adapter{})
	root := g.Volume(n.number)
	if root == nil {
		return n.fsys
	}
	return g.Whole(root, Adapter{}.Mounts(root))
}

// asideFolder is where things are moved that are in the way: no tool looks for anything there.
const asideFolder = "var/lib/diorthos/aside"

// asideName makes room for something that is moved aside, and returns its new name: by the time
// and by where it was.
func (n *inner) asideName(files *os.Root, name string) (string, error) {
	stamp := n.now.UTC().Format("20060102-150405")
	to := path.Join(asideFolder, stamp, name)
	for i := 2; ; i++ {
		if _, err := files.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			return to, files.MkdirAll(path.Dir(to), 0o755)
		}
		to = path.Join(asideFolder, fmt.Sprintf("%s-%d", stamp, i), name)
	}
}

// moveAside renames a file or folder; it returns the new name. What lies on a volume of its own
// stays there.
func (n *inner) moveAside(files *os.Root, name string) (string, error) {
	to, err := n.asideName(files, name)
	if err != nil {
		return "", err
	}
	if err = files.Rename(name, to); errors.Is(err, syscall.EXDEV) {
		to = fmt.Sprintf("%s.aside-%s", name, n.now.UTC().Format("20060102-150405"))
		err = files.Rename(name, to)
	}
	return to, err
}

// keepCopy copies a file aside, before it is written anew.
func (n *inner) keepCopy(files *os.Root, name string) error {
	old, err := files.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	to, err := n.asideName(files, name)
	if err != nil {
		return err
	}
	return replace(files, to, old, 0o600)
}

// replace writes a file anew, with the mode and owner that it had.
func replace(files *os.Root, name string, data []byte, mode fs.FileMode) error {
	fresh := name + ".diorthos-new"
	uid, gid := 0, 0
	if info, err := files.Stat(name); err == nil {
		mode = info.Mode().Perm()
		uid, gid = ownerOf(info)
	}
	f, err := files.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(mode), f.Chown(uid, gid), f.Sync(), f.Close())
	if err != nil {
		return errors.Join(err, files.Remove(fresh))
	}
	return files.Rename(fresh, name)
}
