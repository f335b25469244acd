package messages

import "strings"

// distance is how many letters have to be put in, left out, changed or swapped with
// their neighbour to make one word of another; most+1 when more than most.
func distance(a, b string, most int) int {
	if len(a) < len(b) {
		a, b = b, a
	}
	if len(a)-len(b) > most {
		return most + 1
	}
	var rows [3][64]int
	if len(b) >= len(rows[0]) {
		return most + 1
	}
	before, last, now := &rows[0], &rows[1], &rows[2]
	for k := range len(b) + 1 {
		last[k] = k
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		least := i
		for k := 1; k <= len(b); k++ {
			cost := 1
			if a[i-1] == b[k-1] {
				cost = 0
			}
			d := min(last[k]+1, now[k-1]+1, last[k-1]+cost)
			if i > 1 && k > 1 && a[i-1] == b[k-2] && a[i-2] == b[k-1] {
				d = min(d, before[k-2]+1)
			}
			now[k] = d
			least = min(least, d)
		}
		if least > most {
			return most + 1
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}

// sounds are spellings that are heard alike, the longer ones first.
var sounds = strings.NewReplacer(
	"colonel", "kernel", "tion", "xn", "sion", "xn", "ough", "o", "igh", "y", "ph", "f", "gh", "g", "ck", "k", "qu", "kw",
	"wh", "w", "wr", "r", "kn", "n", "mb", "m", "sch", "sk", "ch", "x", "sh", "x", "ce", "se", "ci", "si", "cy", "sy",
	"c", "k", "x", "ks", "z", "s", "v", "f", "d", "t", "b", "p", "q", "k",
)

// soundOf is what is left of a word when what is heard alike is written alike: its
// consonants, and whether it begins with a vowel.
func soundOf(w string) string {
	s := sounds.Replace(w)
	out := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == 'a' || c == 'e' || c == 'i' || c == 'o' || c == 'u' || c == 'y' || c == 'h' || c == 'w':
			if i == 0 {
				out = append(out, 'a')
			}
		case len(out) > 0 && out[len(out)-1] == c:
		default:
			out = append(out, c)
		}
	}
	return string(out)
}
