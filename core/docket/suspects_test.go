package docket_test

import (
	"io"
	"strings"
	"testing"

	"diorthos/core/bag"
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
