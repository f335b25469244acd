package reading

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
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
	dialects   []*Dialect
	lexicon    *Lexicon
	healthy    Templates
	watch      []branch                  // of the watched patterns
	finders    map[string]func() *finder // by dialect; made when first needed, for they are large
	lists      [][]string                // the literals of the watched patterns
	plain      *Dialect
	candidates []*candidate
	suspect    prefilter // of all their markers
}

// NewReader compiles the knowledge. Every pattern must hold some fixed text. The
// languages may be empty.
func NewReader(
	dialects []*Dialect, lexicon *Lexicon, healthy Templates, watch []Watch, languages Languages,
) (*Reader, error) {
	r := &Reader{
		dialects: dialects,
		lexicon:  lexicon,
		healthy:  healthy,
		finders:  map[string]func() *finder{},
		plain:    &Dialect{ID: "plain", Title: "lines of text"},
	}
	if err := lexicon.compile(); err != nil {
		return nil, err
	}
	var lists [][]string
	for _, w := range watch {
		list, literals, err := branchesOf(w)
		if err != nil {
			return nil, err
		}
		r.watch, lists = append(r.watch, list...), append(lists, literals...)
	}
	r.lists = lists
	for _, d := range append(dialects[:len(dialects):len(dialects)], r.plain) {
		if err := d.compile(); err != nil {
			return nil, err
		}
		r.finders[d.ID] = sync.OnceValue(func() *finder { return newFinder(lexicon, d, lists, nil) })
	}
	r.learn(languages)
	return r, nil
}

// A FileReport says what became of one log.
type FileReport struct {
	Name    string `json:"name"`
	Dialect string `json:"dialect"`
	Size    int64  `json:"size"`
	Lines   int    `json:"lines"`
	Kept    int    `json:"kept"` // events that matter
	Left    int    `json:"left"` // events that matter and had to be left out, of the middle of the log
	Cut     int    `json:"cut"`  // lines longer than 16 KiB, of which the rest was not looked at
	// lines that are no record of the dialect and not set in below one; read as plain text
	Unparsed int    `json:"unparsed"`
	Language string `json:"language,omitempty"` // from which messages were brought back
	Problem  string `json:"problem"`            // why it could not be read to its end
}

// A Timeline is what a set of logs says.
type Timeline struct {
	Files      []FileReport `json:"files"`
	Attempts   []*Attempt   `json:"attempts"` // the latest last
	Unassigned []Event      `json:"loose"`    // events that matter and belong to no attempt
	Harmless   int          `json:"harmless"` // events set apart because healthy machines show them too
	// events that weigh nothing because attempts that succeeded show them too
	SeenInSuccess int           `json:"usual"`
	Shifts        []Shift       `json:"shifts"` // logs whose times were moved to agree with another's
	Jumps         []Event       `json:"jumps"`  // where a clock was set
	State         []StateRecord `json:"state"`  // what files beside the logs tell of the machine's state
}

// Progress is told how many bytes of all sources have been read.
type Progress func(bytes int64)

// maxEvents bounds what one log can make us remember: up to twice as many
// events for a moment.
const maxEvents = 4_000

// Read reads all sources. The anchor may be zero. Message catalogues among them
// (.mo) are not logs: messages of their languages are brought back by them. A source that cannot be read
// is reported in its FileReport and does not stop the others; only a cancelled
// context does.
func (r *Reader) Read(ctx context.Context, sources []Source, anchor Anchor, progress Progress) (*Timeline, error) {
	t := &Timeline{}
	var streams []stream
	sources, brought := broughtAlong(sources)
	sources = inOrder(sources)
	frames := make([]*framed, len(sources))
	for i, src := range sources {
		sources[i], frames[i] = r.unframed(src, anchor.Now)
	}
	decoder := r.languageOf(sources, brought)
	var before int64
	for i, src := range sources {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		s, report := r.readOne(ctx, src, anchor.Now, decoder, func(n int64) {
			if progress != nil {
				progress(before + n)
			}
		})
		frames[i].back(&s, &report)
		before += report.Size
		t.Files = append(t.Files, report)
		t.State = append(t.State, s.state...)
		streams = append(streams, s)
		for _, e := range s.events {
			if e.Harmless {
				t.Harmless++
			}
		}
	}
	t.Shifts = align(streams, anchor)
	for i := range streams {
		t.Jumps = append(t.Jumps, r.jumps(&streams[i])...)
	}
	t.Attempts, t.Unassigned = attempts(streams)
	t.SeenInSuccess = learn(t.Attempts)
	for _, a := range t.Attempts {
		for i := range a.parts {
			a.parts[i].attribute()
		}
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
	state   []StateRecord
}

func (r *Reader) readOne(
	ctx context.Context, src Source, anchor time.Time, decoder *decoder, progress Progress,
) (stream, FileReport) {
	report := FileReport{Name: src.Name}
	body, err := OpenPlain(src)
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
	counted := &meter{r: in}
	if d.State != nil {
		states := &stateReader{forms: r.stateForms(), form: d.State}
		s.state, report.Lines, err = states.read(ctx, src.Name, counted)
		report.Size, report.Kept = counted.n, len(s.state)
		if err != nil {
			report.Problem = err.Error()
		}
		return s, report
	}
	find := r.finders[d.ID]
	if decoder != nil {
		find = decoder.finder(r, d)
		report.Language = decoder.translator.Language
	}
	e := &assembler{reader: r, stream: &s, file: src.Name, decoder: decoder, fields: map[string]string{}, find: find}
	lines, err := scanLines(
		ctx, counted, find().literals, d.linePrefix,
		func(text []byte, start int) (Event, *Rule, bool) {
			return r.look(d, find(), decoder, anchor, text, start)
		},
		e.take,
	)
	e.endRecord()
	if err != nil {
		report.Problem = err.Error()
	}
	report.Lines, report.Cut, report.Unparsed = lines.count, lines.cut, lines.unparsed
	report.Size, report.Kept, report.Left = counted.n, len(s.events), e.left
	if d.Whole && report.Size <= maxScreen {
		s.state = r.stateAmong(ctx, src)
	}
	return s, report
}

// maxScreen is how large a file of what a screen showed may be, in bytes, in which states
// are looked for that somebody had printed there.
const maxScreen = 4 << 20

// stateAmong takes what tools printed of a state among what a screen showed.
func (r *Reader) stateAmong(ctx context.Context, src Source) []StateRecord {
	body, err := OpenPlain(src)
	if err != nil {
		return nil
	}
	defer func() { _ = body.Close() }()
	_, in, err := peekHead(body)
	if err != nil {
		return nil
	}
	list, _, err := (&stateReader{forms: r.stateForms(), among: true}).read(ctx, src.Name, in)
	if err != nil {
		return nil
	}
	return list
}

func (r *Reader) stateForms() (list []*StateForm) {
	for _, d := range r.dialects {
		if d.State != nil {
			list = append(list, d.State)
		}
	}
	return list
}

// dialectOf decides by the name and, where that says nothing, by which
// dialect's rules know most of the first lines. Of what a screen showed the name says little: people
// call it what they like.
func (r *Reader) dialectOf(name string, head []byte) *Dialect {
	named := r.namedDialect(name)
	if named != nil && !named.Whole {
		return named
	}
	best, most := r.plain, 0
	lines := headLines(head)
	for _, d := range r.dialects {
		if d.State != nil {
			if named == nil && d.State.knows(lines) {
				return d // on a screen several can stand
			}
			continue
		}
		known := d.familiar(lines)
		inLetter := d.Whole && len(lines) <= letter*known // a screen can stand in one
		if known > most && (known*5 >= len(lines) || inLetter) {
			best, most = d, known
		}
	}
	if named != nil && named.familiar(lines) >= most {
		return named
	}
	return best
}

// letter is how long a text may be for each line of a screen that stands in it, in lines.
const letter = 40

// namedDialect is the dialect that a file's name tells; nil for none.
func (r *Reader) namedDialect(name string) *Dialect {
	base, _ := rotation(name)
	for _, d := range r.dialects {
		if d.named(base) {
			return d
		}
	}
	return nil
}

// An assembler makes events of the lines that matter.
type assembler struct {
	reader  *Reader
	stream  *stream
	file    string
	decoder *decoder
	find    func() *finder
	fields  map[string]string // of the record that is being read, for dialects with a line for each
	record  int               // where its events begin
	reason  *Rule             // set while the next line may tell the reason of the last event
	left    int               // events that had to be left out
}

func (a *assembler) take(l line) {
	events := a.stream.events
	if a.reason != nil && len(events) > 0 && l.number == events[len(events)-1].Line+1 &&
		strings.TrimLeft(l.event.Text, " \t") != l.event.Text {
		last := &events[len(events)-1]
		reason := strings.TrimSpace(l.event.Text)
		if a.decoder != nil {
			if original, ok := a.decoder.original(reason); ok || last.Means != "" {
				last.Means = last.original() + "\n" + original
			}
		}
		last.Text += "\n" + reason
		last.Length = int(l.offset+int64(l.length)) - int(last.Offset)
		last.Hits = a.reader.hits(a.find(), last.original())
		last.answered = last.answered || a.reader.lexicon.answers.in(last.original())
		last.Peer = a.reason.otherPeer(last.Object, last.original())
		a.reason = nil
		return
	}
	a.reason = nil
	if l.event.said {
		l.event.Hits, l.hit = a.reader.hits(a.find(), l.event.Text), strings.TrimSpace(l.event.Text) != ""
		l.event.Harmless = a.reader.healthy.Knows(l.event.Text)
		l.event.resigns = a.reader.lexicon.resigns.in(l.event.Text)
		l.event.ofChild = a.reader.lexicon.children.in(l.event.Text)
		l.event.answered = a.reader.lexicon.answers.in(l.event.Text)
	}
	if !l.hit {
		return
	}
	if group := l.event.carried[0]; group != "" {
		if group == "start" {
			a.endRecord()
			if at := l.event.carried[1]; at != "" {
				a.fields["time"] = at
			}
		} else {
			a.fields[group] = l.event.carried[1]
		}
		return
	}
	l.event.Place = Place{File: a.file, Line: l.number, Offset: l.offset, Length: l.length}
	if l.rule != nil && l.rule.Reason {
		a.reason = l.rule
	}
	a.stream.events = append(events, l.event)
	if len(a.stream.events) == 2*maxEvents {
		a.thin()
	}
}

// endRecord gives the events of a record the fields that stood on lines of
// their own, and forgets those that matter neither by their words nor by them.
func (a *assembler) endRecord() {
	d := a.stream.dialect
	if len(d.Carry) == 0 {
		return
	}
	kept := a.stream.events[:min(a.record, len(a.stream.events))]
	for _, e := range a.stream.events[len(kept):] {
		level := e.Level
		for group, value := range a.fields {
			d.fill(&e, group, value)
		}
		if level == Error || level == Warning && e.Level == Info {
			e.Level = level
		}
		if e.selfRelevant || e.said || e.Level != Info {
			kept = append(kept, e)
		}
	}
	a.stream.events = kept
	a.record = len(kept)
	clear(a.fields)
}

// thin keeps the first and the last events, and of those between them what
// tells of attempts. A log in which every line sounds like a failure must not
// take all memory.
func (a *assembler) thin() {
	events := a.stream.events
	kept := events[:maxEvents/2]
	for i, e := range events[maxEvents/2:] {
		last := i+maxEvents/2 >= len(events)-maxEvents/2
		if last || slices.Contains([]Mark{Opens, Closes, Passed, Fails, Verdict}, e.Mark) {
			kept = append(kept, e)
		}
	}
	if len(kept) > 2*maxEvents-maxEvents/4 { // nothing but marks
		kept = append(kept[:maxEvents/2], kept[len(kept)-maxEvents/2:]...)
	}
	a.left += len(events) - len(kept)
	clear(events[len(kept):])
	a.stream.events = kept
}

// unfinished is a line on which a program said what it was doing and did not come to its end, and on which
// somebody else went on: "Reading package lists...Killed".
var unfinished = regexp.MustCompile(`^\p{Lu}\p{L}*(?: \p{L}+){1,5}\.\.\.(\p{L}.*)$`)

// look judges the text of a line that holds a literal, none of which begins
// before start.
func (r *Reader) look(
	d *Dialect, find *finder, decoder *decoder, anchor time.Time, text []byte, start int,
) (e Event, rule *Rule, matters bool) {
	if len(d.Carry) > 0 && len(text) > 8 && text[7] == 0 { // a length before a text of several lines
		text, start = text[8:], max(0, start-8)
	}
	cleaned := clean(text)
	if cleaned != string(text) {
		start = 0
	}
	e.Text = strings.TrimRight(cleaned, " \t")
	seen := find.sight(e.Text, start)
	if m := unfinished.FindStringSubmatch(e.Text); m != nil {
		written := e.Text
		e.Text = m[1]
		defer func() { e.Means, e.Text = cmp.Or(e.Means, e.Text), written }()
		seen = find.sight(e.Text, 0)
	}
	if len(seen.foreign) > 0 {
		if original, ok := decoder.translator.Original(e.Text, seen.foreign); ok {
			written := e.Text
			e.Text = original
			defer func() { e.Means, e.Text = e.Text, written }()
			seen = find.sight(original, 0)
		}
	}
	e.Hits = r.matched(seen.watched, e.Text)
	// most lines that hold a literal: a word inside a name, a signature that begins alike
	if seen.nothing() && len(e.Hits) == 0 {
		return e, nil, false
	}
	if d.split(&e) && e.carried[0] != "" {
		return e, nil, true
	}
	level := e.Level
	e.Level = Info
	if seen.level != Info {
		e.Level, e.Harmless = r.lexicon.judge(e.message())
		e.Harmless = e.Harmless || e.Level != Info && r.healthy.Knows(e.message())
		e.mild = r.lexicon.mild != nil && r.lexicon.mild.MatchString(e.message())
		e.plain = r.lexicon.plain != nil && r.lexicon.plain.MatchString(e.message())
	}
	if level == Error || level == Warning && e.Level == Info {
		e.Level = level
	}
	e.ofChild = r.lexicon.children.in(e.message())
	e.resigns, e.answered = r.lexicon.resigns.in(e.message()), r.lexicon.answers.in(e.message())
	rule = d.apply(&e, seen.rules)
	e.Time = inYear(e.Time, anchor)
	e.selfRelevant = rule != nil || e.Level != Info || len(e.Hits) > 0
	return e, rule, e.selfRelevant || len(d.Carry) > 0 && e.body != ""
}

// Hits lists the IDs of the watched patterns that a text matches.
func (r *Reader) Hits(text string) []string { return r.hits(r.finders[r.plain.ID](), text) }

// hits lists the watched patterns that a text matches.
func (r *Reader) hits(find *finder, text string) []string {
	return r.matched(find.sight(text, 0).watched, text)
}

func (r *Reader) matched(candidates []int, text string) []string {
	var ids []string
	for _, i := range candidates {
		b := r.watch[i]
		if len(ids) > 0 && ids[len(ids)-1] == b.id { // another alternative matched
			continue
		}
		if b.matches(text) {
			ids = append(ids, b.id)
		}
	}
	return ids
}
