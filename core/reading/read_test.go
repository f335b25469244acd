package reading_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/goccy/go-yaml"

	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// anchor is when the logs of the tests were gathered.
var anchor = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

const captured = "../../standin/debian/captured"

var loaded = sync.OnceValues(func() (*knowledge.Knowledge, error) { return knowledge.Load(shipped.Files) })

func load(t *testing.T) *knowledge.Knowledge {
	t.Helper()
	k, err := loaded()
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func folder(t *testing.T, dir string) []reading.Source {
	t.Helper()
	var list []reading.Source
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			name, _ := filepath.Rel(dir, path)
			list = append(list, reading.Source{Name: name, Open: func() (io.ReadCloser, error) { return os.Open(path) }})
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

func text(name, body string) reading.Source {
	return reading.Source{
		Name: name,
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(body)), nil },
	}
}

func TestReadFindsTheDecisiveEventOfARealUpdate(t *testing.T) {
	timeline, err := load(t).Reader.Read(
		context.Background(), folder(t, captured+"/full-boot-volume"), reading.Anchor{Now: anchor}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range timeline.Files {
		t.Logf("%s: %s, %d lines, %d kept %s", f.Name, f.Dialect, f.Lines, f.Kept, f.Problem)
	}
	if len(timeline.Attempts) != 2 {
		t.Fatalf("%d attempts, want the quiet install and the failed update", len(timeline.Attempts))
	}
	quiet, update := timeline.Attempts[0], timeline.Attempts[1]
	if quiet.Kind != "install" || quiet.Outcome != reading.Succeeded || quiet.Decisive != nil {
		t.Errorf("quiet day: %s %s %v", quiet.Kind, quiet.Outcome, quiet.Decisive)
	}
	if update.Kind != "update" || update.Outcome != reading.Failed || len(update.Changes) != 13 {
		t.Errorf("update: %s %s with %d changes", update.Kind, update.Outcome, len(update.Changes))
	}
	if len(update.Files) != 4 {
		t.Errorf("told of in %v, want history, term, dpkg's log and what the screen showed", update.Files)
	}
	d := update.Decisive
	if d == nil || d.File != "apt/term.log" || d.Line != 66 || !strings.HasPrefix(d.Text, "zstd: error 70 : Write error") {
		t.Fatalf("decisive event: %+v", d)
	}
	if update.Stage != "configure" || update.Object != "linux-image-6.1.0-56-cloud-amd64" {
		t.Errorf("struck at %s %s", update.Stage, update.Object)
	}
	var left []string
	for _, e := range update.Unfinished {
		left = append(left, e.State+" "+e.Object)
	}
	want := "half-configured linux-image-6.1.0-56-cloud-amd64:amd64, half-configured initramfs-tools:all, unpacked " +
		"linux-image-cloud-amd64:amd64"
	if !sameSet(strings.Join(left, ", "), want) {
		t.Errorf("left unfinished: %s", strings.Join(left, ", "))
	}
}

func sameSet(a, b string) bool {
	set := map[string]int{}
	for _, s := range strings.Split(a, ", ") {
		set[s]++
	}
	for _, s := range strings.Split(b, ", ") {
		set[s]--
	}
	for _, n := range set {
		if n != 0 {
			return false
		}
	}
	return true
}

// Each sample is read as a log of its own; a dialect that expects no names
// must be recognised by what the line looks like.
func TestDialectSamples(t *testing.T) {
	k := load(t)
	for _, d := range k.Dialects {
		if len(d.Samples) == 0 {
			t.Errorf("%s has no samples", d.ID)
		}
		for _, s := range d.Samples {
			name := "some-file"
			if len(d.Files) > 0 {
				name = strings.ReplaceAll(d.Files[0], "*", "x")
			}
			timeline, err := k.Reader.Read(
				context.Background(), []reading.Source{text(name, s.Line+"\n")}, reading.Anchor{Now: anchor}, nil,
			)
			if err != nil {
				t.Fatal(err)
			}
			if d.State != nil {
				checkState(t, d.ID, timeline, s.Tells)
				continue
			}
			events := timeline.Unassigned
			for _, a := range timeline.Attempts {
				events = append(events, a.Events()...)
			}
			if len(events) != 1 || timeline.Files[0].Dialect != d.ID || events[0].Mark != s.Mark ||
				events[0].Object != s.Object ||
				s.Time != "" && events[0].Time.Format("2006-01-02T15:04:05Z07:00") != s.Time {
				t.Errorf("%s: %q: taken for %s: %+v", d.ID, s.Line, timeline.Files[0].Dialect, events)
			}
		}
	}
}

func checkState(t *testing.T, id string, timeline *reading.Timeline, want map[string]string) {
	t.Helper()
	if timeline.Files[0].Dialect != id || len(timeline.State) == 0 || len(want) == 0 {
		t.Fatalf("%s: taken for %s: %+v", id, timeline.Files[0].Dialect, timeline.State)
	}
	got := timeline.State[len(timeline.State)-1].Fields
	for name, value := range want {
		if got[name] != value {
			t.Errorf("%s: %s is %q, want %q", id, name, got[name], value)
		}
	}
}

func TestReadKeepsLineNumbersAcrossChunks(t *testing.T) {
	var b strings.Builder
	const at = 70_001
	for i := 1; i <= 90_000; i++ {
		if i == at {
			b.WriteString("it failed here\n")
		} else {
			b.WriteString("all is well on this quiet line\n")
		}
	}
	timeline, err := load(t).Reader.Read(
		context.Background(), []reading.Source{text("any.txt", b.String())}, reading.Anchor{Now: anchor}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	f := timeline.Files[0]
	if f.Lines != 90_000 || f.Dialect != "plain" || len(timeline.Unassigned) != 1 {
		t.Fatalf("%+v, %d loose", f, len(timeline.Unassigned))
	}
	e := timeline.Unassigned[0]
	if e.Line != at || b.String()[e.Offset:e.Offset+int64(e.Length)] != "it failed here" {
		t.Errorf("event at line %d, byte %d", e.Line, e.Offset)
	}
}

func TestWordsInsideNamesSayNothing(t *testing.T) {
	body := "Setting up libgpg-error0 (1.46-1) ...\n" +
		"Unpacking liberror-perl (0.17) ...\n" +
		"mounted with errors=remount-ro\n" +
		"0 errors, 0 failed\n" +
		"an error: no\n"
	timeline, err := load(t).Reader.Read(
		context.Background(), []reading.Source{text("console.txt", body)}, reading.Anchor{Now: anchor}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	var bad []int
	for _, e := range timeline.Attempts[0].Events() {
		if e.IsError() {
			bad = append(bad, e.Line)
		}
	}
	if len(bad) != 1 || bad[0] != 5 {
		t.Errorf("lines that sound like a failure: %v, want the last only", bad)
	}
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"dpkg.log", "apt/history.log", "apt/term.log", "console.txt"} {
		raw, err := os.ReadFile(filepath.Join(captured, "full-boot-volume", name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(filepath.Base(name), raw)
	}
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, name string, raw []byte) {
		timeline, err := k.Reader.Read(
			context.Background(), []reading.Source{text(name, string(raw))}, reading.Anchor{Now: anchor}, nil,
		)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range timeline.Attempts {
			if a.Outcome != reading.Succeeded && a.Decisive != nil && len(a.Chain) == 0 {
				t.Error("a decisive event without a chain")
			}
		}
	})
}

func TestEncodingsAreRead(t *testing.T) {
	const body = "all is well here\nMünchen: error: Gerät nicht gefunden\nall is well again\n"
	utf16 := func(order binary.ByteOrder, mark bool) string {
		units := utf16.Encode([]rune(body))
		if mark {
			units = append([]uint16{0xfeff}, units...)
		}
		raw := make([]byte, 2*len(units))
		for i, u := range units {
			order.PutUint16(raw[2*i:], u)
		}
		return string(raw)
	}
	latin := strings.NewReplacer("ü", "\xfc", "ä", "\xe4").Replace(body)
	for name, raw := range map[string]string{
		"UTF-8":              body,
		"UTF-8 with mark":    "\xef\xbb\xbf" + body,
		"CRLF":               strings.ReplaceAll(body, "\n", "\r\n"),
		"Latin-1":            latin,
		"UTF-16LE with mark": utf16(binary.LittleEndian, true),
		"UTF-16LE":           utf16(binary.LittleEndian, false),
		"UTF-16BE with mark": utf16(binary.BigEndian, true),
		"UTF-16BE":           utf16(binary.BigEndian, false),
		"colours":            strings.Replace(body, "error:", "\x1b[1;31mer\x1b[0mror:", 1),
		"progress":           strings.Replace(body, "München", "10%\r20%\r                \rMünchen", 1),
	} {
		timeline, err := load(t).Reader.Read(
			context.Background(), []reading.Source{text("any.txt", raw)}, reading.Anchor{Now: anchor}, nil,
		)
		if err != nil {
			t.Fatal(err)
		}
		if len(timeline.Unassigned) != 1 || timeline.Unassigned[0].Line != 2 ||
			timeline.Unassigned[0].Text != "München: error: Gerät nicht gefunden" {
			t.Errorf("%s: %+v", name, timeline.Unassigned)
		}
	}
}

func TestCompressedLogsAreReadWhateverTheirName(t *testing.T) {
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain")
	if err := os.WriteFile(plain, []byte("quiet\nit failed here\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, tool := range []string{"gzip", "xz", "bzip2"} {
		raw, err := exec.Command(tool, "-c", plain).Output()
		if err != nil {
			t.Fatalf("%s: %v", tool, err)
		}
		timeline, err := load(t).Reader.Read(context.Background(), []reading.Source{
			text("log-of-"+tool, string(raw)), text("cut-off", string(raw[:len(raw)-6])),
		}, reading.Anchor{Now: anchor}, nil)
		if err != nil {
			t.Fatal(err)
		}
		whole := slices.IndexFunc(timeline.Unassigned, func(e reading.Event) bool {
			return e.File == "log-of-"+tool && e.Text == "it failed here"
		})
		cut := slices.IndexFunc(timeline.Files, func(f reading.FileReport) bool {
			return f.Name == "cut-off" && f.Problem != ""
		})
		if whole < 0 || cut < 0 {
			t.Errorf("%s: %+v %+v", tool, timeline.Unassigned, timeline.Files)
		}
	}
}

func TestAYearIsFoundForTimesThatHaveNone(t *testing.T) {
	body := "Dec 31 23:59:59 gannet-1 kernel: [    1.000000] a: error\nNov 23 08:00:00 gannet-1 sshd[1]: b: error\n"
	timeline, err := load(t).Reader.Read(
		context.Background(), []reading.Source{text("syslog", body)}, reading.Anchor{Now: anchor}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	var years []int
	for _, e := range timeline.Unassigned {
		years = append(years, e.Time.Year())
	}
	if len(years) != 2 || years[0] != 2025 || years[1] != 2026 {
		t.Errorf("years %v: %+v", years, timeline.Unassigned)
	}
}

func TestWindowShowsTheLinesAroundAPlace(t *testing.T) {
	var b strings.Builder
	for i := 1; i <= 500; i++ {
		fmt.Fprintf(&b, "line %d%s\r\n", i, strings.Repeat(" long", i%2*20_000))
	}
	lines, err := reading.Window(context.Background(), text("x", b.String()), 99, 101)
	if err != nil || len(lines) != 3 || lines[1].Number != 100 || lines[1].Text != "line 100" ||
		len(lines[0].Text) > 17_000 {
		t.Errorf("%v: %d lines", err, len(lines))
	}
	lines, err = reading.Window(context.Background(), text("x", b.String()), 499, 510)
	if err != nil || len(lines) != 2 {
		t.Errorf("at the end: %v: %d lines", err, len(lines))
	}
}

func TestADialectIsInferredAndReadsWhatItWasMadeFrom(t *testing.T) {
	for name, line := range map[string]string{
		"plain.log":   "2026-11-22 06:12:%02d [ERROR] berth-planner: no answer from the terminal %d",
		"zoned.log":   "2026-11-22T06:12:%02d.120+01:00 INFO courier sent parcel %d",
		"ctime.log":   "[Sun Nov 22 06:12:%02d 2026] the pump of tank %d stops",
		"comma.log":   "2026-11-22 06:12:%02d,412 WARNING low tide at berth %d",
		"harbour.log": "22.11.2026 06:12:%02d gate[812]: opened for %d",
	} {
		var lines []string
		for i := range 40 {
			lines = append(lines, fmt.Sprintf(line, i, i))
			if i%5 == 0 {
				lines = append(lines, "    and more of the same on a line of its own")
			}
		}
		d, err := reading.Infer(name, lines)
		if err != nil || d.Matched != 40 {
			t.Errorf("%s: %v: %+v", name, err, d)
			continue
		}
		var back reading.Dialect
		if err := yaml.UnmarshalWithOptions([]byte(d.YAML(lines)), &back, yaml.Strict()); err != nil ||
			len(back.Samples) != 2 || back.Samples[0].Time == "" {
			t.Errorf("%s: %v\n%s", name, err, d.YAML(lines))
		}
		if strings.Contains(line, "ERROR") != strings.Contains(d.Record, "<component>") && name == "plain.log" {
			t.Errorf("%s: %s", name, d.Record)
		}
	}
	if _, err := reading.Infer("prose", []string{"no time here", "nor here"}); err == nil {
		t.Error("a dialect was inferred from prose")
	}
}

func TestUnparsedLinesAreCountedAndListed(t *testing.T) {
	const log = "Nov 22 06:00:01 kestrel cron[7]: started\n" +
		"  set in below it\n\n" +
		"segmentation of the deck\n" +
		"\x1b[33mNov 22 06:00:02 kestrel cron[7]: in colour\x1b[0m\n" +
		"Nov 22 06:00:03 kestrel kernel: [  1.5] up\n" +
		"\x00\x01\xff\xfe rubbish\n" +
		"Nov 22 06:00:04 kestrel dpkg[8]: error: gone\n"
	reader, src := load(t).Reader, text("syslog", log)
	timeline, err := reader.Read(context.Background(), []reading.Source{src}, reading.Anchor{Now: anchor}, nil)
	if err != nil {
		t.Fatal(err)
	}
	var numbers []int
	dialect, err := reader.Unparsed(context.Background(), src, func(l reading.WindowLine) error {
		numbers = append(numbers, l.Number)
		return nil
	})
	if err != nil || dialect != "syslog" || !slices.Equal(numbers, []int{4, 7}) {
		t.Errorf("dialect %s, lines %v, %v", dialect, numbers, err)
	}
	if f := timeline.Files[0]; f.Unparsed != len(numbers) || f.Lines != 8 {
		t.Errorf("%d unparsed of %d lines", f.Unparsed, f.Lines)
	}
}

// What a screen showed is read by what it says, whatever its file is called; what is passed on in a letter too.
func TestTheNameOfAScreenSaysLittle(t *testing.T) {
	const failed = "Reading package lists...\nE: dpkg was interrupted, you must manually run 'dpkg --configure -a'\n"
	for name, said := range map[string]string{
		"console.txt": failed, "screen.txt": failed, "photo.txt": failed,
		"logs/seen/screen.txt": "Hi,\n\nlook at this please.\n\n> Reading package lists...\n" +
			"> E: dpkg was interrupted, you must manually run 'dpkg --configure -a'\n",
	} {
		timeline := read(t, text(name, said))
		latest := timeline.Latest()
		if latest == nil || latest.Decisive == nil || latest.Kind == reading.Start ||
			!strings.Contains(latest.Decisive.Text, "dpkg was interrupted") {
			t.Errorf("%s: %+v", name, latest)
		}
	}
	start := read(
		t,
		text("screen.txt", "STOPPED at pending: operation 98: component corbel-ticket-print is not in the store\n"),
	)
	if latest := start.Latest(); latest == nil || latest.Kind != reading.Start {
		t.Errorf("what a machine showed that did not start: %+v", latest)
	}
}

// A line that is set in goes on from the one above it; who names a place in a text says more than who passes that on.
// What Diorthos itself did in vain is a repair, and not what failed.
func TestTheDecisiveLineIsWhereItBegins(t *testing.T) {
	for name, c := range map[string]struct{ said, want string }{
		"set in": {
			"mount: /srv/beacon: special device /srv/beacon.img does not exist.\n       more after failed mount call.\n",
			"special device",
		},
		"a place":    {"\"-\":0: bad minute\nerrors in crontab file, can't install.\n", "bad minute"},
		"no place":   {"it is 12:04:33: time to go\nbeacon: error: no lamp\n", "no lamp"},
		"set in all": {"  one\n  beacon: error: no lamp\n", "no lamp"},
	} {
		log := "Log started: 2026-12-01  08:00:00\nSetting up skerrow-beacon (2.4) ...\n" + c.said +
			"dpkg: error processing package skerrow-beacon (--configure):\n installed skerrow-beacon package " +
			"post-installation script subprocess returned error exit status 1\nLog ended: 2026-12-01  08:00:01\n"
		latest := read(t, text("term.log", log)).Latest()
		if latest == nil || latest.Decisive == nil || !strings.Contains(latest.Decisive.Text, c.want) {
			t.Errorf("%s: %+v", name, latest)
		}
	}
	block := func(time, command string) string {
		return "Start-Date: 2026-12-01  " + time + "\nCommandline: " + command +
			"\nError: Sub-process /usr/bin/dpkg returned an error code (1)\nEnd-Date: 2026-12-01  " + time + "\n\n"
	}
	timeline := read(t, text("history.log", block("08:00:00", "apt-get -y install skerrow-beacon")+
		block("08:10:00", "apt-get -y -o Diorthos::Mends=true -f install")))
	if n := len(timeline.Attempts); n != 2 || timeline.Attempts[1].Kind != reading.Repair {
		t.Fatalf("%d attempts", n)
	}
	if latest := timeline.Latest(); latest.Command != "apt-get -y install skerrow-beacon" {
		t.Errorf("what failed is taken to be %q", latest.Command)
	}
}

// What a newer release of the tool words anew is read as what it said before, and shown as it stands; what a script
// says in the same words stays the script's, and another log's own words stay its own.
func TestNewerWordsAreReadAsTheOlder(t *testing.T) {
	const begins = "Solving dependencies...\nInstalling:\n  skerrow-beacon\n\nSummary:\n" +
		"  Upgrading: 0, Installing: 1, Removing: 0, Not Upgrading: 2\n"
	for name, c := range map[string]struct{ said, decisive, program string }{
		"the tool": {begins + "Error: Unable to locate package skerrow-lamp\n", "Error: Unable to locate package", "apt"},
		"alone":    {"Error: Unable to locate package skerrow-lamp\n", "Error: Unable to locate package", "apt"},
		"German":   {"Fehler: Paket skerrow-lamp kann nicht gefunden werden.\n", "Fehler: Paket skerrow-lamp", "apt"},
		"what is needed": {
			begins + "Unsatisfied dependencies:\n skerrow-beacon : Depends: skerrow-lamp but it is not installable\n" +
				"Error: Unable to correct problems, you have held broken packages.\n", "Unsatisfied dependencies:\n", "apt",
		},
		"a script": {
			begins + "Setting up skerrow-beacon (2.4) ...\nError: no lamp\n" +
				"dpkg: error processing package skerrow-beacon (--configure):\n installed skerrow-beacon package " +
				"post-installation script subprocess returned error exit status 1\nErrors were encountered while processing:\n" +
				" skerrow-beacon\nError: Sub-process /usr/bin/dpkg returned an error code (1)\n", "Error: no lamp", "",
		},
	} {
		timeline := read(t, text("screen.txt", c.said))
		latest := timeline.Latest()
		if latest == nil || latest.Decisive == nil || !strings.HasPrefix(latest.Decisive.Text, c.decisive) {
			t.Errorf("%s: %+v", name, latest)
			continue
		}
		line := 1 + strings.Count(c.said[:strings.Index(c.said, c.decisive)], "\n")
		if d := latest.Decisive; d.Line != line || d.Speaker.Program != c.program {
			t.Errorf("%s: line %d, said by %q; want line %d, %q", name, d.Line, d.Speaker.Program, line, c.program)
		}
	}
	kept := read(t, text("paste.txt", "Start-Date: 2026-12-01  08:00:00\nCommandline: apt-get -y install tide\n"+
		"Install: tide:amd64 (1.0)\nError: Sub-process /usr/bin/dpkg returned an error code (1)\n"+
		"End-Date: 2026-12-01  08:00:09\n"))
	if a := kept.Latest(); a == nil || a.Outcome != reading.Failed || a.Command != "apt-get -y install tide" {
		t.Errorf("a history that was pasted: %+v", a)
	}
}
