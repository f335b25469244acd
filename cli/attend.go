package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/climb"
	"diorthos/core/knowledge"
)

// A terminal attends a climb: it asks whoever sits before it, and shows what
// goes on. With --json nothing is asked and nothing is shown.
type terminal struct {
	c        *cli.Command
	p        *page
	in       *bufio.Scanner
	typical  map[string]client.Typical
	progress *progressLine
	// service is told of rungs of a case; nil where there is no case.
	service *reporter
}

var _ climb.Attendant = (*terminal)(nil)

func newTerminal(c *cli.Command) *terminal {
	return &terminal{c: c, p: newPage(c), in: bufio.NewScanner(c.Root().Reader)}
}

func (t *terminal) say(format string, args ...any) {
	if !t.c.Bool("json") {
		t.p.line(format, args...)
	}
}

func (t *terminal) hang(lead, text string) {
	if !t.c.Bool("json") {
		t.p.hangingIndent(lead, text)
	}
}

// ask reads one line. With --json, or at the end of the input, nobody answers.
func (t *terminal) ask(question, flag string) (string, error) {
	if t.c.Bool("json") {
		return "", unanswered(question, "with --json nothing is asked: "+flag)
	}
	_, _ = fmt.Fprintf(t.p.w, "  %s ", question)
	if !t.in.Scan() {
		t.p.line("")
		return "", unanswered(question, flag)
	}
	return strings.TrimSpace(t.in.Text()), nil
}

func unanswered(question, flag string) error {
	question, _, _ = strings.Cut(strings.TrimSpace(question), " [")
	return fmt.Errorf("%w the question %q: %s", climb.ErrUnanswered, strings.TrimSuffix(question, ":"), flag)
}

// Consent asks before what disrupts or destroys, unless a flag said it
// beforehand.
func (t *terminal) Consent(_ context.Context, q climb.Consent) (string, error) {
	if b := q.Backup; b != nil {
		t.hang("  "+t.p.good(markGood)+" ", "files of people are backed up, "+when(b.At)+" UTC: "+b.Why)
	} else {
		t.hang("  "+markOdd+" ", "no backup of people's files is known here: \"diorthos upkeep backup\" makes one first")
	}
	if q.Level != knowledge.Destroys {
		if t.c.Bool("yes") {
			return climb.Yes, nil
		}
		answer, err := t.ask("It restarts something or takes a service away for a while. Go on? [y/n]", "give --yes to go on")
		return yesOrNo(answer), err
	}
	t.say("  %s Data will be lost:", t.p.bad(markBroken))
	for _, l := range q.Losses {
		t.hang("    ", l)
	}
	if name := t.c.String("confirm"); name != "" {
		return name, nil
	}
	answer, err := t.ask(fmt.Sprintf("Type the name, %s, to go on:", q.Name), "give --confirm "+q.Name+" to go on")
	return answer, err
}

// flagFor says which flag answers a question, or that none does.
func flagFor(k climb.QuestionKind) string {
	switch k {
	case climb.AskAttempt:
		return "--window waits for the attempt"
	case climb.AskReturned:
		return "it is asked for again"
	default:
		return "only a person can answer it"
	}
}

// Answer asks a question.
func (t *terminal) Answer(_ context.Context, q climb.Question) (string, error) {
	text := q.Text + " [y/n]"
	switch q.Kind {
	case climb.AskReturned:
		text = q.Text + " [y]es, [n]ot yet, or why it stays as it is:"
	case climb.AskAttempt:
		text = q.Text + " [y]es, [n]ot yet:"
	case climb.AskStep, climb.AskAgain:
		text = "   " + text
	}
	answer, err := t.ask(text, flagFor(q.Kind))
	if err != nil {
		return "", err
	}
	return yesOrNo(answer), nil
}

// yesOrNo takes the short forms of both; anything else stays as it is.
func yesOrNo(answer string) string {
	switch strings.ToLower(answer) {
	case "y", "yes":
		return climb.Yes
	case "n", "no":
		return climb.No
	}
	return answer
}

// Progress shows what goes on, and tells the service of a case.
func (t *terminal) Progress(ctx context.Context, e climb.Event) error {
	switch e.Kind {
	case climb.RungBegins:
		t.heading(e)
		if t.service != nil && !t.c.Bool("dry-run") {
			if err := t.service.begin(ctx, e); err != nil {
				return err
			}
		}
		if e.Rung.By == knowledge.ByDiorthos {
			t.progress = newProgressLine(t.c, e.Rung, t.typical[e.Rung.Remedy])
		}
	case climb.PhaseBegins:
		if t.progress != nil {
			t.progress.phase(e.Phase)
		}
		t.service.phase(e.Phase)
	case climb.RungEnds:
		return t.ended(ctx, e)
	default:
		t.show(e)
	}
	return nil
}

func (t *terminal) heading(e climb.Event) {
	if e.Of > 1 || t.service != nil || e.Rung.Remedy != "" { // an action that was named needs no title
		title := fmt.Sprintf("Rung %d of %d  %s", e.Rung.Number, e.Of, e.Rung.Title)
		t.say("%s  %s", t.p.strong(title), t.p.faint(string(e.Rung.Invasive)))
	}
}

func (t *terminal) ended(ctx context.Context, e climb.Event) error {
	if t.progress != nil {
		t.progress.end()
		t.progress = nil
	}
	if e.Run != nil && !t.c.Bool("json") && e.Rung.By == knowledge.ByDiorthos {
		showRun(t.p, "  ", *e.Run)
	}
	if e.Run != nil && e.Run.Outcome == climb.NothingToDo && e.Of > 1 {
		t.say("  %s nothing to do here, on to the next", markNone)
	}
	if t.c.Bool("dry-run") {
		return nil
	}
	return t.service.end(ctx, e)
}

// show shows the smaller events.
func (t *terminal) show(e climb.Event) {
	switch e.Kind {
	case climb.StepBegins:
		lead := fmt.Sprintf("  %d. ", e.Step)
		if t.c.Bool("dry-run") {
			lead = "  □ "
		}
		t.hang(lead, e.Rung.Steps[e.Step-1].Do)
	case climb.StepMeasured:
		mark := t.p.good(markGood)
		if !e.Check.OK {
			mark = t.p.bad(markBroken)
		}
		saw := e.Check.Saw
		if !e.Check.OK {
			saw += " yet"
		}
		t.say("     %s %s", mark, saw)
	case climb.LoanOwed:
		if e.Text != "" {
			t.say("%s %s", t.p.bad(markBroken), e.Text)
		}
		t.hang(
			"  "+markOdd+" ",
			strings.TrimSpace(fmt.Sprintf("borrowed by rung %d: %s. %s", e.Loan.Rung, e.Loan.What, e.Loan.Back)),
		)
	case climb.LoanReturned:
		t.say("  %s given back: %s", t.p.good(markGood), strings.Join(e.Run.Did, "; "))
	case climb.Waiting, climb.Remark:
		t.hang("  "+markNone+" ", e.Text)
	}
}

// A reporter keeps the service told of the rungs of one case. Losing the service
// in the middle does not stop a change that has begun. A nil one tells nobody.
type reporter struct {
	service *client.Client
	number  int64
	climb   int64
	phases  chan string
	stopped chan struct{}
}

// heartbeat is how often a climb tells the service that it goes on.
const heartbeat = 10 * time.Second

func (r *reporter) begin(ctx context.Context, e climb.Event) error {
	started, err := r.service.StartClimb(ctx, r.number, client.ClimbStart{Host: hostName(), Rung: e.Rung.Number})
	if err != nil {
		return err
	}
	r.climb, r.phases, r.stopped = started.ID, make(chan string, 8), make(chan struct{})
	go r.beat(context.WithoutCancel(ctx), r.phases, r.stopped)
	return nil
}

// beat tells phases as they come and, between them, that the climb goes on. What
// the service misses of it is in the run.
func (r *reporter) beat(ctx context.Context, phases <-chan string, stopped chan<- struct{}) {
	defer close(stopped)
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	phase := climb.Looking
	for {
		select {
		case name, ok := <-phases:
			if !ok {
				return
			}
			phase = name
		case <-tick.C:
		}
		once, cancel := context.WithTimeout(ctx, heartbeat)
		_, _ = r.service.ReportClimb(once, r.climb, client.ClimbReport{State: client.Running, Phase: phase})
		cancel()
	}
}

func (r *reporter) phase(name string) {
	if r != nil && r.phases != nil {
		r.phases <- name
	}
}

// end tells how a rung ended, also when the climb was told to stop. The disk is
// in a known state by then, whether this arrives or not.
func (r *reporter) end(ctx context.Context, e climb.Event) error {
	if r == nil || r.climb == 0 {
		return nil
	}
	close(r.phases)
	<-r.stopped
	report := client.ClimbReport{State: client.Ended, Run: e.Run}
	if e.Err != nil {
		report.Problem = oneLine(e.Err)
	}
	if e.Run == nil || e.Run.Outcome == climb.CutOff || e.Run.Outcome == climb.Stopped {
		report.State = client.CutOff
	}
	id := r.climb
	r.climb, r.phases = 0, nil
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	if _, err := r.service.ReportClimb(ctx, id, report); err != nil {
		return fmt.Errorf("the disk is as shown, but the service could not be told: %w", err)
	}
	return nil
}

// afterClimb tells a refusal, which is a finding, from a failure to work.
func afterClimb(c *cli.Command, err, errOut error) error {
	for _, found := range []error{
		climb.ErrGuard, climb.ErrProof, climb.ErrBlocked, climb.ErrStopped, climb.ErrCutOff, climb.ErrStillFails,
	} {
		if errors.Is(err, found) {
			_, _ = fmt.Fprintln(c.Root().ErrWriter, "diorthos:", oneLine(err))
			return errors.Join(errFound, errOut)
		}
	}
	return errors.Join(err, errOut)
}
