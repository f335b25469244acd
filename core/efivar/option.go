package efivar

import (
	"fmt"
	"strings"
	"unicode/utf16"
)

// A Kind is what a boot entry leads to.
type Kind string

// The kinds.
const (
	File     Kind = "file"     // a program on a partition
	Device   Kind = "device"   // a whole device: firmware looks for the fallback program on it
	Network  Kind = "network"  // a program from a server
	Firmware Kind = "firmware" // a program of the firmware's own, such as its set-up
	Unknown  Kind = "unknown"
)

// An Entry is a Boot#### variable.
type Entry struct {
	ID        string // four hexadecimal digits
	Title     string
	Active    bool // firmware starts it in its turn
	Kind      Kind
	Partition string // its GUID, or the disk's signature and the partition's number; empty for none
	Path      string // of the program, with slashes and none before it; empty for the fallback
	raw       []byte
}

// parseEntry reads an EFI_LOAD_OPTION.
func parseEntry(id string, raw []byte) (e Entry, err error) {
	bad := func(what, want string, got any) error {
		return &FormatError{In: "uefi", What: "Boot" + id + ": " + what, Want: want, Got: fmt.Sprint(got)}
	}
	if len(raw) < optionTitle+2 {
		return e, bad("length", "8 bytes or more", len(raw))
	}
	title, rest, ok := cutText(raw[optionTitle:])
	paths := int(le.Uint16(raw[optionPaths:]))
	switch {
	case !ok:
		return e, bad("title", "one that ends", "one that does not")
	case paths > len(rest):
		return e, bad("device paths", fmt.Sprintf("%d bytes at the most", len(rest)), paths)
	}
	flags := le.Uint32(raw)
	e = Entry{ID: id, Title: title, Active: flags&flagActive != 0 && flags&flagCategory == 0, Kind: Unknown, raw: raw}
	return e, e.follow(rest[:paths])
}

// cutText reads a text of 16-bit units up to its end.
func cutText(b []byte) (text string, rest []byte, ok bool) {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		u := le.Uint16(b)
		if u == 0 {
			return string(utf16.Decode(units)), b[2:], true
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units)), nil, false
}

// follow reads the first of the device paths: where the entry leads.
func (e *Entry) follow(path []byte) error {
	for len(path) >= 4 {
		kind, sub, length := path[0], path[1], int(le.Uint16(path[2:]))
		if length < 4 || length > len(path) {
			return &FormatError{
				In: "uefi", What: "Boot" + e.ID + ": node of a device path", Want: fmt.Sprintf("4 to %d bytes", len(path)),
				Got: fmt.Sprint(length),
			}
		}
		node := path[:length]
		path = path[length:]
		switch {
		case kind == nodeEnd:
			return nil
		case kind == nodeMessaging && (sub == 11 || sub == 12 || sub == 13 || sub == 24): // MAC, IPv4, IPv6, URI
			e.Kind = Network
		case kind == nodeMedia && sub == mediaDisk && length >= diskBytes:
			e.Kind, e.Partition = File, partitionOf(node)
		case kind == nodeMedia && (sub == mediaFirmware || sub == mediaVolume):
			e.Kind = Firmware
		case kind == nodeMedia && sub == mediaFile:
			text, _, _ := cutText(append(append([]byte{}, node[4:]...), 0, 0))
			e.Path = strings.TrimPrefix(strings.ReplaceAll(e.Path+"/"+text, `\`, "/"), "/")
			for strings.Contains(e.Path, "//") {
				e.Path = strings.ReplaceAll(e.Path, "//", "/")
			}
			e.Path = strings.TrimPrefix(e.Path, "/")
		case e.Kind == Unknown:
			e.Kind = Device
		}
	}
	return nil
}

// partitionOf is the name of the partition in a node: its GUID as tables write it, or "SIGNATURE-NUMBER" of an MBR.
func partitionOf(node []byte) string {
	s := node[diskSignature : diskSignature+16]
	switch node[diskKind] {
	case byGUID:
		return guidText([16]byte(s))
	case byMBR:
		return fmt.Sprintf("%08x-%02d", le.Uint32(s), le.Uint32(node[diskNumber:]))
	}
	return ""
}

func guidText(b [16]byte) string {
	return fmt.Sprintf("%08X-%04X-%04X-%X-%X", le.Uint32(b[:]), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:])
}

// A Target is what a new entry is to start.
type Target struct {
	Title         string
	Number        int // of the partition
	First, Length uint64
	GUID          [16]byte // of the partition, as the table has its bytes
	Path          string   // of the program, with slashes
}

// option is the EFI_LOAD_OPTION of a target.
func (t Target) option() []byte {
	disk := make([]byte, diskBytes)
	disk[0], disk[1] = nodeMedia, mediaDisk
	le.PutUint16(disk[2:], diskBytes)
	le.PutUint32(disk[diskNumber:], uint32(t.Number))
	le.PutUint64(disk[diskStart:], t.First)
	le.PutUint64(disk[diskLength:], t.Length)
	copy(disk[diskSignature:], t.GUID[:])
	disk[diskStyle], disk[diskKind] = 2, byGUID
	text := textOf(`\` + strings.ReplaceAll(t.Path, "/", `\`))
	file := append([]byte{nodeMedia, mediaFile, 0, 0}, text...)
	le.PutUint16(file[2:], uint16(len(file)))
	paths := append(append(disk, file...), nodeEnd, 0xff, 4, 0)
	raw := make([]byte, optionTitle)
	le.PutUint32(raw, flagActive)
	le.PutUint16(raw[optionPaths:], uint16(len(paths)))
	return append(append(raw, textOf(t.Title)...), paths...)
}

func textOf(s string) (b []byte) {
	for _, u := range utf16.Encode([]rune(s)) {
		b = le.AppendUint16(b, u)
	}
	return append(b, 0, 0)
}
