package units_test

import (
	"testing"

	"diorthos/core/units"
)

func TestNothingIsCertainAndSizesAreRead(t *testing.T) {
	for p, want := range map[float64]string{
		1:      ">99 %",
		0.9951: ">99 %",
		0.994:  "99 %",
		0.5:    "50 %",
		0.006:  "1 %",
		0.001:  "<1 %",
		0:      "<1 %",
	} {
		if got := units.Percent(p); got != want {
			t.Errorf("%v: %s, want %s", p, got, want)
		}
	}
	for n, want := range map[int64]string{
		0:          "0 B",
		1023:       "1023 B",
		1024:       "1.0 KiB",
		1 << 40:    "1.0 TiB",
		1000 << 20: "1.0 GiB",
	} {
		if got := units.FormatBytes(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
		if back, err := units.ParseBytes(want); err != nil || back > n+n/20 || back < n-n/20 {
			t.Errorf("%s is read as %d (%v), want about %d", want, back, err, n)
		}
	}
}
