package block

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
)

// The bytes of a journal. A record is
//
//	0   u32  length of the body in bytes
//	4   u8   kind
//	5   u32  CRC-32C over: the CRC of the record before, length, kind, body
//	9   u32  CRC-32C over bytes 0 to 8
//	13  …    body
//
// All numbers are little-endian. The body of a write is
//
//	0      u64  byte offset on the device
//	8      u32  n, how many bytes are changed
//	12     u16  m, length of the description
//	14     m    description, UTF-8
//	14+m   n    what stood there before
//	14+m+n n    what shall stand there after
//
// and that of a piece that was kept
//
//	0      u64  byte offset on the device
//	8      u32  n, its length in bytes
//	12     n    what stood there; left out if it was all zeros
const (
	journalMagic = "diorthos journal 1\n"
	recordHead   = 13
	writeHead    = 14
	keptHead     = 12

	kindHead      = 1
	kindWrite     = 2
	kindCommitted = 3
	kindApplied   = 4
	kindUndone    = 5
	kindKept      = 6

	// maxRecord bounds what a damaged length can make us read, in bytes.
	maxRecord = 64 << 20
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sealRecord returns the bytes of a record and its checksum.
func sealRecord(chain uint32, kind byte, body []byte) ([]byte, uint32) {
	record := make([]byte, recordHead+len(body))
	binary.LittleEndian.PutUint32(record[0:], uint32(len(body)))
	record[4] = kind
	copy(record[recordHead:], body)
	sum := recordSum(chain, record)
	binary.LittleEndian.PutUint32(record[5:], sum)
	binary.LittleEndian.PutUint32(record[9:], crc32.Checksum(record[:9], castagnoli))
	return record, sum
}

func recordSum(chain uint32, record []byte) uint32 {
	var before [4]byte
	binary.LittleEndian.PutUint32(before[:], chain)
	sum := crc32.Update(0, castagnoli, before[:])
	sum = crc32.Update(sum, castagnoli, record[:5])
	return crc32.Update(sum, castagnoli, record[recordHead:])
}

func writeRecord(w Write, before []byte) []byte {
	what := w.What
	if len(what) > 1<<10 {
		what = what[:1<<10]
	}
	body := make([]byte, 0, writeHead+len(what)+2*len(before))
	body = binary.LittleEndian.AppendUint64(body, uint64(w.Off))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(before)))
	body = binary.LittleEndian.AppendUint16(body, uint16(len(what)))
	body = append(body, what...)
	body = append(body, before...)
	return append(body, w.Data...)
}

// indexWrite notes where in the journal the images of a write stand. body
// begins at byte at of the journal and has been checked.
func indexWrite(body []byte, at int64) noted {
	n := int(binary.LittleEndian.Uint32(body[8:]))
	m := int(binary.LittleEndian.Uint16(body[12:]))
	before := at + writeHead + int64(m)
	return noted{
		off:    int64(binary.LittleEndian.Uint64(body)),
		length: n,
		before: before,
		after:  before + int64(n),
		what:   string(body[writeHead : writeHead+m]),
	}
}

// indexKept notes where in the journal what was kept stands; nowhere if it was
// all zeros.
func indexKept(body []byte, at int64) noted {
	w := noted{
		off:    int64(binary.LittleEndian.Uint64(body)),
		length: int(binary.LittleEndian.Uint32(body[8:])),
		before: at + keptHead,
		what:   keptPiece,
	}
	if len(body) == keptHead {
		w.before = nowhere
	}
	return w
}

const (
	nowhere   = -1 // in place of a byte of the journal, for zeros
	keptPiece = "what stood there"
)

func checkKept(body []byte) bool {
	if len(body) < keptHead {
		return false
	}
	n := int64(binary.LittleEndian.Uint32(body[8:]))
	return int64(binary.LittleEndian.Uint64(body)) >= 0 && n <= keptSize &&
		(len(body) == keptHead || int64(len(body)) == keptHead+n)
}

func checkWrite(body []byte) bool {
	if len(body) < writeHead {
		return false
	}
	n := int64(binary.LittleEndian.Uint32(body[8:]))
	m := int64(binary.LittleEndian.Uint16(body[12:]))
	return int64(len(body)) == writeHead+m+2*n && int64(binary.LittleEndian.Uint64(body)) >= 0
}

// readJournal reads all records. A last record that is cut off is left out;
// one that is whole and wrong makes the journal damaged.
func readJournal(file File, name string) (*Journal, error) {
	magic := make([]byte, len(journalMagic))
	if _, err := file.ReadAt(magic, 0); err != nil || string(magic) != journalMagic {
		return nil, fmt.Errorf("%s is not a journal: it begins with %q, want %q: %w", name, magic, journalMagic, ErrDamaged)
	}
	j := &Journal{file: file, name: name, end: int64(len(journalMagic))}
	for {
		kind, body, sum, err := nextRecord(file, j.end, j.chain)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf(
				"journal %s: record at byte %d: %w; %d changes before it can still be read: %w",
				name, j.end, err, len(j.writes), ErrDamaged,
			)
		}
		if err := j.take(kind, body); err != nil {
			return nil, fmt.Errorf("journal %s: record at byte %d: %w: %w", name, j.end, err, ErrDamaged)
		}
		j.chain = sum
		j.end += int64(recordHead + len(body))
		if kind == kindHead || kind == kindWrite || kind == kindKept {
			j.remember()
		}
	}
	if j.state == "" {
		return nil, fmt.Errorf(
			"journal %s: was cut off before its first record; nothing was changed on its account: %w", name, ErrDamaged,
		)
	}
	return j, nil
}

// nextRecord returns io.EOF at the end and for a record that is cut off.
func nextRecord(file io.ReaderAt, at int64, chain uint32) (kind byte, body []byte, sum uint32, err error) {
	head := make([]byte, recordHead)
	if _, err := file.ReadAt(head, at); err != nil {
		return 0, nil, 0, cutOff(err)
	}
	if sum, want := crc32.Checksum(head[:9], castagnoli), binary.LittleEndian.Uint32(head[9:]); sum != want {
		if zeroFrom(file, at) { // the file had grown, and its data were not yet there
			return 0, nil, 0, io.EOF
		}
		return 0, nil, 0, fmt.Errorf("the checksum of its head is 0x%08x, computed 0x%08x", want, sum)
	}
	length := binary.LittleEndian.Uint32(head)
	if length > maxRecord {
		return 0, nil, 0, fmt.Errorf("its length is %d, more than %d", length, maxRecord)
	}
	record := make([]byte, recordHead+int(length))
	if _, err := file.ReadAt(record, at); err != nil {
		return 0, nil, 0, cutOff(err)
	}
	sum = recordSum(chain, record)
	if want := binary.LittleEndian.Uint32(head[5:]); sum != want {
		if (head[4] == kindWrite || head[4] == kindKept) && zeroFrom(file, at+int64(len(record))) {
			return 0, nil, 0, io.EOF // the last note, half there: it was not acted upon, or a record would follow
		}
		return 0, nil, 0, fmt.Errorf("its checksum is 0x%08x, computed 0x%08x", want, sum)
	}
	return head[4], record[recordHead:], sum, nil
}

func zeroFrom(file io.ReaderAt, at int64) bool {
	buf := make([]byte, 64<<10)
	for {
		n, err := file.ReadAt(buf, at)
		if len(bytes.Trim(buf[:n], "\x00")) > 0 {
			return false
		}
		if err != nil {
			return errors.Is(err, io.EOF)
		}
		at += int64(n)
	}
}

func cutOff(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return io.EOF
	}
	return err
}

// take adds one checked record to what is known.
func (j *Journal) take(kind byte, body []byte) error {
	switch {
	case kind == kindHead && j.state == "":
		j.state = Recorded
		if err := json.Unmarshal(body, &j.head); err != nil {
			return fmt.Errorf("head: %w", err)
		}
	case kind == kindWrite && j.state == Recorded:
		if !checkWrite(body) {
			return errors.New("a write whose parts do not add up")
		}
		j.writes = append(j.writes, indexWrite(body, j.end+recordHead))
	case kind == kindCommitted && (j.state == Recorded || j.state == Applied && j.head.Keeps):
		j.state = Committed
	case kind == kindKept && j.state == Committed && j.head.Keeps:
		if !checkKept(body) {
			return errors.New("a piece whose parts do not add up")
		}
		j.writes = append(j.writes, indexKept(body, j.end+recordHead))
	case kind == kindApplied && j.state == Committed:
		j.state, j.finalDigest = Applied, body
	case kind == kindUndone && (j.state == Committed || j.state == Applied):
		j.state = Undone
	default:
		return fmt.Errorf("kind %d after %q", kind, j.state)
	}
	return nil
}
