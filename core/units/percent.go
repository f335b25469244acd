package units

import "fmt"

// Percent writes a probability. It never says that something is certain, or
// impossible.
func Percent(p float64) string {
	switch {
	case p >= 0.995:
		return ">99 %"
	case p < 0.005:
		return "<1 %"
	}
	return fmt.Sprintf("%.0f %%", 100*p)
}
