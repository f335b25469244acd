package fleet

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// A Member is a machine to which a repair is offered.
type Member struct {
	Machine string
	Site    string
	LeftOut string // why it is not offered to this one; empty where it is
}

// shares are how much of the machines each wave takes: first one, then a few, then shares of the
// whole.
var shares = []float64{0, 0, 0.1, 0.3, 1}

// Waves divides machines into waves: the first has one machine, the second up to three at other
// sites, the next up to a tenth and three tenths of all, the last the rest. Each takes the sites
// in turn, so that one site is never down alone.
func Waves(members []Member) (waves [][]string) {
	order := inTurn(members)
	done := 0
	for i, share := range shares {
		upTo := int(math.Ceil(share * float64(len(order))))
		switch i {
		case 0:
			upTo = 1
		case 1:
			upTo = 4
		}
		upTo = min(max(upTo, done), len(order))
		if upTo > done {
			waves = append(waves, order[done:upTo])
			done = upTo
		}
	}
	return waves
}

// inTurn takes machines from the sites in turn, in the order of their names.
func inTurn(members []Member) (order []string) {
	bySite := map[string][]string{}
	var sites []string
	sorted := slices.Clone(members)
	slices.SortFunc(sorted, func(a, b Member) int {
		return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Machine, b.Machine))
	})
	for _, m := range sorted {
		if m.LeftOut != "" {
			continue
		}
		if bySite[m.Site] == nil {
			sites = append(sites, m.Site)
		}
		bySite[m.Site] = append(bySite[m.Site], m.Machine)
	}
	for more := true; more; {
		more = false
		for _, s := range sites {
			if list := bySite[s]; len(list) > 0 {
				order, bySite[s], more = append(order, list[0]), list[1:], true
			}
		}
	}
	return order
}

// A Tally is how the machines of a roll-out stand.
type Tally struct {
	Waiting   int `json:"waiting"`
	Running   int `json:"running"`
	Proven    int `json:"proven"`
	Failed    int `json:"failed"`    // the repair was taken back, or did not help
	Refused   int `json:"refused"`   // a guard said no; nothing was changed
	Lost      int `json:"lost"`      // the machine did not come back, or data are missing
	TakenBack int `json:"takenBack"` // undone afterwards
}

// Bounds of the sequential test of Wald (1945) on a roll-out: it is halted when failures come as
// if one in five failed, beside one in twenty, with at most one in a hundred halts for nothing.
const (
	soundRate = 0.05
	badRate   = 0.20
	haltAt    = 4.6 // ln(1/0.01)
)

// Halts says why a roll-out has to stop; empty where it may go on. A machine that is lost stops it
// at once, and so does a first one that fails.
func (t Tally) Halts() string {
	bad := float64(t.Failed)
	sum := bad*math.Log(badRate/soundRate) + float64(t.Proven)*math.Log((1-badRate)/(1-soundRate))
	switch {
	case t.Lost > 0:
		return fmt.Sprintf("%d machines did not come back or miss data", t.Lost)
	case t.Failed > 0 && t.Proven == 0:
		return fmt.Sprintf("%d machines failed and none was proven", t.Failed)
	case sum >= haltAt:
		return fmt.Sprintf("%d of %d failed, which is more than a sound repair fails", t.Failed, t.Failed+t.Proven)
	}
	return ""
}

// Beyond is the tally without what had failed, or was lost, when a person saw it and let the roll-out go on.
func (t Tally) Beyond(failed, lost int) Tally {
	t.Failed, t.Lost = max(t.Failed-failed, 0), max(t.Lost-lost, 0)
	return t
}

// NextWave reports whether the wave that runs is through, so that the next one may begin.
func (t Tally) NextWave() bool { return t.Running == 0 && t.Waiting == 0 && t.Halts() == "" }
