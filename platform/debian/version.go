package debian

import "strings"

// CompareVersions orders two package versions as Debian Policy 5.6.12 says:
// negative when a is earlier than b, 0 when they are the same to dpkg.
func CompareVersions(a, b string) int {
	epochA, upstreamA, revisionA := splitVersion(a)
	epochB, upstreamB, revisionB := splitVersion(b)
	for _, pair := range [][2]string{{epochA, epochB}, {upstreamA, upstreamB}, {revisionA, revisionB}} {
		if c := comparePart(pair[0], pair[1]); c != 0 {
			return c
		}
	}
	return 0
}

func splitVersion(v string) (epoch, upstream, revision string) {
	if before, after, ok := strings.Cut(v, ":"); ok {
		epoch, v = before, after
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		v, revision = v[:i], v[i+1:]
	}
	return epoch, v, revision
}

// comparePart compares runs of non-digits and of digits in turn.
func comparePart(a, b string) int {
	for a != "" || b != "" {
		var wordA, wordB string
		wordA, a = cutRun(a, false)
		wordB, b = cutRun(b, false)
		if c := compareWords(wordA, wordB); c != 0 {
			return c
		}
		wordA, a = cutRun(a, true)
		wordB, b = cutRun(b, true)
		if c := compareNumbers(wordA, wordB); c != 0 {
			return c
		}
	}
	return 0
}

func cutRun(s string, digits bool) (run, rest string) {
	i := 0
	for i < len(s) && isDigit(s[i]) == digits {
		i++
	}
	return s[:i], s[i:]
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

// compareWords sorts a tilde before the end, the end before letters, letters
// before all else.
func compareWords(a, b string) int {
	for i := 0; i < len(a) || i < len(b); i++ {
		if c := weight(a, i) - weight(b, i); c != 0 {
			return c
		}
	}
	return 0
}

func weight(s string, i int) int {
	switch {
	case i >= len(s):
		return 0
	case s[i] == '~':
		return -1
	case s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z':
		return int(s[i])
	}
	return int(s[i]) + 256
}

// compareNumbers compares digits of any length.
func compareNumbers(a, b string) int {
	a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(a, b)
}
