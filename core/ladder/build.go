package ladder

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/layout"
	"diorthos/core/reading"
	"diorthos/core/units"
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
	Action   action.ID              `json:"action,omitempty"`
	Does     string                 `json:"does,omitempty"`
	Proof    string                 `json:"proof,omitempty"`
	Steps    []knowledge.Step       `json:"steps,omitempty"`
	Loans    []knowledge.LoanTerms  `json:"loans,omitempty"`
	// roles of the partitions whose data are lost; all when it destroys and names none
	Loses   []layout.Role     `json:"loses,omitempty"`
	Restart bool              `json:"restart,omitempty"` // owed after it
	Params  map[string]string `json:"params,omitempty"`  // of the action
	// Again is the command of the attempt that failed: it is made again on a copy, once the rung is proven.
	Again  string        `json:"again,omitempty"`
	Target *block.Target `json:"target,omitempty"` // the disk or nameplate that it is for
	// Pass says of one by hand that what comes after it may be tried before it, where nobody is there to do it.
	Pass bool `json:"pass,omitempty"`
	// General says that nothing points to it: it is what is left to try.
	General bool `json:"general,omitempty"`
}

// couldNot is what is left of the chance of a remedy that could not be carried out when it was tried.
const couldNot = 0.2

// unlikely is the probability below which a cause gets no rung.
const unlikely = 0.1

// A candidate is a rung that may be taken, with what orders it.
type candidate struct {
	rung  Rung
	start bool     // it explains that the machine does not start
	tried bool     // it, or what does the same, was carried out and did not help
	score float64  // chance for its cost
	after []string // remedies that come first, when they are chosen too
}

// Build chooses and orders the rungs: what explains that the machine does not
// start comes first, since nothing else can be proven before; then the more
// likely to help for its cost. A remedy that names others to come first comes
// after them. A remedy that several causes share stands once. What a family has
// for the case that nothing closer is known, or helped, comes after them: no failing
// case is without a ladder. What was carried out already and did not help comes last.
func Build(
	findings []diagnosis.Finding, facts *bag.Facts, timeline *reading.Timeline, k *knowledge.Knowledge,
) []Rung {
	var list []candidate
	seen := map[string]int{}
	for _, f := range findings {
		if f.Probability < unlikely {
			continue
		}
		for _, id := range f.Remedies {
			why := fmt.Sprintf("%s (%s)", f.Title, units.Percent(f.Probability))
			if at, ok := seen[id]; ok {
				list[at].rung.Why += "; " + why
				continue
			}
			r := k.Remedies[id]
			if !r.Fits(saidOf(f)) {
				continue
			}
			seen[id] = len(list)
			helps, here := k.Helps(f.Cause, id)
			if here != "" {
				why += "; " + here
			}
			chance := f.Probability * helps
			tried := diagnosis.Tried(f.Explains, facts, timeline)
			inVain := !measured(f)
			if m, ok := tried[id]; ok {
				chance *= max(1-helps, 0.05)
				why += fmt.Sprintf("; carried out on %s already, and it did not help", m.At.Format("2006-01-02 15:04"))
			}
			if m, ok := diagnosis.Failed(facts)[id]; ok {
				chance *= couldNot
				why += fmt.Sprintf("; tried on %s, and %s", m.At.Format("2006-01-02 15:04"), m.Outcome)
			}
			since := diagnosis.Since(f.Explains, facts, timeline)
			m, ok := since[id]
			if !ok && r.Action != "" {
				m, ok = since[string(r.Action)]
			}
			if ok {
				why += fmt.Sprintf(
					"; carried out on %s already, after this: try what failed again first", m.At.Format("2006-01-02 15:04"),
				)
			}
			c := candidate{
				rung:  rungOf(r, chance, why, facts).told(f),
				start: f.Explains == knowledge.ExplainsStart, score: chance / cost(r), after: r.After,
				tried: inVain && didTheSame(r, tried, k),
			}
			if _, ok := tried[id]; ok && inVain && r.By == knowledge.ByDiorthos && len(r.Steps) > 0 {
				c.rung, c.tried = c.rung.byHand(), false // what Diorthos can do of it is done: the rest takes a person
				c.rung.Pass = true
			}
			list = append(list, c)
		}
	}
	sort.SliceStable(list, func(i, j int) bool {
		if list[i].start != list[j].start {
			return list[i].start
		}
		return list[i].score > list[j].score
	})
	rungs, inVain := []Rung{}, []Rung(nil)
	for _, c := range inOrder(list) {
		if c.tried {
			inVain = append(inVain, c.rung)
		} else {
			rungs = append(rungs, c.rung)
		}
	}
	rungs = append(rungs, finishing(slices.Concat(rungs, inVain), facts, timeline, k)...)
	for _, explains := range open(findings, facts) {
		rungs = append(rungs, general(slices.Concat(rungs, inVain), explains, facts, timeline, k)...)
	}
	rungs = append(rungs, inVain...)
	rungs = writable(rungs, facts, k)
	for i := range rungs {
		rungs[i].Number = i + 1
	}
	return TryAgain(rungs, failedCommand(timeline))
}

// measured reports whether something that was looked at now speaks for a finding, and not only what logs tell: then
// what it names is wrong again, or still.
func measured(f diagnosis.Finding) bool {
	return slices.ContainsFunc(f.For, func(e diagnosis.Evidence) bool { return e.Place == nil })
}

// didTheSame reports whether a remedy, or another that does the very same, was carried out and did not help.
func didTheSame(r *knowledge.Remedy, tried map[string]bag.Mended, k *knowledge.Knowledge) bool {
	for id := range tried {
		o := k.Remedies[id]
		if id == r.ID || o != nil && r.Action != "" && o.Action == r.Action && maps.Equal(o.Params, r.Params) {
			return true
		}
	}
	return false
}

const (
	mendVolumes = action.ID("volume.mend")
	// tablesDiffer is found of a file system onto which nothing is written while it is so.
	tablesDiffer = "tables-differ"
)

// writable has the file systems mended first where nothing can be written onto one that rungs change, and none of
// them sees to that.
func writable(rungs []Rung, facts *bag.Facts, k *knowledge.Knowledge) []Rung {
	mends := func(r Rung) bool { return r.Action == mendVolumes && !r.General }
	changes := func(r Rung) bool { return r.By == knowledge.ByDiorthos && r.Target != nil && !r.General }
	if facts.State == nil || slices.ContainsFunc(rungs, mends) || !slices.ContainsFunc(rungs, changes) {
		return rungs
	}
	for _, fault := range facts.State.FileSystems {
		if fault.ID != tablesDiffer {
			continue
		}
		for _, id := range slices.Sorted(maps.Keys(k.Remedies)) {
			if r := k.Remedies[id]; r.Action == mendVolumes {
				rungs = slices.DeleteFunc(rungs, func(r Rung) bool { return r.Action == mendVolumes })
				why := fmt.Sprintf("nothing can be changed on partition %d before: %s", fault.Partition, fault.Text)
				return slices.Insert(rungs, 0, rungOf(r, r.Helps, why, facts))
			}
		}
	}
	return rungs
}

// generalHelps is the chance that is told of a rung to which nothing points.
const generalHelps = 0.02

// sure is the probability from which a cause leaves nothing to look for.
const sure = 0.9

// finishing is the rung that finishes work on packages that was left half done, where nothing chosen does: whatever stopped
// the run, that is left of it.
func finishing(chosen []Rung, facts *bag.Facts, timeline *reading.Timeline, k *knowledge.Knowledge) []Rung {
	f := k.Families[facts.Family()]
	if f == nil || f.Finishes == "" || facts.Installed == nil {
		return nil
	}
	left := f.Unfinished(facts.Installed.Packages)
	r := k.Remedies[f.Finishes]
	_, tried := diagnosis.Tried(knowledge.ExplainsAttempt, facts, timeline)[r.ID]
	same := func(c Rung) bool { return c.Remedy == r.ID || c.Action == r.Action }
	if len(left) == 0 || tried || slices.ContainsFunc(chosen, same) {
		return nil
	}
	rung := rungOf(r, r.Helps, fmt.Sprintf("work on %s was not finished: %s is %s",
		units.Count(len(left), "package"), left[0].Name, left[0].State), facts)
	if rung.Target == nil {
		return nil
	}
	return []Rung{rung}
}

// open lists what has to be explained and has no cause that is as good as certain: what only may keep the machine from
// starting explains no attempt that failed.
func open(findings []diagnosis.Finding, facts *bag.Facts) (list []string) {
	of := map[string][]diagnosis.Finding{}
	for _, f := range findings {
		if !f.Possible && !slices.Contains(list, f.Explains) {
			list = append(list, f.Explains)
		}
		of[f.Explains] = append(of[f.Explains], f)
	}
	return slices.DeleteFunc(list, func(explains string) bool { return closer(of[explains], facts) })
}

// closer reports whether a cause is as good as certain, and has a remedy that was not
// tried yet.
func closer(findings []diagnosis.Finding, facts *bag.Facts) bool {
	return slices.ContainsFunc(findings, func(f diagnosis.Finding) bool {
		if f.Probability < sure || f.KindOnly || f.Cause == diagnosis.Unknown {
			return false
		}
		return slices.ContainsFunc(f.Remedies, func(id string) bool {
			return !slices.ContainsFunc(facts.Mended, func(m bag.Mended) bool { return m.Remedy == id })
		})
	})
}

// general are the rungs that a family has for any failure, and for any start that fails, without those that are
// chosen already, those that cannot be taken here and those that destroy.
func general(
	chosen []Rung, explains string, facts *bag.Facts, timeline *reading.Timeline, k *knowledge.Knowledge,
) (list []Rung) {
	f := k.Families[facts.Family()]
	if f == nil {
		return nil
	}
	left := f.General
	if explains == knowledge.ExplainsStart {
		left = slices.Concat(f.General, f.GeneralOfStart)
		slices.SortStableFunc(left, func(a, b string) int {
			return k.Remedies[a].Invasive.Degree() - k.Remedies[b].Invasive.Degree()
		})
	}
	for _, id := range left {
		r := k.Remedies[id]
		known := slices.ContainsFunc(chosen, func(c Rung) bool { return c.Remedy == id })
		_, tried := diagnosis.Tried(explains, facts, timeline)[id]
		if known || tried || r.Invasive == knowledge.Destroys {
			continue
		}
		rung := rungOf(r, generalHelps, "nothing points to it: it is left to try when what stands above did not help", facts)
		if rung.General = true; rung.Action == "" || rung.Target != nil {
			list = append(list, rung)
		}
	}
	return list
}

func rungOf(r *knowledge.Remedy, chance float64, why string, facts *bag.Facts) Rung {
	rung := Rung{
		Remedy: r.ID, Title: r.Title, Why: why, Invasive: r.Invasive, Minutes: r.Minutes, Chance: chance, By: r.By,
		Action: r.Action, Does: r.Does, Proof: r.Proof, Steps: r.Steps, Loans: r.Loans, Loses: r.Loses,
		Restart: r.Restart, Params: r.Params, Target: action.TargetOf(r.Action, facts), Pass: r.Pass,
	}
	if rung.By == knowledge.ByDiorthos && rung.Target == nil && len(r.Steps) > 0 {
		// Nothing is known of the machine's disk, such as when only logs are at hand.
		return rung.byHand()
	}
	return rung
}

// byHand is the rung as a person takes it.
func (r Rung) byHand() Rung {
	r.By, r.Action, r.Params, r.Does, r.Again = knowledge.ByHands, "", nil, "", ""
	return r
}

// mostSaid is how much of what was said a rung takes along, in bytes.
const mostSaid = 1500

// told gives the rung what was said where it failed, if its action can go by that.
func (r Rung) told(f diagnosis.Finding) Rung {
	a, ok := action.Named(r.Action)
	if !ok || !slices.ContainsFunc(a.Parameters, func(p action.Parameter) bool { return p.Name == action.Said.Name }) {
		return r
	}
	if said := saidOf(f); said != "" {
		r.Params = maps.Clone(r.Params)
		if r.Params == nil {
			r.Params = map[string]string{}
		}
		r.Params[action.Said.Name] = said
	}
	return r
}

// failedCommand is what was run in the attempt that failed last; empty where no log names it. A screen that names no
// command, and has no times, is taken for one of the run that the logs end with.
func failedCommand(timeline *reading.Timeline) string {
	for _, a := range slices.Backward(timeline.Attempts) {
		switch {
		case a.Kind == reading.Repair, a.Command == "" && a.Began.IsZero():
			continue
		case a.Outcome == reading.Succeeded:
			return ""
		}
		return a.Command
	}
	return ""
}

// TryAgain has the command of the attempt that failed made again, on a copy, by the rungs whose actions do so.
func TryAgain(rungs []Rung, command string) []Rung {
	rungs = slices.Clone(rungs)
	for i, r := range rungs {
		if a, ok := action.Named(r.Action); ok && a.TriesAgain {
			rungs[i].Again = command
		}
	}
	return rungs
}

// saidOf is what speaks for a finding in the logs, line by line.
func saidOf(f diagnosis.Finding) string {
	var lines []string
	size := 0
	for _, e := range f.For {
		if size += len(e.Text); e.Place != nil && size < mostSaid {
			lines = append(lines, e.Text)
		}
	}
	return strings.Join(lines, "\n")
}

// inOrder takes the candidates in their order, each only when all that it comes
// after are taken. Where they wait for each other in a circle, the first goes on.
func inOrder(list []candidate) []candidate {
	waits := func(c candidate, rest []candidate) bool {
		return slices.ContainsFunc(rest, func(o candidate) bool { return slices.Contains(c.after, o.rung.Remedy) })
	}
	out := make([]candidate, 0, len(list))
	for rest := slices.Clone(list); len(rest) > 0; {
		next := max(slices.IndexFunc(rest, func(c candidate) bool { return !waits(c, rest) }), 0)
		out = append(out, rest[next])
		rest = slices.Delete(rest, next, next+1)
	}
	return out
}

// cost grows tenfold with each degree of invasiveness, and with the time.
func cost(r *knowledge.Remedy) float64 {
	c := 1.0
	for range r.Invasive.Degree() {
		c *= 10
	}
	return c * (1 + float64(r.Minutes)/60)
}

// Losses lists in words what lies on the partitions of some roles, or on all.
func Losses(disks []bag.Disk, roles []layout.Role) (list []string) {
	for _, d := range disks {
		for _, p := range d.Partitions {
			if len(roles) == 0 || slices.Contains(roles, p.Role) {
				list = append(list, d.Source+" "+action.Loss(p))
			}
		}
	}
	return list
}
