package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/readfs"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/host/inside"
)

// A Machine is one that a climb works on: by a disk, an image of it, or a
// machine's folder.
type Machine struct {
	Path       string // empty when no disk is at hand
	Root       string // a folder with the files of the machine's system; / of the running one; empty for none
	Name       string
	SectorSize int // of an image; 0 for 512
	Live       bool
	Adapters   []system.Adapter
	Sources    []store.Source
	Facts      *bag.Facts // as they were gathered
	Keys       *volumes.Keys
	Network    bool       // the system's own tools may fetch what is missing
	Rehearsal  *Rehearsal // a mended machine is started on a copy before anything is written; nil for not
	Keep       string     // folder of journals and of the record of climbs; empty for where Folder says
	Progress   func(what string, done, total int64)
	Now        func() time.Time
}

var _ climb.Machine = (*Machine)(nil)

// errNoDisk means that a rung needs a disk and none was named.
var errNoDisk = errors.New("no disk to work on: name it with --image")

// openFolder opens the files of a system in a folder, by the adapter that knows it.
func openFolder(path string, adapters []system.Adapter, readOnly bool) (*inside.Folder, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }() // it was only read
	a, found, ok := system.FindOn(adapters, readfs.Within(root))
	if !ok {
		return nil, fmt.Errorf("%s: no system that is known lies there", path)
	}
	folder, ok := a.(system.FolderAdapter)
	if !ok {
		return nil, fmt.Errorf("%s: %s is only changed on its disk", path, found.Name)
	}
	return inside.OpenFolder(path, folder, readOnly)
}

// Open opens the disk, or the state of the firmware.
func (m *Machine) Open(a action.Action, readOnly bool) (climb.Device, string, error) {
	if m.Root != "" && a.OnFiles {
		f, err := openFolder(m.Root, m.Adapters, readOnly)
		return f, absolute(m.Root), err
	}
	if m.Path == "" {
		return nil, "", errNoDisk
	}
	at := Locate(m.Path)
	path := at.Disk
	if a.OnFirmware && at.Firmware != "" {
		dev, err := openFirmware(at.Firmware, readOnly)
		return dev, absolute(at.Firmware), err
	}
	dev, err := OpenDisk(path, m.SectorSize, readOnly)
	if err != nil {
		return nil, "", err
	}
	return dev, absolute(path), nil
}

// OpenTarget opens what a journal is about, to take the change back or to complete it: a disk, or the files of
// a folder. path is where it lies now; empty for where it lay.
func OpenTarget(h block.Head, path string, readOnly bool) (climb.Device, error) {
	if path == "" {
		path = h.Target.Path
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() && len(h.Files) == 0 {
		return openVariables(path, readOnly)
	}
	if len(h.Files) == 0 {
		return OpenDisk(path, h.Target.SectorSize, readOnly)
	}
	f, err := inside.OpenForUndo(path, readOnly)
	if err != nil {
		return nil, err
	}
	f.Lay(h.Files)
	return f, nil
}

// Environment is how actions reach what a disk alone does not tell.
func (m *Machine) Environment() (action.Environment, error) {
	e := action.Environment{
		Adapters: m.Adapters, Sources: m.Sources, Facts: m.Facts, Progress: m.Progress, Now: m.Now,
		Enter: inside.Enter, Network: m.Network, Keys: m.Keys,
		Image: func(path string) (action.Image, error) { return OpenDisk(path, 512, true) },
	}
	if m.Rehearsal != nil {
		e.Rehearse = m.Rehearsal.Check
	}
	if m.Path != "" && m.Root == "" {
		e.InUse = func() ([]action.Used, error) { return InUse(Locate(m.Path).Disk) }
		if h, state := Locate(m.Path).holder(m.Adapters); state != nil {
			e.Firmware = h
		}
	}
	return e, nil
}

// Measure looks at the machine anew.
func (m *Machine) Measure(context.Context) (*bag.Facts, error) {
	o := GatherOptions{Live: m.Live, SectorSize: m.SectorSize, Adapters: m.Adapters, Keys: m.Keys, Now: m.Now()}
	switch {
	case m.Live:
	case m.Root != "":
		o.Root = m.Root
	default:
		o.Image = m.Path
	}
	if !m.Live && m.Path == "" && m.Root == "" {
		return nil, climb.ErrNotAtHand
	}
	l, err := Look(o)
	if err != nil {
		return nil, err
	}
	l.Close()
	return l.Facts, nil
}

// Boot is what the running machine calls its present start; empty when the climb
// works on another machine's disk.
func (m *Machine) Boot() string {
	if m.Path != "" && !m.Live || m.Root != "" && m.Root != "/" {
		return ""
	}
	return Boot()
}

// Journal names a new file for a journal, in the machine's folder: a journal must not lie on the disk that it
// is about.
func (m *Machine) Journal(path string) (string, int64, error) {
	stamp := m.Now().UTC().Format("20060102-150405")
	base := filepath.Join(m.Folder(), fileName(m.Name)+"-"+stamp)
	file := base + ".journal"
	for n := 2; ; n++ { // two changes within a second
		if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
			break
		}
		file = fmt.Sprintf("%s-%d.journal", base, n)
	}
	free, err := FreeSpace(filepath.Dir(file))
	return file, free, err
}

// Folder is where journals and the record of climbs lie: beside an image or a folder, for a device and the
// running machine where the command runs.
func (m *Machine) Folder() string {
	if m.Keep != "" {
		return m.Keep
	}
	if m.Root != "" && m.Root != "/" {
		return filepath.Dir(absolute(m.Root))
	}
	if m.Path == "" {
		return "."
	}
	at := Locate(m.Path)
	if info, err := os.Stat(at.Disk); err == nil && info.Mode()&fs.ModeDevice != 0 {
		return "."
	}
	return at.Folder()
}

// Record is the file of the machine's record.
func (m *Machine) Record() string { return filepath.Join(m.Folder(), fileName(m.Name)+".climbs") }

// fileName makes a name stay in its folder.
func fileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r == '/' || r == 0 {
			return '-'
		}
		return r
	}, name)
	if name == "" || name == "." || name == ".." {
		return "machine"
	}
	return name
}

// Target is what the disk, or the firmware's state, is known again by.
func (m *Machine) Target(id action.ID) (t *block.Target, err error) {
	a, ok := action.Named(id)
	if !ok {
		return nil, fmt.Errorf("there is no action %q", id)
	}
	dev, path, err := m.Open(a, true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	env, err := m.Environment()
	if err != nil {
		return nil, err
	}
	c, err := a.Open(dev, env, nil)
	if err != nil {
		return nil, err
	}
	target := c.Target(path)
	return &target, c.Close()
}

func absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}
