package journald

import (
	"cmp"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
)

// An End is how a start of a machine ended, as its journal tells.
type End string

// The ends.
const (
	GotThrough End = "it got through"
	ShutDown   End = "it was shut down before it got through"
	Emergency  End = "it ended in emergency mode"
	GivenUp    End = "its goal was given up"
	// Unknown is said where neither an end nor a goal was written: the machine stopped, or it was cut
	// off and lost what it had not written yet, which can be minutes.
	Unknown End = "how it ended is not known: what was written last may be lost"
	Going   End = "it goes on"
)

// Failed reports whether it is known that the start failed.
func (e End) Failed() bool { return e == Emergency || e == GivenUp }

// A Boot is one start of a machine.
type Boot struct {
	ID          string
	First, Last time.Time
	Records     int
	End         End

	got   End // how far it came, as far as was said; empty for nothing
	down  bool
	spans []span
}

// A span says where records of a boot lie: in a file, from one place to another.
type span struct {
	file     int
	from, to uint64 // sequence numbers
}

// How the service manager says how far a start came.
var (
	saysReached   = regexp.MustCompile(`^Reached target (multi-user|graphical)\.target`)
	saysGivenUp   = regexp.MustCompile(`^Dependency failed for (multi-user|graphical)\.target`)
	saysEmergency = regexp.MustCompile(
		`^(Reached target (emergency|rescue)\.target|Started (emergency|rescue)\.service|You are in (emergency|rescue) mode)`,
	)
	saysDown = regexp.MustCompile(
		`^(Reached target (shutdown|reboot|poweroff|halt|final|kexec)\.target|Shutting down\.|` +
			`System is (powering down|rebooting)|Journal stopped)`,
	)
)

// Boots lists the starts that journal files tell of, the oldest first. current is the one that goes on, by its
// id; empty where the files are not those of the running machine.
func Boots(files []*File, current string) []*Boot {
	byID := map[string]*Boot{}
	var list []*Boot
	for i, f := range files {
		for e := range f.Entries() {
			b := byID[e.Boot]
			if b == nil {
				b = &Boot{ID: e.Boot, First: e.Time, Last: e.Time}
				byID[e.Boot], list = b, append(list, b)
			}
			b.note(i, e)
		}
	}
	slices.SortStableFunc(list, func(a, b *Boot) int { return a.First.Compare(b.First) })
	for _, b := range list {
		switch {
		case b.got != "":
			b.End = b.got
		case b.ID == current && current != "":
			b.End = Going
		case b.down:
			b.End = ShutDown
		default:
			b.End = Unknown
		}
	}
	return list
}

func (b *Boot) note(file int, e *Entry) {
	b.Records++
	if e.Time.Before(b.First) {
		b.First = e.Time
	}
	if e.Time.After(b.Last) {
		b.Last = e.Time
	}
	if n := len(b.spans); n == 0 || b.spans[n-1].file != file {
		b.spans = append(b.spans, span{file: file, from: e.Seq, to: e.Seq})
	}
	last := &b.spans[len(b.spans)-1]
	last.from, last.to = min(last.from, e.Seq), max(last.to, e.Seq)
	if who := e.Field("SYSLOG_IDENTIFIER"); who != "systemd" && who != "systemd-journald" && who != "systemd-shutdown" {
		return
	}
	if e.Field("_PID") != "1" && e.Field("_TRANSPORT") == "stdout" {
		return // a session's own manager, or what a program printed
	}
	text := e.Field("MESSAGE")
	switch {
	case saysReached.MatchString(text):
		b.got = GotThrough // also after somebody has left emergency mode
	case saysEmergency.MatchString(text):
		b.got = Emergency
	case saysGivenUp.MatchString(text) && b.got == "":
		b.got = GivenUp
	}
	b.down = b.down || saysDown.MatchString(text)
}

// priorities are the names of levels, by number (RFC 5424).
var priorities = []string{"emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"}

// WriteBoots writes starts as one log, at most so many bytes of each: of a long one the beginning and
// the end. Each begins and ends with a record of its own, which says how it ended.
//
// Starts before the last one that got through are written without such records: what failed then
// did not last.
func WriteBoots(out io.Writer, files []*File, boots []*Boot, most int64) error {
	good := 0
	for i, b := range boots {
		if b.End == GotThrough {
			good = i
		}
	}
	for i, b := range boots {
		if err := b.write(out, files, most, i >= good); err != nil {
			return err
		}
	}
	return nil
}

func (b *Boot) write(out io.Writer, files []*File, most int64, counts bool) error {
	const stamp = "2006-01-02T15:04:05.000000-0700"
	begins := "begins"
	if counts = counts && b.End != Unknown; !counts { // else an attempt of which it is not known how it ended
		begins = "was begun"
	}
	_, err := fmt.Fprintf(out, "%s - start notice: -- start %s %s --\n", b.First.Format(stamp), b.ID, begins)
	if err != nil {
		return err
	}
	written, left := int64(0), 0
	tail := &ring{most: most / 2}
	for e := range b.entries(files) {
		line := e.leveled() + "\n"
		if written+int64(len(line)) <= most/2 {
			written += int64(len(line))
			if _, err := io.WriteString(out, line); err != nil {
				return err
			}
			continue
		}
		left += tail.add(line)
	}
	if left > 0 {
		const text = "%s - start notice: -- %d records are left out here --\n"
		if _, err := fmt.Fprintf(out, text, b.Last.Format(stamp), left); err != nil {
			return err
		}
	}
	for _, line := range tail.lines {
		if _, err := io.WriteString(out, line); err != nil {
			return err
		}
	}
	end := b.Last.Format(stamp)
	if counts && b.End.Failed() {
		if _, err := fmt.Fprintf(out, "%s - start err: -- start %s failed: %s --\n", end, b.ID, b.End); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(out, "%s - start notice: -- start %s ends: %s --\n", end, b.ID, b.End)
	return err
}

// ring keeps the last lines, so many bytes.
type ring struct {
	lines []string
	size  int64
	most  int64
}

// add keeps a line, and returns how many older ones had to go.
func (r *ring) add(line string) (gone int) {
	r.lines, r.size = append(r.lines, line), r.size+int64(len(line))
	for r.size > r.most && len(r.lines) > 1 {
		r.size -= int64(len(r.lines[0]))
		r.lines = r.lines[1:]
		gone++
	}
	return gone
}

// entries are the records of a boot in the order of time, from all files.
func (b *Boot) entries(files []*File) func(yield func(*Entry) bool) {
	return func(yield func(*Entry) bool) {
		var all []*Entry
		bySpan := len(b.spans) > 1
		for _, s := range b.spans {
			for e := range files[s.file].Entries() {
				if e.Boot != b.ID || e.Seq < s.from || e.Seq > s.to {
					continue
				}
				if !bySpan {
					if !yield(e) {
						return
					}
					continue
				}
				all = append(all, e)
			}
		}
		slices.SortStableFunc(all, func(x, y *Entry) int {
			if n := cmp.Compare(x.SinceBoot, y.SinceBoot); n != 0 {
				return n
			}
			return cmp.Compare(x.Seq, y.Seq)
		})
		for _, e := range all {
			if !yield(e) {
				return
			}
		}
	}
}

// leveled is the entry as a line of a log of starts: with its level, and the unit that it is of or
// about, between sender and text.
func (e *Entry) leveled() string {
	level := "info"
	if p := e.Field("PRIORITY"); len(p) == 1 && p[0] >= '0' && p[0] <= '7' {
		level = priorities[p[0]-'0']
	}
	unit := cmp.Or(e.Field("UNIT"), e.Field("_SYSTEMD_UNIT"))
	if unit != "" && unit != "init.scope" && !strings.ContainsAny(unit, "() ") {
		level += " (" + unit + ")"
	}
	return e.line(" " + level)
}
