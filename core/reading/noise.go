package reading

import "strings"

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
