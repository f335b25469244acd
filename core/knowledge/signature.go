package knowledge

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"

	"diorthos/core/reading"
)

// Where an event pattern of a signature is looked for.
const (
	InChain    = "chain"    // the decisive event and what followed from it
	InAttempt  = "attempt"  // all of the failed attempt
	Anywhere   = "anywhere" // all logs
	InDecisive = "decisive" // the decisive event alone
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
	Match     string  `yaml:"match"`
	In        string  `yaml:"in"`
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
		case InChain, InAttempt, Anywhere, InDecisive:
		default:
			return fmt.Errorf("event %d: in %q: want %s, %s, %s or %s", i+1, e.In, InDecisive, InChain, InAttempt, Anywhere)
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
	if c.each, err = env.program(c.Each, cel.ListType(cel.DynType)); err != nil {
		return fmt.Errorf("each: %w", err)
	}
	if c.when, err = env.program(c.When, cel.BoolType); err != nil {
		return fmt.Errorf("when: %w", err)
	}
	if c.say, err = env.program(c.Say, cel.StringType); err != nil {
		return fmt.Errorf("say: %w", err)
	}
	return nil
}

// Ask returns the words for each element for which the condition holds.
// An element that lacks a field that is asked about does not fulfil it.
func (c *Condition) Ask(facts map[string]any) ([]string, error) {
	out, _, err := c.each.Eval(map[string]any{"facts": facts, "it": nil})
	if err != nil || out == types.NullValue {
		return nil, nil //nolint:nilerr // the facts have no such list
	}
	list, err := out.ConvertToNative(reflect.TypeFor[[]any]())
	if err != nil {
		return nil, fmt.Errorf("each %q: %w", c.Each, err)
	}
	var said []string
	for _, it := range list.([]any) {
		vars := map[string]any{"facts": facts, "it": it}
		holds, _, err := c.when.Eval(vars)
		if err != nil || holds != types.True {
			continue
		}
		words, _, err := c.say.Eval(vars)
		if err != nil {
			return nil, fmt.Errorf("say %q: %w", c.Say, err)
		}
		said = append(said, fmt.Sprint(words.Value()))
	}
	return said, nil
}

// environment is what expressions may use: the facts, the element "it", and
// size_text(), which writes a size in bytes.
type environment struct{ cel *cel.Env }

func newEnvironment() (*environment, error) {
	env, err := cel.NewEnv(
		cel.Variable("facts", cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable("it", cel.DynType),
		ext.Lists(),
		ext.Strings(),
		cel.Function("size_text", cel.Overload("size_of_dyn", []*cel.Type{cel.DynType}, cel.StringType, cel.UnaryBinding(sayBytes))),
	)
	if err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
	return &environment{env}, nil
}

func sayBytes(v ref.Val) ref.Val {
	if n, ok := v.Value().(int64); ok {
		return types.String(FormatBytes(n))
	}
	return types.NewErr("size_text() wants a whole number, got %T", v.Value())
}

func (e *environment) program(text string, want *cel.Type) (cel.Program, error) {
	tree, issues := e.cel.Compile(text)
	if issues.Err() != nil {
		return nil, issues.Err()
	}
	if got := tree.OutputType(); !want.IsExactType(cel.DynType) && !got.IsAssignableType(want) && !got.IsExactType(cel.DynType) {
		return nil, fmt.Errorf("%q gives %s, want %s", text, got, want)
	}
	return e.cel.Program(tree, cel.CostLimit(1_000_000))
}
