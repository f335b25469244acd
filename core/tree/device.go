package tree

import (
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"diorthos/core/block"
)

// Span is the size of the space in which paths have their places, in bytes.
const Span = 1 << 50

const (
	firstPlace   = 1 << 20
	alignment    = 4096
	longestWrite = 8 << 20 // bytes of one write of a plan
	mostPlanned  = 4 << 30 // bytes of all of them
)

// A Device is the files below a folder as a journal sees them: where a path has its place, what it is
// is read and written. A write takes effect when all bytes of its place were written, the last first or
// the first first.
type Device struct {
	*Files
	readOnly bool
	places   []block.Place

	read    int // of the place that was read last; -1 for none
	image   []byte
	pending map[int]*pieces
}

// pieces are what was written of a place so far.
type pieces struct {
	data []byte
	left int64
}

var _ block.Device = (*Device)(nil)

// Open opens the files below the folder at path.
func Open(path string, readOnly bool) (*Device, error) {
	f, err := OpenFiles(path)
	if err != nil {
		return nil, err
	}
	return &Device{Files: f, readOnly: readOnly, read: -1, pending: map[int]*pieces{}}, nil
}

// Lay tells which paths have which places. They are in the order of these.
func (d *Device) Lay(places []block.Place) { d.places, d.read = places, -1 }

// Size is Span.
func (d *Device) Size() int64 { return Span }

// SectorSize is 512: places are no sectors, and nothing depends on it.
func (d *Device) SectorSize() int { return 512 }

// placeAt is the number of the place that holds a byte; -1 for none.
func (d *Device) placeAt(off int64) int {
	i := sort.Search(len(d.places), func(i int) bool { return d.places[i].Off > off }) - 1
	if i < 0 || off >= d.places[i].Off+d.places[i].Length {
		return -1
	}
	return i
}

// imageOf is what a path is now, as bytes of its place.
func (d *Device) imageOf(i int) ([]byte, error) {
	if d.read == i {
		return d.image, nil
	}
	p := d.places[i]
	n, err := d.Node(p.Path)
	if err != nil {
		return nil, err
	}
	if n.IsDir() && n.Time != p.Will { // somebody's file came or went: nothing that counts
		n.Time = p.Was
	}
	raw := n.bytes()
	if int64(len(raw)) > p.Length {
		raw = raw[:p.Length] // it has grown, which its head says
	}
	d.read, d.image = i, append(raw, make([]byte, p.Length-int64(len(raw)))...)
	return d.image, nil
}

// ReadAt reads what stands at places; what is outside of them is zeros.
func (d *Device) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= Span {
		return 0, io.EOF
	}
	for n := 0; n < len(p); {
		i := d.placeAt(off + int64(n))
		if i < 0 {
			p[n] = 0
			n++
			continue
		}
		image, err := d.imageOf(i)
		if err != nil {
			return n, err
		}
		n += copy(p[n:], image[off+int64(n)-d.places[i].Off:])
	}
	return len(p), nil
}

// WriteAt writes within one place.
func (d *Device) WriteAt(p []byte, off int64) (int, error) {
	i := d.placeAt(off)
	switch {
	case d.readOnly:
		return 0, fmt.Errorf("write %s: %w", d.path, block.ErrReadOnly)
	case i < 0 || off+int64(len(p)) > d.places[i].Off+d.places[i].Length:
		return 0, fmt.Errorf("write %s: bytes %d to %d are no place of a file", d.path, off, off+int64(len(p)))
	}
	place := d.places[i]
	part := d.pending[i]
	if part == nil {
		part = &pieces{data: make([]byte, place.Length), left: place.Length}
		d.pending[i] = part
	}
	copy(part.data[off-place.Off:], p)
	if part.left -= int64(len(p)); part.left > 0 {
		return len(p), nil
	}
	delete(d.pending, i)
	d.read = -1
	n, err := nodeOf(part.data)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", place.Path, err)
	}
	return len(p), d.Put(place.Path, n)
}

// A Change is a path that shall be something else.
type Change struct {
	Path        string
	Before, Now Node
}

// Plan gives each changed path a place, and lists what a journal has to write. What goes is taken away
// first, what lies in a folder before the folder; what comes is put there after the folder in which it lies.
func Plan(list []Change) (places []block.Place, writes []block.Write, err error) {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b Change) int {
		gone, other := a.Now.Mode == 0, b.Now.Mode == 0
		switch {
		case gone && other:
			return strings.Compare(b.Path, a.Path)
		case gone:
			return -1
		case other:
			return 1
		}
		return strings.Compare(a.Path, b.Path)
	})
	at, total := int64(firstPlace), int64(0)
	for _, c := range list {
		before, now := c.Before.bytes(), c.Now.bytes()
		length := max(int64(len(before)), int64(len(now)))
		if total += length; total > mostPlanned {
			return nil, nil, fmt.Errorf("more than %d bytes of files would be changed at once", int64(mostPlanned))
		}
		data := append(now, make([]byte, length-int64(len(now)))...)
		places = append(places, block.Place{
			Path: c.Path, Off: at, Length: length, Was: folderTime(c.Before), Will: folderTime(c.Now),
		})
		for from := int64(0); from < length; from += longestWrite {
			writes = append(writes, block.Write{
				Off: at + from, Data: data[from:min(from+longestWrite, length)], What: c.what(),
			})
		}
		at += (length + alignment - 1) / alignment * alignment
	}
	return places, writes, nil
}

func folderTime(n Node) int64 {
	if n.IsDir() {
		return n.Time
	}
	return 0
}

// FolderTimes is what a write is about that gives a folder its time alone.
const FolderTimes = "times of folders"

func (c Change) what() string {
	how := "changed"
	timed := c.Before
	timed.Time = c.Now.Time
	switch {
	case c.Before.Mode == 0:
		how = "added"
	case c.Now.Mode == 0:
		how = "removed"
	case c.Now.IsDir() && timed.Equal(c.Now):
		return FolderTimes
	case c.Now.IsDir() || string(c.Before.Content) == string(c.Now.Content):
		how = "owner, permissions, time or attributes"
	}
	return "/" + c.Path + ": " + how
}
