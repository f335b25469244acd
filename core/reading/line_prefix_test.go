package reading

import (
	"math/rand/v2"
	"regexp"
	"slices"
	"testing"
)

// No line that a record's pattern matches may be taken for none: whatever is
// made of a sample by slips at random, the linePrefix lets through all that the
// pattern does.
func TestOutlineKeepsAllThatThePatternMatches(t *testing.T) {
	patterns := map[string]string{
		`^(?:<\d{1,3}>)?(?P<time>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) [^:\s]+ ` +
			`(?P<component>[^:\[\s]+)(?:\[\d+\])?: (?:\[ *(?P<uptime>\d+\.\d+)\] )?`: // as a relay writes it
		"<13>Nov 22 06:00:02 kestrel dhclient[401]: [ 12.5] lease",
		`^(?P<time>\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)) \S+ `:// with its zone
		"2026-11-22T06:00:02.25+01:00 kestrel x",
		`^\[ *(?P<uptime>\d+\.\d+)\] `:                   "[    4.25] usb",
		`(?i)^(?:warn|note|ERR) \pL+: `:                  "note Gerät: weg",
		`^(?:a|b|c|d|e)(?:1|2|3)?(?:x|y|z)? end`:         "a2y end", // too many forms: no linePrefix
		`no start of a line`:                             "no start of a line",
		`^(?P<level>DEBUG|INFO|WARNING|ERROR|CRITICAL) `: "WARNING low",
	}
	r := rand.New(rand.NewPCG(7, 7))
	for pattern, sample := range patterns {
		re, o := regexp.MustCompile(pattern), outlineOf(pattern)
		refused := 0
		for range 20_000 {
			text := []byte(sample)
			for range r.IntN(4) {
				at := r.IntN(len(text))
				switch r.IntN(3) {
				case 0:
					text[at] = sample[r.IntN(len(sample))]
				case 1:
					text = slices.Delete(text, at, at+1)
				case 2:
					text = slices.Insert(text, at, sample[r.IntN(len(sample))])
				}
			}
			fits := o.fits(text)
			if re.Match(text) && !fits {
				t.Fatalf("%s: %q matches and is taken for no record", pattern, text)
			}
			if !fits {
				refused++
			}
		}
		if len(o) > 0 && refused < 1000 {
			t.Errorf("%s: refuses %d of 20,000", pattern, refused)
		}
	}
}
