package fat

import (
	"encoding/binary"
	"fmt"
	"io"

	"diorthos/core/format"
)

// The bytes of a FAT32 volume, in bytes from its start or from the start of
// the structure named.
const (
	sectorSize      = 512
	reserved        = 32 // sectors before the first FAT
	fats            = 2
	infoSector      = 1
	backupBoot      = 6
	rootCluster     = 2
	entrySize       = 32
	attrVolumeLabel = 0x08
	mediaFixed      = 0xf8
	minClusters     = 65525 // fewer would be FAT16
	infoLead        = 0x41615252
	infoStruct      = 0x61417272
	infoTrail       = 0xaa550000
)

// Options say how a volume is made.
type Options struct {
	Label  string // 11 characters at the most, kept in upper case
	Serial uint32
	Bits   int // of an entry of the table: 12, 16 or 32; 0 for 32
}

// A FormatError says why a volume cannot be made as asked.
type FormatError = format.Error

// Format makes an empty file system of size bytes at the start of dev, with
// sectors of 512 bytes. Clusters beyond the root folder are not touched.
func Format(dev io.WriterAt, size int64, o Options) error {
	switch o.Bits {
	case 0, 32:
	case 12, 16:
		return formatSmall(dev, size, o)
	default:
		return &FormatError{In: "fat", What: "bits of an entry", Want: "12, 16 or 32", Got: fmt.Sprint(o.Bits)}
	}
	total := size / sectorSize
	perCluster := clusterSectors(total)
	perFAT := fatSectors(total, perCluster)
	clusters := (total - reserved - fats*perFAT) / perCluster
	if clusters < minClusters || total > 1<<32-1 {
		return &FormatError{
			In:   "fat",
			What: "size of the volume",
			Want: "33 MiB to 2 TiB",
			Got:  fmt.Sprintf("%d bytes", size),
		}
	}
	label, err := label11(o.Label)
	if err != nil {
		return err
	}
	boot := bootSector(total, perCluster, perFAT, o.Serial, label)
	info := infoBlock(clusters - 1)
	// What was there before may have its superblock in sectors that stay free.
	if err := put(dev, 0, make([]byte, reserved*sectorSize)); err != nil {
		return err
	}
	for _, at := range []int64{0, backupBoot} {
		if err := put(dev, at, boot); err != nil {
			return err
		}
		if err := put(dev, at+infoSector, info); err != nil {
			return err
		}
	}
	return putTables(dev, perFAT, perCluster, label)
}

// putTables writes empty FATs and the root folder with the label in it.
func putTables(dev io.WriterAt, perFAT, perCluster int64, label []byte) error {
	first := make([]byte, sectorSize)
	for i, v := range []uint32{0x0fffff00 | mediaFixed, 0x0fffffff, 0x0fffffff} {
		binary.LittleEndian.PutUint32(first[4*i:], v)
	}
	zeros := make([]byte, perFAT*sectorSize)
	copy(zeros, first)
	for i := range int64(fats) {
		if err := put(dev, reserved+i*perFAT, zeros); err != nil {
			return err
		}
	}
	root := make([]byte, perCluster*sectorSize)
	if string(label) != "NO NAME    " {
		copy(root, label)
		root[11] = attrVolumeLabel
	}
	return put(dev, reserved+fats*perFAT, root)
}

func put(dev io.WriterAt, sector int64, data []byte) error {
	if _, err := dev.WriteAt(data, sector*sectorSize); err != nil {
		return fmt.Errorf("fat: write sector %d: %w", sector, err)
	}
	return nil
}

// clusterSectors keeps clusters small while their number stays moderate.
func clusterSectors(total int64) int64 {
	for _, step := range []struct{ upTo, sectors int64 }{{532480, 1}, {16777216, 8}, {33554432, 16}, {67108864, 32}} {
		if total <= step.upTo {
			return step.sectors
		}
	}
	return 64
}

// fatSectors is how long a FAT must be to hold an entry for each cluster that
// remains beside it.
func fatSectors(total, perCluster int64) int64 {
	perSector := int64(sectorSize / 4)
	span := perCluster*perSector + fats
	return (total - reserved + 2*perCluster + span - 1) / span
}

func label11(s string) ([]byte, error) {
	if s == "" {
		s = "NO NAME"
	}
	b := []byte("           ")
	if len(s) > len(b) {
		return nil, &FormatError{In: "fat", What: "label", Want: "11 characters at the most", Got: s}
	}
	for i := range len(s) {
		c := s[i]
		if c >= 'a' && c <= 'z' {
			c -= 'a' - 'A'
		}
		if c < 0x20 || c > 0x7e {
			return nil, &FormatError{In: "fat", What: "label", Want: "plain ASCII", Got: s}
		}
		b[i] = c
	}
	return b, nil
}

func bootSector(total, perCluster, perFAT int64, serial uint32, label []byte) []byte {
	b := make([]byte, sectorSize)
	le := binary.LittleEndian
	copy(b, []byte{0xeb, 0x58, 0x90})
	copy(b[3:], "DIORTHOS")
	le.PutUint16(b[11:], sectorSize)
	b[13] = byte(perCluster)
	le.PutUint16(b[14:], reserved)
	b[16] = fats
	b[21] = mediaFixed
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	le.PutUint32(b[32:], uint32(total))
	le.PutUint32(b[36:], uint32(perFAT))
	le.PutUint32(b[44:], rootCluster)
	le.PutUint16(b[48:], infoSector)
	le.PutUint16(b[50:], backupBoot)
	b[64] = 0x80
	b[66] = 0x29
	le.PutUint32(b[67:], serial)
	copy(b[71:], label)
	copy(b[82:], "FAT32   ")
	b[510], b[511] = 0x55, 0xaa
	return b
}

func infoBlock(free int64) []byte {
	b := make([]byte, sectorSize)
	le := binary.LittleEndian
	le.PutUint32(b, infoLead)
	le.PutUint32(b[484:], infoStruct)
	le.PutUint32(b[488:], uint32(free))
	le.PutUint32(b[492:], rootCluster+1)
	le.PutUint32(b[508:], infoTrail)
	return b
}
