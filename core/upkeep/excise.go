package upkeep

import (
	"bufio"
	"context"
	"fmt"
	"io"
)

// maxPiece bounds one operation of a worklist, in bytes.
const maxPiece = 1 << 20

// A Cut says what Excise left out.
type Cut struct {
	Pieces int   // in all
	Out    int   // left out
	Bytes  int64 // of those
}

// Excise copies a worklist from in to out, piece by piece, and leaves out those
// for which drop says so. Everything else is the same, byte for byte; memory
// does not depend on the size. split cuts the list into pieces that joined are
// the whole again.
func Excise(ctx context.Context, in io.Reader, out io.Writer, split bufio.SplitFunc, drop func(piece []byte) bool) (cut Cut, err error) {
	const chunk = 1 << 20
	pieces := bufio.NewScanner(in)
	pieces.Buffer(make([]byte, chunk), maxPiece+chunk)
	pieces.Split(split)
	w := bufio.NewWriterSize(out, chunk)
	for pieces.Scan() {
		if cut.Pieces%4096 == 0 && ctx.Err() != nil {
			return cut, ctx.Err()
		}
		cut.Pieces++
		piece := pieces.Bytes()
		if drop(piece) {
			cut.Out++
			cut.Bytes += int64(len(piece))
			continue
		}
		if _, err := w.Write(piece); err != nil {
			return cut, fmt.Errorf("excise: %w", err)
		}
	}
	if err := pieces.Err(); err != nil {
		return cut, fmt.Errorf("excise: after %d pieces: %w", cut.Pieces, err)
	}
	return cut, w.Flush()
}
