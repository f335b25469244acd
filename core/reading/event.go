package reading

import (
	"regexp"
	"time"
)

// A Level says how bad an event sounds, by its own words.
type Level string

// The levels.
const (
	Info    Level = "info"
	Warning Level = "warning"
	Error   Level = "error"
)

// A Mark says what an event means for the attempt that it belongs to.
type Mark string

// The marks that a dialect's rules can give.
const (
	Opens     Mark = "opens"     // an attempt begins
	Closes    Mark = "closes"    // it ends, in whatever way
	Command   Mark = "command"   // the command that started it
	Change    Mark = "change"    // what it was to change
	Operation Mark = "operation" // work on one object begins
	State     Mark = "state"     // an object is now in a state
	Fails     Mark = "fails"     // an operation is declared failed
	Follows   Mark = "follows"   // a failure that says itself that it follows from another
	Verdict   Mark = "verdict"   // the attempt is declared failed
	Passed    Mark = "passed"    // the attempt ends, and it succeeded whatever failed on the way
	Jump      Mark = "jump"      // the clock was set between two records
)

// A Place is where in the evidence something stands.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`   // from 1
	Offset int64  `json:"offset"` // bytes from the start of the unpacked file
	Length int    `json:"length"` // bytes
}

// An Event is one record of a log that matters. Time is zero when the record
// has none of its own.
type Event struct {
	Place
	Time      time.Time `json:"time,omitzero"`
	Level     Level     `json:"level"`
	Component string    `json:"component,omitempty"` // who wrote it: a program, a part of the kernel
	Speaker   Speaker   `json:"speaker,omitzero"`    // who wrote it, by the structure of the attempt
	Mark      Mark      `json:"mark,omitempty"`
	Operation string    `json:"operation,omitempty"`
	Object    string    `json:"object,omitempty"`
	From      string    `json:"from,omitempty"` // version before
	To        string    `json:"to,omitempty"`   // version after
	State     string    `json:"state,omitempty"`
	Text      string    `json:"text"`
	// the text brought back from another language; with it the record was judged
	Means         string   `json:"means,omitempty"`
	Harmless      bool     `json:"harmless,omitempty"` // seen on healthy machines too
	SeenInSuccess bool     `json:"usual,omitempty"`    // stands in attempts that succeeded too
	Hits          []string `json:"hits,omitempty"`     // watched patterns that it matches
	// Peer is who was spoken to, where that is another machine than the address in Object
	// names: a proxy, say.
	Peer string `json:"peer,omitempty"`

	uptime       float64        // seconds since the machine's start, if the record tells
	carried      [2]string      // a field of the record that this line is part of, and its value
	plain        bool           // it calls itself an error
	mild         bool           // it calls itself a warning: what calls itself an error comes first
	answered     bool           // it holds what the kernel answered
	ofChild      bool           // it says that a program failed that its own had started
	resigns      bool           // its program gives up: what it said right before says why
	script       *regexp.Regexp // by which its words, with the reason, blame a program that spoke before
	ofTool       bool           // the engine's own program wrote it
	said         bool           // it stands right above a declaration of failure, and is kept for that alone
	selfRelevant bool           // it matters by itself, whatever the fields of its record say
	older        string         // Text in the words of older releases, where it is in those of newer ones
	body         string         // Text without time and component, if the dialect tells them apart
}

// message is what the record says, without when and who.
func (e Event) message() string {
	if e.body != "" {
		return e.body
	}
	return e.original()
}

// original is the text in the language that signatures are written in.
func (e Event) original() string {
	switch {
	case e.Means != "":
		return e.Means
	case e.older != "":
		return e.older
	}
	return e.Text
}

// Answered reports whether it holds what the kernel answered to a program: closer to the
// cause than that somebody passed it on.
func (e Event) Answered() bool { return e.answered }

// declaresFailure reports whether it says that something as a whole went wrong.
func (e Event) declaresFailure() bool {
	return e.Mark == Fails || e.Mark == Follows || e.Mark == Verdict
}

// IsError reports whether the event, by its words, is a failure.
func (e Event) IsError() bool { return e.Level == Error && !e.Harmless && !e.SeenInSuccess }
