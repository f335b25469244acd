package volumes

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/block"
)

// Bytes of LVM2: offsets from the start of a physical volume, or of a metadata area.
const (
	lvmSector     = 512
	labelSectors  = 4 // the label lies in one of the first
	labelHeader   = 32
	pvUUIDLength  = 32
	areaEntry     = 16 // offset and size
	mdaHeaderSize = 512
	mdaMagic      = " LVM2 x[5A%r0N*>"
	mdaLocations  = 40 // offset of the places of the text
	locationSize  = 24
	mostMetadata  = 16 << 20
	ignoredText   = 1 // flag of a place that does not count
)

// lvmCRC is the checksum of labels and metadata (lvm2's lib/misc/crc.c).
func lvmCRC(b []byte) uint32 { return ^crc32.Update(^uint32(0xf597a6cf), crc32.IEEETable, b) }

// A physical volume, as its label says.
type physical struct {
	volume *Volume
	uuid   string
	areas  [][2]int64 // of metadata: offset and size
}

func readLabel(v *Volume) (p physical, ok bool) {
	b := make([]byte, labelSectors*lvmSector)
	if n, _ := v.Dev.ReadAt(b, 0); n < len(b) {
		return p, false
	}
	for s := range labelSectors {
		l := b[s*lvmSector : (s+1)*lvmSector]
		if string(l[:8]) != "LABELONE" || string(l[24:32]) != "LVM2 001" {
			continue
		}
		at := int(binary.LittleEndian.Uint32(l[20:]))
		if at < labelHeader || at+pvUUIDLength+8 > lvmSector {
			return p, false
		}
		p = physical{volume: v, uuid: string(l[at : at+pvUUIDLength])}
		list, data := l[at+pvUUIDLength+8:], true
		for ; len(list) >= areaEntry; list = list[areaEntry:] {
			off, size := int64(binary.LittleEndian.Uint64(list)), int64(binary.LittleEndian.Uint64(list[8:]))
			switch {
			case off == 0 && data:
				data = false
			case off == 0:
				return p, true
			case !data:
				p.areas = append(p.areas, [2]int64{off, size})
			}
		}
		return p, true
	}
	return p, false
}

// metadata reads the newest text of a metadata area; note says what is wrong with the area, where
// an earlier text had to be taken.
func (p physical) metadata() (best *group, note string, header bool) {
	for _, a := range p.areas {
		if a[1] < mdaHeaderSize || a[1] > mostMetadata || a[0] < 0 {
			continue
		}
		area := make([]byte, a[1])
		if n, _ := p.volume.Dev.ReadAt(area, a[0]); n < len(area) {
			continue
		}
		g, damagedAt := currentText(area)
		if g != nil {
			if best == nil || g.number("seqno") > best.number("seqno") {
				best, header = g, false
			}
			continue
		}
		if g = newestText(area, damagedAt); g == nil {
			continue
		}
		note = fmt.Sprintf(
			"its metadata on %s is damaged; the newest that is whole there, number %d, was taken",
			p.volume.Name, g.number("seqno"),
		)
		if best == nil || g.number("seqno") > best.number("seqno") {
			best, header = g, damagedAt == 0
		}
	}
	return best, note, header
}

// mendHeader writes the header of a metadata area anew, so that it names the newest text that is
// whole. It is for a header that is damaged alone: the text that it named is then the newest.
func (p physical) mendHeader() ([]block.Write, error) {
	var writes []block.Write
	for _, a := range p.areas {
		if a[1] < mdaHeaderSize || a[1] > mostMetadata || a[0] < 0 {
			continue
		}
		area := make([]byte, a[1])
		if n, err := p.volume.Dev.ReadAt(area, a[0]); n < len(area) {
			return nil, err
		}
		if g, damagedAt := currentText(area); g != nil || damagedAt != 0 {
			continue
		}
		at, length := newestAt(area, 0)
		if at < 0 {
			return nil, fmt.Errorf("no text of metadata on %s is whole", p.volume.Name)
		}
		head := make([]byte, mdaHeaderSize)
		le := binary.LittleEndian
		copy(head[4:], mdaMagic)
		le.PutUint32(head[20:], 1) // version
		le.PutUint64(head[24:], uint64(a[0]))
		le.PutUint64(head[32:], uint64(a[1]))
		l := head[mdaLocations:]
		le.PutUint64(l, uint64(mdaHeaderSize+at))
		le.PutUint64(l[8:], uint64(length))
		le.PutUint32(l[16:], lvmCRC(area[mdaHeaderSize+at:mdaHeaderSize+at+length]))
		le.PutUint32(head, lvmCRC(head[4:]))
		writes = append(writes, block.Write{Off: a[0], Data: head, What: "header of the metadata area"})
	}
	return writes, nil
}

// MendGroups are the writes that put the headers of damaged metadata areas right, by the physical
// volume that they are for; only those whose newest text is known to be the current one.
func (s *Set) MendGroups() (map[*Volume][]block.Write, error) {
	m := map[*Volume][]block.Write{}
	for _, v := range s.list {
		if v.Content.Kind != "lvm" || v.Device() == nil {
			continue
		}
		p, ok := readLabel(v)
		if !ok {
			continue
		}
		if _, note, header := p.metadata(); note == "" || !header {
			continue
		}
		writes, err := p.mendHeader()
		if err != nil {
			return nil, err
		}
		if len(writes) > 0 {
			m[v] = writes
		}
	}
	return m, nil
}

// currentText is the text that the header of an area names; nil if header or text is damaged.
// damagedAt is where the text begins whose checksum is wrong; 0 where that is not known.
func currentText(area []byte) (g *group, damagedAt int64) {
	le := binary.LittleEndian
	head := area[:mdaHeaderSize]
	if string(head[4:20]) != mdaMagic || le.Uint32(head) != lvmCRC(head[4:]) {
		return nil, 0
	}
	l := head[mdaLocations : mdaLocations+locationSize]
	off, size := int64(le.Uint64(l)), int64(le.Uint64(l[8:]))
	if off < mdaHeaderSize || size <= 0 || off >= int64(len(area)) || size > int64(len(area))-mdaHeaderSize ||
		le.Uint32(l[20:])&ignoredText != 0 {
		return nil, 0
	}
	text := make([]byte, 0, size)
	text = append(text, area[off:min(off+size, int64(len(area)))]...)
	if rest := size - int64(len(text)); rest > 0 { // it goes on behind the header
		text = append(text, area[mdaHeaderSize:mdaHeaderSize+rest]...)
	}
	if lvmCRC(text) != le.Uint32(l[16:]) {
		return nil, off
	}
	g, err := parseGroup(string(text))
	if err != nil {
		return nil, off
	}
	return g, 0
}

var textBegin = regexp.MustCompile(`[A-Za-z0-9+_.][A-Za-z0-9+_.-]* \{\nid = "`)

// newestText looks through an area for texts that are whole, and returns the newest of them. The
// area is a ring: every text that was written stays until the ring comes round. The one at except is
// known to be damaged.
func newestText(area []byte, except int64) *group {
	best, _, _ := newest(area, except)
	return best
}

// newestAt is where it lies in the ring, with the zero that ends it; -1 for none.
func newestAt(area []byte, except int64) (at, length int) {
	_, at, length = newest(area, except)
	return at, length
}

func newest(area []byte, except int64) (best *group, at, length int) {
	at = -1
	ring := area[mdaHeaderSize:]
	for _, m := range textBegin.FindAllIndex(ring, 1000) {
		text := ring[m[0]:]
		if int64(m[0])+mdaHeaderSize == except {
			continue
		}
		if end := bytes.IndexByte(text, 0); end >= 0 {
			text = text[:end]
		}
		if g, err := parseGroup(string(text)); err == nil && g.find("physical_volumes") != nil &&
			(best == nil || g.number("seqno") > best.number("seqno")) {
			best, at, length = g, m[0], len(text)+1
		}
	}
	return best, at, min(length, len(ring)-max(at, 0))
}

// assembleGroups puts the volume groups together whose physical volumes were found.
func (s *Set) assembleGroups() {
	var found []physical
	for _, v := range s.list {
		if v.Content.Kind == "lvm" && v.Dev != nil && !s.hasInner(v.Number) {
			if p, ok := readLabel(v); ok {
				found = append(found, p)
			}
		}
	}
	groups, notes, headers := map[string]*group{}, map[string]string{}, map[string]bool{}
	for _, p := range found {
		g, note, header := p.metadata()
		if g == nil {
			continue
		}
		id := g.text("id")
		if old := groups[id]; old == nil || g.number("seqno") > old.number("seqno") {
			groups[id] = g
		}
		if note != "" {
			notes[id], headers[id] = note, header
		}
	}
	var ids []string
	for id := range groups {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b string) int { return strings.Compare(groups[a].name, groups[b].name) })
	for _, id := range ids {
		s.addLogical(groups[id], found, notes[id], headers[id])
	}
}

// hasInner reports whether something was already found in a volume.
func (s *Set) hasInner(number int) bool {
	return slices.ContainsFunc(s.list, func(v *Volume) bool { return slices.Contains(v.Within, number) })
}

// mapperName is how the device mapper writes a part of a name.
func mapperName(s string) string { return strings.ReplaceAll(s, "-", "--") }

// A vg is a volume group that is being put together.
type vg struct {
	*group
	extent int64 // bytes
	pvs    map[string]physical
	starts map[string]int64 // of a physical volume's first extent, in bytes
	lvs    *group
	used   map[int]bool
}

func (s *Set) addLogical(g *group, found []physical, note string, header bool) {
	w := &vg{
		group: g, extent: g.number("extent_size") * lvmSector, pvs: map[string]physical{}, starts: map[string]int64{},
		lvs: g.find("logical_volumes"),
	}
	if pvs := g.find("physical_volumes"); pvs != nil {
		for _, e := range pvs.groups {
			for _, p := range found {
				if p.uuid == strings.ReplaceAll(e.text("id"), "-", "") {
					w.pvs[e.name], w.starts[e.name] = p, e.number("pe_start")*lvmSector
				}
			}
		}
	}
	if w.lvs == nil || w.extent <= 0 {
		return
	}
	for _, lv := range w.lvs.groups {
		if !slices.Contains(lv.list("status"), "VISIBLE") {
			continue
		}
		w.used = map[int]bool{}
		pieces, sector, err := w.map1(lv, 0)
		v := &Volume{
			Kind: Logical, Name: g.name + "/" + lv.name, ID: g.text("id") + "/" + lv.text("id"),
			Names:   []string{"/dev/" + g.name + "/" + lv.name, "/dev/mapper/" + mapperName(g.name) + "-" + mapperName(lv.name)},
			Problem: note, Damaged: note != "", Mendable: header,
		}
		for n := range w.used {
			v.Within = append(v.Within, n)
		}
		slices.Sort(v.Within)
		if err != nil {
			v.Problem = strings.TrimPrefix(note+"; "+err.Error(), "; ")
			if len(v.Within) == 0 {
				for _, p := range w.pvs {
					v.Within = append(v.Within, p.volume.Number)
				}
				slices.Sort(v.Within)
			}
		} else {
			v.Dev = mapping(pieces, sector)
		}
		v.ReadOnly = note != "" || !slices.Contains(lv.list("status"), "WRITE")
		s.inner(v)
	}
}

// map1 maps one logical volume to where it lies, segment by segment.
func (w *vg) map1(lv *group, depth int) (pieces []piece, sector int, err error) {
	if depth > deepest {
		return nil, 0, fmt.Errorf("volume %s lies in itself", lv.name)
	}
	next := int64(0)
	for _, seg := range lv.groups {
		if !strings.HasPrefix(seg.name, "segment") {
			continue
		}
		start, count := seg.number("start_extent"), seg.number("extent_count")
		if start != next || count <= 0 || count > 1<<40/max(w.extent>>12, 1) {
			return nil, 0, fmt.Errorf("volume %s: its segments do not follow one another", lv.name)
		}
		next += count
		more, size, err := w.segment(seg, count*w.extent, depth)
		if err != nil {
			return nil, 0, fmt.Errorf("volume %s: %w", lv.name, err)
		}
		pieces, sector = append(pieces, more...), size
	}
	if len(pieces) == 0 {
		return nil, 0, fmt.Errorf("volume %s has no segments", lv.name)
	}
	return pieces, sector, nil
}

func (w *vg) segment(seg *group, length int64, depth int) ([]piece, int, error) {
	switch kind := seg.text("type"); kind {
	case "striped":
		return w.striped(seg, length)
	case "mirror":
		return w.mirrored(seg.list("mirrors"), 2, 0, length, depth)
	case "raid1":
		return w.mirrored(seg.list("raids"), 2, 1, length, depth)
	default:
		return nil, 0, fmt.Errorf("volumes of type %q are not put together here", kind)
	}
}

// striped maps a linear segment, or one that is spread over several physical volumes.
func (w *vg) striped(seg *group, length int64) (pieces []piece, sector int, err error) {
	list := seg.list("stripes")
	n := int64(len(list) / 2)
	if n == 0 || n != seg.number("stripe_count") || length%n != 0 {
		return nil, 0, fmt.Errorf("%s: its stripes are not what it says", seg.name)
	}
	var at []place
	for i := range int(n) {
		var first int64
		if _, err := fmt.Sscanf(list[2*i+1], "%d", &first); err != nil || first < 0 {
			return nil, 0, fmt.Errorf("%s: %q is no extent", seg.name, list[2*i+1])
		}
		p, ok := w.pvs[list[2*i]]
		if !ok {
			return nil, 0, fmt.Errorf("a part of it lies on physical volume %s, which is not on this disk", list[2*i])
		}
		w.used[p.volume.Number] = true
		at, sector = append(
			at,
			place{dev: p.volume.Dev, off: w.starts[list[2*i]] + first*w.extent},
		), p.volume.Dev.SectorSize()
		if end := at[i].off + length/n; end > p.volume.Dev.Size() {
			return nil, 0, fmt.Errorf("it reaches to byte %d of %s, which has %d", end, p.volume.Name, p.volume.Dev.Size())
		}
	}
	if n == 1 {
		return []piece{{length: length, copies: at}}, sector, nil
	}
	stripe := seg.number("stripe_size") * lvmSector
	return spread(at, stripe, length), sector, nil
}

// spread lays a length over several places in turn, so many bytes on each.
func spread(at []place, chunk, length int64) (pieces []piece) {
	if chunk <= 0 || length/chunk > 1<<24 {
		return nil
	}
	for i := int64(0); i*chunk < length; i++ {
		to := at[i%int64(len(at))]
		to.off += i / int64(len(at)) * chunk
		pieces = append(pieces, piece{length: min(chunk, length-i*chunk), copies: []place{to}})
	}
	return pieces
}

// mirrored maps a segment to each of the volumes that hold a copy of it: every step-th of the
// names, from one on.
func (w *vg) mirrored(names []string, step, from int, length int64, depth int) ([]piece, int, error) {
	var copies []place
	sector := 512
	var failed error
	for i := from; i < len(names); i += step {
		image := w.lvs.find(names[i])
		if image == nil {
			failed = fmt.Errorf("its copy %s is not among the volumes", names[i])
			continue
		}
		pieces, size, err := w.map1(image, depth+1)
		if err != nil {
			failed = err
			continue
		}
		copies, sector = append(copies, place{dev: mapping(pieces, size)}), size
	}
	if len(copies) == 0 {
		return nil, 0, fmt.Errorf("none of its copies can be read: %w", failed)
	}
	if failed != nil { // a write would make the copies differ
		for i := range copies {
			copies[i].dev = readOnly{copies[i].dev}
		}
	}
	return []piece{{length: length, copies: copies}}, sector, nil
}

var _ block.Device = (*mapped)(nil)
