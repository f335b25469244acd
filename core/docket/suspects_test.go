package docket_test

import (
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// What was changed before, within a month, is suspected: first what the
// failure itself names.
func TestSuspectsAreWhatWasChangedBefore(t *testing.T) {
	run := func(day, what, end string) string {
		return "\nStart-Date: 2026-11-" + day + "  06:00:00\nCommandline: apt-get install x\n" + what + "\n" + end +
			"End-Date: 2026-11-" + day + "  06:00:09\n"
	}
	history := strings.Replace(run("02", "Install: skerrow-old:amd64 (1.0)", ""), "2026-11-02", "2026-09-02", 2) +
		run("18", "Upgrade: skerrow-pump:amd64 (1.0, 2.0)", "") + run("20", "Install: skerrow-board:amd64 (3.0)", "") +
		run("21", "Upgrade: skerrow-crew:amd64 (1.0, 2.0)", "Error: Sub-process /usr/bin/dpkg returned an error code (1)\n")
	term := "Log started: 2026-11-21  06:00:00\n" +
		"Setting up skerrow-crew (2.0) ...\n" +
		"skerrow-crew: cannot reach skerrow-pump\n" +
		"dpkg: error processing package skerrow-crew (--configure):\n" +
		" installed skerrow-crew package post-installation script subprocess returned error exit status 1\n" +
		"Log ended: 2026-11-21  06:00:09\n"
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	source := func(name, text string) reading.Source {
		return reading.Source{
			Name: name,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil },
		}
	}
	d, err := docket.Draw(t.Context(), &bag.Facts{}, []reading.Source{
		source("history.log", history), source("term.log", term),
	}, k, nil)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, s := range d.Suspects {
		got = append(got, s.Action+" "+s.Object)
	}
	if strings.Join(got, ", ") != "upgrade skerrow-pump, install skerrow-board" || !d.Suspects[0].Named ||
		d.Suspects[0].From != "1.0" {
		t.Errorf("%+v", d.Suspects)
	}
}

// A system that keeps a history of its own is asked for it, also where no log tells of the
// start that failed.
func TestTheSystemsOwnHistoryIsSuspectedToo(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	day := time.Date(2026, 11, 21, 6, 0, 0, 0, time.UTC)
	facts := &bag.Facts{Gathered: day, State: &bag.State{
		History: []bag.HistoryEntry{
			{When: day.AddDate(0, -3, 0), Kind: "update", ID: "U7201", Build: 7201},
			{When: day.AddDate(0, 0, -9), Kind: "update", ID: "U7210", Build: 7210, Was: 7205},
			{When: day.AddDate(0, 0, -2), Kind: "program", ID: "gangway-planner"},
			{When: day.AddDate(0, 0, 1), Kind: "program", ID: "of-tomorrow"},
		},
		Chain: boot.Chain{{Kind: "loader", Fault: "loader-missing", What: "loader", Saw: "nothing"}},
	}}
	draw := func(logs ...reading.Source) []string {
		t.Helper()
		d, err := docket.Draw(t.Context(), facts, logs, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		got := []string{}
		for _, s := range d.Suspects {
			got = append(got, s.Action+" "+s.Object+" "+s.From+"→"+s.To)
		}
		return got
	}
	if got := draw(); !slices.Equal(got, []string{"program gangway-planner →", "update U7210 7205→7210"}) {
		t.Errorf("suspected: %q", got)
	}
	facts.State.History[1].Wants = []string{"a processor with vx4"}
	if got := draw(); !slices.Equal(got, []string{"update U7210 7205→7210", "program gangway-planner →"}) {
		t.Errorf("what brought what the machine lacks is not suspected first: %q", got)
	}
	facts.State.History[1].Wants, facts.State.Chain = nil, nil
	screen := reading.Source{Name: "screen.txt", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader("Corbel is starting\n" +
			"STOPPED at services: corbel-display 7.2.15: an instruction that this processor does not know\n")), nil
	}}
	if got := draw(screen); !slices.Equal(got, []string{"program gangway-planner →", "update U7210 7205→7210"}) {
		t.Errorf("of a screen, which has no time, suspected: %q", got)
	}
	if got := draw(); len(got) != 0 {
		t.Errorf("nothing failed, and suspected: %q", got)
	}
}
