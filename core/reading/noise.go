package reading

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Templates are lines that runs printed which succeeded, each with the number of those
// runs. What healthy machines print says nothing.
type Templates map[string]int

// ReadTemplates reads lines of a number, a tab and a template; those that begin with #
// are remarks.
func ReadTemplates(r io.Reader) (Templates, error) {
	t := Templates{}
	in := bufio.NewScanner(r)
	for n := 1; in.Scan(); n++ {
		if strings.HasPrefix(in.Text(), "#") {
			continue
		}
		number, text, ok := strings.Cut(in.Text(), "\t")
		runs, err := strconv.Atoi(number)
		if !ok || err != nil || runs < 1 {
			return nil, fmt.Errorf("line %d: want the number of runs, a tab and a template, got %q", n, in.Text())
		}
		t[text] += runs
	}
	return t, in.Err()
}

// Knows reports whether a text is one that healthy machines print.
func (t Templates) Knows(text string) bool { return len(t) > 0 && t[Template(text)] > 0 }

// Template is a line of a log without what differs from one machine to the next: what a
// terminal drew over, and digits.
func Template(text string) string { return strings.TrimSpace(shape(clean([]byte(text)))) }

// learn marks what sounds like a failure and stands in attempts that succeeded
// too: in one that failed it is not what made it fail.
func learn(attempts []*Attempt) (usual int) {
	healthy := map[string]bool{}
	for _, a := range attempts {
		if a.Outcome != Succeeded {
			continue
		}
		for _, p := range a.parts {
			for _, e := range p.events {
				if e.IsError() {
					healthy[shape(e.message())] = true
				}
			}
		}
	}
	if len(healthy) == 0 {
		return 0
	}
	for _, a := range attempts {
		if a.Outcome == Succeeded {
			continue
		}
		for _, p := range a.parts {
			for i := range p.events {
				if e := &p.events[i]; e.IsError() && e.Mark == "" && healthy[shape(e.message())] {
					e.SeenInSuccess = true
					usual++
				}
			}
		}
	}
	return usual
}

// shape is a text without what differs from one run to the next: every run of
// digits counts as the same.
func shape(text string) string {
	var b strings.Builder
	digits := false
	for _, c := range text {
		if c >= '0' && c <= '9' {
			if !digits {
				b.WriteByte('#')
			}
			digits = true
			continue
		}
		digits = false
		b.WriteRune(c)
	}
	return b.String()
}
