package reading

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// A margin is what may stand before each line. The group "time", if there is one, says when the line was written.
type margin struct {
	*regexp.Regexp
	layout  string
	always  bool // it says nothing by itself: where all lines have it, it goes
	learned bool // it goes only where more is known without it
	dated   bool // it was learned, and has words behind a time
}

// margins are those that are known, those that take the most away first.
var margins = func() (list []margin) {
	const who = ` [\w.-]+ (?P<who>[\w./@-]+)(?:\[\d+\])?: ?`
	for _, t := range times {
		list = append(list,
			margin{Regexp: regexp.MustCompile(`^(?P<time>` + t.pattern + `)` + who), layout: t.layout},
			margin{Regexp: regexp.MustCompile(`^[\[(<]?(?P<time>` + t.pattern + `)[\])>]?:?(?:[ \t]|$)`), layout: t.layout},
		)
	}
	for _, pattern := range []string{
		`^[\[(]?\d\d:\d\d:\d\d(?:[.,]\d+)?[\])]?:?(?:[ \t]|$)`,
		`^ *\d+(?:[:\t]|  )`, // numbers of lines
		`^[\w.-]+ +\| ?`,     // one of several that run side by side
		`^[\w./-]+\.(?:log|txt)(?:\.\d+)?[:-](?:\d+[:-])?`, // found by a search
	} {
		list = append(list, margin{Regexp: regexp.MustCompile(pattern)})
	}
	for _, pattern := range []string{`^>+(?: |$)`, `^\t`, `^ {8}`, `^ {4}`, `^ {2}`, `^ `} {
		list = append(list, margin{Regexp: regexp.MustCompile(pattern), always: true})
	}
	return list
}()

func (m *margin) strip(line string) string { return line[len(m.FindString(line)):] }

func (m *margin) take(line string, known, anchor time.Time) (string, time.Time) {
	found := m.FindStringSubmatchIndex(line)
	if found == nil {
		return line, known
	}
	if i := m.SubexpIndex("time"); i > 0 && known.IsZero() {
		known = inYear(TimeForm{Layout: m.layout}.parse(line[found[2*i]:found[2*i+1]]), anchor)
	}
	return line[found[1]:], known
}

const (
	widestMargin = 120 // bytes that are looked through for the start of a line
	mostLearned  = 12  // margins that are learned from a text
	mostTried    = 40  // shapes that are held against it
)

// learned are margins that nobody has described: what stands before lines that begin, further on, as a known tool
// begins its own, or what all lines have in common. Numbers differ from line to line, and so do levels; all else is the
// same.
func (r *Reader) learned(lines []string) (list []margin) {
	filled := slices.DeleteFunc(slices.Clone(lines), isBlank)
	var shapes []string
	try := func(before string) {
		shape := shapeOf(before)
		if before == "" || len(list) == mostLearned || slices.Contains(shapes, shape) {
			return
		}
		shapes = append(shapes, shape)
		m := margin{learned: true, dated: datedWords.MatchString(before)}
		var err error
		if m.Regexp, err = regexp.Compile(shape); err != nil {
			return // it is no text
		}
		if countOf(filled, m.MatchString)*10 >= len(filled)*9 {
			list = append(list, m)
		}
	}
	for _, l := range filled {
		if before := r.beforeTool(l); len(shapes) < mostTried {
			try(before)
		}
	}
	if len(filled) > 1 {
		line := slices.MaxFunc(filled, func(a, b string) int { return cmp.Compare(len(a), len(b)) })
		for k := min(len(line)-1, widestMargin) - 1; k >= 0; k-- {
			if strings.IndexByte(" \t:|>+-\"", line[k]) >= 0 && line[k+1] != ' ' {
				try(line[:k+1])
			}
		}
	}
	return list
}

// datedWords is a time with other words behind it than a level.
var datedWords = regexp.MustCompile(`^[\[(<]?\d+[-:/.]\d+[-:/.]\d+\S* .*[a-z]{3}`)

// beforeTool is what stands before the first place in a line at which a known tool's line begins.
func (r *Reader) beforeTool(line string) string {
	for k := 1; k < min(len(line), widestMargin); k++ {
		if c := line[k-1]; c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '/' || c == '.' {
			continue
		}
		for _, d := range r.dialects {
			if d.tool(line[k:]) != "" {
				return line[:k]
			}
		}
	}
	return ""
}

// shapeOf is the expression for what stands before lines as it stands before one. The spaces at its end can be missing
// where nothing follows.
func shapeOf(before string) string {
	var b strings.Builder
	b.WriteByte('^')
	words := strings.TrimRight(before, " \t")
	for rest := words; rest != ""; {
		level := levelAt(rest)
		first, _ := utf8.DecodeRuneInString(rest)
		switch {
		case level > 0:
			b.WriteString(`(?:[A-Z]{3,9}|[a-z]{4,9}) *`)
			rest = strings.TrimLeft(rest[level:], " ")
		case unicode.IsDigit(first):
			b.WriteString(`\d+`)
			rest = strings.TrimLeftFunc(rest, unicode.IsDigit)
		case unicode.IsLetter(first): // whole words, so that a level is seen where one begins
			after := strings.TrimLeftFunc(rest, unicode.IsLetter)
			b.WriteString(regexp.QuoteMeta(rest[:len(rest)-len(after)]))
			rest = after
		default:
			after := strings.TrimLeftFunc(rest, func(r rune) bool { return !unicode.IsDigit(r) && !unicode.IsLetter(r) })
			b.WriteString(regexp.QuoteMeta(rest[:len(rest)-len(after)]))
			rest = after
		}
	}
	if spaces := before[len(words):]; spaces != "" {
		b.WriteString(`(?:` + regexp.QuoteMeta(spaces) + `|[ \t]*$)`)
	}
	return b.String()
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// levels are the words by which programs say how much a line matters.
var levels = []string{
	"emergency", "critical", "warning", "notice", "verbose", "fatal", "error", "trace",
	"debug", "alert", "warn", "info", "crit",
}

// levelAt is the length of a level at the start of a text, 0 for none.
func levelAt(text string) int {
	for _, l := range levels {
		if len(text) >= len(l) && (text[:len(l)] == l || text[:len(l)] == strings.ToUpper(l)) &&
			(len(text) == len(l) || !isLetter(text[len(l)])) {
			return len(l)
		}
	}
	return 0
}

// endingMarks are those with which what stands behind each line begins.
const endingMarks = "|│┃\""

// endingOf is what stands behind all lines but a few; empty for nothing. Only where something stands before them can
// something stand behind, and a quotation ends only where one began.
func endingOf(lines []string, before []margin) string {
	opened := func(m margin) bool { return strings.Contains(m.String(), `"`) }
	count := map[string]int{}
	filled := 0
	for _, l := range lines {
		if isBlank(l) {
			continue
		}
		filled++
		text := strings.TrimRight(l, " \r")
		if at := strings.LastIndexAny(text, endingMarks); at >= 0 {
			count[text[at:]]++
		}
	}
	for ending, with := range count {
		often := with >= 4 && with*20 >= filled*19 || with == filled
		if often && len(before) > 0 && (ending[0] != '"' || slices.ContainsFunc(before, opened)) {
			return ending
		}
	}
	return ""
}

// withoutEnding takes off what stands behind a line.
func withoutEnding(line, ending string) string {
	if ending == "" {
		return line
	}
	text, ok := strings.CutSuffix(strings.TrimRight(line, " \r"), ending)
	switch {
	case !ok:
		return line
	case ending[0] == '"':
		return escapes.Replace(text)
	}
	return strings.TrimRight(text, " ")
}
