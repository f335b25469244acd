package reading

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// An Anchor is what is known of time from outside the logs.
type Anchor struct {
	Now   time.Time // when the logs were taken: times without a year are the last ones before it
	Start time.Time // when the machine was started last, for seconds since the start; may be zero
}

// A Shift says by how much the times of a log were moved to agree with
// another log's.
type Shift struct {
	File   string  `json:"file"`
	By     float64 `json:"by"` // seconds, added
	With   string  `json:"with"`
	Shared int     `json:"shared"` // records that stand in both
}

// minShared is how many records two logs must share before one is moved.
const minShared = 2

// align moves the times of logs whose clock is not told (local time, seconds
// since the start) to those of logs whose clock is, by the records that stand
// in both.
func align(streams []stream, anchor Anchor) []Shift {
	var shifts []Shift
	var told []int // streams whose clock is told, best first
	for i, s := range streams {
		if s.timed() && s.dialect.Time.Zone == "utc" {
			told = append(told, i)
		}
	}
	for i, s := range streams {
		if s.timed() && s.dialect.Time.Zone != "utc" {
			if shift, ok := shiftTo(streams, told, i, false); ok {
				shifts = append(shifts, shift)
				told = append(told, i)
			}
		}
	}
	for i, s := range streams {
		if s.timed() && !slices.Contains(told, i) {
			told = append(told, i) // not told, but all there is
		}
	}
	for i, s := range streams {
		if s.timed() || !s.sinceStart() {
			continue
		}
		if shift, ok := shiftTo(streams, told, i, true); ok {
			shifts = append(shifts, shift)
		} else if !anchor.Start.IsZero() {
			s.setFromStart(anchor.Start)
			shifts = append(shifts, Shift{
				File: s.events[0].File,
				By:   float64(anchor.Start.Unix()),
				With: "the time of the machine's start",
			})
		}
	}
	return shifts
}

func (s stream) timed() bool {
	return slices.ContainsFunc(s.events, func(e Event) bool { return !e.Time.IsZero() })
}

func (s stream) sinceStart() bool {
	return slices.ContainsFunc(s.events, func(e Event) bool { return e.uptime > 0 })
}

func (s stream) setFromStart(start time.Time) {
	for i := range s.events {
		if e := &s.events[i]; e.uptime > 0 {
			e.Time = start.Add(seconds(e.uptime))
		}
	}
}

func seconds(f float64) time.Duration { return time.Duration(f * float64(time.Second)) }

// shiftTo compares the i-th stream with those whose clock is told and moves it
// by what most of the shared records agree on.
func shiftTo(streams []stream, told []int, i int, sinceStart bool) (Shift, bool) {
	s := streams[i]
	for _, k := range told {
		if k == i {
			continue
		}
		gap, shared := gapBetween(s, streams[k], sinceStart)
		if shared < minShared {
			continue
		}
		file, with := s.events[0].File, streams[k].events[0].File
		if sinceStart {
			s.setFromStart(time.Unix(0, 0).UTC().Add(gap))
			return Shift{file, gap.Seconds(), with, shared}, true
		}
		if gap.Abs() < time.Second {
			return Shift{}, false // they agree
		}
		for n := range s.events {
			if e := &s.events[n]; !e.Time.IsZero() {
				e.Time = e.Time.Add(gap)
			}
		}
		return Shift{file, gap.Seconds(), with, shared}, true
	}
	return Shift{}, false
}

// gapBetween is what has to be added to a's times, and how many of the shared
// records say so. Records that repeat within a log are not compared: nobody
// knows which is which.
func gapBetween(a, b stream, sinceStart bool) (time.Duration, int) {
	at := once(b, func(e Event) (time.Time, bool) { return e.Time, !e.Time.IsZero() })
	votes := map[time.Duration]int{}
	for text, t := range once(a, func(e Event) (time.Time, bool) {
		if sinceStart {
			return time.Unix(0, 0).UTC().Add(seconds(e.uptime)), e.uptime > 0
		}
		return e.Time, !e.Time.IsZero()
	}) {
		if other, ok := at[text]; ok {
			votes[other.Sub(t).Round(time.Second)]++
		}
	}
	best, most, all := time.Duration(0), 0, 0
	for gap, n := range votes {
		n += votes[gap+time.Second] // one log may round down what the other rounds up
		all += votes[gap]
		if n > most || n == most && gap < best {
			best, most = gap, n
		}
	}
	if most*2 <= all {
		return 0, 0
	}
	return best, most
}

func once(s stream, when func(Event) (time.Time, bool)) map[string]time.Time {
	m := map[string]time.Time{}
	twice := map[string]bool{}
	for _, e := range s.events {
		t, ok := when(e)
		text := strings.TrimSpace(e.message())
		if !ok || len(text) < 12 || twice[text] {
			continue
		}
		if _, seen := m[text]; seen {
			delete(m, text)
			twice[text] = true
			continue
		}
		m[text] = t
	}
	return m
}

// jumped is by how much times must disagree before it is called a jump.
const jumped = time.Minute

// jumps adds an event wherever the clock of a log was set: where the time goes
// back from one record to the next, or advances by more than the seconds since
// the start that stand beside it.
func (r *Reader) jumps(s *stream) (found []Event) {
	var events []Event
	var before *Event
	for i := range s.events {
		e := &s.events[i]
		if !e.Time.IsZero() {
			if before != nil {
				if j, ok := r.jump(*before, *e); ok {
					found = append(found, j)
					events = append(events, j)
				}
			}
			before = e
		}
		events = append(events, *e)
	}
	if len(found) > 0 {
		s.events = events
	}
	return found
}

func (r *Reader) jump(a, b Event) (Event, bool) {
	by := b.Time.Sub(a.Time)
	switch {
	case by < -jumped:
	case a.uptime > 0 && b.uptime >= a.uptime:
		if by -= seconds(b.uptime - a.uptime); by.Abs() < jumped {
			return Event{}, false
		}
	default:
		return Event{}, false
	}
	way := "forward"
	if by < 0 {
		way = "back"
	}
	text := fmt.Sprintf(
		"the clock jumped %s by %s: %s is followed by %s",
		way, by.Abs().Round(time.Second), a.Time.Format(time.DateTime), b.Time.Format(time.DateTime),
	)
	if by == -time.Hour || by == time.Hour {
		text += " (an hour exactly: perhaps the end or the start of summer time)"
	}
	return Event{
		Place:     b.Place,
		Time:      b.Time,
		Level:     Warning,
		Mark:      Jump,
		Component: "clock",
		Text:      text,
		Hits:      r.Hits(text),
	}, true
}
