package debian

import (
	"crypto/md5" //nolint:gosec // dpkg's own sums
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"archive/tar"

	"diorthos/core/bag"
)

const (
	pamFolder = "etc/pam.d"
	// noSignIn begins what is said of a file without which nobody can sign in.
	noSignIn = "nobody can sign in: "
)

// madeByTool are the lists of modules that pam-auth-update(8) makes of what packages brought.
var madeByTool = []string{
	pamFolder + "/common-auth", pamFolder + "/common-account", pamFolder + "/common-session",
	pamFolder + "/common-session-noninteractive", pamFolder + "/common-password",
}

// lookAtSignIn follows what the program for signing in at a screen asks: the list of modules of its service, what that
// includes, and whether the modules are there (pam.d(5)).
func lookAtSignIn(_ *inner, root fs.FS) (list []flaw) {
	if !there(root, "usr/bin/login") && !there(root, "bin/login") || !isFolder(root, pamFolder) {
		return nil // nobody signs in at a screen
	}
	if !there(root, "var/lib/pam/seen") {
		return nil // its lists were never made: such a system was unpacked, and not set up
	}
	service := pamFolder + "/login"
	if !there(root, service) {
		service = pamFolder + "/other"
	}
	w := &pamWalk{root: root, kinds: map[string]int{}, seen: map[string]bool{}}
	w.follow(service, "")
	if len(w.list) == 0 {
		for _, kind := range []string{"auth", "account"} {
			if w.kinds[kind] == 0 {
				w.find(service, fmt.Sprintf("nothing in it, nor in what it includes, is of the sort %q", kind))
			}
		}
	}
	return w.list
}

func isFolder(root fs.FS, name string) bool {
	info, err := fs.Stat(root, name)
	return err == nil && info.IsDir()
}

// pamWalk follows lists of modules.
type pamWalk struct {
	root  fs.FS
	kinds map[string]int // lines by their sort
	seen  map[string]bool
	list  []flaw
}

func (w *pamWalk) find(file, why string) {
	w.list = append(w.list, flaw{StateFault: bag.StateFault{File: file, Text: noSignIn + why}})
}

// tool is the program of the system that makes a file anew, where none of ours does.
func (f flaw) tool() []string {
	if slices.Contains(madeByTool, f.File) && strings.HasPrefix(f.Text, noSignIn) {
		return []string{"pam-auth-update", "--package", "--force"}
	}
	return nil
}

func (w *pamWalk) follow(name, by string) {
	if w.seen[name] {
		return
	}
	w.seen[name] = true
	raw, err := readWhole(w.root, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		why := "it is not there"
		if by != "" {
			why += ", and " + by + " includes it"
		}
		w.find(name, why)
		return
	case err != nil:
		w.find(name, err.Error())
		return
	case damaged(raw) != "":
		w.find(name, damaged(raw))
		return
	}
	lines, any := strings.Split(strings.ReplaceAll(string(raw), "\\\n", " "), "\n"), false
	for _, line := range lines {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		any = true
		if words[0] == "@include" {
			w.follow(path.Join(pamFolder, words[1]), name)
			continue
		}
		w.line(name, words)
	}
	if !any && slices.Contains(madeByTool[:2], name) {
		w.find(name, "it names no module")
	}
}

// line is one module: its sort, how it counts, the file. One that may be missing has a hyphen.
func (w *pamWalk) line(name string, words []string) {
	kind, optional := strings.CutPrefix(words[0], "-")
	w.kinds[kind]++
	control, rest := words[1], words[2:]
	for strings.HasPrefix(words[1], "[") && !strings.HasSuffix(control, "]") && len(rest) > 0 {
		control, rest = control+" "+rest[0], rest[1:]
	}
	switch {
	case len(rest) == 0 || optional || kind != "auth" && kind != "account" || control == "optional":
		return
	case control == "include" || control == "substack":
		w.follow(path.Join(pamFolder, rest[0]), name)
	case strings.Contains(control, "module_unknown=ignore"):
	case !moduleThere(w.root, rest[0]):
		w.find(name, fmt.Sprintf("it names the module %s, which is not there", rest[0]))
	}
}

// moduleThere looks where modules lie: in the folder of the architecture, or where the path says.
func moduleThere(root fs.FS, module string) bool {
	if strings.HasPrefix(module, "/") {
		return there(root, strings.TrimPrefix(module, "/"))
	}
	for _, folder := range []string{"usr/lib/*/security", "lib/*/security", "usr/lib/security", "lib/security"} {
		if found, _ := fs.Glob(root, path.Join(folder, module)); len(found) > 0 { // the patterns are right
			return true
		}
	}
	return false
}

// ofConffile begins what is said of a file for people to change that nobody would have left so.
const ofConffile = "this configuration file of the package "

// lookAtConffiles looks for files that are for people to change and are empty or hold zeros, though their packages
// brought them with content, as after a power cut, and for what stands in their place and is no file. What a person
// wrote, and that one is not there, is never a flaw.
func lookAtConffiles(n *inner, root fs.FS) (list []flaw) {
	f, err := root.Open(statusFile)
	if err != nil {
		return nil // told elsewhere
	}
	defer func() { _ = f.Close() }() // it was only read
	empty := md5.Sum(nil)            //nolint:gosec // dpkg's own sums
	_ = eachParagraph(               // what was read before a damage counts
		f, []string{"package", "version", "architecture", "status", "conffiles"}, func(p paragraph) error {
			if !strings.HasSuffix(p["status"], " installed") {
				return nil
			}
			for line := range strings.Lines(p["conffiles"]) {
				words := strings.Fields(line)
				if len(words) != 2 || words[1] == hex.EncodeToString(empty[:]) {
					continue // none, obsolete, or brought empty
				}
				name := strings.TrimPrefix(words[0], "/")
				why := spoilt(root, name)
				if why == "" {
					continue
				}
				of := bag.Package{Name: p["package"], Version: p["version"], Architecture: p["architecture"]}
				found := flaw{StateFault: bag.StateFault{
					File: name, Text: fmt.Sprintf("%s%s is not as anybody would leave it: %s", ofConffile, of.Name, why),
				}}
				if text := conffileOf(root, of, name, words[1]); text != nil {
					found.mend = n.rewrites(name, text, "from the package file in the cache")
				}
				list = append(list, found)
			}
			return nil
		})
	return list
}

// spoilt says how a file that a package brought is not as anybody would leave it; empty where it may be meant so.
func spoilt(root fs.FS, name string) string {
	info, err := fs.Stat(root, name)
	if err != nil {
		to, err := fs.ReadLink(root, name)
		if err != nil || to == "/dev/null" {
			return "" // a person may take it away, or switch it off
		}
		return "it is a link that leads nowhere, to " + to
	}
	switch {
	case info.IsDir():
		return "it is a folder"
	case !info.Mode().IsRegular() || info.Size() > maxText:
		return ""
	}
	raw, err := readWhole(root, name)
	if err != nil || len(raw) == 0 && mayBeEmptied(name) {
		return ""
	}
	return damaged(raw)
}

// lookAtMountTable looks for lines of the table of mounts that are no entries (fstab(5)): what they were for is not
// mounted.
func lookAtMountTable(_ *inner, root fs.FS) (list []flaw) {
	number := 0
	for line := range strings.Lines(readText(root, fstab)) {
		number++
		words := strings.Fields(line)
		if len(words) == 0 || strings.HasPrefix(words[0], "#") || len(words) >= 3 {
			continue
		}
		list = append(list, flaw{StateFault: bag.StateFault{File: fstab, Text: fmt.Sprintf(
			"line %d is no entry, it has fewer than three words: %.60q; what it was for is not mounted",
			number,
			strings.TrimSpace(line),
		)}})
	}
	return list
}

// mayBeEmptied reports whether people empty such a file to turn something off.
func mayBeEmptied(name string) bool {
	return strings.HasPrefix(name, "etc/cron") || strings.HasPrefix(name, "etc/default/") ||
		strings.Contains(path.Dir(name), ".d") && !strings.HasPrefix(name, pamFolder)
}

// conffileOf is a file as its package brought it, out of the package file in the cache; nil where that is not there, or
// brings another one than was installed.
func conffileOf(root fs.FS, of bag.Package, name, sum string) (text []byte) {
	in, err := root.Open(cachedName(of))
	if err != nil {
		return nil
	}
	d, err := openDeb(cachedName(of), in)
	if err != nil {
		return nil
	}
	defer func() { _ = d.Close() }() // it was only read
	_ = d.each("data", func(h *tar.Header, r io.Reader) (bool, error) {
		if path.Clean(strings.TrimPrefix(h.Name, "./")) != name {
			return true, nil
		}
		text, err = io.ReadAll(io.LimitReader(r, maxText))
		return false, err
	})
	if got := md5.Sum(text); hex.EncodeToString(got[:]) != sum { //nolint:gosec // dpkg's own sums
		return nil
	}
	return text
}

// lookAtShells looks at what runs once somebody has signed in. Accounts that nobody signs in to have no password.
func lookAtShells(_ *inner, root fs.FS) (list []flaw) {
	if !there(root, "usr/bin/login") && !there(root, "bin/login") {
		return nil // nobody signs in at a screen
	}
	passwords := map[string]bool{}
	for line := range strings.Lines(readText(root, "etc/shadow")) {
		if f := strings.Split(line, ":"); len(f) > 1 {
			passwords[f[0]] = f[1] == "" || f[1][0] != '!' && f[1][0] != '*'
		}
	}
	for line := range strings.Lines(readText(root, "etc/passwd")) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 7 || !passwords[f[0]] || f[6] == "" {
			continue
		}
		if shell := strings.TrimPrefix(f[6], "/"); !runnable(root, shell) {
			list = append(list, flaw{StateFault: bag.StateFault{
				File: "etc/passwd",
				Text: fmt.Sprintf("%s cannot sign in: its shell %s is not there, or may not be run", f[0], f[6]),
			}})
		}
	}
	return list
}

func runnable(root fs.FS, name string) bool {
	info, err := fs.Stat(root, name)
	return err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o111 != 0
}
