package cli

import (
	"testing"
	"time"

	"diorthos/client"
)

func TestTimeLeftIsLearnedFromEarlierClimbs(t *testing.T) {
	three := client.Typical{Seconds: 95, Runs: 3}
	for _, c := range []struct {
		spent   time.Duration
		typical client.Typical
		want    string
	}{
		{12 * time.Second, client.Typical{}, "about 5 min by the book"},
		{30 * time.Second, three, "about 1m5s left (1m35s in 3 earlier climbs)"},
		{94900 * time.Millisecond, three, "about 1s left (1m35s in 3 earlier climbs)"},
		{2 * time.Minute, three, "longer than 1m35s in 3 earlier climbs"},
		{time.Second, client.Typical{Seconds: 4.26, Runs: 1}, "about 3s left (4.3s in 1 earlier climb)"},
	} {
		if got := left(c.spent, c.typical, 5); got != c.want {
			t.Errorf("after %s of %+v: %q, want %q", c.spent, c.typical, got, c.want)
		}
	}
}
