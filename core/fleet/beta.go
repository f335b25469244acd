package fleet

import "gonum.org/v1/gonum/stat/distuv"

// betaInterval holds 90 % of a Beta distribution.
func betaInterval(a, b float64) (low, high float64) {
	d := distuv.Beta{Alpha: a, Beta: b}
	return d.Quantile(0.05), d.Quantile(0.95)
}
