package cli

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A sanitizingWriter lets text, and the colours that we give it, through to a
// terminal. Logs, disks and bags can hold any bytes, and a terminal obeys what
// it is sent: all other control characters become U+FFFD. A piece that is
// written must be whole.
type sanitizingWriter struct{ w io.Writer }

func (c sanitizingWriter) Write(p []byte) (int, error) {
	if _, err := io.WriteString(c.w, sanitize(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

func sanitize(s string) string {
	if !strings.ContainsFunc(s, isControl) {
		return s
	}
	var out strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch colour := colourAt(s); {
		case colour > 0:
			n = colour
			out.WriteString(s[:n])
		case isControl(r):
			out.WriteRune(utf8.RuneError)
		default:
			out.WriteString(s[:n])
		}
		s = s[n:]
	}
	return out.String()
}

// isControl reports whether a terminal acts on r instead of showing it.
func isControl(r rune) bool {
	return r == utf8.RuneError || unicode.IsControl(r) && r != '\n' && r != '\t'
}

// colourAt is the length of the sequence at the start of s that selects a
// graphic rendition (ECMA-48, section 8.3.117), or 0.
func colourAt(s string) int {
	rest, ok := strings.CutPrefix(s, "\x1b[")
	if !ok {
		return 0
	}
	end := strings.TrimLeft(rest, "0123456789;")
	if !strings.HasPrefix(end, "m") {
		return 0
	}
	return len(s) - len(end) + 1
}
