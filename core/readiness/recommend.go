package readiness

import (
	"fmt"

	"diorthos/core/knowledge"
)

// A Choice is a release with the reason why it was picked, or was not.
type Choice struct {
	Report *Report `json:"report"`
	Picked bool    `json:"picked"`
	Why    string  `json:"why"`
}

// Recommend judges every release of the machine's family and picks the one to
// go to: the newest that nothing speaks against, and of the machine's own
// release only when no later one can be had. plan computes what an upgrade
// would consist of and may return nil.
func Recommend(q Question, releases []*knowledge.Release, plan func(*knowledge.Release) *Plan) ([]Choice, error) {
	var list []Choice
	picked := -1
	for _, r := range releases {
		sys := q.Facts.Installed
		if sys != nil && r.Family != sys.Family {
			continue
		}
		one := q
		one.Release, one.Plan = r, plan(r)
		report, err := Judge(one)
		if err != nil {
			return nil, err
		}
		c := Choice{Report: report}
		if v := report.first(Unfit, general...); v != nil {
			c.Why = fmt.Sprintf("%s: %s, want %s", v.Title, v.Measured, v.Required)
		} else if picked >= 0 {
			c.Why = list[picked].Report.Title + " is newer and fits as well"
		} else {
			picked, c.Picked = len(list), true
			c.Why = "the newest that nothing speaks against"
			if v := report.first(Unfit); v != nil { // the same for every release
				c.Why = fmt.Sprintf("the newest that the machine is fit for, once this is put right: %s: %s", v.Title, v.Measured)
			}
			if v := report.first(Doubtful, general...); v != nil {
				c.Why += fmt.Sprintf("; mind: %s: %s", v.Title, v.Measured)
			}
		}
		list = append(list, c)
	}
	return list, nil
}

// general are the verdicts that are the same for every release.
var general = []string{"restart", "unfinished", "clock", "lists", "network", "devices", "health"}

// first returns the first verdict of that word, other than those named.
func (r *Report) first(word Rating, except ...string) *Verdict {
	skip := map[string]bool{}
	for _, id := range except {
		skip[id] = true
	}
	for i := range r.Verdicts {
		if v := &r.Verdicts[i]; v.Verdict == word && !skip[v.ID] {
			return v
		}
	}
	return nil
}
