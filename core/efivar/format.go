package efivar

import (
	"encoding/binary"

	"diorthos/core/format"
)

// A FormatError says what is not as the format has it.
type FormatError = format.Error

var le = binary.LittleEndian

// Global is the namespace of the variables that the UEFI Specification itself names, as efivarfs writes it.
const Global = "8be4df61-93ca-11d2-aa0d-00e098032b8c"

var globalBytes = [16]byte{
	0x61, 0xdf, 0xe4, 0x8b, 0xca, 0x93, 0xd2, 0x11, 0xaa, 0x0d, 0x00, 0xe0, 0x98, 0x03, 0x2b, 0x8c,
}

// Attributes of the variables about starting: kept, and readable before and after the system has taken over.
const bootAttributes = 7

// A firmware volume.
const (
	volumeMark   = 40 // "_FVH"
	volumeLength = 32
	volumeHead   = 48 // bytes of its header
	mostStore    = 16 << 20
)

// A variable store, behind the header of its volume.
const (
	storeSize   = 16
	storeFormat = 20
	storeState  = 21
	storeHead   = 28
	formatted   = 0x5a
	healthy     = 0xfe
)

// Namespaces of stores: those whose variables carry a time stamp, and those of old.
var (
	stampedStore = [16]byte{
		0x78, 0x2c, 0xf3, 0xaa, 0x7b, 0x94, 0x9a, 0x43, 0xa1, 0x80, 0x2e, 0x14, 0x4e, 0xc3, 0x77, 0x92,
	}
	plainStore = [16]byte{
		0x16, 0x36, 0xcf, 0xdd, 0x75, 0x32, 0x64, 0x41, 0x98, 0xb6, 0xfe, 0x85, 0x70, 0x7f, 0xfe, 0x7d,
	}
)

// A variable in a store.
const (
	startMark  = 0x55aa
	varState   = 2
	varFlags   = 4
	added      = 0x3f
	leaving    = 0x3e // about to be replaced: counts where nothing has replaced it
	deletedBit = 0xfd
)

// layout is where the fields of a variable's head lie.
type layout struct{ nameSize, dataSize, guid, head int }

var (
	stamped = layout{nameSize: 36, dataSize: 40, guid: 44, head: 60}
	plain   = layout{nameSize: 8, dataSize: 12, guid: 16, head: 32}
)

// A load option.
const (
	optionPaths  = 4 // bytes of its device paths
	optionTitle  = 6
	flagActive   = 1
	flagCategory = 0x1f00 // other than 0: not one of those that are started in order
)

// Nodes of a device path, by type and subtype.
const (
	nodeMessaging = 3
	nodeMedia     = 4
	nodeEnd       = 0x7f

	mediaDisk     = 1
	mediaDisc     = 2
	mediaFile     = 4
	mediaFirmware = 6 // a program of the firmware's own
	mediaVolume   = 7 // a volume of the firmware's own

	diskNumber    = 4 // of the partition
	diskStart     = 8
	diskLength    = 16
	diskSignature = 24
	diskStyle     = 40
	diskKind      = 41
	diskBytes     = 42
	byGUID        = 2
	byMBR         = 1
)
