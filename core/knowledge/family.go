package knowledge

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/upkeep"
)

// A Family is what is told of one family of systems where no cause is asked
// about.
type Family struct {
	ID          string        `yaml:"family"`
	AtRest      []string      `yaml:"at-rest"`      // states in which a package may be left
	Finish      string        `yaml:"finish"`       // how work that was not finished is
	ReleaseHold string        `yaml:"release-hold"` // how a package that is held back is let go; {package} is its name
	Media       []MediumTitle `yaml:"media"`
	// Finishes is the remedy that finishes it, whatever stopped it.
	Finishes string `yaml:"finishes"`
	// General are the remedies that are left when nothing closer is known, or helped,
	// in the order in which they are to be taken.
	General []string `yaml:"general"`
	// GeneralOfStart are those that are left besides for a machine that does not start.
	GeneralOfStart []string `yaml:"general-of-start"`
	// Owners say whose the files of a system's volume are, for what fills it.
	Owners []upkeep.Owner `yaml:"owners"`

	file string
}

// A MediumTitle is how install media of a release call themselves.
type MediumTitle struct {
	Title   string `yaml:"title"` // a pattern
	Release string `yaml:"release"`

	pattern *regexp.Regexp
}

// Unfinished are the packages that lie in a state in which work on them was not finished.
func (f *Family) Unfinished(list []bag.Package) (left []bag.Package) {
	for _, p := range list {
		if !slices.Contains(f.AtRest, p.State) {
			left = append(left, p)
		}
	}
	return left
}

func (f *Family) check(releases []*Release, remedies map[string]*Remedy) error {
	if f.ID == "" || len(f.AtRest) == 0 || f.Finish == "" || f.ReleaseHold == "" {
		return errors.New("needs family, at-rest, finish and release-hold")
	}
	for _, o := range f.Owners {
		if o.Of == "" || !fs.ValidPath(o.Path) || o.Path == "." {
			return fmt.Errorf("owners: %q: needs a path without a leading slash, and of", o.Path)
		}
	}
	for _, id := range slices.Concat(f.General, f.GeneralOfStart) {
		if remedies[id] == nil {
			return fmt.Errorf("general: no remedy is called %q", id)
		}
	}
	if f.Finishes != "" && remedies[f.Finishes] == nil {
		return fmt.Errorf("finishes: no remedy is called %q", f.Finishes)
	}
	for i := range f.Media {
		m := &f.Media[i]
		var err error
		if m.pattern, err = regexp.Compile(m.Title); err != nil {
			return fmt.Errorf("media: title: %w", err)
		}
		known := false
		for _, r := range releases {
			known = known || r.ID == m.Release
		}
		if !known {
			return fmt.Errorf("media: no release is called %q", m.Release)
		}
	}
	return nil
}

// LetGo says how a package that is held back is let go.
func (f *Family) LetGo(name string) string {
	if f == nil {
		return "Release the hold first, if it may go."
	}
	return strings.ReplaceAll(f.ReleaseHold, "{package}", name)
}

// ReleaseOfMedium is the release that an install medium of a title holds; empty
// when it is not known.
func (k *Knowledge) ReleaseOfMedium(title string) string {
	for _, f := range k.Families {
		for _, m := range f.Media {
			if m.pattern.MatchString(title) {
				return m.Release
			}
		}
	}
	return ""
}
