package debian

import (
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"diorthos/core/bag"
)

// databaseFields are those of dpkg's database that an inventory needs.
var databaseFields = []string{"package", "version", "architecture", "installed-size", "status"}

// Inventory lists what is installed. It reads dpkg's database, the signed
// lists of the repositories and the images on the boot volume; what cannot be
// read is left out.
func (a Adapter) Inventory(fsys fs.FS) *bag.Installed {
	sys, ok := a.Find(fsys)
	if !ok {
		return nil
	}
	release := fields(readText(fsys, "etc/os-release"))
	if len(release) == 0 {
		release = fields(readText(fsys, "usr/lib/os-release"))
	}
	locale := fields(readText(fsys, "etc/default/locale"))["LANG"]
	if locale == "" {
		locale = fields(readText(fsys, "etc/locale.conf"))["LANG"]
	}
	in := &bag.Installed{
		Family:   family,
		Name:     sys.Name,
		Version:  sys.Version,
		Codename: release["VERSION_CODENAME"],
		Locale:   locale,
		Packages: []bag.Package{},
		Sources:  []bag.Source{},
	}
	in.Database = databaseState(fsys)
	if f, err := fsys.Open("var/lib/dpkg/status"); err == nil {
		in.Packages = ReadDatabase(f)
		_ = f.Close()
	}
	for _, p := range in.Packages {
		if p.Name == "dpkg" {
			in.Architecture = p.Architecture // dpkg's own is the system's
		}
	}
	in.Foreign = strings.Fields(readText(fsys, "var/lib/dpkg/arch"))
	if len(in.Foreign) > 0 && in.Foreign[0] == in.Architecture {
		in.Foreign = in.Foreign[1:]
	}
	in.Sources = sources(fsys)
	in.EarlyBoot, in.KernelImage = largest(fsys, "boot/initrd.img-*"), largest(fsys, "boot/vmlinuz-*")
	return in
}

// databaseState looks at the beginning of dpkg's database: a crash can leave
// it without a byte, or full of zeros.
func databaseState(fsys fs.FS) string {
	f, err := fsys.Open("var/lib/dpkg/status")
	if err != nil {
		return ""
	}
	defer func() { _ = f.Close() }() // it was only read
	head, err := io.ReadAll(io.LimitReader(f, maxListHead))
	switch {
	case err != nil:
		return ""
	case len(head) == 0:
		return "empty"
	case strings.Trim(string(head), "\x00") == "":
		return "zero-filled"
	}
	return "sound"
}

// ReadDatabase reads a package database, or an excerpt of one, up to where it
// makes no more sense.
func ReadDatabase(r io.Reader) []bag.Package {
	list := []bag.Package{}
	_ = eachParagraph(r, databaseFields, func(p paragraph) error { // what was read before a damage counts
		status := strings.Fields(p["status"])
		if p["package"] == "" || len(status) != 3 {
			return nil
		}
		list = append(list, bag.Package{
			Name:         p["package"],
			Version:      p["version"],
			Architecture: p["architecture"],
			Size:         p.kib("installed-size"),
			State:        status[2],
			Held:         status[0] == "hold",
		})
		return nil
	})
	return list
}

// maxListHead is how much of a signed list is read for its dates, in bytes.
const maxListHead = 4 << 10

// sources reads the dates of the signed lists that apt keeps.
func sources(fsys fs.FS) []bag.Source {
	list := []bag.Source{}
	names, _ := fs.Glob(fsys, "var/lib/apt/lists/*_InRelease") // the pattern is right
	plain, _ := fs.Glob(fsys, "var/lib/apt/lists/*_Release")
	for _, name := range append(names, plain...) {
		f, err := fsys.Open(name)
		if err != nil {
			continue
		}
		head, err := io.ReadAll(io.LimitReader(f, maxListHead))
		_ = f.Close()
		if err != nil {
			continue
		}
		values := map[string]string{}
		for _, line := range strings.Split(string(head), "\n") {
			if field, value, ok := strings.Cut(line, ": "); ok {
				values[field] = strings.TrimSpace(value)
			}
		}
		s := bag.Source{
			Address: strings.ReplaceAll(
				path.Base(strings.TrimSuffix(strings.TrimSuffix(name, "_InRelease"), "_Release")), "_", "/",
			),
			Suite: values["Codename"],
		}
		if s.Suite == "" {
			s.Suite = values["Suite"]
		}
		s.Dated, s.ValidUntil = listDate(values["Date"]), listDate(values["Valid-Until"])
		list = append(list, s)
	}
	return list
}

func listDate(s string) time.Time {
	for _, layout := range []string{time.RFC1123, time.RFC1123Z} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}

func largest(fsys fs.FS, pattern string) int64 {
	names, _ := fs.Glob(fsys, pattern)
	size := int64(0)
	for _, name := range names {
		if info, err := fs.Stat(fsys, name); err == nil && info.Mode().IsRegular() {
			size = max(size, info.Size())
		}
	}
	return size
}

// RestartReasons lists the signs that a restart is owed, from every place where the
// system notes one. kernel is the one that runs; empty when none does.
func (Adapter) RestartReasons(fsys fs.FS, kernel string) []bag.RestartReason {
	var list []bag.RestartReason
	if info, err := fs.Stat(fsys, "run/reboot-required"); err == nil {
		text := "a package asked for a restart"
		if names := strings.Fields(readText(fsys, "run/reboot-required.pkgs")); len(names) > 0 {
			text = "asked for by " + strings.Join(names, ", ")
		}
		list = append(list, bag.RestartReason{By: "/run/reboot-required", Text: text, Since: info.ModTime().UTC()})
	}
	if kernel != "" {
		newest := ""
		names, _ := fs.Glob(fsys, "boot/vmlinuz-*")
		same := false
		for _, name := range names {
			version := strings.TrimPrefix(path.Base(name), "vmlinuz-")
			same = same || version == kernel
			if newest == "" || CompareVersions(version, newest) > 0 {
				newest = version
			}
		}
		if newest != "" && same && CompareVersions(newest, kernel) > 0 {
			list = append(list, bag.RestartReason{By: "/boot", Text: "kernel " + newest + " is installed, " + kernel + " runs"})
		}
		if len(names) > 0 && !same {
			if _, err := fs.Stat(fsys, "lib/modules/"+kernel); err != nil {
				list = append(list, bag.RestartReason{
					By:   "/lib/modules",
					Text: "the modules of the running kernel " + kernel + " are gone: what needs one fails",
				})
			}
		}
	}
	return list
}
