package grub

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

// GRUB for the older firmware, by the bytes that its parts agree on (boot.S, diskboot.S and
// startup_raw.S of GRUB 2): a first sector that loads one sector by its address, which loads
// the rest of the core image by a list of its blocks, which unpacks itself.
const (
	sector = 512

	coreSector = 0x5c  // in the first sector: where the core image begins, 64 bits
	blockList  = 0x1f4 // in its first sector: the first of the list, which goes down from there
	blockEntry = 12    // start (64 bits), length and segment (16 bits each)
	leastList  = 0x100

	packedSize   = 0x208 // in the core image
	unpackedSize = 0x20c
	ownPart      = 0x21a      // in the core image: the partition of its files, from 0; 0xff for none
	afterLoader  = 512 + 2848 // where what is packed begins, behind GRUB 2.06's own unpacker

	mostCore     = 2 << 20 // bytes
	mostUnpacked = 8 << 20

	lzmaProperties = 0x5d    // lc 3, lp 0, pb 2
	lzmaDictionary = 1 << 16 // bytes
)

var (
	firstMarks = [][]byte{[]byte("GRUB \x00"), []byte("Geom\x00")} // among the messages of the first sector
	coreMark   = []byte{0x52, 0x56, 0xbe}                          // what the core image's first sector begins with
)

// ErrNotGRUB means that a sector holds other code.
var ErrNotGRUB = errors.New("its code is not GRUB's")

// An Image is a core image as it lies on a disk.
type Image struct {
	At     int64 // of its first byte, on the disk
	Bytes  []byte
	Config string // the commands that it carries
	Prefix string // the folder of its files
	// Part is the number of the partition, from 1, on which its files are where Prefix names none; 0 for the whole disk.
	Part int
	// Packed says why what it carries could not be read; nil where it could.
	Packed error
}

// IsGRUB reports whether a first sector holds GRUB's code.
func IsGRUB(first []byte) bool {
	for _, mark := range firstMarks {
		if !bytes.Contains(first, mark) {
			return false
		}
	}
	return true
}

// ReadImage follows a first sector to the core image. [ErrNotGRUB] means that the sector
// is another loader's; any other error, why the image cannot be started. Copy is the core
// image as it was kept among GRUB's files, nil where there is none.
func ReadImage(disk io.ReaderAt, first []byte, copy []byte) (*Image, error) {
	if len(first) < sector || !IsGRUB(first) {
		return nil, ErrNotGRUB
	}
	le := binary.LittleEndian
	lba := le.Uint64(first[coreSector:])
	if lba == 0 || lba > 1<<40 {
		return nil, fmt.Errorf("its code leads to sector %d, where no core image can be", lba)
	}
	i := &Image{At: int64(lba) * sector}
	head := make([]byte, sector)
	if _, err := disk.ReadAt(head, i.At); err != nil {
		return nil, fmt.Errorf("the core image at sector %d cannot be read: %w", lba, err)
	}
	if !bytes.HasPrefix(head, coreMark) {
		return i, fmt.Errorf("what lies at sector %d, where its code leads, is not GRUB's core image", lba)
	}
	i.Bytes = head
	for at := blockList; at >= leastList; at -= blockEntry {
		start, length := le.Uint64(head[at:]), int64(le.Uint16(head[at+8:]))
		if length == 0 {
			break
		}
		if int64(len(i.Bytes))+length*sector > mostCore || start > 1<<40 {
			return i, errors.New("the list of the core image's blocks is damaged")
		}
		part := make([]byte, length*sector)
		if _, err := disk.ReadAt(part, int64(start)*sector); err != nil {
			return i, fmt.Errorf("the core image at sector %d cannot be read: %w", start, err)
		}
		i.Bytes = append(i.Bytes, part...)
	}
	if err := i.compare(copy); err != nil {
		return i, err
	}
	i.unpack(len(copy))
	if i.Packed != nil && (len(copy) == 0 || lba >= behindGap) {
		return i, fmt.Errorf("the core image at sector %d cannot be unpacked: %w", lba, i.Packed)
	}
	return i, nil
}

// behindGap is the sector from which on what lies there can be a file: a copy of the core image vouches for it only
// where it cannot be these very blocks.
const behindGap = 2048

// mayDiffer is how many bytes of a core image grub-install writes for the place where it lies.
const mayDiffer = 64

// compare holds it against the copy among GRUB's files.
func (i *Image) compare(copy []byte) error {
	if len(copy) == 0 {
		return nil
	}
	if len(i.Bytes) < len(copy) {
		return fmt.Errorf("the core image has %d bytes, and its copy among GRUB's files %d", len(i.Bytes), len(copy))
	}
	differs, first := 0, -1
	for n := range copy {
		if copy[n] != i.Bytes[n] && (n < leastList || n >= sector) { // the list of blocks is of this disk
			if differs++; first < 0 {
				first = n
			}
		}
	}
	if differs > mayDiffer {
		return fmt.Errorf(
			"the core image differs from its copy among GRUB's files in %d bytes, the first at %d",
			differs,
			first,
		)
	}
	return nil
}

// CheckCopy says why a core image as it is kept among GRUB's files cannot be started; nil where nothing speaks against
// it.
func CheckCopy(core []byte) error {
	if !bytes.HasPrefix(core, coreMark) {
		return errors.New("it is not GRUB's core image")
	}
	i := &Image{Bytes: core}
	i.unpack(len(core))
	if i.Packed != nil {
		return fmt.Errorf("it cannot be unpacked: %w", i.Packed)
	}
	return nil
}

// unpack reads what the image carries. Its loader is as long as the copy says, or as that of
// the version that is most in use.
func (i *Image) unpack(copied int) {
	le := binary.LittleEndian
	if len(i.Bytes) < unpackedSize+4 {
		i.Packed = errors.New("it is cut off")
		return
	}
	if n := i.Bytes[ownPart]; n != 0xff {
		i.Part = int(n) + 1
	}
	packed, plain := int(le.Uint32(i.Bytes[packedSize:])), int(le.Uint32(i.Bytes[unpackedSize:]))
	if packed <= 0 || packed > len(i.Bytes) || plain <= 0 || plain > mostUnpacked {
		i.Packed = fmt.Errorf("it says that it unpacks from %d bytes to %d", packed, plain)
		return
	}
	for _, at := range []int{copied - packed, afterLoader} {
		if at < sector || at+packed > len(i.Bytes) {
			continue
		}
		var raw []byte
		if raw, i.Packed = unpackLZMA(i.Bytes[at:at+packed], plain); i.Packed != nil {
			continue
		}
		c, ok := Carries(raw, 4)
		if i.Config, i.Prefix = c.Config, c.Prefix; ok {
			return
		}
		i.Packed = errors.New("it holds none of GRUB's modules")
	}
	if i.Packed == nil {
		i.Packed = errors.New("where what is packed begins is not known")
	}
}

func unpackLZMA(packed []byte, size int) ([]byte, error) {
	head := make([]byte, 13)
	head[0] = lzmaProperties
	binary.LittleEndian.PutUint32(head[1:], lzmaDictionary)
	binary.LittleEndian.PutUint64(head[5:], uint64(size))
	r, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head), bytes.NewReader(packed)))
	if err != nil {
		return nil, err
	}
	raw := make([]byte, size)
	_, err = io.ReadFull(r, raw)
	return raw, err
}
