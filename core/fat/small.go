package fat

import (
	"encoding/binary"
	"fmt"
	"io"
)

// What the smaller kinds have in place of a root folder in clusters.
const (
	smallRootEntries = 512
	smallReserved    = 1 // sectors
)

// formatSmall makes an empty FAT12 or FAT16 file system: a fixed root folder
// behind the tables, and no backup boot sector.
func formatSmall(dev io.WriterAt, size int64, o Options) error {
	total := size / sectorSize
	label, err := label11(o.Label)
	if err != nil {
		return err
	}
	perCluster, perFAT, clusters := smallGeometry(total, o.Bits)
	least, most := int64(1), int64(4084)
	if o.Bits == 16 {
		least, most = 4085, 65524
	}
	if perCluster == 0 || clusters < least || clusters > most {
		return &FormatError{
			In:   "fat",
			What: "size of the volume",
			Want: map[int]string{12: "up to 255 MiB", 16: "about 2 MiB to 4 GiB"}[o.Bits],
			Got:  fmt.Sprintf("%d bytes", size),
		}
	}
	if err := put(dev, 0, smallBootSector(total, perCluster, perFAT, o, label)); err != nil {
		return err
	}
	table := make([]byte, perFAT*sectorSize)
	putTableEntry(table, o.Bits, 0, 0xffffff00|mediaFixed)
	putTableEntry(table, o.Bits, 1, 0xffffffff)
	for i := range int64(fats) {
		if err := put(dev, smallReserved+i*perFAT, table); err != nil {
			return err
		}
	}
	root := make([]byte, smallRootEntries*entrySize)
	if string(label) != "NO NAME    " {
		copy(root, shortEntry(label, attrVolumeLabel, 0, 0, stamp(0x21, 0)))
	}
	return put(dev, smallReserved+fats*perFAT, root)
}

// smallGeometry finds the smallest clusters with which the volume is of the
// kind that is asked for; none when there are not.
func smallGeometry(total int64, bits int) (perCluster, perFAT, clusters int64) {
	for perCluster = 1; perCluster <= 128; perCluster *= 2 {
		fixed := int64(smallReserved + smallRootEntries*entrySize/sectorSize)
		perFAT = 1
		for range 32 { // the table's length and the number of clusters depend on each other
			clusters = (total - fixed - fats*perFAT) / perCluster
			need := ((clusters+2)*int64(bits) + 8*sectorSize - 1) / (8 * sectorSize)
			if need <= perFAT {
				break
			}
			perFAT = need
		}
		if most := map[int]int64{12: 4084, 16: 65524}[bits]; clusters <= most {
			return perCluster, perFAT, clusters
		}
	}
	return 0, 0, 0
}

func smallBootSector(total, perCluster, perFAT int64, o Options, label []byte) []byte {
	b := make([]byte, sectorSize)
	le := binary.LittleEndian
	copy(b, []byte{0xeb, 0x3c, 0x90})
	copy(b[3:], "DIORTHOS")
	le.PutUint16(b[bpbSector:], sectorSize)
	b[bpbCluster] = byte(perCluster)
	le.PutUint16(b[bpbReserved:], smallReserved)
	b[bpbFATs] = fats
	le.PutUint16(b[bpbRootEntries:], smallRootEntries)
	if total < 1<<16 {
		le.PutUint16(b[bpbTotal16:], uint16(total))
	} else {
		le.PutUint32(b[bpbTotal32:], uint32(total))
	}
	b[bpbMedia] = mediaFixed
	le.PutUint16(b[bpbFATSize16:], uint16(perFAT))
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	b[36] = 0x80
	b[38] = 0x29
	le.PutUint32(b[39:], o.Serial)
	copy(b[43:], label)
	copy(b[54:], fmt.Sprintf("FAT%d   ", o.Bits))
	b[bootSignature], b[bootSignature+1] = 0x55, 0xaa
	return b
}
