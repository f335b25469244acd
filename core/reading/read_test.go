package reading_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

const captured = "../../standin/debian/captured"

func load(t *testing.T) *knowledge.Knowledge {
	t.Helper()
	k, err := knowledge.Load(shipped.Files)
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
	return reading.Source{Name: name, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(body)), nil }}
}

func TestReadFindsTheDecisiveEventOfARealUpdate(t *testing.T) {
	timeline, err := load(t).Reader.Read(context.Background(), folder(t, captured+"/full-boot-volume"), nil)
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
	want := "half-configured linux-image-6.1.0-56-cloud-amd64:amd64, half-configured initramfs-tools:all, unpacked linux-image-cloud-amd64:amd64"
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

func TestDialectSamples(t *testing.T) {
	k := load(t)
	for _, d := range k.Dialects {
		for _, s := range d.Samples {
			timeline, err := k.Reader.Read(context.Background(), []reading.Source{text(strings.ReplaceAll(d.Files[0], "*", "x"), s.Line+"\n")}, nil)
			if err != nil {
				t.Fatal(err)
			}
			events := timeline.Loose
			for _, a := range timeline.Attempts {
				events = append(events, a.Events()...)
			}
			if len(events) != 1 || events[0].Mark != s.Mark || events[0].Object != s.Object ||
				s.Time != "" && events[0].Time.Format("2006-01-02T15:04:05Z07:00") != s.Time {
				t.Errorf("%s: %q: got %+v", d.ID, s.Line, events)
			}
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
	timeline, err := load(t).Reader.Read(context.Background(), []reading.Source{text("any.txt", b.String())}, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := timeline.Files[0]
	if f.Lines != 90_000 || f.Dialect != "plain" || len(timeline.Loose) != 1 {
		t.Fatalf("%+v, %d loose", f, len(timeline.Loose))
	}
	e := timeline.Loose[0]
	if e.Line != at || b.String()[e.Offset:e.Offset+int64(e.Length)] != "it failed here" {
		t.Errorf("event at line %d, byte %d", e.Line, e.Offset)
	}
}

func TestWordsInsideNamesSayNothing(t *testing.T) {
	body := "Setting up libgpg-error0 (1.46-1) ...\nUnpacking liberror-perl (0.17) ...\nmounted with errors=remount-ro\n0 errors, 0 failed\nan error: no\n"
	timeline, err := load(t).Reader.Read(context.Background(), []reading.Source{text("console.txt", body)}, nil)
	if err != nil {
		t.Fatal(err)
	}
	var bad []int
	for _, e := range timeline.Attempts[0].Events() {
		if e.Sounds() {
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
		timeline, err := k.Reader.Read(context.Background(), []reading.Source{text(name, string(raw))}, nil)
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
