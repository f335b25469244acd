package ladder

import (
	"fmt"
	"slices"
	"sort"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
)

// A Rung is a remedy chosen for one case.
type Rung struct {
	Number   int                    `json:"number"` // from 1
	Remedy   string                 `json:"remedy"`
	Title    string                 `json:"title"`
	Why      string                 `json:"why"`
	Invasive knowledge.Invasiveness `json:"invasive"`
	Minutes  int                    `json:"minutes"`
	Chance   float64                `json:"chance"` // that it cures what it is there for
	By       string                 `json:"by"`     // diorthos or hands
	Action   string                 `json:"action,omitempty"`
	Does     string                 `json:"does,omitempty"`
	Proof    string                 `json:"proof,omitempty"`
	Steps    []knowledge.Step       `json:"steps,omitempty"`
	Loans    []knowledge.LoanTerms  `json:"loans,omitempty"`
	Loses    []string               `json:"loses,omitempty"`   // roles of the partitions whose data are lost; all when it destroys and names none
	Restart  bool                   `json:"restart,omitempty"` // owed after it
	Params   map[string]string      `json:"params,omitempty"`  // of the action
	Target   *block.Target          `json:"target,omitempty"`  // the disk or nameplate that it is for
}

// unlikely is the probability below which a cause gets no rung.
const unlikely = 0.1

// Build chooses and orders the rungs: what explains that the machine does not
// start comes first, since nothing else can be proven before; then the more
// likely to help for its cost. A remedy that several causes share stands once.
func Build(findings []diagnosis.Finding, facts *bag.Facts, k *knowledge.Knowledge) []Rung {
	type candidate struct {
		rung  Rung
		start bool
		score float64
	}
	var list []candidate
	seen := map[string]int{}
	for _, f := range findings {
		if f.Probability < unlikely {
			continue
		}
		for _, id := range f.Remedies {
			r := k.Remedies[id]
			if at, ok := seen[id]; ok {
				list[at].rung.Why += fmt.Sprintf("; %s (%.0f %%)", f.Title, 100*f.Probability)
				continue
			}
			seen[id] = len(list)
			chance := f.Probability * r.Helps
			list = append(list, candidate{
				rung: Rung{
					Remedy: r.ID, Title: r.Title, Invasive: r.Invasive, Minutes: r.Minutes, Chance: chance, By: r.By, Action: r.Action, Does: r.Does, Proof: r.Proof, Steps: r.Steps, Loans: r.Loans, Loses: r.Loses, Restart: r.Restart, Params: r.Params,
					Why: fmt.Sprintf("%s (%.0f %%)", f.Title, 100*f.Probability), Target: TargetOf(r.Action, facts),
				},
				start: f.Explains == knowledge.ExplainsStart,
				score: chance / cost(r),
			})
		}
	}
	sort.SliceStable(list, func(i, j int) bool {
		a, b := list[i], list[j]
		switch {
		case a.start != b.start:
			return a.start
		case slices.Contains(k.Remedies[b.rung.Remedy].After, a.rung.Remedy):
			return true
		case slices.Contains(k.Remedies[a.rung.Remedy].After, b.rung.Remedy):
			return false
		}
		return a.score > b.score
	})
	rungs := make([]Rung, len(list))
	for i, c := range list {
		rungs[i] = c.rung
		rungs[i].Number = i + 1
	}
	return rungs
}

// cost grows tenfold with each degree of invasiveness, and with the time.
func cost(r *knowledge.Remedy) float64 {
	c := 1.0
	for range r.Invasive.Degree() {
		c *= 10
	}
	return c * (1 + float64(r.Minutes)/60)
}

// TargetOf is the disk or nameplate that an action is for: the one that its
// guard accepts; nil if there is none.
func TargetOf(name string, facts *bag.Facts) *block.Target {
	action, ok := actions[name]
	if !ok {
		return nil
	}
	if action.plate {
		if !action.fits(facts, bag.Disk{}) {
			return nil
		}
		p := facts.State.Plate
		return &block.Target{Path: p.Source, Size: p.Size, SectorSize: 512, Marks: []string{p.Mark}}
	}
	for _, d := range facts.Disks {
		if action.fits(facts, d) {
			return &block.Target{Path: d.Source, Size: d.Size, SectorSize: d.SectorSize, Marks: d.Marks}
		}
	}
	return nil
}
