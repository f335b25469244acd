package reading

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"sort"
	"strings"
	"time"
)

// A Source is a log to read. Name is used in every Place, and tells the
// dialect when it is one that the dialect expects.
type Source struct {
	Name string
	Size int64 // bytes, for progress; -1 when not known
	Open func() (io.ReadCloser, error)
}

// A Watch is a pattern that somebody wants to know of, such as a signature's.
// Events that match carry its ID in Hits.
type Watch struct {
	ID    string
	Match string
}

// A Reader reads logs with one body of knowledge. It is safe for concurrent
// use.
type Reader struct {
	dialects []*Dialect
	lexicon  *Lexicon
	watch    []watched
	watching sieve
	finders  map[string]*literals // by dialect
	plain    *Dialect
}

type watched struct {
	id string
	re *regexp.Regexp
}

// NewReader compiles the knowledge. Every pattern must hold some fixed text.
func NewReader(dialects []*Dialect, lexicon *Lexicon, watch []Watch) (*Reader, error) {
	r := &Reader{dialects: dialects, lexicon: lexicon, finders: map[string]*literals{}, plain: &Dialect{ID: "plain", Title: "lines of text"}}
	if err := lexicon.compile(); err != nil {
		return nil, err
	}
	common := append(append([]string{}, lexicon.Errors...), lexicon.Warnings...)
	var lists [][]string
	for _, w := range watch {
		re, list, err := compilePattern(w.Match)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", w.ID, err)
		}
		r.watch = append(r.watch, watched{w.ID, re})
		common, lists = append(common, list...), append(lists, list)
	}
	r.watching = newSieve(lists)
	for _, d := range append(dialects[:len(dialects):len(dialects)], r.plain) {
		if err := d.compile(); err != nil {
			return nil, err
		}
		list := append([]string{}, common...)
		for _, rule := range d.Rules {
			list = append(list, rule.literals...)
		}
		r.finders[d.ID] = newLiterals(list)
	}
	return r, nil
}

// A FileReport says what became of one log.
type FileReport struct {
	Name    string `json:"name"`
	Dialect string `json:"dialect"`
	Size    int64  `json:"size"`
	Lines   int    `json:"lines"`
	Kept    int    `json:"kept"`    // events that matter
	Cut     int    `json:"cut"`     // lines longer than 16 KiB, of which the rest was not looked at
	Problem string `json:"problem"` // why it could not be read to its end
}

// A Timeline is what a set of logs says.
type Timeline struct {
	Files    []FileReport `json:"files"`
	Attempts []*Attempt   `json:"attempts"` // the latest last
	Loose    []Event      `json:"loose"`    // events that matter and belong to no attempt
	Harmless int          `json:"harmless"` // events set apart because healthy machines show them too
}

// Progress is told how many bytes of all sources have been read.
type Progress func(bytes int64)

// maxEvents bounds what one log can make us remember.
const maxEvents = 200_000

// Read reads all sources. Times that were written without a year are taken as
// the last ones before anchor, which may be zero. A source that cannot be read is reported in its
// FileReport and does not stop the others; only a cancelled context does.
func (r *Reader) Read(ctx context.Context, sources []Source, anchor time.Time, progress Progress) (*Timeline, error) {
	t := &Timeline{}
	var streams []stream
	var before int64
	for _, src := range inOrder(sources) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		s, report := r.readOne(ctx, src, anchor, func(n int64) {
			if progress != nil {
				progress(before + n)
			}
		})
		before += report.Size
		t.Files = append(t.Files, report)
		streams = append(streams, s)
		for _, e := range s.events {
			if e.Harmless {
				t.Harmless++
			}
		}
	}
	t.Attempts, t.Loose = attempts(streams)
	for _, a := range t.Attempts {
		a.decide()
	}
	return t, ctx.Err()
}

// inOrder puts rotated logs before the ones that came after them: the higher
// the number at the end of a name, the older.
func inOrder(sources []Source) []Source {
	list := append([]Source{}, sources...)
	sort.SliceStable(list, func(i, k int) bool {
		a, na := rotation(list[i].Name)
		b, nb := rotation(list[k].Name)
		if a != b {
			return a < b
		}
		return na > nb
	})
	return list
}

var rotated = regexp.MustCompile(`^(.*)\.(\d+)(?:\.(?:gz|xz|zst|bz2))?$`)

func rotation(name string) (base string, number int) {
	m := rotated.FindStringSubmatch(name)
	if m == nil {
		return name, 0
	}
	_, _ = fmt.Sscan(m[2], &number)
	return m[1], number
}

// A stream is what one log said, in its order.
type stream struct {
	dialect *Dialect
	events  []Event
}

func (r *Reader) readOne(ctx context.Context, src Source, anchor time.Time, progress Progress) (stream, FileReport) {
	report := FileReport{Name: src.Name}
	body, err := openPlain(src)
	if err != nil {
		report.Problem, report.Dialect = err.Error(), r.plain.ID
		return stream{dialect: r.plain}, report
	}
	defer func() { _ = body.Close() }()
	head, in, err := peekHead(&meter{r: body, progress: progress})
	if err != nil {
		report.Problem = err.Error()
	}
	d := r.dialectOf(src.Name, head)
	report.Dialect = d.ID
	s := stream{dialect: d}
	e := &assembler{reader: r, stream: &s, file: src.Name, anchor: anchor}
	counted := &meter{r: in}
	report.Lines, report.Cut, err = scanLines(ctx, counted, r.finders[d.ID], e.take)
	if err != nil {
		report.Problem = err.Error()
	}
	report.Size, report.Kept = counted.n, len(s.events)
	return s, report
}

// dialectOf decides by the name and, where that says nothing, by which
// dialect's rules know most of the first lines.
func (r *Reader) dialectOf(name string, head []byte) *Dialect {
	base, _ := rotation(name)
	for _, d := range r.dialects {
		if d.named(base) {
			return d
		}
	}
	best, most := r.plain, 0
	lines := strings.Split(string(head), "\n")
	for _, d := range r.dialects {
		known := 0
		for _, l := range lines {
			e := Event{Text: clean([]byte(l))}
			if d.split(&e) || d.apply(&e) != nil {
				known++
			}
		}
		if known > most && known*5 >= len(lines) {
			best, most = d, known
		}
	}
	return best
}

// An assembler makes events of the lines that matter.
type assembler struct {
	reader *Reader
	stream *stream
	file   string
	anchor time.Time
	reason bool // the next line may tell the reason of the last event
}

func (a *assembler) take(l line) {
	text := clean(l.text)
	e := Event{Place: Place{File: a.file, Line: l.number, Offset: l.offset, Length: l.length}, Text: strings.TrimRight(text, " \t")}
	events := a.stream.events
	if a.reason && len(events) > 0 && l.number == events[len(events)-1].Line+1 && strings.TrimLeft(text, " \t") != text {
		last := &events[len(events)-1]
		last.Text += "\n" + strings.TrimSpace(text)
		last.Length = int(l.offset+int64(l.length)) - int(last.Offset)
		last.Hits = a.reader.hits(last.Text)
		a.reason = false
		return
	}
	a.reason = false
	if !l.hit || len(events) >= maxEvents {
		return
	}
	a.stream.dialect.split(&e)
	level := e.Level
	e.Level, e.Harmless = a.reader.lexicon.judge(e.said())
	if level == Error || level == Warning && e.Level == Info {
		e.Level = level
	}
	rule := a.stream.dialect.apply(&e)
	e.Time = inYear(e.Time, a.anchor)
	e.Hits = a.reader.hits(e.Text)
	if rule == nil && e.Level == Info && len(e.Hits) == 0 {
		return
	}
	a.reason = rule != nil && rule.Reason
	a.stream.events = append(events, e)
}

func (r *Reader) hits(text string) []string {
	var ids []string
	for _, i := range r.watching.candidates(text) {
		if w := r.watch[i]; w.re.MatchString(text) {
			ids = append(ids, w.id)
		}
	}
	return ids
}
