package readiness

import (
	"fmt"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
)

// Applicable says whether an update fits an installed system: of its
// architecture, not superseded by what is there, not older than it.
func Applicable(
	sys *bag.Installed, update bag.Package, family *knowledge.Family, compare func(a, b string) int,
) Verdict {
	v := Verdict{ID: "update", Title: "Update", Required: update.Name + " " + update.Version, Verdict: Fit}
	arches := append([]string{sys.Architecture, "all"}, sys.Foreign...)
	if !slices.Contains(arches, update.Architecture) {
		v.Required, v.Measured, v.Verdict = "made for "+sys.Architecture, "made for "+update.Architecture, Unfit
		v.Do = "Fetch the package of this machine's architecture."
		return v
	}
	v.Measured = "not installed: it would come newly"
	for _, p := range sys.Packages {
		if p.Name != update.Name || p.State == "config-files" || p.State == "not-installed" {
			continue
		}
		v.Measured = fmt.Sprintf("%s is %s", p.Version, strings.ReplaceAll(p.State, "-", " "))
		switch c := compare(update.Version, p.Version); {
		case c == 0:
			v.Verdict, v.Do = Doubtful, "It is there already: installing it again only helps if its files are damaged."
		case c < 0:
			v.Verdict, v.Do = Unfit, "It is older than what is installed: superseded."
		case p.Held:
			v.Measured += " and held"
			v.Verdict, v.Do = Unfit, family.LetGo(p.Name)
		}
	}
	return v
}
