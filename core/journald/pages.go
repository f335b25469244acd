package journald

import (
	"errors"
	"io"
)

// Sizes of what is kept of a file, in bytes: entries lie one behind the other, the fields that they
// share are spread all over.
const (
	pageSize  = 64 << 10
	mostPages = 192
)

// pages read a file through those of its pages that were used last.
type pages struct {
	r    io.ReaderAt
	size int64
	kept map[int64][]byte
	ring []int64
	next int
}

// page is one page; it stays as it is until mostPages others were read.
func (p *pages) page(n int64) ([]byte, error) {
	if b, ok := p.kept[n]; ok {
		return b, nil
	}
	var b []byte
	if len(p.ring) < mostPages {
		b = make([]byte, pageSize)
		p.ring = append(p.ring, n)
	} else {
		old := p.ring[p.next]
		b = p.kept[old][:pageSize]
		delete(p.kept, old)
		p.ring[p.next] = n
		p.next = (p.next + 1) % mostPages
	}
	got, err := p.r.ReadAt(b, n*pageSize)
	if err != nil && !errors.Is(err, io.EOF) {
		clear(b[got:]) // what cannot be read is damaged, and the next object is looked for
	}
	if p.kept == nil {
		p.kept = map[int64][]byte{}
	}
	p.kept[n] = b[:got]
	return b[:got], nil
}

// read returns n bytes at a place. They are good until the next read.
func (p *pages) read(at int64, n int) ([]byte, error) {
	if at < 0 || n < 0 || at+int64(n) > p.size {
		return nil, io.ErrUnexpectedEOF
	}
	first, off := at/pageSize, int(at%pageSize)
	b, err := p.page(first)
	if err != nil {
		return nil, err
	}
	if off+n <= len(b) {
		return b[off : off+n], nil
	}
	out := make([]byte, 0, n)
	for len(out) < n {
		b, err := p.page(first)
		if err != nil {
			return nil, err
		}
		if off >= len(b) {
			return nil, io.ErrUnexpectedEOF
		}
		out = append(out, b[off:min(len(b), off+n-len(out))]...)
		first, off = first+1, 0
	}
	return out, nil
}
