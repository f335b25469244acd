package reading

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
)

// times are the ways of writing a time that are tried on an unknown log, the
// most telling first.
var times = []struct{ pattern, layout string }{
	{`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)`, "2006-01-02T15:04:05.999999999Z07:00"},
	{`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d[+-]\d{4}`, "2006-01-02T15:04:05-0700"},
	{`\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d,\d{3}`, "2006-01-02 15:04:05,000"},
	{`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d+`, "2006-01-02 15:04:05.999999999"},
	{`\d{4}-\d\d-\d\d  ?\d\d:\d\d:\d\d`, "2006-01-02 15:04:05"},
	{`\d{4}/\d\d/\d\d \d\d:\d\d:\d\d`, "2006/01/02 15:04:05"},
	{`\d\d\.\d\d\.\d{4} \d\d:\d\d:\d\d`, "02.01.2006 15:04:05"},
	{`\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}`, "02/Jan/2006:15:04:05 -0700"},
	{`[A-Z][a-z]{2} [A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d \d{4}`, "Mon Jan _2 15:04:05 2006"},
	{`[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d`, "Jan _2 15:04:05"},
	{`\d{10}\.\d+`, "unix"},
}

const (
	levelWords = `TRACE|DEBUG|INFO|NOTICE|WARN(?:ING)?|ERR(?:OR)?|CRIT(?:ICAL)?|FATAL|` +
		`trace|debug|info|notice|warn(?:ing)?|err(?:or)?|crit(?:ical)?|fatal`
	componentWord = `[A-Za-z][\w./-]{1,40}`
)

// middles are what may stand between time and text, the most telling first.
var middles = []string{
	`[\]:]? +[\[(<]?(?P<level>` + levelWords + `)[\])>:]? +\[?(?P<component>` + componentWord +
		`)(?:\[\d+\])?\]?:? +(?P<text>.*)$`,
	`[\]:]? +\[?(?P<component>` + componentWord + `)(?:\[\d+\])?\]?:? +[\[(<]?(?P<level>` + levelWords +
		`)[\])>:]? +(?P<text>.*)$`,
	`[\]:]? +[\[(<]?(?P<level>` + levelWords + `)[\])>:]? +(?P<text>.*)$`,
	`[\]:]? +(?P<component>` + componentWord + `)(?:\[\d+\])?: +(?P<text>.*)$`,
	`[\]:]? *(?P<text>.*)$`,
}

// An Inferred is a dialect made from a log of unknown format.
type Inferred struct {
	Dialect
	Matched int // of the lines looked at
	Lines   int
}

// ErrNoDialect means that no time can be found in a log's lines.
var ErrNoDialect = errors.New("no dialect can be inferred: its lines begin with no time that is known")

// Infer makes a dialect from the lines of a log: how a record starts, how the
// time is written, and where level, component and text stand. Lines that do
// not start a record are taken for continuations and may be half of all.
func Infer(name string, lines []string) (*Inferred, error) {
	best := &Inferred{}
	for _, t := range times {
		for rank, m := range middles {
			record := `^[\[(<]?(?P<time>` + t.pattern + `)` + m
			re := regexp.MustCompile(record)
			n := matching(re, lines, TimeForm{Layout: t.layout})
			// A form that tells more apart is preferred while it fits nearly as often.
			if n*20 > best.Matched*19+rank && n > best.Matched*19/20 && (best.Matched == 0 || n > best.Matched) {
				best = &Inferred{
					Dialect: Dialect{Time: TimeForm{Layout: t.layout, Zone: zone(t.layout)}, Record: record},
					Matched: n,
					Lines:   len(lines),
				}
			}
		}
	}
	if best.Matched*2 < len(lines) || best.Matched == 0 {
		return nil, ErrNoDialect
	}
	best.ID, best.Title, best.Engine, best.Files = name, "the log "+name, "unknown", []string{name}
	return best, nil
}

func zone(layout string) string {
	if strings.Contains(layout, "07") || layout == "unix" {
		return "utc"
	}
	return "local"
}

func matching(re *regexp.Regexp, lines []string, form TimeForm) (n int) {
	at := re.SubexpIndex("time")
	for _, l := range lines {
		if m := re.FindStringSubmatch(l); m != nil && form.parse(m[at]) != (time.Time{}) {
			n++
		}
	}
	return n
}

// YAML writes the dialect as a file for knowledge/dialects/, with two of the
// lines as its samples.
func (d *Inferred) YAML(lines []string) string {
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	var b strings.Builder
	fmt.Fprintf(&b, "# Inferred from %d lines, of which %d begin a record.\n", d.Lines, d.Matched)
	fmt.Fprintf(&b, "id: %s\ntitle: %s\nengine: %s\nfiles: [%s]\n", d.ID, quote(d.Title), d.Engine, quote(d.Files[0]))
	fmt.Fprintf(&b, "time: {layout: %s, zone: %s}\nrecord: %s\n", quote(d.Time.Layout), d.Time.Zone, quote(d.Record))
	if strings.Contains(d.Record, "<level>") {
		b.WriteString("levels: {ERROR: error, ERR: error, error: error, err: error, FATAL: error, fatal: error, CRITICAL: " +
			"error, CRIT: error, critical: error, crit: error, WARNING: warning, WARN: warning, " +
			"warning: warning, warn: warning}\n")
	}
	b.WriteString("samples:\n")
	re := regexp.MustCompile(d.Record)
	for i, n := 0, 0; i < len(lines) && n < 2; i++ {
		m := re.FindStringSubmatch(lines[i])
		if m == nil {
			continue
		}
		if t := d.Time.parse(m[re.SubexpIndex("time")]); !t.IsZero() && t.Year() > 0 {
			fmt.Fprintf(&b, "  - line: %s\n    time: %s\n", quote(lines[i]), quote(t.Truncate(time.Second).Format(time.RFC3339)))
			n++
		}
	}
	return b.String()
}
