package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/firmware"
	"diorthos/core/readfs"
	"diorthos/core/reading"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// GatherOptions say what to gather.
type GatherOptions struct {
	// Keep is where the record of climbs lies; empty for where it does otherwise.
	Keep       string
	Image      string       // a disk image or a block device
	Device     block.Source // what is looked at in place of the image, such as a draft of it
	Root       string       // a folder that holds a whole system
	Live       bool         // the running machine
	SectorSize int          // of an image; 0 for 512
	Logs       string       // a folder of logs, or one; empty to take those on the image
	With       []string     // files of what was seen besides, such as the text of a screen
	Machine    string       // empty to take the name that the system on it bears
	Site       string
	Model      string
	Zstd       bool
	Adapters   []system.Adapter
	Keys       *volumes.Keys // for what is encrypted
	Firmware   firmware.Mode // of the machine, where the image does not tell; empty when not known
	Now        time.Time
	LeaveOut   []string // patterns of names in the bag that are not taken
	Mask       bool     // names of people and addresses are replaced
	ChainAlone bool     // of a disk, no more is looked at than by what the machine starts
}

// Gathered says what a bag holds.
type Gathered struct {
	Digest string
	Facts  *bag.Facts
	Files  int
	Bytes  int64
	Masked map[string]int // how many different things were replaced, by what they are
}

// A Candidate is a file that would be taken, by its name in the bag.
type Candidate struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// List says what Gather would take besides the facts, and what not. Nothing is written.
func List(ctx context.Context, o GatherOptions) (list []Candidate, facts *bag.Facts, err error) {
	look, err := Look(o)
	if err != nil {
		return nil, nil, fmt.Errorf("gather: %w", err)
	}
	defer look.Close()
	logs, err := look.logs(ctx, o)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range look.ends(o) {
		list = append(list, Candidate{e.name, e.of})
	}
	for _, c := range logs {
		info, err := fs.Stat(c.fsys, c.name)
		if err != nil {
			return nil, nil, fmt.Errorf("gather: %w", err)
		}
		list = append(list, Candidate{c.as, info.Size()})
	}
	return list, look.Facts, nil
}

// leavesOut reports whether a file of the bag is not to be taken, and notes it. A pattern without a slash is of the
// last part of the name.
func (o GatherOptions) leavesOut(facts *bag.Facts, name string) bool {
	for _, pattern := range o.LeaveOut {
		of := name
		if !strings.Contains(pattern, "/") {
			of = path.Base(name)
		}
		if ok, _ := path.Match(pattern, of); ok { // patterns were checked
			facts.LeftOut = append(facts.LeftOut, bag.LeftOut{Name: name, Why: "it was asked to be left out"})
			return true
		}
	}
	return false
}

// ends is how much of either end of a disk goes into the bag, in bytes.
const ends = 1 << 20

// maxLog is the size of the largest log that is taken whole, in bytes.
const maxLog = 1 << 30

// Gather looks at the disk, the folder or the running machine and writes the
// bag to out. It reads only.
func Gather(ctx context.Context, out io.Writer, o GatherOptions) (*Gathered, error) {
	look, err := Look(o)
	if err != nil {
		return nil, fmt.Errorf("gather: %w", err)
	}
	defer look.Close()
	logs, err := look.logs(ctx, o)
	if err != nil {
		return nil, err
	}
	disk := look.ends(o)
	facts := look.Facts
	facts.Mended = mended(o, facts.Machine.Name)
	w, err := bag.NewWriter(out, bag.Options{Name: facts.Machine.Name, Created: facts.Gathered, Zstd: o.Zstd})
	if err != nil {
		return nil, err
	}
	g := &gatherer{bag: w, result: &Gathered{Facts: facts}}
	if o.Mask {
		g.mask = bag.NewMask(look.people())
		if err := g.mask.Facts(facts); err != nil {
			return nil, fmt.Errorf("gather: %w", err)
		}
	}
	if err := w.AddFacts(facts); err != nil {
		return nil, err
	}
	for _, e := range disk {
		if err := g.add(e.name, e.of, io.NewSectionReader(look.image, e.at, e.of)); err != nil {
			return nil, err
		}
	}
	for _, c := range logs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := g.log(c); err != nil {
			return nil, err
		}
	}
	if g.mask != nil {
		g.result.Masked = g.mask.Counts()
	}
	g.result.Digest, err = w.Close()
	return g.result, err
}

// people are the names by which the people are known who have an account on the systems.
func (l *Looked) people() (list []string) {
	for _, s := range l.systems {
		if k, ok := s.Adapter.(system.PeopleKnower); ok {
			list = append(list, k.People(s.Volume)...)
		}
	}
	return list
}

// mended is what the record beside the disk says was done to the machine before. One
// that cannot be read says nothing.
func mended(o GatherOptions, name string) []bag.Mended {
	m := &Machine{Path: o.Image, Root: o.Root, Name: name, Keep: o.Keep}
	r, err := climb.ReadRecord(m.Record(), name)
	if err != nil {
		return nil
	}
	list := r.Mended()
	return list[max(0, len(list)-maxMended):]
}

// maxMended bounds how much of a long record goes into a bag.
const maxMended = 500

// A Looked is what Look found. It holds the image open.
type Looked struct {
	Facts   *bag.Facts
	image   block.Source
	opened  *block.Image // the image, where it was opened here
	folders []*os.Root
	scratch []string // folders that go when it is closed
	systems []system.Found
}

// Close lets go of the image, or of the folders.
func (l *Looked) Close() {
	if l.opened != nil {
		_ = l.opened.Close() // it was only read
	}
	for _, r := range l.folders {
		_ = r.Close() // they too
	}
	for _, dir := range l.scratch {
		_ = os.RemoveAll(dir) // at the next start of the machine it would go too
	}
}

// folder opens a folder so that nothing in it leads out: a link on somebody
// else's disk must not bring a file of this machine into the bag.
func (l *Looked) folder(path string) (fs.FS, error) {
	r, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	l.folders = append(l.folders, r)
	return readfs.Within(r), nil
}

// file opens the folder of a file that is to be taken as a log.
func (l *Looked) file(name string) (log, error) {
	folder, err := l.folder(filepath.Dir(name))
	base := filepath.Base(name)
	if err == nil {
		_, err = fs.Stat(folder, base)
	}
	return log{folder, base, path.Join("logs", base)}, err
}

// Look takes the facts of a disk, a folder or the running machine.
func Look(o GatherOptions) (l *Looked, err error) {
	if o.Image == "" && o.Root == "" && !o.Live {
		return nil, errNothing
	}
	opened := &Looked{Facts: &bag.Facts{
		Schema:   bag.FactsVersion,
		Gathered: o.Now.UTC().Truncate(time.Second),
		Machine:  bag.Machine{Name: o.Machine, Site: o.Site, Model: o.Model},
		Disks:    []bag.Disk{},
	}}
	l = opened
	defer func() {
		if err != nil {
			opened.Close()
		}
	}()
	if o.Image != "" {
		at := Locate(o.Image)
		o.Image = at.Disk
		if l.image = o.Device; l.image == nil {
			if l.opened, err = OpenDisk(at.Disk, o.SectorSize, true); err != nil {
				return nil, err
			}
			l.image = l.opened
		}
		mode := at.firmware(o.Adapters)
		if mode == "" {
			mode = o.Firmware
		}
		disk, systems, err := system.Describe(
			l.image,
			"disk0",
			at.Disk,
			o.Adapters,
			system.Needs{Firmware: mode, Keys: o.Keys, ChainAlone: o.ChainAlone},
		)
		if err != nil {
			return nil, err
		}
		l.Facts.Disks, l.systems = []bag.Disk{*disk}, systems
		if mode != "" {
			l.Facts.Firmware = &bag.Firmware{Mode: mode}
		}
		if len(systems) > 0 { // facts are of one system: the first on the disk
			if !o.ChainAlone {
				installed(l.Facts, systems[0].Volume, []system.Adapter{systems[0].Adapter}, "")
			}
			if err := at.survey(l.Facts, systems[0]); err != nil {
				return nil, err
			}
		}
		l.Facts.Volumes = onDisk(disk)
	}
	switch {
	case o.Root != "":
		root, err := l.folder(o.Root)
		if err != nil {
			return nil, fmt.Errorf("survey: %w", err)
		}
		if err := Root(l.Facts, o.Root, root, o.Adapters); err != nil {
			return nil, err
		}
		l.surveyFolder(o.Root, root, o)
	case o.Live:
		if err = Live(l.Facts, o.Adapters); err != nil {
			return nil, err
		}
		l.Facts.Disks = append(l.Facts.Disks, liveDisks(l.Facts.Devices, o.Adapters)...)
		l.surveyFolder("/", os.DirFS("/"), o)
	}
	if l.Facts.Hardware == nil && l.Facts.Installed != nil && l.Facts.Installed.Architecture != "" {
		l.Facts.Hardware = &bag.Hardware{Architecture: l.Facts.Installed.Architecture}
	}
	if l.Facts.Machine.Name == "" {
		l.Facts.Machine.Name = strings.TrimSuffix(filepath.Base(o.Image), filepath.Ext(o.Image))
	}
	return l, nil
}

// liveDisks describes the disks of the running machine, as far as it may be
// read.
func liveDisks(devices []bag.Device, adapters []system.Adapter) []bag.Disk {
	var list []bag.Disk
	for _, d := range devices {
		if d.Kind != "disk" {
			continue
		}
		path := "/dev/" + d.Name
		image, err := OpenDisk(path, 0, true)
		if err != nil {
			continue // not root: its volumes are known all the same
		}
		if disk, _, err := system.Describe(
			image, fmt.Sprintf("disk%d", len(list)), path, adapters, system.Needs{},
		); err == nil {
			list = append(list, *disk)
		}
		_ = image.Close() // it was only read
	}
	return list
}

// onDisk lists the volumes of a disk that a system would mount.
func onDisk(d *bag.Disk) []bag.Volume {
	var list []bag.Volume
	for _, p := range d.Places() {
		if p.Mount != "" && p.Content.Free >= 0 {
			list = append(list, bag.Volume{Mount: p.Mount, Kind: p.Content.Kind, Size: p.Content.Size, Free: p.Content.Free})
		}
	}
	return list
}

// surveyFolder looks at the system of a folder.
func (l *Looked) surveyFolder(path string, root fs.FS, o GatherOptions) {
	a, _, ok := system.FindOn(o.Adapters, root)
	if !ok {
		return
	}
	l.systems = append(l.systems, system.Found{Adapter: a, Volume: root})
	if f, ok := a.(system.FolderAdapter); ok {
		l.Facts.Tree = &bag.Tree{Source: absolute(path), Marks: f.FolderMarks(root)}
		f.SurveyFolder(root, o.Now, l.Facts)
	}
}

type gatherer struct {
	bag    *bag.Writer
	result *Gathered
	mask   *bag.Mask // nil where nothing is replaced
}

func (g *gatherer) add(name string, size int64, r io.Reader) error {
	g.result.Files++
	g.result.Bytes += size
	return g.bag.AddFile(name, size, r)
}

// An end is the first or the last MiB of the disk as it is.
type end struct {
	name   string
	at, of int64 // bytes
}

// ends lists those that can be read.
func (l *Looked) ends(o GatherOptions) (list []end) {
	if l.image == nil {
		return nil
	}
	n := min(ends, l.image.Size())
	for _, e := range []end{{"disk0/first.bin", 0, n}, {"disk0/last.bin", l.image.Size() - n, n}} {
		if o.leavesOut(l.Facts, e.name) {
			continue
		}
		if _, err := io.Copy(io.Discard, io.NewSectionReader(l.image, e.at, e.of)); err != nil {
			l.Facts.LeftOut = append(l.Facts.LeftOut, bag.LeftOut{Name: e.name, Why: err.Error()})
			continue
		}
		list = append(list, e)
	}
	return list
}

// A log that is to be taken, and what it is called in the bag.
type log struct {
	fsys fs.FS
	name string
	as   string
}

// logs lists the logs that can be taken. What is there and cannot be read, as on
// a disk that is dying, is named in the facts: the others are taken all the same.
func (l *Looked) logs(ctx context.Context, o GatherOptions) (list []log, err error) {
	found, err := l.candidates(o)
	if err != nil {
		return nil, fmt.Errorf("gather: %w", err)
	}
	for _, c := range found {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if o.leavesOut(l.Facts, c.as) {
			continue
		}
		if err := c.readable(); err != nil {
			l.Facts.LeftOut = append(l.Facts.LeftOut, bag.LeftOut{Name: c.name, Why: err.Error()})
			continue
		}
		list = append(list, c)
	}
	return list, nil
}

func (l *Looked) candidates(o GatherOptions) (list []log, err error) {
	if at := Locate(o.Image); filepath.Base(
		at.Firmware,
	) == plateName { // what a person saw on the screen, where it was noted beside the disk
		folder, err := l.folder(filepath.Dir(at.Firmware))
		if err != nil {
			return nil, err
		}
		if _, err := fs.Stat(folder, screenName); err == nil {
			list = append(list, log{folder, screenName, path.Join("logs", screenName)})
		}
	}
	for i, file := range o.With {
		seen, err := l.file(file)
		if err != nil {
			return nil, fmt.Errorf("with: %w", err)
		}
		seen.as = path.Join("logs", "seen", filepath.Base(file))
		if i > 0 {
			seen.as = path.Join("logs", fmt.Sprintf("seen-%d", i+1), filepath.Base(file))
		}
		list = append(list, seen)
	}
	if o.Logs != "" {
		if info, err := os.Stat(o.Logs); err == nil && info.Mode().IsRegular() {
			one, err := l.file(o.Logs)
			return append(list, one), err
		}
		given, err := l.folder(o.Logs)
		if err != nil {
			return nil, fmt.Errorf("logs: %w", err)
		}
		err = fs.WalkDir(given, ".", func(name string, d fs.DirEntry, err error) error {
			switch {
			case err != nil && name == ".":
				return err
			case err != nil: // a folder that may not be read
				l.Facts.LeftOut = append(l.Facts.LeftOut, bag.LeftOut{Name: name, Why: err.Error()})
			case d.Type().IsRegular():
				list = append(list, log{given, name, path.Join("logs", name)})
			}
			return nil
		})
		return list, err
	}
	for _, s := range l.systems {
		var journals []string
		for _, name := range append(s.Adapter.Logs(s.Volume), s.Adapter.Catalogues(s.Volume)...) {
			if isJournal(s.Volume, name) {
				journals = append(journals, name)
				continue
			}
			list = append(list, log{s.Volume, name, s.Adapter.LogName(name)})
		}
		current := ""
		if o.Live {
			current = Boot()
		}
		starts, err := l.startsOf(s.Volume, journals, current)
		if err != nil {
			return nil, err
		}
		if starts.fsys != nil {
			list = append(list, starts)
		}
	}
	return list, nil
}

// readable reads a log to its end. Nothing that blocks is opened.
func (c log) readable() error {
	info, err := fs.Stat(c.fsys, c.name)
	switch {
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return fmt.Errorf("not a regular file: %s", info.Mode())
	case info.Size() > maxLog:
		return fmt.Errorf("it has %d bytes, at most %d are taken: cut it to its last part", info.Size(), int64(maxLog))
	}
	f, err := c.fsys.Open(c.name)
	if err != nil {
		return err
	}
	_, err = io.CopyN(io.Discard, f, info.Size())
	return errors.Join(err, f.Close())
}

// log adds one log as long as it is now; what is appended meanwhile stays out.
func (g *gatherer) log(c log) (err error) {
	if g.mask != nil && path.Ext(c.name) != ".mo" {
		return g.masked(c)
	}
	f, err := c.fsys.Open(c.name)
	if err != nil {
		return fmt.Errorf("gather: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("gather: %w", err)
	}
	return g.add(c.as, info.Size(), f)
}

// masked adds one log with names and addresses replaced. What was compressed is taken plain: it is read once for its
// size, and once more for the bag.
func (g *gatherer) masked(c log) error {
	src := reading.Source{Name: c.name, Open: func() (io.ReadCloser, error) { return c.fsys.Open(c.name) }}
	copied := func(to io.Writer) (n int64, err error) {
		in, err := reading.OpenPlain(src)
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, in.Close()) }()
		return g.mask.Copy(to, io.LimitReader(in, maxLog))
	}
	size, err := copied(io.Discard)
	if err != nil {
		return fmt.Errorf("gather: %w", err)
	}
	r, w := io.Pipe()
	go func() {
		_, err := copied(w)
		w.CloseWithError(err)
	}()
	defer func() { _ = r.Close() }() // the other end stops
	name := c.as
	for _, end := range []string{".gz", ".xz", ".zst", ".bz2", ".lz4"} {
		name = strings.TrimSuffix(name, end)
	}
	return g.add(name, size, r)
}
