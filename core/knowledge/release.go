package knowledge

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"diorthos/core/layout"
	"diorthos/core/units"
)

// A Release is one that a machine can be installed with or upgraded to, with
// what it asks of the machine. Its file says where each demand is published.
type Release struct {
	ID            string        `yaml:"id"`
	Family        string        `yaml:"family"`
	Title         string        `yaml:"title"`
	Version       string        `yaml:"version"`
	Codename      string        `yaml:"codename"`
	Source        string        `yaml:"source"`
	Published     string        `yaml:"published"`      // dates as 2006-01-02
	SupportUntil  string        `yaml:"support-until"`  // the last day with security updates for all packages
	ExtendedUntil string        `yaml:"extended-until"` // the last day with any; may be empty
	UpgradeFrom   []string      `yaml:"upgrade-from"`   // versions from which it can be upgraded to in one step
	SignedFrom    string        `yaml:"signed-from"`    // validity of its installer's signature; may be empty
	SignedUntil   string        `yaml:"signed-until"`   //
	Requires      []Requirement `yaml:"requires"`
	Lacks         []Lack        `yaml:"lacks"`

	file string
}

// A Lack is a package that runs on earlier releases and not on this one.
type Lack struct {
	Package string `yaml:"package"`
	Why     string `yaml:"why"`
}

// A Requirement is one thing that a release asks of a machine. Measure is an
// expression over the facts; what cannot be evaluated was not measured.
type Requirement struct {
	ID      string `yaml:"id"`
	Title   string `yaml:"title"`
	Measure string `yaml:"measure"`
	Unit    string `yaml:"unit"` // bytes, pixels, …; empty for words
	// AtLeast is what it cannot do without, Should what it works well with.
	AtLeast string   `yaml:"at-least"`
	Should  string   `yaml:"should"`
	OneOf   []string `yaml:"one-of"`
	// Place says that it asks for a size of the disk, or of the partition of a
	// role, and so can be held against a partition table alone: disk, system,
	// boot or esp.
	Place layout.Role `yaml:"place"`
	// When says for which machines it counts; empty for all.
	When string `yaml:"when"`
	Why  string `yaml:"why"`
	Do   string `yaml:"do"`  // what makes an unfit machine fit
	Ask  string `yaml:"ask"` // how to measure what was not

	measure, when cel.Program
	atLeast       int64
	should        int64
}

// Day reads a date of a release.
func Day(s string) (time.Time, error) { return time.Parse(time.DateOnly, s) }

func (r *Release) compile(env *environment) error {
	if r.ID == "" || r.Family == "" || r.Title == "" || r.Version == "" || r.Source == "" {
		return errors.New("needs id, family, title, version and source")
	}
	for name, day := range map[string]string{
		"published":      r.Published,
		"support-until":  r.SupportUntil,
		"extended-until": r.ExtendedUntil,
		"signed-from":    r.SignedFrom,
		"signed-until":   r.SignedUntil,
	} {
		if _, err := Day(day); err != nil && (day != "" || name == "published" || name == "support-until") {
			return fmt.Errorf("%s %q: want a date such as 2026-11-23", name, day)
		}
	}
	for i := range r.Requires {
		if err := r.Requires[i].compile(env); err != nil {
			return fmt.Errorf("requirement %q: %w", r.Requires[i].ID, err)
		}
	}
	return nil
}

func (q *Requirement) compile(env *environment) (err error) {
	if q.ID == "" || q.Title == "" || q.AtLeast == "" && q.Should == "" && len(q.OneOf) == 0 {
		return errors.New("needs id, title and at-least, should or one-of")
	}
	if q.measure, err = env.program(q.Measure, cel.DynType); err != nil {
		return fmt.Errorf("measure: %w", err)
	}
	if q.Place != "" &&
		(q.Unit != "bytes" ||
			!slices.Contains([]layout.Role{"disk", layout.RoleSystem, layout.RoleBoot, layout.RoleESP}, q.Place)) {
		return fmt.Errorf("place %q: want disk, system, boot or esp, with bytes for the unit", q.Place)
	}
	if q.When != "" {
		if q.when, err = env.program(q.When, cel.BoolType); err != nil {
			return fmt.Errorf("when: %w", err)
		}
	}
	for text, into := range map[string]*int64{q.AtLeast: &q.atLeast, q.Should: &q.should} {
		if text == "" {
			continue
		}
		if *into, err = units.ParseBytes(text); err != nil {
			return err
		}
	}
	return nil
}

// Sizes lists what the release asks of the disk and of its partitions.
func (r *Release) Sizes() []layout.Demand {
	var list []layout.Demand
	for _, q := range r.Requires {
		if q.Place != "" {
			list = append(list, layout.Demand{Role: q.Place, AtLeast: q.atLeast, Should: q.should, By: r.Title})
		}
	}
	return list
}

// A Measured is what a requirement found on a machine.
type Measured struct {
	Known  bool
	Text   string // the value in words, in the requirement's unit
	Meets  bool   // what it cannot do without
	Enough bool   // what it works well with too
}

// Applies says whether the requirement counts for a machine with these facts.
func (q *Requirement) Applies(facts map[string]any) bool {
	if q.when == nil {
		return true
	}
	out, err := eval(q.when, facts, nil, Limits{})
	return err == nil && out == types.True
}

// Take measures. What the facts do not tell is not known.
func (q *Requirement) Take(facts map[string]any) Measured {
	out, err := eval(q.measure, facts, nil, Limits{})
	if err != nil || out == types.NullValue {
		return Measured{}
	}
	switch v := out.Value().(type) {
	case int64:
		if v <= 0 {
			return Measured{}
		}
		return Measured{Known: true, Text: q.amount(v), Meets: v >= q.atLeast, Enough: v >= max(q.atLeast, q.should)}
	case string:
		if v == "" {
			return Measured{}
		}
		ok := slices.Contains(q.OneOf, v)
		return Measured{Known: true, Text: v, Meets: ok, Enough: ok}
	}
	return Measured{}
}

// Wanted says what is required, in words.
func (q *Requirement) Wanted() string {
	switch {
	case len(q.OneOf) > 0:
		return strings.Join(q.OneOf, ", ")
	case q.AtLeast != "" && q.Should != "":
		return fmt.Sprintf("%s, better %s", q.amount(q.atLeast), q.amount(q.should))
	case q.AtLeast != "":
		return q.amount(q.atLeast)
	}
	return "better " + q.amount(q.should)
}

func (q *Requirement) amount(n int64) string {
	if q.Unit == "bytes" {
		return units.FormatBytes(n)
	}
	return strings.TrimSpace(strconv.FormatInt(n, 10) + " " + q.Unit)
}
