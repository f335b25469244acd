package btrfs

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"diorthos/core/format"
)

// A FormatError says what is not as the format has it.
type FormatError = format.Error

var (
	le         = binary.LittleEndian
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
)

// The superblock. Numbers of Btrfs have the lowest byte first.
const (
	superAt         = 64 << 10
	superBytes      = 4096
	superMagic      = "_BHRfS_M"
	superMark       = 64
	superRoot       = 80
	superChunks     = 88
	superLog        = 96
	superTop        = 128 // the folder of the tree of trees that names the default subvolume
	superDevices    = 136
	superNode       = 148
	superSystem     = 160 // bytes of the chunks that lie in the superblock
	superSums       = 196
	superRootLevel  = 198
	superChunkLevel = 199
	superDevice     = 201
	superArray      = 811
	mostSystem      = 2048

	sumCRC32C = 0
	sumSHA256 = 2
	sumBytes  = 32 // before each block, whatever its kind
)

// Nodes of trees.
const (
	nodeAt    = 48 // where it says that it lies
	nodeItems = 96
	nodeLevel = 100
	nodeHead  = 101
	itemBytes = 25
	linkBytes = 33
	keyBytes  = 17
	deepest   = 8
)

// Items of trees, by their types.
const (
	typeInode    = 1
	typeNamed    = 84
	typeEntry    = 96
	typeExtent   = 108
	typeTree     = 132
	typeChunk    = 228
	treeOfFiles  = 5
	firstInode   = 256
	firstOwnTree = 256
)

// Fields of items.
const (
	chunkType    = 24
	chunkStripes = 44
	chunkHead    = 48
	stripeBytes  = 32
	spread       = 1<<3 | 1<<6 | 1<<7 | 1<<8 // RAID 0, 10, 5, 6

	inodeSize     = 16
	inodeUser     = 44
	inodeGroup    = 48
	inodeMode     = 52
	inodeModified = 136
	inodeBytes    = 160

	entryName   = 27 // bytes of its name
	entryExtra  = 25
	entryHead   = 30
	extentRAM   = 8
	extentPack  = 16
	extentOther = 17
	extentKind  = 20
	extentData  = 21 // in the item itself
	extentDisk  = 21
	extentTaken = 29
	extentSkip  = 37
	extentCount = 45
	extentBytes = 53
	treeRootDir = 168
	treeAt      = 176
	treeLevel   = 238
	treeBytes   = 239
	inlineKind  = 0
	writtenKind = 1
	packedZlib  = 1
	packedLZO   = 2
	packedZstd  = 3
	mostPacked  = 128 << 10 // bytes of an extent that is packed, as they are packed and as they are not
)

// A key orders the items of a tree.
type key struct {
	object uint64
	kind   byte
	offset uint64
}

func parseKey(b []byte) key { return key{le.Uint64(b), b[8], le.Uint64(b[9:])} }

func (k key) less(o key) bool {
	if k.object != o.object {
		return k.object < o.object
	}
	if k.kind != o.kind {
		return k.kind < o.kind
	}
	return k.offset < o.offset
}

// checkSum holds the sum before a block against what follows it. Sums of other kinds than those known are not held.
func checkSum(kind uint16, what string, b []byte) error {
	var want string
	switch kind {
	case sumCRC32C:
		want = fmt.Sprintf("%08x", crc32.Checksum(b[sumBytes:], castagnoli))
		if got := fmt.Sprintf("%08x", le.Uint32(b)); got != want {
			return &FormatError{In: "btrfs", What: what + ": sum", Want: want, Got: got}
		}
	case sumSHA256:
		if sum := sha256.Sum256(b[sumBytes:]); string(sum[:]) != string(b[:sumBytes]) {
			return &FormatError{
				In:   "btrfs",
				What: what + ": sum",
				Want: fmt.Sprintf("%x", sum),
				Got:  fmt.Sprintf("%x", b[:sumBytes]),
			}
		}
	}
	return nil
}
