package reading

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
)

// headSize is how much of a log is looked at to tell its dialect, in bytes.
const headSize = 16 << 10

// OpenPlain opens a log and takes its compression away, which is recognised
// by its first bytes and not by its name.
func OpenPlain(src Source) (io.ReadCloser, error) {
	raw, err := src.Open()
	if err != nil {
		return nil, err
	}
	head, in, err := peekHead(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.Name, err)
	}
	var plain io.Reader = in
	in = bufio.NewReaderSize(in, 64<<10) // some of the decoders take single bytes
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		plain, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, []byte("BZh")):
		plain = bzip2.NewReader(in)
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		plain, err = xz.NewReader(in)
	case bytes.HasPrefix(head, []byte{0x04, 0x22, 0x4d, 0x18}):
		plain = lz4.NewReader(in)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(16<<20)); err == nil {
			plain = z.IOReadCloser()
		}
	}
	if err == nil {
		plain, err = asUTF8(plain)
	}
	if err != nil {
		_ = raw.Close()
		return nil, fmt.Errorf("%s: unpack: %w", src.Name, err)
	}
	return struct {
		io.Reader
		io.Closer
	}{plain, raw}, nil
}

// asUTF8 decodes UTF-16 of either order, with a mark at the start or known by
// the zeros in every other byte, and takes a mark of UTF-8 away. Offsets of
// events then count bytes of the decoded text.
func asUTF8(in io.Reader) (io.Reader, error) {
	head, in, err := peekHead(in)
	if err != nil {
		return nil, err
	}
	const little, big = true, false
	zeros := [2]int{}
	for i, b := range head {
		if b == 0 {
			zeros[i%2]++
		}
	}
	half := len(head) / 2
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return newUTF16Reader(in, little), nil
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return newUTF16Reader(in, big), nil
	case bytes.HasPrefix(head, []byte{0xef, 0xbb, 0xbf}):
		_, err := io.CopyN(io.Discard, in, 3)
		return in, err
	case half > 8 && zeros[1] > half*3/4 && zeros[0] < half/8:
		return newUTF16Reader(in, little), nil
	case half > 8 && zeros[0] > half*3/4 && zeros[1] < half/8:
		return newUTF16Reader(in, big), nil
	}
	return in, nil
}

// peekHead returns the first bytes of r, and a reader that still gives all,
// with the error, if there is one, in its place.
func peekHead(r io.Reader) ([]byte, io.Reader, error) {
	head := make([]byte, headSize)
	n, err := fill(r, head)
	rest := r
	if err != nil {
		rest = failing{err}
		if n > 0 || err == io.EOF {
			err = nil
		}
	}
	return head[:n], io.MultiReader(bytes.NewReader(head[:n]), rest), err
}

// fill reads until p is full or r ends. Unlike io.ReadFull it keeps the error
// of a stream that was cut off apart from the end of a short one.
func fill(r io.Reader, p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		var m int
		m, err = r.Read(p[n:])
		n += m
	}
	return n, err
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// meter counts what is read.
type meter struct {
	r        io.Reader
	n        int64
	progress Progress
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	m.n += int64(n)
	if m.progress != nil {
		m.progress(m.n)
	}
	return n, err
}
