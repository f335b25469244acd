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
)

// GatherOptions say what to gather.
type GatherOptions struct {
	Image      string // a disk image or a block device
	Root       string // a folder that holds a whole system
	Live       bool   // the running machine
	SectorSize int    // of an image; 0 for 512
	Logs       string // a folder of logs; empty to take those on the image
	Machine    string // empty to take the name that the system on it bears
	Site       string
	Model      string
	Zstd       bool
	Platforms  []Platform
	Now        time.Time
}

// Gathered says what a bag holds.
type Gathered struct {
	Digest string
	Facts  *bag.Facts
	Files  int
	Bytes  int64
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
	facts := look.Facts
	w, err := bag.NewWriter(out, bag.Options{Name: facts.Machine.Name, Created: facts.Gathered, Zstd: o.Zstd})
	if err != nil {
		return nil, err
	}
	g := &gatherer{bag: w, result: &Gathered{Facts: facts}}
	if err := w.AddFacts(facts); err != nil {
		return nil, err
	}
	if look.image != nil {
		if err := g.ends(look.image); err != nil {
			return nil, err
		}
	}
	if err := g.logs(ctx, o, look.systems); err != nil {
		return nil, err
	}
	if err := g.screen(ctx, o); err != nil {
		return nil, err
	}
	g.result.Digest, err = w.Close()
	return g.result, err
}

// A Looked is what Look found. It holds the image open.
type Looked struct {
	Facts   *bag.Facts
	image   *block.Image
	systems []found
}

// Close lets go of the image.
func (l *Looked) Close() {
	if l.image != nil {
		_ = l.image.Close() // it was only read
	}
}

// Look takes the facts of a disk, a folder or the running machine.
func Look(o GatherOptions) (l *Looked, err error) {
	if o.Image == "" && o.Root == "" && !o.Live {
		return nil, errNothing
	}
	opened := &Looked{Facts: &bag.Facts{Schema: bag.FactsVersion, Gathered: o.Now.UTC().Truncate(time.Second), Machine: bag.Machine{Name: o.Machine, Site: o.Site, Model: o.Model}, Disks: []bag.Disk{}}}
	l = opened
	defer func() {
		if err != nil {
			opened.Close()
		}
	}()
	if o.Image != "" {
		at := Locate(o.Image)
		o.Image = at.Disk
		if l.image, err = OpenDisk(at.Disk, o.SectorSize, true); err != nil {
			return nil, err
		}
		disk, systems, err := DescribeDiskFor(l.image, "disk0", at.Disk, o.Platforms, Needs{Firmware: at.firmware(o.Platforms)})
		if err != nil {
			return nil, err
		}
		l.Facts.Disks, l.systems = []bag.Disk{*disk}, systems
		for _, s := range systems {
			system(l.Facts, s.volume, []Platform{s.platform}, "")
		}
		if err := at.survey(l.Facts, systems); err != nil {
			return nil, err
		}
		l.Facts.Volumes = onDisk(disk)
	}
	switch {
	case o.Root != "":
		if err = Root(l.Facts, o.Root, o.Platforms); err != nil {
			return nil, err
		}
		l.systems = append(l.systems, inFolder(o.Root, o.Platforms)...)
	case o.Live:
		if err = Live(l.Facts, o.Platforms); err != nil {
			return nil, err
		}
		l.Facts.Disks = append(l.Facts.Disks, liveDisks(l.Facts.Devices, o.Platforms)...)
		l.systems = append(l.systems, inFolder("/", o.Platforms)...)
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
func liveDisks(devices []bag.Device, platforms []Platform) []bag.Disk {
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
		if disk, _, err := DescribeDisk(image, fmt.Sprintf("disk%d", len(list)), path, platforms); err == nil {
			list = append(list, *disk)
		}
		_ = image.Close() // it was only read
	}
	return list
}

// onDisk lists the volumes of a disk that a system would mount.
func onDisk(d *bag.Disk) []bag.Volume {
	var list []bag.Volume
	for _, p := range d.Partitions {
		if p.Mount != "" && p.Content.Free >= 0 {
			list = append(list, bag.Volume{Mount: p.Mount, Kind: p.Content.Kind, Size: p.Content.Size, Free: p.Content.Free})
		}
	}
	return list
}

func inFolder(root string, platforms []Platform) []found {
	for _, p := range platforms {
		if _, ok := p.System(os.DirFS(root)); ok {
			return []found{{platform: p, volume: os.DirFS(root)}}
		}
	}
	return nil
}

type gatherer struct {
	bag    *bag.Writer
	result *Gathered
}

func (g *gatherer) add(name string, size int64, r io.Reader) error {
	g.result.Files++
	g.result.Bytes += size
	return g.bag.AddFile(name, size, r)
}

// ends adds the first and the last MiB of the disk as they are.
func (g *gatherer) ends(src block.Source) error {
	n := min(ends, src.Size())
	if err := g.add("disk0/first.bin", n, io.NewSectionReader(src, 0, n)); err != nil {
		return err
	}
	return g.add("disk0/last.bin", n, io.NewSectionReader(src, src.Size()-n, n))
}

func (g *gatherer) logs(ctx context.Context, o GatherOptions, systems []found) error {
	if o.Logs != "" {
		return g.logFolder(ctx, o.Logs)
	}
	for _, s := range systems {
		for _, name := range append(s.platform.Logs(s.volume), s.platform.Catalogues(s.volume)...) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := g.log(s.volume, name, s.platform.LogName(name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// screen adds what a person saw on the screen, where it was noted beside the
// disk.
func (g *gatherer) screen(ctx context.Context, o GatherOptions) error {
	at := Locate(o.Image)
	if at.Plate == "" || ctx.Err() != nil {
		return ctx.Err()
	}
	folder := os.DirFS(filepath.Dir(at.Plate))
	if _, err := fs.Stat(folder, screenName); err != nil {
		return nil //nolint:nilerr // nothing was noted
	}
	return g.log(folder, screenName, path.Join("logs", screenName))
}

func (g *gatherer) logFolder(ctx context.Context, folder string) error {
	info, err := os.Stat(folder)
	if err != nil {
		return fmt.Errorf("gather: logs: %w", err)
	}
	if !info.IsDir() {
		return fmt.Errorf("gather: logs: %s is not a folder", folder)
	}
	fsys := os.DirFS(folder)
	return fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !d.Type().IsRegular() {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		return g.log(fsys, name, path.Join("logs", name))
	})
}

// log adds one log as long as it is now; what is appended meanwhile stays out.
func (g *gatherer) log(fsys fs.FS, name, as string) (err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return fmt.Errorf("gather: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("gather: %w", err)
	}
	if info.Size() > maxLog {
		return fmt.Errorf("gather: %s has %d bytes, at most %d: cut it to its last part", name, info.Size(), int64(maxLog))
	}
	return g.add(as, info.Size(), f)
}
