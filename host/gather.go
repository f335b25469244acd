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

// Gather looks at the disk and writes the bag to out. It reads only.
func Gather(ctx context.Context, out io.Writer, o GatherOptions) (*Gathered, error) {
	image, err := OpenDisk(o.Image, o.SectorSize, true)
	if err != nil {
		return nil, fmt.Errorf("gather: %w", err)
	}
	defer func() { _ = image.Close() }()
	disk, systems, err := DescribeDisk(image, "disk0", o.Image, o.Platforms)
	if err != nil {
		return nil, fmt.Errorf("gather: %w", err)
	}
	facts := &bag.Facts{Schema: bag.FactsVersion, Gathered: o.Now.UTC().Truncate(time.Second), Machine: machine(o, disk), Disks: []bag.Disk{*disk}}
	w, err := bag.NewWriter(out, bag.Options{Name: facts.Machine.Name, Created: facts.Gathered, Zstd: o.Zstd})
	if err != nil {
		return nil, err
	}
	g := &gatherer{bag: w, result: &Gathered{Facts: facts}}
	if err := w.AddFacts(facts); err != nil {
		return nil, err
	}
	if err := g.ends(image); err != nil {
		return nil, err
	}
	if err := g.logs(ctx, o, systems); err != nil {
		return nil, err
	}
	g.result.Digest, err = w.Close()
	return g.result, err
}

// machine takes the name from the options, else from the system on the disk,
// else from the image's file name.
func machine(o GatherOptions, disk *bag.Disk) bag.Machine {
	m := bag.Machine{Name: o.Machine, Site: o.Site, Model: o.Model}
	for _, p := range disk.Partitions {
		if m.Name == "" && p.System != nil {
			m.Name = p.System.Host
		}
	}
	if m.Name == "" {
		m.Name = strings.TrimSuffix(filepath.Base(o.Image), filepath.Ext(o.Image))
	}
	return m
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
		for _, name := range s.platform.Logs(s.volume) {
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
