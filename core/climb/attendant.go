package climb

import (
	"context"
	"errors"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

// An Attendant is who attends a climb: a person at a terminal, an agent that
// carries out an order, a test.
type Attendant interface {
	// Consent asks whether a rung may be taken. It returns what was answered: for
	// one that destroys, the name that was typed; for others yes or no. Nobody
	// there to be asked is ErrUnanswered.
	Consent(context.Context, Consent) (string, error)
	// Answer asks a question. Nobody there to be asked is ErrUnanswered.
	Answer(context.Context, Question) (string, error)
	// Progress is told what goes on. An error at RungBegins keeps the rung from
	// being taken; others are not heard.
	Progress(context.Context, Event) error
}

// ErrUnanswered means that a question was put and nobody answered.
var ErrUnanswered = errors.New("nobody answered")

// Yes and No are the answers to most questions.
const (
	Yes = "yes"
	No  = "no"
)

// A Consent is what has to be agreed to before a rung is taken.
type Consent struct {
	Rung   ladder.Rung
	Level  knowledge.Invasiveness
	Losses []string // what will be lost, in words
	Name   string   // what has to be typed, for one that destroys
	Backup *Entry   // the latest backup of people's files; nil where none is known here
}

// A QuestionKind is what sort of answer is wanted.
type QuestionKind string

// The kinds of questions.
const (
	AskStep     QuestionKind = "step"         // did a step by hand go right: yes or no
	AskAgain    QuestionKind = "again"        // try a step once more: yes or no
	AskHelped   QuestionKind = "helped"       // does the failed thing work now: yes or no
	AskAttempt  QuestionKind = "attempt"      // is the attempt made, so that a loan can be given back: yes or no
	AskReturned QuestionKind = "returned"     // is a loan given back by hand: yes, no, or why it stays
	AskPutBack  QuestionKind = "put back now" // may something that was moved aside take the place of what is there
)

// A Question is put to the attendant.
type Question struct {
	Kind QuestionKind
	Text string
}

// An EventKind is what happened.
type EventKind string

// The kinds of events.
const (
	RungBegins   EventKind = "rung begins"
	PhaseBegins  EventKind = "phase begins"
	RungEnds     EventKind = "rung ends"
	StepBegins   EventKind = "step begins"
	StepMeasured EventKind = "step measured"
	LoanOwed     EventKind = "loan owed"
	LoanReturned EventKind = "loan returned"
	Waiting      EventKind = "waiting" // for the attempt that something was lent for
	Remark       EventKind = "remark"
)

// An Event is told to the attendant.
type Event struct {
	Kind  EventKind
	Rung  ladder.Rung
	Of    int // how many rungs the ladder has
	Phase string
	Step  int // from 1
	Run   *Run
	Err   error
	Check *action.Check
	Loan  *Loan
	Text  string
}

// A Machine is what a climb works on.
type Machine interface {
	// Open opens what an action changes: a disk, or the state of the firmware.
	Open(a action.Action, readOnly bool) (dev Device, path string, err error)
	// Environment is how actions reach what a disk alone does not tell.
	Environment() (action.Environment, error)
	// Measure looks at the machine anew; ErrNotAtHand when it is not at hand.
	Measure(context.Context) (*bag.Facts, error)
	// Boot is what the machine calls its present start; empty when it cannot be
	// asked.
	Boot() string
	// Journal names the file for a journal about the device at path, and says how
	// many bytes are free there.
	Journal(path string) (file string, free int64, err error)
}

// A Device is closed after a rung.
type Device interface {
	block.Device
	Close() error
}

// ErrNotAtHand means that a machine cannot be looked at from here.
var ErrNotAtHand = errors.New("the machine is not at hand")
