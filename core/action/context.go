package action

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// An Environment is how actions reach what a disk alone does not tell. What is
// nil is not at hand.
type Environment struct {
	Adapters []system.Adapter
	Firmware system.FirmwareHolder // of the machine
	Sources  []store.Source        // for components
	Facts    *bag.Facts            // as they were gathered
	// Rehearse tries out a draft before it is written; nil where that is not asked for.
	Rehearse func(context.Context, block.Device) Check
	// InUse lists what of the target is in use right now; nil where that is not known.
	InUse func() ([]Used, error)
	// Image opens another image by its path, such as that of an install medium.
	Image func(path string) (Image, error)
	// Progress is told how far long work came, in bytes.
	Progress func(what string, done, total int64)
	// Enter enters a system, so that its own tools can be run inside it.
	Enter system.Enter
	Keys  *volumes.Keys // for what is encrypted
	// Network lets those tools fetch what is missing.
	Network bool
	Now     func() time.Time
}

// Used is a stretch of a disk that is in use on this computer.
type Used struct {
	Off, Length int64  // bytes
	Where       string // such as "mounted at /srv"
}

// Meets reports whether a change that begins at one of these places reaches into the stretch.
func (u Used) Meets(writes []block.Write) bool {
	return slices.ContainsFunc(writes, func(w block.Write) bool {
		return w.Off < u.Off+u.Length && u.Off < w.Off+max(int64(len(w.Data)), 1)
	})
}

// An Image is one that is only read.
type Image interface {
	block.Source
	Close() error
}

func (e *Environment) progress(what string, done, total int64) {
	if e.Progress != nil {
		e.Progress(what, done, total)
	}
}

// mode is that of the machine's firmware, by the facts.
func (e *Environment) mode() firmware.Mode {
	if e.Facts == nil || e.Facts.Firmware == nil {
		return ""
	}
	return e.Facts.Firmware.Mode
}

// A Context is what an action works on: a draft of a disk, or of the firmware's
// state. Nothing reaches the device before a journal has noted it.
type Context struct {
	Environment
	draft    *block.Draft
	table    *layout.Table   // nil for the firmware's state
	firmware *firmware.State // nil for a disk
	systems  []system.Opened
	unopened error // why no system could be opened
	disk     *bag.Disk
	params   map[string]string
	now      time.Time
	files    *filesDraft // of a system in a folder; nil for a disk
}

// A filesDraft is the draft of the files of a system in a folder.
type filesDraft struct {
	of     system.TreeTarget
	draft  system.TreeDraft
	writes []block.Write
	places []block.Place
	listed bool
}

var errNoFirmware = errors.New(
	"this changes firmware variables, clock or network of the machine, which are not at hand here: " +
		"give the machine's folder")

// Open looks at a device, over a draft, as the action needs it.
func (a Action) Open(dev block.Source, e Environment, params map[string]string) (*Context, error) {
	now := time.Now
	if e.Now != nil {
		now = e.Now
	}
	c := &Context{Environment: e, params: params, now: now()}
	var err error
	if files, ok := dev.(system.TreeTarget); ok {
		return c, a.openFiles(c, files)
	}
	c.draft = block.NewDraft(dev)
	if a.OnFirmware {
		if e.Firmware == nil {
			return nil, errNoFirmware
		}
		c.firmware, err = e.Firmware.ReadFirmware(c.draft)
		return c, err
	}
	if c.table, err = layout.Read(c.draft); err != nil {
		return nil, err
	}
	c.systems, c.unopened = system.OpenAll(e.Adapters, c.draft, system.Options{
		Mode: e.mode(), Now: c.now, Enter: e.Enter, Keys: e.Keys,
	})
	return c, nil
}

// openFiles opens the system of a folder over a draft of its files.
func (a Action) openFiles(c *Context, files system.TreeTarget) (err error) {
	if !a.OnFiles {
		return fmt.Errorf("%s works on a disk: give it with --image", a.ID)
	}
	c.files = &filesDraft{of: files}
	if c.files.draft, err = files.Draft(); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.Close())
		}
	}()
	adapter, found, ok := system.FindOn(c.Adapters, c.files.draft.Files())
	if !ok {
		return errors.New("no system that is known lies in the folder")
	}
	opener, ok := adapter.(system.FolderAdapter)
	if !ok {
		return fmt.Errorf("%s: %w, where they lie in a folder", found.Name, system.ErrOnlyRead)
	}
	s, err := opener.OpenFolder(c.files.draft, system.Options{Mode: c.mode(), Now: c.now})
	c.systems = []system.Opened{{Title: found.Name, System: s}}
	return err
}

// Wanted is what would stand there, to be read as the action reads it. Of files it is the draft itself.
func (a Action) Wanted(c *Context, e Environment, params map[string]string) (*Context, error) {
	if c.files != nil {
		return c, nil
	}
	return a.Open(c.draft, e, params)
}

// Close lets go of the draft.
func (c *Context) Close() error {
	if c == nil || c.files == nil || c.files.draft == nil {
		return nil
	}
	draft := c.files.draft
	c.files.draft = nil
	return draft.Close()
}

// Writes lists what the draft changes.
func (c *Context) Writes() (list []block.Write, err error) {
	if c.files == nil {
		return c.draft.Writes()
	}
	if !c.files.listed {
		if c.files.writes, c.files.places, err = c.files.draft.Writes(); err != nil {
			return nil, err
		}
		c.files.listed = true
		c.files.of.Lay(c.files.places)
	}
	return c.files.writes, nil
}

// Places are those of the paths that the writes are about; nothing for a disk.
func (c *Context) Places() []block.Place {
	if c.files == nil {
		return nil
	}
	return c.files.places
}

// OnFiles reports whether it is of the files of a system in a folder, and not of a disk.
func (c *Context) OnFiles() bool { return c.files != nil }

// Draft is the target as the action has drafted it; nil where it is the files of a folder.
func (c *Context) Draft() *block.Draft { return c.draft }

// Target is what the device is known again by.
func (c *Context) Target(path string) block.Target {
	if c.files != nil {
		return *filesTarget(path, c.files.of.Marks())
	}
	if c.firmware != nil {
		return block.Target{
			Path: path, Size: c.draft.Size(), SectorSize: c.draft.SectorSize(), Marks: []string{c.firmware.Mark},
		}
	}
	return c.table.Target(path)
}

// OnFirmware reports whether it is of the firmware's state, and not of a disk.
func (c *Context) OnFirmware() bool { return c.firmware != nil }

// described says what lies on the disk.
func (c *Context) described() (*bag.Disk, error) {
	if c.disk != nil {
		return c.disk, nil
	}
	d, _, err := system.Describe(c.draft, "disk0", "disk", c.Adapters, system.Needs{Firmware: c.mode(), Keys: c.Keys})
	c.disk = d
	return d, err
}

func (c *Context) contents() (map[int]layout.Content, error) {
	d, err := c.described()
	if err != nil {
		return nil, err
	}
	m := map[int]layout.Content{}
	for _, p := range d.Partitions {
		m[p.Number] = layout.Content{Kind: p.Content.Kind, Label: p.Content.Label, Size: p.Content.Size, Free: p.Content.Free}
	}
	return m, nil
}

// holding is the numbers of the partitions that hold a system.
func (c *Context) holding() (map[int]bool, error) {
	d, err := c.described()
	if err != nil {
		return nil, err
	}
	m := map[int]bool{}
	for _, p := range d.Partitions {
		if p.System != nil {
			m[p.Number] = true
		}
	}
	for _, v := range d.Volumes {
		if v.System != nil {
			for _, n := range v.Within {
				m[n] = true
			}
		}
	}
	return m, nil
}

// lost says in words what lies on the partitions that are not kept.
func (c *Context) lost(kept map[int]bool) ([]string, error) {
	d, err := c.described()
	if err != nil {
		return nil, err
	}
	var list []string
	for _, p := range d.Partitions {
		if !kept[p.Number] {
			list = append(list, Loss(p))
		}
	}
	if len(d.Partitions) > 0 {
		return list, nil
	}
	if whole := layout.Recognise(block.NewReadRange(c.draft, 0, c.draft.Size())); whole.Kind != "" {
		return []string{strings.TrimSpace("the whole disk: " + whole.Kind + " " + whole.Label)}, nil
	}
	blank, err := c.blank()
	if err != nil || blank {
		return nil, err
	}
	return []string{"whatever is on the disk outside of any partition: it has no table, and it is not blank"}, nil
}

// blank reports whether the first and the last MiB hold nothing but zeros.
func (c *Context) blank() (bool, error) {
	n := min(1<<20, c.draft.Size())
	for _, at := range []int64{0, c.draft.Size() - n} {
		b := make([]byte, n)
		if _, err := c.draft.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			return false, err
		}
		if len(bytes.Trim(b, "\x00")) > 0 {
			return false, nil
		}
	}
	return true, nil
}

// Loss says in words what lies on a partition.
func Loss(p bag.Partition) string {
	what := p.Content.Kind
	if p.System != nil {
		what = p.System.Name + " on " + what
	}
	if what == "" {
		what = "nothing that is known"
	}
	if strings.HasPrefix(p.Content.Note, "holds ") {
		what += ", which " + p.Content.Note
	}
	text := fmt.Sprintf("partition %d, %.1f MiB: %s", p.Number, float64(p.Size)/(1<<20), what)
	return strings.TrimSpace(text + " " + p.Content.Label)
}

// number reads a parameter that is a number; 0 when it is not given.
func (c *Context) number(name string) (int, error) {
	text := c.params[name]
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("parameter %s %q: want a number", name, text)
	}
	return n, nil
}

// able finds the system on the disk that an action of one ability is for: the one
// whose partition is named, else the only one that has the ability.
func able[T any](c *Context) (T, Check) {
	var none T
	check := Check{What: "a system lies on the disk that this can be done to"}
	if c.files != nil {
		check.What = "a system lies there that this can be done to"
	}
	wanted, err := c.number("system")
	if err != nil {
		check.Saw = err.Error()
		return none, check
	}
	var found []system.Opened
	var seen []string
	for _, o := range c.systems {
		seen = append(seen, o.String())
		if _, ok := o.System.(T); ok && (wanted == 0 || wanted == o.Partition) {
			found = append(found, o)
		}
	}
	switch {
	case c.unopened != nil:
		check.Saw = c.unopened.Error()
	case len(found) == 1:
		check.OK, check.Saw = true, found[0].String()
		return found[0].System.(T), check
	case len(found) > 1:
		var names []string
		for _, o := range found {
			names = append(names, o.String())
		}
		check.Saw = "several do: " + strings.Join(names, "; ") + ": say on which partition, with the parameter \"system\""
	case len(seen) == 0:
		check.Saw = "none was found whose parts can be changed"
		if why := lack[T](c); why != "" {
			check.Saw = why
		}
	default:
		check.Saw = strings.Join(seen, "; ") + ": this cannot be done to it"
	}
	return none, check
}

// lack says why what T stands for cannot be done to the systems that the facts
// tell of.
func lack[T any](c *Context) string {
	if c.Facts == nil {
		return ""
	}
	var list []string
	for _, d := range c.Facts.Disks {
		for _, p := range d.Places() {
			for _, a := range c.Adapters {
				if p.System == nil || p.System.Family != a.Family() {
					continue
				}
				if why := system.Lack[T](a); why != "" {
					list = append(list, p.System.Name+": "+why)
				}
			}
		}
	}
	return strings.Join(list, "; ")
}

// partition finds one of the machine's, by the facts.
func (c *Context) partition(f func(bag.Partition) bool) (bag.Partition, bool) {
	if c.Facts == nil {
		return bag.Partition{}, false
	}
	for _, d := range c.Facts.Disks {
		if i := slices.IndexFunc(d.Partitions, f); i >= 0 {
			return d.Partitions[i], true
		}
	}
	return bag.Partition{}, false
}
