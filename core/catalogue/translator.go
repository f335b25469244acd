package catalogue

import (
	"regexp"
	"sort"
	"strings"
	"sync"
)

// A Translator brings lines of one language back to their originals. It is
// safe for concurrent use.
type Translator struct {
	Language string
	entries  []*entry
	anchors  []string // a piece of fixed text of each entry, in lower case
}

// An entry is one line of a message: what it looks like translated, and what
// it was.
type entry struct {
	pattern  string
	original []piece
	fixed    int // bytes of fixed text in the translation
	compile  func() *regexp.Regexp
}

// A piece of an original is fixed text, or the number of a placeholder, from 1.
type piece struct {
	text   string
	number int
}

// Bounds of what is worth translating, in bytes.
const (
	minFixed    = 6    // of fixed text, so that it cannot be met by chance
	telling     = 14   // of fixed text, by which a language is recognised
	anchorBytes = 12   // of fixed text, by which an entry is found
	maxMessage  = 1500 // beyond it a message is a page of help
)

// NewTranslator makes one of the messages of any number of catalogues. Of a
// message of several lines each is an entry, if both sides have as many.
func NewTranslator(language string, catalogues ...[]Message) *Translator {
	t := &Translator{Language: language}
	seen := map[string]bool{}
	for _, list := range catalogues {
		for _, m := range list {
			from, to := strings.Split(m.Translation, "\n"), strings.Split(m.Original, "\n")
			if m.Translation == m.Original || len(from) != len(to) || len(m.Original) > maxMessage ||
				strings.HasPrefix(m.Original, "Usage:") {
				continue
			}
			for i := range from {
				if e := newEntry(from[i], to[i]); e != nil && from[i] != to[i] && !seen[e.pattern] {
					seen[e.pattern] = true
					t.entries = append(t.entries, e)
				}
			}
		}
	}
	sort.SliceStable(t.entries, func(i, k int) bool { return t.entries[i].fixed > t.entries[k].fixed })
	for _, e := range t.entries {
		t.anchors = append(t.anchors, e.anchor())
	}
	return t
}

// Anchors are pieces of fixed text, of which every line that can be brought
// back holds at least one.
func (t *Translator) Anchors() []string { return t.anchors }

// placeholder is a conversion of printf(3), or of apt's %1$s kind.
var placeholder = regexp.MustCompile(
	`%(?:(\d+)\$)?[-+ #0']*(?:\d+|\*)?(?:\.(?:\d+|\*))?(?:hh|h|ll|l|j|z|t|L|q)?[diouxXeEfgGcsm]|%%`,
)

func placeholders(s string) [][]int { return placeholder.FindAllStringSubmatchIndex(s, -1) }

// newEntry returns nil when a line has too little fixed text.
func newEntry(translated, original string) *entry {
	translated, original = strings.TrimSpace(translated), strings.TrimSpace(original)
	e := &entry{}
	var pattern strings.Builder
	last, count := 0, 0
	groups := map[int]int{} // number of a placeholder → group of the pattern
	for _, m := range placeholders(translated) {
		e.fixed += len(strings.TrimSpace(translated[last:m[0]]))
		pattern.WriteString(regexp.QuoteMeta(translated[last:m[0]]))
		last = m[1]
		if translated[m[0]:m[1]] == "%%" {
			pattern.WriteString("%")
			continue
		}
		count++
		number := count
		if m[2] >= 0 {
			number = int(translated[m[2]] - '0')
		}
		groups[number] = count
		if m[1] == len(translated) {
			pattern.WriteString("(.*)")
		} else {
			pattern.WriteString("(.*?)")
		}
	}
	e.fixed += len(strings.TrimSpace(translated[last:]))
	pattern.WriteString(regexp.QuoteMeta(translated[last:]))
	if e.fixed < minFixed || original == "" {
		return nil
	}
	e.pattern = pattern.String()
	if !e.takeOriginal(original, groups) {
		return nil
	}
	e.compile = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(e.pattern) })
	return e
}

// takeOriginal cuts the original at its placeholders. It reports whether each
// has its like in the translation.
func (e *entry) takeOriginal(original string, groups map[int]int) bool {
	last, count := 0, 0
	for _, m := range placeholders(original) {
		e.original = append(e.original, piece{text: original[last:m[0]]})
		last = m[1]
		if original[m[0]:m[1]] == "%%" {
			e.original = append(e.original, piece{text: "%"})
			continue
		}
		count++
		number := count
		if m[2] >= 0 {
			number = int(original[m[2]] - '0')
		}
		group, ok := groups[number]
		if !ok {
			return false
		}
		e.original = append(e.original, piece{number: group})
	}
	e.original = append(e.original, piece{text: original[last:]})
	return true
}

// anchor is the start of the longest run of fixed text.
func (e *entry) anchor() string {
	best := ""
	for _, run := range strings.FieldsFunc(
		strings.NewReplacer("(.*?)", "\x00", "(.*)", "\x00").Replace(e.pattern), func(r rune) bool { return r == 0 },
	) {
		run = strings.TrimSpace(unquote(run))
		if len(run) > len(best) {
			best = run
		}
	}
	if len(best) > anchorBytes {
		end := anchorBytes
		for best[end]&0xc0 == 0x80 { // not in the middle of a letter
			end++
			if end == len(best) {
				break
			}
		}
		best = best[:end]
	}
	return best
}

func unquote(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// maxPasses bounds how many messages are looked for in one line: one can stand
// inside another.
const maxPasses = 6

// Original brings a line back. candidates are the entries whose anchors stand
// in it, by their number; nil tries all. It reports whether anything was
// brought back.
func (t *Translator) Original(line string, candidates []int) (string, bool) {
	done := false
	pass := 0
	try := func(e *entry) bool {
		m := e.compile().FindStringSubmatchIndex(line)
		if m == nil || !wholeWords(line, m[0], m[1]) {
			return false
		}
		line = line[:m[0]] + e.write(line, m) + line[m[1]:]
		done = true
		pass++
		return pass < maxPasses
	}
	if candidates == nil {
		for _, e := range t.entries {
			try(e)
		}
		return line, done
	}
	for _, i := range candidates {
		if pass < maxPasses {
			try(t.entries[i])
		}
	}
	return line, done
}

// Tells reports whether a line is surely of this language.
func (t *Translator) Tells(line string, candidates []int) bool {
	for _, i := range candidates {
		e := t.entries[i]
		if e.fixed < telling {
			break // sorted by it
		}
		if m := e.compile().FindStringIndex(line); m != nil && wholeWords(line, m[0], m[1]) {
			return true
		}
	}
	return false
}

func (e *entry) write(line string, m []int) string {
	var b strings.Builder
	for _, p := range e.original {
		if p.number > 0 {
			b.WriteString(line[m[2*p.number]:m[2*p.number+1]])
		} else {
			b.WriteString(p.text)
		}
	}
	return b.String()
}

// wholeWords keeps a short message from being found inside a longer word.
func wholeWords(line string, from, to int) bool {
	letter := func(b byte) bool { return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80 }
	if from > 0 && from < len(line) && letter(line[from-1]) && letter(line[from]) {
		return false
	}
	return to == 0 || to >= len(line) || !letter(line[to-1]) || !letter(line[to])
}
