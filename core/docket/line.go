package docket

import (
	"slices"
	"time"

	"diorthos/core/reading"
)

// A Point is a record on the time line of a case.
type Point struct {
	reading.Place
	Time  time.Time     `json:"time"`
	Level reading.Level `json:"level"`
	Mark  reading.Mark  `json:"mark,omitempty"`
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
	maxPoints = 1500
	maxText   = 300
)

// line puts the records that have a time, or whose attempt has one, in order.
// When there are too many, those of the oldest attempts go first.
func line(t *reading.Timeline) []Point {
	points := []Point{}
	latest := t.Latest()
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		a := t.Attempts[i]
		for _, e := range a.Events() {
			p := point(e, len(t.Attempts)-1-i)
			if p.Time.IsZero() {
				p.Time = a.Began // order in the file is all that is known within the run
			}
			p.Decisive = a == latest && a.Decisive != nil && e.Place == a.Decisive.Place
			if !p.Time.IsZero() && (len(points) < maxPoints || p.Decisive) {
				points = append(points, p)
			}
		}
	}
	for _, e := range t.Loose {
		if p := point(e, -1); !p.Time.IsZero() && len(points) < maxPoints {
			points = append(points, p)
		}
	}
	slices.SortStableFunc(points, func(a, b Point) int { return a.Time.Compare(b.Time) })
	return points
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
	return Point{Place: e.Place, Time: e.Time, Level: e.Level, Mark: e.Mark, Try: try, Noise: e.Harmless || e.Usual, Text: text}
}
