package xfs

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"diorthos/core/format"
)

// A FormatError says what is not as the format has it.
type FormatError = format.Error

var (
	be         = binary.BigEndian
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
)

// The superblock, at the beginning of the volume. Numbers of XFS have the highest byte first.
const (
	superMagic    = 0x58465342 // "XFSB"
	superBytes    = 512        // the smallest sector, in which all fields lie
	superBlock    = 4
	superBlocks   = 8
	superLog      = 48
	superRoot     = 56
	superAGBlocks = 84
	superAGCount  = 88
	superLogSize  = 96
	superVersion  = 100
	superSector   = 102
	superInode    = 104
	superPerBlock = 123
	superAGLog    = 124
	superFolder   = 192
	superMore     = 200
	superIncompat = 216
	superSum      = 224
)

// Features of a volume that change how it is read.
const (
	moreTypes       = 1 << 9 // of version 4: entries of folders say what they name
	hasTypes        = 1 << 0
	hasSparseInodes = 1 << 1
	hasMetaUUID     = 1 << 2
	hasBigTime      = 1 << 3
	needsRepair     = 1 << 4
	hasBigCounts    = 1 << 5
	hasExchange     = 1 << 6
	hasParents      = 1 << 7
	known           = hasTypes | hasSparseInodes | hasMetaUUID | hasBigTime | hasBigCounts | hasExchange | hasParents |
		needsRepair
)

// An inode.
const (
	inodeMagic    = 0x494e // "IN"
	inodeMode     = 2
	inodeVersion  = 4
	inodeFormat   = 5
	inodeUser     = 8
	inodeGroup    = 12
	inodeManyBig  = 24 // how many extents, where the volume counts so
	inodeModified = 40
	inodeSize     = 56
	inodeMany     = 76
	inodeFork     = 82
	inodeSum      = 100
	inodeFlags2   = 120
	inodeNumber   = 152
	inodeHead     = 176 // bytes before what the inode holds; 100 in version 2
	inodeHeadOld  = 100

	flagReflink   = 1 << 1
	flagBigTime   = 1 << 3
	flagBigCounts = 1 << 4
)

// How an inode keeps what it holds.
const (
	heldLocal   = 1
	heldExtents = 2
	heldTree    = 3
)

// Blocks of a tree of extents.
const (
	treeMagic   = 0x424d4150 // "BMAP"
	treeMagic5  = 0x424d4133 // "BMA3"
	treeHead    = 24
	treeHead5   = 72
	treeSum     = 64
	extentBytes = 16
)

// Blocks of folders, and of links.
const (
	folderBlock  = 0x58443242 // "XD2B": all of a folder in one
	folderBlock5 = 0x58444233 // "XDB3"
	folderData   = 0x58443244 // "XD2D"
	folderData5  = 0x58444433 // "XDD3"
	folderHead   = 16
	folderHead5  = 64
	folderSum    = 4
	folderFree   = 0xffff
	folderLeaves = 32 << 30 // bytes: from here on a folder keeps no names

	linkMagic = 0x58534c4d // "XSLM"
	linkHead  = 56
	linkSum   = 12
)

// geometry is what the superblock tells.
type geometry struct {
	blockSize  int64
	blocks     int64
	agBlocks   int64
	agCount    int64
	agLog      uint // bits of a block's number within its group
	perLog     uint // bits of an inode's number within its block
	inodeSize  int64
	folderSize int64 // bytes of a block of a folder
	root       uint64
	logStart   uint64
	logBlocks  int64
	version    int
	types      bool // entries of folders say what they name
	incompat   uint32
}

func readGeometry(b []byte) (g geometry, err error) {
	bad := func(what string, at int64, want string, got any) error {
		return &FormatError{In: "xfs", What: what, Offset: at, Want: want, Got: fmt.Sprint(got)}
	}
	if be.Uint32(b) != superMagic {
		return g, bad("superblock", 0, "XFSB", fmt.Sprintf("%q", b[:4]))
	}
	g = geometry{
		blockSize: int64(be.Uint32(b[superBlock:])), blocks: int64(be.Uint64(b[superBlocks:])),
		agBlocks: int64(be.Uint32(b[superAGBlocks:])), agCount: int64(be.Uint32(b[superAGCount:])),
		agLog: uint(b[superAGLog]), perLog: uint(b[superPerBlock]), inodeSize: int64(be.Uint16(b[superInode:])),
		root: be.Uint64(b[superRoot:]), logStart: be.Uint64(b[superLog:]), logBlocks: int64(be.Uint32(b[superLogSize:])),
		version: int(be.Uint16(b[superVersion:]) & 0xf),
	}
	switch g.version {
	case 4:
		g.types = be.Uint32(b[superMore:])&moreTypes != 0
	case 5:
		g.incompat = be.Uint32(b[superIncompat:])
		g.types = g.incompat&hasTypes != 0
	default:
		return g, bad("superblock: version", superVersion, "4 or 5", g.version)
	}
	powerOfTwo := func(n, least, most int64) bool { return n >= least && n <= most && n&(n-1) == 0 }
	g.folderSize = g.blockSize << min(b[superFolder], 16)
	switch {
	case !powerOfTwo(g.blockSize, 512, 64<<10):
		return g, bad("superblock: block size", superBlock, "a power of two from 512 to 65536", g.blockSize)
	case !powerOfTwo(g.inodeSize, 256, 2048) || g.inodeSize > g.blockSize:
		return g, bad("superblock: inode size", superInode, "a power of two from 256 to 2048", g.inodeSize)
	case g.inodeSize<<min(g.perLog, 16) != g.blockSize:
		return g, bad(
			"superblock: inodes in a block",
			superPerBlock,
			fmt.Sprint(g.blockSize/g.inodeSize),
			1<<min(g.perLog, 16),
		)
	case !powerOfTwo(g.folderSize, 512, 64<<10):
		return g, bad("superblock: block size of folders", superFolder, "64 KiB at the most", g.folderSize)
	case g.agLog > 31 || g.agBlocks > 1<<g.agLog || g.agBlocks < 1 || g.agCount < 1:
		return g, bad("superblock: blocks in a group", superAGBlocks, fmt.Sprintf("1 to 2^%d", g.agLog), g.agBlocks)
	case g.blocks < 1 || g.blocks > g.agBlocks*g.agCount:
		return g, bad("superblock: blocks", superBlocks, fmt.Sprintf("1 to %d", g.agBlocks*g.agCount), g.blocks)
	case g.incompat&^known != 0:
		return g, bad("superblock: features", superIncompat, "known ones", fmt.Sprintf("%#x", g.incompat&^known))
	}
	return g, nil
}

// checkSum holds the sum of a block, kept in it with the lowest byte first, against its bytes.
func checkSum(what string, b []byte, at int) error {
	sum := crc32.Update(0, castagnoli, b[:at])
	sum = crc32.Update(sum, castagnoli, []byte{0, 0, 0, 0})
	sum = crc32.Update(sum, castagnoli, b[at+4:])
	if got := binary.LittleEndian.Uint32(b[at:]); got != sum {
		return &FormatError{
			In: "xfs", What: what + ": sum", Want: fmt.Sprintf("%#08x", sum), Got: fmt.Sprintf("%#08x", got),
		}
	}
	return nil
}

// blockAt is where a block lies, in bytes: its number has the group above, and the block in it below.
func (g geometry) blockAt(number uint64) (int64, error) {
	group, block := int64(number>>g.agLog), int64(number&(1<<g.agLog-1))
	if group < 0 || group >= g.agCount || block >= g.agBlocks || group*g.agBlocks+block >= g.blocks {
		return 0, &FormatError{
			In: "xfs", What: "number of a block", Want: fmt.Sprintf("one of %d", g.blocks), Got: fmt.Sprintf("%#x", number),
		}
	}
	return (group*g.agBlocks + block) * g.blockSize, nil
}

// inodeAt is where an inode lies, in bytes.
func (g geometry) inodeAt(number uint64) (int64, error) {
	at, err := g.blockAt(number >> g.perLog)
	return at + int64(number&(1<<g.perLog-1))*g.inodeSize, err
}
