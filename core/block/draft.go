package block

import (
	"bytes"
	"fmt"
	"io"
	"sort"
	"sync"
)

// draftSector is the unit in which a draft keeps what was written, in bytes.
const draftSector = 512

// A Draft takes writes in memory over a source that it leaves alone. What is
// read from it is what would stand there; Writes lists what a journal has to
// apply for it to be so. It is safe for use by several goroutines, except [Draft.For].
type Draft struct {
	under      io.ReaderAt
	size       int64
	sectorSize int
	sectors    map[int64]*drafted
	what       string
	mu         sync.RWMutex // of sectors
}

type drafted struct {
	data []byte
	what string
}

// NewDraft begins a draft over src.
func NewDraft(src Source) *Draft {
	return &Draft{
		under:      src,
		size:       src.Size(),
		sectorSize: src.SectorSize(),
		sectors:    map[int64]*drafted{},
		what:       "change",
	}
}

// NewDraftOver begins a draft over something whose size is not known.
func NewDraftOver(under io.ReaderAt) *Draft {
	return &Draft{under: under, size: 1<<63 - 1, sectorSize: draftSector, sectors: map[int64]*drafted{}, what: "change"}
}

// For says, in a technician's words, what the writes that follow are for.
func (d *Draft) For(what string) { d.what = what }

// Size is that of the source, in bytes.
func (d *Draft) Size() int64 { return d.size }

// SectorSize is that of the source, in bytes.
func (d *Draft) SectorSize() int { return d.sectorSize }

// Sync does nothing: a draft is only in memory.
func (d *Draft) Sync() error { return nil }

// ReadAt reads what would stand there.
func (d *Draft) ReadAt(p []byte, off int64) (int, error) {
	n, err := d.under.ReadAt(p, off)
	d.mu.RLock()
	defer d.mu.RUnlock()
	if len(d.sectors) == 0 {
		return n, err
	}
	for s := off / draftSector; s*draftSector < off+int64(n); s++ {
		if raw, ok := d.sectors[s]; ok {
			from := max(off, s*draftSector)
			copy(p[from-off:n], raw.data[from-s*draftSector:])
		}
	}
	return n, err
}

// WriteAt keeps p for the place.
func (d *Draft) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > d.size {
		return 0, fmt.Errorf("draft: bytes %d to %d lie outside its %d bytes", off, off+int64(len(p)), d.size)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for n := 0; n < len(p); {
		s := (off + int64(n)) / draftSector
		within := off + int64(n) - s*draftSector
		kept := d.sectors[s]
		if kept == nil {
			kept = &drafted{data: make([]byte, draftSector)}
			if within != 0 || len(p)-n < draftSector { // the rest of the sector stays as it is
				if _, err := d.under.ReadAt(kept.data, s*draftSector); err != nil && err != io.EOF {
					return n, err
				}
			}
			d.sectors[s] = kept
		}
		kept.what = d.what
		n += copy(kept.data[within:], p[n:])
	}
	return len(p), nil
}

// Put takes over planned writes.
func (d *Draft) Put(writes []Write) error {
	for _, w := range writes {
		d.For(w.What)
		if _, err := d.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	return nil
}

// longestWrite bounds one write of a draft, in bytes.
const longestWrite = 1 << 20

// Writes lists what differs from the source, in the order of the places.
// Sectors beside each other that are for the same thing go together.
func (d *Draft) Writes() ([]Write, error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	var order []int64
	was := make([]byte, draftSector)
	for s, kept := range d.sectors {
		n := min(draftSector, d.size-s*draftSector)
		if _, err := d.under.ReadAt(was[:n], s*draftSector); err != nil && err != io.EOF {
			return nil, err
		}
		if !bytes.Equal(was[:n], kept.data[:n]) {
			order = append(order, s)
		}
	}
	sort.Slice(order, func(i, k int) bool { return order[i] < order[k] })
	var list []Write
	for _, s := range order {
		kept := d.sectors[s]
		data := kept.data[:min(draftSector, d.size-s*draftSector)]
		if n := len(list); n > 0 {
			last := &list[n-1]
			if last.Off+int64(len(last.Data)) == s*draftSector && len(last.Data) < longestWrite && last.What == kept.what {
				last.Data = append(last.Data, data...)
				continue
			}
		}
		list = append(list, Write{Off: s * draftSector, Data: bytes.Clone(data), What: kept.what})
	}
	return list, nil
}

// A WriteRange is a stretch of a device that can be written, such as a partition
// of a draft.
type WriteRange struct {
	dev         Device
	off, length int64
}

// NewWriteRange returns the length bytes of dev that begin at byte offset off.
func NewWriteRange(dev Device, off, length int64) *WriteRange { return &WriteRange{dev, off, length} }

// ReadAt reads from byte offset off of the section.
func (s *WriteRange) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= s.length {
		return 0, io.EOF
	}
	if rest := s.length - off; int64(len(p)) > rest {
		n, err := s.dev.ReadAt(p[:rest], s.off+off)
		if err == nil {
			err = io.EOF
		}
		return n, err
	}
	return s.dev.ReadAt(p, s.off+off)
}

// WriteAt writes at byte offset off of the section, and never beyond its end.
func (s *WriteRange) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > s.length {
		return 0, fmt.Errorf("write: bytes %d to %d lie outside the section's %d bytes", off, off+int64(len(p)), s.length)
	}
	return s.dev.WriteAt(p, s.off+off)
}

// For passes on what the writes that follow are for, if the whole is a draft.
func (s *WriteRange) For(what string) {
	if d, ok := s.dev.(interface{ For(string) }); ok {
		d.For(what)
	}
}

// Size is the length in bytes.
func (s *WriteRange) Size() int64 { return s.length }

// SectorSize is that of the whole.
func (s *WriteRange) SectorSize() int { return s.dev.SectorSize() }

// Sync makes everything written to the whole durable.
func (s *WriteRange) Sync() error { return s.dev.Sync() }
