package docket_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
	"diorthos/standin/debian"
)

// A label says what a captured failure is. The decisive line is the first one
// that matches, in whichever log it is looked for. Where the evidence does not tell
// several causes apart, they stand with | between them.
type label struct {
	Cause    string `yaml:"cause"`
	Decisive string `yaml:"decisive"`
}

// A score is how one failure was judged.
type score struct {
	name, want, got string
	probability     float64 // given to the right cause
	line, says      string
	cause, decisive bool
	kind            bool    // the likeliest kind is that of the right cause
	stated          float64 // the probability of what was said first
}

// captures are the failures to judge: those shipped, or, freshly provoked,
// those in the folder that DIORTHOS_CAPTURED names.
func captures(t *testing.T) fs.FS {
	t.Helper()
	if dir := os.Getenv("DIORTHOS_CAPTURED"); dir != "" {
		return os.DirFS(dir)
	}
	sub, err := fs.Sub(debian.Captured, "captured")
	if err != nil {
		t.Fatal(err)
	}
	return sub
}

// The measure of the whole reader: genuine failures, each with its cause and
// decisive line known.
func TestGenuineFailuresAreJudgedRight(t *testing.T) {
	judgeAll(t, captures(t), nil)
}

// What healthy machines print says nothing: no line by which a genuine failure is known
// may be among it.
func TestNoDecisiveLineIsOneOfHealthyRuns(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for _, all := range []fs.FS{captures(t), fresh(t)} {
		names, err := fs.Glob(all, "*/label.yaml")
		if err != nil || len(names) == 0 {
			t.Fatal(names, err)
		}
		for _, file := range names {
			s := judge(t, k, all, path.Dir(file))
			if first, _, _ := strings.Cut(s.says, "\n"); s.decisive && k.Healthy.Knows(first) {
				t.Errorf("%s: healthy runs print %q too", path.Dir(file), first)
			}
		}
	}
}

// The same failures, each among the rotated and compressed logs of an older
// failure of another kind, and a kernel log full of what healthy machines say.
func TestOlderFailuresAndNoiseDoNotMislead(t *testing.T) {
	all := captures(t)
	older := []reading.Source{{
		Name: "kern.log",
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(kernelNoise())), nil },
	}}
	for name, rotated := range map[string]string{
		"apt/term.log":    "apt/term.log.2.gz",
		"apt/history.log": "apt/history.log.2.gz",
		"dpkg.log":        "dpkg.log.1",
	} {
		raw, err := fs.ReadFile(debian.Captured, "captured/full-boot-volume/"+name)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(rotated, ".gz") {
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			if _, err := z.Write(raw); err != nil {
				t.Fatal(err)
			}
			if err := z.Close(); err != nil {
				t.Fatal(err)
			}
			raw = packed.Bytes()
		}
		older = append(older, reading.Source{
			Name: rotated,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil },
		})
	}
	judgeAll(t, all, older)
}

// kernelNoise is what a healthy machine's kernel says at every start.
func kernelNoise() string {
	var b strings.Builder
	for i := range 400 {
		fmt.Fprintf(&b, "Nov 22 06:%02d:%02d lerrick-kiosk-2 kernel: [%5d.%06d] ", i/60, i%60, i, i)
		b.WriteString([]string{
			"pci 0000:00:1f.0: BAR 13: failed to assign [io size 0x0400]",
			"ACPI BIOS Error (bug): Could not resolve symbol [_SB.PCI0], AE_NOT_FOUND",
			"usb 1-3: new high-speed USB device",
			"i915: Failed to load DMC firmware, disabling runtime power management",
			"systemd[1]: Started Timetable display.",
		}[i%5])
		b.WriteByte('\n')
	}
	return b.String()
}

func judgeAll(t *testing.T, all fs.FS, more []reading.Source) {
	t.Helper()
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	names, err := fs.Glob(all, "*/label.yaml")
	if err != nil || len(names) < 40 {
		t.Fatalf("%d failures: %v", len(names), err)
	}
	causes, lines, brier := 0, 0, 0.0
	for _, name := range names {
		if more != nil && path.Dir(name) == "full-boot-volume" {
			continue // it is the older failure
		}
		s := judge(t, k, all, path.Dir(name), more...)
		mark := map[bool]string{true: "right", false: "WRONG"}
		t.Logf("%-26s %s %-28s %5.1f %%  %s %s", s.name, mark[s.cause], s.got, 100*s.probability, mark[s.decisive], s.line)
		brier += math.Pow(1-s.probability, 2)
		if s.cause {
			causes++
		}
		if s.decisive {
			lines++
		}
	}
	n := float64(len(names))
	if more != nil {
		n--
	}
	t.Logf(
		"%.0f failures: cause first %.1f %%, decisive line exact %.1f %%, Brier score %.4f",
		n, 100*float64(causes)/n, 100*float64(lines)/n, brier/n,
	)
	if float64(causes)/n < 0.95 || float64(lines)/n < 0.95 {
		t.Error("want 95 % of both")
	}
}

func judge(t *testing.T, k *knowledge.Knowledge, all fs.FS, name string, more ...reading.Source) score {
	t.Helper()
	raw, err := fs.ReadFile(all, path.Join(name, "label.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var l label
	if err := yaml.Unmarshal(raw, &l); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	folder, err := fs.Sub(all, name)
	if err != nil {
		t.Fatal(err)
	}
	d, err := docket.Draw(context.Background(), &bag.Facts{}, append(logs(t, folder), more...), k, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := score{name: name, want: l.Cause}
	if len(d.Why) > 0 {
		s.got, s.stated = d.Why[0].Cause, d.Why[0].Probability
	}
	right := strings.Split(l.Cause, "|")
	s.cause = slices.Contains(right, s.got)
	s.kind = len(d.Kinds) > 0 && slices.ContainsFunc(right, func(id string) bool {
		return k.Causes[id] != nil && k.Causes[id].Kind == d.Kinds[0].Kind
	})
	for _, f := range d.Why {
		if slices.Contains(right, f.Cause) {
			s.probability = max(s.probability, f.Probability)
		}
	}
	if d.Failure != nil {
		e := d.Failure.Decisive
		s.says = e.Text
		s.line = fmt.Sprintf("%s:%d %.60q", e.File, e.Line, e.Text)
		want := firstLine(t, folder, e.File, regexp.MustCompile(l.Decisive))
		s.decisive = want > 0 && want >= e.Line && want <= e.Line+strings.Count(e.Text, "\n")
	}
	return s
}

func logs(t *testing.T, folder fs.FS) []reading.Source {
	t.Helper()
	var list []reading.Source
	err := fs.WalkDir(folder, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && path.Base(name) != "label.yaml" {
			list = append(list, reading.Source{Name: name, Open: func() (io.ReadCloser, error) { return folder.Open(name) }})
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// escapes are what colours a line on a terminal.
var escapes = regexp.MustCompile("\x1b\\[[0-9;]*m")

func firstLine(t *testing.T, folder fs.FS, file string, match *regexp.Regexp) int {
	t.Helper()
	raw, err := fs.ReadFile(folder, file)
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(string(raw), "\n") {
		if match.MatchString(escapes.ReplaceAllString(line, "")) {
			return i + 1
		}
	}
	return 0
}
