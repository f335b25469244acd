package debian

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/ext"
)

// neededFolders are those that dpkg, apt and the scripts of packages take for granted, with
// their modes (Filesystem Hierarchy Standard; dpkg(1) and apt-get(8), FILES).
var neededFolders = []struct {
	name string
	mode fs.FileMode
}{
	{"dev", 0o755}, {"proc", 0o555}, {"sys", 0o555}, {"run", 0o755}, {"tmp", 0o777 | fs.ModeSticky},
	{"var/tmp", 0o777 | fs.ModeSticky}, {"var/lib", 0o755}, {"var/log", 0o755}, {"var/cache", 0o755},
	{dpkgFolder, 0o755}, {infoFolder, 0o755}, {dpkgFolder + "/updates", 0o755},
	{dpkgFolder + "/triggers", 0o755}, {dpkgFolder + "/alternatives", 0o755}, {dpkgFolder + "/parts", 0o755},
	{"var/lib/apt", 0o755}, {listsFolder, 0o755}, {"var/cache/apt", 0o755}, {cacheFolder, 0o755},
	{"var/log/apt", 0o755}, {"var/cache/debconf", 0o755}, {"etc/alternatives", 0o755},
}

// madeFolders are those that apt makes where they are missing, and cannot where something else has their name.
var madeFolders = []string{listsFolder + "/partial", cacheFolder + "/partial"}

// lookAtFolders looks at whether they are there, are folders, and can be used.
func lookAtFolders(n *inner, root fs.FS) (list []flaw) {
	for _, name := range madeFolders {
		is, err := fs.Lstat(root, name)
		if err != nil {
			continue
		}
		if to, err := fs.Stat(root, name); err != nil || !to.IsDir() {
			text := "it is " + kindOf(is.Mode()) + ", and has to be a folder"
			list = append(list, flaw{bag.StateFault{File: name, Text: text}, n.asides(name)})
		}
	}
	for _, f := range neededFolders {
		info, err := fs.Stat(root, f.name)
		fault := bag.StateFault{File: f.name}
		var mend func(*os.Root) (string, error)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			fault.Text = "the folder is not there"
			mend = func(files *os.Root) (string, error) {
				if _, err := files.Lstat(f.name); err == nil { // a link that leads nowhere
					if _, err := n.moveAside(files, f.name); err != nil {
						return "", err
					}
				}
				return f.name + " is made", errors.Join(files.MkdirAll(f.name, 0o755), files.Chmod(f.name, f.mode))
			}
		case err != nil:
			continue
		case !info.IsDir():
			fault.Text = "it is " + kindOf(info.Mode()) + ", and has to be a folder"
			mend = func(files *os.Root) (string, error) {
				to, err := n.moveAside(files, f.name)
				if err != nil {
					return "", err
				}
				return fmt.Sprintf("%s was moved aside to %s, and the folder made", f.name, to),
					errors.Join(files.MkdirAll(f.name, 0o755), files.Chmod(f.name, f.mode))
			}
		case f.mode&fs.ModeSticky != 0 && info.Mode()&(fs.ModePerm|fs.ModeSticky) != f.mode,
			info.Mode()&0o500 != 0o500:
			fault.Text = fmt.Sprintf("its mode is %s, and has to be %s", info.Mode(), f.mode|fs.ModeDir)
			mend = func(files *os.Root) (string, error) {
				return f.name + " has its mode again", files.Chmod(f.name, f.mode)
			}
		default:
			continue
		}
		list = append(list, flaw{fault, mend})
	}
	return list
}

// lookAtPackageFolders looks at whether every folder in which packages keep files is one: dpkg takes anything else
// there for a file of theirs, and refuses the next package that wants the folder. One that is not there is none of
// that.
func lookAtPackageFolders(n *inner, root fs.FS) (list []flaw) {
	folders := map[string]bool{}
	for _, p := range installedIn(root) {
		name, ok := infoName(root, p, "list")
		if !ok {
			continue
		}
		raw, err := readWhole(root, name)
		if err != nil {
			continue // told elsewhere
		}
		for line := range bytes.Lines(raw) {
			file := strings.TrimPrefix(strings.TrimSuffix(string(line), "\n"), "/")
			for at := path.Dir(file); at != "." && at != "/" && !folders[at]; at = path.Dir(at) {
				folders[at] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(folders)) {
		if !fs.ValidPath(name) ||
			slices.ContainsFunc(list, func(f flaw) bool { return strings.HasPrefix(name, f.File+"/") }) {
			continue
		}
		is, err := fs.Lstat(root, name)
		if err != nil || is.IsDir() {
			continue
		}
		if to, err := fs.Stat(root, name); err == nil && to.IsDir() {
			continue // by a link
		}
		list = append(list, flaw{
			bag.StateFault{
				File: name, Text: "it is " + kindOf(is.Mode()) + ", and has to be a folder: packages keep files in it",
			},
			func(files *os.Root) (string, error) {
				to, err := n.moveAside(files, name)
				if err != nil {
					return "", err
				}
				return fmt.Sprintf("%s was moved aside to %s, and the folder made", name, to),
					errors.Join(files.MkdirAll(name, 0o755), files.Chmod(name, 0o755))
			},
		})
	}
	return list
}

// merged are links of a system whose programs all lie below usr.
var merged = []string{"bin", "sbin", "lib", "lib64"}

// lookAtLinks looks at the links by which everything is found on such a system.
func lookAtLinks(_ *inner, root fs.FS) (list []flaw) {
	usr, err := fs.Stat(root, "usr/bin/dpkg")
	if err != nil || !usr.Mode().IsRegular() {
		return nil
	}
	for _, name := range merged {
		if _, err := fs.Stat(root, name); err == nil {
			continue
		}
		if _, err := fs.Stat(root, "usr/"+name); err != nil {
			continue
		}
		list = append(list, flaw{
			bag.StateFault{File: name, Text: "the link to usr/" + name + " is not there", Start: true},
			func(files *os.Root) (string, error) {
				_ = files.Remove(name) // a link that leads elsewhere
				return name + " leads to usr/" + name + " again", files.Symlink("usr/"+name, name)
			},
		})
	}
	return list
}

// markedFolders are where only packages write.
var markedFolders = []string{"boot", "usr", "var/lib/dpkg", "var/lib/apt", "var/cache/apt", "var/cache/debconf"}

// lookAtMarks looks for files that cannot be changed by anybody (chattr(1)).
func lookAtMarks(_ *inner, root fs.FS) (list []flaw) {
	for _, folder := range markedFolders {
		_ = fs.WalkDir(root, folder, func(name string, d fs.DirEntry, err error) error {
			if err != nil || name == "usr/local" || name == "usr/src" {
				return fs.SkipDir // what cannot be read is told elsewhere
			}
			info, err := d.Info()
			if err != nil {
				return nil //nolint:nilerr // as above
			}
			a, ok := info.Sys().(ext.Attributes)
			if !ok {
				return nil
			}
			if a.Immutable || a.AppendOnly {
				list = append(list, flaw{
					bag.StateFault{File: name, Text: "it is marked so that nobody can change it"},
					func(files *os.Root) (string, error) { return name + " can be changed again", unmark(files, name) },
				})
			}
			return nil
		})
	}
	return list
}

// lookAtAccounts looks at the lists of accounts, of which each has a copy beside it.
func lookAtAccounts(n *inner, root fs.FS) (list []flaw) {
	if !there(root, "usr/bin/dpkg") {
		return nil // not a whole system
	}
	for _, a := range []struct{ name, backup, first string }{
		{"etc/passwd", "var/backups/passwd.bak", "root:"}, {"etc/group", "var/backups/group.bak", "root:"},
		{"etc/shadow", "var/backups/shadow.bak", "root:"},
	} {
		raw, err := readWhole(root, a.name)
		why := ""
		switch {
		case errors.Is(err, fs.ErrNotExist):
			why = "it is not there"
		case err != nil:
			why = err.Error()
		case damaged(raw) != "":
			why = damaged(raw)
		case !bytes.HasPrefix(raw, []byte(a.first)) && !bytes.Contains(raw, []byte("\n"+a.first)):
			why = "it has no account root"
		default:
			continue
		}
		f := flaw{StateFault: bag.StateFault{File: a.name, Text: "the list of accounts is damaged: " + why}}
		for _, from := range []string{a.name + "-", a.backup} {
			older, err := readWhole(root, from)
			if err == nil && damaged(older) == "" && bytes.Contains(older, []byte(a.first)) {
				f.mend = n.rewrites(a.name, older, "from its copy "+from)
				break
			}
		}
		list = append(list, f)
	}
	return list
}

// lookAtPreload looks at what every program loads first (ld.so(8)).
func lookAtPreload(n *inner, root fs.FS) []flaw {
	const name = "etc/ld.so.preload"
	for _, word := range strings.Fields(readText(root, name)) {
		if strings.HasPrefix(word, "#") {
			break
		}
		if _, err := fs.Stat(root, strings.TrimPrefix(word, "/")); err != nil {
			text := "every program is told to load " + word + " first, and that is not there"
			return []flaw{{bag.StateFault{File: name, Text: text}, n.asides(name)}}
		}
	}
	return nil
}

// lookAtDownloads looks at package files that were fetched: one that is cut off is fetched anew
// when it is out of the way.
func lookAtDownloads(n *inner, root fs.FS) (list []flaw) {
	entries, _ := fs.ReadDir(root, cacheFolder) // a missing folder is told elsewhere
	for _, e := range entries {
		name := path.Join(cacheFolder, e.Name())
		if path.Ext(name) != ".deb" {
			continue
		}
		if err := wholePackage(root, name); err != nil {
			text := "the package file that was fetched is damaged: " + err.Error()
			list = append(list, flaw{bag.StateFault{File: name, Text: text}, n.asides(name)})
		}
	}
	return list
}

// lookAtLists looks at the lists of what the repositories offer.
func lookAtLists(n *inner, root fs.FS) (list []flaw) {
	entries, _ := fs.ReadDir(root, listsFolder) // a missing folder is told elsewhere
	for _, e := range entries {
		name := path.Join(listsFolder, e.Name())
		switch {
		case e.IsDir() || e.Name() == "lock":
			continue
		case strings.HasSuffix(name, "_Packages") || strings.HasSuffix(name, "_Sources") || strings.HasSuffix(name,
			"Release"):
		default:
			continue
		}
		if why := notAList(root, name); why != "" {
			text := "the list of a repository is damaged: " + why
			list = append(list, flaw{bag.StateFault{File: name, Text: text}, n.asides(name)})
		}
	}
	return list
}

// notAList looks at the beginning and the end of a list.
func notAList(root fs.FS, name string) string {
	f, err := root.Open(name)
	if err != nil {
		return err.Error()
	}
	defer func() { _ = f.Close() }() // it was only read
	info, err := f.Stat()
	if err != nil || info.Size() == 0 {
		return "" // a repository may offer nothing
	}
	head := make([]byte, min(info.Size(), 512))
	if _, err := f.Read(head); err != nil {
		return err.Error()
	}
	first, _, _ := bytes.Cut(head, []byte("\n"))
	switch {
	case slices.Contains(head, 0):
		return damaged(head)
	case strings.HasSuffix(name, "InRelease"):
		if !bytes.HasPrefix(head, []byte("-----BEGIN PGP SIGNED")) {
			return "it is not signed"
		}
	case !fieldLine.Match(first):
		return fmt.Sprintf("it begins with %.40q", first)
	}
	return ""
}

// Names of sources in their two forms (sources.list(5)).
var (
	sourceLine = regexp.MustCompile(`^(deb|deb-src)\s+(\[[^\]]*\]\s+)?(\S+:\S*)\s+(\S+)(\s+\S+)*\s*$`)
	sourceName = regexp.MustCompile(`^[A-Za-z0-9_.-]+\.(list|sources)$`)
)

// lookAtSources looks at lines of the list of sources that apt would refuse.
func lookAtSources(n *inner, root fs.FS) (list []flaw) {
	names := []string{"etc/apt/sources.list"}
	more, _ := fs.Glob(root, "etc/apt/sources.list.d/*") // the pattern is right
	for _, name := range append(names, more...) {
		raw, err := readWhole(root, name)
		if err != nil || name != names[0] && !sourceName.MatchString(path.Base(name)) {
			continue
		}
		text, bad := string(raw), []string(nil)
		if path.Ext(name) == ".sources" {
			text, bad = soundSources(text)
		} else {
			text, bad = soundLines(text)
		}
		if len(bad) == 0 {
			continue
		}
		list = append(list, flaw{
			bag.StateFault{File: name, Text: fmt.Sprintf("apt refuses %.60q", bad[0])},
			n.rewrites(name, []byte(text), fmt.Sprintf("%.60q is a comment now", bad[0])),
		})
	}
	return list
}

// soundLines makes comments of the lines that apt would refuse.
func soundLines(text string) (sound string, bad []string) {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		plain, _, _ := strings.Cut(line, "#")
		plain = strings.TrimSpace(plain)
		if plain == "" {
			continue
		}
		m := sourceLine.FindStringSubmatch(plain)
		// A suite that ends with a slash is a path, and goes without components; any other has some.
		if m == nil || strings.HasSuffix(m[4], "/") != (m[5] == "") {
			bad = append(bad, line)
			lines[i] = "# " + line
		}
	}
	return strings.Join(lines, "\n"), bad
}

// soundSources makes comments of the stanzas that lack what apt needs.
func soundSources(text string) (sound string, bad []string) {
	parts := strings.Split(text, "\n\n")
	for i, part := range parts {
		p := paragraph{}
		err := eachParagraph(
			strings.NewReader(part),
			[]string{"types", "uris", "suites", "components"},
			func(f paragraph) error {
				for k, v := range f {
					p[k] = v
				}
				return nil
			},
		)
		if strings.TrimSpace(part) == "" || err == nil && len(p) == 0 {
			continue
		}
		path := strings.HasSuffix(p["suites"], "/")
		if err != nil || p["types"] == "" || !strings.Contains(p["uris"], ":") || p["suites"] == "" ||
			(p["components"] == "") != path {
			first, _, _ := strings.Cut(strings.TrimSpace(part), "\n")
			bad = append(bad, first)
			parts[i] = "# " + strings.ReplaceAll(part, "\n", "\n# ")
		}
	}
	return strings.Join(parts, "\n\n"), bad
}

// lookAtAccountLocks looks for locks of the lists of accounts whose owner is gone: each holds the number of a process
// (lckpwdf(3) and the tools that change accounts).
func lookAtAccountLocks(n *inner, root fs.FS) (list []flaw) {
	for _, name := range []string{"etc/passwd.lock", "etc/group.lock", "etc/shadow.lock", "etc/gshadow.lock"} {
		if !there(root, name) {
			continue
		}
		owner := strings.Trim(readText(root, name), " \n\x00")
		if _, err := os.Stat("/proc/" + owner); err == nil && owner != "" {
			continue // a process of that number runs on this computer: it may be the owner
		}
		list = append(list, flaw{
			bag.StateFault{File: name, Text: "it keeps accounts from being changed, and who made it is gone"}, n.asides(name),
		})
	}
	return list
}

// lookAtLocks looks at whether what the tools lock is a file.
func lookAtLocks(n *inner, root fs.FS) (list []flaw) {
	files := slices.Concat(Adapter{}.LockFiles(), Adapter{}.MadeAnew(), []string{dpkgFolder + "/triggers/Lock"})
	for _, name := range files {
		info, err := fs.Stat(root, name)
		if err != nil || info.Mode().IsRegular() {
			continue // the tools make one that is not there
		}
		list = append(list, flaw{
			bag.StateFault{File: name, Text: "it is " + kindOf(info.Mode()) + ", and has to be a file"}, n.asides(name),
		})
	}
	return list
}
