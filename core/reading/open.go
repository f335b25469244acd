package reading

import (
	"bytes"
	"compress/bzip2"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// headSize is how much of a log is looked at to tell its dialect, in bytes.
const headSize = 16 << 10

// openPlain opens a log and takes its compression away, which is recognised
// by its first bytes and not by its name.
func openPlain(src Source) (io.ReadCloser, error) {
	raw, err := src.Open()
	if err != nil {
		return nil, err
	}
	head, in, err := peekHead(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.Name, err)
	}
	var plain io.Reader = in
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		plain, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, []byte("BZh")):
		plain = bzip2.NewReader(in)
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		plain, err = xz.NewReader(in)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(16<<20)); err == nil {
			plain = z.IOReadCloser()
		}
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

// peekHead returns the first bytes of r, and a reader that still gives all.
func peekHead(r io.Reader) ([]byte, io.Reader, error) {
	head := make([]byte, headSize)
	n, err := io.ReadFull(r, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return head[:n], io.MultiReader(bytes.NewReader(head[:n]), r), err
}

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
