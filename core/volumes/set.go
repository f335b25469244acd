package volumes

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"diorthos/core/block"
	"diorthos/core/layout"
)

// FirstInner is the number of the first volume that is no partition.
const FirstInner = 1001

// Kind is what sort of place a volume is.
type Kind string

// The kinds.
const (
	Partition Kind = "partition"
	Logical   Kind = "logical volume"
	Array     Kind = "array"
	Opened    Kind = "opened encrypted volume"
)

// A Volume is a place where a file system may lie.
type Volume struct {
	Number  int
	Kind    Kind
	Name    string   // for people: "partition 2", "quay-vg/root"
	Names   []string // as the kernel and what configures it write it: "/dev/mapper/quay--vg-root"
	ID      string   // of the volume itself, as the layer that made it writes it
	Within  []int    // numbers of what it lies in
	Size    int64    // bytes
	Dev     block.Source
	Content layout.Content
	// Problem says why it cannot be put together, or not be written; empty for none.
	Problem string
	// Damaged is set where what puts it together is damaged, and was read from a copy; Mendable where
	// that copy is known to be the newest.
	Damaged, Mendable bool
	// ReadOnly is set where a write to this disk alone would make its copies differ.
	ReadOnly bool
	// Partition is the table's entry, of a partition.
	Partition *layout.Partition
}

// Device is the volume to be written; nil where it can only be read.
func (v *Volume) Device() block.Device {
	if v == nil || v.ReadOnly {
		return nil
	}
	d, _ := v.Dev.(block.Device)
	return d
}

// Put writes into the volume, saying what for.
func (v *Volume) Put(writes []block.Write) error {
	dev := v.Device()
	if dev == nil {
		return fmt.Errorf("%s: %w", v.Name, block.ErrReadOnly)
	}
	for _, w := range writes {
		passOn(dev, w.What)
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	return nil
}

// A Set is every volume of a disk.
type Set struct{ list []*Volume }

// most bounds how many volumes a disk may have, and how deep one may lie in others.
const (
	most    = 512
	deepest = 6
)

// Open finds the volumes of a disk. If the disk can be written, so can they.
func Open(disk block.Source, table *layout.Table, keys *Keys) *Set {
	s := &Set{}
	for _, p := range table.Partitions() {
		part := stretch(disk, p.Off, p.Length)
		s.add(&Volume{
			Number: p.Number, Kind: Partition, Name: fmt.Sprintf("partition %d", p.Number), Size: p.Length, Dev: part,
			ID: p.ID, Content: layout.Recognise(part), Partition: &p,
		})
	}
	if len(s.list) == 0 { // containers are also made of whole disks
		if whole := layout.Recognise(disk); holds(whole.Kind) {
			s.add(&Volume{Kind: Partition, Name: "the whole disk", Size: disk.Size(), Dev: disk, Content: whole})
		}
	}
	for from := range deepest { // what is found in this round is looked into in the next
		fresh := len(s.list)
		s.openEncrypted(keys)
		s.assembleArrays()
		s.assembleGroups()
		if len(s.list) == fresh && from > 0 {
			break
		}
	}
	return s
}

// holds reports whether a kind of content is a container of volumes.
func holds(kind string) bool {
	return kind == "lvm" || kind == "md" || strings.HasPrefix(kind, "luks")
}

func (s *Set) add(v *Volume) {
	if len(s.list) < most {
		s.list = append(s.list, v)
	}
}

// inner adds a volume that lies in others.
func (s *Set) inner(v *Volume) {
	v.Number = FirstInner
	for _, o := range s.list {
		v.Number = max(v.Number, o.Number+1)
	}
	if v.Dev != nil {
		v.Size, v.Content = v.Dev.Size(), layout.Recognise(v.Dev)
	}
	for _, n := range v.Within {
		if o := s.Numbered(n); o != nil && o.ReadOnly {
			v.ReadOnly = true
		}
	}
	s.add(v)
}

// Of is a set of volumes that are known already.
func Of(list ...*Volume) *Set { return &Set{list: list} }

// All lists the volumes, partitions first.
func (s *Set) All() []*Volume { return s.list }

// Inner lists those that are no partitions.
func (s *Set) Inner() (list []*Volume) {
	for _, v := range s.list {
		if v.Number >= FirstInner {
			list = append(list, v)
		}
	}
	return list
}

// Numbered is the volume with a number; nil when there is none.
func (s *Set) Numbered(n int) *Volume {
	for _, v := range s.list {
		if v.Number == n {
			return v
		}
	}
	return nil
}

// Named is the volume that a name means, as kernel and fstab(5) write it: a device of the mapper or
// an array, UUID=, LABEL=, PARTUUID= or PARTLABEL=, or the link below /dev/disk that says the same;
// nil when there is none.
func (s *Set) Named(name string) *Volume {
	for _, v := range s.list {
		if slices.Contains(v.Names, name) {
			return v
		}
		id, label := "", ""
		if v.Partition != nil {
			id, label = v.ID, v.Partition.Name
		}
		for key, value := range map[string]string{
			"UUID": v.Content.UUID, "LABEL": v.Content.Label, "PARTUUID": id, "PARTLABEL": label,
		} {
			asked, ok := strings.CutPrefix(name, key+"=")
			if value != "" && (ok && strings.EqualFold(strings.Trim(asked, `"`), value) ||
				strings.EqualFold(name, "/dev/disk/by-"+strings.ToLower(key)+"/"+value)) {
				return v
			}
		}
	}
	return nil
}

// Partitions are the numbers of the partitions that a volume lies in at last: its own, of a partition.
func (s *Set) Partitions(number int) []int {
	v := s.Numbered(number)
	if v == nil {
		return nil
	}
	if v.Number < FirstInner {
		return []int{v.Number}
	}
	var list []int
	for _, n := range v.Within {
		for _, p := range s.Partitions(n) {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
	}
	return list
}

// stretch is a part of a source: writable where that is.
func stretch(of block.Source, off, length int64) block.Source {
	if d, ok := of.(block.Device); ok {
		return block.NewWriteRange(d, off, length)
	}
	return block.NewReadRange(of, off, length)
}

// A piece of a mapped device lies somewhere else: once, or alike in several places.
type piece struct {
	at, length int64 // bytes, in the mapped device
	copies     []place
}

type place struct {
	dev block.Source
	off int64
}

// A mapped device is put together from pieces, which lie one behind the other.
type mapped struct {
	pieces []piece
	size   int64
	sector int
}

func (m *mapped) Size() int64     { return m.size }
func (m *mapped) SectorSize() int { return m.sector }

// find is the index of the piece that holds a byte.
func (m *mapped) find(off int64) int {
	i, found := slices.BinarySearchFunc(m.pieces, off, func(p piece, off int64) int {
		switch {
		case p.at+p.length <= off:
			return -1
		case p.at > off:
			return 1
		}
		return 0
	})
	if !found {
		return -1
	}
	return i
}

// each calls f with the places of a stretch, piece by piece.
func (m *mapped) each(p []byte, off int64, f func(part []byte, pc piece, within int64) error) (int, error) {
	done := 0
	for done < len(p) {
		i := m.find(off + int64(done))
		if i < 0 {
			return done, io.EOF
		}
		pc := m.pieces[i]
		within := off + int64(done) - pc.at
		n := int(min(int64(len(p)-done), pc.length-within))
		if err := f(p[done:done+n], pc, within); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// ReadAt reads the first copy that can be read.
func (m *mapped) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read: byte %d", off)
	}
	return m.each(p, off, func(part []byte, pc piece, within int64) error {
		var err error
		for _, c := range pc.copies {
			var n int
			if n, err = c.dev.ReadAt(part, c.off+within); n == len(part) {
				return nil
			}
		}
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
}

// WriteAt writes all copies.
func (m *mapped) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > m.size {
		return 0, fmt.Errorf("write: bytes %d to %d lie outside the volume's %d bytes", off, off+int64(len(p)), m.size)
	}
	return m.each(p, off, func(part []byte, pc piece, within int64) error {
		for _, c := range pc.copies {
			d, ok := c.dev.(block.Device)
			if !ok {
				return block.ErrReadOnly
			}
			if _, err := d.WriteAt(part, c.off+within); err != nil {
				return err
			}
		}
		return nil
	})
}

// Sync makes what was written durable.
func (m *mapped) Sync() error {
	synced := map[block.Source]bool{}
	for _, p := range m.pieces {
		for _, c := range p.copies {
			if d, ok := c.dev.(block.Device); ok && !synced[c.dev] {
				synced[c.dev] = true
				if err := d.Sync(); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// For passes on what the writes that follow are for.
func (m *mapped) For(what string) {
	for _, p := range m.pieces {
		for _, c := range p.copies {
			passOn(c.dev, what)
		}
	}
}

func passOn(dev block.Source, what string) {
	if d, ok := dev.(interface{ For(string) }); ok {
		d.For(what)
	}
}

// readOnly hides that a device can be written.
type readOnly struct{ block.Source }

// mapping makes a device of pieces, each behind the one before; it is writable if all that it
// lies on is.
func mapping(pieces []piece, sector int) block.Source {
	m := &mapped{pieces: pieces, sector: sector}
	writable := true
	for i := range m.pieces {
		m.pieces[i].at = m.size
		m.size += m.pieces[i].length
		for _, c := range m.pieces[i].copies {
			_, ok := c.dev.(block.Device)
			writable = writable && ok
		}
	}
	if !writable {
		return readOnly{m}
	}
	return m
}
