package fleet

import "sort"

// An Outcome is what taking a remedy came to.
type Outcome struct {
	Cause, Remedy string
	Machine       string
	Person        string
	Helped        bool
}

// A Learned is what outcomes at this site taught of a remedy for a cause.
type Learned struct {
	Cause   string  `json:"cause"`
	Remedy  string  `json:"remedy"`
	Shipped float64 `json:"shipped"` // the chance that it helps, as it was shipped
	Helps   float64 `json:"helps"`   // and as it is now
	Low     float64 `json:"low"`     // 90 % of what can be meant lies between these
	High    float64 `json:"high"`
	Helped  int     `json:"helped"` // machines
	Tried   int     `json:"tried"`
}

const (
	// shippedWeight is how many outcomes the shipped chance counts for.
	shippedWeight = 10
	// mostOfOne bounds the share of all outcomes of a remedy that one person's may have.
	mostOfOne = 0.34
	// leastTrusted is how many outcomes of one person always count.
	leastTrusted = 3
)

// Learn weighs the outcomes of each remedy for each cause with the chance that was shipped: a
// Beta distribution whose mean is the chance that it helps. A machine counts once, as it came
// out last; and one person, whoever it is, never decides alone.
func Learn(outcomes []Outcome, shipped func(remedy string) float64) []Learned {
	type pair struct{ cause, remedy string }
	last := map[pair]map[string]Outcome{}
	for _, o := range outcomes {
		p := pair{o.Cause, o.Remedy}
		if last[p] == nil {
			last[p] = map[string]Outcome{}
		}
		last[p][o.Machine] = o
	}
	list := []Learned{}
	for p, machines := range last {
		prior := shipped(p.remedy)
		if prior <= 0 {
			continue
		}
		by := map[string][2]float64{} // helped and not, by the person
		l := Learned{Cause: p.cause, Remedy: p.remedy, Shipped: prior}
		for _, o := range machines {
			n := by[o.Person]
			l.Tried++
			if o.Helped {
				l.Helped++
				n[0]++
			} else {
				n[1]++
			}
			by[o.Person] = n
		}
		most := max(mostOfOne*float64(l.Tried), leastTrusted)
		helped, not := prior*shippedWeight, (1-prior)*shippedWeight
		for _, n := range by {
			share := 1.0
			if total := n[0] + n[1]; total > most {
				share = most / total
			}
			helped += n[0] * share
			not += n[1] * share
		}
		l.Helps = helped / (helped + not)
		l.Low, l.High = betaInterval(helped, not)
		list = append(list, l)
	}
	SortLearned(list)
	return list
}

// SortLearned brings them into the order of their causes and remedies.
func SortLearned(list []Learned) {
	sort.Slice(list, func(i, k int) bool {
		if list[i].Cause != list[k].Cause {
			return list[i].Cause < list[k].Cause
		}
		return list[i].Remedy < list[k].Remedy
	})
}
