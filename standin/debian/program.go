package debian

import "encoding/binary"

// Program is the least of an EFI program for x86-64 that GRUB is put together as: headers,
// one section, and the commands that it carries, if any. It runs nowhere; by its bytes it
// is a GRUB.
func Program(commands string) []byte {
	le := binary.LittleEndian
	const header, optional = 0x80, 0xf0
	raw := make([]byte, 0x400)
	copy(raw, "MZ")
	le.PutUint32(raw[0x3c:], header)
	copy(raw[header:], "PE\x00\x00")
	le.PutUint16(raw[header+4:], 0x8664)
	le.PutUint16(raw[header+6:], 1) // sections
	le.PutUint16(raw[header+20:], optional)
	section := raw[header+24+optional:]
	copy(section, "mods")
	objects := make([]byte, 24)
	copy(objects, "mimg")
	le.PutUint64(objects[8:], 24)
	for _, o := range []struct {
		kind uint32
		body string
	}{{2, commands}, {3, "/EFI/debian"}} {
		if o.body == "" {
			continue
		}
		body := o.body + "\x00"
		objects = le.AppendUint32(objects, o.kind)
		objects = le.AppendUint32(objects, uint32(8+len(body)))
		objects = append(objects, body...)
	}
	le.PutUint64(objects[16:], uint64(len(objects)))
	le.PutUint32(section[16:], uint32(len(objects)))
	le.PutUint32(section[20:], uint32(len(raw)))
	return append(raw, objects...)
}
