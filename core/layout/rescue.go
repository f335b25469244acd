package layout

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"

	"diorthos/core/block"
)

// A Candidate is a file system or container that a scan met.
type Candidate struct {
	Off     int64 // bytes from the start of the disk
	Content Content
	By      string // what was seen: "superblock", or "backup superblock at byte N"
}

// Progress is told how many bytes of a disk have been looked at.
type Progress func(done int64)

// Sizes of a scan, in bytes. Superblocks are looked for at every multiple of
// step; chunks overlap by what a superblock may need.
const (
	scanChunk = 8 << 20
	scanStep  = 512
)

// Scan reads the whole disk once, in order, and candidates what lies on it by
// superblocks and backup superblocks. Chunks are searched on all cores. What
// cannot be read is taken for zeros and counted.
func Scan(
	ctx context.Context, src block.Source, progress Progress,
) (candidates []Candidate, unreadable int64, err error) {
	type chunk struct {
		off  int64
		data []byte
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	work := make(chan chunk, 2)
	free := make(chan []byte, runtime.GOMAXPROCS(0)+3)
	for range cap(free) {
		free <- make([]byte, scanChunk+4096)
	}
	var mu sync.Mutex
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Add(1)
		go func() {
			defer group.Done()
			for c := range work {
				list := searchChunk(src, c.data, c.off)
				mu.Lock()
				candidates = append(candidates, list...)
				mu.Unlock()
				free <- c.data[:cap(c.data)]
			}
		}()
	}
	for off := int64(0); off < src.Size() && err == nil; off += scanChunk {
		var buf []byte
		select {
		case buf = <-free:
		case <-ctx.Done():
			err = ctx.Err()
			continue
		}
		n, failed := src.ReadAt(buf, off)
		if failed != nil && failed != io.EOF {
			unreadable += int64(len(buf) - n)
			clear(buf[n:])
			n = int(min(int64(len(buf)), src.Size()-off))
		}
		work <- chunk{off, buf[:n]}
		if progress != nil {
			progress(min(off+scanChunk, src.Size()))
		}
	}
	close(work)
	group.Wait()
	if err != nil {
		return nil, unreadable, err
	}
	return unique(candidates), unreadable, nil
}

// searchChunk looks for what tells of a file system: cheap marks first, then
// the whole of it, read where it would begin.
func searchChunk(src block.Source, data []byte, off int64) []Candidate {
	var list []Candidate
	le := binary.LittleEndian
	for at := 0; at+scanStep <= len(data) && at < scanChunk; at += scanStep {
		b := data[at:]
		here := off + int64(at)
		switch {
		case b[0] == 0 && b[0x38] == 0 && b[510] == 0 && b[64] == 0:
			// nothing that begins here has zeros at all of these
		case le.Uint16(b[0x38:]) == 0xef53 && here >= 1024: // an ext superblock, 1 KiB into it or at a group
			if f, ok := extAt(src, b, here); ok {
				list = append(list, f)
			}
		case b[510] == 0x55 && b[511] == 0xaa, string(b[:4]) == "XFSB", string(b[:4]) == "hsqs",
			string(b[:6]) == "LUKS\xba\xbe":
			list = appendFind(list, src, here, here, "superblock")
		case string(b[64:72]) == "_BHRfS_M":
			list = appendFind(list, src, here-65536, here, "superblock")
		case string(b[:8]) == "LABELONE":
			list = appendFind(list, src, here-512, here, "label")
		case le.Uint32(b) == 0xf2f52010:
			list = appendFind(list, src, here-1024, here, "superblock")
		case le.Uint32(b) == 0xa92b4efc:
			list = appendFind(list, src, here-4096, here, "superblock")
		case len(b) >= 512 && string(b[502:512]) == "SWAPSPACE2":
			list = appendFind(list, src, here+512-4096, here, "signature")
		}
	}
	return list
}

func appendFind(list []Candidate, src block.Source, start, seen int64, by string) []Candidate {
	if start < 0 {
		return list
	}
	c := Recognise(block.NewReadRange(src, start, src.Size()-start))
	if c.Kind == "" || c.Size < 64<<10 || start+c.Size > src.Size() {
		return list
	}
	if seen != start {
		by = fmt.Sprintf("%s at byte %d", by, seen)
	}
	return append(list, Candidate{start, c, by})
}

// extAt follows an ext superblock, which says in which group it is, back to
// where its file system begins.
func extAt(src block.Source, b []byte, here int64) (Candidate, bool) {
	le := binary.LittleEndian
	logBlock := le.Uint32(b[0x18:])
	if logBlock > 6 || le.Uint32(b[0x20:]) == 0 {
		return Candidate{}, false
	}
	blockSize := int64(1024) << logBlock
	group := int64(le.Uint16(b[0x5a:]))
	start, by := here-1024, "superblock"
	if group > 0 {
		start = here - (group*int64(le.Uint32(b[0x20:]))+int64(le.Uint32(b[0x14:])))*blockSize
		by = fmt.Sprintf("backup superblock at byte %d", here)
	}
	if start < 0 || start%512 != 0 {
		return Candidate{}, false
	}
	// The superblock is read as if it stood in its first place.
	c, ok := recogniseExt(moved{b[:min(len(b), 1024)], 1024})
	if !ok || start+c.Size > src.Size() || c.Size < 64<<10 {
		return Candidate{}, false
	}
	return Candidate{start, c, by}, true
}

// moved is some bytes as if they stood at an offset.
type moved struct {
	data []byte
	off  int64
}

func (m moved) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	for i := range p {
		if at := off + int64(i) - m.off; at >= 0 && at < int64(len(m.data)) {
			p[i] = m.data[at]
		}
	}
	return len(p), nil
}

// unique keeps one find for each place: that by its own superblock.
func unique(candidates []Candidate) []Candidate {
	slices.SortFunc(candidates, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(a.Off, b.Off), cmp.Compare(len(a.By), len(b.By)), cmp.Compare(a.By, b.By))
	})
	return slices.CompactFunc(candidates, func(a, b Candidate) bool {
		return a.Off == b.Off && a.Content.Kind == b.Content.Kind
	})
}

// Propose picks, of what a scan found, the set of partitions that explains
// most of the disk without overlaps: what lies inside another is a copy in a
// file, and what overlaps another is a leftover. (Weighted interval
// scheduling, by dynamic programming.)
func Propose(candidates []Candidate, sectorSize int) []Entry {
	type interval struct {
		Candidate
		end    int64
		weight float64
	}
	var list []interval
	whole := map[int64]bool{} // where something begins with a superblock of its own
	for _, f := range candidates {
		whole[f.Off] = whole[f.Off] || f.By == "superblock"
	}
	for _, f := range candidates {
		if f.By != "superblock" && whole[f.Off] {
			continue // a backup of what was there before
		}
		w := float64(f.Content.Size)
		if f.Off%(1<<20) == 0 {
			w *= 1.5 // partitions begin on whole MiB
		}
		if f.By != "superblock" {
			w *= 0.5
		}
		if f.Off%int64(sectorSize) == 0 && f.Off > 0 {
			list = append(list, interval{f, f.Off + f.Content.Size, w})
		}
	}
	slices.SortFunc(list, func(a, b interval) int { return cmp.Compare(a.end, b.end) })
	best := make([]float64, len(list)+1)
	take := make([]bool, len(list))
	before := func(i int) int { // how many of the list end before i begins
		n, _ := slices.BinarySearchFunc(list[:i], list[i].Off, func(x interval, off int64) int {
			if x.end <= off {
				return -1
			}
			return 1
		})
		return n
	}
	for i := range list {
		best[i+1] = best[i]
		if w := list[i].weight + best[before(i)]; w > best[i] {
			best[i+1], take[i] = w, true
		}
	}
	var entries []Entry
	for i := len(list) - 1; i >= 0; i-- {
		if !take[i] {
			continue
		}
		f := list[i]
		first := uint64(f.Off / int64(sectorSize))
		last := first + uint64((f.Content.Size+int64(sectorSize)-1)/int64(sectorSize)) - 1
		entries = append(entries, Entry{Type: typeFor(f.Content), Span: Span{first, last}, Name: f.Content.Label})
		i = before(i)
	}
	slices.Reverse(entries)
	for i := range entries {
		entries[i].Index = i + 1
	}
	return entries
}

// typeFor is the partition type for what lies on one.
func typeFor(c Content) GUID {
	switch c.Kind {
	case "swap":
		return TypeSwap
	case "lvm":
		return TypeLVM
	case "md":
		return TypeRAID
	case "fat12", "fat16", "fat32", "exfat", "ntfs", "udf":
		if c.Label == "ESP" || c.Label == "EFI" {
			return TypeESP
		}
		return TypeBasicData
	}
	return TypeLinux
}

// Rebuild plans a whole new GPT that describes the entries, which are given
// GUIDs. Boot code in sector 0 is kept.
func (t *Table) Rebuild(entries []Entry, newGUID func() GUID) ([]block.Write, error) {
	raw := make([]byte, gptEntries*minEntrySize)
	if len(entries) > gptEntries {
		return nil, &FormatError{What: "plan", Want: "128 partitions at the most", Got: fmt.Sprint(len(entries))}
	}
	for i, e := range entries {
		if e.ID.IsZero() {
			e.ID = newGUID()
		}
		putEntry(raw[i*minEntrySize:], e)
	}
	h := Header{
		Revision:   gptRevision,
		Size:       minHeaderSize,
		DiskGUID:   newGUID(),
		EntryCount: gptEntries,
		EntrySize:  minEntrySize,
	}
	writes, err := t.layOut(h, make([]byte, t.SectorSize), raw)
	if err != nil {
		return nil, err
	}
	mbr := slices.Clone(t.rawMBR)
	putProtective(mbr, t.Sectors())
	return append(writes, block.Write{Off: 0, Data: mbr, What: "protective MBR"}), nil
}

// RebuildMBR plans a whole new MBR that describes the entries. Nothing but the
// table in sector 0 is written: boot code, and a loader's core image behind it, stay.
func (t *Table) RebuildMBR(entries []Entry, diskID uint32) ([]block.Write, error) {
	if len(entries) > 4 {
		return nil, fmt.Errorf("an MBR takes 4 partitions, and %d were found: %w", len(entries), ErrNoRoom)
	}
	mbr := slices.Clone(t.rawMBR)
	clear(mbr[mbrEntries:mbrSignature])
	if binary.LittleEndian.Uint32(mbr[mbrDiskID:]) == 0 {
		binary.LittleEndian.PutUint32(mbr[mbrDiskID:], diskID)
	}
	mbr[mbrSignature], mbr[mbrSignature+1] = 0x55, 0xaa
	for i, e := range entries {
		if e.Last >= 1<<32 {
			return nil, fmt.Errorf(
				"an MBR cannot count to sector %d, at which partition %d ends: %w",
				e.Last,
				e.Index,
				ErrNoRoom,
			)
		}
		kind, ok := mbrType[e.Type]
		if !ok {
			kind = 0x83
		}
		putMBREntry(mbr, i, kind, e.Span, false)
	}
	return []block.Write{{Off: 0, Data: mbr, What: "MBR"}}, nil
}

// SignMBR plans the two bytes by which sector 0 is a boot record, where they are all
// that is missing of an MBR.
func (t *Table) SignMBR() ([]block.Write, error) {
	if t.Style() != StyleMBR || t.MBR.Signed {
		return nil, ErrNothingToMend
	}
	return []block.Write{{Off: mbrSignature, Data: []byte{0x55, 0xaa}, What: "signature of the MBR"}}, nil
}
