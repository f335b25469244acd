package debian

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/bag"
)

// Adapter finds each idea of the core on a Debian-family system.
type Adapter struct{}

// maxText bounds what is read of a small configuration file, in bytes.
const maxText = 1 << 20

// family is what facts call this kind of system.
const family = "debian"

// Family is what facts call this kind of system.
func (Adapter) Family() string { return family }

// Find tells which system lies on fsys. ok is false when none of the Debian
// family does: it must name itself, and have dpkg's database, what is left of it, or dpkg itself.
func (Adapter) Find(fsys fs.FS) (sys bag.System, ok bool) {
	release := fields(readText(fsys, "etc/os-release"))
	if len(release) == 0 {
		release = fields(readText(fsys, "usr/lib/os-release"))
	}
	like := strings.Fields(release["ID"] + " " + release["ID_LIKE"])
	if !contains(like, family) {
		return bag.System{}, false
	}
	if !slices.ContainsFunc([]string{statusFile, infoFolder, "usr/bin/dpkg"}, func(name string) bool {
		_, err := fs.Stat(fsys, name)
		return err == nil
	}) {
		return bag.System{}, false
	}
	return bag.System{
		Family:  family,
		Name:    release["PRETTY_NAME"],
		Version: release["VERSION_ID"],
		Host:    strings.TrimSpace(readText(fsys, "etc/hostname")),
	}, true
}

// Mounts tells, by the identifier that fstab uses ("UUID=…", "LABEL=…",
// "PARTUUID=…"), where the system mounts each volume.
func (Adapter) Mounts(fsys fs.FS) map[string]string {
	mounts := map[string]string{}
	for _, line := range strings.Split(readText(fsys, "etc/fstab"), "\n") {
		parts := strings.Fields(line)
		if len(parts) < 2 || strings.HasPrefix(parts[0], "#") {
			continue
		}
		if _, twice := mounts[parts[0]]; !twice { // a volume with subvolumes: the first is where it is
			mounts[parts[0]] = parts[1]
		}
	}
	return mounts
}

// logs are where the family's installers and updaters write, as patterns.
var logs = []string{
	"var/log/dpkg.log*", "var/log/apt/history.log*", "var/log/apt/term.log*",
	"var/log/journal/*/system*.journal*", "var/log/unattended-upgrades/*.log*", "var/log/syslog*", "var/log/kern.log*",
	"var/log/installer/syslog*",
}

// Logs lists the logs that lie on fsys.
func (Adapter) Logs(fsys fs.FS) []string {
	var names []string
	for _, pattern := range logs {
		found, err := fs.Glob(fsys, pattern)
		if err != nil {
			continue
		}
		for _, name := range found {
			if info, err := fs.Stat(fsys, name); err == nil && info.Mode().IsRegular() {
				names = append(names, name)
			}
		}
	}
	return names
}

// Traces are what runs of dpkg, apt and the unattended updates write, and the network's part of them.
func (Adapter) Traces(fsys fs.FS) (names []string) {
	for _, pattern := range []string{
		"var/log/dpkg.log", "var/log/apt/*.log", "var/log/unattended-upgrades/*.log", statusFile, "var/lib/dpkg/updates",
		"var/lib/apt/lists/partial", "var/lib/apt/periodic/*",
	} {
		found, _ := fs.Glob(fsys, pattern) // the patterns are right
		names = append(names, found...)
	}
	return names
}

// Catalogues lists the message catalogues of the tools whose logs are read,
// in the system's own language, if that is not English.
func (Adapter) Catalogues(fsys fs.FS) []string {
	locale := fields(readText(fsys, "etc/default/locale"))["LANG"]
	language, _, _ := strings.Cut(locale, ".")
	if language == "" || language == "C" || strings.HasPrefix(language, "en") {
		return nil
	}
	short, _, _ := strings.Cut(language, "_")
	var names []string
	for _, folder := range []string{language, short} {
		for _, tool := range []string{"dpkg", "apt", "libapt-pkg*", "libc", "shadow", "initramfs-tools"} {
			found, err := fs.Glob(fsys, path.Join("usr/share/locale", folder, "LC_MESSAGES", tool+".mo"))
			if err == nil {
				names = append(names, found...)
			}
		}
	}
	return names
}

// LogName is the name that a log gets in a bag: without its folder's folders.
func (Adapter) LogName(name string) string {
	if catalogue, ok := strings.CutPrefix(name, "usr/share/locale/"); ok {
		return path.Join("catalogues", catalogue)
	}
	return path.Join("logs", strings.TrimPrefix(name, "var/log/"))
}

func readText(fsys fs.FS, name string) string {
	info, err := fs.Stat(fsys, name)
	if err != nil || info.Size() > maxText || !info.Mode().IsRegular() {
		return ""
	}
	text, err := fs.ReadFile(fsys, name)
	if err != nil {
		return ""
	}
	return string(text)
}

// fields reads NAME=value lines, quotes taken away, as os-release(5) has them.
func fields(text string) map[string]string {
	m := map[string]string{}
	for _, line := range strings.Split(text, "\n") {
		if name, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok && !strings.HasPrefix(name, "#") {
			m[name] = strings.Trim(value, `"'`)
		}
	}
	return m
}

func contains(list []string, want string) bool {
	for _, s := range list {
		if s == want {
			return true
		}
	}
	return false
}
