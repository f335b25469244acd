package docket

import (
	"slices"
	"strings"
	"time"

	"diorthos/core/reading"
)

// A Point is a record on the time line of a case.
type Point struct {
	reading.Place
	Time  time.Time     `json:"time"`
	Level reading.Level `json:"level"`
	Mark  reading.Mark  `json:"mark,omitempty"`
	// About says that the record has no time of its own: it stands where its
	// place among the others puts it.
	About bool `json:"about,omitempty"`
	// Try counts the attempts that the docket lists, the latest being 0; -1 for
	// what belongs to none.
	Try      int    `json:"try"`
	Noise    bool   `json:"noise,omitempty"`    // harmless, or seen in successful attempts too
	Decisive bool   `json:"decisive,omitempty"` // of the latest attempt that failed
	Text     string `json:"text"`
}

// Bounds of a time line: how many points it holds, and how much of each text,
// in bytes.
const (
	maxPoints = 800
	maxText   = 300
)

// line puts the records that have a time, or whose attempt has one, in order.
// When there are too many, those of the oldest attempts go first.
func line(t *reading.Timeline) []Point {
	points := []Point{}
	latest := t.Latest()
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		a := t.Attempts[i]
		events := a.Events()
		about := aboutWhen(a, events)
		for n, e := range events {
			p := point(e, len(t.Attempts)-1-i)
			p.Time, p.About = about[n], e.Time.IsZero()
			p.Decisive = a == latest && a.Decisive != nil && e.Place == a.Decisive.Place
			if !p.Time.IsZero() && (len(points) < maxPoints || p.Decisive) {
				points = append(points, p)
			}
		}
	}
	for _, e := range t.Unassigned {
		if p := point(e, -1); !p.Time.IsZero() && len(points) < maxPoints {
			points = append(points, p)
		}
	}
	slices.SortStableFunc(points, func(a, b Point) int { return a.Time.Compare(b.Time) })
	return points
}

// aboutWhen gives each event a time. Those that have none of their own lie
// between the nearest before and after them, in their log, of which another
// log of the same attempt tells the time of the same work.
func aboutWhen(a *reading.Attempt, events []reading.Event) []time.Time {
	type work struct{ operation, object, version string }
	told := map[work]time.Time{}
	of := func(e reading.Event) work { return work{e.Operation, bareName(e.Object), e.To} }
	for _, e := range events {
		if e.Mark == reading.Operation && !e.Time.IsZero() {
			told[of(e)] = e.Time
		}
	}
	times := make([]time.Time, len(events))
	for from := 0; from < len(events); {
		to := from
		for to < len(events) && events[to].File == events[from].File {
			to++
		}
		known, at := from-1, a.Began
		for i := from; i <= to; i++ {
			var t time.Time
			switch {
			case i == to:
				t = later(a.Ended, at)
			case !events[i].Time.IsZero():
				t = events[i].Time
			case events[i].Mark == reading.Operation:
				t = told[of(events[i])]
			}
			if t.IsZero() {
				continue
			}
			for k := known + 1; k < i; k++ {
				times[k] = at.Add(t.Sub(at) * time.Duration(k-known) / time.Duration(i-known))
			}
			if i < to {
				times[i] = t
			}
			known, at = i, t
		}
		from = to
	}
	return times
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// bareName leaves the architecture away, which one log writes and another does
// not.
func bareName(object string) string {
	name, _, _ := strings.Cut(object, ":")
	return name
}

func point(e reading.Event, try int) Point {
	text := e.Text
	if len(text) > maxText {
		text = text[:maxText]
		for len(text) > 0 && text[len(text)-1]&0xc0 == 0x80 { // not in the middle of a letter
			text = text[:len(text)-1]
		}
		text += "…"
	}
	return Point{
		Place: e.Place,
		Time:  e.Time,
		Level: e.Level,
		Mark:  e.Mark,
		Try:   try,
		Noise: e.Harmless || e.SeenInSuccess,
		Text:  text,
	}
}
