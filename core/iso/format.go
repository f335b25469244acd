package iso

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"

	"diorthos/core/format"
)

// Sizes and places, in bytes or in sectors of 2048 bytes.
const (
	sector          = 2048
	firstDescriptor = 16 // sectors
	maxDescriptors  = 64
	recordHead      = 33
	maxFolder       = 16 << 20
	maxCatalogue    = 64 // entries
)

// A FormatError says which structure of an image is not what it should be.
type FormatError = format.Error

// A record is one entry of a folder (ECMA-119 section 9.1).
type record struct {
	name    string
	at      int64 // bytes
	size    int64
	folder  bool
	link    string // target of a symbolic link, Rock Ridge
	changed time.Time
}

// parseRecord reads a record; its length is 0 at the end of a sector.
func parseRecord(b []byte, joliet bool, skip int) (r record, length int) {
	if len(b) < recordHead+1 || b[0] == 0 || int(b[0]) > len(b) || int(b[0]) < recordHead+int(b[32]) {
		return r, 0
	}
	length = int(b[0])
	le := binary.LittleEndian
	r.at, r.size = int64(le.Uint32(b[2:]))*sector, int64(le.Uint32(b[10:]))
	r.folder = b[25]&2 != 0
	r.changed = time.Date(
		1900+int(b[18]),
		time.Month(b[19]), int(b[20]), int(b[21]), int(b[22]), int(b[23]), 0, time.FixedZone("", int(int8(b[24]))*900),
	).UTC()
	raw := b[recordHead : recordHead+int(b[32])]
	switch {
	case len(raw) == 1 && raw[0] == 0:
		r.name = "."
	case len(raw) == 1 && raw[0] == 1:
		r.name = ".."
	case joliet:
		r.name = fromUCS2(raw)
	default:
		r.name = strings.ToLower(strings.TrimSuffix(string(raw), ";1"))
		r.name = strings.TrimSuffix(r.name, ".")
		from := recordHead + int(b[32]) + (1-int(b[32])%2)%2 + skip
		if from < length {
			r.rockRidge(b[from:length])
		}
	}
	if joliet {
		r.name = strings.TrimSuffix(r.name, ";1")
	}
	return r, length
}

func fromUCS2(raw []byte) string {
	var units []uint16
	for i := 0; i+1 < len(raw); i += 2 {
		units = append(units, binary.BigEndian.Uint16(raw[i:]))
	}
	return string(utf16.Decode(units))
}

// rockRidge takes the name and the link of the system-use entries NM and SL.
func (r *record) rockRidge(b []byte) {
	var name, link strings.Builder
	for len(b) >= 4 && int(b[2]) >= 4 && int(b[2]) <= len(b) {
		body := b[4:b[2]]
		switch {
		case string(b[:2]) == "NM" && len(body) > 1 && body[0]&6 == 0:
			name.Write(body[1:])
		case string(b[:2]) == "SL" && len(body) > 1:
			linkParts(&link, body[1:])
		}
		b = b[b[2]:]
	}
	if name.Len() > 0 {
		r.name = name.String()
	}
	r.link = link.String()
}

func linkParts(link *strings.Builder, b []byte) {
	for len(b) >= 2 && int(b[1])+2 <= len(b) {
		if link.Len() > 0 && !strings.HasSuffix(link.String(), "/") {
			link.WriteByte('/')
		}
		switch {
		case b[0]&8 != 0:
			link.WriteByte('/')
		case b[0]&4 != 0:
			link.WriteString("..")
		case b[0]&2 != 0:
			link.WriteByte('.')
		default:
			link.Write(b[2 : 2+b[1]])
		}
		b = b[2+b[1]:]
	}
}

// A BootEntry is one thing on a disc that a firmware can start (El Torito,
// section 2).
type BootEntry struct {
	Platform string // bios, uefi, or the number of another
	Bootable bool
	LBA      uint32 // in sectors of 2048 bytes
	Sectors  uint16 // of 512 bytes, that a BIOS loads
}

var platforms = map[byte]string{0x00: "bios", 0xef: "uefi"}

// parseCatalogue reads a boot catalogue.
func parseCatalogue(b []byte, at int64) ([]BootEntry, error) {
	if len(b) < 64 || b[0] != 1 || b[30] != 0x55 || b[31] != 0xaa {
		return nil, &FormatError{
			In:     "iso",
			What:   "boot catalogue",
			Offset: at,
			Want:   "a validation entry",
			Got:    fmt.Sprintf("% x", b[:min(len(b), 4)]),
		}
	}
	sum := uint16(0)
	for i := 0; i < 32; i += 2 {
		sum += binary.LittleEndian.Uint16(b[i:])
	}
	if sum != 0 {
		return nil, &FormatError{In: "iso", What: "boot catalogue", Offset: at, Want: "a checksum of 0", Got: fmt.Sprint(sum)}
	}
	var list []BootEntry
	add := func(e []byte, platform byte) {
		name, ok := platforms[platform]
		if !ok {
			name = fmt.Sprintf("platform 0x%02x", platform)
		}
		list = append(list, BootEntry{
			Platform: name,
			Bootable: e[0] == 0x88,
			LBA:      binary.LittleEndian.Uint32(e[8:]),
			Sectors:  binary.LittleEndian.Uint16(e[6:]),
		})
	}
	add(b[32:64], b[1])
	for i := 64; i+32 <= len(b) && len(list) < maxCatalogue; {
		head := b[i : i+32]
		if head[0] != 0x90 && head[0] != 0x91 {
			break
		}
		count := int(binary.LittleEndian.Uint16(head[2:]))
		i += 32
		for k := 0; k < count && i+32 <= len(b) && len(list) < maxCatalogue; k++ {
			add(b[i:i+32], head[1])
			i += 32
		}
		if head[0] == 0x91 {
			break
		}
	}
	return list, nil
}
