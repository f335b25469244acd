package inside

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/readfs"
	"diorthos/core/system"
	"diorthos/core/tree"
)

// A Folder is the files of a system that lies in a folder: of one that another computer starts, or of
// the running machine itself.
type Folder struct {
	*tree.Device
	path  string
	marks []string
	locks []*os.File
	loose []string // files that a draft does not keep
}

var _ system.TreeTarget = (*Folder)(nil)

// ErrBusy means that the system's own tools are changing it right now.
var ErrBusy = errors.New("the system is being changed by its own tools")

// OpenFolder opens the system in a folder. Unless it is only looked at, the files that its own tools lock
// are locked, so that none of them begins meanwhile.
func OpenFolder(path string, adapter system.FolderAdapter, readOnly bool) (f *Folder, err error) {
	device, err := tree.Open(path, readOnly)
	if err != nil {
		return nil, err
	}
	f = &Folder{Device: device, path: path}
	defer func() {
		if err != nil {
			_ = f.Close()
		}
	}()
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	f.marks, f.loose = adapter.FolderMarks(readfs.Within(root)), slices.Concat(adapter.MadeAnew(), adapter.LockFiles())
	if err := root.Close(); err != nil {
		return nil, err
	}
	if !readOnly {
		if os.Geteuid() != 0 {
			return nil, fmt.Errorf("%w: it takes root, to change files of a system", ErrNotHere)
		}
		err = f.lock(adapter.LockFiles())
	}
	return f, err
}

// OpenForUndo opens the files of a folder as a journal of them needs it, whatever lies there now.
func OpenForUndo(path string, readOnly bool) (*Folder, error) {
	device, err := tree.Open(path, readOnly)
	if err != nil {
		return nil, err
	}
	return &Folder{Device: device, path: path}, nil
}

// lock takes the locks that are there. They are let go by Close.
func (f *Folder) lock(names []string) error {
	for _, name := range names {
		at := filepath.Join(f.path, name)
		if info, err := os.Stat(at); err != nil || !info.Mode().IsRegular() {
			continue //nolint:nilerr // what is not there, or is no file, nobody can lock
		}
		file, err := os.OpenFile(at, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		f.locks = append(f.locks, file)
		whole := unix.Flock_t{Type: unix.F_WRLCK, Whence: 0}
		if err := unix.FcntlFlock(file.Fd(), unix.F_OFD_SETLK, &whole); err != nil {
			return fmt.Errorf("%w: /%s is locked: wait until it has ended", ErrBusy, name)
		}
	}
	return nil
}

// Close lets go of the files and of the locks.
func (f *Folder) Close() error {
	err := f.Device.Close()
	for _, l := range f.locks {
		err = errors.Join(err, l.Close())
	}
	return err
}

// Marks are what the system is known again by.
func (f *Folder) Marks() []string { return f.marks }

// A layer is a file system of the folder under a draft: what is written goes elsewhere.
type layer struct {
	at     string // below the folder; empty for the folder itself
	upper  string // where it goes; for a copy, where that lies
	copied bool
}

// A folderDraft is a draft of a folder. Its files are seen as one by a name space of mounts that is its
// own, and lie in memory.
type folderDraft struct {
	*session
	folder *Folder
	merged *tree.Files
	layers []layer
	began  int64 // nanoseconds since 1970
}

// Draft begins a draft of the folder.
func (f *Folder) Draft() (system.TreeDraft, error) {
	if os.Geteuid() != 0 {
		return nil, fmt.Errorf("%w: it takes root, to mount the draft", ErrNotHere)
	}
	d := &folderDraft{session: newSession(nil), folder: f, began: time.Now().UnixNano()}
	if err := d.do(d.mountLayers); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// onDisk are file systems whose files are a machine's own.
var onDisk = []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "vfat"}

// mountsBelow lists what is mounted below a folder, by its path there, with its kind; what is mounted
// over the same place later takes its place.
func mountsBelow(path string) (map[string]string, error) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }() // it was only read
	list := map[string]string{}
	prefix := strings.TrimSuffix(path, "/") + "/"
	unescape := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	for lines := bufio.NewScanner(f); lines.Scan(); {
		before, after, ok := strings.Cut(lines.Text(), " - ")
		words, kind := strings.Fields(before), strings.Fields(after)
		if !ok || len(words) < 5 || len(kind) == 0 {
			continue
		}
		if at, below := strings.CutPrefix(unescape.Replace(words[4]), prefix); below && at != "" {
			list[at] = kind[0]
		}
	}
	return list, nil
}

// mountLayers makes the draft. It is done by the thread of the session.
func (d *folderDraft) mountLayers() error {
	if err := d.apart(); err != nil {
		return err
	}
	path, err := filepath.EvalSymlinks(d.folder.path)
	if err != nil {
		return err
	}
	if path, err = filepath.Abs(path); err != nil {
		return err
	}
	mounts, err := mountsBelow(path)
	if err != nil {
		return err
	}
	lower := map[string]int{}
	defer func() {
		for _, fd := range lower {
			_ = unix.Close(fd) // the mounts hold what they need
		}
	}()
	for at, kind := range mounts {
		if !slices.Contains(onDisk, kind) && slices.Contains(notOfTheDraft, strings.SplitN(at, "/", 2)[0]) {
			delete(mounts, at)
		}
	}
	mounts[""] = ""
	for at, kind := range mounts {
		if at != "" && !slices.Contains(onDisk, kind) {
			continue // of the moment, or of another computer
		}
		fd, err := unix.Open(filepath.Join(path, at), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			continue //nolint:nilerr // what is mounted over a file, or hidden by another mount
		}
		lower[at] = fd
	}
	d.avoid = path
	if err := d.stage(); err != nil {
		return err
	}
	for i, at := range slices.Sorted(maps.Keys(lower)) { // what holds a mount comes before it
		if err := d.mountLayer(i, at, lower[at]); err != nil {
			return err
		}
	}
	if err := d.furnish(); err != nil {
		return err
	}
	if err := d.keepMenu(); err != nil {
		return err
	}
	if d.files, err = os.OpenRoot(d.root); err != nil {
		return err
	}
	d.merged, err = tree.OpenFiles(d.root)
	return err
}

// menuTool makes the loader's menu from what lies on the machine's disks, which a draft of files has none of.
const menuTool = "usr/sbin/update-grub"

const menuWords = "#!/bin/sh\n: >/" + system.MenuOwed + "\necho 'the menu is made on the machine itself, afterwards'\n"

// keepMenu has the tool that makes the loader's menu only note that it was called.
func (d *folderDraft) keepMenu() error {
	at := filepath.Join(d.root, menuTool)
	if info, err := os.Lstat(at); err != nil || !info.Mode().IsRegular() {
		return nil //nolint:nilerr // there is none
	}
	words := filepath.Join(d.base, "menu")
	if err := os.WriteFile(words, []byte(menuWords), 0o755); err != nil {
		return err
	}
	return d.mount(words, at, "", unix.MS_BIND, "")
}

// mountLayer mounts one file system of the folder under the draft: with a layer over it, or, where the
// kernel cannot do that, as a copy.
func (d *folderDraft) mountLayer(i int, at string, fd int) error {
	upper, work := filepath.Join(d.base, fmt.Sprintf("upper-%d", i)), filepath.Join(d.base, fmt.Sprintf("work-%d", i))
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	for _, folder := range []string{upper, work} {
		if err := os.Mkdir(folder, 0o755); err != nil {
			return err
		}
	}
	owned := os.Chown(upper, int(st.Uid), int(st.Gid))
	if err := errors.Join(owned, os.Chmod(upper, fs.FileMode(st.Mode&0o777))); err != nil {
		return err
	}
	from := fmt.Sprintf("/proc/self/fd/%d", fd)
	err := d.mount("overlay", filepath.Join(d.root, at), "overlay", unix.MS_NOATIME|unix.MS_NODEV, fmt.Sprintf(
		"lowerdir=%s,upperdir=%s,workdir=%s,redirect_dir=on,index=off,metacopy=off", from, upper, work,
	))
	if err == nil {
		d.layers = append(d.layers, layer{at: at, upper: upper})
		return nil
	}
	if at == "" {
		return fmt.Errorf("%w: lay a draft over the folder: %w", ErrNotHere, err)
	}
	copied := filepath.Join(d.base, fmt.Sprintf("copy-%d", i))
	if err := copyFolder(from, copied); err != nil {
		return fmt.Errorf("copy /%s: %w", at, err)
	}
	d.layers = append(d.layers, layer{at: at, upper: copied, copied: true})
	return d.mount(copied, filepath.Join(d.root, at), "", unix.MS_BIND, "")
}

// copyFolder copies files and folders, with their times.
func copyFolder(from, to string) error {
	root := os.DirFS(from)
	total := int64(0)
	return fs.WalkDir(root, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		at := filepath.Join(to, name)
		if e.IsDir() {
			if err := os.Mkdir(at, 0o755); err != nil {
				return err
			}
			return os.Chmod(at, info.Mode().Perm())
		}
		raw, err := fs.ReadFile(root, name)
		if err != nil {
			return err
		}
		if total += int64(len(raw)); total > largestFAT {
			return fmt.Errorf("its files have more than %d bytes", largestFAT)
		}
		return errors.Join(os.WriteFile(at, raw, info.Mode().Perm()), os.Chtimes(at, info.ModTime(), info.ModTime()))
	})
}

// Files are those of the system as they are drafted.
func (d *folderDraft) Files() fs.FS { return readfs.Within(d.files) }

// An entered is a draft that somebody is in.
type entered struct{ *folderDraft }

// Enter enters the system.
func (d *folderDraft) Enter(ctx context.Context) (system.Inside, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if err := d.startNothing(); err != nil {
		return nil, err
	}
	return entered{d}, nil
}

// Files are those of the system.
func (e entered) Files() *os.Root { return e.files }

// Leave leaves the draft as it is.
func (e entered) Leave() error {
	err := e.stopNothing()
	e.policy = false
	return err
}

// Free is how many bytes are free for the system's own tools on the volume of a folder: what is free there now, and
// what the draft takes away or adds.
func (e entered) Free(folder string) (int64, error) {
	at := filepath.Join(e.folder.path, folder)
	var volume unix.Stat_t
	var st unix.Statfs_t
	if err := errors.Join(unix.Stat(at, &volume), unix.Statfs(at, &st)); err != nil {
		return 0, err
	}
	free := int64(st.Bfree) * st.Bsize
	var paths []string
	if err := e.do(func() (err error) {
		paths, err = e.touched()
		return err
	}); err != nil {
		return 0, err
	}
	for _, path := range paths {
		above := filepath.Join(e.folder.path, filepath.Dir(path))
		var of unix.Stat_t
		for unix.Stat(above, &of) != nil && above != e.folder.path { // a folder that is new
			above = filepath.Dir(above)
		}
		if of.Dev != volume.Dev {
			continue
		}
		if is, err := os.Lstat(filepath.Join(e.folder.path, path)); err == nil && is.Mode().IsRegular() {
			free += is.Size()
		}
		if is, err := e.files.Lstat(path); err == nil && is.Mode().IsRegular() {
			free -= is.Size()
		}
	}
	return free, nil
}

// Changed lists what differs from what lies in the folder.
func (e entered) Changed() (list []system.Change, err error) {
	changes, err := e.changes()
	for _, c := range changes {
		how := system.FileChanged
		switch {
		case c.Before.IsDir() && c.Now.IsDir():
			continue
		case c.Before.Mode == 0:
			how = system.FileAdded
		case c.Now.Mode == 0:
			how = system.FileRemoved
		}
		list = append(list, system.Change{Path: c.Path, How: how})
	}
	return list, err
}

// Writes lists what a journal has to write.
func (d *folderDraft) Writes() ([]block.Write, []block.Place, error) {
	list, err := d.changes()
	if err != nil {
		return nil, nil, err
	}
	if err := d.fits(list); err != nil {
		return nil, nil, err
	}
	places, writes, err := tree.Plan(list)
	return writes, places, err
}

// ErrTooFull means that a volume has no room for what would be written to it.
var ErrTooFull = errors.New("it would not fit")

// spareRoom is what is left free on each volume, in bytes: for the file system's own records of what is written.
const spareRoom = 1 << 20

// fits refuses a change for which a volume has no room: the draft lies elsewhere, and had some. What goes, goes first;
// a file that is changed is written beside what it was.
func (d *folderDraft) fits(list []tree.Change) error {
	left := map[uint64]int64{}
	volume := func(path string) (uint64, error) {
		for above := filepath.Join(d.folder.path, filepath.Dir(path)); ; above = filepath.Dir(above) {
			var st unix.Stat_t
			if err := unix.Stat(above, &st); err != nil {
				if above == d.folder.path || above == "/" {
					return 0, err
				}
				continue // a folder that is new
			}
			if _, ok := left[st.Dev]; !ok {
				var fs unix.Statfs_t
				if err := unix.Statfs(above, &fs); err != nil {
					return 0, err
				}
				left[st.Dev] = int64(fs.Bfree)*fs.Bsize - spareRoom
			}
			return st.Dev, nil
		}
	}
	taken := func(n tree.Node) int64 {
		const block = 4096
		if n.Mode == 0 {
			return 0
		}
		return (int64(len(n.Content)) + block - 1) / block * block
	}
	for _, goes := range []bool{true, false} {
		for _, c := range list {
			if (c.Now.Mode == 0) != goes {
				continue
			}
			at, err := volume(c.Path)
			if err != nil {
				return err
			}
			if left[at] -= taken(c.Now); left[at] < 0 && taken(c.Now) > 0 {
				return fmt.Errorf("%w: the volume of /%s has no room for all that would be written: make room first", ErrTooFull,
					c.Path)
			}
			left[at] += taken(c.Before)
		}
	}
	return nil
}

// notKept are folders whose files are only of the moment.
var notKept = []string{"tmp", "var/tmp", "dev", "proc", "sys", "run"}

// changes lists what the draft has in place of what lies in the folder.
func (d *folderDraft) changes() (list []tree.Change, err error) {
	var paths []string
	if err := d.do(func() error {
		paths, err = d.touched()
		return err
	}); err != nil {
		return nil, err
	}
	for _, path := range paths {
		if slices.ContainsFunc(notKept, func(f string) bool { return path == f || strings.HasPrefix(path, f+"/") }) ||
			path == policyFile && d.policy {
			continue
		}
		before, err := d.folder.Node(path)
		if err != nil {
			return nil, err
		}
		now, err := d.merged.Node(path)
		if err != nil {
			return nil, err
		}
		if slices.Contains(d.folder.loose, path) {
			if before.Mode == 0 || before.Mode&unix.S_IFMT == unix.S_IFREG {
				continue
			}
			now = tree.Node{} // what stood in its way goes; whoever needs the file makes it
		}
		if before.Equal(now) {
			continue
		}
		_, changed, err := d.folder.Stat(path)
		if err != nil {
			return nil, err
		}
		if changed > d.began { // by somebody else
			if before.IsDir() && now.IsDir() {
				if now.Time = before.Time; before.Equal(now) {
					continue
				}
			}
			return nil, fmt.Errorf("/%s was changed on the machine while the change was drafted: do it again", path)
		}
		list = append(list, tree.Change{Path: path, Before: before, Now: now})
	}
	return list, nil
}

// touched lists the paths that may differ, in order: what lies in the upper layers, what they hide, and
// all of what was renamed whole.
func (d *folderDraft) touched() ([]string, error) {
	paths := map[string]bool{}
	for _, l := range d.layers {
		err := filepath.WalkDir(l.upper, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			name := filepath.Join(l.at, strings.TrimPrefix(strings.TrimPrefix(path, l.upper), "/"))
			if name == "" {
				return nil
			}
			paths[name] = true
			if l.copied {
				return nil
			}
			var st unix.Stat_t
			if err := unix.Lstat(path, &st); err != nil {
				return err
			}
			hides := st.Mode&unix.S_IFMT == unix.S_IFCHR && st.Rdev == 0
			if hides || e.IsDir() && replaces(path) {
				return errors.Join(d.below(name, d.folder.Files, paths), d.below(name, d.merged, paths))
			}
			if !e.IsDir() { // it may stand in the place of a folder
				return d.below(name, d.folder.Files, paths)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if l.copied {
			if err := d.below(l.at, d.folder.Files, paths); err != nil {
				return nil, err
			}
		}
	}
	return slices.Sorted(maps.Keys(paths)), nil
}

// below adds the paths below one of a set of files.
func (d *folderDraft) below(name string, files *tree.Files, paths map[string]bool) error {
	paths[name] = true
	names, err := files.Names(name)
	if err != nil {
		return err
	}
	for _, n := range names {
		if err := d.below(filepath.Join(name, n), files, paths); err != nil {
			return err
		}
	}
	return nil
}

// replaces reports whether a folder of an upper layer stands for itself alone, or for one that had
// another name.
func replaces(path string) bool {
	for _, name := range []string{"trusted.overlay.opaque", "trusted.overlay.redirect"} {
		if _, err := unix.Lgetxattr(path, name, nil); err == nil {
			return true
		}
	}
	return false
}

// Close throws the draft away.
func (d *folderDraft) Close() (err error) {
	if d.merged != nil {
		err = d.merged.Close()
	}
	return errors.Join(err, d.session.Leave())
}
