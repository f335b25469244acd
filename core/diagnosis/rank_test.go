package diagnosis_test

import (
	"context"
	"encoding/json"
	"io"
	"math"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

// A small world: two causes that compete for an attempt, one for the start.
const world = `
causes:
  - {id: tank-empty, title: The tank is empty, explains: attempt, prior: 0.1, tell: Fill it.}
  - {id: pump-broken, title: The pump is broken, explains: attempt, prior: 0.05, tell: Mend it.}
  - {id: hatch-open, title: The hatch is open, explains: start, prior: 0.01, tell: Close it.}
`

const signs = `
signatures:
  - id: tank-empty
    cause: tank-empty
    events:
      - {match: 'no fuel', in: decisive, odds: 40, otherwise: 0.1}
    facts:
      - {each: facts.disks, when: 'it.size < 1000', odds: 5, otherwise: 0.5, say: '"only " + string(it.size) + " left"'}
      - {each: facts.disks, when: 'it.size >= 1000', odds: 0.1, say: '"there are " + size_text(it.size)'}
  - id: pump-broken
    cause: pump-broken
    events:
      - {match: 'pump stalled', in: attempt, odds: 100, otherwise: 0.1}
  - id: hatch-open
    cause: hatch-open
    facts:
      - {each: 'facts.disks.map(d, d.problems).flatten()', when: 'it.id == "hatch"', odds: 500,
         otherwise: 0.001, say: 'it.text'}
`

const dialect = `
id: engine
title: the engine's log
engine: engine
files: [engine.log]
time: {layout: '15:04:05', zone: utc}
rules:
  - {match: '^begin', mark: opens}
  - {match: '^end', mark: closes}
  - {match: '^step (?P<object>\S+)', mark: operation, operation: run}
  - {match: '^gave up on (?P<object>\S+)', mark: fails, level: error}
samples:
  - {line: begin, mark: opens}
`

func small(t *testing.T) *knowledge.Knowledge {
	t.Helper()
	k, err := knowledge.Load(fstest.MapFS{
		"lexicon.yaml":      {Data: []byte("errors: [no fuel, stalled, error]\nwarnings: [warning]\n")},
		"dialects/e.yaml":   {Data: []byte(dialect)},
		"causes/c.yaml":     {Data: []byte(world)},
		"signatures/s.yaml": {Data: []byte(signs)},
	})
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func rank(t *testing.T, log string, facts *bag.Facts) []diagnosis.Finding {
	t.Helper()
	k := small(t)
	timeline, err := k.Reader.Read(context.Background(), []reading.Source{{
		Name: "engine.log",
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log)), nil },
	}}, reading.Anchor{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	findings, _, err := diagnosis.Rank(timeline, facts, k)
	if err != nil {
		t.Fatal(err)
	}
	return findings
}

func near(a, b float64) bool { return math.Abs(a-b) < 0.002 }

func TestProbabilityIsPriorTimesOddsAmongRivals(t *testing.T) {
	log := "begin\nstep main\nerror: no fuel\ngave up on main\nend\n"
	got := rank(t, log, &bag.Facts{Disks: []bag.Disk{{Size: 10}}})
	// tank 0.1·40·5 = 20, pump has nothing for it, none known 0.2.
	// what is left is too little to show
	if len(got) != 1 || got[0].Cause != "tank-empty" || !near(got[0].Probability, 20.0/20.2) {
		t.Fatalf("%+v", got)
	}
	if e := got[0].For; len(e) != 2 || e[0].Place.Line != 3 || e[1].Text != "only 10 left" {
		t.Errorf("evidence %+v", e)
	}
}

func TestFactsSpeakAgainstWords(t *testing.T) {
	log := "begin\nstep main\nerror: no fuel\ngave up on main\nend\n"
	got := rank(t, log, &bag.Facts{Disks: []bag.Disk{{Size: 5 << 20}}})
	// tank 0.1·40·0.5·0.1 = 0.2 against 0.2.
	if !near(probability(got, diagnosis.Unknown), 0.5) || !near(got[1].Probability, 0.5) || len(got[1].Against) != 1 ||
		got[1].Against[0].Text != "there are 5.0 MiB" {
		t.Errorf("%+v", got)
	}
}

// Words that would be a cause on one kind of system are none on another; where
// nobody knows the system, they may be.
func TestCausesAreThoseOfTheMachinesSystem(t *testing.T) {
	k := small(t)
	for _, c := range k.Causes {
		c.Family = "debian"
	}
	log := "begin\nstep main\nerror: no fuel\ngave up on main\nend\n"
	timeline, err := k.Reader.Read(t.Context(), []reading.Source{{
		Name: "engine.log",
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log)), nil },
	}}, reading.Anchor{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	disk := func(family string) bag.Disk {
		return bag.Disk{Size: 10, Partitions: []bag.Partition{{Role: "data"}, {System: &bag.System{Family: family}}}}
	}
	for name, c := range map[string]struct {
		facts bag.Facts
		want  string
	}{
		"of the family, by its disk": {bag.Facts{Disks: []bag.Disk{disk("debian")}}, "tank-empty"},
		"of another":                 {bag.Facts{Disks: []bag.Disk{disk("corbel")}}, diagnosis.Unknown},
		"of another, by what it installs": {bag.Facts{
			Installed: &bag.Installed{Family: "corbel"},
			Disks:     []bag.Disk{{Size: 10}},
		}, diagnosis.Unknown},
		"not known": {bag.Facts{Disks: []bag.Disk{{Size: 10}}}, "tank-empty"},
	} {
		got, _, err := diagnosis.Rank(timeline, &c.facts, k)
		if err != nil || len(got) == 0 || got[0].Cause != c.want {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
}

func TestWhatOnlyFollowedCountsLess(t *testing.T) {
	first := rank(t, "begin\nstep main\nerror: pump stalled\ngave up on main\nend\n", &bag.Facts{})
	later := rank(t, "begin\nstep main\nerror: strange noise\nerror: pump stalled\ngave up on main\nend\n", &bag.Facts{})
	if !near(first[0].Probability, 5.0/5.2) || !near(probability(later, "pump-broken"), 0.5/0.7) {
		t.Errorf("decisive %+v\nfollowing %+v", first, later)
	}
}

func probability(list []diagnosis.Finding, cause string) float64 {
	for _, f := range list {
		if f.Cause == cause {
			return f.Probability
		}
	}
	return 0
}

func TestTheStartIsExplainedApartFromTheAttempt(t *testing.T) {
	k := small(t)
	var facts bag.Facts
	raw := `{"disks":[{"size":10,"problems":[{"id":"hatch","text":"it stands open"}]}]}`
	if err := json.Unmarshal([]byte(raw), &facts); err != nil {
		t.Fatal(err)
	}
	findings, _, err := diagnosis.Rank(&reading.Timeline{}, &facts, k)
	if err != nil {
		t.Fatal(err)
	}
	// No attempt failed: nothing to explain but the start.
	if len(findings) != 2 && len(findings) != 1 || findings[0].Cause != "hatch-open" ||
		!near(findings[0].Probability, 5.0/5.2) {
		t.Errorf("%+v", findings)
	}
}

func TestAHealthyMachineHasNoFindings(t *testing.T) {
	for _, log := range []string{"", "begin\nstep main\nend\n", "warning: low tide\n"} {
		if got := rank(t, log, &bag.Facts{}); len(got) != 0 {
			t.Errorf("%q: %+v", log, got)
		}
	}
}

func TestTheSameBagGivesTheSameFindings(t *testing.T) {
	log := "begin\nstep main\nerror: no fuel\nerror: pump stalled\ngave up on main\nend\n"
	var first []byte
	for range 20 {
		raw, err := json.Marshal(rank(t, log, &bag.Facts{Disks: []bag.Disk{{Size: 10}, {Size: 20}}}))
		if err != nil {
			t.Fatal(err)
		}
		if first == nil {
			first = raw
		}
		if string(raw) != string(first) {
			t.Fatalf("%s\n%s", first, raw)
		}
	}
}

func TestAKindIsSurerThanItsCauses(t *testing.T) {
	kinds := map[string]*knowledge.Kind{
		"fuel": {ID: "fuel", Domain: "machine", Title: "The fuel"},
		"door": {ID: "door", Domain: "machine", Title: "The doors"},
	}
	got := diagnosis.Kinds([]diagnosis.Finding{
		{Cause: "tank-empty", Kind: "fuel", Explains: "attempt", Probability: 0.4},
		{Cause: "hatch-open", Kind: "door", Explains: "start", Probability: 0.7},
		{Cause: "pump-broken", Kind: "fuel", Explains: "attempt", Probability: 0.45},
		{Cause: diagnosis.Unknown, Explains: "attempt", Probability: 0.15},
	}, kinds)
	want := []diagnosis.KindShare{
		{Kind: "fuel", Domain: "machine", Title: "The fuel", Explains: "attempt", Probability: 0.85},
		{Kind: "door", Domain: "machine", Title: "The doors", Explains: "start", Probability: 0.7},
	}
	if !slices.Equal(got, want) {
		t.Errorf("got %+v, want %+v", got, want)
	}
}
