package reading

import (
	"bytes"
	"context"
	"io"
	"runtime"
	"slices"
	"unicode/utf8"
)

// Sizes in bytes.
const (
	chunkSize = 128 << 10
	// maxLine is how much of a line is looked at and kept. Longer ones are
	// cut there and counted.
	maxLine = 16 << 10
	// maxAbove is how many lines above a declaration of failure are kept, in lines.
	maxAbove = 6
)

// A line is one line of a log that matters, or is indented below one that
// does.
type line struct {
	number int   // within the chunk until merged, from 0
	offset int64 // bytes from the start of the log
	length int
	event  Event // without its place; zero for a line that is only indented
	rule   *Rule
	hit    bool
	above  []line // what was said right above a declaration of failure, and does not matter by itself
}

// A look tells of the text of a line whether it matters. What stands before
// start is known to hold nothing that is looked for. It is called on all cores
// at once.
type look func(text []byte, start int) (e Event, rule *Rule, matters bool)

// A chunk is used again once its lines have been taken.
type chunk struct {
	data   []byte
	offset int64
	inside bool // it begins inside a line, whose start the chunk before has
	lines  []line
	done   chan scanned
}

type scanned struct {
	lines    []line
	count    int // lines in the chunk
	cut      int // lines that were longer than maxLine
	unparsed int // lines that are no record
	endedHit bool
}

// scanLines reads r to its end and passes the lines that matter to take, in
// order and with their numbers from 1. It returns how many lines there were,
// how many had to be cut and how many are no record. Chunks are searched on all
// cores.
func scanLines(
	ctx context.Context, r io.Reader, find *literals, records linePrefix, see look, take func(line),
) (total scanned, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	workers := runtime.GOMAXPROCS(0)
	work := make(chan *chunk, workers)
	order := make(chan *chunk, workers)
	for range workers {
		go func() {
			for c := range work {
				c.done <- search(c, find, records, see)
			}
		}()
	}
	used := make(chan *chunk, 3*workers) // to be filled again
	failed := make(chan error, 1)
	go func() {
		defer close(work)
		defer close(order)
		failed <- splitChunks(ctx, r, used, func(c *chunk) bool {
			select {
			case order <- c:
			case <-ctx.Done():
				return false
			}
			work <- c
			return true
		})
	}()
	previousHit := false
	for c := range order {
		s := <-c.done
		for i, l := range s.lines {
			if !l.hit && i == 0 && l.number == 0 && !previousHit {
				continue // indented, below a line of the chunk before that does not matter
			}
			l.number += total.count + 1
			for _, above := range l.above {
				above.number += total.count + 1
				take(above)
			}
			take(l)
		}
		total.count += s.count
		total.cut += s.cut
		total.unparsed += s.unparsed
		if s.count > 0 { // else it is all of one long line
			previousHit = s.endedHit
		}
		clear(s.lines)
		c.lines = s.lines[:0]
		select {
		case used <- c:
		default:
		}
	}
	return total, <-failed
}

// splitChunks cuts r at ends of lines and hands the pieces to give.
func splitChunks(ctx context.Context, r io.Reader, used <-chan *chunk, give func(*chunk) bool) error {
	var rest, keep []byte
	var offset int64
	inside := false
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		var c *chunk
		select {
		case c = <-used:
		default:
			c = &chunk{done: make(chan scanned, 1)}
		}
		if cap(c.data) < len(rest)+chunkSize {
			c.data = make([]byte, len(rest)+chunkSize)
		}
		buf := c.data[:len(rest)+chunkSize]
		copy(buf, rest)
		n, err := fill(r, buf[len(rest):])
		buf = buf[:len(rest)+n]
		last := err != nil // what came before an error is still read
		end := bytes.LastIndexByte(buf, '\n') + 1
		if last || end == 0 && len(buf) > 4*chunkSize { // a line of megabytes is handed on in pieces
			end = len(buf)
		}
		keep = append(keep[:0], buf[end:]...)
		rest = keep
		if end > 0 {
			c.data, c.offset, c.inside = buf[:end], offset, inside
			inside = buf[end-1] != '\n'
			if !give(c) {
				return ctx.Err()
			}
			offset += int64(end)
		}
		if err == io.EOF {
			return nil
		}
		if last {
			return err
		}
	}
}

// pointsAt reports whether a line begins by the place in a text that a program could not use.
func (c *chunk) pointsAt(l line) bool {
	text := c.data[l.offset-c.offset:][:l.length]
	return bytes.Contains(text, []byte(": ")) && pointsAt.Match(text)
}

func search(c *chunk, find *literals, records linePrefix, see look) scanned {
	s := scanned{lines: c.lines}
	data, offset := c.data, c.offset
	near := true     // the line before matters, or is not known
	var above []line // the lines right before, that do not matter
	if c.inside {    // what is left of a line that was cut already
		rest := bytes.IndexByte(data, '\n') + 1
		if rest == 0 {
			rest = len(data)
		}
		data, offset = data[rest:], offset+int64(rest)
	}
	for len(data) > 0 {
		end := bytes.IndexByte(data, '\n')
		length := end + 1
		if end < 0 {
			end, length = len(data), len(data)
		}
		text := data[:end]
		if len(text) > maxLine {
			text = text[:maxLine]
			s.cut++
		}
		if records.unparsed(text) {
			s.unparsed++
		}
		start := find.first(text)
		if start < 0 && bytes.IndexByte(text, 0x1b) >= 0 { // colours can stand in the middle of what we look for
			start = find.first(stripEscapes(text))
		}
		hit := start >= 0
		indented := len(text) > 0 && (text[0] == ' ' || text[0] == '\t')
		l := line{number: s.count, offset: offset, length: end}
		if hit {
			l.event, l.rule, hit = see(text, start)
		}
		if l.hit = hit; !hit && near && indented {
			l.event.Text = clean(text)
		}
		declares := l.rule != nil && (l.rule.Mark == Fails || l.rule.script != nil)
		if hit && len(above) > 0 && (declares || l.event.resigns || indented || c.pointsAt(above[len(above)-1])) {
			for i := range above {
				above[i].event = Event{Text: clean(c.data[above[i].offset-c.offset:][:above[i].length]), said: true}
			}
			l.above = slices.Clone(above)
		}
		if hit || near && indented {
			s.lines = append(s.lines, l)
		}
		if len(above) == maxAbove {
			above = append(above[:0], above[1:]...)
		}
		above = append(above, line{number: s.count, offset: offset, length: len(text)})
		if hit {
			above = above[:0]
		}
		near = hit || near && indented
		s.endedHit = near
		s.count++
		data, offset = data[length:], offset+int64(length)
	}
	return s
}

// clean takes away what only a terminal understands: the steps of a progress
// bar that was drawn over with carriage returns, and escape sequences.
func clean(text []byte) string {
	text = bytes.TrimRight(text, "\r")
	for bytes.IndexByte(text, '\r') >= 0 {
		i := bytes.LastIndexByte(text, '\r')
		if len(bytes.TrimSpace(text[i+1:])) > 0 {
			text = text[i+1:]
			break
		}
		text = text[:i]
	}
	if bytes.IndexByte(text, 0x1b) >= 0 || bytes.IndexByte(text, 0) >= 0 {
		text = stripEscapes(text)
	}
	if utf8.Valid(text) {
		return string(text)
	}
	latin := make([]rune, len(text)) // not UTF-8: taken as Latin-1, in which every byte is a letter
	for i, b := range text {
		latin[i] = rune(b)
	}
	return string(latin)
}

// stripEscapes removes control sequences (ECMA-48, section 5.4) and NULs.
func stripEscapes(text []byte) []byte {
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == 0:
		case text[i] != 0x1b:
			out = append(out, text[i])
		case i+1 < len(text) && text[i+1] == '[':
			for i += 2; i < len(text) && (text[i] < 0x40 || text[i] > 0x7e); i++ {
			}
		default:
			i++
		}
	}
	return out
}
