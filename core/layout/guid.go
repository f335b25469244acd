package layout

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
)

// A GUID is in the byte order of the disk: the first three fields are
// little-endian (UEFI Specification 2.10, appendix A). The zero value marks
// an unused entry.
type GUID [16]byte

// ParseGUID reads the form 8-4-4-4-12, in either case.
func ParseGUID(s string) (GUID, error) {
	var g GUID
	raw, err := hex.DecodeString(strings.ReplaceAll(s, "-", ""))
	if err != nil || len(raw) != 16 || len(s) != 36 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
		return g, fmt.Errorf("layout: %q is not a GUID: want 8-4-4-4-12 hexadecimal digits", s)
	}
	binary.LittleEndian.PutUint32(g[0:], binary.BigEndian.Uint32(raw[0:]))
	binary.LittleEndian.PutUint16(g[4:], binary.BigEndian.Uint16(raw[4:]))
	binary.LittleEndian.PutUint16(g[6:], binary.BigEndian.Uint16(raw[6:]))
	copy(g[8:], raw[8:])
	return g, nil
}

// MustParseGUID is ParseGUID for constants.
func MustParseGUID(s string) GUID {
	g, err := ParseGUID(s)
	if err != nil {
		panic(err)
	}
	return g
}

// String gives the form 8-4-4-4-12 in lower case.
func (g GUID) String() string {
	return fmt.Sprintf(
		"%08x-%04x-%04x-%x-%x",
		binary.LittleEndian.Uint32(g[0:]), binary.LittleEndian.Uint16(g[4:]),
		binary.LittleEndian.Uint16(g[6:]), g[8:10], g[10:],
	)
}

// IsZero reports whether g marks an unused entry.
func (g GUID) IsZero() bool { return g == GUID{} }

// MarshalText gives the form of String.
func (g GUID) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads the form of ParseGUID.
func (g *GUID) UnmarshalText(text []byte) (err error) {
	*g, err = ParseGUID(string(text))
	return err
}

// The partition types that matter to us by name.
var (
	TypeESP       = MustParseGUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
	TypeBIOSBoot  = MustParseGUID("21686148-6449-6e6f-744e-656564454649")
	TypeLinux     = MustParseGUID("0fc63daf-8483-4772-8e79-3d69d8477de4")
	TypeLinuxRoot = MustParseGUID("4f68bce3-e8cd-4db1-96e7-fbcaf984b709") // x86-64
	TypeXBootLdr  = MustParseGUID("bc13c2ff-59e6-4262-a352-b275fd6f7172")
	TypeSwap      = MustParseGUID("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f")
	TypeHome      = MustParseGUID("933ac7e1-2eb4-4f13-b844-0e14e2aef915")
	TypeLVM       = MustParseGUID("e6d6d379-f507-44c2-a23c-238f2a3df928")
	TypeRAID      = MustParseGUID("a19d880f-05fc-4d3b-a006-743f0f84911e")
	TypeBasicData = MustParseGUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
)

var typeNames = map[GUID]string{
	TypeESP:       "EFI system",
	TypeBIOSBoot:  "BIOS boot",
	TypeLinux:     "Linux data",
	TypeLinuxRoot: "Linux root (x86-64)",
	TypeXBootLdr:  "boot loader (extended)",
	TypeSwap:      "Linux swap",
	TypeHome:      "Linux home",
	TypeLVM:       "LVM physical volume",
	TypeRAID:      "RAID member",
	TypeBasicData: "basic data",
}

// TypeName is the trade's name of a partition type, or its GUID.
func TypeName(g GUID) string {
	if name, ok := typeNames[g]; ok {
		return name
	}
	return g.String()
}

// TypeByName is the partition type with that trade's name, or that GUID.
func TypeByName(name string) (GUID, bool) {
	for g, known := range typeNames {
		if known == name {
			return g, true
		}
	}
	g, err := ParseGUID(name)
	return g, err == nil
}

// TypeNames lists the names that TypeByName knows.
func TypeNames() []string { return slices.Sorted(maps.Values(typeNames)) }

// RandomGUID takes a version 4 GUID (RFC 9562) from a source of randomness
// that never fails, such as crypto/rand.Reader.
func RandomGUID(random io.Reader) (g GUID) {
	_, _ = io.ReadFull(random, g[:])
	g[7] = g[7]&0x0f | 0x40 // the version stands in the third group, low byte first
	g[8] = g[8]&0x3f | 0x80
	return g
}
