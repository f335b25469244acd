package fleet

import (
	"math"
	"sort"
)

// A Count is how many machines have an attribute, among those that failed and all that could
// have failed.
type Count struct {
	Attribute string
	Failing   int // of the cohort, with the attribute
	All       int // of all machines looked at, with the attribute, those of the cohort too
}

// A Shared attribute is one that failing machines have more often than others.
type Shared struct {
	Attribute string  `json:"attribute"`
	Failing   int     `json:"failing"` // of the cohort's machines that have it
	Of        int     `json:"of"`      // machines of the cohort
	Others    int     `json:"others"`  // other machines that have it
	OfOthers  int     `json:"ofOthers"`
	Odds      float64 `json:"odds"` // ratio of the odds
	Low       float64 `json:"low"`  // and its 95 % interval
	High      float64 `json:"high"`
	Chance    float64 `json:"chance"` // of so much by chance alone, corrected for how many were tried
}

// Common lists what the failing machines have in common that others have not, the most telling
// first: by Fisher's exact test, with the share of false ones held below rate (Benjamini and
// Hochberg, 1995).
func Common(counts []Count, failing, all int, rate float64) []Shared {
	list := []Shared{}
	others := all - failing
	for _, c := range counts {
		s := Shared{
			Attribute: c.Attribute, Failing: c.Failing, Of: failing,
			Others: max(c.All-c.Failing, 0), OfOthers: max(others, 0),
		}
		a, b := float64(s.Failing)+0.5, float64(s.Of-s.Failing)+0.5
		o, p := float64(s.Others)+0.5, float64(s.OfOthers-s.Others)+0.5
		s.Odds = a * p / (b * o)
		spread := 1.96 * math.Sqrt(1/a+1/b+1/o+1/p)
		s.Low, s.High = s.Odds*math.Exp(-spread), s.Odds*math.Exp(spread)
		s.Chance = atLeast(s.Failing, s.Of, s.Failing+s.Others, s.Of+s.OfOthers)
		list = append(list, s)
	}
	sort.Slice(list, func(i, k int) bool {
		if list[i].Chance != list[k].Chance {
			return list[i].Chance < list[k].Chance
		}
		return list[i].Attribute < list[k].Attribute
	})
	n, kept := float64(len(list)), 0
	least := 1.0
	for i := len(list) - 1; i >= 0; i-- { // the step-up of Benjamini and Hochberg
		least = math.Min(least, list[i].Chance*n/float64(i+1))
		list[i].Chance = least
		if least <= rate && kept == 0 {
			kept = i + 1
		}
	}
	out := list[:0]
	for _, s := range list[:kept] {
		if s.Low > 1 {
			out = append(out, s)
		}
	}
	return out
}

// atLeast is the chance that of n drawn from a total, of which with have an attribute, k or
// more have it.
func atLeast(k, n, with, total int) float64 {
	p := 0.0
	for i := k; i <= min(n, with); i++ {
		p += math.Exp(choose(with, i) + choose(total-with, n-i) - choose(total, n))
	}
	return math.Min(p, 1)
}

// choose is the logarithm of how many ways there are to take k of n.
func choose(n, k int) float64 {
	if k < 0 || k > n {
		return math.Inf(-1)
	}
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}
