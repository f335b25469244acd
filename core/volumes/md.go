package volumes

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"diorthos/core/block"
)

// Bytes of MD superblocks (md_p.h).
const (
	mdMagic      = 0xa92b4efc
	mdSize       = 4096 // of either superblock, with all its roles
	roleSpare    = 0xffff
	roleFaulty   = 0xfffe
	mostMembers  = 384
	roles1       = 256 // offset of the roles, version 1
	reserved090  = 64 << 10
	thisDisk090  = 3968 // offset of the entry of the member itself, version 0.90
	levelLinear  = -1
	mostMDChunks = 1 << 24
)

// A member of an array, as its superblock says.
type member struct {
	volume *Volume
	array  string // id of the array
	name   string
	level  int32
	count  int   // of members
	role   int   // -1 for a spare or one that failed
	chunk  int64 // bytes
	off    int64 // of the data, in bytes
	size   int64 // of the data, in bytes
	events uint64
	minor  int // of the device name, version 0.90; -1 where it is not said
	layout uint32
}

// readMember reads the superblock of a member, in whichever of its places it lies.
func readMember(v *Volume) (m member, ok bool) {
	size := v.Dev.Size()
	for _, at := range []int64{0, 4096, (size/512 - 16) &^ 7 * 512} {
		b := make([]byte, mdSize)
		if n, _ := v.Dev.ReadAt(b, at); n < 512 {
			continue
		}
		if m, ok := member1(b); ok {
			m.volume = v
			return m, true
		}
	}
	b := make([]byte, mdSize)
	if n, _ := v.Dev.ReadAt(b, size&^(reserved090-1)-reserved090); n == len(b) {
		if m, ok := member090(b); ok {
			m.volume = v
			return m, true
		}
	}
	return member{}, false
}

// member1 reads a superblock of version 1.
func member1(b []byte) (m member, ok bool) {
	le := binary.LittleEndian
	devices := int(le.Uint32(b[220:]))
	if le.Uint32(b) != mdMagic || le.Uint32(b[4:]) != 1 || devices > mostMembers || roles1+2*devices > len(b) ||
		le.Uint32(b[216:]) != mdSum(b[:roles1+2*devices], 216) {
		return m, false
	}
	m = member{
		array: fmt.Sprintf("%x", b[16:32]), name: strings.TrimRight(string(b[32:64]), "\x00"),
		level: int32(le.Uint32(b[72:])), layout: le.Uint32(b[76:]), chunk: int64(le.Uint32(b[88:])) * 512,
		count: int(le.Uint32(b[92:])), off: int64(le.Uint64(b[128:])) * 512, events: le.Uint64(b[200:]), role: -1,
		minor: -1,
	}
	m.size = int64(le.Uint64(b[80:])) * 512 // what the array uses of it
	if m.size == 0 || m.level == 0 || m.level == levelLinear {
		m.size = int64(le.Uint64(b[136:])) * 512
	}
	if i := int(le.Uint32(b[160:])); i < devices {
		if role := int(le.Uint16(b[roles1+2*i:])); role < roleFaulty-256 {
			m.role = role
		}
	}
	return m, m.off >= 0 && m.size > 0 && m.count > 0 && m.count <= mostMembers
}

// mdSum is the checksum of a superblock of version 1: its words summed, without the one at skip.
func mdSum(b []byte, skip int) uint32 {
	var sum uint64
	for i := 0; i+4 <= len(b); i += 4 {
		if i != skip {
			sum += uint64(binary.LittleEndian.Uint32(b[i:]))
		}
	}
	if len(b)%4 == 2 {
		sum += uint64(binary.LittleEndian.Uint16(b[len(b)-2:]))
	}
	return uint32(sum) + uint32(sum>>32)
}

// member090 reads a superblock of version 0.90, as little-endian machines write it.
func member090(b []byte) (m member, ok bool) {
	word := func(n int) uint32 { return binary.LittleEndian.Uint32(b[4*n:]) }
	if word(0) != mdMagic || word(1) != 0 || word(2) != 90 {
		return m, false
	}
	m = member{
		array: fmt.Sprintf("%08x:%08x:%08x:%08x", word(5), word(13), word(14), word(15)),
		level: int32(word(7)), size: int64(word(8)) << 10, count: int(word(10)), minor: int(word(11)),
		events: uint64(word(39)) | uint64(word(40))<<32, layout: word(64), chunk: int64(word(65)), role: -1,
	}
	this := b[thisDisk090:]
	const active, inSync = 1 << 1, 1 << 2
	if state := binary.LittleEndian.Uint32(this[16:]); state&(active|inSync) == active|inSync {
		m.role = int(binary.LittleEndian.Uint32(this[12:]))
	}
	return m, m.size > 0 && m.count > 0 && m.count <= mostMembers
}

// assembleArrays puts the arrays together whose members were found.
func (s *Set) assembleArrays() {
	arrays, order := map[string][]member{}, []string{}
	for _, v := range s.list {
		if v.Content.Kind != "md" || v.Dev == nil || s.hasInner(v.Number) {
			continue
		}
		if m, ok := readMember(v); ok {
			if len(arrays[m.array]) == 0 {
				order = append(order, m.array)
			}
			arrays[m.array] = append(arrays[m.array], m)
		}
	}
	for _, id := range order {
		s.addArray(arrays[id])
	}
}

func (s *Set) addArray(list []member) {
	first := list[0]
	v := &Volume{Kind: Array, ID: first.array, Name: "array " + cmp.Or(first.name, first.array)}
	_, short, hosted := strings.Cut(first.name, ":")
	if !hosted {
		short = first.name
	}
	if short != "" {
		v.Names = append(v.Names, "/dev/md/"+short, "/dev/md"+short)
	}
	if first.minor >= 0 {
		v.Names = append(v.Names, fmt.Sprintf("/dev/md%d", first.minor))
	}
	newest := uint64(0)
	for _, m := range list {
		v.Within = append(v.Within, m.volume.Number)
		newest = max(newest, m.events)
	}
	slices.Sort(v.Within)
	byRole := map[int]member{}
	for _, m := range list {
		if m.role >= 0 && m.role < m.count && (m.events == newest || first.level != 1) {
			byRole[m.role] = m
		}
	}
	dev, err := first.assemble(byRole)
	if err != nil {
		v.Problem = err.Error()
	} else {
		v.Dev = dev
	}
	if missing := first.count - len(byRole); missing > 0 && err == nil {
		v.ReadOnly = true
		v.Problem = fmt.Sprintf(
			"%d of its %d members are not on this disk, or fell behind: it is read from the others, and not written: "+
				"the members would differ", missing, first.count)
	}
	s.inner(v)
}

// assemble makes a device of the members by their roles.
func (m member) assemble(byRole map[int]member) (block.Source, error) {
	at := make([]place, m.count)
	var length int64
	for i := range m.count {
		p, ok := byRole[i]
		if !ok && m.level != 1 {
			return nil, fmt.Errorf("its member %d is not on this disk, and nothing can be read without it", i)
		}
		if ok {
			if p.off+p.size > p.volume.Dev.Size() {
				return nil, fmt.Errorf("its member on %s is cut off", p.volume.Name)
			}
			at[i] = place{dev: p.volume.Dev, off: p.off}
		}
	}
	sector := m.volume.Dev.SectorSize()
	switch m.level {
	case 1:
		var copies []place
		for i, c := range at {
			if c.dev != nil {
				copies = append(copies, c)
				if length == 0 || byRole[i].size < length {
					length = byRole[i].size
				}
			}
		}
		if len(copies) == 0 {
			return nil, fmt.Errorf("none of its members is in use: they are spare, or fell behind")
		}
		return mapping([]piece{{length: length, copies: copies}}, sector), nil
	case levelLinear:
		var pieces []piece
		for i, c := range at {
			pieces = append(pieces, piece{length: byRole[i].size, copies: []place{c}})
		}
		return mapping(pieces, sector), nil
	case 0:
		if m.chunk <= 0 {
			return nil, fmt.Errorf("its chunks have no size")
		}
		for i := range at {
			size := byRole[i].size / m.chunk * m.chunk
			if i > 0 && size != length/int64(i) {
				return nil, fmt.Errorf("its members are of different sizes, which is not put together here")
			}
			length += size
		}
		if length/m.chunk > mostMDChunks {
			return nil, fmt.Errorf("it has more chunks than are looked at")
		}
		return mapping(spread(at, m.chunk, length), sector), nil
	}
	return nil, fmt.Errorf("arrays of level %d are not put together here", m.level)
}
