package reading_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"diorthos/core/reading"
)

func read(t *testing.T, sources ...reading.Source) *reading.Timeline {
	t.Helper()
	timeline, err := load(t).Reader.Read(context.Background(), sources, reading.Anchor{Now: anchor}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return timeline
}

const twoRuns = `
Log started: 2026-11-20  06:00:00
Unpacking board (1.0) ...
Setting up board (1.0) ...
Log ended: 2026-11-20  06:00:02

Log started: 2026-11-20  06:00:03
Unpacking gate (2.0) over (1.0) ...
Setting up gate (2.0) ...
gate: cannot reach the gangway
dpkg: error processing package gate (--configure):
 installed gate package post-installation script subprocess returned error exit status 1
Log ended: 2026-11-20  06:00:09
`

// Two runs a second apart must not be taken for one, whichever log is read
// first.
func TestRunsCloseTogetherAreKeptApart(t *testing.T) {
	history := "\n" +
		"Start-Date: 2026-11-20  06:00:00\n" +
		"Commandline: apt-get install board\n" +
		"Install: board:amd64 (1.0)\n" +
		"End-Date: 2026-11-20  06:00:02\n" +
		"\n" +
		"Start-Date: 2026-11-20  06:00:03\n" +
		"Commandline: apt-get upgrade\n" +
		"Upgrade: gate:amd64 (1.0, 2.0)\n" +
		"Error: Sub-process /usr/bin/dpkg returned an error code (1)\n" +
		"End-Date: 2026-11-20  06:00:09\n"
	for _, sources := range [][]reading.Source{
		{text("term.log", twoRuns), text("history.log", history)},
		{text("history.log", history), text("term.log", twoRuns)},
	} {
		list := read(t, sources...).Attempts
		if len(list) != 2 || list[0].Outcome != reading.Succeeded || list[0].Kind != "install" ||
			list[1].Outcome != reading.Failed || list[1].Kind != "update" {
			t.Fatalf("%+v", list)
		}
		d := list[1].Decisive
		if d == nil || d.Text != "gate: cannot reach the gangway" || len(list[1].Changes) != 1 ||
			list[1].Changes[0].From != "1.0" || list[1].Changes[0].To != "2.0" {
			t.Errorf("%+v, changes %+v", d, list[1].Changes)
		}
	}
}

func TestALogThatStopsIsARunThatWasCutOff(t *testing.T) {
	cut := twoRuns[:strings.Index(twoRuns, "gate: cannot")]
	list := read(t, text("term.log", cut)).Attempts
	last := list[len(list)-1]
	if last.Outcome != reading.CutOff || last.Decisive == nil ||
		!strings.HasPrefix(last.Decisive.Text, "Setting up gate") || last.Object != "gate" {
		t.Errorf("%+v %+v", last, last.Decisive)
	}
}

func TestTheDecisiveLineIsFoundAmongWhatMisleads(t *testing.T) {
	for name, c := range map[string]struct{ log, decisive, object string }{
		"question and error on one line": {
			"Setting up clock (2.0) ...\n" +
				"*** clock.conf (Y/I/N/O/D/Z) [default=N] ? dpkg: error processing package clock (--configure):\n" +
				" end of file on stdin at conffile prompt\n",
			"*** clock.conf (Y/I/N/O/D/Z) [default=N] ? dpkg: error processing package clock (--configure):\nend of file on " +
				"stdin at conffile prompt",
			"clock",
		},
		"behind a progress bar": {
			"Setting up board (1.0) ...\n" +
				"Progress: [ 40%]\rProgress: [ 60%]\rboard: fatal: no screen\n" +
				"dpkg: error processing package board (--configure):\n" +
				" exit status 1\n",
			"board: fatal: no screen", "board"},
		"in colour": {
			"Setting up board (1.0) ...\n" +
				"\x1b[1mdpkg:\x1b[0m \x1b[1;31merror\x1b[0m processing package board (--configure):\n" +
				" exit status 1\n",
			"dpkg: error processing package board (--configure):\nexit status 1", "board"},
		"last words without an alarming one": {
			"Setting up board (1.0) ...\n" +
				"Step 1 of 2: reading\n" +
				"Give the board a number first.\n" +
				"dpkg: error processing package board (--configure):\n" +
				" installed board package post-installation script subprocess returned error exit status 1\n",
			"Give the board a number first.", "board"},
		"another package's noise before": {
			"Setting up other (1.0) ...\n" +
				"other: warning: error count is 0\n" +
				"other: could not find a map, using the default\n" +
				"Setting up board (1.0) ...\n" +
				"board: missing feed\n" +
				"dpkg: error processing package board (--configure):\n" +
				" exit status 1\n",
			"board: missing feed", "board"},
		"two thousand lines of clean-up after": {
			"Setting up board (1.0) ...\n" +
				"board: missing feed\n" +
				"dpkg: error processing package board (--configure):\n" +
				" exit status 1\n" +
				strings.Repeat("rm: cannot remove 'x': No such file or directory\n", 2000),
			"board: missing feed", "board"},
		"a failure that follows stands first": {
			"dpkg: dependency problems prevent configuration of desk:\n" +
				" desk depends on board; however:\n" +
				"Setting up board (1.0) ...\n" +
				"board: missing feed\n" +
				"dpkg: error processing package board (--configure):\n" +
				" exit status 1\n",
			"board: missing feed", "board"},
	} {
		list := read(t, text("console.txt", c.log)).Attempts
		if len(list) != 1 || list[0].Decisive == nil || list[0].Decisive.Text != c.decisive || list[0].Object != c.object {
			t.Errorf("%s: %+v", name, list)
		}
	}
}

// A log in which every line is a failure must not take all memory, and what
// is left out is counted.
func TestARunawayLogIsThinned(t *testing.T) {
	var b strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&b, "feed: error: no answer %d\n", i)
	}
	timeline := read(t, text("board.txt", b.String()))
	f := timeline.Files[0]
	if f.Kept > 9_000 || f.Kept+f.Left != 200_000 || f.Lines != 200_000 {
		t.Errorf("%+v", f)
	}
	first, last := timeline.Unassigned[0], timeline.Unassigned[len(timeline.Unassigned)-1]
	if first.Line != 1 || last.Line != 200_000 {
		t.Errorf("kept lines %d to %d", first.Line, last.Line)
	}
}

func TestWhyNotKnowsEveryReason(t *testing.T) {
	timeline := read(t, text("term.log", twoRuns), text("notes.txt", "an error of no run\n"))
	for line, want := range map[int]string{
		3:   "an attempt that succeeded",
		9:   "",
		10:  "it is the decisive event",
		11:  "came after line 10",
		12:  "came after line 10",
		900: "has 13 lines",
	} {
		if got := timeline.WhyNot("term.log", line); !strings.Contains(got, want) {
			t.Errorf("line %d: %s", line, got)
		}
	}
	if got := timeline.WhyNot("notes.txt", 1); !strings.Contains(got, "belongs to no attempt") {
		t.Error(got)
	}
	if got := timeline.WhyNot("nowhere", 1); !strings.Contains(got, "no log called") {
		t.Error(got)
	}
}

// TestALogWhoseBeginningIsMissing: a rotated log, or the part of it that somebody
// copied, tells of the attempt all the same, and it is the earlier one.
func TestALogWhoseBeginningIsMissing(t *testing.T) {
	tail := "Unpacking crew (1.4) ...\n" +
		"dpkg: error processing archive /tmp/crew.deb (--unpack):\n" +
		" cannot copy extracted data for './a' to '/a.dpkg-new': failed to write (No space left on device)\n" +
		"E: Sub-process /usr/bin/dpkg returned an error code (1)\n"
	whole := "Log started: 2026-11-22  10:00:00\nSetting up tides (2.0) ...\nLog ended: 2026-11-22  10:00:09\n"
	alone := read(t, text("term.log", tail))
	if len(alone.Attempts) != 1 || alone.Attempts[0].Outcome != reading.Failed || alone.Attempts[0].Decisive.Line != 2 {
		t.Errorf("the part alone: %+v", alone.Attempts)
	}
	both := read(t, text("term.log", tail+whole))
	if len(both.Attempts) != 2 || both.Attempts[0].Outcome != reading.Failed ||
		both.Attempts[1].Outcome != reading.Succeeded {
		t.Errorf("with one that went well behind it: %+v", both.Attempts)
	}
}
