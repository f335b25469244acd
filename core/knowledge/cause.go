package knowledge

import (
	"errors"
	"fmt"
	"regexp"
	"slices"

	"diorthos/core/action"
	"diorthos/core/layout"
)

// What a cause can explain. Causes that explain the same thing compete.
const (
	ExplainsStart   = "start"   // that the machine does not start
	ExplainsAttempt = "attempt" // that the attempt failed
)

// A Cause is something that can be wrong.
type Cause struct {
	ID       string   `yaml:"id"`
	Title    string   `yaml:"title"`
	Explains string   `yaml:"explains"`
	Prior    float64  `yaml:"prior"` // share of failed attempts with this cause, before any evidence
	Tell     string   `yaml:"tell"`  // what a person should be told
	Family   string   `yaml:"-"`     // of systems that can have it; empty for any
	Remedies []string `yaml:"remedies"`
	Kind     string   `yaml:"kind"` // the ID of a [Kind]; a site may leave it out
	// CatchAll says that it names its kind only, known by who failed at what. It is what
	// is left to say where no closer cause is known.
	CatchAll bool `yaml:"catch-all"`
	// PassesOn says that it tells who failed and not why: what the kernel answered is
	// closer to the cause.
	PassesOn bool `yaml:"passes-on"`
	// Latent says that it is what a failure leaves behind: it is told where nothing failed
	// that would explain it, and never beside a failure.
	Latent bool `yaml:"latent"`
	// Possible says that it can keep a machine from starting, and need not.
	Possible bool `yaml:"possible"`

	file string
}

// Invasiveness says how much a remedy costs the machine's user.
type Invasiveness string

// The four degrees, the mildest first.
const (
	Looks    Invasiveness = "looks"    // changes nothing
	Undoable Invasiveness = "undoable" // changes, and can be taken back exactly
	Disrupts Invasiveness = "disrupts" // restart or loss of service; still undoable
	Destroys Invasiveness = "destroys" // data is lost
)

// Degrees lists the four, the mildest first.
func Degrees() []Invasiveness { return []Invasiveness{Looks, Undoable, Disrupts, Destroys} }

var degrees = map[Invasiveness]int{Looks: 1, Undoable: 2, Disrupts: 3, Destroys: 4}

// Degree is 1 for the mildest to 4 for the gravest, 0 if it is none of the
// four words.
func (i Invasiveness) Degree() int { return degrees[i] }

// Who takes a rung.
const (
	ByDiorthos = "diorthos"
	ByHands    = "hands"
)

// A Remedy is a way to repair.
type Remedy struct {
	ID       string            `yaml:"id"`
	Title    string            `yaml:"title"`
	Invasive Invasiveness      `yaml:"invasive"`
	Minutes  int               `yaml:"minutes"` // typically
	Helps    float64           `yaml:"helps"`   // chance that it cures, if the cause is right
	By       string            `yaml:"by"`
	Action   action.ID         `yaml:"action"` // the typed action, when by diorthos
	Params   map[string]string `yaml:"params"` // of the action
	Does     string            `yaml:"does"`
	Proof    string            `yaml:"proof"`
	Steps    []Step            `yaml:"steps"` // when by hand
	After    []string          `yaml:"after"` // remedies that come first, when they are chosen too
	// roles of the partitions whose data are lost by it; all when it destroys and names none
	Loses   []layout.Role `yaml:"loses"`
	Loans   []LoanTerms   `yaml:"loans"`
	Restart bool          `yaml:"restart"` // the machine has to be restarted before the next rung
	// Pass says of one by hand that what comes after it may be tried before it, where nobody is there to do it.
	Pass bool `yaml:"pass"`
	// Said is a pattern: the remedy is for failures of whose evidence a record matches it. Empty for all.
	Said string `yaml:"said"`

	said *regexp.Regexp
	file string
}

// LoanTerms are something that a remedy changes for a while.
type LoanTerms struct {
	What string `yaml:"what" json:"what"`
	Back string `yaml:"back" json:"back"` // how it is given back
}

// Fits reports whether it is for a failure with this evidence.
func (r *Remedy) Fits(said string) bool { return r.said == nil || r.said.MatchString(said) }

func (r *Remedy) check(env *environment, all map[string]*Remedy) (err error) {
	if r.Said != "" {
		if r.said, err = regexp.Compile(r.Said); err != nil {
			return fmt.Errorf("said: %w", err)
		}
	}
	for i, s := range r.Steps {
		if err := s.check(env); err != nil {
			return fmt.Errorf("step %d: %w", i+1, err)
		}
	}
	switch {
	case r.Title == "":
		return errors.New("needs a title")
	case r.Invasive.Degree() == 0:
		return fmt.Errorf("invasive %q: want looks, undoable, disrupts or destroys", r.Invasive)
	case r.Helps <= 0 || r.Helps > 1 || r.Minutes <= 0:
		return errors.New("needs helps (above 0, at most 1) and minutes (above 0)")
	case r.Pass && r.By != ByHands:
		return errors.New("pass is for a remedy by hand")
	case r.By == ByDiorthos && r.Action == "":
		return errors.New("is done by diorthos and names no action")
	case r.By == ByHands && len(r.Steps) == 0:
		return errors.New("is done by hand and lists no steps")
	case r.By != ByDiorthos && r.By != ByHands:
		return fmt.Errorf("by %q: want %s or %s", r.By, ByDiorthos, ByHands)
	}
	return errors.Join(r.checkAction(), r.checkOrder(all))
}

// checkAction looks whether the action is there, takes these parameters, and is
// as invasive as is said.
func (r *Remedy) checkAction() error {
	for _, role := range r.Loses {
		if !slices.Contains(layout.Roles(), role) {
			return fmt.Errorf("loses %q: no partition has this role: want one of %v", role, layout.Roles())
		}
	}
	if r.By != ByDiorthos {
		return nil
	}
	a, ok := action.Named(r.Action)
	switch {
	case !ok || a.ID != r.Action:
		return fmt.Errorf("no action is called %q: want one of %v", r.Action, action.IDs())
	case a.Destroys && r.Invasive != Destroys:
		return fmt.Errorf("%s destroys data, and the remedy says %s", r.Action, r.Invasive)
	}
	return a.CheckParams(r.Params)
}

// checkOrder looks whether the remedies that come first are there, and do not
// come after this one.
func (r *Remedy) checkOrder(all map[string]*Remedy) error {
	seen := map[string]bool{}
	wait := slices.Clone(r.After)
	for len(wait) > 0 {
		id := wait[0]
		wait = wait[1:]
		switch {
		case id == r.ID:
			return errors.New("after: comes after itself, by way of others")
		case all[id] == nil:
			return fmt.Errorf("after: no remedy is called %q", id)
		case !seen[id]:
			seen[id] = true
			wait = append(wait, all[id].After...)
		}
	}
	return nil
}
