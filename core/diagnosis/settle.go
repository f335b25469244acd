package diagnosis

import (
	"cmp"
	"math"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

// A NextCheck is a check that has not been made and would tell the causes
// apart, with what each answer would mean.
type NextCheck struct {
	Check   string    `json:"check"`
	Title   string    `json:"title"`
	Do      string    `json:"do"`
	Minutes int       `json:"minutes"`
	Gain    float64   `json:"gain"` // the uncertainty that it is expected to take away, in bits
	Tells   Telling   `json:"tells"`
	Answers []Outcome `json:"answers"`
}

// A Telling is how much the answer to a check is expected to say, in a word.
type Telling string

// The words.
const (
	Much      Telling = "much"
	Something Telling = "something"
	Little    Telling = "little"
)

// TellingOf is the word for a gain in bits.
func TellingOf(gain float64) Telling {
	switch {
	case gain >= 0.4:
		return Much
	case gain >= 0.1:
		return Something
	}
	return Little
}

// An Outcome is an answer with what would be thought then.
type Outcome struct {
	Number      int     `json:"number"` // of the answer among all of its check, from 1
	Says        string  `json:"says"`
	Chance      float64 `json:"chance"`      // how likely the answer is
	Cause       string  `json:"cause"`       // the likeliest cause then
	Probability float64 `json:"probability"` // of that cause then
}

// worthwhile is the gain below which a check is not proposed, in bits.
const worthwhile = 0.02

// Settle ranks the checks that have not been made by the information that they
// are expected to give: the entropy of the findings less the mean entropy
// after the answer (Lindley, 1956).
func Settle(
	findings []Finding, timeline *reading.Timeline, facts *bag.Facts, k *knowledge.Knowledge,
) ([]NextCheck, error) {
	asked, err := facts.AsMap()
	if err != nil {
		return nil, err
	}
	list := []NextCheck{}
	for _, explains := range []string{knowledge.ExplainsStart, knowledge.ExplainsAttempt} {
		var among []Finding
		for _, f := range findings {
			if f.Explains == explains {
				among = append(among, f)
			}
		}
		for _, c := range k.Checks {
			if c.Known(asked, k.Limits) || c.Seen != "" && len(quotes(timeline, knowledge.Anywhere, c.WatchID())) > 0 {
				continue
			}
			if s := nextCheck(c, among); s.Gain >= worthwhile {
				list = append(list, s)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b NextCheck) int { return cmp.Compare(b.Gain, a.Gain) })
	return list, nil
}

func nextCheck(c *knowledge.Check, among []Finding) NextCheck {
	s := NextCheck{Check: c.ID, Title: c.Title, Do: c.Do, Minutes: c.Minutes}
	before := make([]float64, len(among))
	total := 0.0
	for i, f := range among {
		before[i] = f.Probability
		total += f.Probability
	}
	if total == 0 {
		return s
	}
	for i := range before {
		before[i] /= total
	}
	gain := entropy(before)
	for a, answer := range c.Answers {
		after := make([]float64, len(among))
		chance := 0.0
		for i, f := range among {
			after[i] = before[i] * c.Given(a, f.Cause)
			chance += after[i]
		}
		if chance == 0 {
			continue
		}
		best := 0
		for i := range after {
			after[i] /= chance
			if after[i] > after[best] {
				best = i
			}
		}
		gain -= chance * entropy(after)
		s.Answers = append(s.Answers, Outcome{
			Number:      a + 1,
			Says:        answer.Says,
			Chance:      round(chance),
			Cause:       among[best].Title,
			Probability: round(after[best]),
		})
	}
	s.Gain, s.Tells = round(gain), TellingOf(gain)
	return s
}

// entropy is in bits.
func entropy(p []float64) float64 {
	h := 0.0
	for _, x := range p {
		if x > 0 {
			h -= x * math.Log2(x)
		}
	}
	return h
}
