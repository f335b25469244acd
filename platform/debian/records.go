package debian

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/readfs"
)

// Where dpkg keeps its records (dpkg(1), FILES).
const (
	dpkgFolder   = "var/lib/dpkg"
	statusFile   = dpkgFolder + "/status"
	infoFolder   = dpkgFolder + "/info"
	cacheFolder  = "var/cache/apt/archives"
	listsFolder  = "var/lib/apt/lists"
	overrideFile = dpkgFolder + "/statoverride"
	diversions   = dpkgFolder + "/diversions"
)

// A stanza is one paragraph of the package database, as it stands there.
type stanza struct {
	name string // of the package, with its architecture where it has one
	raw  []byte
	why  string // why dpkg would refuse it; empty where it would not
}

var (
	fieldLine  = regexp.MustCompile(`^[!-9;-~]+:`)
	packageTag = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`)
	versionTag = regexp.MustCompile(`^([0-9]+:)?[A-Za-z0-9.+~-]+$`)
)

// wants and states are the words of the field Status (dpkg(1), PACKAGE STATES).
var (
	wants  = []string{"unknown", "install", "hold", "deinstall", "purge"}
	flags  = []string{"ok", "reinstreq"}
	states = []string{
		"not-installed", "config-files", "half-installed", "unpacked", "half-configured", "triggers-awaited",
		"triggers-pending", "installed",
	}
)

// stanzas cuts a database into its paragraphs, and says which of them dpkg would refuse.
func stanzas(text []byte) (list []stanza) {
	for _, raw := range bytes.Split(text, []byte("\n\n")) {
		if raw = bytes.Trim(raw, "\n"); len(raw) > 0 {
			list = append(list, readStanza(raw))
		}
	}
	if n := len(list); n > 0 && text[len(text)-1] != '\n' && list[n-1].why == "" {
		list[n-1].why = "it is cut off"
	}
	return list
}

func readStanza(raw []byte) stanza {
	s := stanza{raw: raw}
	if slices.Contains(raw, 0) {
		s.why = "it has zeros in it"
	}
	p := paragraph{}
	for _, line := range strings.Split(string(raw), "\n") {
		name, value, _ := strings.Cut(line, ":")
		switch {
		case line == "" || line[0] == ' ' || line[0] == '\t':
		case !fieldLine.MatchString(line):
			s.why = fmt.Sprintf("%.40q is not a field", line)
		default:
			name = strings.ToLower(name)
			if _, twice := p[name]; twice && s.why == "" {
				s.why = "the field " + name + " stands there twice"
			}
			p[name] = strings.TrimSpace(value)
		}
	}
	s.name = p["package"]
	if p["architecture"] != "" && p["multi-arch"] == "same" {
		s.name += ":" + p["architecture"]
	}
	if s.why != "" {
		return s
	}
	words := strings.Fields(p["status"])
	switch {
	case !packageTag.MatchString(p["package"]):
		s.why = "it names no package"
	case len(words) != 3 || !slices.Contains(wants, words[0]) || !slices.Contains(flags, words[1]) ||
		!slices.Contains(states, words[2]):
		s.why = fmt.Sprintf("its state is %q", p["status"])
	case words[2] != "not-installed" && !versionTag.MatchString(p["version"]):
		s.why = fmt.Sprintf("its version is %q", p["version"])
	case words[2] == "installed" && p["architecture"] == "":
		s.why = "it has no architecture"
	}
	return s
}

// statusCopies are where older states of the database are kept, the newest first.
func statusCopies(root fs.FS) []string {
	names := []string{statusFile + "-old"}
	for _, pattern := range []string{"var/backups/dpkg.status.[0-9]", "var/backups/dpkg.status.[0-9].gz"} {
		found, _ := fs.Glob(root, pattern) // the patterns are right
		names = append(names, found...)
	}
	return names
}

// readCopy reads a copy, packed or not; nil where it is not a sound one.
func readCopy(root fs.FS, name string) []stanza {
	raw, err := readWhole(root, name)
	if err != nil {
		return nil
	}
	if strings.HasSuffix(name, ".gz") {
		in, err := gzip.NewReader(bytes.NewReader(raw))
		if err != nil {
			return nil
		}
		if raw, err = io.ReadAll(io.LimitReader(in, maxRecord)); err != nil {
			return nil
		}
	}
	list := stanzas(raw)
	if len(list) == 0 || slices.ContainsFunc(list, func(s stanza) bool { return s.why != "" }) {
		return nil
	}
	return list
}

// lookAtStatus looks at the package database. Paragraphs that dpkg would refuse are taken from
// the newest copy that has them; a database that is none is taken from a copy as a whole.
func lookAtStatus(n *inner, root fs.FS) []flaw {
	raw, err := readWhole(root, statusFile)
	list := stanzas(raw)
	bad := slices.DeleteFunc(slices.Clone(list), func(s stanza) bool { return s.why == "" })
	f := flaw{StateFault: bag.StateFault{File: statusFile}}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f.Text = "the package database is not there"
	case err != nil:
		f.Text = "the package database cannot be read: " + err.Error()
	case len(list) == 0:
		f.Text = "the package database has no package: " + orText(damaged(raw), "it has only empty lines")
	case len(bad) > 0:
		f.Text = fmt.Sprintf("%d of %d paragraphs are damaged; the first is of %s: %s",
			len(bad), len(list), orText(bad[0].name, "no package that is named"), bad[0].why)
	default:
		return vanished(n, root, list)
	}
	for _, name := range statusCopies(root) {
		copied := readCopy(root, name)
		if copied == nil {
			continue
		}
		text, how := patched(list, bad, copied)
		f.mend = n.rewrites(statusFile, text, how+" from "+name)
		break
	}
	if f.mend == nil && len(bad) > 0 && len(bad) < len(list) {
		text, how := patched(list, bad, nil)
		f.mend = n.rewrites(statusFile, text, how)
	}
	return []flaw{f}
}

// patched is the database with its damaged paragraphs taken from a copy; the copy itself where
// no paragraph is sound.
func patched(list, bad, copied []stanza) (text []byte, how string) {
	if len(bad) == len(list) {
		return joined(copied), fmt.Sprintf("%d packages", len(copied))
	}
	have := map[string]bool{}
	var out []stanza
	for _, s := range list {
		if s.why == "" {
			have[s.name] = true
			out = append(out, s)
		}
	}
	put := 0
	for _, s := range copied {
		if !have[s.name] {
			out = append(out, s)
			put++
		}
	}
	left := len(bad) - put
	how = fmt.Sprintf("%d paragraphs are put back", put)
	if left > 0 {
		how = fmt.Sprintf("%d damaged paragraphs are put back and %d left out, of which no copy is there", put, left)
	}
	return joined(out), how
}

func joined(list []stanza) []byte {
	var b bytes.Buffer
	for _, s := range list {
		b.Write(s.raw)
		b.WriteString("\n\n")
	}
	return b.Bytes()
}

func orText(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// vanished are packages whose files are listed and which the database does not have any more.
func vanished(n *inner, root fs.FS, list []stanza) []flaw {
	known := map[string]bool{}
	for _, s := range list {
		known[strings.SplitN(s.name, ":", 2)[0]] = true
	}
	names, _ := fs.Glob(root, infoFolder+"/*.list") // the pattern is right
	var lost []string
	for _, name := range names {
		p, _, _ := strings.Cut(strings.TrimSuffix(path.Base(name), ".list"), ":")
		if !known[p] {
			lost = append(lost, p)
		}
	}
	if len(lost) == 0 {
		return nil
	}
	f := flaw{StateFault: bag.StateFault{File: statusFile, Text: fmt.Sprintf(
		"%d packages whose files are listed are not in the database: %s", len(lost), firstFew(lost, 5),
	)}}
	for _, name := range statusCopies(root) {
		copied := readCopy(root, name)
		found := slices.DeleteFunc(slices.Clone(copied), func(s stanza) bool {
			return !slices.Contains(lost, strings.SplitN(s.name, ":", 2)[0])
		})
		if len(found) == len(lost) {
			f.mend = n.rewrites(statusFile, joined(append(slices.Clone(list), found...)),
				fmt.Sprintf("%d packages are put back from %s", len(found), name))
			return []flaw{f}
		}
	}
	if slices.ContainsFunc(lost, func(p string) bool { return len(cachedOf(root, p)) > 0 }) {
		f.mend = func(files *os.Root) (string, error) { return n.entriesFromPackages(files, list, lost) }
	}
	return []flaw{f}
}

// cachedOf lists the package files of a package in apt's cache.
func cachedOf(root fs.FS, name string) []string {
	found, _ := fs.Glob(root, cacheFolder+"/"+name+"_*.deb") // names of packages hold nothing that a pattern means
	return found
}

// entriesFromPackages writes the entries of packages that vanished anew, from their package files:
// of the version whose files are the ones that are there.
func (n *inner) entriesFromPackages(files *os.Root, list []stanza, lost []string) (string, error) {
	var put, left []string
	for _, name := range lost {
		raw, err := databaseEntry(files, name)
		if err != nil {
			left = append(left, name)
			continue
		}
		list = append(list, readStanza(raw))
		put = append(put, name)
	}
	if len(put) == 0 {
		return "", fmt.Errorf("no package file at hand is of %s as it lies here", firstFew(left, 5))
	}
	how := "entries written anew from package files: " + firstFew(put, 5)
	if len(left) > 0 {
		how += "; not of " + firstFew(left, 5) + ", of which none is at hand"
	}
	return n.rewrites(statusFile, joined(list), how)(files)
}

// databaseEntry is what the database says of a package that is installed, by its package file.
func databaseEntry(files *os.Root, name string) ([]byte, error) {
	for _, at := range cachedOf(readfs.Within(files), name) {
		f, err := files.Open(at)
		if err != nil {
			continue
		}
		deb, err := openDeb(at, f)
		if err != nil {
			continue
		}
		raw, err := deb.entry(files)
		if err = errors.Join(err, deb.Close()); err == nil {
			return raw, nil
		}
	}
	return nil, fs.ErrNotExist
}

func firstFew(list []string, most int) string {
	if len(list) > most {
		return strings.Join(list[:most], ", ") + ", …"
	}
	return strings.Join(list, ", ")
}

// lookAtAvailable looks at the list of what can be had, which only old front ends fill.
func lookAtAvailable(n *inner, root fs.FS) []flaw {
	const name = dpkgFolder + "/available"
	raw, err := readWhole(root, name)
	why := ""
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		why = err.Error()
	case slices.Contains(raw, 0):
		why = damaged(raw)
	default:
		for _, line := range strings.Split(string(raw), "\n") {
			if line != "" && line[0] != ' ' && line[0] != '\t' && !fieldLine.MatchString(line) {
				why = fmt.Sprintf("%.40q is not a field", line)
				break
			}
		}
	}
	if why == "" {
		return nil
	}
	return []flaw{
		{bag.StateFault{File: name, Text: "the list of available packages cannot be read: " + why}, n.asides(name)},
	}
}

// lookAtUpdates looks at the notes of a run that was cut off: dpkg takes them into the
// database at its next run, if they can be read.
func lookAtUpdates(n *inner, root fs.FS) (list []flaw) {
	entries, _ := fs.ReadDir(root, dpkgFolder+"/updates") // a missing folder is told elsewhere
	for _, e := range entries {
		name := path.Join(dpkgFolder, "updates", e.Name())
		why := ""
		if !e.Type().IsRegular() {
			why = "it is " + kindOf(e.Type())
		} else if strings.Trim(e.Name(), "0123456789") != "" {
			why = "dpkg makes no file of that name"
		} else if raw, err := readWhole(root, name); err != nil {
			why = err.Error()
		} else {
			for _, s := range stanzas(raw) {
				if s.why != "" {
					why = s.why
				}
			}
		}
		if why != "" {
			text := "a note of a run that was cut off cannot be taken over: " + why
			list = append(list, flaw{bag.StateFault{File: name, Text: text}, n.asides(name)})
		}
	}
	return list
}

// lookAtFileLists looks at the lists of files that packages own.
func lookAtFileLists(n *inner, root fs.FS) (list []flaw) {
	for _, p := range installedIn(root) {
		name, ok := infoName(root, p, "list")
		if !ok && p.State == "half-installed" {
			continue // its unpacking was cut off: that is for whoever brings packages to rest
		}
		if !ok {
			text := "the list of files of " + p.Name + " is not there"
			f := flaw{StateFault: bag.StateFault{File: infoPath(p, "list"), Text: text}}
			_, sums := infoName(root, p, "md5sums")
			if sums || there(root, cachedName(p)) { // else dpkg only warns, and takes it for a package without files
				f.mend = n.listAnew(p, infoPath(p, "list"))
			}
			list = append(list, f)
			continue
		}
		raw, err := readWhole(root, name)
		why := ""
		switch {
		case err != nil:
			why = err.Error()
		case len(raw) == 0 && p.State == "installed":
			why = "it is empty"
		case slices.Contains(raw, 0):
			why = damaged(raw)
		case len(raw) > 0 && raw[len(raw)-1] != '\n':
			why = "its last line is cut off"
		case bytes.Contains(raw, []byte("\n\n")) || bytes.HasPrefix(raw, []byte("\n")):
			why = "it has an empty name in it"
		default:
			continue
		}
		list = append(list, flaw{
			bag.StateFault{File: name, Text: "the list of files of " + p.Name + " is damaged: " + why}, n.listAnew(p, name),
		})
	}
	return list
}

const extendedStates = "var/lib/apt/extended_states"

// lookAtExtended looks at what apt notes of packages that it chose by itself: paragraphs of fields. Of one that is
// damaged the whole paragraphs are kept; a package whose note is lost counts as chosen by a person, and nothing is
// removed for that.
func lookAtExtended(n *inner, root fs.FS) []flaw {
	raw, err := readWhole(root, extendedStates)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	fault := bag.StateFault{File: extendedStates}
	var whole []string
	if err != nil {
		fault.Text = err.Error()
	} else {
		for _, part := range strings.Split(string(raw), "\n\n") {
			if part = strings.Trim(part, "\n"); extendedPart.MatchString(part) {
				whole = append(whole, part+"\n")
			} else if strings.TrimSpace(part) != "" {
				fault.Text = cmp.Or(damaged([]byte(part)), "a note in it is cut off, or is none")
			}
		}
		if fault.Text == "" && len(raw) > 0 && raw[len(raw)-1] != '\n' {
			fault.Text = "its last line is cut off"
		}
	}
	if fault.Text == "" {
		return nil
	}
	text := strings.Join(whole, "\n")
	return []flaw{
		{fault, n.rewrites(extendedStates, []byte(text), fmt.Sprintf("%d whole notes of it are kept", len(whole)))},
	}
}

// extendedPart is a note: each field on a line, the package among them.
var extendedPart = regexp.MustCompile(
	`^(?:[A-Z][A-Za-z-]*: [^\x00\n]+\n)*Package: \S+(?:\n[A-Z][A-Za-z-]*: [^\x00\n]+)*$`,
)

// listAnew makes the mend of a package's list of files: from its package file where that is at
// hand, else from what can still be read of it and of its checksums.
func (n *inner) listAnew(p bag.Package, name string) func(*os.Root) (string, error) {
	return func(files *os.Root) (string, error) {
		if info, err := files.Lstat(name); err == nil && !info.Mode().IsRegular() {
			if _, err := n.moveAside(files, name); err != nil {
				return "", err
			}
		}
		if deb, err := openCached(files, p); err == nil {
			defer func() { _ = deb.Close() }() // it was only read
			names, err := deb.paths()
			if err == nil {
				text := []byte(strings.Join(names, "\n") + "\n")
				return fmt.Sprintf("%s: %d names from %s", name, len(names), deb.name), replace(files, name, text, 0o644)
			}
		}
		seen := map[string]bool{}
		old, _ := files.ReadFile(name)
		for _, line := range strings.Split(string(old), "\n") {
			if strings.HasPrefix(line, "/") && !strings.ContainsRune(line, 0) {
				if _, err := files.Lstat(strings.TrimPrefix(line, "/")); err == nil || line == "/." {
					seen[line] = true
				}
			}
		}
		sums, _ := files.ReadFile(strings.TrimSuffix(name, ".list") + ".md5sums")
		for _, line := range strings.Split(string(sums), "\n") {
			if _, file, ok := strings.Cut(line, "  "); ok {
				for file = "/" + file; file != "/"; file = path.Dir(file) {
					seen[file] = true
				}
			}
		}
		if len(seen) == 0 {
			return "", fmt.Errorf("%s: nothing is left of it, and no package file of %s %s is at hand", name, p.Name, p.Version)
		}
		seen["/."] = true
		names := make([]string, 0, len(seen))
		for s := range seen {
			names = append(names, s)
		}
		slices.Sort(names)
		return fmt.Sprintf("%s: %d names from its checksums and what could be read of it", name, len(names)),
			replace(files, name, []byte(strings.Join(names, "\n")+"\n"), 0o644)
	}
}

// installedIn lists the packages that have files on the system.
func installedIn(root fs.FS) []bag.Package {
	f, err := root.Open(statusFile)
	if err != nil {
		return nil
	}
	defer func() { _ = f.Close() }() // it was only read
	return slices.DeleteFunc(ReadDatabase(f), func(p bag.Package) bool {
		return p.State == "not-installed" || p.State == "config-files"
	})
}

func infoPath(p bag.Package, what string) string {
	return fmt.Sprintf("%s/%s.%s", infoFolder, p.Name, what)
}

// infoName is the file that dpkg keeps of a package: with its architecture in the name, where
// several can be installed.
func infoName(root fs.FS, p bag.Package, what string) (string, bool) {
	for _, name := range []string{
		fmt.Sprintf("%s/%s:%s.%s", infoFolder, p.Name, p.Architecture, what), infoPath(p, what),
	} {
		if _, err := fs.Stat(root, name); err == nil {
			return name, true
		}
	}
	return "", false
}

// scripts are those of packages (Debian Policy 6.1).
var scripts = []string{"preinst", "postinst", "prerm", "postrm", "config"}

// lookAtScripts looks at whether the scripts of packages can be run at all.
func lookAtScripts(n *inner, root fs.FS) (list []flaw) {
	entries, _ := fs.ReadDir(root, infoFolder) // a missing folder is told elsewhere
	packages := map[string]bag.Package{}
	for _, p := range installedIn(root) {
		packages[p.Name] = p
	}
	for _, e := range entries {
		ext := strings.TrimPrefix(path.Ext(e.Name()), ".")
		if !slices.Contains(scripts, ext) {
			continue
		}
		name := path.Join(infoFolder, e.Name())
		p, of := packages[strings.SplitN(strings.TrimSuffix(e.Name(), "."+ext), ":", 2)[0]]
		info, err := fs.Stat(root, name)
		if err != nil || !of {
			continue
		}
		why := ""
		var mend func(*os.Root) (string, error)
		switch {
		case info.Size() == 0:
			why = "it is empty"
		case info.Mode()&0o111 == 0:
			why = "it cannot be run: its mode is " + info.Mode().Perm().String()
			mend = func(files *os.Root) (string, error) { return name + " can be run again", files.Chmod(name, 0o755) }
		default:
			continue
		}
		if mend == nil {
			mend = n.scriptAnew(p, name, ext)
		}
		text := fmt.Sprintf("the script %s of %s: %s", ext, p.Name, why)
		list = append(list, flaw{bag.StateFault{File: name, Text: text}, mend})
	}
	return list
}

// scriptAnew makes the mend of a package's script: from its package file; a script that is gone
// and cannot be had is one that does nothing.
func (n *inner) scriptAnew(p bag.Package, name, ext string) func(*os.Root) (string, error) {
	return func(files *os.Root) (string, error) {
		deb, err := openCached(files, p)
		if err != nil {
			return "", fmt.Errorf("%s: no package file of %s %s is at hand", name, p.Name, p.Version)
		}
		defer func() { _ = deb.Close() }() // it was only read
		raw, err := deb.control(ext)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: from %s", name, deb.name), replace(files, name, raw, 0o755)
	}
}

// lookAtOverrides looks at the list of owners and modes that differ from the packages' own
// (dpkg-statoverride(1)): dpkg stops at an account that is not there.
func lookAtOverrides(n *inner, root fs.FS) []flaw {
	raw, err := readWhole(root, overrideFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	users, groups := accountNames(root, "etc/passwd"), accountNames(root, "etc/group")
	var kept, out []string
	for _, line := range strings.Split(strings.TrimRight(string(raw), "\n"), "\n") {
		words := strings.Fields(line)
		known := func(name string, list []string) bool {
			return strings.HasPrefix(name, "#") || slices.Contains(list, name)
		}
		if len(words) >= 4 && known(words[0], users) && known(words[1], groups) && strings.HasPrefix(words[3], "/") {
			kept = append(kept, line)
		} else if line != "" || len(raw) == 0 {
			out = append(out, line)
		}
	}
	if len(raw) == 0 || len(out) == 0 {
		return nil
	}
	text := ""
	if len(kept) > 0 {
		text = strings.Join(kept, "\n") + "\n"
	}
	return []flaw{{
		bag.StateFault{File: overrideFile, Text: fmt.Sprintf(
			"%d lines are damaged or name an account that is not there: %.60q", len(out), out[0],
		)},
		n.rewrites(overrideFile, []byte(text), fmt.Sprintf("without the line %.60q", out[0])),
	}}
}

// accountNames are the first fields of a list of accounts or groups.
func accountNames(root fs.FS, name string) (list []string) {
	for _, line := range strings.Split(readText(root, name), "\n") {
		if account, _, ok := strings.Cut(line, ":"); ok {
			list = append(list, account)
		}
	}
	return list
}

// lookAtDiversions looks at the record of files that lie elsewhere than their packages say
// (dpkg-divert(1)): three lines for each.
func lookAtDiversions(n *inner, root fs.FS) []flaw {
	raw, err := readWhole(root, diversions)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(raw) == 0 {
		return nil
	}
	sound := func(raw []byte) ([]string, bool) {
		lines := strings.Split(strings.TrimRight(string(raw), "\n"), "\n")
		whole := len(lines) / 3 * 3
		for i := 0; i < whole; i += 3 {
			if !strings.HasPrefix(lines[i], "/") || !strings.HasPrefix(lines[i+1], "/") || lines[i+2] == "" {
				return lines[:i], false
			}
		}
		return lines[:whole], whole == len(lines) && raw[len(raw)-1] == '\n'
	}
	lines, ok := sound(raw)
	if ok && err == nil && !slices.Contains(raw, 0) {
		return nil
	}
	f := flaw{StateFault: bag.StateFault{File: diversions, Text: "the record of diverted files is damaged or cut off"}}
	if older, err := readWhole(root, diversions+"-old"); err == nil && len(older) > 0 {
		if _, ok := sound(older); ok && len(older) >= len(raw) {
			f.mend = n.rewrites(diversions, older, "from its copy "+diversions+"-old")
			return []flaw{f}
		}
	}
	text := ""
	if len(lines) > 0 {
		text = strings.Join(lines, "\n") + "\n"
	}
	f.mend = n.rewrites(diversions, []byte(text), fmt.Sprintf("the %d entries that are whole", len(lines)/3))
	return []flaw{f}
}

var triggerLine = regexp.MustCompile(`^/\S+ [a-z0-9][a-z0-9+.-]+(?::[a-z0-9-]+)?(?:/(?:no)?await)?$`)

// lookAtTriggers looks at who waits for which file, and what was triggered and not done yet.
func lookAtTriggers(n *inner, root fs.FS) (list []flaw) {
	const file, open = dpkgFolder + "/triggers/File", dpkgFolder + "/triggers/Unincorp"
	if raw, err := readWhole(root, file); err == nil {
		for _, line := range strings.Split(strings.TrimRight(string(raw), "\n"), "\n") {
			if line != "" && !triggerLine.MatchString(line) {
				list = append(list, flaw{
					bag.StateFault{File: file, Text: fmt.Sprintf("%.40q is not a line of it", line)},
					n.rewrites(file, fileTriggers(root), "made anew from what the packages declare"),
				})
				break
			}
		}
	}
	if raw, err := readWhole(root, open); err == nil && len(raw) > 0 {
		for _, line := range strings.Split(strings.TrimRight(string(raw), "\n"), "\n") {
			if len(strings.Fields(line)) < 2 || strings.ContainsRune(line, 0) {
				list = append(list, flaw{
					bag.StateFault{File: open, Text: fmt.Sprintf("%.40q is not a line of it", line)}, n.asides(open),
				})
				break
			}
		}
	}
	return list
}

// fileTriggers is what the packages declare to wait for (deb-triggers(5)).
func fileTriggers(root fs.FS) []byte {
	names, _ := fs.Glob(root, infoFolder+"/*.triggers") // the pattern is right
	var lines []string
	for _, name := range names {
		for _, line := range strings.Split(readText(root, name), "\n") {
			words := strings.Fields(line)
			if len(words) == 2 && strings.HasPrefix(words[0], "interest") && strings.HasPrefix(words[1], "/") {
				p := strings.TrimSuffix(path.Base(name), ".triggers")
				if words[0] == "interest-noawait" {
					p += "/noawait"
				}
				lines = append(lines, words[1]+" "+p)
			}
		}
	}
	if len(lines) == 0 {
		return nil
	}
	return []byte(strings.Join(lines, "\n") + "\n")
}

// lookAtAlternatives looks at the records of programs of which one is chosen
// (update-alternatives(1)).
func lookAtAlternatives(n *inner, root fs.FS) (list []flaw) {
	entries, _ := fs.ReadDir(root, dpkgFolder+"/alternatives") // a missing folder is told elsewhere
	for _, e := range entries {
		name := path.Join(dpkgFolder, "alternatives", e.Name())
		raw, err := readWhole(root, name)
		lines := strings.Split(string(raw), "\n")
		ok := err == nil && len(lines) > 3 && (lines[0] == "auto" || lines[0] == "manual") &&
			strings.HasPrefix(lines[1], "/") && strings.HasSuffix(string(raw), "\n\n")
		if !ok && !strings.HasSuffix(e.Name(), ".dpkg-tmp") {
			text := "the record of the alternatives of " + e.Name() + " is damaged"
			list = append(list, flaw{bag.StateFault{File: name, Text: text}, n.asides(name)})
		}
	}
	return list
}

// lookAtDebconf looks at the answers that packages were given.
func lookAtDebconf(n *inner, root fs.FS) (list []flaw) {
	for _, name := range []string{"var/cache/debconf/config.dat", "var/cache/debconf/templates.dat"} {
		raw, err := readWhole(root, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		why := ""
		switch {
		case err != nil:
			why = err.Error()
		case len(raw) > 0 && !bytes.HasPrefix(raw, []byte("Name: ")):
			why = orText(damaged(raw), "it does not begin with a name")
		case slices.Contains(raw, 0):
			why = damaged(raw)
		default:
			continue
		}
		f := flaw{bag.StateFault{File: name, Text: "the record of answers to packages is damaged: " + why}, n.asides(name)}
		older, err := readWhole(root, name+"-old")
		if err == nil && bytes.HasPrefix(older, []byte("Name: ")) && !slices.Contains(older, 0) {
			f.mend = n.rewrites(name, older, "from its copy")
		}
		list = append(list, f)
	}
	return list
}

// formatFile says in which form dpkg keeps what it knows of each package; it knows two.
const formatFile = infoFolder + "/format"

// lookAtFormat looks at the form in which dpkg is told to read its records.
func lookAtFormat(n *inner, root fs.FS) []flaw {
	text, err := readWhole(root, formatFile)
	form := strings.TrimSpace(string(text))
	if err != nil || form == "0" || form == "1" {
		return nil // without the file it is the older of the two
	}
	for _, p := range installedIn(root) {
		if _, err := fs.Stat(root, path.Join(infoFolder, p.Name+":"+p.Architecture+".list")); err == nil {
			form = "1" // names with an architecture are the newer one's
			break
		}
		form = "0"
	}
	return []flaw{{
		bag.StateFault{
			File: formatFile,
			Text: fmt.Sprintf("it says %.20q, and dpkg knows the forms 0 and 1", strings.TrimSpace(string(text))),
		},
		n.rewrites(formatFile, []byte(form+"\n"), "it says "+form+", as the names of the records do"),
	}}
}
