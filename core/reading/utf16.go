package reading

import (
	"encoding/binary"
	"io"
	"slices"
	"unicode/utf16"
	"unicode/utf8"
)

// utf16Reader decodes UTF-16 (RFC 2781) into UTF-8. Logs are nearly all ASCII,
// so that is done without a detour. Half a pair of surrogates, or half a unit
// at the end, becomes U+FFFD.
type utf16Reader struct {
	r      io.Reader
	little bool
	raw    []byte // read and not decoded yet; less than a unit and a pair
	out    []byte // decoded and not handed out yet
	buf    [64 << 10]byte
	err    error
}

func newUTF16Reader(r io.Reader, little bool) *utf16Reader {
	return &utf16Reader{r: r, little: little}
}

func (u *utf16Reader) Read(p []byte) (int, error) {
	for len(u.out) == 0 {
		if u.err != nil {
			return 0, u.err
		}
		left := copy(u.buf[:], u.raw)
		var n int
		n, u.err = u.r.Read(u.buf[left:])
		u.decode(u.buf[:left+n], u.err != nil)
	}
	n := copy(p, u.out)
	u.out = u.out[n:]
	return n, nil
}

func (u *utf16Reader) unit(b []byte) uint16 {
	if u.little {
		return uint16(b[0]) | uint16(b[1])<<8
	}
	return uint16(b[1]) | uint16(b[0])<<8
}

// ascii appends the ASCII text that b begins with, eight bytes at a time, and
// returns what is left of b.
func (u *utf16Reader) ascii(out, b []byte) (text, rest []byte) {
	out = slices.Grow(out, len(b)/2)
	for len(b) >= 8 {
		units := binary.LittleEndian.Uint64(b)
		if !u.little {
			units = units>>8&0x00ff00ff00ff00ff | units<<8&0xff00ff00ff00ff00
		}
		if units&0xff80ff80ff80ff80 != 0 {
			break
		}
		units |= units >> 8
		out = binary.LittleEndian.AppendUint32(out, uint32(units&0xffff|units>>16&0xffff0000))
		b = b[8:]
	}
	return out, b
}

// decode turns whole units into text and keeps the rest for the next time.
func (u *utf16Reader) decode(b []byte, last bool) {
	out := u.out[:0]
	for len(b) >= 2 {
		if out, b = u.ascii(out, b); len(b) < 2 {
			break
		}
		c := u.unit(b)
		switch {
		case c < utf8.RuneSelf:
			out = append(out, byte(c))
		case !utf16.IsSurrogate(rune(c)):
			if c != 0xfeff { // the mark of the order of bytes
				out = utf8.AppendRune(out, rune(c))
			}
		case len(b) >= 4:
			r := utf16.DecodeRune(rune(c), rune(u.unit(b[2:])))
			out = utf8.AppendRune(out, r)
			if r != utf8.RuneError {
				b = b[2:]
			}
		case !last:
			u.out, u.raw = out, append(u.raw[:0], b...)
			return
		default:
			out = utf8.AppendRune(out, utf8.RuneError)
		}
		b = b[2:]
	}
	if last && len(b) > 0 {
		out, b = utf8.AppendRune(out, utf8.RuneError), nil
	}
	u.out, u.raw = out, append(u.raw[:0], b...)
}
