package journald

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"diorthos/core/format"
)

// FormatError says what of a file is not as it should be.
type FormatError = format.Error

// A File is one journal file.
type File struct {
	r       *pages
	compact bool
	start   int64 // of the first object
	end     int64
	fields  map[int64]string // what data objects hold, those used last
	held    int              // bytes of them
	zstd    *zstd.Decoder
	// Damaged is how many bytes made no sense, known when the entries were gone through.
	Damaged int64
	// Open is set for a file that was not closed: its machine was cut off, or writes it still.
	Open bool
	// Machine is the id of the machine that wrote it.
	Machine string
}

// An Entry is one record.
type Entry struct {
	Seq       uint64
	Time      time.Time
	SinceBoot time.Duration
	Boot      string // id, 32 hexadecimal digits
	fields    []string
}

// Field is the first value of a field; empty where there is none.
func (e *Entry) Field(name string) string {
	for _, f := range e.fields {
		if len(f) > len(name) && f[len(name)] == '=' && f[:len(name)] == name {
			return f[len(name)+1:]
		}
	}
	return ""
}

// IsJournal reports whether a file begins as a journal does.
func IsJournal(head []byte) bool { return bytes.HasPrefix(head, []byte(magic)) }

// Open reads the header of a journal file of so many bytes.
func Open(r io.ReaderAt, size int64) (*File, error) {
	head := make([]byte, shortestHeader)
	if n, err := r.ReadAt(head, 0); n < len(head) {
		if err == nil || errors.Is(err, io.EOF) {
			err = &FormatError{In: "journal", What: "header", Want: fmt.Sprint(shortestHeader, " bytes"), Got: fmt.Sprint(n)}
		}
		return nil, err
	}
	le := binary.LittleEndian
	if !IsJournal(head) {
		return nil, &FormatError{In: "journal", What: "its first bytes", Want: magic, Got: fmt.Sprintf("%q", head[:8])}
	}
	if flags := le.Uint32(head[headerIncompat:]); flags&^flagsKnown != 0 {
		return nil, &FormatError{
			In: "journal", What: "its flags", Offset: headerIncompat, Want: fmt.Sprintf("none but %#x", flagsKnown),
			Got: fmt.Sprintf("%#x", flags),
		}
	}
	f := &File{
		r: &pages{r: r, size: size}, compact: le.Uint32(head[headerIncompat:])&flagCompact != 0,
		start: int64(le.Uint64(head[headerSize:])), fields: map[int64]string{}, Open: head[headerState] == 1,
		Machine: fmt.Sprintf("%x", head[headerMachine:headerMachine+16]),
	}
	f.end = size
	if f.start < shortestHeader || f.start > size || f.start%objectAlign != 0 {
		f.start = shortestHeader
	}
	return f, nil
}

// Entries goes through the records, in the order in which they were written.
func (f *File) Entries() iter.Seq[*Entry] {
	return func(yield func(*Entry) bool) {
		f.Damaged = 0
		for at := f.start; at+objectHeader <= f.end; {
			kind, size, ok := f.object(at)
			if !ok {
				next := f.nextObject(at)
				if next < 0 {
					return
				}
				f.Damaged += next - at
				at = next
				continue
			}
			if kind == kindEntry {
				if e := f.entry(at, size); e != nil {
					if !yield(e) {
						return
					}
				} else {
					f.Damaged += size
				}
			}
			at += (size + objectAlign - 1) &^ (objectAlign - 1)
		}
	}
}

// object reads the head of an object; ok is false for what cannot be one.
func (f *File) object(at int64) (kind byte, size int64, ok bool) {
	head, err := f.r.read(at, objectHeader)
	if err != nil {
		return 0, 0, false
	}
	kind, size = head[0], int64(binary.LittleEndian.Uint64(head[8:]))
	ok = kind >= kindData && kind <= kindLast && size >= objectHeader && size <= largestObject && at+size <= f.end &&
		bytes.Equal(head[2:8], []byte{0, 0, 0, 0, 0, 0})
	return kind, size, ok
}

// nextObject looks for the next place where an object begins, one that is followed by another; -1
// for none. What was never written to is zeros to the end.
func (f *File) nextObject(at int64) int64 {
	zeros := true
	for at += objectAlign; at+objectHeader <= f.end; at += objectAlign {
		head, err := f.r.read(at, 8)
		if err != nil {
			return -1
		}
		if binary.LittleEndian.Uint64(head) == 0 {
			continue
		}
		zeros = false
		if _, size, ok := f.object(at); ok {
			after := at + (size+objectAlign-1)&^(objectAlign-1)
			if _, _, ok := f.object(after); ok || after+objectHeader > f.end {
				return at
			}
		}
	}
	if !zeros {
		f.Damaged += f.end - at
	}
	return -1
}

func (f *File) entry(at, size int64) *Entry {
	item := int64(itemLong)
	if f.compact {
		item = itemShort
	}
	if size < entryItems || (size-entryItems)/item > mostItems {
		return nil
	}
	b, err := f.r.read(at, int(size))
	if err != nil {
		return nil
	}
	le := binary.LittleEndian
	e := &Entry{
		Seq: le.Uint64(b[entrySeq:]), Time: time.UnixMicro(int64(le.Uint64(b[entryRealtime:]))).UTC(),
		SinceBoot: time.Duration(min(le.Uint64(b[entryMonotonic:]), 1<<52)) * time.Microsecond,
		Boot:      fmt.Sprintf("%x", b[entryBoot:entryBoot+16]),
	}
	items := bytes.Clone(b[entryItems:]) // the page may go when fields are read
	for ; int64(len(items)) >= item; items = items[item:] {
		off := int64(le.Uint32(items))
		if !f.compact {
			off = int64(le.Uint64(items))
		}
		if text, ok := f.field(off); ok {
			e.fields = append(e.fields, text)
		}
	}
	return e
}

// Bounds on the data objects that are remembered, in bytes: of all, and of one.
const (
	mostHeld    = 8 << 20
	largestHeld = 4 << 10
)

// field is what a data object holds: NAME=value.
func (f *File) field(at int64) (string, bool) {
	if text, ok := f.fields[at]; ok {
		return text, true
	}
	kind, size, ok := f.object(at)
	from := int64(dataPayload)
	if f.compact {
		from = dataPayloadSmall
	}
	if !ok || kind != kindData || size <= from {
		return "", false
	}
	head, err := f.r.read(at, 2)
	if err != nil {
		return "", false
	}
	flags := head[1]
	b, err := f.r.read(at+from, int(min(size-from, largestField)))
	if err != nil {
		return "", false
	}
	if b, err = f.unpack(b, flags); err != nil {
		return "", false
	}
	text := string(b)
	if f.held > mostHeld {
		clear(f.fields)
		f.held = 0
	}
	if len(text) <= largestHeld {
		f.fields[at] = text
		f.held += len(text) + 64
	}
	return text, true
}

func (f *File) unpack(b []byte, flags byte) ([]byte, error) {
	switch {
	case flags&packedZstd != 0:
		if f.zstd == nil {
			var err error
			f.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
			if err != nil {
				return nil, err
			}
		}
		return f.zstd.DecodeAll(b, nil)
	case flags&packedLZ4 != 0: // its length stands before it
		if len(b) < 8 {
			return nil, io.ErrUnexpectedEOF
		}
		n := binary.LittleEndian.Uint64(b)
		if n > 64<<20 {
			return nil, errors.New("it says that it is larger than a field is")
		}
		out := make([]byte, n)
		got, err := lz4.UncompressBlock(b[8:], out)
		return out[:max(got, 0)], err
	case flags&packedXZ != 0:
		r, err := xz.NewReader(bytes.NewReader(b))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(io.LimitReader(r, 64<<20))
	}
	return b, nil
}

// Line is the entry as a line of a log: time, host, who says it, and what.
func (e *Entry) Line() string { return e.line("") }

func (e *Entry) line(behindSender string) string {
	who := e.Field("SYSLOG_IDENTIFIER")
	if who == "" {
		who = e.Field("_COMM")
	}
	if who == "" {
		who = "unknown"
	}
	pid := e.Field("SYSLOG_PID")
	if pid == "" {
		pid = e.Field("_PID")
	}
	if pid != "" && e.Field("_TRANSPORT") != "kernel" {
		who += "[" + pid + "]"
	}
	host := e.Field("_HOSTNAME")
	if host == "" {
		host = "-"
	}
	message := strings.ToValidUTF8(strings.TrimRight(e.Field("MESSAGE"), "\n"), "\uFFFD")
	message = strings.ReplaceAll(strings.ReplaceAll(message, "\x00", " "), "\n", "\n    ")
	return e.Time.Format(
		"2006-01-02T15:04:05.000000-0700",
	) + " " + host + " " + strings.ReplaceAll(
		who,
		" ",
		"_",
	) + behindSender + ": " +
		message
}
