package boot

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/units"
)

// Kinds of links, in the order of a chain.
const (
	LinkFirmware LinkKind = "firmware"
	LinkTable    LinkKind = "table"
	LinkCode     LinkKind = "boot code"
	LinkActive   LinkKind = "active partition"
	LinkSector   LinkKind = "boot sector"
	LinkLoader   LinkKind = "loader"
	LinkConfig   LinkKind = "boot store"
	LinkVolume   LinkKind = "volume"
	LinkKernel   LinkKind = "kernel"
	LinkCore     LinkKind = "core image"
	LinkEarly    LinkKind = "early-boot image"
	LinkRoot     LinkKind = "root volume"
	LinkInit     LinkKind = "first program"
	LinkMounts   LinkKind = "mounts"
	LinkPending  LinkKind = "pending work"
	LinkServices LinkKind = "services"
)

// A LinkKind is what sort of link of a chain it is.
type LinkKind string

// A Fault names what is wrong with a link.
type Fault string

// A Link of the chain. Fault names what is wrong with it; empty when nothing
// is.
type Link struct {
	Kind  LinkKind `json:"kind"`
	What  string   `json:"what"`
	Saw   string   `json:"saw"`
	Fault Fault    `json:"fault,omitempty"`
}

// A Chain ends with the first link that is broken, or with the last.
type Chain []Link

// A Way is one by which firmware could start the machine: by an entry of its variables, or, without one, by the path
// that it falls back on.
type Way struct {
	Entry string `json:"entry,omitempty"` // the number of its variable, in hexadecimal; empty for the fallback path
	Title string `json:"title"`
	Taken bool   `json:"taken,omitempty"` // by this one the machine starts, or would
	Note  string `json:"note,omitempty"`  // why it is passed over, or not followed
	Chain Chain  `json:"chain,omitempty"`
}

// Broken is the link that is broken, or nil.
func (c Chain) Broken() *Link {
	if n := len(c); n > 0 && c[n-1].Fault != "" {
		return &c[n-1]
	}
	return nil
}

// HoldsTo reports whether the chain holds up to the last link of a kind, that one included.
func (c Chain) HoldsTo(kind LinkKind) bool {
	last := -1
	for i, l := range c {
		if l.Kind == kind {
			last = i
		}
	}
	return last >= 0 && c[last].Fault == ""
}

// A Piece is a stretch of boot code as it should be.
type Piece struct {
	What string
	Data []byte
	Also [][]byte // what earlier versions had there, which starts as well
	At   int64    // bytes from the start of its sector
}

// A Config says what the loader starts.
type Config struct {
	Volume string // serial or UUID of the system volume
	Kernel string // path on it
}

// A System knows what its loader is like.
type System interface {
	// Code is what has to stand in sector 0 of the disk and in the boot sector
	// of the active partition; nil where that is not known.
	Code() (disk, sector *Piece)
	// Loader is the path of the loader on the boot volume, and what may stand
	// there, by version; nothing where that is not known.
	Loader(mode firmware.Mode) (path string, known [][]byte)
	// Config reads what the loader reads.
	Config(boot fs.FS, mode firmware.Mode) (Config, error)
	// Rest follows what comes behind the kernel.
	Rest(volume fs.FS) []Link
}

// A FaultError is an error of a System that knows which fault it is.
type FaultError struct {
	Fault Fault
	Err   error
}

func (e *FaultError) Error() string { return e.Err.Error() }

// Unwrap gives the error alone.
func (e *FaultError) Unwrap() error { return e.Err }

// A LoaderChecker is a System that can tell from a loader's bytes whether it can run, where
// it does not know them all.
type LoaderChecker interface {
	CheckLoader(raw []byte) error
}

// A LoaderNoter is a System that says what else a technician should know of a loader that can run.
type LoaderNoter interface {
	NoteLoader(path string) string
}

// ErrNotFollowed means that the chain goes on where it cannot be looked at: nothing is said
// of the rest.
var ErrNotFollowed = errors.New("not followed")

// A KernelChecker is a System that can tell from its bytes whether what is started is a
// kernel.
type KernelChecker interface{ CheckKernel() error }

// A Ground is what a chain is followed over.
type Ground struct {
	Mode     firmware.Mode
	Disk     io.ReaderAt
	Table    *layout.Table
	Contents map[int]layout.Content // by the number of the partition
	Entries  []firmware.Entry       // in the firmware's order; nil when it is not known
	Fallback bool                   // as firmware starts that has no entry for the disk
	Volume   func(number int) fs.FS // nil for what cannot be read
	System   System
	Known    func(path string) []byte // what a file of the system has to be, nil where that is not known
}

// Follow follows the chain to its end or to the first broken link.
func Follow(g Ground) Chain {
	var c Chain
	add := func(l Link) bool {
		c = append(c, l)
		return l.Fault == ""
	}
	part, ok := g.toBootVolume(add)
	if !ok {
		return c
	}
	volume := g.Volume(part.Number)
	if volume == nil {
		add(Link{
			LinkLoader, fmt.Sprintf("partition %d", part.Number), "its file system cannot be read", "boot-volume-unreadable",
		})
		return c
	}
	path, known := g.System.Loader(g.Mode)
	loader := file(LinkLoader, volume, path, known, "loader")
	if check, ok := g.System.(LoaderChecker); ok && loader.Fault == "" {
		raw, err := fs.ReadFile(volume, path)
		if err == nil {
			err = check.CheckLoader(raw)
		}
		if err != nil {
			loader.Saw, loader.Fault = err.Error(), "loader-altered"
		}
	}
	if note, ok := g.System.(LoaderNoter); ok && loader.Fault == "" {
		loader.Saw += note.NoteLoader(path)
	}
	if !add(loader) {
		return c
	}
	config, err := g.System.Config(volume, g.Mode)
	if errors.Is(err, ErrNotFollowed) {
		add(Link{LinkConfig, "what the loader starts", err.Error(), ""})
		return c
	}
	if err != nil {
		fault := StoreDamaged
		var of *FaultError
		if errors.As(err, &of) {
			fault = of.Fault
		}
		add(Link{LinkConfig, "what the loader starts", err.Error(), fault})
		return c
	}
	add(Link{LinkConfig, "what the loader starts", fmt.Sprintf("%s on volume %s", config.Kernel, config.Volume), ""})
	system, ok := g.find(config.Volume, add)
	if !ok {
		return c
	}
	var kernel [][]byte
	if g.Known != nil {
		if raw := g.Known(config.Kernel); raw != nil {
			kernel = [][]byte{raw}
		}
	}
	link := file(LinkKernel, system, config.Kernel, kernel, "kernel")
	if check, ok := g.System.(KernelChecker); ok && link.Fault == "" {
		if err := check.CheckKernel(); err != nil {
			link.Saw, link.Fault = err.Error(), KernelAltered
		}
	}
	if add(link) {
		for _, l := range g.System.Rest(system) {
			if !add(l) {
				break
			}
		}
	}
	return c
}

// find looks for the volume that the configuration names.
func (g Ground) find(id string, add func(Link) bool) (fs.FS, bool) {
	for number, content := range g.Contents {
		if strings.EqualFold(content.UUID, id) {
			if volume := g.Volume(number); volume != nil {
				return volume, add(Link{
					LinkVolume, id, fmt.Sprintf("partition %d, %s %s", number, content.Kind, content.Label), "",
				})
			}
		}
	}
	return nil, add(Link{
		LinkVolume, id, "no partition of this disk holds a volume of that name", "boot-store-other-volume",
	})
}

// file looks whether a file is there and as it should be.
func file(kind LinkKind, volume fs.FS, path string, known [][]byte, name string) Link {
	if size, ok := holdsAnything(volume, path); ok && len(known) == 0 {
		return Link{kind, path, fmt.Sprintf("%d bytes", size), ""}
	}
	raw, err := fs.ReadFile(volume, path)
	switch {
	case err != nil:
		return Link{kind, path, "it is not there", Fault(name + "-missing")}
	case len(bytes.Trim(raw, "\x00")) == 0: // as after a write that the power ended
		return Link{kind, path, fmt.Sprintf("%d bytes, none of them anything but zero", len(raw)), Fault(name + "-altered")}
	case len(known) > 0 && !oneOf(raw, known):
		return Link{kind, path, fmt.Sprintf("%d bytes, not those of the component store", len(raw)), Fault(name + "-altered")}
	}
	return Link{kind, path, fmt.Sprintf("%d bytes", len(raw)), ""}
}

// holdsAnything reports whether a file begins with more than zeros and can be reached to its end: one byte of each of its
// blocks is read, and no more, for a kernel is large.
func holdsAnything(volume fs.FS, path string) (size int64, ok bool) {
	f, err := volume.Open(path)
	if err != nil {
		return 0, false
	}
	defer func() { _ = f.Close() }() // it was only read
	at, can := f.(io.ReaderAt)
	info, err := f.Stat()
	if err != nil || !can {
		return 0, false
	}
	const block = 4096 // as nearly every file system has them, and as the kernel reads devices
	one, head := make([]byte, 1), make([]byte, block)
	n, err := at.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, false
	}
	for off := int64(block); off < info.Size(); off += block {
		last := min(off+block, info.Size()) - 1   // the last byte: a chain of clusters is followed up to it
		if n, _ := at.ReadAt(one, last); n != 1 { // why not, is told by who reads it whole
			return 0, false
		}
	}
	return info.Size(), len(bytes.Trim(head[:n], "\x00")) > 0
}

func oneOf(raw []byte, known [][]byte) bool {
	return slices.ContainsFunc(known, func(k []byte) bool { return bytes.Equal(raw, k) })
}

// toBootVolume follows firmware and table.
func (g Ground) toBootVolume(add func(Link) bool) (layout.Partition, bool) {
	if g.Mode != firmware.UEFI {
		return g.bySector(add)
	}
	p := &g.Table.Primary
	switch {
	case g.Table.Style() != layout.StyleGPT:
		return layout.Partition{}, add(Link{
			LinkTable, "GPT", fmt.Sprintf("the table is of style %s; UEFI firmware wants GPT", g.Table.Style()),
			"style-against-firmware",
		})
	case !p.Sound():
		return layout.Partition{}, add(Link{LinkTable, "GPT", "the primary copy is damaged", "table-damaged"})
	}
	add(Link{LinkTable, "GPT", units.Count(len(g.Table.Partitions()), "partition"), ""})
	if g.Entries == nil {
		return g.esp(add)
	}
	var stale []string
	for _, e := range g.Entries {
		if e.Absent {
			continue
		}
		if e.Partition == "" {
			return layout.Partition{}, add(Link{
				LinkFirmware, e.Title, fmt.Sprintf("entry %s comes first and leads to no partition of this disk", e.ID),
				"boot-order",
			})
		}
		for _, part := range g.Table.Partitions() {
			if strings.EqualFold(part.ID, e.Partition) {
				return part, add(Link{LinkFirmware, e.Title, fmt.Sprintf("entry %s, partition %d", e.ID, part.Number), ""})
			}
		}
		stale = append(stale, e.ID)
	}
	saw, fault := "the firmware has no boot entry", Fault("boot-entries-missing")
	if len(stale) > 0 {
		saw = fmt.Sprintf("entry %s names a partition that is not on this disk", strings.Join(stale, ", "))
		fault = "boot-entries-stale"
	}
	return layout.Partition{}, add(Link{LinkFirmware, "boot entries", saw, fault})
}

// esp is the first EFI system partition: where the boot entries are not known.
func (g Ground) esp(add func(Link) bool) (layout.Partition, bool) {
	for _, p := range g.Table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() && g.Fallback {
			return p, add(
				Link{LinkFirmware, "fallback path", fmt.Sprintf("partition %d is an EFI system partition", p.Number), ""},
			)
		}
		if p.TypeCode == layout.TypeESP.String() {
			return p, add(Link{
				LinkFirmware, "boot entries", fmt.Sprintf("not known; partition %d is an EFI system partition", p.Number), "",
			})
		}
	}
	return layout.Partition{}, add(Link{LinkFirmware, "EFI system partition", "there is none", "esp-missing"})
}

// bySector is how the older firmware goes.
func (g Ground) bySector(add func(Link) bool) (layout.Partition, bool) {
	if g.Table.Style() != layout.StyleMBR {
		return layout.Partition{}, add(Link{
			LinkTable, "MBR", fmt.Sprintf("the table is of style %s; this firmware wants an MBR", g.Table.Style()),
			"style-against-firmware",
		})
	}
	if !g.Table.MBR.Signed {
		return layout.Partition{}, add(Link{
			LinkTable, "MBR", "the two bytes by which sector 0 is a table are not there", TableNotSigned,
		})
	}
	add(Link{LinkTable, "MBR", units.Count(len(g.Table.Partitions()), "partition"), ""})
	disk, sector := g.System.Code()
	if !add(g.code(LinkCode, "sector 0", disk, 0, "boot-code")) {
		return layout.Partition{}, false
	}
	var active []layout.Partition
	for _, p := range g.Table.Partitions() {
		if p.Active {
			active = append(active, p)
		}
	}
	if len(active) != 1 {
		return layout.Partition{}, add(Link{
			LinkActive, "active partition", fmt.Sprintf("%d partitions are active; one has to be", len(active)),
			"active-flag",
		})
	}
	p := active[0]
	if boots := g.bootVolumes(sector); len(boots) > 0 && !slices.Contains(boots, p.Number) {
		return layout.Partition{}, add(Link{
			LinkActive, fmt.Sprintf("partition %d", p.Number),
			fmt.Sprintf("it is active, and what starts the system lies on partition %d", boots[0]), "active-flag",
		})
	}
	add(Link{LinkActive, fmt.Sprintf("partition %d", p.Number), "it alone is active", ""})
	return p, add(g.code(LinkSector, fmt.Sprintf("partition %d", p.Number), sector, p.Off, "boot-sector"))
}

// bootVolumes are the partitions that hold the loader or what it reads, or,
// where both are gone, a boot sector that is as it should be.
func (g Ground) bootVolumes(sector *Piece) (list []int) {
	path, _ := g.System.Loader(g.Mode)
	var starts []int
	for _, p := range g.Table.Partitions() {
		if sector != nil && g.code(LinkSector, "", sector, p.Off, "").Fault == "" {
			starts = append(starts, p.Number)
		}
		volume := g.Volume(p.Number)
		if volume == nil {
			continue
		}
		if _, err := g.System.Config(volume, g.Mode); err == nil || has(volume, path) {
			list = append(list, p.Number)
		}
	}
	if len(list) == 0 {
		return starts
	}
	return list
}

func has(volume fs.FS, path string) bool {
	_, err := fs.Stat(volume, path)
	return err == nil
}

func (g Ground) code(kind LinkKind, what string, want *Piece, at int64, name string) Link {
	if want == nil {
		return Link{kind, what, "what it has to be is not known", ""}
	}
	got := make([]byte, len(want.Data))
	if _, err := g.Disk.ReadAt(got, at+want.At); err != nil {
		return Link{kind, what, err.Error(), Fault(name + "-unreadable")}
	}
	if !bytes.Equal(got, want.Data) && !oneOf(got, want.Also) {
		return Link{kind, what, "its code is not that of the component store", Fault(name + "-damaged")}
	}
	return Link{kind, what, want.What, ""}
}
