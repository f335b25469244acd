package reading

import (
	"bytes"
	"html"
	"io"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"
)

// A frame is what passing a text on has put around it: marks of a quotation, an indentation, a time before each
// line, lines that were broken at a width. It is taken off before the text is read; places are those in the file.
type frame struct {
	escaped  bool   // it stands in strings of another language: \\n for the end of a line
	pairs    string // of pairs, the key under which each line holds it
	margins  []margin
	ending   string   // what stands behind each line
	page     bool     // signs are written as in the source of a page
	spaced   bool     // every line is followed by an empty one
	width    int      // at which longer lines were broken, in letters; 0 for none
	atSpaces bool     // they were broken at a space, which went
	straight bool     // quotation marks and dots were replaced by a typesetter's
	fixed    bool     // spaces were made such as keep a line together
	newer    *Wording // that of newer releases, in which it is; nil for the one that is known
	begins   func(line string) bool
}

const (
	maxMargins = 3 // one around the other
	// Widths of what people copy from and write with, in letters.
	leastWidth, mostWidth = 60, 140
	mailWidth             = 100
)

// terminalWidths are usual ones: a single line that is just as long was probably broken.
var terminalWidths = []int{80, 100, 120, 132}

// frameOf tells the frame of a text by its first lines; nil for none. A margin is one if more lines are those of
// a known dialect without it.
func (r *Reader) frameOf(name string, head []string) *frame {
	f := &frame{}
	lines := head
	named := r.namedDialect(name)
	if named != nil && named.Whole {
		named = nil
	}
	if open := unescaped(lines); r.familiar(named, open) > r.familiar(named, lines) {
		f.escaped, lines = true, open
	}
	if f.spaced = isSpaced(lines); f.spaced {
		lines = slices.DeleteFunc(slices.Clone(lines), isBlank)
	}
	if key := saidIn(lines); key != "" && r.familiar(named, lines) == 0 {
		f.pairs = key
		lines = mapped(lines, func(l string) string {
			value, _ := valueOf(l, key)
			return value
		})
	}
	f.straight = isTypeset(lines)
	f.fixed = slices.ContainsFunc(lines, copiedSpaces.MatchString)
	f.page = slices.ContainsFunc(lines, pageSigns.MatchString)
	lines = mapped(lines, f.asTyped)
	score := r.familiar(named, lines)
	for range maxMargins {
		m, inner, best := r.bestMargin(named, lines, score)
		if m == nil {
			break
		}
		f.margins, lines, score = append(f.margins, *m), inner, best
	}
	if f.ending = endingOf(lines, f.margins); f.ending != "" {
		lines = mapped(lines, func(l string) string { return withoutEnding(l, f.ending) })
	}
	f.begins = func(line string) bool { return r.familiar(named, []string{line}) > 0 }
	f.width, f.atSpaces = r.brokenAt(named, lines, f)
	if named == nil {
		f.newer = r.saysNewly(lines)
	}
	if f.newer == nil && len(f.margins) == 0 && f.ending == "" && !f.escaped && f.pairs == "" && !f.spaced &&
		f.width == 0 && !f.straight && !f.fixed && !f.page {
		return nil
	}
	return f
}

// bestMargin is the margin without which most lines are known; nil where none helps.
func (r *Reader) bestMargin(named *Dialect, lines []string, score int) (best *margin, inner []string, most int) {
	filled := len(lines) - countOf(lines, isBlank)
	most = score
	candidates := margins
	told := r.understood(lines)
	if score*3 < filled || named == nil && told*3 < filled {
		candidates = slices.Concat(margins, r.learned(lines))
	}
	for i := range candidates {
		m := &candidates[i]
		with := countOf(lines, func(l string) bool { return !isBlank(l) && m.MatchString(l) })
		if with == 0 || with*5 < filled*2 || !m.always && with*10 < filled*9 {
			continue
		}
		without := mapped(lines, m.strip)
		got := r.familiar(named, without)
		if named == nil && told == 0 && m.dated && with == filled && filled > 3 {
			got = score + 1 // the same words behind the time of each line: who passed it on
		}
		if known := r.understood(without); named == nil && m.learned && known > 0 && known >= told && known*3 >= filled {
			got = score + known // as much as many programs write before a line, and one that is known behind it
		}
		if named == nil && r.oneSpeaks(m, lines) {
			for _, d := range r.dialects {
				if known := d.familiar(without); d.Whole && known*5 >= filled {
					got = most + known // what its screen showed tells more than that it was passed on
				}
			}
		}
		all := with == filled && !m.learned &&
			(m.always || score == 0 && filled > 3) // a text that nobody knows, such as one in another language
		if got > most || all && best == nil && got == most {
			best, inner, most = m, without, got
		}
	}
	return best, inner, most
}

// oneSpeaks reports whether the margin names who wrote a line, and it is the same for nearly all.
func (r *Reader) oneSpeaks(m *margin, lines []string) bool {
	group := m.SubexpIndex("who")
	if group < 0 {
		return false
	}
	count := map[string]int{}
	all, most := 0, 0
	for _, l := range lines {
		if found := m.FindStringSubmatch(l); found != nil {
			count[found[group]]++
			all, most = all+1, max(most, count[found[group]])
		}
	}
	return most*20 >= all*19
}

// familiar counts the lines that a dialect knows, the one that the file's name tells or else the one that knows most.
func (r *Reader) familiar(named *Dialect, lines []string) (most int) {
	if named != nil {
		return named.familiar(lines)
	}
	for _, d := range r.dialects {
		most = max(most, d.familiar(lines))
	}
	return most
}

// understood counts the lines of which a dialect knows more than how its records are written.
func (r *Reader) understood(lines []string) (most int) {
	for _, d := range r.dialects {
		most = max(most, countOf(lines, func(l string) bool { return d.State == nil && d.speaks(shown(l)) }))
	}
	return most
}

func (d *Dialect) speaks(line string) bool { return d.tool(line) != "" || d.means(line) }

func (d *Dialect) familiar(lines []string) (n int) {
	for _, l := range lines {
		l = shown(l)
		switch e := (Event{Text: l}); {
		case d.State != nil:
			if d.State.head.MatchString(l) || d.State.record.MatchString(l) {
				n++
			}
		case d.split(&e), d.tool(l) != "", d.apply(&e, d.prefilter.matching(e.message())) != nil:
			n++
		}
	}
	return n
}

// brokenAt tells the width at which longer lines were broken, 0 for none. A line that is broken goes on in one that is
// not set in, and that no tool of a known dialect begins. That lines were broken is seen by how many are just so
// long, or by what is known only once two lines are one.
func (r *Reader) brokenAt(named *Dialect, lines []string, f *frame) (width int, atSpaces bool) {
	lines = mapped(lines, shown)
	widest, widestSpaced := 0, 0
	for _, l := range lines {
		n := utf8.RuneCountInString(l)
		widest = max(widest, n)
		if strings.Contains(strings.TrimSpace(l), " ") {
			widestSpaced = max(widestSpaced, n)
		}
	}
	hard, hardGains, soft, softGains := 0, 0, 0, 0
	for i := range len(lines) - 1 {
		l, next := lines[i], lines[i+1]
		if isBlank(l) || !f.mayGoOn(next) || bothNamed(l, next) {
			continue
		}
		if utf8.RuneCountInString(l) == widest {
			hard++
			hardGains += r.gain(named, l, next, "")
		}
		if wouldNotFit(l, next, widestSpaced) {
			soft++
			softGains += r.gain(named, l, next, " ")
		}
	}
	usual := slices.Contains(terminalWidths, widest)
	switch {
	case widest < leastWidth || widest > mostWidth:
	case hardGains > 0 && hardGains >= softGains, hard >= 3 && softGains == 0, hard > 0 && usual && softGains == 0:
		return widest, false
	}
	if softGains > 0 && widestSpaced >= leastWidth && widestSpaced <= mailWidth {
		return widestSpaced, true
	}
	return 0, false
}

// gain is 1 if two lines tell something together that neither tells alone.
func (r *Reader) gain(named *Dialect, line, next, between string) int {
	joined := line + between + next
	apart := append(r.Hits(line), r.Hits(next)...)
	for _, id := range r.Hits(joined) {
		if !slices.Contains(apart, id) {
			return 1
		}
	}
	for _, d := range r.dialects {
		if d.State == nil && (named == nil || d == named) && d.means(joined) && !d.means(line) && !d.means(next) {
			return 1
		}
	}
	return 0
}

// means reports whether a rule of the dialect matches.
func (d *Dialect) means(line string) bool {
	e := Event{Text: line}
	d.split(&e)
	return d.apply(&e, d.prefilter.matching(e.message())) != nil
}

func (f *frame) mayGoOn(next string) bool {
	return next != "" && next[0] != ' ' && next[0] != '\t' && !f.begins(next)
}

// bothNamed reports whether two lines begin with the name of the same program: the second is a message of its own.
func bothNamed(line, next string) bool {
	name := programName(Event{Text: next})
	return name != "" && programName(Event{Text: line}) == name
}

// wouldNotFit reports whether the first word of the next line had no room in this one.
func wouldNotFit(line, next string, width int) bool {
	word, _, _ := strings.Cut(next, " ")
	return line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > width
}

// wentOn reports whether a line was broken and goes on in the next. One that fills the width to the last letter goes on
// whatever follows; the break can stand before a space.
func (f *frame) wentOn(line, next string) bool {
	switch {
	case f.width == 0 || isBlank(next) || f.begins(next) || bothNamed(line, next):
		return false
	case f.atSpaces:
		return f.mayGoOn(next) && wouldNotFit(line, next, f.width)
	}
	return utf8.RuneCountInString(line) == f.width
}

// writtenLines is a string of a program, such as in a report of JSON, that holds ends of lines.
var writtenLines = regexp.MustCompile(`"(?:[^"\\]|\\.)*?\\n(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*?\\n(?:[^'\\]|\\.)*'`)

var escapes = strings.NewReplacer(
	`\r\n`, "\n", `\n`, "\n", `\"`, `"`, `\'`, "'", `\t`, "\t", `\\`, `\`, `\u001b`, "\x1b", `\x1b`, "\x1b",
	`\033`, "\x1b", `\/`, "/",
)

// unescape gives the lines that are written in the strings of a line; those around the strings say nothing.
func unescape(line string) (list []string) {
	if !strings.Contains(line, `\n`) {
		return []string{line}
	}
	for _, text := range writtenLines.FindAllString(line, -1) {
		list = append(list, strings.Split(strings.TrimSuffix(escapes.Replace(text[1:len(text)-1]), "\n"), "\n")...)
	}
	if list == nil {
		return strings.Split(escapes.Replace(line), "\n")
	}
	return list
}

func unescaped(lines []string) (list []string) {
	for _, l := range lines {
		list = append(list, unescape(l)...)
	}
	return list
}

// isSpaced reports whether every line is followed by an empty one.
func isSpaced(lines []string) bool {
	filled, blank := 0, 0 // of the first, the third … and of the second, the fourth …
	for i, l := range lines {
		switch {
		case i%2 == 0 && !isBlank(l):
			filled++
		case i%2 == 1 && isBlank(l):
			blank++
		}
	}
	return filled >= 2 && filled*4 > len(lines) && blank >= 2 && blank*20 >= len(lines)/2*19
}

// isTypeset reports whether a text has a typesetter's marks where tools write plain ones.
func isTypeset(lines []string) bool {
	all := strings.Join(lines, "\n")
	if strings.ContainsAny(all, "„«»") { // those of another language
		return false
	}
	return strings.Contains(all, "…") && !strings.Contains(all, "...") ||
		strings.ContainsAny(all, "‘’“”") && !strings.ContainsAny(all, `'"`)
}

var straightened = strings.NewReplacer("‘", "'", "’", "'", "“", `"`, "”", `"`, "…", "...", "–", "-")

// copiedSpaces are such as come from a page; French spelling has fixed spaces too, but no two side by side.
var copiedSpaces = regexp.MustCompile(`\x{a0}[ \x{a0}]| \x{a0}`)

// asTyped takes back what a program for texts did to letters.
func (f *frame) asTyped(line string) string {
	if f.straight {
		line = straightened.Replace(line)
	}
	if f.fixed {
		line = strings.ReplaceAll(line, "\u00a0", " ")
	}
	if f.page {
		line = html.UnescapeString(line)
	}
	return line
}

// pageSigns are signs as the source of a page writes them.
var pageSigns = regexp.MustCompile(`&(?:lt|gt|quot|#39|#34|amp);`)

// An origin is where a line of the text without its frame stands in the file.
type origin struct {
	start  int64 // without the frame, bytes
	line   int
	offset int64
	end    int64
	time   time.Time
	// written is what stands there, where it is read in other words.
	written string
}

// take takes the frame off a whole file.
func (f *frame) take(raw []byte, anchor time.Time) (inner []byte, origins []origin) {
	t := taking{frame: f, anchor: anchor, empty: true}
	at := origin{}
	for line := range bytes.Lines(raw) {
		text := bytes.TrimSuffix(line, []byte("\n"))
		at.line++
		at.end = at.offset + int64(len(text))
		pieces := []string{string(text)}
		if f.escaped {
			pieces = unescape(pieces[0])
		}
		for _, piece := range pieces {
			t.add(piece, at)
		}
		at.offset += int64(len(line))
	}
	return t.inner, t.origins
}

// A taking is the frame being taken off, line by line.
type taking struct {
	*frame
	anchor  time.Time
	inner   []byte
	origins []origin
	last    string // the line before
	empty   bool   // it is
	script  bool   // a script of a package speaks
}

func (t *taking) add(text string, at origin) {
	if t.pairs != "" {
		text, at.time = valueOf(text, t.pairs)
	}
	text = t.asTyped(text)
	for i := range t.margins {
		text, at.time = t.margins[i].take(text, at.time, t.anchor)
	}
	text = withoutEnding(text, t.ending)
	if t.spaced && isBlank(text) && !t.empty {
		t.empty = true
		return
	}
	if t.width > 0 {
		text = shown(text)
	}
	if t.newer != nil {
		if before := t.reword(text); before != text {
			at.written, text = shown(text), before
		}
	}
	if len(t.origins) > 0 && t.wentOn(t.last, text) {
		t.inner = t.inner[:len(t.inner)-1]
		if t.atSpaces {
			t.inner = append(t.inner, ' ')
		}
		t.origins[len(t.origins)-1].end = at.end
	} else {
		at.start = int64(len(t.inner))
		t.origins = append(t.origins, at)
	}
	t.inner = append(append(t.inner, text...), '\n')
	t.last, t.empty = text, isBlank(text)
}

// A framed file is one whose frame was taken off.
type framed struct {
	size    int64
	lines   int
	origins []origin
}

// place puts a place in the text without frame back to where it stands in the file.
func (f *framed) place(p *Place) {
	first := f.at(p.Offset)
	last := f.at(p.Offset + max(0, int64(p.Length)-1))
	p.Line, p.Offset = first.line, first.offset
	p.Length = int(last.end - first.offset)
}

func (f *framed) at(offset int64) origin {
	i := sort.Search(len(f.origins), func(i int) bool { return f.origins[i].start > offset })
	return f.origins[max(0, i-1)]
}

// back puts all that was read to where it stands in the file.
func (f *framed) back(s *stream, report *FileReport) {
	if f == nil {
		return
	}
	report.Size, report.Lines = f.size, f.lines
	for i := range s.events {
		e := &s.events[i]
		if e.Time.IsZero() {
			e.Time = f.at(e.Offset).time
		}
		if written := f.at(e.Offset).written; written != "" {
			_, reason, more := strings.Cut(e.Text, "\n")
			e.older, e.Text = e.Text, written
			if more {
				e.Text += "\n" + reason
			}
		}
		f.place(&e.Place)
	}
	for i := range s.state {
		f.place(&s.state[i].Place)
	}
}

// unframed gives a source without its frame, if it has one. A source that can be read only once is kept in memory as
// far as one could have a frame.
func (r *Reader) unframed(src Source, anchor time.Time) (Source, *framed) {
	if src.Size > maxScreen {
		return src, nil
	}
	in, err := OpenPlain(src)
	if err != nil {
		return src, nil // reading it will say so
	}
	if src.Size < 0 {
		return r.unframedOnce(src, in, anchor)
	}
	defer func() { _ = in.Close() }() // it was only read
	head, all, err := peekHead(in)
	if err != nil {
		return src, nil
	}
	f := r.frameOf(src.Name, headLines(head))
	if f == nil {
		return src, nil
	}
	raw, err := io.ReadAll(io.LimitReader(all, maxScreen+1))
	if err != nil || len(raw) > maxScreen {
		return src, nil
	}
	return f.source(src.Name, raw, anchor)
}

func (r *Reader) unframedOnce(src Source, in io.ReadCloser, anchor time.Time) (Source, *framed) {
	raw, err := io.ReadAll(io.LimitReader(in, maxScreen+1))
	if err != nil || len(raw) > maxScreen {
		rest := io.Reader(in)
		if err != nil {
			rest = failing{err}
		}
		src.Open = func() (io.ReadCloser, error) {
			return struct {
				io.Reader
				io.Closer
			}{io.MultiReader(bytes.NewReader(raw), rest), in}, nil
		}
		return src, nil
	}
	_ = in.Close() // it was only read
	if f := r.frameOf(src.Name, headLines(raw[:min(len(raw), headSize)])); f != nil {
		return f.source(src.Name, raw, anchor)
	}
	return inMemory(src.Name, raw), nil
}

func (f *frame) source(name string, raw []byte, anchor time.Time) (Source, *framed) {
	inner, origins := f.take(raw, anchor)
	if len(origins) == 0 {
		return inMemory(name, raw), nil
	}
	return inMemory(name, inner), &framed{size: int64(len(raw)), lines: bytes.Count(raw, []byte("\n")), origins: origins}
}

func inMemory(name string, raw []byte) Source {
	return Source{
		Name: name,
		Size: int64(len(raw)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil },
	}
}

func headLines(head []byte) (lines []string) {
	if len(head) == headSize {
		head = head[:bytes.LastIndexByte(head, '\n')+1]
	}
	for l := range bytes.Lines(head) {
		lines = append(lines, string(bytes.TrimRight(l, "\r\n")))
	}
	return lines
}

// shown is a line as the screen showed it in the end.
func shown(line string) string { return clean([]byte(line)) }

func isBlank(line string) bool { return strings.TrimSpace(line) == "" }

func countOf(lines []string, is func(string) bool) (n int) {
	for _, l := range lines {
		if is(l) {
			n++
		}
	}
	return n
}

func mapped(lines []string, f func(string) string) []string {
	list := make([]string, len(lines))
	for i, l := range lines {
		list[i] = f(l)
	}
	return list
}
