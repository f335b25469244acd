package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
)

// chunk is how much of a list is held at once, in bytes, and maxPiece bounds
// one operation.
const (
	chunk    = 1 << 20
	maxPiece = 16 << 20
)

// A Finder finds in data the next stretch that is to go, from one byte up to
// another. When it finds none, both are -1, and safe says up to where data
// holds nothing that is to go, whatever follows it.
type Finder func(data []byte, atEOF bool) (from, to, safe int)

// A Cut says what Excise left out.
type Cut struct {
	Out   int   `json:"out"`   // pieces
	Bytes int64 `json:"bytes"` // of those
}

// Excise copies a worklist from in to out without the stretches that find
// finds. Everything else is the same, byte for byte; memory does not depend on
// the size.
func Excise(ctx context.Context, in io.Reader, out io.Writer, find Finder) (cut Cut, err error) {
	buf := make([]byte, 0, 2*chunk)
	for atEOF := false; ; {
		if err := ctx.Err(); err != nil {
			return cut, err
		}
		if !atEOF {
			if len(buf) > maxPiece {
				return cut, fmt.Errorf("excise: an operation is larger than %d bytes", maxPiece)
			}
			if cap(buf)-len(buf) < chunk {
				buf = append(make([]byte, 0, 2*cap(buf)), buf...)
			}
			n, err := io.ReadFull(in, buf[len(buf):len(buf)+chunk])
			buf = buf[:len(buf)+n]
			atEOF = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
			if err != nil && !atEOF {
				return cut, fmt.Errorf("excise: %w", err)
			}
		}
		rest := buf
		for {
			from, to, safe := find(rest, atEOF)
			if from < 0 {
				from, to = safe, safe
			} else {
				cut.Out++
				cut.Bytes += int64(to - from)
			}
			if _, err := out.Write(rest[:from]); err != nil {
				return cut, fmt.Errorf("excise: %w", err)
			}
			rest = rest[to:]
			if from == to {
				break
			}
		}
		if atEOF {
			return cut, nil
		}
		buf = buf[:copy(buf, rest)]
	}
}
