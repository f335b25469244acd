package journald

// Bytes of a journal file: offsets in its header and in its objects. Numbers are little-endian.
const (
	magic            = "LPKSHHRH"
	headerIncompat   = 12
	headerState      = 16
	headerMachine    = 40
	headerSize       = 88
	headerArena      = 96
	headerEntries    = 152
	shortestHeader   = 208
	objectHeader     = 16
	objectAlign      = 8
	dataHash         = 16
	dataPayload      = 64
	dataPayloadSmall = 72 // in compact mode
	entrySeq         = 16
	entryRealtime    = 24 // microseconds since 1970
	entryMonotonic   = 32 // microseconds since the start
	entryBoot        = 40
	entryItems       = 64
	itemLong         = 16 // offset and hash
	itemShort        = 4  // in compact mode: an offset alone
)

// Flags of a header that a reader has to understand.
const (
	flagXZ      = 1 << 0
	flagLZ4     = 1 << 1
	flagKeyed   = 1 << 2
	flagZstd    = 1 << 3
	flagCompact = 1 << 4
	flagsKnown  = flagXZ | flagLZ4 | flagKeyed | flagZstd | flagCompact
)

// Kinds of objects.
const (
	kindData       = 1
	kindEntry      = 3
	kindEntryArray = 6
	kindLast       = 7
)

// Flags of a data object.
const (
	packedXZ   = 1 << 0
	packedLZ4  = 1 << 1
	packedZstd = 1 << 2
)

// Bounds on what a file may ask for.
const (
	largestObject = 768 << 20
	largestField  = 1 << 20 // bytes of one field that are read; more is cut
	mostItems     = 1024
)
