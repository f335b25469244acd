package debian

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// A paragraph is one stanza of a control file (Debian Policy 5.1), its field
// names in lower case. Continuation lines are joined with newlines.
type paragraph map[string]string

// maxField bounds one field, in bytes.
const maxField = 8 << 20

// eachParagraph reads stanzas and passes those fields of each that are wanted.
// The map is used again for the next one.
func eachParagraph(r io.Reader, wanted []string, give func(paragraph) error) error {
	in := bufio.NewReaderSize(r, 64<<10)
	p, last, number := paragraph{}, "", 0
	flush := func() error {
		if len(p) == 0 {
			return nil
		}
		err := give(p)
		clear(p)
		last = ""
		return err
	}
	for {
		line, err := readShort(in)
		number++
		switch {
		case errors.Is(err, io.EOF) && len(line) == 0:
			return flush()
		case err != nil && !errors.Is(err, io.EOF):
			return err
		}
		switch trimmed := bytes.TrimSpace(line); {
		case len(trimmed) == 0:
			if err := flush(); err != nil {
				return err
			}
		case line[0] == ' ' || line[0] == '\t':
			if last != "" && len(p[last]) < maxField {
				p[last] += "\n" + string(trimmed)
			}
		case line[0] == '#':
		default:
			name, value, ok := bytes.Cut(trimmed, []byte(":"))
			if !ok {
				return fmt.Errorf("line %d: %.60q is no field of a control file", number, line)
			}
			last = ""
			for _, field := range wanted {
				if len(field) == len(name) && strings.EqualFold(field, string(name)) {
					last = field
					p[last] = string(bytes.TrimSpace(value))
				}
			}
		}
	}
}

// readShort reads a line and keeps at most maxField of it. What it returns is
// valid until the next call.
func readShort(in *bufio.Reader) ([]byte, error) {
	line, err := in.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, err
	}
	b := bytes.Clone(line)
	for {
		piece, err := in.ReadSlice('\n')
		b = append(b, piece[:min(len(piece), maxField-len(b))]...)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return b, err
		}
	}
}

// kib reads a size that is given in KiB, as Installed-Size is.
func (p paragraph) kib(name string) int64 { return p.number(name) << 10 }

func (p paragraph) number(name string) int64 {
	n, err := strconv.ParseInt(p[name], 10, 48)
	if err != nil || n < 0 {
		return 0
	}
	return n
}
