package fat

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
)

// Offsets in a boot sector (ECMA-107 section 9, and for the 32-bit kind the
// published specification of 2000, section "Boot Sector and BPB"), in bytes.
const (
	bpbSector      = 11
	bpbCluster     = 13
	bpbReserved    = 14
	bpbFATs        = 16
	bpbRootEntries = 17
	bpbTotal16     = 19
	bpbMedia       = 21
	bpbFATSize16   = 22
	bpbTotal32     = 32
	bpbFATSize32   = 36
	bpbRoot        = 44
	bpbInfo        = 48
	bpbBackup      = 50
	bootSignature  = 510
)

// maxTable bounds how large a FAT may be that is held in memory, in bytes.
const maxTable = 512 << 20

// A Geometry says where things lie on a volume. Sizes are in bytes unless it
// says otherwise.
type Geometry struct {
	Bits        int   // of an entry of the table: 12, 16 or 32
	Sector      int64 // bytes
	Cluster     int64 // bytes
	Reserved    int64 // sectors before the first table
	Tables      int   // copies of the table
	TableSize   int64 // sectors of one
	RootEntries int64 // of a fixed root folder; 0 with 32 bits
	Root        uint32
	Total       int64 // sectors
	Clusters    uint32
	Info        int64 // sector of the free counts; 0 for none
	Backup      int64 // sector of the backup boot sector; 0 for none
	Media       byte
	Label       string
}

func (g Geometry) tableAt(copy int) int64 {
	return (g.Reserved + int64(copy)*g.TableSize) * g.Sector
}
func (g Geometry) rootAt() int64 { return g.tableAt(g.Tables) }
func (g Geometry) dataAt() int64 { return g.rootAt() + g.RootEntries*entrySize }

func (g Geometry) clusterAt(c uint32) int64 { return g.dataAt() + int64(c-2)*g.Cluster }

// valid reports whether c is the number of a cluster that exists.
func (g Geometry) valid(c uint32) bool { return c >= 2 && c < g.Clusters+2 }

// end is the least entry that ends a chain; bad marks a cluster as unusable.
func (g Geometry) end() uint32 { return 0x0ffffff8 >> (28 - min(g.Bits, 28)) & g.mask() }
func (g Geometry) bad() uint32 { return g.end() - 1 }
func (g Geometry) mask() uint32 {
	return uint32(1)<<min(g.Bits, 28) - 1
}

// parseBoot reads a boot sector.
func parseBoot(b []byte, sectorNumber int64) (Geometry, error) {
	le := binary.LittleEndian
	fail := func(what string, off int, want string, got any) (Geometry, error) {
		return Geometry{}, &FormatError{
			In:   "fat",
			What: fmt.Sprintf("boot sector %d: %s at byte %d", sectorNumber, what, off),
			Want: want,
			Got:  fmt.Sprint(got),
		}
	}
	if b[bootSignature] != 0x55 || b[bootSignature+1] != 0xaa {
		return fail("signature", bootSignature, "55 aa", fmt.Sprintf("%02x %02x", b[510], b[511]))
	}
	g := Geometry{
		Sector:      int64(le.Uint16(b[bpbSector:])),
		Reserved:    int64(le.Uint16(b[bpbReserved:])),
		Tables:      int(b[bpbFATs]),
		RootEntries: int64(le.Uint16(b[bpbRootEntries:])),
		Media:       b[bpbMedia],
	}
	if g.Sector < 512 || g.Sector > 4096 || g.Sector&(g.Sector-1) != 0 {
		return fail("bytes of a sector", bpbSector, "512 to 4096", g.Sector)
	}
	perCluster := int64(b[bpbCluster])
	if perCluster == 0 || perCluster&(perCluster-1) != 0 {
		return fail("sectors of a cluster", bpbCluster, "a power of two", perCluster)
	}
	g.Cluster = perCluster * g.Sector
	if g.Reserved == 0 || g.Tables < 1 || g.Tables > 4 {
		return fail(
			"number of tables", bpbFATs, "1 to 4 behind at least one sector", fmt.Sprintf("%d behind %d", g.Tables, g.Reserved),
		)
	}
	if g.Total = int64(le.Uint16(b[bpbTotal16:])); g.Total == 0 {
		g.Total = int64(le.Uint32(b[bpbTotal32:]))
	}
	if g.TableSize = int64(le.Uint16(b[bpbFATSize16:])); g.TableSize == 0 {
		g.TableSize = int64(le.Uint32(b[bpbFATSize32:]))
		g.Root, g.Info, g.Backup = le.Uint32(b[bpbRoot:]), int64(le.Uint16(b[bpbInfo:])), int64(le.Uint16(b[bpbBackup:]))
	}
	sectors := g.Total - g.dataAt()/g.Sector
	if g.TableSize == 0 || g.TableSize*g.Sector > maxTable || sectors < perCluster {
		return fail(
			"size of the volume", bpbTotal32, "room for the tables and one cluster",
			fmt.Sprintf("%d sectors, tables of %d", g.Total, g.TableSize),
		)
	}
	count := sectors / perCluster
	switch { // by the number of clusters alone, as the specification wants
	case count < 4085:
		g.Bits = 12
	case count < 65525:
		g.Bits = 16
	default:
		g.Bits = 32
	}
	if le.Uint16(b[bpbFATSize16:]) == 0 {
		g.Bits = 32 // the layout of this kind, however few clusters
	}
	if room := g.TableSize*g.Sector*8/int64(g.Bits) - 2; count > room {
		count = room
	}
	if count > 0x0ffffff4 {
		return fail("number of clusters", bpbTotal32, "at most 268435444", count)
	}
	g.Clusters = uint32(count)
	if g.Bits == 32 && !g.valid(g.Root) {
		return fail("cluster of the root folder", bpbRoot, fmt.Sprintf("2 to %d", g.Clusters+1), g.Root)
	}
	labelAt := 43
	if g.Bits == 32 {
		labelAt = 71
		if g.Info >= g.Reserved {
			g.Info = 0
		}
		if g.Backup >= g.Reserved {
			g.Backup = 0
		}
	}
	g.Label = shortName(b[labelAt:labelAt+11], false)
	return g, nil
}

// A Volume is a FAT file system that is read.
type Volume struct {
	Geometry
	// FromBackup says that the first boot sector is damaged and the second
	// was used.
	FromBackup error

	dev   io.ReaderAt
	table []byte // the copy that is gone by
}

// Open reads the boot sector, or the second one if the first is damaged, and
// the first copy of the table. Nothing needs to be mounted.
func Open(dev io.ReaderAt) (*Volume, error) {
	b := make([]byte, 512)
	if _, err := dev.ReadAt(b, 0); err != nil {
		return nil, fmt.Errorf("fat: read the boot sector: %w", err)
	}
	v := &Volume{dev: dev}
	var err error
	if v.Geometry, err = parseBoot(b, 0); err != nil {
		if _, failed := dev.ReadAt(b, backupBoot*sectorSize); failed != nil {
			return nil, err
		}
		second, failed := parseBoot(b, backupBoot)
		if failed != nil || second.Bits != 32 {
			return nil, err
		}
		v.Geometry, v.FromBackup = second, err
	}
	v.table, err = v.readTable(0)
	return v, err
}

// TablesAgree reports whether all copies of the allocation table are alike. Where
// they are not, one of them is damaged, and nothing is to be written before the
// volume is mended: it could be the good one that is lost.
func (v *Volume) TablesAgree() (bool, error) {
	first, err := v.readTable(0)
	if err != nil {
		return false, err
	}
	for i := 1; i < v.Tables; i++ {
		other, err := v.readTable(i)
		if err != nil || !bytes.Equal(first, other) {
			return false, err
		}
	}
	return true, nil
}

func (v *Volume) readTable(copy int) ([]byte, error) {
	raw := make([]byte, v.TableSize*v.Sector)
	if _, err := v.dev.ReadAt(raw, v.tableAt(copy)); err != nil && err != io.EOF {
		return nil, fmt.Errorf("fat: read table %d: %w", copy+1, err)
	}
	return raw, nil
}

// entry is what the table says of a cluster.
func (v *Volume) entry(c uint32) uint32 { return getEntry(v.table, v.Bits, c) }

func getEntry(table []byte, bits int, c uint32) uint32 {
	le := binary.LittleEndian
	switch bits {
	case 12:
		pair := le.Uint16(table[c*3/2:])
		if c%2 == 1 {
			return uint32(pair >> 4)
		}
		return uint32(pair & 0xfff)
	case 16:
		return uint32(le.Uint16(table[c*2:]))
	}
	return le.Uint32(table[c*4:]) & 0x0fffffff
}

func putTableEntry(table []byte, bits int, c, value uint32) {
	le := binary.LittleEndian
	switch bits {
	case 12:
		pair := le.Uint16(table[c*3/2:])
		if c%2 == 1 {
			pair = pair&0x000f | uint16(value<<4)
		} else {
			pair = pair&0xf000 | uint16(value&0xfff)
		}
		le.PutUint16(table[c*3/2:], pair)
	case 16:
		le.PutUint16(table[c*2:], uint16(value))
	default:
		le.PutUint32(table[c*4:], le.Uint32(table[c*4:])&0xf0000000|value&0x0fffffff)
	}
}

// chain lists the clusters from c on, up to most of them. fault says why it
// could not be followed to an end: it loops, or leaves the volume.
func (v *Volume) chain(c uint32, most int64) (list []uint32, fault string) {
	seen := map[uint32]bool{}
	for v.valid(c) {
		if seen[c] {
			return list, "loops"
		}
		if int64(len(list)) >= most {
			return list, ""
		}
		seen[c] = true
		list = append(list, c)
		next := v.entry(c)
		if next >= v.end() {
			return list, ""
		}
		if next == 0 {
			return list, "runs into a free cluster"
		}
		if next == v.bad() {
			return list, "runs into a cluster that is marked bad"
		}
		c = next
	}
	return list, fmt.Sprintf("leaves the volume at cluster %d", c)
}
