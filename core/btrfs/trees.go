package btrfs

import (
	"errors"
	"fmt"
	"io"
	"sort"
	"sync"
)

// A chunk is a range of the volume's own addresses, and where it lies on this device; each place holds a copy.
type chunk struct {
	at, length uint64
	places     []uint64
	spread     bool // over several places in stripes
}

// A volume is a device with the map of its addresses, and nodes of trees that were read.
type volume struct {
	dev    io.ReaderAt
	device uint64
	node   uint32 // bytes of a node
	sums   uint16
	chunks []chunk

	mutex sync.Mutex
	nodes map[uint64][]byte
}

// mostNodes is how many nodes are kept in memory.
const mostNodes = 256

// addChunk reads a chunk's item.
func (v *volume) addChunk(at uint64, b []byte) (length int, err error) {
	cut := &FormatError{
		In:   "btrfs",
		What: "item of a chunk",
		Want: "within its block",
		Got:  fmt.Sprintf("%d bytes", len(b)),
	}
	if len(b) < chunkHead {
		return 0, cut
	}
	stripes := int(le.Uint16(b[chunkStripes:]))
	length = chunkHead + stripes*stripeBytes
	if len(b) < length {
		return 0, cut
	}
	c := chunk{at: at, length: le.Uint64(b), spread: le.Uint64(b[chunkType:])&spread != 0}
	for i := range stripes {
		s := b[chunkHead+i*stripeBytes:]
		if le.Uint64(s) == v.device {
			c.places = append(c.places, le.Uint64(s[8:]))
		}
	}
	if c.at+c.length < c.at {
		return 0, &FormatError{In: "btrfs", What: "length of a chunk", Want: "within 64 bits", Got: fmt.Sprint(c.length)}
	}
	v.chunks = append(v.chunks, c)
	return length, nil
}

func (v *volume) order() {
	sort.Slice(v.chunks, func(i, k int) bool { return v.chunks[i].at < v.chunks[k].at })
}

var (
	errElsewhere = errors.New("btrfs: it lies on another device of this volume")
	errSpread    = errors.New("btrfs: it is spread over several devices")
)

// read reads a range of the volume's addresses, from the copy'th place where it lies.
func (v *volume) read(p []byte, at uint64, copy int) error {
	i := sort.Search(len(v.chunks), func(i int) bool { return v.chunks[i].at+v.chunks[i].length > at })
	if i == len(v.chunks) || at < v.chunks[i].at {
		return &FormatError{In: "btrfs", What: "address", Want: "within a chunk", Got: fmt.Sprint(at)}
	}
	c := v.chunks[i]
	switch {
	case c.spread:
		return errSpread
	case copy >= len(c.places):
		return errElsewhere
	}
	n := min(uint64(len(p)), c.at+c.length-at)
	if _, err := v.dev.ReadAt(p[:n], int64(c.places[copy]+at-c.at)); err != nil {
		return fmt.Errorf("btrfs: read at %d: %w", at, err)
	}
	if int(n) < len(p) {
		return v.read(p[n:], at+n, copy)
	}
	return nil
}

// readNode reads a node of a tree: where a copy of it is damaged, another.
func (v *volume) readNode(at uint64, level int) ([]byte, error) {
	v.mutex.Lock()
	b, ok := v.nodes[at]
	v.mutex.Unlock()
	if !ok {
		var err error
		for copy := range 3 {
			b = make([]byte, v.node)
			e := v.read(b, at, copy)
			if e == nil {
				e = v.checkNode(b, at)
			}
			if e == nil {
				err = nil
				break
			}
			if err == nil || !errors.Is(e, errElsewhere) {
				err = e
			}
		}
		if err != nil {
			return nil, err
		}
		v.keep(at, b)
	}
	if int(b[nodeLevel]) != level {
		return nil, &FormatError{In: "btrfs", What: "level of a node", Want: fmt.Sprint(level), Got: fmt.Sprint(b[nodeLevel])}
	}
	return b, nil
}

func (v *volume) keep(at uint64, node []byte) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if len(v.nodes) >= mostNodes {
		clear(v.nodes)
	}
	v.nodes[at] = node
}

func (v *volume) checkNode(b []byte, at uint64) error {
	if err := checkSum(v.sums, fmt.Sprintf("node at %d", at), b); err != nil {
		return err
	}
	if got := le.Uint64(b[nodeAt:]); got != at {
		return &FormatError{In: "btrfs", What: "a node's own address", Want: fmt.Sprint(at), Got: fmt.Sprint(got)}
	}
	size := itemBytes
	if b[nodeLevel] > 0 {
		size = linkBytes
	}
	if items := int64(le.Uint32(b[nodeItems:])); items > int64((len(b)-nodeHead)/size) {
		return &FormatError{In: "btrfs", What: "items of a node", Want: "within it", Got: fmt.Sprint(items)}
	}
	return nil
}

// A tree is one of the volume's trees, by its root.
type tree struct {
	v     *volume
	at    uint64
	level int
}

// from calls do for the items of a tree from a key on, in order, until it returns false.
func (t tree) from(k key, do func(key, []byte) (bool, error)) error {
	_, err := t.visit(t.at, t.level, k, do)
	return err
}

func (t tree) visit(at uint64, level int, k key, do func(key, []byte) (bool, error)) (bool, error) {
	if level > deepest {
		return false, &FormatError{In: "btrfs", What: "levels of a tree", Want: "8 at the most", Got: fmt.Sprint(level)}
	}
	b, err := t.v.readNode(at, level)
	if err != nil {
		return false, err
	}
	count := int(le.Uint32(b[nodeItems:]))
	if level == 0 {
		items := b[nodeHead:]
		first := sort.Search(count, func(i int) bool { return !parseKey(items[i*itemBytes:]).less(k) })
		for i := first; i < count; i++ {
			item := items[i*itemBytes:]
			offset, size := int64(le.Uint32(item[keyBytes:])), int64(le.Uint32(item[keyBytes+4:]))
			if offset+size > int64(len(items)) {
				return false, &FormatError{In: "btrfs", What: "item", Want: "within its node", Got: fmt.Sprint(offset + size)}
			}
			if on, err := do(parseKey(item), items[offset:offset+size]); err != nil || !on {
				return false, err
			}
		}
		return true, nil
	}
	links := b[nodeHead:]
	// The last link whose key is not behind what is looked for may hold it.
	first := max(0, sort.Search(count, func(i int) bool { return k.less(parseKey(links[i*linkBytes:])) })-1)
	for i := first; i < count; i++ {
		on, err := t.visit(le.Uint64(links[i*linkBytes+keyBytes:]), level-1, k, do)
		if err != nil || !on {
			return false, err
		}
	}
	return true, nil
}

// find is one item of a tree; nil where there is none.
func (t tree) find(k key) (found []byte, err error) {
	err = t.from(k, func(got key, item []byte) (bool, error) {
		if got == k {
			found = item
		}
		return false, nil
	})
	return found, err
}
