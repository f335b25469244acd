package debian

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/md5" //nolint:gosec // the sums that packages carry (deb-md5sums(5))
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/system"
)

// Documents and translations are often left out on purpose: one that is missing is no fault.
var mayBeLeftOut = []string{
	"usr/share/doc/", "usr/share/man/", "usr/share/info/", "usr/share/locale/", "usr/share/lintian/", "usr/share/bug/",
	"usr/share/doc-base/", "usr/share/help/", "usr/share/gnome/help/", "usr/share/linda/", "usr/share/omf/",
}

// A payload is one file of a package, and what is known of it.
type payload struct {
	of   bag.Package
	path string // as it lies on the system: a diverted one where it was diverted to
	sum  string // MD5, in hexadecimal; empty where the package tells none
}

// payloads lists the files of all packages that are installed.
func payloads(root fs.FS) (list []payload) {
	diverted := diversionsOf(root)
	conffiles := conffilesOf(root)
	records := map[string]bool{}
	entries, _ := fs.ReadDir(root, infoFolder) // a folder that is missing is told elsewhere
	for _, e := range entries {
		records[e.Name()] = true
	}
	record := func(p bag.Package, what string) []byte {
		for _, name := range []string{fmt.Sprintf("%s:%s.%s", p.Name, p.Architecture, what), p.Name + "." + what} {
			if records[name] {
				return readRecord(root, path.Join(infoFolder, name))
			}
		}
		return nil
	}
	for _, p := range installedIn(root) {
		if p.State == "half-installed" {
			continue // its unpacking is under way, or was cut off
		}
		sums := map[string]string{}
		for _, line := range strings.Split(string(record(p, "md5sums")), "\n") {
			if sum, file, ok := strings.Cut(line, "  "); ok && len(sum) == 2*md5.Size {
				sums[path.Clean(strings.TrimPrefix(file, "/"))] = sum
			}
		}
		for _, file := range strings.Split(string(record(p, "list")), "\n") {
			at := strings.TrimPrefix(file, "/")
			if at == "" || at == "." || conffiles[at] {
				continue
			}
			if to, ok := diverted[file]; ok && to.by != p.Name {
				at = strings.TrimPrefix(to.path, "/")
			}
			list = append(list, payload{p, at, sums[strings.TrimPrefix(file, "/")]})
		}
	}
	return list
}

func readRecord(root fs.FS, name string) []byte {
	if name == "" {
		return nil
	}
	raw, _ := readWhole(root, name) // a damaged one is told elsewhere
	return raw
}

type diversion struct{ path, by string }

// diversionsOf is where files lie that were diverted, by the path that their packages say.
func diversionsOf(root fs.FS) map[string]diversion {
	m := map[string]diversion{}
	lines := strings.Split(string(readRecord(root, diversions)), "\n")
	for i := 0; i+2 < len(lines); i += 3 {
		m[lines[i]] = diversion{lines[i+1], lines[i+2]}
	}
	return m
}

// conffilesOf are files that belong to people once they are there.
func conffilesOf(root fs.FS) map[string]bool {
	m := map[string]bool{}
	names, _ := fs.Glob(root, infoFolder+"/*.conffiles") // the pattern is right
	for _, name := range names {
		for _, line := range strings.Fields(string(readRecord(root, name))) {
			m[strings.TrimPrefix(line, "/")] = true
		}
	}
	return m
}

// VerifyPayloads holds every file of every package against its checksum, several at a time.
func (n *inner) VerifyPayloads(
	ctx context.Context, workers int, progress func(done, of int),
) (*store.Verification, error) {
	return VerifyPayloads(ctx, n.fsys, workers, progress)
}

// VerifyPayloads holds every file of every package of a system against the checksum that the
// package carries. Files that people may change, and documents that were left out, are no
// faults. Paths that carry no checksum, such as links, have to be there.
func VerifyPayloads(
	ctx context.Context,
	root fs.FS,
	workers int,
	progress func(done, of int),
) (*store.Verification, error) {
	list := payloads(root)
	report := &store.Verification{Faults: []store.Fault{}}
	packages := map[string]bool{}
	for _, p := range list {
		packages[p.of.Name] = true
	}
	report.Components = len(packages)
	for _, p := range installedIn(root) {
		if _, ok := infoName(root, p, "md5sums"); !ok && p.State == "installed" {
			report.Unsummed = append(report.Unsummed, p.Name)
		}
	}
	var mu sync.Mutex
	var wait sync.WaitGroup
	const share = 256 // files that a worker takes at a time
	next, done := 0, 0
	for range max(workers, 1) {
		wait.Add(1)
		go func() {
			defer wait.Done()
			buf := make([]byte, 256<<10)
			var faults []store.Fault
			files, size := 0, int64(0)
			for ctx.Err() == nil {
				mu.Lock()
				part := list[min(next, len(list)):min(next+share, len(list))]
				next += len(part)
				mu.Unlock()
				if len(part) == 0 {
					break
				}
				for _, p := range part {
					files++
					f, n := checkPayload(root, p, buf)
					size += n
					if f != nil {
						faults = append(faults, *f)
					}
				}
				mu.Lock()
				if done += len(part); progress != nil {
					progress(done, len(list))
				}
				mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			report.Files += files
			report.Bytes += size
			report.Faults = append(report.Faults, faults...)
		}()
	}
	wait.Wait()
	sort.Slice(report.Faults, func(i, k int) bool { return report.Faults[i].String() < report.Faults[k].String() })
	return report, ctx.Err()
}

// checkPayload looks at one file; size is how many bytes were hashed.
func checkPayload(root fs.FS, p payload, buf []byte) (f *store.Fault, size int64) {
	fault := func(kind, got string) *store.Fault {
		return &store.Fault{
			Kind: kind, Component: p.of.Name, Version: p.of.Version, Path: "/" + p.path, Want: p.sum, Got: got,
		}
	}
	if p.sum == "" {
		if _, err := lstat(root, p.path); errors.Is(err, fs.ErrNotExist) && !leftOut(p.path) {
			return fault(store.PayloadMissing, ""), 0
		}
		return nil, 0
	}
	in, err := root.Open(p.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if leftOut(p.path) {
			return nil, 0
		}
		return fault(store.PayloadMissing, ""), 0
	case err != nil:
		return fault(store.Unreadable, err.Error()), 0
	}
	h := md5.New() //nolint:gosec // as above
	size, err = io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{in}, buf)
	if err = errors.Join(err, in.Close()); err != nil {
		return fault(store.Unreadable, err.Error()), size
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != p.sum {
		return fault(store.PayloadAltered, got), size
	}
	return nil, size
}

func leftOut(name string) bool {
	return slices.ContainsFunc(mayBeLeftOut, func(f string) bool { return strings.HasPrefix(name, f) })
}

// lstat looks at a name itself where the file system can tell.
func lstat(root fs.FS, name string) (fs.FileInfo, error) {
	if l, ok := root.(fs.ReadLinkFS); ok {
		return l.Lstat(name)
	}
	entries, err := fs.ReadDir(root, path.Dir(name))
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(entries, func(e fs.DirEntry) bool { return e.Name() == path.Base(name) })
	if i < 0 {
		return nil, &fs.PathError{Op: "lstat", Path: name, Err: fs.ErrNotExist}
	}
	return entries[i].Info()
}

// lookAtPayloads looks at whether the programs and libraries of packages are there, and not empty. Their content is
// read only of packages that are not at rest, which may be why: of all it is for a verification; what the last run of
// apt named counts whatever it is.
func lookAtPayloads(root fs.FS, files []payload) (list []flaw) {
	folders := map[string]map[string]fs.DirEntry{}
	unknown := map[string]bool{} // folders on volumes that are not read
	entry := func(name string) (fs.DirEntry, bool) {
		folder := path.Dir(name)
		if folders[folder] == nil {
			folders[folder] = map[string]fs.DirEntry{}
			entries, err := fs.ReadDir(root, folder) // one that is missing has nothing in it
			unknown[folder] = errors.Is(err, system.ErrNotReadHere)
			for _, e := range entries {
				folders[folder][e.Name()] = e
			}
		}
		e, ok := folders[folder][path.Base(name)]
		return e, ok
	}
	const emptySum = "d41d8cd98f00b204e9800998ecf8427e"
	buf := make([]byte, 64<<10)
	named := namedByLastRun(root)
	more := map[string]int{} // further files of a package, by its name
	for _, p := range files {
		folder := path.Dir(p.path)
		if !isVital(folder) && !named[p.path] {
			continue
		}
		why := ""
		if e, ok := entry(p.path); !ok && unknown[folder] {
			continue
		} else if !ok {
			why = "it is not there"
		} else if p.sum != "" && p.sum != emptySum {
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() && info.Size() == 0 {
				why = "it is empty"
			} else if p.of.State != "installed" || named[p.path] {
				if fault, _ := checkPayload(root, p, buf); fault != nil {
					why = "its content is not as it was shipped"
				}
			}
		}
		if why == "" {
			continue
		}
		if named[p.path] {
			why += lastNamed
		} else if more[p.of.Name]++; more[p.of.Name] > 3 {
			continue
		}
		list = append(list, flaw{StateFault: bag.StateFault{
			File: p.path, Text: fmt.Sprintf(ofPackage+" %s: %s", p.of.Name, why),
		}})
	}
	return list
}

// lastNamed ends what is told of a file that the last run of apt named.
const lastNamed = ", and the last run of apt names it"

// lastWritten is how much of the end of a log is looked at, in bytes.
const lastWritten = 64 << 10

// namedByLastRun are the paths that stand in what the last run of apt showed.
func namedByLastRun(root fs.FS) map[string]bool {
	text, err := readEnd(root, "var/log/apt/term.log", lastWritten)
	if err != nil {
		return nil
	}
	if at := strings.LastIndex(text, "\nLog started: "); at >= 0 {
		text = text[at:]
	}
	named := map[string]bool{}
	for _, name := range pathInText.FindAllString(text, -1) {
		name = strings.TrimRight(strings.TrimPrefix(name, "/"), ".:,")
		named[name] = true
		if at := strings.LastIndexByte(name, ':'); at > 0 { // FILE:LINE
			named[name[:at]] = true
		}
	}
	return named
}

var errNotRegular = errors.New("not a regular file")

// readEnd reads at most so many bytes of the end of a file.
func readEnd(root fs.FS, name string, most int64) (string, error) {
	info, err := fs.Stat(root, name)
	if err != nil || !info.Mode().IsRegular() { // nothing that blocks is opened
		return "", errors.Join(err, errNotRegular)
	}
	f, err := root.Open(name)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }() // it was only read
	if s, ok := f.(io.Seeker); ok && info.Size() > most {
		if _, err := s.Seek(-most, io.SeekEnd); err != nil {
			return "", err
		}
	}
	raw, err := io.ReadAll(io.LimitReader(f, most))
	return string(raw), err
}

// ofPackage begins what is told of a file that a package brought.
const ofPackage = "a file of the package"

// isVital reports whether a folder holds what programs need to run.
func isVital(folder string) bool {
	return slices.Contains([]string{
		"bin", "sbin", "usr/bin", "usr/sbin", "boot", "lib", "lib64", "usr/lib", "usr/lib64", "usr/lib/dpkg",
		"usr/lib/apt/methods",
	}, folder) || strings.HasSuffix(folder, "-linux-gnu") || strings.HasPrefix(folder, "usr/share/initramfs-tools") ||
		strings.HasPrefix(folder, "usr/share/perl") || strings.HasPrefix(folder, "usr/lib/systemd")
}

// A packageSource has package files.
type packageSource interface {
	openPackage(bag.Package) (*debFile, error)
}

// RestorePayloads puts back what a verification finds missing or altered, from apt's cache, from
// sources at hand, or, where the network may be used, from the repositories: always the version
// and the architecture that are installed, and only what has the checksum that the database says.
func (n *inner) RestorePayloads(
	ctx context.Context, sources []store.Source, o system.ToolOptions,
) (did []string, err error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error {
		report, err := VerifyPayloads(ctx, w.files(), 2, nil)
		if err != nil {
			return err
		}
		var left []string
		for _, faults := range byPackage(report.Faults) {
			p := packageOf(w.files(), faults[0].Component)
			want := map[string]string{}
			for _, f := range faults {
				want[strings.TrimPrefix(f.Path, "/")] = f.Want
			}
			from, put, err := w.restore(p, want, sources)
			if err != nil {
				return err
			}
			if put == len(want) {
				w.did = append(w.did, fmt.Sprintf("%s %s: %d files from %s", p.Name, p.Version, put, from))
				continue
			}
			if w.network {
				_, ok, err := w.attempt(ctx, w.apt("install", "--reinstall", p.Name+"="+p.Version)...)
				if err != nil {
					return err
				}
				if ok {
					w.did = append(w.did, fmt.Sprintf("%s %s is fetched and installed anew", p.Name, p.Version))
					continue
				}
			}
			left = append(left, fmt.Sprintf("%s_%s_%s.deb", p.Name, p.Version, p.Architecture))
		}
		if len(left) > 0 {
			return fmt.Errorf("no source at hand has %s: give the package files with --source, or a healthy twin",
				firstFew(left, 5))
		}
		return nil
	})
}

func byPackage(faults []store.Fault) (list [][]store.Fault) {
	at := map[string]int{}
	for _, f := range faults {
		i, ok := at[f.Component]
		if !ok {
			i = len(list)
			at[f.Component] = i
			list = append(list, nil)
		}
		list[i] = append(list[i], f)
	}
	return list
}

func packageOf(root fs.FS, name string) bag.Package {
	for _, p := range installedIn(root) {
		if p.Name == name {
			return p
		}
	}
	return bag.Package{Name: name}
}

// restore puts files of a package back from the first place that has it.
func (w *worker) restore(
	p bag.Package,
	want map[string]string,
	sources []store.Source,
) (from string, put int, err error) {
	try := func(deb *debFile, err error) (bool, error) {
		if err != nil {
			return false, nil //nolint:nilerr // the next source may have it
		}
		defer func() { _ = deb.Close() }() // it was only read
		if err := deb.holds(want); err != nil {
			return false, nil //nolint:nilerr // not what the database says
		}
		from = deb.name
		put, err = putFiles(w.in.Files(), deb, func(name string) bool { _, ok := want[name]; return ok })
		return true, err
	}
	if ok, err := try(openCached(w.in.Files(), p)); ok || err != nil {
		return from, put, err
	}
	for _, s := range sources {
		if src, ok := s.(packageSource); ok {
			if ok, err := try(src.openPackage(p)); ok || err != nil {
				return from, put, err
			}
		}
		if t, ok := s.(*twin); ok && t.has(p) {
			put, err := t.give(w.in.Files(), want)
			if put == len(want) || err != nil {
				return t.Title(), put, err
			}
		}
	}
	return "", 0, nil
}

// holds says why a package file does not have what the database says of these files.
func (d *debFile) holds(want map[string]string) error {
	found := 0
	err := d.each("data", func(h *tar.Header, r io.Reader) (bool, error) {
		sum, ok := want[nameIn(h)]
		if !ok {
			return true, nil
		}
		found++
		if sum == "" || h.Typeflag != tar.TypeReg {
			return true, nil
		}
		hash := md5.New() //nolint:gosec // as above
		if _, err := io.Copy(hash, r); err != nil {
			return false, err
		}
		if got := hex.EncodeToString(hash.Sum(nil)); got != sum {
			return false, fmt.Errorf("%s: %s has the checksum %s, and the database says %s", d.name, nameIn(h), got, sum)
		}
		return true, nil
	})
	if err == nil && found < len(want) {
		err = fmt.Errorf("%s has %d of %d files", d.name, found, len(want))
	}
	return err
}

// nameIn is the path of an entry of a package's archive, without slashes around it.
func nameIn(h *tar.Header) string { return strings.Trim(strings.TrimPrefix(h.Name, "."), "/") }

// putFiles lays out the files of a package that are wanted, with mode, owner and links.
func putFiles(files *os.Root, deb *debFile, want func(string) bool) (put int, err error) {
	err = deb.each("data", func(h *tar.Header, r io.Reader) (bool, error) {
		name := nameIn(h)
		if !want(name) {
			return true, nil
		}
		put++
		if err := files.MkdirAll(path.Dir(name), 0o755); err != nil {
			return false, err
		}
		switch h.Typeflag {
		case tar.TypeDir:
			return true, firstOf(files.MkdirAll(name, 0o755), files.Chmod(name, h.FileInfo().Mode()),
				files.Chown(name, h.Uid, h.Gid))
		case tar.TypeSymlink:
			_ = files.Remove(name)
			return true, files.Symlink(h.Linkname, name)
		case tar.TypeLink:
			_ = files.Remove(name)
			return true, files.Link(strings.Trim(strings.TrimPrefix(h.Linkname, "."), "/"), name)
		case tar.TypeReg:
			data, err := io.ReadAll(r)
			if err != nil {
				return false, err
			}
			return true, putFile(files, name, data, h.FileInfo().Mode(), h.Uid, h.Gid)
		}
		return true, nil
	})
	return put, err
}

// putFile writes a file beside its name and then takes the name.
func putFile(files *os.Root, name string, data []byte, mode fs.FileMode, uid, gid int) error {
	if m, err := marksOf(files, name); err == nil && m&(markImmutable|markAppend) != 0 {
		if err := unmark(files, name); err != nil {
			return err
		}
	}
	if info, err := files.Lstat(name); err == nil && info.IsDir() { // a folder in a file's place
		if err := files.Rename(name, asideOf(files, name)); err != nil {
			return err
		}
	}
	fresh := name + ".dpkg-new"
	f, err := files.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode.Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(f, bytes.NewReader(data))
	err = errors.Join(err, f.Chown(uid, gid), f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return errors.Join(err, files.Remove(fresh))
	}
	return files.Rename(fresh, name)
}

// asideOf is a name beside a file that nothing bears yet.
func asideOf(files *os.Root, name string) string {
	for i := 0; ; i++ {
		aside := fmt.Sprintf("%s.aside-%d", name, i)
		if _, err := files.Lstat(aside); err != nil {
			return aside
		}
	}
}
