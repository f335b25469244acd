package reading

import (
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A Dialect describes the format of a log. It is data, read from
// knowledge/dialects/.
type Dialect struct {
	ID     string   `yaml:"id"`
	Title  string   `yaml:"title"`
	Engine string   `yaml:"engine"` // who writes it; attempts of one engine are joined across files
	Files  []string `yaml:"files"`  // patterns of the file's own name
	Time   TimeForm `yaml:"time"`
	// Record splits every record; its groups time, component, level and text
	// fill the event. Rules are then matched against text alone.
	Record string `yaml:"record"`
	// Fields names, for a log of JSON objects, the members that hold each of
	// time, component, level and text; the first that is there counts.
	Fields map[string][]string `yaml:"fields"`
	// Levels translates what the log calls a level.
	Levels map[string]Level `yaml:"levels"`
	// Grave lists texts by which a record matters whatever its words say, such
	// as a level.
	Grave []string `yaml:"grave"`
	// Starts and Carry are for logs whose records have a line for each field:
	// the literal text with which a record starts, and the prefixes of the
	// lines that hold time, component, level and text.
	Starts string            `yaml:"starts"`
	Carry  map[string]string `yaml:"carry"`
	// Trim are characters to take off the end of a field.
	Trim string `yaml:"trim"`
	// State is set for a file that tells of a state and not of events.
	State *StateForm `yaml:"state"`
	// Whole says that a file of this dialect is one attempt, with no record
	// that opens or closes it.
	Whole bool `yaml:"whole"`
	// Together says that many speak in turn: what failed before a declaration counts only if it is of
	// the same object.
	Together bool `yaml:"together"`
	// Runs is the engine whose attempts a run of this log's begins; what both tell of is one attempt.
	Runs string `yaml:"runs"`
	// Tries is the kind of such an attempt, where a log of it can be of no other.
	Tries   AttemptKind `yaml:"tries"`
	Rules   []Rule      `yaml:"rules"`
	Kinds   []Kind      `yaml:"kinds"`
	Tools   []Tool      `yaml:"tools"` // the engine's own programs
	Samples []Sample    `yaml:"samples"`
	Wording *Wording    `yaml:"wording"` // of newer releases, nil where none differs

	record      *regexp.Regexp
	textFollows bool       // what follows the match of record is the text
	linePrefix  linePrefix // of record
	prefilter   prefilter  // of the rules
}

// A TimeForm says how a time is written.
type TimeForm struct {
	// as Go's package time writes it; or "unix", "unix-us" for seconds or microseconds since 1970
	Layout string `yaml:"layout"`
	Zone   string `yaml:"zone"` // "utc", or "local" when the log does not say
}

// A Rule gives a record a meaning. Groups of Match named time, object,
// operation, from, to, state and text fill the event's fields.
type Rule struct {
	Match     string `yaml:"match"`
	Mark      Mark   `yaml:"mark"`
	Operation string `yaml:"operation"`
	Level     Level  `yaml:"level"`
	// Reason says that the next line, if it is indented, tells why.
	Reason bool `yaml:"reason"`
	// Script is a pattern of the declaration with its reason by which it blames a
	// program that had the word until then: the line above was the last it said.
	Script string `yaml:"script"`
	// Peer is a pattern of the record with its reason whose group "peer" is the machine that
	// was spoken to, as HOST or HOST:PORT; the object is the address that was asked for.
	Peer string `yaml:"peer"`
	// List says that the group "list" holds changes "name (from, to), …".
	List bool `yaml:"list"`

	re       *regexp.Regexp
	script   *regexp.Regexp // nil for none
	peer     *regexp.Regexp // nil for none
	literals []string
}

// A Kind tells from the command what kind of attempt it is.
type Kind struct {
	Match string      `yaml:"match"`
	Kind  AttemptKind `yaml:"kind"`

	re *regexp.Regexp
}

// A Sample is a line with what must come of it. It is the dialect's test.
type Sample struct {
	Line   string `yaml:"line"`
	Mark   Mark   `yaml:"mark"`
	Object string `yaml:"object"`
	Time   string `yaml:"time"` // RFC 3339
	// Tells is what the last record of a file of state tells, by group.
	Tells map[string]string `yaml:"tells"`
}

// minLiteral keeps rules from being tried on nearly every line.
const minLiteral = 3

func (d *Dialect) compile() error {
	if d.State != nil {
		if err := d.State.compile(); err != nil {
			return fmt.Errorf("dialect %s: %w", d.ID, err)
		}
	}
	if d.Wording != nil {
		if err := d.Wording.compile(); err != nil {
			return fmt.Errorf("dialect %s: %w", d.ID, err)
		}
	}
	for i := range d.Rules {
		r := &d.Rules[i]
		var err error
		if r.Script != "" {
			if r.script, err = regexp.Compile(r.Script); err != nil {
				return fmt.Errorf("dialect %s: rule %d: script: %w", d.ID, i+1, err)
			}
		}
		if r.Peer != "" {
			if r.peer, err = regexp.Compile(r.Peer); err != nil || r.peer.SubexpIndex("peer") < 0 {
				return fmt.Errorf("dialect %s: rule %d: peer: want a pattern with a group \"peer\": %w", d.ID, i+1, err)
			}
		}
		if r.re, r.literals, err = compilePattern(r.Match); err != nil {
			return fmt.Errorf("dialect %s: rule %d: %w", d.ID, i+1, err)
		}
	}
	if d.Record != "" {
		// A text that goes to the end of the line need not be walked through:
		// it is what follows the rest of the pattern.
		var head string
		head, d.textFollows = strings.CutSuffix(d.Record, "(?P<text>.*)$")
		var err error
		if d.record, err = regexp.Compile(head); err != nil {
			return fmt.Errorf("dialect %s: record: %w", d.ID, err)
		}
		if len(d.Carry) == 0 {
			d.linePrefix = outlineOf(head)
		}
	}
	if len(d.Fields) > 0 {
		d.linePrefix = outlineOf(`^(?:data: |\x1e)?\{`)
	}
	lists := make([][]string, len(d.Rules))
	for i, r := range d.Rules {
		lists[i] = r.literals
	}
	d.prefilter = newPrefilter(lists)
	for i := range d.Kinds {
		re, err := regexp.Compile(d.Kinds[i].Match)
		if err != nil {
			return fmt.Errorf("dialect %s: kind %d: %w", d.ID, i+1, err)
		}
		d.Kinds[i].re = re
	}
	return nil
}

// compilePattern returns the pattern with literals of which each match holds
// at least one.
func compilePattern(pattern string) (*regexp.Regexp, []string, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, nil, err
	}
	list, err := required(pattern)
	if err != nil {
		return nil, nil, err
	}
	if shortest(list) < minLiteral {
		return nil, nil, fmt.Errorf(
			"%q has no fixed text of %d letters or more: without one it would be tried on every line", pattern, minLiteral,
		)
	}
	return re, list, nil
}

// named reports whether a file's name is one that the dialect expects.
func (d *Dialect) named(file string) bool {
	base := path.Base(file)
	for _, pattern := range d.Files {
		if ok, _ := path.Match(pattern, base); ok {
			return true
		}
	}
	return false
}

// apply fills the event from the first of the rules that matches; it reports
// which.
func (d *Dialect) apply(e *Event, rules []int) *Rule {
	said := e.message()
	for _, i := range rules {
		r := &d.Rules[i]
		m := r.re.FindStringSubmatch(said)
		if m == nil {
			continue
		}
		e.Mark, e.Operation, e.script = r.Mark, r.Operation, r.script
		if r.Level != "" {
			e.Level = r.Level
		}
		for g, name := range r.re.SubexpNames() {
			d.fill(e, name, m[g])
		}
		return r
	}
	return nil
}

func (d *Dialect) fill(e *Event, group, value string) {
	switch group {
	case "time":
		e.Time = d.Time.parse(value)
	case "uptime":
		e.uptime, _ = strconv.ParseFloat(value, 64) // digits and a point, by the pattern
	case "component":
		e.Component = value
	case "text":
		e.body = value
	case "level":
		if l, ok := d.Levels[value]; ok {
			e.Level = l
		}
	case "object":
		e.Object = value
	case "operation":
		e.Operation = value
	case "from":
		e.From = value
	case "to":
		e.To = value
	case "state":
		e.State = value
	}
}

// split tells the parts of a record apart. It reports whether the record is
// one of this dialect.
func (d *Dialect) split(e *Event) bool {
	if len(d.Fields) > 0 {
		return d.splitObject(e)
	}
	if len(d.Carry) > 0 {
		return d.splitField(e)
	}
	if d.record == nil {
		return false
	}
	m := d.record.FindStringSubmatchIndex(e.Text)
	if m == nil {
		return false
	}
	for g, name := range d.record.SubexpNames() {
		if from, to := m[2*g], m[2*g+1]; from >= 0 {
			d.fill(e, name, e.Text[from:to])
		}
	}
	if d.textFollows {
		e.body = e.Text[m[1]:]
	}
	return true
}

// splitField reads one line of a record that has a line for each field. A text
// of several lines follows its length in eight bytes, as the journal's export
// format has it.
func (d *Dialect) splitField(e *Event) bool {
	if d.starts(e) {
		return true
	}
	for group, prefix := range d.Carry {
		value, ok := strings.CutPrefix(e.Text, prefix)
		value = strings.TrimRight(value, d.Trim)
		switch {
		case !ok:
		case group == "text":
			e.body = value
			return true
		default:
			e.carried = [2]string{group, value}
			return true
		}
	}
	return false
}

// starts reports whether a line begins a record: by the text that it begins with, or by the
// pattern of the dialect, which finds the time in it.
func (d *Dialect) starts(e *Event) bool {
	if d.record == nil {
		if d.Starts == "" || !strings.HasPrefix(e.Text, d.Starts) {
			return false
		}
		e.carried = [2]string{"start", ""}
		return true
	}
	m := d.record.FindStringSubmatch(e.Text)
	if m == nil {
		return false
	}
	e.carried = [2]string{"start", ""}
	if i := d.record.SubexpIndex("time"); i >= 0 {
		e.carried[1] = m[i]
	}
	return true
}

func (d *Dialect) splitObject(e *Event) bool {
	object := strings.TrimLeft(strings.TrimPrefix(e.Text, "data: "), "\x1e") // server-sent events; RFC 7464
	if !strings.HasPrefix(object, "{") {
		return false
	}
	var members map[string]any
	if json.Unmarshal([]byte(object), &members) != nil {
		return false
	}
	known := false
	for group, names := range d.Fields {
		for _, name := range names {
			if v, ok := members[name]; ok && v != nil {
				value := fmt.Sprint(v)
				if f, isNumber := v.(float64); isNumber {
					value = strconv.FormatFloat(f, 'f', -1, 64)
				}
				d.fill(e, group, value)
				known = known || group == "text"
				break
			}
		}
	}
	return known
}

// parse reads a time. What cannot be read is no time.
func (f TimeForm) parse(value string) time.Time {
	scale := map[string]float64{"unix": 1, "unix-us": 1e-6}[f.Layout]
	if scale > 0 {
		n, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return time.Time{}
		}
		return time.UnixMicro(int64(n * scale * 1e6)).UTC()
	}
	t, err := time.Parse(f.Layout, value)
	if err != nil {
		return time.Time{}
	}
	return t.UTC()
}

// inYear gives a time that was written without a year the latest year in
// which it is not after the anchor, allowing a day for clocks and zones.
func inYear(t, anchor time.Time) time.Time {
	if t.IsZero() || t.Year() != 0 || anchor.IsZero() {
		return t
	}
	dated := t.AddDate(anchor.Year(), 0, 0)
	if dated.After(anchor.AddDate(0, 0, 1)) {
		dated = t.AddDate(anchor.Year()-1, 0, 0)
	}
	return dated
}

// opens reports whether its records say where an attempt begins.
func (d *Dialect) opens() bool {
	return slices.ContainsFunc(d.Rules, func(r Rule) bool { return r.Mark == Opens })
}

// kind tells what an attempt is from its command.
func (d *Dialect) kind(command string) AttemptKind {
	for _, k := range d.Kinds {
		if k.re.MatchString(command) {
			return k.Kind
		}
	}
	return ""
}

// A Lexicon knows which words sound like a failure and which records are
// harmless however bad they sound.
type Lexicon struct {
	Errors   []string `yaml:"errors"`   // words; matched whole, not inside names
	Warnings []string `yaml:"warnings"` //
	Mild     []string `yaml:"mild"`     // patterns: how a record begins that calls itself a warning, whatever its words
	// Plain are patterns: how a record begins that calls itself an error, whatever its words.
	Plain []string `yaml:"plain"`
	// Answers are the kernel's words for why it did not do what a program asked.
	Answers []string `yaml:"answers"`
	// Resigns are words of a program that gives up: what it said right before says why.
	Resigns []string `yaml:"resigns"`
	// Children are words of a program of which another one failed that it had started.
	Children []string `yaml:"children"`
	Never    []string `yaml:"never"` // patterns: phrases with such a word that say the opposite
	Harmless []struct {
		Match string `yaml:"match"`
		Why   string `yaml:"why"`
	} `yaml:"harmless"`

	errors, warnings wordSet
	resigns, answers wordSet
	children         wordSet
	mild, plain      *regexp.Regexp // nil for none
	never, harmless  []pattern
	known            prefilter // of never, then of harmless
}

// A pattern is a regular expression with literals of which each match holds
// at least one.
type pattern struct {
	re       *regexp.Regexp
	literals []string
}

func (l *Lexicon) compile() error {
	l.errors, l.warnings = newWordSet(l.Errors), newWordSet(l.Warnings)
	l.resigns, l.answers = newWordSet(l.Resigns), newWordSet(l.Answers)
	l.children = newWordSet(l.Children)
	var lists [][]string
	var err error
	if l.mild, err = beginning(l.Mild); err != nil {
		return fmt.Errorf("lexicon: mild: %w", err)
	}
	if l.plain, err = beginning(l.Plain); err != nil {
		return fmt.Errorf("lexicon: plain: %w", err)
	}
	for i, text := range l.Never {
		re, list, err := compilePattern("(?i)" + text)
		if err != nil {
			return fmt.Errorf("lexicon: never %d: %w", i+1, err)
		}
		l.never, lists = append(l.never, pattern{re, list}), append(lists, list)
	}
	for i, h := range l.Harmless {
		re, list, err := compilePattern(h.Match)
		if err != nil {
			return fmt.Errorf("lexicon: harmless %d: %w", i+1, err)
		}
		l.harmless, lists = append(l.harmless, pattern{re, list}), append(lists, list)
	}
	l.known = newPrefilter(lists)
	return nil
}

// beginning joins patterns of how a record begins; nil if there are none.
func beginning(patterns []string) (*regexp.Regexp, error) {
	if len(patterns) == 0 {
		return nil, nil
	}
	return regexp.Compile("^(?:" + strings.Join(patterns, "|") + ")")
}

// judge says how bad a text sounds. The phrases that take it back are looked
// for only where there is something to take back.
func (l *Lexicon) judge(text string) (level Level, harmless bool) {
	if level = l.sound(text); level == Info {
		return Info, false
	}
	plain := text
	for _, i := range l.known.matching(text) {
		if i < len(l.never) {
			plain = l.never[i].re.ReplaceAllString(plain, " ")
		} else if l.harmless[i-len(l.never)].re.MatchString(text) {
			harmless = true
		}
	}
	if plain != text {
		level = l.sound(plain)
	}
	return level, harmless
}

func (l *Lexicon) sound(text string) Level {
	switch {
	case l.errors.in(text):
		return Error
	case l.warnings.in(text):
		return Warning
	}
	return Info
}
