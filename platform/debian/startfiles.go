package debian

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"diorthos/core/bag"
	"diorthos/core/store"
)

// startPackages are those without which a system does not come to a sign-in: what is essential, required or important
// (Debian Policy 2.5, 3.8), and all that these depend on.
func startPackages(root fs.FS) map[string]bool {
	f, err := root.Open(statusFile)
	if err != nil {
		return nil
	}
	defer func() { _ = f.Close() }() // it was only read
	needs := map[string][]string{}
	provided := map[string][]string{}
	var open []string
	_ = eachParagraph( // what was read before a damage counts
		f, []string{"package", "essential", "priority", "depends", "pre-depends", "provides"},
		func(p paragraph) error {
			name := p["package"]
			needs[name] = append(namesOf(p["depends"]), namesOf(p["pre-depends"])...)
			for _, other := range namesOf(p["provides"]) {
				provided[other] = append(provided[other], name)
			}
			if p["essential"] == "yes" || p["priority"] == "required" || p["priority"] == "important" {
				open = append(open, name)
			}
			return nil
		})
	found := map[string]bool{}
	for len(open) > 0 {
		name := open[len(open)-1]
		open = open[:len(open)-1]
		if found[name] {
			continue
		}
		found[name] = true
		open = append(append(open, needs[name]...), provided[name]...)
	}
	return found
}

// namesOf are the packages that a field of relations names, alternatives too.
func namesOf(field string) (list []string) {
	for _, relation := range strings.FieldsFunc(field, func(r rune) bool { return r == ',' || r == '|' }) {
		name, _, _ := strings.Cut(strings.TrimSpace(relation), " ")
		if name, _, _ = strings.Cut(name, ":"); name != "" {
			list = append(list, name)
		}
	}
	return list
}

// isRun reports whether a path is of what runs: programs, libraries, units and rules, not data or documents.
func isRun(name string) bool {
	switch top, _, _ := strings.Cut(strings.TrimPrefix(name, "usr/"), "/"); top {
	case "bin", "sbin", "lib", "lib32", "lib64", "libx32", "libexec":
	default:
		return strings.HasPrefix(name, "usr/share/initramfs-tools/")
	}
	return !strings.Contains(name, "lib/modules/") && !strings.Contains(name, "/gconv/") &&
		!strings.Contains(name, "/locale/")
}

// lookAtStartFiles holds what the start runs against the checksums that its packages brought. A link has to lead to
// something. It also says how many have a checksum.
func lookAtStartFiles(root fs.FS, all []payload) (list []flaw, held int) {
	packages := startPackages(root)
	files := slices.DeleteFunc(slices.Clone(all), func(p payload) bool { return !packages[p.of.Name] || !isRun(p.path) })
	faults := make([]string, len(files))
	var wait sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		wait.Go(func() {
			buf := make([]byte, 256<<10)
			for i := w; i < len(files); i += workers {
				faults[i] = startFault(root, files[i], buf)
			}
		})
	}
	wait.Wait()
	for i, p := range files {
		if faults[i] != "" {
			list = append(list, flaw{StateFault: bag.StateFault{
				File: p.path, Start: true,
				Text: fmt.Sprintf("the start runs this file of the package %s: %s", p.of.Name, faults[i]),
			}})
		}
		if p.sum != "" {
			held++
		}
	}
	return list, held
}

func startFault(root fs.FS, p payload, buf []byte) string {
	fault, _ := checkPayload(root, p, buf)
	switch {
	case fault == nil && p.sum == "" && leadsNowhere(root, p.path):
		return "it is a link that leads nowhere"
	case fault == nil:
		return ""
	case fault.Kind == store.PayloadMissing:
		return "it is not there"
	case fault.Kind == store.Unreadable:
		return "it cannot be read: " + fault.Got
	}
	if info, err := fs.Stat(root, p.path); err == nil && info.Size() == 0 {
		return "it is empty"
	}
	return "its content is not what the package brought"
}

func leadsNowhere(root fs.FS, name string) bool {
	info, err := lstat(root, name)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return false
	}
	_, err = fs.Stat(root, name) // a link that leads out of a folder that is looked at leads somewhere, as far as is known
	return errors.Is(err, fs.ErrNotExist) && isVital(path.Dir(name))
}

// programFolders hold programs; what else lies there has a dot in its name.
var programFolders = []string{"bin", "sbin", "usr/bin", "usr/sbin", "lib/systemd", "usr/lib/systemd"}

// lookAtPrograms looks at whether the programs of packages may be run at all.
func lookAtPrograms(_ *inner, root fs.FS) (list []flaw) {
	for _, p := range payloads(root) {
		if p.sum == "" || !slices.Contains(programFolders, path.Dir(p.path)) {
			continue
		}
		info, err := lstat(root, p.path)
		if err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 != 0 || strings.Contains(path.Base(p.path), ".") {
			continue
		}
		list = append(list, flaw{
			bag.StateFault{File: p.path, Text: fmt.Sprintf("nobody can run this program: its mode is %s", info.Mode())},
			func(files *os.Root) (string, error) {
				return p.path + " can be run again; whether it had the right of its owner besides is not known", files.Chmod(
					p.path,
					0o755,
				)
			},
		})
	}
	return list
}
