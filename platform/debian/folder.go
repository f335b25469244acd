package debian

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"
	"time"

	"diorthos/core/bag"
	"diorthos/core/system"
)

var _ system.FolderAdapter = Adapter{}

// A FolderSystem is one whose files lie in a folder, such as the running machine's, and was opened to be
// changed. By what firmware and loader it is started is not looked at.
type FolderSystem struct{ inner }

// Family is what facts call this kind of system.
func (*FolderSystem) Family() string { return family }

// OpenFolder opens the system of a tree to be changed.
func (Adapter) OpenFolder(t system.Tree, o system.Options) (system.System, error) {
	return &FolderSystem{inner{tree: t, now: o.Now, fsys: t.Files()}}, nil
}

// SurveyFolder looks at the records of packages, and at what the package system works with.
func (Adapter) SurveyFolder(root fs.FS, now time.Time, facts *bag.Facts) {
	if facts.State == nil {
		facts.State = &bag.State{}
	}
	noteFaults(&inner{fsys: root, now: now}, root, facts)
}

// noteFaults adds to the facts what is wrong with records and surroundings, and what was looked at.
func noteFaults(n *inner, root fs.FS, facts *bag.Facts) {
	s := facts.State
	list, held := faultsOf(n, root)
	s.Lists = append(s.Lists, list...)
	s.Looked = append(s.Looked, bag.Looked{
		Part: "lists", Saw: fmt.Sprintf("records of %d packages, their programs and libraries, and what dpkg and apt "+
			"work with; %d files that the start runs, against their checksums", len(installedIn(root)), held),
	})
}

// FolderMarks are the machine's own number and name, the release, and the folder itself.
func (a Adapter) FolderMarks(root fs.FS) (marks []string) {
	if id := strings.TrimSpace(readText(root, "etc/machine-id")); id != "" && id != "uninitialized" {
		marks = append(marks, "machine-id "+id)
	}
	if s, ok := a.Find(root); ok {
		marks = append(marks, "host "+s.Host, "release "+s.Version)
	}
	if info, err := fs.Stat(root, "."); err == nil {
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			marks = append(marks, fmt.Sprintf("folder %d", st.Ino))
		}
	}
	return marks
}

// LockFiles are those that dpkg and apt lock while they work.
func (Adapter) LockFiles() []string {
	return []string{
		dpkgFolder + "/lock-frontend", dpkgFolder + "/lock", cacheFolder + "/lock", listsFolder + "/lock",
	}
}

// MadeAnew are apt's caches of what it has read, which it holds against the files that it has read them from.
func (Adapter) MadeAnew() []string {
	return []string{"var/cache/apt/pkgcache.bin", "var/cache/apt/srcpkgcache.bin"}
}

// faultsOf lists what is wrong with records and surroundings, at most so many that a person can read them, and how many
// files were held against their checksums.
func faultsOf(n *inner, root fs.FS) (list []bag.StateFault, held int) {
	files := payloads(root)
	start, held := lookAtStartFiles(root, files)
	known := map[string]bool{}
	for _, f := range slices.Concat(start, n.flaws(), lookAtPayloads(root, files)) {
		if known[f.File] && strings.HasPrefix(f.Text, ofPackage) {
			continue // the start runs it: it is told already
		}
		known[f.File] = true
		list = append(list, f.StateFault)
	}
	if more := len(list) - mostFlaws; more > 0 {
		list = list[:mostFlaws]
		list[mostFlaws-1].Text += fmt.Sprintf(" (and %d more things are wrong)", more)
	}
	return list, held
}

var errNotInside = errors.New("to change files of this system it has to be entered, which cannot be done here")
