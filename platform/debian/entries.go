package debian

import (
	"cmp"
	"debug/pe"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"diorthos/core/system"
	"diorthos/platform/grub"
)

// Entries of the Boot Loader Specification: files that describe what can be started (type 1), and
// kernels that carry all they need (type 2), on the EFI system partition or the extended boot
// partition (XBOOTLDR).

// typeXBOOTLDR is the type of the extended boot partition (Discoverable Partitions Specification).
const typeXBOOTLDR = "bc13c2ff-59e6-4262-a352-b275fd6f7172"

// An entry is one thing that systemd-boot can start.
type entry struct {
	id       string // name of its file without the counters of boot assessment
	file     string
	title    string
	version  string
	sortKey  string
	kernel   string // path on the volume
	early    []string
	options  string
	bad      bool // its tries are used up
	carried  bool // a kernel that carries all
	volume   *grub.Volume
	sections fs.FS // what it carries
}

// entriesOn lists the entries on a volume.
func entriesOn(v *grub.Volume) (list []entry) {
	if v.Files == nil {
		return nil
	}
	names, _ := fs.Glob(v.Files, "loader/entries/*.conf") // the pattern is right
	for _, name := range names {
		e := entry{file: name, volume: v}
		e.id, e.bad = assessed(path.Base(name), ".conf")
		for _, line := range strings.Split(readText(v.Files, name), "\n") {
			key, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			value = strings.TrimSpace(value)
			switch key {
			case "title":
				e.title = value
			case "version":
				e.version = value
			case "sort-key":
				e.sortKey = value
			case "linux", "efi":
				e.kernel = strings.TrimPrefix(value, "/")
			case "initrd":
				e.early = append(e.early, strings.TrimPrefix(value, "/"))
			case "options":
				e.options = strings.TrimSpace(e.options + " " + value)
			}
		}
		list = append(list, e)
	}
	whole, _ := fs.Glob(v.Files, "EFI/Linux/*.efi")
	for _, name := range whole {
		e := entry{file: name, kernel: name, volume: v, carried: true}
		e.id, e.bad = assessed(path.Base(name), ".efi")
		e.carries()
		list = append(list, e)
	}
	return list
}

// assessed takes the counters of boot assessment off a name: +LEFT-DONE before its ending. bad is
// said of one with no tries left.
func assessed(name, ending string) (id string, bad bool) {
	base := strings.TrimSuffix(name, ending)
	head, count, ok := strings.Cut(base, "+")
	left, _, _ := strings.Cut(count, "-")
	if !ok || strings.Trim(count, "0123456789-") != "" || left == "" {
		return base + ending, false
	}
	return head + ending, strings.Trim(left, "0") == ""
}

// chosen is the entry that is started when nobody chooses: the first that fits the pattern of
// loader.conf, in the order of the specification; else the first of all.
func chosen(list []entry, pattern string) (entry, bool) {
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b entry) int {
		switch {
		case a.bad != b.bad:
			return map[bool]int{true: 1, false: -1}[a.bad]
		case (a.sortKey == "") != (b.sortKey == ""): // those with a key stand first
			return map[bool]int{true: 1, false: -1}[a.sortKey == ""]
		}
		return cmp.Or(
			strings.Compare(a.sortKey, b.sortKey),
			CompareVersions(b.version, a.version),
			CompareVersions(b.id, a.id),
		)
	})
	for _, e := range list {
		if ok, _ := path.Match(pattern, e.id); ok || pattern == e.id {
			return e, true
		}
	}
	if len(list) == 0 {
		return entry{}, false
	}
	return list[0], true
}

// entryVolumes are the volumes on which systemd-boot looks for entries.
func entryVolumes(g system.Ground, esp int) (list []*grub.Volume) {
	all := volumesOf(g)
	for i, v := range g.Volumes.All() {
		isExtended := v.Partition != nil && strings.EqualFold(v.Partition.TypeCode, typeXBOOTLDR)
		if v.Number == esp || isExtended {
			list = append(list, &all[i])
		}
	}
	return list
}

// startOfEntries is what systemd-boot starts by itself.
func startOfEntries(g system.Ground, esp int) (*grub.Start, error) {
	volumes := entryVolumes(g, esp)
	var list []entry
	pattern := ""
	for _, v := range volumes {
		list = append(list, entriesOn(v)...)
		if v.Files == nil || pattern != "" {
			continue
		}
		for _, line := range strings.Split(readText(v.Files, "loader/loader.conf"), "\n") {
			if words := strings.Fields(line); len(words) == 2 && words[0] == "default" && !strings.HasPrefix(words[1], "@") {
				pattern = words[1]
			}
		}
	}
	e, ok := chosen(list, pattern)
	switch {
	case !ok:
		return nil, errors.New("loader/entries holds no entry that starts a kernel, and EFI/Linux no kernel of its own")
	case e.kernel == "":
		return nil, fmt.Errorf("%s names no kernel", e.file)
	}
	start := &grub.Start{Title: cmp.Or(e.title, e.id), ID: e.id, Arguments: e.options}
	start.Kernel = grub.File{Volume: e.volume, Path: e.kernel}
	for _, name := range e.early {
		start.Early = append(start.Early, grub.File{Volume: e.volume, Path: name})
	}
	if e.carried && e.sections != nil {
		if _, err := fs.Stat(e.sections, carriedEarly); err == nil {
			inner := &grub.Volume{Device: e.volume.Device, UUID: e.volume.UUID, Files: e.sections}
			start.Early = []grub.File{{Volume: inner, Path: carriedEarly}}
		}
	}
	return start, nil
}

// carriedEarly is what the early-boot image is called that a kernel carries.
const carriedEarly = "the early-boot image that it carries"

// carries reads what a kernel carries in the sections of its program (UAPI specification "Unified
// Kernel Image"): the early-boot image, the command line, and which system it is of.
func (e *entry) carries() {
	f, err := e.volume.Files.Open(e.file)
	if err != nil {
		return
	}
	at, ok := f.(io.ReaderAt)
	if !ok {
		return
	}
	program, err := pe.NewFile(at)
	if err != nil {
		return
	}
	files := sections{}
	text := func(s *pe.Section, size int64) string {
		raw, err := io.ReadAll(io.LimitReader(io.NewSectionReader(s.ReaderAt, 0, size), 64<<10))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(strings.TrimRight(string(raw), "\x00\n"))
	}
	for _, s := range program.Sections {
		size := int64(min(s.Size, max(s.VirtualSize, 1)))
		switch s.Name {
		case ".initrd":
			files[carriedEarly] = io.NewSectionReader(s.ReaderAt, 0, size)
		case ".cmdline":
			e.options = text(s, size)
		case ".osrel": // by this it is put in order among the others
			release := fields(text(s, size))
			e.title = release["PRETTY_NAME"]
			e.sortKey = cmp.Or(release["IMAGE_ID"], release["ID"])
			e.version = cmp.Or(release["IMAGE_VERSION"], release["VERSION_ID"], release["BUILD_ID"])
		}
	}
	e.sections = files
}

// sections are parts of a program as files.
type sections map[string]*io.SectionReader

// Open opens a part by its name.
func (s sections) Open(name string) (fs.File, error) {
	r, ok := s[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &section{SectionReader: io.NewSectionReader(r, 0, r.Size()), name: name}, nil
}

type section struct {
	*io.SectionReader
	name string
}

func (s *section) Stat() (fs.FileInfo, error) { return s, nil }
func (s *section) Close() error               { return nil }
func (s *section) Name() string               { return s.name }
func (s *section) Mode() fs.FileMode          { return 0o444 }
func (s *section) ModTime() time.Time         { return time.Time{} }
func (s *section) IsDir() bool                { return false }
func (s *section) Sys() any                   { return nil }

// usesEntries reports whether a machine is started by systemd-boot: it lies where loaders lie, or
// its entries do and nothing of GRUB's.
func usesEntries(g system.Ground, esp int) bool {
	volume := g.Volume(esp)
	if volume == nil {
		return false
	}
	for _, name := range loaders {
		if p, _, err := readProgram(volume, name); err == nil && p.kind != isUnknown {
			return p.kind == isSystemdBoot
		}
	}
	for _, v := range entryVolumes(g, esp) {
		if len(entriesOn(v)) > 0 {
			return true
		}
	}
	return false
}
