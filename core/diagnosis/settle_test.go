package diagnosis_test

import (
	"math"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

const settling = `
causes:
  - {id: tank-empty, title: The tank is empty, explains: attempt, prior: 0.1, tell: Fill it.}
  - {id: pump-broken, title: The pump is broken, explains: attempt, prior: 0.1, tell: Mend it.}
`

const looks = `
checks:
  - id: dipstick
    title: What does the dipstick say?
    do: pull it
    minutes: 1
    done: 'facts.machine.name == "measured"'
    answers:
      - {says: dry, if: {tank-empty: 1, pump-broken: 0}, otherwise: 0.5}
      - {says: wet}
  - id: weather
    title: How is the weather?
    do: look out
    minutes: 1
    answers:
      - {says: fair, otherwise: 0.7}
      - {says: foul}
  - id: noise
    title: Does the pump sound?
    do: listen
    minutes: 2
    seen: 'the pump was heard'
    answers:
      - {says: 'yes', if: {tank-empty: 0.9, pump-broken: 0.2}}
      - {says: 'no'}
`

func settle(
	t *testing.T, facts *bag.Facts, timeline *reading.Timeline, findings ...diagnosis.Finding,
) []diagnosis.NextCheck {
	t.Helper()
	k, err := knowledge.Load(fstest.MapFS{
		"causes/c.yaml": {Data: []byte(settling)},
		"checks/k.yaml": {Data: []byte(looks)},
		"lexicon.yaml":  {Data: []byte("errors: [error]\n")},
	})
	if err != nil {
		t.Fatal(err)
	}
	list, err := diagnosis.Settle(findings, timeline, facts, k)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// Two causes as likely as each other: a check that tells them apart for sure
// takes away one bit, one that says nothing none.
func TestChecksAreRankedByTheDoubtTheyTakeAway(t *testing.T) {
	tank := diagnosis.Finding{Cause: "tank-empty", Title: "The tank is empty", Explains: "attempt", Probability: 0.5}
	pump := diagnosis.Finding{Cause: "pump-broken", Title: "The pump is broken", Explains: "attempt", Probability: 0.5}
	list := settle(t, &bag.Facts{}, &reading.Timeline{}, tank, pump)
	if len(list) != 2 || list[0].Check != "dipstick" || list[0].Gain != 1 || list[1].Check != "noise" {
		t.Fatalf("%+v", list)
	}
	if a := list[0].Answers[0]; a.Says != "dry" || a.Chance != 0.5 || a.Cause != "The tank is empty" ||
		a.Probability != 1 {
		t.Errorf("%+v", a)
	}
	// Of the noise: 1 - [0.55·H(0.9/1.1) + 0.45·H(0.1/0.9)], by hand.
	h := func(p float64) float64 { return -p*math.Log2(p) - (1-p)*math.Log2(1-p) }
	if want := 1 - 0.55*h(0.9/1.1) - 0.45*h(0.1/0.9); math.Abs(list[1].Gain-want) > 0.001 {
		t.Errorf("gain %f, want %f", list[1].Gain, want)
	}
	if list := settle(t, &bag.Facts{}, &reading.Timeline{}, tank); len(list) != 0 {
		t.Errorf("there is no doubt, and yet %+v", list)
	}
}

func TestAChecksAnswerIsNotAskedForTwice(t *testing.T) {
	tank := diagnosis.Finding{Cause: "tank-empty", Explains: "attempt", Probability: 0.5}
	pump := diagnosis.Finding{Cause: "pump-broken", Explains: "attempt", Probability: 0.5}
	heard := &reading.Timeline{Unassigned: []reading.Event{{Text: "the pump was heard", Hits: []string{"check/noise"}}}}
	if list := settle(t, &bag.Facts{Machine: bag.Machine{Name: "measured"}}, heard, tank, pump); len(list) != 0 {
		t.Errorf("%+v", list)
	}
}

func TestABadCheckIsRefused(t *testing.T) {
	for want, text := range map[string]string{
		"takes the rest": "checks: [{id: a, title: b, do: c, minutes: 1, " +
			"answers: [{says: x}, {says: y, otherwise: 0.2}]}]",
		"no cause is called": "checks: [{id: a, title: b, do: c, minutes: 1, " +
			"answers: [{says: x, if: {nobody: 1}}, {says: y}]}]",
		"between 0 and 1": "checks: [{id: a, title: b, do: c, minutes: 1, answers: [{says: x, otherwise: 0.7}, " +
			"{says: z, otherwise: 0.6}, {says: y}]}]",
		"at least two answers": "checks: [{id: a, title: b, do: c, minutes: 1, answers: [{says: x}]}]",
		"done": "checks: [{id: a, title: b, do: c, minutes: 1, done: '1 +', " +
			"answers: [{says: x}, {says: y}]}]",
	} {
		_, err := knowledge.Load(fstest.MapFS{
			"causes/c.yaml": {Data: []byte(settling)},
			"checks/k.yaml": {Data: []byte(text)},
		})
		if err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "checks/k.yaml") {
			t.Errorf("%v: want %q", err, want)
		}
	}
}
