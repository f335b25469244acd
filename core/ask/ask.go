// Package ask is the front door: from the words that stand on a screen, or a code, to
// the causes, the one question whose answer tells most, and the ladder.
//
//	a, err := ask.About(ask.Question{Text: "kernel panic unable to mount root"}, k)
//	fmt.Println(a.Messages[0].Message.Says, a.Why[0].Title, a.Next[0].Title)
//
// It needs no evidence but the words. What it says is told with its probability; a
// bag says more.
package ask

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/codes"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/messages"
	"diorthos/core/reading"
)

// A Question is what somebody reads off a screen, with what else is known.
type Question struct {
	Text   string `json:"text"`
	When   string `json:"when,omitempty"`   // start or attempt; empty when not known
	Family string `json:"family,omitempty"` // of the system; empty when not known
	// Answers are those given to checks, by the check's id: the number of the answer,
	// from 1.
	Answers map[string]int `json:"answers,omitempty"`
}

// An Answer is what the words point to.
type Answer struct {
	Messages []messages.Match      `json:"messages"` // that may be meant, the likeliest first
	Codes    []codes.Explanation   `json:"codes"`    // that stand in the words
	Why      []diagnosis.Finding   `json:"why"`
	Next     []diagnosis.NextCheck `json:"next"` // what to look at, the most telling first
	ToDo     []ladder.Rung         `json:"toDo"`
	Given    []Given               `json:"given"` // what was answered
	Jobs     []knowledge.Job       `json:"jobs"`  // that are walked in docs/jobs, and are like it
}

// A Given is an answer that was given to a check.
type Given struct {
	Check  string `json:"check"`
	Title  string `json:"title"`
	Answer string `json:"answer"`
}

const (
	// mostMessages bounds how many messages are told of.
	mostMessages = 5
	// leastMessage is the least share with which a message is told of.
	leastMessage = 0.04
	// shown is the least probability with which a cause is told.
	shown = 0.03
	// otherTime is what is left of the share of a message that is shown at another
	// time than the one that was named.
	otherTime = 0.1
)

// About says what words point to. An empty text, or a check that does not exist, is an
// error.
func About(q Question, k *knowledge.Knowledge) (*Answer, error) {
	text := strings.TrimSpace(q.Text)
	if text == "" {
		return nil, fmt.Errorf("ask: no words were given")
	}
	text, err := original(text, k)
	if err != nil {
		return nil, err
	}
	a := &Answer{Messages: matches(text, q, k), Codes: codesIn(text, k), Given: []Given{}}
	if q.Family == "" {
		q.Family = speaks(a.Messages)
		a.Messages = slices.DeleteFunc(
			a.Messages,
			func(m messages.Match) bool { return ofAnother(q.Family, m.Message.Family) },
		)
	}
	w := &weights{k: k, of: map[string]float64{}, says: map[string][]diagnosis.Evidence{}}
	for _, m := range a.Messages {
		for cause, share := range m.Message.Causes {
			w.add(cause, m.Share*share, fmt.Sprintf("%s says: %s", m.Message.By, m.Message.Says))
		}
	}
	w.patterns(text, a.Codes, q)
	for _, id := range slices.Sorted(maps.Keys(q.Answers)) {
		given, err := w.answered(id, q.Answers[id])
		if err != nil {
			return nil, err
		}
		a.Given = append(a.Given, given)
	}
	a.Why = w.findings()
	facts, timeline := &bag.Facts{}, &reading.Timeline{}
	if q.Family != "" {
		facts.Installed = &bag.Installed{Family: q.Family}
	}
	next, err := diagnosis.Settle(a.Why, timeline, facts, k)
	if err != nil {
		return nil, err
	}
	a.Next = slices.DeleteFunc(next, func(n diagnosis.NextCheck) bool { _, given := q.Answers[n.Check]; return given })
	a.ToDo = append([]ladder.Rung{}, ladder.Build(a.Why, facts, timeline, k)...)
	a.Jobs = k.JobsOf(causesOf(a.Why)...)
	return a, nil
}

// causesOf are the causes that are likely enough to lead to a walk through a job like this.
func causesOf(why []diagnosis.Finding) (ids []string) {
	for _, f := range why {
		if f.Probability >= 0.1 {
			ids = append(ids, f.Cause)
		}
	}
	return ids
}

// original brings words of another language back, line by line, as far as the
// catalogues know them.
func original(text string, k *knowledge.Knowledge) (string, error) {
	timeline, err := k.Reader.Read(context.Background(), []reading.Source{{
		Name: "screen.txt", Size: int64(len(text)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text + "\n")), nil },
	}}, reading.Anchor{}, nil)
	if err != nil {
		return text, err
	}
	events := timeline.Unassigned
	for _, a := range timeline.Attempts {
		events = append(events, a.Events()...)
	}
	for _, e := range events {
		if e.Means != "" {
			text = strings.Replace(text, e.Text, e.Means, 1)
		}
	}
	return text, nil
}

// matches are the messages that the words can mean, line by line and as a whole.
func matches(text string, q Question, k *knowledge.Knowledge) []messages.Match {
	best := map[*messages.Message]messages.Match{}
	parts := append([]string{text}, strings.Split(text, "\n")...)
	for i, part := range parts {
		if i > 0 && (len(parts) <= 2 || len(parts) > 40) {
			break
		}
		for _, m := range k.Book.Match(part, mostMessages) {
			if ofAnother(q.Family, m.Message.Family) {
				continue
			}
			if q.When != "" && m.Message.When != q.When {
				m.Share = math.Round(1000*m.Share*otherTime) / 1000
			}
			if m.Share > best[m.Message].Share {
				best[m.Message] = m
			}
		}
	}
	list := slices.Collect(maps.Values(best))
	slices.SortFunc(list, func(a, b messages.Match) int {
		return cmp.Or(cmp.Compare(b.Share, a.Share), cmp.Compare(a.Message.ID, b.Message.ID))
	})
	list = slices.DeleteFunc(list, func(m messages.Match) bool { return m.Share < leastMessage })
	return append([]messages.Match{}, list[:min(len(list), mostMessages)]...)
}

// ofAnother reports whether a thing is of another family than the one that is meant, where both are known.
func ofAnother(meant, family string) bool { return meant != "" && family != "" && family != meant }

// sure is the share from which on a message is taken to be the one that is meant.
const sure = 0.9

// speaks is the family whose systems alone show what the words surely are; empty where several do, or none.
func speaks(list []messages.Match) (family string) {
	for _, m := range list {
		switch of := m.Message.Family; {
		case m.Share < sure || of == "":
		case family != "" && of != family:
			return ""
		default:
			family = of
		}
	}
	return family
}

// codesIn explains the codes that stand in the words.
func codesIn(text string, k *knowledge.Knowledge) []codes.Explanation {
	list := []codes.Explanation{}
	if e := k.Codes.Explain(text); e.Known() || len(e.Perhaps) > 0 && len(strings.Fields(text)) <= 2 {
		list = append(list, e)
	}
	return list
}

// weights are what speaks for each cause, from 0 to 1.
type weights struct {
	k    *knowledge.Knowledge
	of   map[string]float64
	says map[string][]diagnosis.Evidence
}

// add lets one more thing speak for a cause.
func (w *weights) add(cause string, share float64, text string) {
	w.of[cause] = 1 - (1-w.of[cause])*(1-share)
	e := diagnosis.Evidence{Kind: "words", Text: text, Odds: share}
	if share >= shown && !slices.Contains(w.says[cause], e) {
		w.says[cause] = append(w.says[cause], e)
	}
}

// alone is the weight of a pattern that one line of words matches, on the scale of
// prior times odds.
const alone = 0.3

// patterns lets the signatures speak that the words, or the codes in them, match to the
// letter.
func (w *weights) patterns(text string, found []codes.Explanation, q Question) {
	for _, e := range found {
		for _, t := range e.Taken {
			for _, r := range t.Readings {
				text += "\n" + r.Value
			}
		}
		for _, s := range e.Perhaps {
			w.match(s.Value, q, s.Share)
		}
	}
	w.match(text, q, 1)
}

func (w *weights) match(text string, q Question, share float64) {
	hits := w.k.Reader.Hits(text)
	for _, s := range w.k.Signatures {
		c := w.k.Causes[s.Cause]
		if c.CatchAll || ofAnother(q.Family, c.Family) {
			continue
		}
		for i, p := range s.Events {
			if !slices.Contains(hits, s.WatchID(i)) {
				continue
			}
			odds := p.Odds * c.Prior
			w.add(s.Cause, share*odds/(odds+alone), "the words are those of "+strings.ToLower(c.Title[:1])+c.Title[1:])
		}
	}
}

// answered takes the answer to a check into account.
func (w *weights) answered(id string, number int) (Given, error) {
	i := slices.IndexFunc(w.k.Checks, func(c *knowledge.Check) bool { return c.ID == id })
	if i < 0 {
		return Given{}, fmt.Errorf("ask: no check is called %q", id)
	}
	c := w.k.Checks[i]
	if number < 1 || number > len(c.Answers) {
		return Given{}, fmt.Errorf("ask: check %s has the answers 1 to %d, not %d", id, len(c.Answers), number)
	}
	rest := max(0, 1-w.sum())
	total := rest * c.Given(number-1, "")
	for cause := range w.of {
		w.of[cause] *= c.Given(number-1, cause)
		total += w.of[cause]
	}
	for cause := range w.of {
		w.of[cause] /= max(total, 1e-9)
		w.says[cause] = append(w.says[cause], diagnosis.Evidence{
			Kind: "answer", Text: c.Title + " " + c.Answers[number-1].Says, Odds: c.Given(number-1, cause),
		})
	}
	return Given{Check: id, Title: c.Title, Answer: c.Answers[number-1].Says}, nil
}

func (w *weights) sum() (total float64) {
	for _, cause := range slices.Sorted(maps.Keys(w.of)) { // in one order: sums depend on it
		total += w.of[cause]
	}
	return total
}

// findings are the causes by their probability, with what is left for none of them.
func (w *weights) findings() []diagnosis.Finding {
	list := []diagnosis.Finding{}
	total := max(1, w.sum())
	for _, id := range slices.Sorted(maps.Keys(w.of)) {
		p := math.Round(1000*w.of[id]/total) / 1000
		if p < shown {
			continue
		}
		c := w.k.Causes[id]
		list = append(list, diagnosis.Finding{
			Cause: id, Title: c.Title, Explains: c.Explains, Tell: c.Tell, Probability: p, Kind: c.Kind, KindOnly: c.CatchAll,
			For: w.says[id], Against: []diagnosis.Evidence{}, Remedies: c.Remedies,
		})
	}
	slices.SortStableFunc(list, func(a, b diagnosis.Finding) int { return cmp.Compare(b.Probability, a.Probability) })
	return list
}
