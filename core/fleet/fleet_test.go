package fleet

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"diorthos/core/diagnosis"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
)

// What is to be held back is what failed, or, where what was installed last stops the start, that; else nothing.
func TestWhatAFailurePointsTo(t *testing.T) {
	of := func(explains, kind string, probability float64, named bool) string {
		d := &docket.Docket{
			Failure:  &docket.Failure{Object: "skerrow-fender 5.1"},
			Suspects: []docket.Suspect{{Object: "U7215", Named: named}, {Object: "U7210"}},
		}
		top := diagnosis.Finding{Cause: "a-cause", Explains: explains, Probability: probability}
		top.Kind = kind
		d.Why = []diagnosis.Finding{top}
		f, failed := FingerprintOf(d, "corbel")
		if !failed {
			t.Fatal("nothing failed")
		}
		return f.Suspect
	}
	for _, c := range []struct {
		explains, kind string
		probability    float64
		named          bool
		want           string
	}{
		{knowledge.ExplainsAttempt, "script", 0.9, false, "skerrow-fender"},
		{"start", "latest", 0.9, true, "U7215"},
		{"start", "latest", 0.3, true, ""},
		{"start", "latest", 0.9, false, ""},
		{"start", "entries", 0.9, true, ""},
	} {
		if got := of(c.explains, c.kind, c.probability, c.named); got != c.want {
			t.Errorf("%s, %s, %.1f: %q, want %q", c.explains, c.kind, c.probability, got, c.want)
		}
	}
}

// A year in which nothing new happens: 100,000 machines, each tried once a month, 1 % of the
// tries fail in one of 200 ways that are as common as they ever were, and rare new ways appear
// now and then. At most one outbreak is raised.
func TestAQuietYear(t *testing.T) {
	const tries, ways = 1_200_000, 200
	r := rand.New(rand.NewPCG(2026, 11))
	shares := make([]float64, ways) // a few are common, most are rare
	total := 0.0
	for i := range shares {
		shares[i] = 1 / float64(i+1)
		total += shares[i]
	}
	watches, last := map[int]*Watch{}, map[int]int{}
	raised := 0
	for n := range tries {
		if r.Float64() >= 0.01 {
			continue
		}
		way, at := 0, r.Float64()*total
		for at > shares[way] {
			at -= shares[way]
			way++
		}
		if r.IntN(500) == 0 { // a way that never comes again
			way = ways + n
		}
		w := watches[way]
		if w == nil {
			w = &Watch{}
			watches[way] = w
			last[way] = n
		}
		w.Passed(n - last[way] - 1)
		last[way] = n
		if w.Fail() && n > tries/24 { // the first fortnight teaches what is usual
			raised++
		}
	}
	t.Logf("%d ways of failing were seen, %d outbreaks raised", len(watches), raised)
	if raised > 1 {
		t.Errorf("%d outbreaks were raised in a year without one", raised)
	}
}

// A failure that strikes 2 % of the machines that are updated is raised before the twelfth of
// them in 95 of 100 runs, whether it is new or was rare before.
func TestAnOutbreakIsRaisedSoon(t *testing.T) {
	for name, before := range map[string]Watch{"new": {}, "rare before": {Failed: 20, Tried: 100_000}} {
		const runs = 2000
		r, late, sum := rand.New(rand.NewPCG(7, 7)), 0, 0
		for range runs {
			w, failed := before, 0
			for !w.Raised && failed < 100 {
				if r.Float64() < 0.02 {
					failed++
					w.Fail()
				} else {
					w.Passed(1)
				}
			}
			sum += failed
			if failed >= 12 {
				late++
			}
		}
		t.Logf("%s: raised at machine %.1f on average, at the twelfth or later in %.1f %%", name,
			float64(sum)/runs, 100*float64(late)/runs)
		if late > runs/20 {
			t.Errorf("%s: %d of %d runs were raised at the twelfth machine or later", name, late, runs)
		}
	}
}

func TestWhatACohortSharesIsFound(t *testing.T) {
	counts := []Count{{"model=Sloop 3", 14, 120}, {"site=Lerrick", 3, 900}}
	for i := range 200 { // as common among the failing as among all
		counts = append(counts, Count{fmt.Sprintf("chance %d", i), 1 + i%3, 300 + i})
	}
	list := Common(counts, 15, 4000, 0.05)
	if len(list) != 1 || list[0].Attribute != "model=Sloop 3" || list[0].Low < 10 || list[0].Others != 106 {
		t.Errorf("shared: %+v", list)
	}
	if got := Common(nil, 3, 10, 0.05); len(got) != 0 {
		t.Errorf("of nothing: %v", got)
	}
}

func TestKeysFollowWhatPeopleSaid(t *testing.T) {
	rules := map[string]Rule{"a": {Into: "b"}, "b": {By: "site"}, "x": {Into: "y"}, "y": {Into: "x"}}
	traits := map[string]string{"site": "Tarvoe"}
	for key, want := range map[string]string{"a": "b|by site|Tarvoe", "c": "c", "x": "x"} {
		if got := KeyUnder(key, traits, rules); got != want {
			t.Errorf("%s: %s, want %s", key, got, want)
		}
	}
}

func TestTemplatesKeepWhatTheFailureIs(t *testing.T) {
	one := Template(
		"lerrick-kiosk-2: cannot write /var/lib/x/7f3: error 0x40100008 after 12 s, version 3.1-2",
		"lerrick-kiosk-2",
	)
	two := Template("tarvoe-kiosk-1: cannot write /opt/y: error 0x40100008 after 9 s, version 3.2-1", "tarvoe-kiosk-1")
	other := Template("tarvoe-kiosk-1: cannot write /opt/y: error 0x40100009 after 9 s, version 3.2-1", "tarvoe-kiosk-1")
	if one != two || one == other {
		t.Errorf("templates:\n%s\n%s\n%s", one, two, other)
	}
}

func TestTwinsAndDifferences(t *testing.T) {
	here := map[string]string{
		"site":         "A",
		"model":        "Sloop",
		"package sed":  "4.8",
		"package tar":  "1",
		"service mail": "off",
	}
	near := Candidate{
		"near",
		map[string]string{"site": "B", "model": "Sloop", "package sed": "4.9", "package tar": "1", "service mail": "on"},
	}
	far := Candidate{"far", map[string]string{"model": "Brig", "package sed": "4.9"}}
	healthy := []Candidate{far, near}
	failing := []Candidate{{"f", map[string]string{"package sed": "4.8", "service mail": "on"}}}
	twins := Twins(here, healthy, 5)
	if len(twins) != 2 || twins[0].Machine != "near" {
		t.Fatalf("twins: %+v", twins)
	}
	list := Differences(here, near, healthy, failing)
	var names []string
	for _, d := range list {
		names = append(names, d.Trait)
	}
	if !reflect.DeepEqual(names, []string{"package sed", "service mail"}) {
		t.Errorf("differences: %v", names)
	}
}

// 200 outcomes turn a ranking the right way round, and one person who says that everything
// failed does not.
func TestOutcomesTeachAndOneLiarDoesNot(t *testing.T) {
	shipped := func(remedy string) float64 { return map[string]float64{"old way": 0.9, "new way": 0.5}[remedy] }
	var list []Outcome
	for i := range 100 {
		person := fmt.Sprintf("person-%d", i%7)
		list = append(list, Outcome{"c", "old way", fmt.Sprintf("m%d", i), person, i%5 == 0},
			Outcome{"c", "new way", fmt.Sprintf("m%d", i), person, i%10 != 0})
	}
	got := Learn(list, shipped)
	if got[0].Remedy != "new way" || got[0].Helps < 0.8 || got[1].Helps > 0.35 || got[0].Low > got[0].Helps {
		t.Errorf("learned: %+v", got)
	}
	var lies []Outcome
	for i := range 60 {
		lies = append(lies, Outcome{"c", "old way", fmt.Sprintf("lie%d", i), "liar", false})
	}
	for i := range 20 {
		lies = append(lies, Outcome{"c", "old way", fmt.Sprintf("true%d", i), fmt.Sprintf("person-%d", i%5), true})
	}
	if l := Learn(lies, shipped); l[0].Helps < 0.5 {
		t.Errorf("one liar brought the old way to %.2f", l[0].Helps)
	}
	slices.Reverse(list)
	if again := Learn(list, shipped); !reflect.DeepEqual(got, again) {
		t.Errorf("the order counts: %+v and %+v", got, again)
	}
}

func TestWavesBeginSmallAndTakeSitesInTurn(t *testing.T) {
	var members []Member
	for i := range 40 {
		members = append(members, Member{Machine: fmt.Sprintf("m%02d", i), Site: []string{"A", "B", "C", "D"}[i/10]})
	}
	members[0].LeftOut = "no window"
	waves := Waves(members)
	var sizes []int
	seen := map[string]bool{}
	for _, w := range waves {
		sizes = append(sizes, len(w))
		for _, m := range w {
			if seen[m] {
				t.Errorf("%s is in two waves", m)
			}
			seen[m] = true
		}
	}
	if !reflect.DeepEqual(sizes, []int{1, 3, 8, 27}) || seen["m00"] || len(seen) != 39 {
		t.Errorf("waves of %v, %d machines", sizes, len(seen))
	}
	if !reflect.DeepEqual(waves[1], []string{"m10", "m20", "m30"}) {
		t.Errorf("the second wave: %v", waves[1])
	}
}

func TestARollOutHaltsWhenProofsFail(t *testing.T) {
	for _, c := range []struct {
		tally Tally
		halts bool
	}{
		{Tally{Proven: 30}, false}, {Tally{Failed: 1}, true}, {Tally{Proven: 20, Failed: 1}, false},
		{Tally{Proven: 4, Failed: 4}, true}, {Tally{Proven: 50, Lost: 1}, true}, {Tally{Refused: 9, Proven: 1}, false},
	} {
		if got := c.tally.Halts(); (got != "") != c.halts {
			t.Errorf("%+v: %q", c.tally, got)
		}
	}
	// A sound repair, which fails in one of twenty, is rarely halted; a bad one soon.
	r := rand.New(rand.NewPCG(3, 3))
	halted := map[float64]int{}
	for _, rate := range []float64{0.02, 0.5} {
		for range 1000 {
			tally := Tally{Proven: 1}
			for range 100 {
				if r.Float64() < rate {
					tally.Failed++
				} else {
					tally.Proven++
				}
				if tally.Halts() != "" {
					halted[rate]++
					break
				}
			}
		}
	}
	t.Logf("halted: %v of 1000", halted)
	if halted[0.02] > 30 || halted[0.5] < 990 {
		t.Errorf("halted of 1000: %v", halted)
	}
}
