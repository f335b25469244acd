package reading_test

import (
	"strings"
	"testing"
	"time"

	"diorthos/core/reading"
)

// The same three records in the kernel's ring, with seconds since the start,
// in local time without zone, and in UTC.
const (
	ring = "[   12.500000] ata1.00: failed command: READ FPDMA QUEUED\n" +
		"[   14.250000] EXT4-fs error (device sda2): htree_dirblock_to_tree\n" +
		"[   99.000000] usb 1-3: device descriptor read failed\n"
	utc = "2026-11-22T05:00:12.500000Z bridge kernel: ata1.00: failed command: READ FPDMA QUEUED\n" +
		"2026-11-22T05:00:14.250000Z bridge kernel: EXT4-fs error (device sda2): htree_dirblock_to_tree\n"
	home = "Nov 22 06:00:12 bridge kernel: ata1.00: failed command: READ FPDMA QUEUED\n" +
		"Nov 22 06:00:14 bridge kernel: EXT4-fs error (device sda2): htree_dirblock_to_tree\n" +
		"Nov 22 06:03:00 bridge board: error: feed not found\n"
)

func timeOf(t *testing.T, timeline *reading.Timeline, file, text string) time.Time {
	t.Helper()
	for _, e := range timeline.Unassigned {
		if e.File == file && strings.Contains(e.Text, text) {
			return e.Time
		}
	}
	t.Fatalf("no record of %s holds %q", file, text)
	return time.Time{}
}

func TestLogsAreAlignedByTheRecordsTheyShare(t *testing.T) {
	timeline := read(t, text("dmesg", ring), text("utc.log", utc), text("syslog", home))
	for _, c := range []struct{ file, text, want string }{
		{"dmesg", "usb 1-3", "2026-11-22T05:01:39Z"},         // 99 s after a start at 05:00:00
		{"syslog", "feed not found", "2026-11-22T05:03:00Z"}, // an hour behind what is written
		{"utc.log", "ata1.00", "2026-11-22T05:00:12Z"},
	} {
		if got := timeOf(t, timeline, c.file, c.text).Truncate(time.Second).Format(time.RFC3339); got != c.want {
			t.Errorf("%s: %s, want %s", c.file, got, c.want)
		}
	}
	if len(timeline.Shifts) != 2 {
		t.Errorf("shifts %+v", timeline.Shifts)
	}
}

func TestSecondsSinceTheStartNeedAnAnchor(t *testing.T) {
	start := time.Date(2026, 11, 22, 5, 0, 0, 0, time.UTC)
	timeline, err := load(t).Reader.Read(t.Context(), []reading.Source{text("dmesg", ring)}, reading.Anchor{
		Now:   anchor,
		Start: start,
	}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if got := timeOf(t, timeline, "dmesg", "usb 1-3"); !got.Equal(start.Add(99 * time.Second)) {
		t.Errorf("with an anchor: %s", got)
	}
	if got := timeOf(t, read(t, text("dmesg", ring)), "dmesg", "usb 1-3"); !got.IsZero() {
		t.Errorf("without one: %s", got)
	}
}

func TestAClockThatWasSetIsAnEvent(t *testing.T) {
	log := "Nov 22 06:00:00 bridge kernel: [   10.000000] first: failed to load\n" +
		"Nov 22 06:00:05 bridge kernel: [   15.000000] second: failed to load\n" +
		"Nov 22 09:00:06 bridge kernel: [   16.000000] third: failed to load\n" + // three hours in a second
		"Nov 22 06:30:00 bridge board: error: feed not found\n" // and back
	jumps := read(t, text("syslog", log)).Jumps
	if len(jumps) != 2 || jumps[0].Line != 3 || !strings.HasPrefix(jumps[0].Text, "the clock jumped forward by 3h0m0s") ||
		jumps[1].Line != 4 || !strings.HasPrefix(jumps[1].Text, "the clock jumped back by 2h30m6s") {
		t.Errorf("%+v", jumps)
	}
}

// What the machine's own successful runs show as well is not what broke.
func TestNoiseIsLearnedFromRunsThatWentWell(t *testing.T) {
	run := func(day, end string) string {
		return "Log started: 2026-11-" + day + "  06:00:00\nUnpacking gate (" + day + ") ...\nSetting up gate (" + day +
			") ...\ngate: error: 12" + day + " berths have no name\n" + end + "Log ended: 2026-11-" + day + "  06:00:09\n\n"
	}
	failed := "gate: the gangway cannot be reached\n" +
		"dpkg: error processing package gate (--configure):\n" +
		" installed gate package post-installation script subprocess returned error exit status 1\n"
	timeline := read(t, text("term.log", run("19", "")+run("20", "")+run("21", failed)))
	a := timeline.Latest()
	if a == nil || a.Decisive == nil || a.Decisive.Text != "gate: the gangway cannot be reached" ||
		timeline.SeenInSuccess != 1 {
		t.Fatalf("%+v, usual %d", a.Decisive, timeline.SeenInSuccess)
	}
	if why := timeline.WhyNot("term.log", 16); !strings.Contains(why, "succeeded too") {
		t.Errorf("why not: %s", why)
	}
	alone := read(t, text("term.log", run("21", failed)))
	if d := alone.Latest().Decisive; d.Text != "gate: error: 1221 berths have no name" {
		t.Errorf("without earlier runs: %s", d.Text)
	}
}

// The export format has a line for each field of a record, and a length in
// eight bytes before a text of several lines.
func TestTheJournalInItsExportFormat(t *testing.T) {
	log := "__CURSOR=a\n__REALTIME_TIMESTAMP=1795327923000000\nMESSAGE=all is well\nPRIORITY=6\n\n" +
		"__CURSOR=b\n" +
		"__REALTIME_TIMESTAMP=1795327924000000\n" +
		"MESSAGE=the feed ran dry\n" +
		"SYSLOG_IDENTIFIER=board\n" +
		"PRIORITY=3\n\n" +
		"__CURSOR=c\n" +
		"__REALTIME_TIMESTAMP=1795327925000000\n" +
		"PRIORITY=6\n" +
		"MESSAGE\n" +
		"\x1e\x00\x00\x00\x00\x00\x00\x00gate: failed to open the gate\n" +
		"second\n\n"
	list := read(t, text("any.export", log)).Unassigned
	if len(list) != 2 || list[0].Component != "board" || list[0].Level != reading.Error || list[0].Line != 8 ||
		list[0].Time.Unix() != 1795327924 {
		t.Fatalf("%+v", list)
	}
	if list[1].Level != reading.Error || !strings.Contains(list[1].Text, "gate: failed to open the gate") ||
		list[1].Time.Unix() != 1795327925 {
		t.Errorf("%+v", list[1])
	}
}
