package fat

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
	"unicode/utf16"

	"diorthos/core/block"
)

// maxFile is the size of the largest file, in bytes.
const maxFile = 1<<32 - 1

// ErrTooLarge means that a file or all files together do not fit.
var ErrTooLarge = errors.New("fat: it does not fit")

// A Device is written to and read back.
type Device interface {
	io.ReaderAt
	io.WriterAt
}

// Fill makes a FAT32 file system of size bytes at the start of dev, with all
// files and folders of fsys on it, under their long names. Files that are
// linked to are copied. progress, which may be nil, is told how many bytes of
// files have been written.
func Fill(ctx context.Context, dev Device, size int64, o Options, fsys fs.FS, progress func(int64)) error {
	o.Bits = 32
	if err := Format(dev, size, o); err != nil {
		return err
	}
	v, err := Open(dev)
	if err != nil {
		return err
	}
	f := &filler{ctx: ctx, dev: dev, v: v, next: rootCluster + 1, progress: progress}
	if err := f.folder(fsys, ".", rootCluster, 0, strings.ToUpper(o.Label)); err != nil {
		return err
	}
	for i := range v.Tables {
		if _, err := dev.WriteAt(v.table, v.tableAt(i)); err != nil {
			return fmt.Errorf("fat: write table %d: %w", i+1, err)
		}
	}
	info := infoBlock(int64(v.Clusters) - int64(f.next-rootCluster))
	binary.LittleEndian.PutUint32(info[492:], f.next)
	for _, at := range []int64{infoSector, backupBoot + infoSector} {
		if err := put(dev, at, info); err != nil {
			return err
		}
	}
	return nil
}

type filler struct {
	ctx      context.Context //nolint:containedctx // lives as long as one call
	dev      Device
	v        *Volume
	next     uint32 // the first cluster that is free
	done     int64
	progress func(int64)
}

// take gives n clusters in a row, chained.
func (f *filler) take(n int64) (uint32, error) {
	if int64(f.next)+n > int64(f.v.Clusters)+2 {
		return 0, fmt.Errorf("%w: the volume has %d clusters of %d bytes", ErrTooLarge, f.v.Clusters, f.v.Cluster)
	}
	first := f.next
	for i := range n {
		to := f.v.mask()
		if i+1 < n {
			to = first + uint32(i) + 1
		}
		putTableEntry(f.v.table, f.v.Bits, first+uint32(i), to)
	}
	f.next += uint32(n)
	return first, nil
}

// folder writes the entries of one folder, and what is in them. own is its
// first cluster, which is chained already; parent is 0 for the root.
func (f *filler) folder(fsys fs.FS, name string, own, parent uint32, label string) error {
	list, err := fs.ReadDir(fsys, name)
	if err != nil {
		return err
	}
	var raw []byte
	if name == "." {
		if label != "" {
			raw = append(raw, shortEntry(padded(label, 11), attrVolumeLabel, 0, 0, time.Time{})...)
		}
	} else {
		raw = append(raw, shortEntry(padded(".", 11), attrFolder, own, 0, time.Time{})...)
		raw = append(raw, shortEntry(padded("..", 11), attrFolder, parent, 0, time.Time{})...)
	}
	used := map[string]bool{}
	type inner struct {
		name    string
		cluster uint32
	}
	var folders []inner
	for _, e := range list {
		full := path.Join(name, e.Name())
		info, err := fs.Stat(fsys, full)
		if err != nil {
			return err
		}
		attr, cluster, size := byte(0x20), uint32(0), int64(0)
		if info.IsDir() {
			if e.Type()&fs.ModeSymlink != 0 {
				continue // a link to a folder: its files stand where they are
			}
			attr = attrFolder
			if cluster, err = f.take(f.folderClusters(fsys, full)); err != nil {
				return err
			}
			folders = append(folders, inner{full, cluster})
		} else {
			size = info.Size()
			if cluster, err = f.file(fsys, full, size); err != nil {
				return err
			}
		}
		raw = append(raw, nameEntries(e.Name(), used, attr, cluster, size, info.ModTime())...)
	}
	at := own
	for i := int64(0); i < int64(len(raw)); i += f.v.Cluster {
		part := make([]byte, f.v.Cluster)
		copy(part, raw[i:])
		if i > 0 {
			if at, err = f.follow(at, name == "."); err != nil {
				return err
			}
		}
		if _, err := f.dev.WriteAt(part, f.v.clusterAt(at)); err != nil {
			return err
		}
	}
	next := own
	if name == "." {
		next = 0 // the parent of the first folders is written as 0
	}
	for _, in := range folders {
		if err := f.folder(fsys, in.name, in.cluster, next, ""); err != nil {
			return err
		}
	}
	return nil
}

// follow is the next cluster of a folder. Only the root may have to grow.
func (f *filler) follow(at uint32, root bool) (uint32, error) {
	if next := f.v.entry(at); f.v.valid(next) {
		return next, nil
	}
	if !root {
		return 0, fmt.Errorf("%w: a folder is larger than was counted", ErrTooLarge)
	}
	more, err := f.take(1)
	if err == nil {
		putTableEntry(f.v.table, f.v.Bits, at, more)
		clear := make([]byte, f.v.Cluster)
		_, err = f.dev.WriteAt(clear, f.v.clusterAt(more))
	}
	return more, err
}

// folderClusters is how many clusters a folder's entries need.
func (f *filler) folderClusters(fsys fs.FS, name string) int64 {
	list, err := fs.ReadDir(fsys, name)
	if err != nil {
		return 1 // said again when it is written
	}
	n := int64(2)
	for _, e := range list {
		n += 1 + int64(len(utf16.Encode([]rune(e.Name())))+12)/13
	}
	return (n*entrySize + f.v.Cluster) / f.v.Cluster
}

func (f *filler) file(fsys fs.FS, name string, size int64) (cluster uint32, err error) {
	if size == 0 {
		return 0, nil
	}
	if size > maxFile {
		return 0, fmt.Errorf("%w: %s has %d bytes, a file can have %d", ErrTooLarge, name, size, int64(maxFile))
	}
	if cluster, err = f.take((size + f.v.Cluster - 1) / f.v.Cluster); err != nil {
		return 0, err
	}
	in, err := fsys.Open(name)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	buf := make([]byte, 1<<20)
	for off := int64(0); off < size; {
		if err := f.ctx.Err(); err != nil {
			return 0, err
		}
		n, err := io.ReadFull(in, buf[:min(int64(len(buf)), size-off)])
		if err != nil {
			return 0, fmt.Errorf("fat: read %s: %w", name, err)
		}
		if _, err := f.dev.WriteAt(buf[:n], f.v.clusterAt(cluster)+off); err != nil {
			return 0, err
		}
		off += int64(n)
		f.done += int64(n)
		if f.progress != nil {
			f.progress(f.done)
		}
	}
	return cluster, nil
}

func padded(s string, n int) []byte { return []byte(s + strings.Repeat(" ", n-len(s))) }

func shortEntry(name []byte, attr byte, cluster uint32, size int64, changed time.Time) []byte {
	b := make([]byte, entrySize)
	le := binary.LittleEndian
	copy(b, name)
	b[11] = attr
	date, clock := uint16(0x21), uint16(0) // 1980-01-01, the first day
	if changed.Year() >= 1980 && changed.Year() < 2108 {
		date = uint16(changed.Year()-1980)<<9 | uint16(changed.Month())<<5 | uint16(changed.Day())
		clock = uint16(changed.Hour())<<11 | uint16(changed.Minute())<<5 | uint16(changed.Second()/2)
	}
	le.PutUint16(b[14:], clock)
	le.PutUint16(b[16:], date)
	le.PutUint16(b[18:], date)
	le.PutUint16(b[20:], uint16(cluster>>16))
	le.PutUint16(b[22:], clock)
	le.PutUint16(b[24:], date)
	le.PutUint16(b[26:], uint16(cluster))
	le.PutUint32(b[28:], uint32(size))
	return b
}

// nameEntries are the entries of a file: those of its long name, if the short
// one does not say the same, and its own.
func nameEntries(name string, used map[string]bool, attr byte, cluster uint32, size int64, changed time.Time) []byte {
	short, exact := shorten(name, used)
	used[string(short)] = true
	own := shortEntry(short, attr, cluster, size, changed)
	if exact {
		return own
	}
	units := utf16.Encode([]rune(name))
	count := (len(units) + 12) / 13
	var raw []byte
	for i := count; i > 0; i-- {
		b := make([]byte, entrySize)
		b[0] = byte(i)
		if i == count {
			b[0] |= 0x40
		}
		b[11], b[13] = attrLong, checksum(short)
		at := (i - 1) * 13
		for _, piece := range longPieces {
			for k := piece[0]; k < piece[1]; k += 2 {
				u := uint16(0xffff)
				if at < len(units) {
					u = units[at]
				} else if at == len(units) {
					u = 0
				}
				binary.LittleEndian.PutUint16(b[k:], u)
				at++
			}
		}
		raw = append(raw, b...)
	}
	return append(raw, own...)
}

// shorten makes the eleven letters of a short name that nobody in the folder
// has. exact says that they are the name itself.
func shorten(name string, used map[string]bool) (short []byte, exact bool) {
	base, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		base, ext = name[:i], name[i+1:]
	}
	plain := func(s string, n int) string {
		var b strings.Builder
		for _, c := range strings.ToUpper(s) {
			if b.Len() == n {
				break
			}
			switch {
			case c >= 'A' && c <= 'Z', c >= '0' && c <= '9', strings.ContainsRune("!#$%&'()-@^_`{}~", c):
				b.WriteRune(c)
			case c != ' ' && c != '.':
				b.WriteByte('_')
			}
		}
		return b.String()
	}
	b8, e3 := plain(base, 8), plain(ext, 3)
	whole := b8
	if e3 != "" {
		whole += "." + e3
	}
	if short = append(padded(b8, 8), padded(e3, 3)...); whole == name && !used[string(short)] && b8 != "" {
		return short, true
	}
	for n := 1; ; n++ {
		tail := fmt.Sprintf("~%d", n)
		b := plain(base, 8-len(tail)) + tail
		if short = append(padded(b, 8), padded(e3, 3)...); !used[string(short)] {
			return short, false
		}
	}
}

var _ Device = (block.Device)(nil)
