package knowledge

import (
	"errors"
	"fmt"
	"regexp"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// A Check is something to look at that tells causes apart. Answers say how
// often each is given under each cause; the last takes the rest.
type Check struct {
	ID      string   `yaml:"id"`
	Title   string   `yaml:"title"` // a question
	Do      string   `yaml:"do"`    // how to look
	Minutes int      `yaml:"minutes"`
	Answers []Answer `yaml:"answers"`
	// Done is an expression over the facts, and Seen a pattern of records, by
	// which the answer is known already.
	Done string `yaml:"done"`
	Seen string `yaml:"seen"`

	done cel.Program
	file string
}

// An Answer is one outcome of a check.
type Answer struct {
	Says      string             `yaml:"says"`
	If        map[string]float64 `yaml:"if"`        // probability of this answer under a cause
	Otherwise float64            `yaml:"otherwise"` // under every other cause
}

// Given is the probability of the i-th answer under a cause.
func (c *Check) Given(i int, cause string) float64 {
	if i < len(c.Answers)-1 {
		return c.Answers[i].given(cause)
	}
	rest := 1.0
	for _, a := range c.Answers[:len(c.Answers)-1] {
		rest -= a.given(cause)
	}
	return max(rest, 0)
}

func (a Answer) given(cause string) float64 {
	if p, ok := a.If[cause]; ok {
		return p
	}
	return a.Otherwise
}

// WatchID names the check's pattern in an event's Hits.
func (c *Check) WatchID() string { return "check/" + c.ID }

// Known says whether the facts hold the answer already.
func (c *Check) Known(facts map[string]any, l Limits) bool {
	if c.done == nil {
		return false
	}
	out, err := eval(c.done, facts, nil, l)
	return err == nil && out == types.True
}

func (c *Check) compile(env *environment, causes map[string]*Cause) (err error) {
	if c.ID == "" || c.Title == "" || c.Do == "" || c.Minutes <= 0 || len(c.Answers) < 2 {
		return errors.New("needs id, title, do, minutes and at least two answers")
	}
	for i, a := range c.Answers {
		if a.Says == "" {
			return fmt.Errorf("answer %d: needs says", i+1)
		}
		if last := i == len(c.Answers)-1; last && (len(a.If) > 0 || a.Otherwise != 0) {
			return errors.New("the last answer takes the rest and has no numbers of its own")
		}
		for cause := range a.If {
			if causes[cause] == nil {
				return fmt.Errorf("answer %q: no cause is called %q", a.Says, cause)
			}
		}
	}
	for cause := range causes {
		sum := 0.0
		for i := range c.Answers {
			p := c.Given(i, cause)
			if sum += p; p < 0 || sum > 1.000001 {
				return fmt.Errorf("the answers' probabilities under %q are not between 0 and 1 together", cause)
			}
		}
	}
	if c.Done != "" {
		if c.done, err = env.program(c.Done, cel.BoolType); err != nil {
			return fmt.Errorf("done: %w", err)
		}
	}
	if _, err := regexp.Compile(c.Seen); err != nil {
		return fmt.Errorf("seen: %w", err)
	}
	return nil
}
