package ext

import (
	"encoding/binary"
	"fmt"
	"sync"

	"diorthos/core/format"
)

// Offsets in the superblock, which stands 1024 bytes into the volume
// (ext4/super.rst), in bytes.
const (
	superAt         = 1024
	superSize       = 1024
	sbInodes        = 0x00
	sbBlocksLow     = 0x04
	sbFirstBlock    = 0x14
	sbLogBlockSize  = 0x18
	sbPerGroup      = 0x20
	sbInodesGroup   = 0x28
	sbMagic         = 0x38
	sbState         = 0x3a
	stateClean      = 0x1
	sbRevision      = 0x4c
	sbInodeSize     = 0x58
	sbIncompat      = 0x60
	sbCompat        = 0x5c
	sbDescSize      = 0xfe
	sbFirstMeta     = 0x104
	sbBackups       = 0x24c
	sbBlocksHigh    = 0x150
	magic           = 0xef53
	incompatRecover = 0x4
	incompatJournal = 0x8 // an external journal device
	incompatMeta    = 0x10
	incompat64      = 0x80
	compatSparse2   = 0x200
	roCompatSparse  = 0x1
	incompatEncrypt = 0x10000
)

// Offsets in a group descriptor and an inode (ext4/inodes.rst), in bytes.
const (
	gdBlocksLow   = 0x0
	gdInodesLow   = 0x4
	gdTableLow    = 0x8
	gdTableHigh   = 0x28
	inMode        = 0x0
	inUser        = 0x2
	inGroup       = 0x18
	inUserHigh    = 0x78
	inGroupHigh   = 0x7a
	inLinks       = 0x1a
	inSizeLow     = 0x4
	inMtime       = 0x10
	inFlags       = 0x20
	inBlock       = 0x28
	inBlockBytes  = 60
	inSizeHigh    = 0x6c
	flagIndex     = 0x1000
	flagImmutable = 0x10
	flagAppend    = 0x20
	flagExtents   = 0x80000
	flagInline    = 0x10000000
	rootInode     = 2
	extentMagic   = 0xf30a
)

// A FormatError says which structure of the file system is not what it
// should be. Offset is in bytes from the start of the volume.
type FormatError = format.Error

type super struct {
	blockSize   int64
	blocks      int64
	firstBlock  int64
	perGroup    int64
	inodes      int64
	inodesGroup int64
	inodeSize   int64
	descSize    int64
	firstMeta   int64 // the first block of descriptors that stands in its own groups
	compat      uint32
	backups     [2]int64 // the groups that keep one, with sparse_super2
	incompat    uint32
	roCompat    uint32
	seed        uint32 // of all checksums
	uuid        [16]byte
	clusters    int64 // in a group, where a bit stands for several blocks
}

func parseSuper(b []byte) (super, error) {
	le := binary.LittleEndian
	bad := func(what, want string, at int, got any) (super, error) {
		return super{}, &FormatError{
			In:     "ext",
			What:   "superblock: " + what,
			Offset: int64(superAt + at),
			Want:   want,
			Got:    fmt.Sprint(got),
		}
	}
	if m := le.Uint16(b[sbMagic:]); m != magic {
		return bad("magic", "0xef53", sbMagic, fmt.Sprintf("0x%04x", m))
	}
	if n := le.Uint32(b[sbLogBlockSize:]); n > 6 {
		return bad("block size", "1 to 64 KiB", sbLogBlockSize, fmt.Sprintf("2^%d KiB", n))
	}
	s := super{
		blockSize:   1024 << le.Uint32(b[sbLogBlockSize:]),
		blocks:      int64(le.Uint32(b[sbBlocksLow:])),
		firstBlock:  int64(le.Uint32(b[sbFirstBlock:])),
		perGroup:    int64(le.Uint32(b[sbPerGroup:])),
		inodes:      int64(le.Uint32(b[sbInodes:])),
		inodesGroup: int64(le.Uint32(b[sbInodesGroup:])),
		inodeSize:   128,
		descSize:    32,
		firstMeta:   1 << 32, // none
		compat:      le.Uint32(b[sbCompat:]),
		backups:     [2]int64{int64(le.Uint32(b[sbBackups:])), int64(le.Uint32(b[sbBackups+4:]))},
		incompat:    le.Uint32(b[sbIncompat:]),
		roCompat:    le.Uint32(b[sbROCompat:]),
		seed:        sum(^uint32(0), b[sbUUID:sbUUID+16]),
		uuid:        [16]byte(b[sbUUID:]),
		clusters:    int64(le.Uint32(b[sbClusters:])),
	}
	if s.incompat&incompatSeed != 0 {
		s.seed = le.Uint32(b[sbSeed:])
	}
	if le.Uint32(b[sbRevision:]) > 0 {
		s.inodeSize = int64(le.Uint16(b[sbInodeSize:]))
	}
	if s.incompat&incompat64 != 0 {
		s.blocks |= int64(le.Uint32(b[sbBlocksHigh:])) << 32
		s.descSize = int64(le.Uint16(b[sbDescSize:]))
	}
	if s.incompat&incompatMeta != 0 {
		s.firstMeta = int64(le.Uint32(b[sbFirstMeta:]))
	}
	switch {
	case s.incompat&incompatJournal != 0:
		return bad("features", "a file system", sbIncompat, "an external journal")
	case s.inodeSize < 128 || s.inodeSize > s.blockSize || s.inodeSize&(s.inodeSize-1) != 0:
		return bad("inode size", "a power of two from 128 bytes to a block", sbInodeSize, s.inodeSize)
	case s.descSize < 32 || s.descSize > s.blockSize:
		return bad("descriptor size", "32 bytes to a block", sbDescSize, s.descSize)
	case s.firstBlock > 1:
		return bad("first block", "0, or 1 for blocks of 1 KiB", sbFirstBlock, s.firstBlock)
	case s.inodesGroup == 0 || s.perGroup == 0 || s.blocks <= 0 || s.blocks > 1<<47:
		return bad(
			"geometry", "more than nothing", sbPerGroup,
			fmt.Sprintf("%d inodes and %d blocks a group, %d blocks", s.inodesGroup, s.perGroup, s.blocks),
		)
	}
	return s, nil
}

func (s super) groups() int64 { return (s.blocks - s.firstBlock + s.perGroup - 1) / s.perGroup }

// descsPerBlock is how many group descriptors stand in a block.
func (s super) descsPerBlock() int64 { return s.blockSize / s.descSize }

// descAt is where the descriptor of a group stands, in bytes.
func (s super) descAt(group int64) int64 {
	index := group / s.descsPerBlock()
	at := s.firstBlock + 1 + index
	if index >= s.firstMeta {
		at = s.metaDescs(index * s.descsPerBlock())
	}
	return at*s.blockSize + group%s.descsPerBlock()*s.descSize
}

// metaDescs is the block in which a group keeps the descriptors of the groups
// that share it: its first one behind a superblock, if it has that
// (ext4/blockgroup.rst, meta block groups).
func (s super) metaDescs(group int64) int64 {
	at := s.firstBlock + group*s.perGroup
	if s.hasSuper(group) {
		at++
	}
	if group == 0 && s.blockSize == 1024 && s.firstBlock == 0 {
		at++
	}
	return at
}

// hasSuper reports whether a group begins with a superblock (ext4/super.rst).
func (s super) hasSuper(group int64) bool {
	switch {
	case group == 0:
		return true
	case s.compat&compatSparse2 != 0:
		return group == s.backups[0] || group == s.backups[1]
	case group == 1 || s.roCompat&roCompatSparse == 0:
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

type inode struct {
	number int64
	mode   uint16
	size   int64
	mtime  int64 // seconds since 1970
	user   int
	group  int
	flags  uint32
	block  [inBlockBytes]byte
	seed   uint32 // with which the checksums of its blocks begin
	tail   []byte // what follows the first 128 bytes; holds in-inode attributes
	last   *lastNode
}

// A lastNode is the node of a file's tree of extents that was read last, for as long as the file is open: it is asked for
// at every read.
type lastNode struct {
	mutex sync.Mutex
	at    int64
	node  []byte
}

func (l *lastNode) get(at int64) []byte {
	if l == nil {
		return nil
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.at != at {
		return nil
	}
	return l.node
}

func (l *lastNode) put(at int64, node []byte) {
	if l == nil {
		return
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.at, l.node = at, node
}

func parseInode(number int64, b []byte) inode {
	le := binary.LittleEndian
	n := inode{
		number: number,
		mode:   le.Uint16(b[inMode:]),
		size:   int64(le.Uint32(b[inSizeLow:])) | int64(le.Uint32(b[inSizeHigh:]))<<32,
		mtime:  int64(int32(le.Uint32(b[inMtime:]))),
		flags:  le.Uint32(b[inFlags:]),
		user:   int(le.Uint16(b[inUser:])) | int(le.Uint16(b[inUserHigh:]))<<16,
		group:  int(le.Uint16(b[inGroup:])) | int(le.Uint16(b[inGroupHigh:]))<<16,
		tail:   b[128:],
	}
	copy(n.block[:], b[inBlock:])
	return n
}

// inlineTail returns the part of inline data that stands in the in-inode
// attribute "system.data" (ext4/attributes.rst, ext4/inlinedata.rst).
func (n inode) inlineTail() []byte {
	if len(n.tail) < 4 {
		return nil
	}
	le := binary.LittleEndian
	at := int(le.Uint16(n.tail))
	if at+4 > len(n.tail) || le.Uint32(n.tail[at:]) != 0xea020000 {
		return nil
	}
	area := n.tail[at+4:]
	for p := area; len(p) >= 16 && (p[0] != 0 || p[1] != 0); {
		nameLen := int(p[0])
		if 16+nameLen > len(p) {
			return nil
		}
		if p[1] == 7 && string(p[16:16+nameLen]) == "data" {
			off, size := int64(le.Uint16(p[2:])), int64(le.Uint32(p[8:]))
			if off+size > int64(len(area)) {
				return nil
			}
			return area[off : off+size]
		}
		next := (16 + nameLen + 3) &^ 3
		if next > len(p) {
			return nil
		}
		p = p[next:]
	}
	return nil
}
