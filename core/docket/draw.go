package docket

import (
	"context"
	"time"

	"diorthos/core/ask"
	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/readiness"
	"diorthos/core/reading"
)

// A Docket is the report of a case.
type Docket struct {
	Knowledge  string                `json:"knowledge"`      // the version that it was drawn with
	Site       string                `json:"site,omitempty"` // and of what outcomes at the site have taught
	Machine    bag.Machine           `json:"machine"`
	Gathered   time.Time             `json:"gathered"`
	Call       *bag.Call             `json:"call,omitempty"` // what was told before there was evidence
	Attempts   []Attempt             `json:"tried"`          // the latest attempt first
	Failure    *Failure              `json:"broke,omitempty"`
	Kinds      []diagnosis.KindShare `json:"kinds"` // how sure it is which sort of failure it is
	Why        []diagnosis.Finding   `json:"why"`
	Settle     []diagnosis.NextCheck `json:"settle"`   // what would tell the causes apart, the most telling first
	Ready      []readiness.Choice    `json:"ready"`    // how fit the machine is for the releases that are known
	Suspects   []Suspect             `json:"suspects"` // what was changed before the failure, the likeliest first
	Line       []Point               `json:"line"`     // the time line, oldest first
	Shifts     []reading.Shift       `json:"shifts"`
	ToDo       []ladder.Rung         `json:"toDo"`
	Disks      []bag.Disk            `json:"disks"`
	Hardware   *bag.Hardware         `json:"hardware,omitempty"`
	Firmware   *bag.Firmware         `json:"firmware,omitempty"`
	State      *bag.State            `json:"state,omitempty"` // how the parts of the system stand, where that is known
	Conditions []readiness.Verdict   `json:"conditions"`      // the same, judged part by part
	Files      []reading.FileReport  `json:"files"`
	LeftOut    []bag.LeftOut         `json:"leftOut,omitempty"` // logs that were there and could not be taken
	Notes      []string              `json:"notes,omitempty"`   // signatures that could not be asked of these facts
	Masked     bool                  `json:"masked,omitempty"`  // names and addresses were replaced at the machine
	Harmless   int                   `json:"harmless"`          // records set apart that healthy machines show too
	Usual      int                   `json:"usual"`             // and that stand in this machine's own successful attempts
}

// An Attempt is one attempt, in short.
type Attempt struct {
	Kind       reading.AttemptKind     `json:"kind"`
	Command    string                  `json:"command,omitempty"`
	Began      time.Time               `json:"began,omitzero"`
	Ended      time.Time               `json:"ended,omitzero"`
	Outcome    reading.Outcome         `json:"outcome"`
	Changes    []reading.PackageChange `json:"changes"`
	Unfinished []reading.Event         `json:"unfinished"`
	Files      []string                `json:"files"`
}

// Failure is where the latest attempt that failed was struck.
type Failure struct {
	Stage    string          `json:"stage,omitempty"`
	Object   string          `json:"object,omitempty"`
	Decisive reading.Event   `json:"decisive"`
	SaidBy   string          `json:"saidBy,omitempty"` // who wrote it, in words
	Why      string          `json:"why"`              // by which rule it was chosen
	Chain    []reading.Event `json:"chain"`
}

// maxTried bounds how many attempts a docket lists.
const maxTried = 20

// Draw reads the logs and judges.
func Draw(
	ctx context.Context, facts *bag.Facts, logs []reading.Source, k *knowledge.Knowledge, progress reading.Progress,
) (*Docket, error) {
	timeline, err := k.Reader.Read(ctx, logs, anchor(facts), progress)
	if err != nil {
		return nil, err
	}
	facts = withVanished(withState(facts, timeline.State), timeline)
	why, notes, err := diagnosis.Rank(timeline, facts, k)
	if err != nil {
		return nil, err
	}
	settle, err := diagnosis.Settle(why, timeline, facts, k)
	if err != nil {
		return nil, err
	}
	var ready []readiness.Choice
	if facts.Installed != nil && facts.Installed.Version != "" {
		if ready, err = readiness.Recommend(readiness.Question{
			Facts:  facts,
			Family: k.Families[facts.Family()],
			Limits: k.Limits,
			Now:    facts.Gathered,
		}, k.Releases, func(*knowledge.Release) *readiness.Plan { return nil }); err != nil {
			return nil, err
		}
	}
	toDo := ladder.Build(why, facts, timeline, k)
	if facts.Call != nil && len(why) == 0 { // no evidence says more than the words
		told, err := ask.About(ask.Question{
			Text: facts.Call.Words, When: facts.Call.When, Family: facts.Family(), Answers: facts.Call.Answers,
		}, k)
		if err != nil {
			return nil, err
		}
		why, settle, toDo = told.Why, told.Next, told.ToDo
	}
	d := &Docket{
		Knowledge:  k.Version,
		Site:       k.SiteVersion(),
		Call:       facts.Call,
		Machine:    facts.Machine,
		Gathered:   facts.Gathered,
		Attempts:   []Attempt{},
		Kinds:      diagnosis.Kinds(why, k.Kinds),
		Why:        append([]diagnosis.Finding{}, why...),
		Settle:     settle,
		Ready:      append([]readiness.Choice{}, ready...),
		Suspects:   suspects(timeline, facts),
		Line:       line(timeline),
		Shifts:     append([]reading.Shift{}, timeline.Shifts...),
		ToDo:       toDo,
		Disks:      facts.Disks,
		Hardware:   facts.Hardware,
		Firmware:   facts.Firmware,
		State:      readiness.JudgeServices(facts.State),
		Conditions: readiness.Conditions(facts.State, k.Limits),
		LeftOut:    facts.LeftOut,
		Files:      append([]reading.FileReport{}, timeline.Files...),
		Notes:      notes,
		Masked:     facts.Masked,
		Harmless:   timeline.Harmless,
		Usual:      timeline.SeenInSuccess,
	}
	for i := len(timeline.Attempts) - 1; i >= 0 && len(d.Attempts) < maxTried; i-- {
		d.Attempts = append(d.Attempts, attemptOf(timeline.Attempts[i]))
	}
	if a := timeline.Latest(); a != nil && a.Decisive != nil {
		d.Failure = &Failure{
			Stage:    a.Stage,
			Object:   a.Object,
			Decisive: *a.Decisive,
			SaidBy:   a.Decisive.Speaker.String(),
			Why:      a.Why,
			Chain:    a.Chain,
		}
	}
	return d, nil
}

// anchor is what the facts know of time.
func anchor(facts *bag.Facts) reading.Anchor {
	a := reading.Anchor{Now: facts.Gathered}
	if facts.Clock != nil && facts.Clock.Uptime > 0 {
		a.Start = facts.Gathered.Add(-time.Duration(facts.Clock.Uptime) * time.Second)
	}
	return a
}

func attemptOf(a *reading.Attempt) Attempt {
	return Attempt{
		Kind: a.Kind, Command: a.Command, Began: a.Began, Ended: a.Ended, Outcome: a.Outcome, Files: a.Files,
		Changes: append([]reading.PackageChange{}, a.Changes...), Unfinished: append([]reading.Event{}, a.Unfinished...),
	}
}
