package cli

import (
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
)

// A sanitizingWriter lets text, and the colours that we give it, through to a terminal. Logs, disks and bags can hold
// any bytes, and a terminal obeys what it is sent: all other control characters become U+FFFD, what turns the direction
// of writing, and colours that are not ours. A piece that is written must be whole.
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
		switch colour, length := colourAt(s); {
		case length > 0:
			n = length
			out.WriteString(colour)
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
	return r == utf8.RuneError || unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
}

// ours marks the colours that we give ourselves: a rendition that no terminal has, another one in each run, so that
// nothing that is read can hold it.
var ours = text.Color(1000 + rand.IntN(1_000_000_000))

// colourAt is the sequence at the start of s that selects a graphic rendition (ECMA-48, section 8.3.117), as it is sent
// to a terminal, and its length in s; 0 if none of ours stands there.
func colourAt(s string) (colour string, length int) {
	rest, ok := strings.CutPrefix(s, "\x1b[")
	if !ok {
		return "", 0
	}
	end := strings.TrimLeft(rest, "0123456789;")
	if !strings.HasPrefix(end, "m") {
		return "", 0
	}
	length = len(s) - len(end) + 1
	codes := strings.Split(rest[:len(rest)-len(end)], ";")
	mine := slices.DeleteFunc(slices.Clone(codes), func(c string) bool { return c == strconv.Itoa(int(ours)) })
	if len(mine) == len(codes) && !slices.Equal(codes, []string{"0"}) {
		return "", 0
	}
	return "\x1b[" + strings.Join(mine, ";") + "m", length
}
