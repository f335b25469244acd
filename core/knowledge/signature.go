package knowledge

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"diorthos/core/reading"
)

// Where an event pattern of a signature is looked for.
const (
	InChain    = "chain"    // the decisive event and what followed from it
	InAttempt  = "attempt"  // all of the failed attempt
	Anywhere   = "anywhere" // all logs
	InDecisive = "decisive" // the decisive event alone
	InStart    = "start"    // all of the failed attempt, if it is a start of the machine
)

// A Signature is a pattern of events and facts that points to a cause. Each
// piece carries the odds by which it makes the cause more likely when it is
// there, and, as Otherwise, when it is not; 1 says nothing either way.
type Signature struct {
	ID     string         `yaml:"id"`
	Cause  string         `yaml:"cause"`
	Events []EventPattern `yaml:"events"`
	Facts  []Condition    `yaml:"facts"`
	// Attempt is an outcome of the attempt, and Stage, if it is given, the
	// stage at which it was struck, that speak for the cause by Odds.
	Attempt reading.Outcome `yaml:"attempt"`
	Stage   string          `yaml:"stage"`
	Odds    float64         `yaml:"odds"`

	file string
}

// An EventPattern is looked for in events.
type EventPattern struct {
	Match string `yaml:"match"`
	In    string `yaml:"in"`
	// Peer asks besides that the record tells of another machine than its address names.
	Peer      bool    `yaml:"peer"`
	Odds      float64 `yaml:"odds"`
	Otherwise float64 `yaml:"otherwise"`
}

// A Condition is asked of each element of a list of facts, as "it", in the
// Common Expression Language. Say puts into words what was found.
type Condition struct {
	Each      string  `yaml:"each"`
	When      string  `yaml:"when"`
	Say       string  `yaml:"say"`
	Odds      float64 `yaml:"odds"`
	Otherwise float64 `yaml:"otherwise"`

	each, when, say cel.Program
}

// WatchID names the i-th event pattern in an event's Hits.
func (s *Signature) WatchID(i int) string { return fmt.Sprintf("%s/%d", s.ID, i) }

func (s *Signature) compile(env *environment) error {
	if s.ID == "" || len(s.Events)+len(s.Facts) == 0 && s.Attempt == "" {
		return errors.New("needs an id and at least one event, fact or outcome of the attempt")
	}
	if s.Attempt != "" && (s.Attempt != reading.CutOff && s.Attempt != reading.Failed || s.Odds <= 0) {
		return fmt.Errorf("attempt %q: want %q or %q, with odds above 0", s.Attempt, reading.CutOff, reading.Failed)
	}
	for i := range s.Events {
		e := &s.Events[i]
		switch e.In {
		case "":
			e.In = InAttempt
		case InChain, InAttempt, Anywhere, InDecisive, InStart:
		default:
			return fmt.Errorf(
				"event %d: in %q: want %s, %s, %s, %s or %s", i+1, e.In, InDecisive, InChain, InAttempt, InStart, Anywhere,
			)
		}
		if _, err := regexp.Compile(e.Match); err != nil {
			return fmt.Errorf("event %d: %w", i+1, err)
		}
		if err := odds(e.Odds, &e.Otherwise); err != nil {
			return fmt.Errorf("event %d: %w", i+1, err)
		}
	}
	for i := range s.Facts {
		if err := s.Facts[i].compile(env); err != nil {
			return fmt.Errorf("fact %d: %w", i+1, err)
		}
	}
	return nil
}

func odds(seen float64, otherwise *float64) error {
	if *otherwise == 0 {
		*otherwise = 1
	}
	if seen <= 0 || *otherwise < 0 {
		return errors.New("needs odds above 0: how many times as often this is seen with the cause as without")
	}
	return nil
}

func (c *Condition) compile(env *environment) (err error) {
	if err := odds(c.Odds, &c.Otherwise); err != nil {
		return err
	}
	var list *cel.Type
	if c.each, list, err = env.compile(env.cel, c.Each, cel.ListType(cel.DynType)); err != nil {
		return fmt.Errorf("each: %w", err)
	}
	each, err := env.over(list)
	if err != nil {
		return err
	}
	if c.when, _, err = env.compile(each, c.When, cel.BoolType); err != nil {
		return fmt.Errorf("when: %w", err)
	}
	if c.say, _, err = env.compile(each, c.Say, cel.StringType); err != nil {
		return fmt.Errorf("say: %w", err)
	}
	return nil
}

// An Asking is what a condition found: the words for each element for which it
// holds, and why it could not be asked of some. What cannot be evaluated is not
// known; it speaks neither for nor against.
type Asking struct {
	Says    []string
	Unknown []string
}

// Ask asks the condition of each element. One that lacks a field that is asked
// about does not fulfil it.
func (c *Condition) Ask(facts map[string]any, l Limits) (a Asking) {
	out, err := eval(c.each, facts, nil, l)
	if err != nil || out == types.NullValue {
		return a // the facts have no such list
	}
	list, err := out.ConvertToNative(reflect.TypeFor[[]any]())
	if err != nil {
		a.Unknown = append(a.Unknown, fmt.Sprintf("each %q: %v", c.Each, err))
		return a
	}
	for _, it := range list.([]any) {
		holds, err := eval(c.when, facts, it, l)
		if err != nil {
			if !lacksField(err) {
				a.Unknown = append(a.Unknown, fmt.Sprintf("when %q: %v", c.When, err))
			}
			continue
		}
		if holds != types.True {
			continue
		}
		words, err := eval(c.say, facts, it, l)
		if err != nil { // it holds all the same
			a.Unknown = append(a.Unknown, fmt.Sprintf("say %q: %v", c.Say, err))
			a.Says = append(a.Says, "as the signature asks; the words for it could not be made")
			continue
		}
		a.Says = append(a.Says, fmt.Sprint(words.Value()))
	}
	return a
}

// lacksField reports whether an expression could not be evaluated because the
// facts do not hold what it asks about.
func lacksField(err error) bool {
	return strings.Contains(err.Error(), "no such key") || strings.Contains(err.Error(), "no such attribute")
}
