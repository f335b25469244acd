package knowledge

import (
	"fmt"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// A Step is one thing for a person to do.
type Step struct {
	Do    string `yaml:"do" json:"do"`
	Shows string `yaml:"shows" json:"shows"` // what is seen when it went right
	// Seen is a condition over the machine's facts that holds once the step
	// went right; empty where facts do not tell.
	Seen string `yaml:"seen" json:"seen,omitempty"`
}

// A Measure is what facts say of a step that a person took.
type Measure string

// What facts can say.
const (
	NotMeasured Measure = ""
	Holds       Measure = "holds"
	Fails       Measure = "fails"
)

func (s Step) check(env *environment) error {
	if s.Seen == "" {
		return nil
	}
	_, err := env.program(s.Seen, cel.BoolType)
	if err != nil {
		err = fmt.Errorf("seen: %w", err)
	}
	return err
}

// Measure holds a step against facts that were gathered after it.
func (s Step) Measure(facts map[string]any) (Measure, error) {
	if s.Seen == "" {
		return NotMeasured, nil
	}
	env, err := newEnvironment()
	if err != nil {
		return NotMeasured, err
	}
	seen, err := env.program(s.Seen, cel.BoolType)
	if err != nil {
		return NotMeasured, fmt.Errorf("seen %q: %w", s.Seen, err)
	}
	out, err := eval(seen, facts, nil, Limits{})
	switch {
	case err != nil:
		return NotMeasured, nil //nolint:nilerr // the facts have no such thing
	case out == types.True:
		return Holds, nil
	}
	return Fails, nil
}
