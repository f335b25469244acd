package grub

import (
	"bytes"
	"encoding/binary"
)

// What stands behind GRUB's modules (grub/kernel.h): a head of the letters "mimg", the place of
// the objects and the size of all, in words of 32 or 64 bits; then objects, each with its type
// and size before it.
const (
	moduleMark   = "mimg"
	objectHead   = 8
	objectModule = 0
	objectConfig = 2
	objectPrefix = 3
)

// A Carried is what GRUB was given when it was put together.
type Carried struct {
	Config string // the commands it runs first
	Prefix string // where its files are
	// Modules are the objects that are programs of their own, padded.
	Modules [][]byte
}

// Carries reads the objects that an unpacked image carries. Words are of so many bytes: 4 on
// a PC with the older firmware, 8 in a program for UEFI. It reports whether there are any.
func Carries(raw []byte, word int) (c Carried, ok bool) {
	le := binary.LittleEndian
	number := func(at int) int {
		if word == 8 {
			return int(min(le.Uint64(raw[at:]), 1<<40))
		}
		return int(le.Uint32(raw[at:]))
	}
	head := 3 * word
	for from := 0; ; {
		n := bytes.Index(raw[from:], []byte(moduleMark))
		if n < 0 {
			return c, false
		}
		at := from + n
		if from = at + len(moduleMark); at+head > len(raw) {
			return c, false
		}
		offset, size := number(at+word), number(at+2*word)
		if offset < head || offset > size || size > len(raw)-at {
			continue // the letters alone
		}
		for o := at + offset; o+objectHead <= at+size; {
			kind, length := le.Uint32(raw[o:]), int(le.Uint32(raw[o+4:]))
			if length < objectHead || o+length > at+size {
				break
			}
			body := string(bytes.TrimRight(raw[o+objectHead:o+length], "\x00"))
			switch kind {
			case objectConfig:
				c.Config = body
			case objectPrefix:
				c.Prefix = body
			case objectModule:
				c.Modules = append(c.Modules, raw[o+objectHead:o+length])
			}
			o += length
		}
		return c, true
	}
}
