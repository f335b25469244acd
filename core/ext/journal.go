package ext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Bytes of the file system's own journal (ext4/journal.rst, "Journal (jbd2)"). Numbers are big-endian.
const (
	sbJournalInode = 0xe0 // in the file system's superblock
	jMagic         = 0xc03b3998
	jType          = 4
	jSequence      = 8
	jBlockSize     = 12
	jMaxLength     = 16
	jFirst         = 20
	jSuperSequence = 24
	jStart         = 28
	jIncompat      = 40
	jUUID          = 48
	jFastBlocks    = 84
	jSuperSum      = 0xfc
	jSuperSize     = 1024
	jCount         = 12 // of a block of revocations: bytes that are used
	jCommitSum     = 16

	typeDescriptor = 1
	typeCommit     = 2
	typeRevoke     = 5

	jRevokes    = 1
	j64         = 2
	jSumV2      = 8
	jSumV3      = 16
	jFastCommit = 32
	jKnown      = jRevokes | j64 | 4 | jSumV2 | jSumV3 | jFastCommit

	tagEscaped  = 1
	tagSameUUID = 2
	tagDeleted  = 4
	tagLast     = 8
)

// mostReplayed bounds how many blocks are kept of a journal.
const mostReplayed = 1 << 20

// A replay is what a journal still holds: for each block of the file system the block of the
// journal in which its newest content lies.
type replay struct {
	blocks   map[int64]logged
	next     uint32 // number of the first transaction that was not written whole
	super    int64  // block of the journal's superblock
	checks   bool   // it has checksums
	dropFast bool   // what its fast commits hold is not replayed
}

type logged struct {
	at      int64 // block of the file system
	escaped bool
}

// jbd is a journal that is being read.
type jbd struct {
	f        *FS
	in       inode
	first    int64
	length   int64 // blocks
	incompat uint32
	seed     uint32
}

var errNoJournal = errors.New("the file system has no journal of its own")

// readJournal goes through the journal and finds what is to be replayed.
func (f *FS) readJournal(super []byte) (*replay, error) {
	number := int64(binary.LittleEndian.Uint32(super[sbJournalInode:]))
	if number == 0 {
		return nil, errNoJournal
	}
	in, err := f.inode(number)
	if err != nil {
		return nil, err
	}
	j := &jbd{f: f, in: in}
	head, at, err := j.read(0)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	j.first, j.length, j.incompat = int64(
		be.Uint32(head[jFirst:]),
	), int64(
		be.Uint32(head[jMaxLength:]),
	), be.Uint32(
		head[jIncompat:],
	)
	bad := func(what, want string, got any) error {
		return &FormatError{
			In:     "ext",
			What:   "journal: " + what,
			Offset: at * f.sb.blockSize,
			Want:   want,
			Got:    fmt.Sprint(got),
		}
	}
	kind := be.Uint32(head[jType:])
	switch {
	case be.Uint32(head) != jMagic || kind != 3 && kind != 4:
		return nil, bad("superblock", "its mark", fmt.Sprintf("% x", head[:8]))
	case kind == 3:
		j.incompat = 0
	case int64(be.Uint32(head[jBlockSize:])) != f.sb.blockSize:
		return nil, bad("block size", fmt.Sprint(f.sb.blockSize), be.Uint32(head[jBlockSize:]))
	case j.incompat&^uint32(jKnown) != 0:
		return nil, bad("features", fmt.Sprintf("none but %#x", jKnown), fmt.Sprintf("%#x", j.incompat))
	}
	r := &replay{blocks: map[int64]logged{}, super: at, checks: j.incompat&(jSumV2|jSumV3) != 0}
	if r.checks {
		j.seed = sum(^uint32(0), head[jUUID:jUUID+16])
	}
	if j.incompat&jFastCommit != 0 {
		fast := int64(be.Uint32(head[jFastBlocks:]))
		if fast == 0 {
			fast = 256 // the format's default
		}
		j.length -= fast
		r.dropFast = true
	}
	start := int64(be.Uint32(head[jStart:]))
	r.next = be.Uint32(head[jSuperSequence:])
	if start == 0 {
		return r, nil
	}
	if j.first < 1 || j.length <= j.first || start < j.first || start >= j.length || j.length > 1<<24 {
		return nil, bad("geometry", "its blocks one behind the other", fmt.Sprintf("%d, %d, %d", j.first, start, j.length))
	}
	return r, j.transactions(r, start)
}

// read returns a block of the journal, and which block of the file system it is.
func (j *jbd) read(n int64) ([]byte, int64, error) {
	at, err := j.f.block(&j.in, n)
	if err != nil {
		return nil, 0, err
	}
	if at == 0 {
		return nil, 0, fmt.Errorf("ext: journal: block %d of it is a hole", n)
	}
	b := make([]byte, j.f.sb.blockSize)
	if _, err := j.f.dev.ReadAt(b, at*j.f.sb.blockSize); err != nil {
		return nil, 0, fmt.Errorf("ext: journal: read block %d: %w", n, err)
	}
	return b, at, nil
}

func (j *jbd) after(n int64) int64 {
	if n++; n >= j.length {
		n = j.first
	}
	return n
}

// transactions goes over those that end with a commit; of the last one, which was being written, nothing counts.
func (j *jbd) transactions(r *replay, at int64) error {
	type change struct {
		block int64
		logged
		sequence uint32
	}
	var all []change
	revoked := map[int64]uint32{}
	var open []change
	openRevoked := map[int64]bool{}
	sequence := r.next
	be := binary.BigEndian
	for steps := int64(0); steps < j.length; steps++ {
		b, _, err := j.read(at)
		if err != nil {
			return err
		}
		if be.Uint32(b) != jMagic || be.Uint32(b[jSequence:]) != sequence {
			break
		}
		switch be.Uint32(b[jType:]) {
		case typeDescriptor:
			tags, ok := j.tags(b)
			if !ok {
				return nil
			}
			for _, t := range tags {
				at = j.after(at)
				steps++
				to, err := j.f.block(&j.in, at)
				if err != nil {
					return err
				}
				if t.block < 0 || t.block >= j.f.sb.blocks {
					return &FormatError{
						In: "ext", What: "journal: a block", Want: fmt.Sprintf("below %d", j.f.sb.blocks), Got: fmt.Sprint(t.block),
					}
				}
				open = append(open, change{block: t.block, logged: logged{at: to, escaped: t.escaped}, sequence: sequence})
			}
			if len(open) > mostReplayed {
				return errors.New("ext: journal: it holds more than is kept")
			}
		case typeRevoke:
			for _, block := range j.revocations(b) {
				openRevoked[block] = true
			}
		case typeCommit:
			if !j.commitHolds(b) {
				r.next = sequence
				return nil
			}
			all = append(all, open...)
			for block := range openRevoked {
				revoked[block] = sequence
			}
			open, openRevoked = nil, map[int64]bool{}
			sequence++
			r.next = sequence
			r.blocks = map[int64]logged{}
			for _, c := range all {
				if last, ok := revoked[c.block]; ok && int32(c.sequence-last) <= 0 {
					continue
				}
				r.blocks[c.block] = c.logged
			}
		default:
			return nil
		}
		at = j.after(at)
	}
	return nil
}

type tag struct {
	block   int64
	escaped bool
}

// tags are the blocks of which a descriptor says that they follow.
func (j *jbd) tags(b []byte) (list []tag, ok bool) {
	be := binary.BigEndian
	size, end := 8, len(b)
	switch {
	case j.incompat&jSumV3 != 0:
		size = 16
	case j.incompat&j64 != 0:
		size = 12
	}
	if j.incompat&jSumV2 != 0 && j.incompat&jSumV3 == 0 {
		size += 2
	}
	if j.incompat&(jSumV2|jSumV3) != 0 {
		end -= 4
		plain := append(bytes.Clone(b[:end]), 0, 0, 0, 0)
		if sum(j.seed, plain) != be.Uint32(b[end:]) {
			return nil, false
		}
	}
	for at := 12; at+size <= end; {
		t := tag{block: int64(be.Uint32(b[at:]))}
		flags := uint32(be.Uint16(b[at+6:]))
		if j.incompat&jSumV3 != 0 {
			flags = be.Uint32(b[at+4:])
		}
		if j.incompat&j64 != 0 {
			t.block |= int64(be.Uint32(b[at+8:])) << 32
		}
		t.escaped = flags&tagEscaped != 0
		list = append(list, t)
		if at += size; flags&tagSameUUID == 0 {
			at += 16
		}
		if flags&tagLast != 0 {
			return list, true
		}
	}
	return list, true
}

// revocations are the blocks whose earlier changes do not count any more.
func (j *jbd) revocations(b []byte) (list []int64) {
	be := binary.BigEndian
	end := min(int(be.Uint32(b[jCount:])), len(b))
	size := 4
	if j.incompat&j64 != 0 {
		size = 8
	}
	for at := 16; at+size <= end; at += size {
		if size == 8 {
			list = append(list, int64(be.Uint64(b[at:])))
		} else {
			list = append(list, int64(be.Uint32(b[at:])))
		}
	}
	return list
}

// commitHolds compares a commit with its checksum.
func (j *jbd) commitHolds(b []byte) bool {
	if j.incompat&(jSumV2|jSumV3) == 0 {
		return true
	}
	plain := bytes.Clone(b)
	clear(plain[jCommitSum : jCommitSum+4])
	return sum(j.seed, plain) == binary.BigEndian.Uint32(b[jCommitSum:])
}

// content is what a block holds when the journal is replayed.
func (r *replay) content(dev io.ReaderAt, block, size int64) ([]byte, error) {
	l := r.blocks[block]
	b := make([]byte, size)
	if _, err := dev.ReadAt(b, l.at*size); err != nil {
		return nil, err
	}
	if l.escaped {
		binary.BigEndian.PutUint32(b, jMagic)
	}
	return b, nil
}

// replayed reads a volume as if its journal had been replayed.
type replayed struct {
	io.ReaderAt
	replay *replay
	size   int64 // of a block
}

// ReadAt reads block by block where the journal has something newer.
func (r *replayed) ReadAt(p []byte, off int64) (int, error) {
	touched := false
	for b := off / r.size; b*r.size < off+int64(len(p)); b++ {
		if _, ok := r.replay.blocks[b]; ok {
			touched = true
			break
		}
	}
	n, err := r.ReaderAt.ReadAt(p, off)
	if !touched || n < len(p) {
		return n, err
	}
	for b := off / r.size; b*r.size < off+int64(len(p)); b++ {
		if _, ok := r.replay.blocks[b]; !ok {
			continue
		}
		content, err := r.replay.content(r.ReaderAt, b, r.size)
		if err != nil {
			return 0, err
		}
		from, to := max(off, b*r.size), min(off+int64(len(p)), (b+1)*r.size)
		copy(p[from-off:to-off], content[from-b*r.size:])
	}
	return n, nil
}

// Device is what [Replay] changes.
type Device interface {
	io.ReaderAt
	io.WriterAt
}

// Replay writes what the journal of a volume holds to its place, empties the journal and notes so in
// the superblock, as the kernel does when it mounts the volume. blocks is how many were written; a
// volume that was closed properly is not touched.
func Replay(dev Device) (blocks int, err error) {
	f, err := Open(dev)
	if err != nil || f.sb.incompat&incompatRecover == 0 {
		return 0, err
	}
	if f.replay == nil {
		return 0, fmt.Errorf("ext: the journal cannot be replayed: %w", f.unreplayed)
	}
	r, size := f.replay, f.sb.blockSize
	if r.dropFast {
		return 0, errors.New("ext: the journal may hold fast commits, which only the kernel replays")
	}
	var order []int64
	for b := range r.blocks {
		order = append(order, b)
	}
	slices.Sort(order)
	if d, ok := dev.(interface{ For(string) }); ok {
		d.For("what the file system's journal held")
	}
	for _, b := range order {
		content, err := r.content(dev, b, size)
		if err != nil {
			return 0, err
		}
		if _, err := dev.WriteAt(content, b*size); err != nil {
			return 0, err
		}
	}
	head := make([]byte, jSuperSize)
	if _, err := dev.ReadAt(head, r.super*size); err != nil {
		return 0, err
	}
	be := binary.BigEndian
	be.PutUint32(head[jSuperSequence:], r.next+1)
	be.PutUint32(head[jStart:], 0)
	if r.checks {
		clear(head[jSuperSum : jSuperSum+4])
		be.PutUint32(head[jSuperSum:], sum(^uint32(0), head))
	}
	if _, err := dev.WriteAt(head, r.super*size); err != nil {
		return 0, err
	}
	super := make([]byte, superSize)
	if _, err := dev.ReadAt(super, superAt); err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	le.PutUint32(super[sbIncompat:], le.Uint32(super[sbIncompat:])&^incompatRecover)
	if f.sb.checks() {
		le.PutUint32(super[sbChecksum:], sum(^uint32(0), super[:sbChecksum]))
	}
	_, err = dev.WriteAt(super, superAt)
	return len(order), err
}
