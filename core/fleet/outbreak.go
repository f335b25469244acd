package fleet

import "math"

// A Watch looks whether a cohort is suddenly common. It is a sequential test of whether failures
// come at more than Times the rate at which they came before (a cumulative sum of the logarithm
// of the likelihood ratio; Page, 1954): after each machine that was tried it can raise an
// outbreak, without waiting for a day to end.
type Watch struct {
	Sum    float64 `json:"sum"`
	Raised bool    `json:"raised"`
	// Failed and Tried are what came before the sum began to rise, which is what the rate is
	// told by.
	Failed int `json:"failed"`
	Tried  int `json:"tried"`
	// Recent are those since it began to rise.
	RecentFailed int `json:"recentFailed"`
	RecentTried  int `json:"recentTried"`
}

// The bounds of the test. How often it raises what is none, and how soon it raises what is one,
// is measured by a simulation (TestAQuietYear, TestAnOutbreakIsRaisedSoon).
const (
	leastRate = 0.0005 // a cohort is not watched below this share of the machines that were tried
	mostRate  = 0.5
	times     = 20.0 // by how much more often it has to come
	mostTimes = 0.9  // the most that the raised rate can be
	threshold = 15.0 // of the sum
	leastSeen = 3    // machines, below which nothing is raised
	weight    = 1000 // tries that count for the least rate, before any were seen
)

// rate is at which failures came before.
func (w *Watch) rate() float64 {
	r := (float64(w.Failed) + leastRate*weight) / (float64(w.Tried) + weight)
	return math.Min(math.Max(r, leastRate), mostRate)
}

// Passed takes n machines that were tried and did not fail in this way.
func (w *Watch) Passed(n int) {
	if n <= 0 {
		return
	}
	before, after := w.rates()
	w.Sum += float64(n) * math.Log((1-after)/(1-before))
	w.RecentTried += n
	if w.Sum <= 0 {
		w.settle()
	}
}

// Fail takes a machine that failed in this way. It reports whether that makes it an outbreak,
// which is raised once.
func (w *Watch) Fail() (raised bool) {
	before, after := w.rates()
	w.Sum += math.Log(after / before)
	w.RecentFailed++
	w.RecentTried++
	if w.Raised || w.Sum < threshold || w.RecentFailed < leastSeen {
		return false
	}
	w.Raised = true
	return true
}

func (w *Watch) rates() (before, after float64) {
	before = w.rate()
	return before, math.Min(before*times, mostTimes)
}

// settle takes what was seen as how things usually are.
func (w *Watch) settle() {
	w.Sum = 0
	w.Failed += w.RecentFailed
	w.Tried += w.RecentTried
	w.RecentFailed, w.RecentTried = 0, 0
	w.Raised = false
}

// Quiet reports whether an outbreak that was raised is over: no machine more failed among so many
// that the sum is back where it began.
func (w *Watch) Quiet() bool { return w.Raised && w.Sum <= 0 }
