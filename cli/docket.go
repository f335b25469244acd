package cli

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/climb"
	"diorthos/core/diagnosis"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/reading"
	"diorthos/core/system"
)

// maxShown bounds lists on a screen; the rest is counted.
const maxShown = 6

func noAttempt(d *docket.Docket) string {
	if d.Call != nil && len(d.Files) == 0 {
		return "not known yet: no evidence was handed in"
	}
	return "no attempt stands in these logs"
}

func showTried(p *page, d *docket.Docket) {
	if d.Call != nil {
		p.head("What was told")
		for line := range strings.SplitSeq(strings.TrimSpace(d.Call.Words), "\n") {
			p.hangingIndent("  ", line)
		}
	}
	p.head("What was tried")
	if len(d.Attempts) == 0 {
		p.line("  %s", noAttempt(d))
	}
	for i, t := range d.Attempts {
		if i == maxShown {
			p.line("  and %d earlier", len(d.Attempts)-i)
			break
		}
		kind := t.Kind
		if kind == "" {
			kind = "attempt"
		}
		span := "the log has no times"
		if !t.Began.IsZero() {
			span = when(t.Began) + " to " + endOf(t)
		}
		p.line("  %s %s %s  %s  %s", outcomeMark(p, t.Outcome), kind, p.strong(string(t.Outcome)), span, p.faint(summary(t)))
		if t.Command != "" {
			p.hangingIndent("      ", t.Command)
		}
		if i == 0 && len(t.Unfinished) > 0 {
			var left []string
			for _, e := range t.Unfinished {
				left = append(left, e.Object+" "+e.State)
			}
			p.hangingIndent("      left unfinished: ", strings.Join(left, ", "))
		}
	}
}

func outcomeMark(p *page, o reading.Outcome) string {
	if o == reading.Succeeded {
		return p.good(markGood)
	}
	return p.bad(markBroken)
}

func endOf(t docket.Attempt) string {
	if t.Ended.IsZero() {
		return "no end noted"
	}
	if t.Ended.Format("2006-01-02") == t.Began.Format("2006-01-02") {
		return t.Ended.Format("15:04:05")
	}
	return when(t.Ended)
}

func summary(t docket.Attempt) string {
	count := map[string]int{}
	var order []string
	for _, c := range t.Changes {
		if count[c.Action] == 0 {
			order = append(order, c.Action)
		}
		count[c.Action]++
	}
	var words []string
	for _, a := range order {
		words = append(words, fmt.Sprintf("%s %d", a, count[a]))
	}
	return strings.Join(words, ", ")
}

func showBroke(p *page, d *docket.Docket) {
	if d.Failure == nil {
		return
	}
	p.head("Where it broke")
	b := d.Failure
	if where := strings.TrimSpace(b.Stage + " " + b.Object); where != "" {
		p.line("  %s", p.strong(where))
	}
	p.hangingIndent("  decisive  ", at(&b.Decisive.Place)+saidBy(b))
	p.quote(b.Decisive.Text)
	if b.Decisive.Means != "" {
		p.line("  means")
		p.quote(b.Decisive.Means)
	}
	p.hangingIndent("  because   ", b.Why)
	if len(b.Chain) > 1 {
		p.line("  then      %s", plural(len(b.Chain)-1, "record followed from it", "records followed from it"))
		for i, e := range b.Chain[1:] {
			if i == maxShown {
				p.line("            and %d more", len(b.Chain)-1-i)
				break
			}
			p.hangingIndent(fmt.Sprintf("  %9d ", e.Line), strings.ReplaceAll(e.Text, "\n", " "))
		}
	}
}

// saidBy says who wrote the decisive record, if that is known.
func saidBy(f *docket.Failure) string {
	if f.SaidBy == "" {
		return ""
	}
	return ", said by " + f.SaidBy
}

func (p *page) quote(s string) {
	for _, l := range strings.Split(s, "\n") {
		p.hangingIndent("            │ ", l)
	}
}

func at(place *reading.Place) string { return fmt.Sprintf("%s line %d", place.File, place.Line) }

// showSuspects lists what was changed before the failure.
func showSuspects(p *page, d *docket.Docket) {
	if len(d.Suspects) == 0 {
		return
	}
	p.head("Changed before it")
	for i, s := range d.Suspects {
		if i == maxShown {
			p.line("  and %d more", len(d.Suspects)-i)
			break
		}
		mark := markNone
		if s.Named {
			mark = p.paint(text.Colors{text.FgYellow}, markOdd)
		}
		version := strings.Trim(s.From+" → "+s.To, " →")
		if s.From != "" && s.To != "" {
			version = s.From + " → " + s.To
		}
		p.line("  %s %s  %s %s %s", mark, when(s.When), s.Action, p.strong(s.Object), version)
	}
}

func showWhy(p *page, d *docket.Docket) {
	if len(d.Why) == 0 {
		return
	}
	p.head("Why")
	showKinds(p, d)
	for i, f := range d.Why {
		if i > 0 {
			p.line("")
		}
		p.line("  %s  %s  %s", p.strong(percent(f.Probability)), p.strong(f.Title), p.faint(explainsOn(d, f)+kindOnly(f)))
		p.para(8, f.Tell)
		p.evidence(markGood, "for", f.For)
		p.evidence(markNone, "against", f.Against)
	}
}

// showKinds says how sure the sort of failure is, where the causes below leave that open.
func showKinds(p *page, d *docket.Docket) {
	if len(d.Kinds) == 0 || d.Kinds[0].Probability < d.Why[0].Probability+0.01 && d.Kinds[0].Kind == d.Why[0].Kind {
		return
	}
	k := d.Kinds[0]
	p.line("  %s  of the kind: %s", p.strong(percent(k.Probability)), k.Title)
	p.line("")
}

// showSettle lists what to look at, the most telling first.
func showSettle(p *page, d *docket.Docket) {
	if len(d.Settle) == 0 {
		return
	}
	p.head("What would settle it")
	for _, s := range d.Settle[:min(len(d.Settle), 3)] {
		p.line("  %s  %s", p.strong(s.Title), p.faint(fmt.Sprintf("%d min, would tell %s", s.Minutes, s.Tells)))
		p.hangingIndent("        ", s.Do)
		for _, a := range s.Answers {
			p.hangingIndent(
				fmt.Sprintf("        %s %-5s", markNone, percent(a.Chance)),
				fmt.Sprintf("%s: then %s, %s", a.Says, a.Cause, percent(a.Probability)),
			)
		}
	}
}

// showFit says in one line for each release whether the machine is fit.
func showFit(p *page, d *docket.Docket) {
	if len(d.Ready) == 0 {
		return
	}
	p.head("Fit for")
	var rows [][]string
	for _, c := range d.Ready {
		rows = append(rows, []string{p.word(c.Report.Verdict), c.Report.Title, c.Why})
	}
	p.table([]string{"", "RELEASE", "WHY"}, rows)
}

// whoDoes says who takes a rung.
func whoDoes(by string) string {
	if by == knowledge.ByHands {
		return "by hand"
	}
	return "by Diorthos"
}

// kindOnly says where a finding goes no further than the kind of failure.
func kindOnly(f diagnosis.Finding) string {
	if f.KindOnly {
		return ", the kind only: no closer cause is known"
	}
	return ""
}

// explainsOn says what a finding explains on a docket: where no attempt failed, it is
// the next one that will.
func explainsOn(d *docket.Docket, f diagnosis.Finding) string {
	if f.Explains == knowledge.ExplainsAttempt && d.Failure == nil {
		return "what the next attempt will fail by"
	}
	return explains(f)
}

func explains(f diagnosis.Finding) string {
	switch {
	case f.Explains == "start" && f.Possible:
		return "what can keep it from starting"
	case f.Explains == "start":
		return "why it does not start"
	}
	return "why the attempt failed"
}

func (p *page) evidence(mark, word string, list []diagnosis.Evidence) {
	for _, e := range list {
		lead := fmt.Sprintf("        %s %-8s", mark, word)
		if e.Place == nil {
			p.hangingIndent(lead, e.Text)
			continue
		}
		text := e.Text
		if e.Means != "" {
			text = e.Means
		}
		p.hangingIndent(lead, at(e.Place)+": "+strings.ReplaceAll(text, "\n", " "))
	}
}

// earlier says how long it took where it was proven.
func earlier(t client.Typical) string {
	if t.Runs == 0 {
		return ""
	}
	return ", " + tookBefore(t)
}

// showToDo shows the ladder; whole says whether the rungs to which nothing points
// are to have lines of their own.
func showToDo(p *page, c *client.CaseDetail, whole bool) {
	d := c.Docket
	if len(d.ToDo) == 0 {
		return
	}
	p.head("What to do")
	left := false
	for i, r := range d.ToDo {
		if r.General && !whole {
			showGeneral(p, d.ToDo[i:])
			return
		}
		state := ""
		if o := c.Standing(r.Number); o != "" {
			state = "  " + runMark(p, o)
		}
		if r.General && !left {
			left = true
			p.line("  %s", p.faint("if none of this helps, what is left, the gentle first:"))
		}
		p.line(
			"  %d  %s  %s%s", r.Number, p.strong(r.Title),
			p.faint(
				fmt.Sprintf("%s · %s · about %d min%s", r.Invasive, whoDoes(r.By), r.Minutes, earlier(c.Typical[r.Remedy])),
			),
			state,
		)
		if r.General { // what it does stands on the sheet
			continue
		}
		p.hangingIndent("     why   ", r.Why)
		if r.Does != "" {
			p.hangingIndent("     does  ", r.Does)
		}
		if r.By == knowledge.ByDiorthos && len(r.Steps) > 0 {
			p.line("     %s", p.faint("or by hand, on the machine itself:"))
		}
		for i, s := range r.Steps {
			p.hangingIndent(fmt.Sprintf("     %d.    ", i+1), s.Do)
			p.hangingIndent("           → ", s.Shows)
		}
		if r.Proof != "" {
			p.hangingIndent("     proof ", r.Proof)
		}
	}
}

// showGeneral names in one paragraph what is left to try.
func showGeneral(p *page, rungs []ladder.Rung) {
	var titles []string
	for _, r := range rungs {
		titles = append(titles, fmt.Sprintf("%d %s", r.Number, lowerFirst(r.Title)))
	}
	p.hangingIndent("  if none of this helps  ", "the gentle first: "+strings.Join(titles, "; ")+".")
}

func lowerFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToLower(r)) + s[n:]
}

// showLooked says what a machine without a finding was looked at for, and what was
// not measured: nothing is called fine that was not.
func showLooked(p *page, d *docket.Docket) {
	if len(d.Why) > 0 || d.Failure != nil {
		return
	}
	p.head("Looked at")
	if d.Sound() {
		p.line("  %s nothing wrong was found in:", markNone)
	} else {
		p.hangingIndent("  "+p.bad(markBroken)+" ", d.Headline())
		p.line("  %s nothing else was found in:", markNone)
	}
	p.hangingIndent("    ", fmt.Sprintf("%s with %s", plural(len(d.Files), "log", "logs"),
		plural(len(d.Attempts), "attempt", "attempts")))
	for _, disk := range d.Disks {
		p.hangingIndent("    ", fmt.Sprintf("%s: its partition table", disk.Source))
	}
	if d.State == nil {
		p.hangingIndent(
			"  "+markOdd+" ", "not measured: how the machine starts, its services, settings, store and update client",
		)
		return
	}
	if len(d.State.Chain) > 0 {
		p.hangingIndent("    ", fmt.Sprintf("how it starts: %s", plural(len(d.State.Chain), "link", "links")))
	}
	for _, l := range d.State.Looked {
		if l.Problem != "" {
			p.hangingIndent("  "+p.bad(markBroken)+" ", fmt.Sprintf("%s could not be looked at: %s", l.Part, l.Problem))
		} else {
			p.hangingIndent("    ", fmt.Sprintf("%s: %s", l.Part, l.Saw))
		}
	}
}

func trialMark(p *page, o system.TrialOutcome) string {
	switch o {
	case system.GoesThrough:
		return p.good(markGood)
	case system.StillFails:
		return p.bad(markBroken)
	}
	return markNone
}

// trialText says how the failed attempt went when it was made again.
func trialText(t *system.Trial) string {
	text := fmt.Sprintf("%s on a copy: %s", t.Outcome, t.Command)
	if t.Outcome == system.NotMade {
		text = "not made: " + t.Command
	}
	if t.Why != "" {
		text += ": " + t.Why
	}
	return text
}

func runMark(p *page, o climb.Outcome) string {
	switch o {
	case climb.Proven:
		return p.good(markGood + " " + string(o))
	case climb.Planning:
		return markNone + " " + string(o) + ", nothing changed"
	case climb.NothingToDo, climb.Stopped:
		return markNone + " " + string(o)
	}
	return p.bad(markBroken + " " + string(o))
}

func showFiles(p *page, d *docket.Docket) {
	p.head("Read")
	var rows [][]string
	for _, f := range d.Files {
		var remarks []string
		if f.Problem != "" {
			remarks = append(remarks, f.Problem)
		}
		if f.Cut > 0 {
			remarks = append(remarks, plural(f.Cut, "line cut at 16 KiB", "lines cut at 16 KiB"))
		}
		if f.Unparsed > 0 {
			remarks = append(remarks, plural(f.Unparsed, "line is no record", "lines are no records"))
		}
		if f.Left > 0 {
			remarks = append(remarks, fmt.Sprintf("%d more like the kept ones left out", f.Left))
		}
		rows = append(rows, []string{
			"  " + f.Name, f.Dialect, fmt.Sprint(f.Lines), fmt.Sprint(f.Kept), strings.Join(remarks, ", "),
		})
	}
	p.table([]string{"  file", "dialect", "lines", "kept", ""}, rows, 3, 4)
	for _, l := range d.LeftOut {
		p.hangingIndent("  "+p.bad(markBroken)+" left out  ", l.Name+": "+l.Why)
	}
	if d.Masked {
		p.line("  masked at the machine: names of people and addresses were replaced before it was handed in")
	}
	if d.Harmless > 0 {
		p.line("  %s set apart: healthy machines show them too", plural(d.Harmless, "record", "records"))
	}
}

func showClimbs(p *page, climbs []client.Climb) {
	if len(climbs) == 0 {
		return
	}
	p.head("Climbs")
	for _, c := range climbs {
		p.line("  %s  by %s on %s: %s", when(c.Began), c.By, c.Host, strings.TrimSpace(string(c.State)+" "+c.Phase))
		for _, r := range c.Runs {
			showRun(p, "     ", r)
		}
		if c.Problem != "" {
			p.hangingIndent("     "+p.bad(markBroken)+" ", c.Problem)
		}
	}
}

// writesShown bounds how many things that were written are listed.
const writesShown = 12

func showRun(p *page, indent string, r climb.Run) {
	p.line("%srung %d %s  %s", indent, r.Rung, runMark(p, r.Outcome), p.faint(rounded(r.Took).String()))
	p.checks(indent+"  guard ", r.Guard)
	for _, did := range r.Did {
		p.hangingIndent(indent+"  does  ", did)
	}
	lost := "lost"
	if r.Outcome == climb.Planning {
		lost = "would be lost"
	}
	for _, what := range r.Loses {
		p.hangingIndent(indent+"  "+p.bad(markBroken)+" "+lost+" ", what)
	}
	for _, note := range r.Notes {
		p.hangingIndent(indent+"  note  "+markOdd+" ", note)
	}
	writes := climb.ByWhat(r.Planned)
	for _, w := range writes[:min(len(writes), writesShown)] {
		p.line("%s  write %s %s%s", indent, w.What, lengthOf(w), placeOf(w))
	}
	if more := len(writes) - writesShown; more > 0 {
		p.line(
			"%s  write %s", indent,
			p.faint(
				fmt.Sprintf(
					"and %s; the journal has all of them: diorthos undo --dry-run", plural(more, "more thing", "more things"),
				),
			),
		)
	}
	p.checks(indent+"  proof ", r.Proof)
	if r.Again != nil {
		p.hangingIndent(indent+"  again "+trialMark(p, r.Again.Outcome)+" ", trialText(r.Again))
	}
	if r.Journal != "" {
		p.line("%s  journal %s", indent, relative(r.Journal))
	}
}

func placeOf(w climb.Planned) string {
	if w.Offset < 0 { // a file, which is named
		return ""
	}
	return fmt.Sprintf(" at byte %d", w.Offset)
}

func lengthOf(w climb.Planned) string {
	if w.Length == 0 {
		return ""
	}
	return fmt.Sprintf("(%d bytes)", w.Length)
}

func (p *page) checks(lead string, list []action.Check) {
	for _, c := range list {
		mark := p.good(markGood)
		if !c.OK {
			mark = p.bad(markBroken)
		}
		p.hangingIndent(lead+mark+" ", c.What+": "+c.Saw)
		if !c.OK && len(c.Screen) > 0 {
			for _, l := range c.Screen[max(0, len(c.Screen)-screenShown):] {
				p.line("%s│ %s", strings.Repeat(" ", len(lead)+2), l)
			}
		}
	}
}

// screenShown bounds how much of a machine's screen is shown that was started for a check, and did not hold.
const screenShown = 15
