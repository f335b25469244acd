package ladder_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

func remedies(list ...*knowledge.Remedy) *knowledge.Knowledge {
	k := &knowledge.Knowledge{Remedies: map[string]*knowledge.Remedy{}}
	for _, r := range list {
		r.Title = "Do " + r.ID
		if r.By == "" {
			r.By = knowledge.ByHands
		}
		k.Remedies[r.ID] = r
	}
	return k
}

func order(rungs []ladder.Rung) []string {
	var ids []string
	for i, r := range rungs {
		if r.Number != i+1 {
			ids = append(ids, fmt.Sprintf("misnumbered %d", r.Number))
		}
		ids = append(ids, r.Remedy)
	}
	return ids
}

func TestRungsAreOrderedByHelpForTheirCost(t *testing.T) {
	k := remedies(
		&knowledge.Remedy{ID: "wipe", Invasive: knowledge.Destroys, Minutes: 5, Helps: 1},
		&knowledge.Remedy{ID: "look", Invasive: knowledge.Looks, Minutes: 30, Helps: 0.4},
		&knowledge.Remedy{ID: "mend", Invasive: knowledge.Undoable, Minutes: 5, Helps: 0.9},
		&knowledge.Remedy{ID: "restart", Invasive: knowledge.Disrupts, Minutes: 1, Helps: 0.9},
		&knowledge.Remedy{ID: "finish", Invasive: knowledge.Undoable, Minutes: 1, Helps: 1, After: []string{"mend"}},
		&knowledge.Remedy{ID: "table", Invasive: knowledge.Disrupts, Minutes: 60, Helps: 0.5},
	)
	findings := []diagnosis.Finding{
		{
			Cause:       "a",
			Title:       "A",
			Explains:    knowledge.ExplainsAttempt,
			Probability: 0.8,
			Remedies:    []string{"wipe", "restart", "finish", "mend", "look"},
		},
		{
			Cause:       "b",
			Title:       "B",
			Explains:    knowledge.ExplainsAttempt,
			Probability: 0.15,
			Remedies:    []string{"mend", "restart"},
		},
		{Cause: "c", Title: "C", Explains: knowledge.ExplainsAttempt, Probability: 0.05, Remedies: []string{"never"}},
		{Cause: "d", Title: "D", Explains: knowledge.ExplainsStart, Probability: 0.9, Remedies: []string{"table"}},
	}
	rungs := ladder.Build(findings, &bag.Facts{}, &reading.Timeline{}, k)
	// The start comes first whatever it costs; a remedy named after another
	// comes after it though it promises more.
	if got, want := order(rungs), []string{
		"table", "look", "mend", "finish", "restart", "wipe",
	}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	mend := rungs[2]
	if mend.Why != "A (80 %); B (15 %)" {
		t.Errorf("a shared rung says %q", mend.Why)
	}
}

// A remedy destroys exactly when its action does, and then says what is lost.
func TestShippedRemediesSayWhatTheyDestroy(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for id, r := range k.Remedies {
		a, ok := action.Named(r.Action)
		destroys := r.Invasive == knowledge.Destroys
		if ok && (destroys != a.Destroys || destroys != (len(r.Loses) > 0)) {
			t.Errorf("%s is %s, loses %v, and its action destroys: %t", id, r.Invasive, r.Loses, a.Destroys)
		}
	}
}

// What a person has to do before anything is written is passed over only where the knowledge says that it may be.
func TestWhatComesBeforeWritingIsNotPassedOver(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for id, may := range map[string]bool{
		"copy-the-disk-first": false, "attach-the-other-disk": false, "save-data-and-replace-disk": false,
		"wait-for-other-run": false, "look-who-may": true,
	} {
		found := diagnosis.Finding{
			Cause: "x", Explains: knowledge.ExplainsAttempt, Probability: 0.8, Remedies: []string{id},
		}
		rungs := ladder.Build([]diagnosis.Finding{found}, &bag.Facts{}, &reading.Timeline{}, k)
		if len(rungs) == 0 || rungs[0].Remedy != id || rungs[0].Pass != may {
			t.Errorf("%s: %+v", id, rungs)
		}
	}
}

// TestWhatComesAfterOthersDoes: whatever else orders the rungs, and however long
// the way round is.
func TestWhatComesAfterOthersDoes(t *testing.T) {
	k := remedies(
		&knowledge.Remedy{ID: "one", Invasive: knowledge.Destroys, Minutes: 60, Helps: 0.1},
		&knowledge.Remedy{ID: "two", Invasive: knowledge.Disrupts, Minutes: 30, Helps: 0.5, After: []string{"one"}},
		&knowledge.Remedy{ID: "three", Invasive: knowledge.Looks, Minutes: 1, Helps: 1, After: []string{"two", "absent"}},
		&knowledge.Remedy{ID: "four", Invasive: knowledge.Undoable, Minutes: 1, Helps: 0.9},
	)
	findings := []diagnosis.Finding{
		{Cause: "a", Title: "A", Explains: knowledge.ExplainsAttempt, Probability: 0.8, Remedies: []string{"three", "two"}},
		{Cause: "b", Title: "B", Explains: knowledge.ExplainsStart, Probability: 0.9, Remedies: []string{"four", "one"}},
	}
	got := order(ladder.Build(findings, &bag.Facts{}, &reading.Timeline{}, k))
	if want := []string{"four", "one", "two", "three"}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

// What a family has for any failure stands last, unless a cause is as good as certain
// and has a remedy that was not tried; what was tried, or destroys, is not among it.
func TestWhatIsLeftStandsLast(t *testing.T) {
	k := remedies(
		&knowledge.Remedy{ID: "mend", Invasive: knowledge.Undoable, Minutes: 5, Helps: 0.9},
		&knowledge.Remedy{ID: "look-around", Invasive: knowledge.Looks, Minutes: 5, Helps: 0.1},
		&knowledge.Remedy{ID: "build-anew", Invasive: knowledge.Disrupts, Minutes: 50, Helps: 0.9},
		&knowledge.Remedy{ID: "wipe", Invasive: knowledge.Destroys, Minutes: 50, Helps: 1},
	)
	k.Families = map[string]*knowledge.Family{"tarn": {General: []string{"look-around", "mend", "build-anew", "wipe"}}}
	tried := func(id, outcome string) bag.Mended {
		return bag.Mended{At: time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC), Remedy: id, Outcome: outcome}
	}
	for name, c := range map[string]struct {
		probability float64
		mended      []bag.Mended
		want        []string
	}{
		"a cause that is certain": {0.97, nil, []string{"mend"}},
		"one that is not":         {0.6, nil, []string{"mend", "look-around", "build-anew"}},
		"certain, and its remedy refused": {
			0.97, []bag.Mended{tried("mend", "refused")}, []string{"mend", "look-around", "build-anew"},
		},
		"done by hand, and it did not help": {
			0.97, []bag.Mended{tried("mend", "not helped"), tried("look-around", "not helped")}, []string{"build-anew", "mend"},
		},
	} {
		facts := &bag.Facts{Installed: &bag.Installed{Family: "tarn"}, Mended: c.mended}
		rungs := ladder.Build([]diagnosis.Finding{{
			Cause:       "a",
			Title:       "A",
			Explains:    knowledge.ExplainsAttempt,
			Probability: c.probability,
			Remedies:    []string{"mend"},
		}}, facts, &reading.Timeline{}, k)
		if got := order(rungs); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
		for _, r := range rungs {
			if r.General != (r.Remedy != "mend") {
				t.Errorf("%s: %s is marked general: %t", name, r.Remedy, r.General)
			}
		}
	}
	if rungs := ladder.Build(
		nil, &bag.Facts{Installed: &bag.Installed{Family: "tarn"}}, &reading.Timeline{}, k,
	); len(rungs) != 0 {
		t.Errorf("a machine that nothing is wrong with: %v", order(rungs))
	}
}

// What was carried out, and after it the same failed again, is not proposed first again: it is by hand where a person
// has steps for it, and last where not; what does the very same under another name is last too. Where an attempt went
// well in between it did help, and may help again.
func TestWhatDidNotHelpIsNotProposedFirstAgain(t *testing.T) {
	steps := []knowledge.Step{{Do: "Read the record.", Shows: "What it names."}}
	k := remedies(
		&knowledge.Remedy{
			ID: "finish", Invasive: knowledge.Undoable, Minutes: 1, Helps: 0.9, By: knowledge.ByDiorthos,
			Action: "packages.finish", Steps: steps,
		},
		&knowledge.Remedy{
			ID: "complete", Invasive: knowledge.Undoable, Minutes: 2, Helps: 0.9, By: knowledge.ByDiorthos,
			Action: "packages.finish",
		},
		&knowledge.Remedy{
			ID: "lists", Invasive: knowledge.Disrupts, Minutes: 50, Helps: 0.1, By: knowledge.ByDiorthos,
			Action: "packages.lists-anew",
		},
	)
	at := func(hour int) time.Time { return time.Date(2026, 11, 2, hour, 0, 0, 0, time.UTC) }
	attempt := func(hour int, outcome reading.Outcome, kind reading.AttemptKind) *reading.Attempt {
		return &reading.Attempt{Kind: kind, Began: at(hour), Ended: at(hour), Outcome: outcome}
	}
	findings := []diagnosis.Finding{{
		Cause: "a", Title: "A", Explains: knowledge.ExplainsAttempt, Probability: 0.97,
		Remedies: []string{"finish", "complete", "lists"},
	}}
	facts := &bag.Facts{
		Disks: []bag.Disk{
			{ID: "disk0", Source: "disk.img", Partitions: []bag.Partition{{Number: 2, System: &bag.System{}}}},
		},
		Mended: []bag.Mended{{At: at(9).Add(300 * time.Millisecond), Remedy: "finish", Outcome: "proven"}},
	}
	first := attempt(8, reading.Failed, reading.Install)
	for name, c := range map[string]struct {
		attempts []*reading.Attempt
		want     []string
		byHand   bool
	}{
		"not tried again": {[]*reading.Attempt{first}, []string{"finish", "complete", "lists"}, false},
		"tried again in vain": {
			[]*reading.Attempt{first, attempt(10, reading.Failed, reading.Install)}, []string{"finish", "lists", "complete"}, true,
		},
		"tried again within the second": {
			[]*reading.Attempt{first, attempt(9, reading.Failed, reading.Install)}, []string{"finish", "lists", "complete"}, true,
		},
		"only Diorthos tried": {
			[]*reading.Attempt{first, attempt(10, reading.Failed, reading.Repair)}, []string{"finish", "complete", "lists"}, false,
		},
		"it went well in between": {
			[]*reading.Attempt{
				first, attempt(10, reading.Succeeded, reading.Install), attempt(12, reading.Failed, reading.Install),
			}, []string{"finish", "complete", "lists"}, false,
		},
	} {
		timeline := &reading.Timeline{Attempts: c.attempts}
		rungs := ladder.Build(findings, facts, timeline, k)
		if got := order(rungs); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
			continue
		}
		seen := slices.Clone(findings) // what is looked at now says that it is wrong again
		seen[0].For = []diagnosis.Evidence{{Text: "usr/bin/tides: it is not there"}}
		if again := ladder.Build(seen, facts, timeline, k); again[2].Remedy != "lists" || again[0].Pass {
			t.Errorf("%s, and measured: %v", name, order(again))
		}
		if hand := rungs[0].By == knowledge.ByHands && rungs[0].Action == "" && rungs[0].Pass; hand != c.byHand {
			t.Errorf("%s: the first is by hand: %t (%+v)", name, hand, rungs[0])
		}
	}
}

// A remedy that is for certain words is proposed where they stand in the evidence, and nowhere else.
func TestARemedyAsksForWords(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]bool{
		"E: Failed to fetch http://packages.skerrow.example/x/skerrow-maps_1.0_all.deb  Temporary failure resolving": true,
		"E: Failed to fetch http://packages.skerrow.example/x/InRelease  Temporary failure resolving":                false,
	} {
		rungs := ladder.Build([]diagnosis.Finding{{
			Cause: "name-not-resolved", Title: "A", Explains: knowledge.ExplainsAttempt, Probability: 0.97,
			Remedies: k.Causes["name-not-resolved"].Remedies,
			For:      []diagnosis.Evidence{{Text: text, Place: &reading.Place{File: "screen.txt", Line: 1}}},
		}}, &bag.Facts{}, &reading.Timeline{}, k)
		if got := slices.Contains(order(rungs), "supply-the-packages"); got != want {
			t.Errorf("%s: %v", text, order(rungs))
		}
	}
}

// Whatever stopped a run, and whoever has to see to that: what it left half done is finished by a rung of Diorthos, once;
// and what failed is made again after it.
func TestWhatIsHalfDoneHasARungThatFinishesIt(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	timeline := &reading.Timeline{Attempts: []*reading.Attempt{{
		Kind: reading.Install, Command: "apt-get install skerrow-gates", Outcome: reading.Failed,
		Began: time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC),
	}, {Outcome: reading.Failed}}} // the second is what its screen showed
	for state, want := range map[string][]string{
		"half-configured": {"lift-session-limits", "finish-package-configuration"},
		"installed":       {"lift-session-limits"},
	} {
		facts := &bag.Facts{
			Tree:      &bag.Tree{Source: "/mnt/target", Marks: []string{"host lerrick-kiosk-2"}},
			Installed: &bag.Installed{Family: "debian", Packages: []bag.Package{{Name: "skerrow-gates", State: state}}},
		}
		rungs := ladder.Build([]diagnosis.Finding{{
			Cause: "too-many-open-files", Title: "Too many open files", Explains: knowledge.ExplainsAttempt, Probability: 0.97,
			Remedies: []string{"lift-session-limits"},
		}}, facts, timeline, k)
		if got := order(rungs); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", state, got, want)
		}
		for _, r := range rungs {
			if made := r.Again != ""; made != (r.By == knowledge.ByDiorthos) {
				t.Errorf("%s: after %s the attempt is made again: %t", state, r.Remedy, made)
			}
		}
	}
}

// Rungs that change a volume onto which nothing can be written come after its mending; what was carried out after the
// attempt failed says so.
func TestAVolumeIsMendedBeforeItIsChanged(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	ended := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	timeline := &reading.Timeline{Attempts: []*reading.Attempt{{Kind: reading.Update, Began: ended, Ended: ended}}}
	findings := []diagnosis.Finding{{
		Cause: "corbel-work-folder", Title: "In the way", Explains: knowledge.ExplainsAttempt, Probability: 0.99,
		Remedies: []string{"work-folders-aside"},
	}}
	facts := &bag.Facts{
		Disks: []bag.Disk{{ID: "disk0", Source: "disk.img", Partitions: []bag.Partition{{
			Number: 2, System: &bag.System{Family: "corbel", Name: "Corbel 7.2"},
		}}}},
		State: &bag.State{FileSystems: []bag.VolumeFault{{Partition: 2, ID: "size-too-large", Text: "too large"}}},
	}
	if got := order(ladder.Build(findings, facts, timeline, k)); !slices.Equal(got, []string{"work-folders-aside"}) {
		t.Errorf("a volume that can be written: %v", got)
	}
	facts.State.FileSystems[0].ID = "tables-differ"
	facts.Mended = []bag.Mended{{At: ended.Add(time.Hour), Remedy: "work-folders-aside", Outcome: "proven"}}
	rungs := ladder.Build(findings, facts, timeline, k)
	if got := order(rungs)[:2]; !slices.Equal(got, []string{"mend-the-file-systems", "work-folders-aside"}) {
		t.Fatalf("one that cannot: %v", got)
	}
	if !strings.Contains(rungs[0].Why, "partition 2") || !strings.Contains(rungs[1].Why, "try what failed again first") {
		t.Errorf("why: %q, %q", rungs[0].Why, rungs[1].Why)
	}
}

// A remedy that could not be carried out when it was tried comes after others, and says so; once it was carried out,
// that is forgotten.
func TestWhatCouldNotBeDoneIsPassedOver(t *testing.T) {
	k := remedies(
		&knowledge.Remedy{ID: "one", Invasive: knowledge.Undoable, Minutes: 1, Helps: 0.9},
		&knowledge.Remedy{ID: "two", Invasive: knowledge.Undoable, Minutes: 9, Helps: 0.7},
	)
	findings := []diagnosis.Finding{{
		Cause: "a", Title: "A", Explains: knowledge.ExplainsAttempt, Probability: 0.97, Remedies: []string{"one", "two"},
	}}
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		outcomes []string
		want     string
	}{
		"never tried": {nil, "one"}, "refused": {[]string{"refused"}, "two"},
		"its proof failed":   {[]string{"taken back"}, "two"},
		"refused, then done": {[]string{"refused", "proven"}, "one"}, "nothing to do": {[]string{"nothing to do"}, "one"},
	} {
		facts := &bag.Facts{}
		for i, o := range c.outcomes {
			facts.Mended = append(facts.Mended, bag.Mended{At: at.Add(time.Duration(i) * time.Hour), Remedy: "one", Outcome: o})
		}
		rungs := ladder.Build(findings, facts, &reading.Timeline{}, k)
		if rungs[0].Remedy != c.want {
			t.Errorf("%s: %s comes first, want %s", name, rungs[0].Remedy, c.want)
		}
		if c.want == "two" && !strings.Contains(rungs[1].Why, "tried on 2026-11-02 08:00, and "+c.outcomes[0]) {
			t.Errorf("%s: %s", name, rungs[1].Why)
		}
	}
}
