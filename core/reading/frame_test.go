package reading_test

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/core/reading"
)

const screen = `Preparing to unpack .../skerrow-tide_2.0_all.deb ...
Unpacking skerrow-tide (2.0) over (1.9) ...
dpkg: error processing archive /var/cache/apt/archives/skerrow-tide_2.0_all.deb (--unpack):
 cannot copy extracted data for './usr/share/tide/harbours.dat' to '/usr/share/tide/harbours.dat.dpkg-new': failed to write (No space left on device)
dpkg-deb: error: paste subprocess was killed by signal (Broken pipe)
E: Sub-process /usr/bin/dpkg returned an error code (1)
`

// What somebody quoted, broke at a width and sent on is read as it stood on the screen; each event says the line and
// the bytes at which it stands in what was sent, over all lines that it takes there.
func TestPlacesAreThoseInWhatWasPassedOn(t *testing.T) {
	const before = "Hi Ragna,\n\nit happened again on the kiosk:\n\n"
	brokenAt := func(width int, with string) string {
		var b strings.Builder
		for l := range strings.Lines(screen) {
			l = strings.TrimSuffix(l, "\n")
			for ; len(l) > width; l = l[width:] {
				b.WriteString(with + l[:width] + "\n")
			}
			b.WriteString(with + l + "\n")
		}
		return b.String()
	}
	for _, c := range []struct {
		name, body string
		line, over int // where the decisive event begins, and over how many lines it goes
		time       string
	}{
		{name: "as it was", body: screen, line: 3, over: 2},
		{name: "quoted", body: before + brokenAt(1000, "> "), line: 7, over: 2},
		{name: "broken", body: brokenAt(80, ""), line: 3, over: 4},
		{name: "broken, then quoted", body: before + brokenAt(80, "> "), line: 7, over: 4},
		{
			name: "with times", body: brokenAt(1000, "2026-11-17T12:04:05+0100 "), line: 3, over: 2,
			time: "2026-11-17T11:04:05Z",
		},
		{
			name: "by a journal", body: brokenAt(1000, "Nov 17 12:04:05 tern-kiosk-2 updater[77]: "), line: 3, over: 2,
			time: "2026-11-17T12:04:05Z",
		},
		{
			name: "in a report", line: 1, over: 1,
			body: "fatal: [tern-kiosk-2]: FAILED! => {\"rc\": 100, \"out\": " + fmt.Sprintf("%q", screen) + "}\n",
		},
	} {
		for _, size := range []int64{int64(len(c.body)), -1} { // a file, and what can be read only once
			once := strings.NewReader(c.body)
			src := reading.Source{Name: "from-eivind.txt", Size: size, Open: func() (io.ReadCloser, error) {
				if size < 0 {
					return io.NopCloser(once), nil
				}
				return io.NopCloser(strings.NewReader(c.body)), nil
			}}
			tl, err := load(t).Reader.Read(t.Context(), []reading.Source{src}, reading.Anchor{Now: anchor}, nil)
			if err != nil {
				t.Fatal(err)
			}
			if len(tl.Attempts) != 1 || tl.Attempts[0].Decisive == nil {
				t.Errorf("%s: %d attempts", c.name, len(tl.Attempts))
				continue
			}
			e := *tl.Attempts[0].Decisive
			at := c.body[e.Offset:][:e.Length]
			if e.Line != c.line || strings.Count(at, "\n") != c.over-1 ||
				!strings.Contains(at, "dpkg: error processing archive") {
				t.Errorf("%s: line %d, %q, want line %d and %d more", c.name, e.Line, at, c.line, c.over-1)
			}
			if got := e.Time; c.time != "" && got.Format(time.RFC3339) != c.time || c.time == "" && !got.IsZero() {
				t.Errorf("%s: at %s, want %q", c.name, got, c.time)
			}
			if !slices.Contains(
				strings.Split(e.Text, "\n"),
				"dpkg: error processing archive /var/cache/apt/archives/skerrow-tide_2.0_all.deb (--unpack):",
			) {
				t.Errorf("%s: %q", c.name, e.Text)
			}
			if f := tl.Files[0]; f.Size != int64(len(c.body)) || f.Lines != strings.Count(c.body, "\n") {
				t.Errorf(
					"%s: %d bytes in %d lines, want %d in %d",
					c.name,
					f.Size,
					f.Lines,
					len(c.body),
					strings.Count(c.body, "\n"),
				)
			}
		}
	}
}

// Logs that have a form of their own, and screens on which lines are short or long by chance, have nothing taken off.
func TestNothingIsTakenOffThatBelongsToTheText(t *testing.T) {
	for _, dir := range []string{"full-boot-volume", "unmet-dependency", "volume-full-de", "name-not-resolved-fr"} {
		for _, src := range folder(t, captured+"/"+dir) {
			whole, err := reading.Window(t.Context(), src, 1, 1<<20)
			if err != nil {
				t.Fatal(err)
			}
			tl, err := load(t).Reader.Read(t.Context(), []reading.Source{src}, reading.Anchor{Now: anchor}, nil)
			if err != nil {
				t.Fatal(err)
			}
			for _, a := range tl.Attempts {
				for _, e := range a.Events() {
					first, _, _ := strings.Cut(e.Text, "\n")
					if line := strings.TrimRight(whole[e.Line-1].Text, " \t"); line != first {
						t.Errorf("%s line %d: %q, want %q", src.Name, e.Line, first, line)
					}
				}
			}
		}
	}
}
