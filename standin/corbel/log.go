package corbel

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"
	"unicode/utf16"

	"diorthos/core/fat"
	"diorthos/platform/corbelfile"
)

// rotateAt is the size at which a log is put aside, in bytes.
const rotateAt = 96 << 10

// logs are the three logs of a machine. Each has a format of its own.
type logs struct {
	now    time.Time     // the true time
	offset time.Duration // by which the machine's clock is ahead
	zone   time.Duration // of the machine, east

	engine, store, courier bytes.Buffer
}

func (l *logs) pass(d time.Duration) { l.now = l.now.Add(d) }

func (l *logs) clock() time.Time { return l.now.Add(l.offset) }

// say adds a record to the engine's log, in local time:
// "2026-11-22 07:12:03,417 | lay | place | note | text".
func (l *logs) say(stage, operation, grade, format string, a ...any) {
	l.pass(137 * time.Millisecond)
	stamp := l.clock().Add(l.zone).Format("2006-01-02 15:04:05,000")
	_, _ = fmt.Fprintf(&l.engine, "%s | %s | %s | %s | %s\r\n", stamp, stage, operation, grade, fmt.Sprintf(format, a...))
}

// both adds the same record to the engine's log and to the courier's.
func (l *logs) both(operation, grade, format string, a ...any) {
	l.say("attempt", operation, grade, format, a...)
	l.note(grade, fmt.Sprintf(format, a...))
}

// keep adds a record of several lines to the store's log, in UTC.
func (l *logs) keep(part, grade, format string, a ...any) {
	l.pass(21 * time.Millisecond)
	_, _ = fmt.Fprintf(
		&l.store, "record\n time %s\n part %s\n grade %s\n text %s\n", l.clock().UTC().Format("2006-01-02T15:04:05.000Z"),
		part, grade, fmt.Sprintf(format, a...),
	)
}

// carry adds a line to the courier's log, a JSON object in UTC.
func (l *logs) carry(grade, format string, a ...any) {
	l.pass(53 * time.Millisecond)
	l.note(grade, fmt.Sprintf(format, a...))
}

func (l *logs) note(grade, says string) {
	line, err := json.Marshal(map[string]string{
		"at":    l.clock().UTC().Format("2006-01-02T15:04:05.000Z"),
		"who":   "courier",
		"grade": grade,
		"says":  says,
	})
	if err == nil {
		_, _ = l.courier.Write(append(line, '\n'))
	}
}

// write appends what was said to the logs on the volume, and puts those aside
// that have become large.
func (l *logs) write(sys *fat.Editor) error {
	if err := sys.Mkdir(corbelfile.LogFolder); err != nil {
		return err
	}
	for name, text := range map[string][]byte{
		"engine.log":  wide(l.engine.String()),
		"store.log":   l.store.Bytes(),
		"courier.log": l.courier.Bytes(),
	} {
		if len(text) == 0 {
			continue
		}
		at := path.Join(corbelfile.LogFolder, name)
		old, err := fs.ReadFile(sys, at)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if len(old) > rotateAt {
			if err := rotate(sys, at); err != nil {
				return err
			}
			old = nil
		}
		if name == "engine.log" && len(old) == 0 {
			old = []byte{0xff, 0xfe}
		}
		// On a full volume what was to be noted is lost, as in life.
		if err := sys.WriteFile(at, append(old, text...)); err != nil && !errors.Is(err, fat.ErrFull) {
			return err
		}
	}
	l.engine.Reset()
	l.store.Reset()
	l.courier.Reset()
	return nil
}

// rotate puts a log aside as the first of two older ones; the oldest goes.
func rotate(sys *fat.Editor, at string) error {
	names := []string{at, at + ".1", at + ".2"}
	there := func(name string) bool {
		_, err := fs.Stat(sys, name)
		return err == nil
	}
	if there(names[2]) {
		if err := sys.Remove(names[2]); err != nil {
			return err
		}
	}
	for i := 1; i >= 0; i-- {
		if there(names[i]) {
			if err := sys.Rename(names[i], names[i+1]); err != nil {
				return err
			}
		}
	}
	return nil
}

func wide(s string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}
