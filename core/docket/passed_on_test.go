package docket_test

import (
	"bytes"
	"fmt"
	"html"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf16"

	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
)

// passedOn are ways in which what a screen showed comes to a technician.
var passedOn = map[string]func([]byte) []byte{
	"quoted in a mail": beginning("> "),
	"set in":           beginning("    "),
	"by a journal":     beginning("Nov 17 12:04:05 kestrel-office-3 apt.systemd.daily[1234]: "),
	"with times":       beginning("2026-11-17T12:04:05+0000 "),
	"with clock times": beginning("[12:04:05] "),
	"beside another":   beginning("updater-1  | "),
	"numbered":         numbered("%6d\t%s"),
	"searched":         numbered("/var/log/apt/term.log:%d:%s"),
	"broken at 80":     func(raw []byte) []byte { return broken(raw, 80) },
	"mailed":           mailed,
	"mailed, quoted":   func(raw []byte) []byte { return beginning("> ")(mailed(raw)) },
	"UTF-16":           inUTF16,
	"fenced":           func(raw []byte) []byte { return slices.Concat([]byte("```\n"), raw, []byte("```\n")) },
	"in a letter": func(raw []byte) []byte {
		return slices.Concat(
			[]byte("Hello Ragna,\n\nthis is what it says on the bridge computer since this morning:\n\n"), raw,
			[]byte("\nCan you have a look? We sail at two.\n\nThanks\nEivind\n"),
		)
	},
	"in a reply": func(raw []byte) []byte {
		return slices.Concat(
			[]byte("Hi,\n\nlook at this please. It has been so since the weekend.\n\nOn Tuesday Eivind wrote:\n\n"),
			beginning("> ")(raw),
		)
	},
	"by an image build": counted(func(n int, l string) string { return fmt.Sprintf("#7 %d.%03d %s", n/3, n*37%1000, l) }),
	"by a build runner": counted(func(n int, l string) string {
		return fmt.Sprintf("2026-11-17T12:04:%02d.%07dZ %s", n/20%60, n*12347%10_000_000, l)
	}),
	"by a log of Java": beginning("2026-11-17 12:04:05,123 INFO  [main] ship.Provision - "),
	"by a provisioner": beginning("    default: "),
	"from the far end": beginning("remote: "),
	"as a container's log": counted(func(_ int, l string) string {
		return `{"log":` + strconv.Quote(l+"\n") + `,"stream":"stdout","time":"2026-11-17T12:04:05.123456789Z"}`
	}),
	"in a message": counted(func(_ int, l string) string {
		return `time="2026-11-17T12:04:05Z" level=info msg=` + strconv.Quote(l)
	}),
	"in a page":       func(raw []byte) []byte { return []byte("<pre>\n" + html.EscapeString(string(raw)) + "</pre>\n") },
	"filled to 80":    eachTo(func(l string) string { return fmt.Sprintf("%-80s", l) }),
	"between bars":    eachTo(func(l string) string { return "| " + l + " |" }),
	"as a comparison": beginning("+"),
	"with the level": counted(func(n int, l string) string {
		return []string{"INFO: ", "ERROR: ", "DEBUG: "}[n%3] + l
	}),
	"behind others": func(raw []byte) []byte {
		return slices.Concat([]byte("==> /var/log/boot.log <==\n\n==> /var/log/apt/term.log <==\n"), raw)
	},
	"by a pipeline":    beginning("[build] [stage-2/4] "),
	"after a while":    counted(func(n int, l string) string { return fmt.Sprintf("%9.3fs | %s", float64(n)/7, l) }),
	"by many machines": beginning("kestrel-office-3: "),
	"drawn":            beginning("  ┃ "),
	"by a pod":         beginning("pod/updater-7d9f8b[main] 2026-11-17T12:04:05Z stdout F "),
	"as a table":       eachTo(func(l string) string { return "│ " + fmt.Sprintf("%-90s", l) + " │" }),
	"by a unit": counted(func(n int, l string) string {
		return fmt.Sprintf("2026-11-17 12:04:%02d | WARNING  | updater.run:stream:%d - %s", n/20%60, n%9+80, l)
	}),
	"as a list": beginning("- "),
	"as keys": counted(func(_ int, l string) string {
		return `level=info ts=1795000000.123 output=` + strconv.Quote(l) + ` host=kestrel`
	}),
	"typeset":      typeset,
	"fixed spaces": func(raw []byte) []byte { return bytes.ReplaceAll(raw, []byte("  "), []byte("\u00a0 ")) },
	"spaced":       func(raw []byte) []byte { return bytes.ReplaceAll(raw, []byte("\n"), []byte("\n\n")) },
	"in a report":  reported,
	"its end": func(raw []byte) []byte {
		lines := slices.Collect(bytes.Lines(raw))
		return bytes.Join(lines[max(0, len(lines)-25):], nil)
	},
}

// eachLine gives every line, as the screen showed it in the end, to f.
func eachLine(raw []byte, f func(string) string) []byte {
	var b bytes.Buffer
	for l := range bytes.Lines(raw) {
		text := string(bytes.TrimRight(l, "\r\n"))
		b.WriteString(f(text[strings.LastIndex(text, "\r")+1:]) + "\n")
	}
	return b.Bytes()
}

func eachTo(f func(string) string) func([]byte) []byte {
	return func(raw []byte) []byte { return eachLine(raw, f) }
}

// counted gives each line with its number to f.
func counted(f func(int, string) string) func([]byte) []byte {
	return func(raw []byte) []byte {
		n := 0
		return eachLine(raw, func(l string) string {
			n++
			return f(n, l)
		})
	}
}

func beginning(with string) func([]byte) []byte {
	return func(raw []byte) []byte { return eachLine(raw, func(l string) string { return with + l }) }
}

func numbered(form string) func([]byte) []byte {
	return func(raw []byte) []byte {
		n := 0
		return eachLine(raw, func(l string) string {
			n++
			return fmt.Sprintf(form, n, l)
		})
	}
}

func broken(raw []byte, width int) []byte {
	return eachLine(raw, func(l string) string {
		letters := []rune(l)
		var pieces []string
		for len(letters) > width {
			pieces = append(pieces, string(letters[:width]))
			letters = letters[width:]
		}
		return strings.Join(append(pieces, string(letters)), "\n")
	})
}

// mailed breaks lines at spaces, at most 72 letters wide where there is one.
func mailed(raw []byte) []byte {
	return eachLine(raw, func(l string) string {
		var pieces []string
		for len(l) > 72 {
			i := strings.LastIndex(l[:73], " ")
			if i <= 0 {
				i = strings.Index(l[1:], " ") + 1
			}
			if i <= 0 {
				break
			}
			pieces, l = append(pieces, l[:i]), l[i+1:]
		}
		return strings.Join(append(pieces, l), "\n")
	})
}

func inUTF16(raw []byte) []byte {
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(string(raw))) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

// typeset replaces quotation marks and dots as a program for texts does.
func typeset(raw []byte) []byte {
	s := strings.ReplaceAll(string(raw), "...", "…")
	for _, marks := range [][3]string{{"'", "‘", "’"}, {`"`, "“", "”"}} {
		var b strings.Builder
		for i, part := range strings.Split(s, marks[0]) {
			if i > 0 {
				b.WriteString(marks[2-i%2])
			}
			b.WriteString(part)
		}
		s = b.String()
	}
	return []byte(s)
}

// reported puts it into a string, as a tool that works on many machines reports it.
func reported(raw []byte) []byte {
	said := strconv.Quote(string(eachLine(raw, func(l string) string { return l })))
	return []byte("TASK [update the ticket kiosks] ****\n" +
		"fatal: [kestrel-office-3]: FAILED! => {\"changed\": false, \"rc\": 100, \"out\": " + said +
		", \"took\": \"0:00:04\"}\n\n" +
		"PLAY RECAP\nkestrel-office-3 : ok=3 changed=0 failed=1\n")
}

// TestAScreenIsUnderstoodHoweverItIsPassedOn holds the cause that is told from the text of a screen against what is
// told from it in every way in which it can come.
func TestAScreenIsUnderstoodHoweverItIsPassedOn(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	var screens [][]byte
	var names []string
	for _, all := range []fs.FS{captures(t), fresh(t)} {
		list, err := fs.Glob(all, "*/console.txt")
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range list {
			raw, err := fs.ReadFile(all, name)
			if err != nil {
				t.Fatal(err)
			}
			screens, names = append(screens, raw), append(names, path.Dir(name))
		}
	}
	if len(screens) < 300 {
		t.Fatalf("%d screens", len(screens))
	}
	if os.Getenv("DIORTHOS_CAPTURED") == "" { // a slice: make prove-reading takes all
		r := rand.New(rand.NewPCG(23, 5))
		r.Shuffle(len(screens), func(i, k int) {
			screens[i], screens[k], names[i], names[k] = screens[k], screens[i], names[k], names[i]
		})
		screens = screens[:60]
	}
	for _, way := range slices.Sorted(maps.Keys(passedOn)) {
		var c tally
		for i, screen := range screens {
			want, _ := first(t, k, map[string][]byte{"screen.txt": screen})
			c.all++
			switch got, p := first(t, k, map[string][]byte{"screen.txt": passedOn[way](screen)}); {
			case got == want:
				c.same++
			case got == "" || got == "none-known" || p < 0.5:
				c.open++
			default:
				c.other++
				t.Logf("%s, %s: %s (%.0f %%), want %s", names[i], way, got, 100*p, want)
			}
		}
		t.Logf("%-18s %4d: the same cause %d, cannot be told %d, another %d", way, c.all, c.same, c.open, c.other)
		if c.same*100 < c.all*93 || c.other*100 > c.all*4 {
			t.Errorf("%s: the same cause in %d of %d, another in %d", way, c.same, c.all, c.other)
		}
	}
}
