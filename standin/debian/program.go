package debian

import (
	"encoding/binary"
	"fmt"
	"strings"
)

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

// Kernel is size bytes that a boot loader takes for a kernel for x86: the header of the Linux
// boot protocol, and nothing that runs.
func Kernel(size int) []byte {
	le := binary.LittleEndian
	raw := make([]byte, max(size, 0x400))
	raw[0x1f1] = 1                                         // sectors of set-up code
	le.PutUint32(raw[0x1f4:], uint32((len(raw)-2*512)/16)) // what is behind it, in units of 16 bytes
	le.PutUint16(raw[0x1fe:], 0xaa55)
	copy(raw[0x202:], "HdrS")
	raw[len(raw)-1] = 1
	return raw
}

// EarlyImage is an archive with one file in it, in the form of early-boot images.
func EarlyImage(content []byte) []byte {
	raw := cpioEntry(nil, "main", content)
	return append(cpioEntry(raw, "TRAILER!!!", nil), make([]byte, 512)...)
}

// cpioEntry adds a file to an archive in the new ASCII form of cpio.
func cpioEntry(to []byte, name string, content []byte) []byte {
	const zeros = "00000000"
	head := "070701" + strings.Repeat(zeros, 6) + fmt.Sprintf("%08X", len(content)) + strings.Repeat(zeros, 4) +
		fmt.Sprintf("%08X", len(name)+1) + zeros + name + "\x00"
	to = append(to, head...)
	for len(to)%4 != 0 {
		to = append(to, 0)
	}
	to = append(to, content...)
	for len(to)%4 != 0 {
		to = append(to, 0)
	}
	return to
}
