package debian

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"syscall"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/system"
	"diorthos/core/units"
)

// A spare is something that can go: it comes back by itself, or nothing needs it any more.
type spare struct {
	name   string // a file; of a kernel, its package
	what   string // in words, of several
	folder string // in which it lies
	size   int64
	kernel bool
	orphan bool // on the boot volume, of a kernel that is gone: nobody makes it again
}

// recordsRoom is what the package system needs to write its records, besides twice their size, in bytes.
const recordsRoom = 4 << 20

// Dispensable is what could go, in the order in which it goes: fetched package files and archived journals; of the boot
// volume what is left of kernels that are gone, and kernels that are neither the default nor among the two newest.
func (n *inner) Dispensable(_ context.Context, place system.Place) (list []bag.Download, err error) {
	for _, s := range n.spares(n.files(), place) {
		list = append(list, bag.Download{Name: s.name, Size: s.size})
	}
	return list, nil
}

// MakeRoom takes away what can go until there is room for the next attempt.
func (n *inner) MakeRoom(ctx context.Context, place system.Place, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error { return w.makeRoom(ctx, place) })
}

// RoomFor is what the next attempt needs of each volume, and what is free there.
func (n *inner) RoomFor(
	ctx context.Context, place system.Place, o system.ToolOptions,
) (list []system.VolumeRoom, err error) {
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, say: func(string) {}, said: o.Said}
		list, err = w.rooms(place)
		return err
	})
	return list, err
}

func (w *worker) makeRoom(ctx context.Context, place system.Place) error {
	rooms, err := w.rooms(place)
	if err != nil {
		return err
	}
	lacking := func() (list []system.VolumeRoom, err error) {
		for _, r := range rooms {
			if r.Free, err = w.in.Free(cmp.Or(strings.TrimPrefix(r.Mount, "/"), ".")); err != nil {
				return nil, err
			}
			if r.Free < r.Bytes() {
				list = append(list, r)
			}
		}
		return list, nil
	}
	lacks, err := lacking()
	if err != nil || len(lacks) == 0 {
		return err
	}
	freed := int64(0)
	taken := map[string]int64{} // by what they are
	for _, s := range w.n.spares(w.files(), place) {
		at := w.mountOf(s.folder)
		if !slices.ContainsFunc(lacks, func(r system.VolumeRoom) bool { return r.Mount == at }) {
			continue // it lies on another volume
		}
		if err := w.free(ctx, s); err != nil {
			return err
		}
		freed += s.size
		if !s.kernel {
			taken[s.what] += s.size
		}
		if lacks, err = lacking(); err != nil {
			return err
		}
		if len(lacks) == 0 {
			break
		}
	}
	if len(lacks) > 0 {
		return fmt.Errorf("%s: %s free, %s wanted, with all that comes back by itself away (%s): what is left is "+
			"people's or needed. See whose it is with \"diorthos upkeep room\", or make the volume larger", lacks[0].Mount,
			units.FormatBytes(lacks[0].Free), units.FormatBytes(lacks[0].Bytes()), units.FormatBytes(freed))
	}
	for _, what := range slices.Sorted(maps.Keys(taken)) {
		w.did = append(w.did, fmt.Sprintf("%s: %s are freed", what, units.FormatBytes(taken[what])))
	}
	return nil
}

// free takes one thing away.
func (w *worker) free(ctx context.Context, s spare) error {
	switch {
	case s.kernel:
		out, err := w.run(ctx, "dpkg", "--remove", s.name)
		if err == nil && out.Status == 0 {
			w.did = append(w.did, s.name+", neither the default nor among the newest, is removed by the system's own tool")
		}
		return err // one that others need stays
	case s.orphan && w.volumeOf(path.Dir(s.name)) != w.volumeOf("."):
		if room, err := w.in.Free("."); err == nil && room > s.size+recordsRoom {
			if err := w.n.keepCopy(w.in.Files(), s.name); err != nil {
				return err
			}
		}
	}
	return w.in.Files().Remove(s.name)
}

// volumeOf tells volumes apart: the number of the file system on which a path lies, or the nearest folder above it.
func (w *worker) volumeOf(name string) uint64 {
	for ; ; name = path.Dir(name) {
		if name == "" {
			name = "."
		}
		info, err := w.in.Files().Stat(name)
		if err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				return st.Dev
			}
			return 0
		}
		if name == "." {
			return 0
		}
	}
}

// mountOf is the uppermost folder of the volume on which a path lies.
func (w *worker) mountOf(name string) string {
	volume := w.volumeOf(name)
	for name != "." && w.volumeOf(path.Dir(name)) == volume {
		name = path.Dir(name)
	}
	return path.Clean("/" + name)
}

// A want is room that something needs somewhere.
type want struct {
	at string
	system.Term
}

// rooms adds up what the next attempt needs, volume by volume.
func (w *worker) rooms(place system.Place) (list []system.VolumeRoom, err error) {
	wants, start := w.wants()
	saidWants, saidStart := w.wantsSaid()
	wants, start = append(wants, saidWants...), append(start, saidStart...)
	if place == system.BootVolumes {
		wants = start
	} else if w.volumeOf("boot") == w.volumeOf(".") {
		wants = append(wants, start...)
	}
	for _, one := range wants {
		mount := w.mountOf(one.at)
		if one.What == noRoomThere { // it may be of a kind that is not in the draft
			mount = w.apart(one.at, mount)
		}
		i := slices.IndexFunc(list, func(r system.VolumeRoom) bool { return r.Mount == mount })
		if i < 0 {
			free, err := w.in.Free(cmp.Or(strings.TrimPrefix(mount, "/"), "."))
			if err != nil {
				return nil, err
			}
			list = append(list, system.VolumeRoom{Need: system.Need{Mount: mount}, Free: free})
			i = len(list) - 1
		}
		if one.What != noRoomThere || len(list[i].Terms) == 0 { // what is computed says more
			list[i].Terms = append(list[i].Terms, one.Term)
		}
	}
	return list, nil
}

// apart is where a path lies whose room is not that of the volume on which it is in the draft.
func (w *worker) apart(at, mount string) string {
	for ; at != "."; at = path.Dir(at) {
		if info, err := w.in.Files().Stat(at); err == nil && info.IsDir() {
			break
		}
	}
	own, err := w.in.Free(at)
	of, failed := w.in.Free(cmp.Or(strings.TrimPrefix(mount, "/"), "."))
	if err == nil && failed == nil && own != of {
		return "/" + at
	}
	return mount
}

// wantsSaid is some room on each volume of which it was said that there is none.
func (w *worker) wantsSaid() (wants, start []want) {
	if !noRoom.MatchString(w.said) {
		return nil, nil
	}
	for _, name := range anyPath.FindAllString(w.said, -1) {
		one := want{strings.TrimPrefix(path.Clean(name), "/"), system.Term{What: noRoomThere, Bytes: someRoom}}
		switch top, _, _ := strings.Cut(one.at, "/"); top {
		case "dev", "proc", "sys", "run":
		case "boot":
			start = append(start, one)
		default:
			wants = append(wants, one)
		}
	}
	return wants, start
}

// wants is the room that the next attempt needs, computed from its packages: of what was begun and is not at rest, with
// what the last run of apt was to bring and did not; where nothing was begun, of the upgrade that the lists offer.
func (w *worker) wants() (wants, start []want) {
	root := w.files()
	sys := Adapter{}.Inventory(root)
	if sys == nil {
		sys = &bag.Installed{}
	}
	sys.EarlyBoot = earlyOfKernels(root)
	need := func(at, what string, bytes int64) {
		if bytes > 0 {
			wants = append(wants, want{at, system.Term{What: what, Bytes: bytes}})
		}
	}
	if info, err := fs.Stat(root, statusFile); err == nil {
		need(dpkgFolder, "records of packages, written anew", 2*info.Size()+recordsRoom)
	}
	begun := w.begun(sys)
	var grows, biggest, download int64
	images, early := 0, 0
	for _, b := range begun {
		version, isKernel := strings.CutPrefix(b.name, kernelPackage)
		if isKernel && kernelVersion(version) {
			if !there(root, "boot/vmlinuz-"+version) {
				images++
			}
			early++
		}
		grows, biggest, download = grows+max(0, b.installed-b.was), max(biggest, b.installed), download+b.download
	}
	if len(begun) == 0 {
		for _, n := range w.upgradeNeeds(sys) {
			for _, t := range n.Terms {
				if n.Mount == "/boot" {
					start = append(start, want{"boot", t})
				} else {
					need(strings.TrimPrefix(n.Mount, "/"), t.What, t.Bytes)
				}
			}
		}
	}
	need("usr", "packages that are not unpacked yet", grows)
	need("usr", "the largest of them, whose old and new files lie side by side", biggest)
	need(cacheFolder, "package files that are not fetched yet", download)
	if early > 0 { // it is put together from a folder with its files as they are
		need("var/tmp", "an early-boot image while it is put together", 4*sys.EarlyBoot)
	}
	if len(start) == 0 && sys.EarlyBoot > 0 {
		newEarly, anew := sys.EarlyBoot*11/10, sys.EarlyBoot
		if early > 0 { // those are written, and no other
			anew = 0
		}
		for _, t := range []system.Term{
			{What: "kernels that are not unpacked yet", Bytes: int64(images) * sys.KernelImage},
			{What: "early-boot images of new kernels, a tenth larger than the largest there", Bytes: int64(early) * newEarly},
			{What: "an early-boot image once more, while it is written anew", Bytes: anew},
		} {
			if t.Bytes > 0 {
				start = append(start, want{"boot", t})
			}
		}
	}
	return wants, start
}

// noRoom is how it is said that a path has none.
var noRoom = regexp.MustCompile(`No space left on device|enough free space in`)

var anyPath = regexp.MustCompile(`(?:/[A-Za-z0-9_.+:@~%-]+)+`)

// someRoom is what is wanted, in bytes, where it is known only that there was none.
const (
	someRoom    = 16 << 20
	noRoomThere = "what found no room there"
)

// earlyOfKernels is the size of the largest early-boot image whose kernel is there, in bytes.
func earlyOfKernels(root fs.FS) (most int64) {
	names, _ := fs.Glob(root, "boot/vmlinuz-*") // the pattern is right
	for _, name := range names {
		if info, err := fs.Stat(root, "boot/initrd.img-"+strings.TrimPrefix(path.Base(name), "vmlinuz-")); err == nil {
			most = max(most, info.Size())
		}
	}
	return most
}

// An unpacking is a package that is still to come, with sizes in bytes.
type unpacking struct {
	name                     string
	was, installed, download int64
}

// begun are the packages that are between two states, and those that the last run of apt was to bring and did not.
func (w *worker) begun(sys *bag.Installed) (list []unpacking) {
	have := map[string]bag.Package{}
	for _, p := range sys.Packages {
		have[p.Name] = p
		switch p.State {
		case "half-installed", "unpacked", "half-configured":
			list = append(list, unpacking{name: p.Name})
		}
	}
	last, ok := latestRun(w.files())
	if !ok || !last.failed {
		return list
	}
	var index *Index
	for _, c := range last.changes {
		p := have[c.name]
		if c.now == "" || p.Version == c.now && p.State != "half-installed" && p.State != "config-files" {
			continue // removed, or there
		}
		u := unpacking{name: c.name, was: p.Size}
		for _, architecture := range []string{c.architecture, "all"} {
			name := cachedName(bag.Package{Name: c.name, Version: c.now, Architecture: architecture})
			if is, err := readPackageFile(w.in.Files(), name); err == nil {
				u.installed = is.Size
			}
		}
		if u.installed == 0 {
			if index == nil {
				index = w.offered(sys)
			}
			if o, ok := index.packages[c.name]; ok {
				u.installed, u.download = o.installed, o.download
			}
		}
		list = append(list, u)
	}
	return list
}

func readPackageFile(files *os.Root, name string) (bag.Package, error) {
	f, err := files.Open(name)
	if err != nil {
		return bag.Package{}, err
	}
	defer func() { _ = f.Close() }() // it was only read
	return ReadPackage(f)
}

// offered is what the lists offer; empty where none can be read.
func (w *worker) offered(sys *bag.Installed) *Index {
	var readers []io.Reader
	for _, name := range (Adapter{}).PackageLists(w.files(), sys.Codename) {
		if f, err := w.in.Files().Open(name); err == nil {
			defer func() { _ = f.Close() }() // it was only read
			readers = append(readers, f)
		}
	}
	if index, err := ReadIndex(sys.Architecture, readers...); err == nil {
		return index
	}
	return &Index{}
}

// upgradeNeeds is the room that the upgrade needs which the lists offer.
func (w *worker) upgradeNeeds(sys *bag.Installed) []system.Need {
	if index := w.offered(sys); len(index.packages) > 0 {
		if plan := index.Plan(sys, ""); plan.Upgrades > 0 {
			return plan.Needs
		}
	}
	return nil
}

// spares lists what can go, in the order in which it goes.
func (n *inner) spares(root fs.FS, place system.Place) (list []spare) {
	if place == system.BootVolumes {
		return append(orphans(root), n.oldKernels(root)...)
	}
	packages := installedIn(root)
	unfinished := map[string]bool{}
	installed := map[string]bool{} // package files of what is installed: what was before it goes first
	for _, p := range packages {
		unfinished[p.Name] = p.State != "installed"
		installed[cachedName(p)] = true
	}
	if last, ok := latestRun(root); ok && last.failed {
		for _, c := range last.changes {
			unfinished[c.name] = true // they are asked for again
		}
	}
	fetched := files(
		root,
		"fetched package files, which are fetched again when they are needed",
		cacheFolder+"/*.deb",
		func(name string) bool {
			of, _, _ := strings.Cut(path.Base(name), "_")
			return !unfinished[of]
		},
	)
	slices.SortStableFunc(fetched, func(a, b spare) int {
		return cmp.Compare(numbered(installed[a.name]), numbered(installed[b.name]))
	})
	return append(fetched, files(root, "journals of the service manager that were closed, the oldest first",
		"var/log/journal/*/*@*.journal*", func(string) bool { return true })...)
}

func numbered(is bool) int {
	if is {
		return 1
	}
	return 0
}

// files lists those that match, the oldest first.
func files(root fs.FS, what, pattern string, which func(name string) bool) (list []spare) {
	names, _ := fs.Glob(root, pattern) // the patterns are right
	times := map[string]int64{}
	for _, name := range names {
		if info, err := fs.Stat(root, name); err == nil && info.Mode().IsRegular() && which(name) {
			times[name] = info.ModTime().UnixNano()
			list = append(list, spare{name: name, what: what, size: info.Size(), folder: path.Dir(name)})
		}
	}
	slices.SortStableFunc(list, func(a, b spare) int { return cmp.Compare(times[a.name], times[b.name]) })
	return list
}

// kernelPackage begins the names of packages that bring a kernel.
const kernelPackage = "linux-image-"

// kernelVersion reports whether it is a kernel's own version: a package that only asks for the newest has none.
func kernelVersion(version string) bool {
	return version != "" && version[0] >= '0' && version[0] <= '9' && !strings.HasSuffix(version, "-dbg")
}

// orphans are early-boot images of kernels that are gone: no kernel, no modules, no package. What was left of writing
// one is of that too.
func orphans(root fs.FS) []spare {
	packages := installedIn(root)
	list := files(root, "early-boot images of kernels that are gone", "boot/initrd.img-*", func(name string) bool {
		version := strings.TrimPrefix(path.Base(name), "initrd.img-")
		if bare, ok := strings.CutSuffix(version, ".new"); ok && there(root, "boot/vmlinuz-"+bare) {
			return true // update-initramfs(8) was cut off
		}
		return !there(root, "boot/vmlinuz-"+version) && !there(root, "usr/lib/modules/"+version+"/modules.dep") &&
			!slices.ContainsFunc(packages, func(p bag.Package) bool { return p.Name == kernelPackage+version })
	})
	for i := range list {
		list[i].orphan = true
	}
	return list
}

// oldKernels are kernels at rest that are neither the default of the loader, nor the one that runs here, nor among the
// two newest; the oldest first.
func (n *inner) oldKernels(root fs.FS) (list []spare) {
	var resting []string
	for _, p := range installedIn(root) {
		version, ok := strings.CutPrefix(p.Name, kernelPackage)
		if ok && kernelVersion(version) && p.State == "installed" && there(root, "boot/vmlinuz-"+version) {
			resting = append(resting, version)
		}
	}
	slices.SortFunc(resting, CompareVersions)
	if len(resting) <= 2 {
		return nil
	}
	first := n.firstKernel()
	for _, version := range resting[:len(resting)-2] {
		if strings.Contains(first, "vmlinuz-"+version) || runningKernel() == version {
			continue
		}
		s := spare{name: kernelPackage + version, kernel: true, folder: "boot"}
		for _, name := range []string{"vmlinuz-", "initrd.img-", "config-", "System.map-"} {
			if info, err := fs.Stat(root, "boot/"+name+version); err == nil {
				s.size += info.Size()
			}
		}
		list = append(list, s)
	}
	return list
}

// firstKernel is what the machine starts by itself, as its chain has it; empty where that is not followed.
func (n *inner) firstKernel() string {
	if n.tree != nil {
		return ""
	}
	chain, err := n.Chain()
	if err != nil {
		return ""
	}
	for _, l := range chain {
		if l.Kind == boot.LinkKernel {
			return l.What + " " + l.Saw
		}
	}
	return ""
}

// runningKernel is the version that runs here: of a system in a folder it may be its own.
func runningKernel() string {
	raw, err := os.ReadFile("/proc/sys/kernel/osrelease")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	return strings.TrimSpace(string(raw))
}
