package block

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
)

// Remains are what can still be read of a damaged journal. Every record carries a
// checksum of the one before it, so what lies behind the damage can be trusted too.
type Remains struct {
	file   *os.File
	name   string
	head   Head
	writes []noted
	lost   int // changes that cannot be read, at least
}

// Salvage reads what is left of the journal at path. Nothing is written to it.
func Salvage(path string) (*Remains, error) {
	file, err := OpenRegular(path, os.O_RDONLY)
	if err != nil {
		return nil, fmt.Errorf("open journal: %w", err)
	}
	r := &Remains{file: file, name: path}
	if err := r.read(); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return r, nil
}

// Head says what the journal is about.
func (r *Remains) Head() Head { return r.head }

// Known is how many changes can be read.
func (r *Remains) Known() int { return len(r.writes) }

// Lost is how many changes cannot be read, at least: without a seal, what was cut off at the
// end counts as one, for nothing tells how much it was.
func (r *Remains) Lost() int { return r.lost }

// Close closes the journal's file.
func (r *Remains) Close() error { return r.file.Close() }

func (r *Remains) read() error {
	magic := make([]byte, len(journalMagic))
	if _, err := r.file.ReadAt(magic, 0); err != nil || string(magic) != journalMagic {
		return fmt.Errorf("%s is not a journal: it begins with %q, want %q: %w", r.name, magic, journalMagic, ErrDamaged)
	}
	at, chain, chained := int64(len(magic)), uint32(0), true
	for {
		head := make([]byte, recordHead)
		if _, err := r.file.ReadAt(head, at); err != nil {
			break
		}
		length := int64(binary.LittleEndian.Uint32(head))
		if crc32.Checksum(head[:9], castagnoli) != binary.LittleEndian.Uint32(head[9:]) || length > maxRecord {
			next, ok := r.nextHead(at + 1)
			r.lost++
			if !ok {
				break
			}
			at, chained = next, false
			continue
		}
		record := make([]byte, recordHead+length)
		if _, err := r.file.ReadAt(record, at); err != nil {
			r.lost++
			break
		}
		stored := binary.LittleEndian.Uint32(head[5:])
		if chained && recordSum(chain, record) == stored {
			r.take(head[4], record[recordHead:], at+recordHead)
		} else {
			r.lost++
		}
		at, chain, chained = at+int64(len(record)), stored, true
	}
	if r.head.Action == "" {
		return fmt.Errorf(
			"journal %s: its first record, which says what disk it is about, cannot be read: %w",
			r.name,
			ErrDamaged,
		)
	}
	if s, err := readSeal(r.name); err == nil && s != nil {
		r.lost = max(0, s.Writes-len(r.writes)) // what else cannot be read are marks
	}
	return nil
}

// nextHead looks for the next place at which a record can begin.
func (r *Remains) nextHead(from int64) (int64, bool) {
	const window = 1 << 20
	buf := make([]byte, window+recordHead)
	for {
		n, err := r.file.ReadAt(buf, from)
		for i := 0; i+recordHead <= n && i < window; i++ {
			h := buf[i : i+recordHead]
			if h[4] >= kindWrite && h[4] <= kindKept && binary.LittleEndian.Uint32(h) <= maxRecord &&
				crc32.Checksum(h[:9], castagnoli) == binary.LittleEndian.Uint32(h[9:]) {
				return from + int64(i), true
			}
		}
		if errors.Is(err, io.EOF) || n < len(buf) {
			return 0, false
		}
		from += window
	}
}

func (r *Remains) take(kind byte, body []byte, at int64) {
	switch {
	case kind == kindHead && r.head.Action == "":
		if json.Unmarshal(body, &r.head) != nil {
			r.lost++
		}
	case kind == kindWrite && checkWrite(body):
		r.writes = append(r.writes, indexWrite(body, at))
	case kind == kindKept && checkKept(body):
		r.writes = append(r.writes, indexKept(body, at))
	}
}

// Back lists what would be written onto dev to bring back all that is known to have
// stood there, and counts the changes whose place holds something that the journal
// does not know: those are left as they are. Nothing is written.
func (r *Remains) Back(ctx context.Context, dev Device) (list []Write, strange int, err error) {
	if dev.Size() != r.head.Target.Size {
		return nil, 0, fmt.Errorf(
			"journal %s is about a disk of %d bytes, this one has %d: %w",
			r.name,
			r.head.Target.Size,
			dev.Size(),
			ErrNotThisDisk,
		)
	}
	draft := NewDraft(dev)
	for i := len(r.writes) - 1; i >= 0; i-- {
		if err := ctx.Err(); err != nil {
			return nil, 0, err
		}
		w := r.writes[i]
		now, before, after := make([]byte, w.length), make([]byte, w.length), make([]byte, w.length)
		if _, err := draft.ReadAt(now, w.off); err != nil {
			return nil, 0, fmt.Errorf("read %s at byte %d: %w", w.what, w.off, err)
		}
		if err := r.image(before, w.before); err != nil {
			return nil, 0, err
		}
		if !r.head.Keeps {
			if err := r.image(after, w.after); err != nil {
				return nil, 0, err
			}
		}
		switch {
		case bytes.Equal(now, before):
			continue
		case !r.head.Keeps && !bytes.Equal(now, after): // of what was kept nothing says how it was left
			strange++
			continue
		}
		if _, err := draft.WriteAt(before, w.off); err != nil {
			return nil, 0, err
		}
		list = append(list, Write{Off: w.off, Data: before, What: w.what + ", as it was"})
	}
	return list, strange, nil
}

func (r *Remains) image(into []byte, at int64) error {
	if at == nowhere {
		return nil
	}
	if _, err := r.file.ReadAt(into, at); err != nil {
		return fmt.Errorf("journal %s: %w", r.name, err)
	}
	return nil
}
