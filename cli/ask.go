package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/client"
	"diorthos/core/ask"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/units"
)

const askHelp = `TEXT is what stands on a screen, or what somebody reads aloud: words or a code, whole or in parts,
mistyped or misheard. Without TEXT it is read from standard input. Says which message that is and
who shows it, the causes it points to, the question whose answer tells most, and what to do. At a
terminal it goes on by asking; --answer CHECK=N answers without a dialogue. Exit status 1 if nothing
is known that the words could mean.

Examples:
   diorthos ask "alert uuid does not exist dropping to a shell"
   diorthos ask --when start colonel panic not sinking unable to mount route
   diorthos ask 0x40170002
   diorthos ask --answer inodes=2 "no space left on device"
   diorthos ask --open-case kestrel-office-3 --when start "alert uuid does not exist"

--open-case begins a case at the service with these words and what was answered; a bag of the
machine that is handed in later joins it.`

func askCommand() *cli.Command {
	return &cli.Command{
		Name: "ask", Usage: "say what words or a code from a screen point to", ArgsUsage: "[TEXT…]", Description: askHelp,
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "open-case", Usage: "begin a case of `MACHINE` with these words"},
			&cli.StringFlag{Name: "site", Usage: "where that machine stands"},
			&cli.StringFlag{Name: "when", Usage: "`TIME` at which it is shown: start, or attempt for an install or update"},
			&cli.StringFlag{Name: "family", Usage: "`FAMILY` of the system, such as debian"},
			&cli.StringSliceFlag{Name: "answer", Usage: "`CHECK=N`: the N-th answer to a check; once more for each further one"},
			jsonFlag(),
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			q, in, err := whatIsAsked(c, k)
			if err != nil {
				return err
			}
			a, err := ask.About(q, k)
			if err != nil {
				return usage(c, err)
			}
			if c.Bool("json") && !c.IsSet("open-case") {
				_, err := writeJSON(c, a)
				return nothingMeant(a, err)
			}
			p := newPage(c)
			if !c.Bool("json") {
				showAnswer(p, a)
				if in != nil && atTerminal(c) {
					if err := goOn(p, in, q, a, k); err != nil {
						return err
					}
				}
			}
			if c.IsSet("open-case") {
				return openCall(ctx, c, p, q)
			}
			return nothingMeant(a, nil)
		},
	}
}

// openCall begins a case with the words, and what was answered.
func openCall(ctx context.Context, c *cli.Command, p *page, q ask.Question) error {
	accepted, err := service(c).OpenCall(ctx, client.NewCall{
		Machine: c.String("open-case"), Site: c.String("site"), Words: q.Text, When: q.When, Answers: q.Answers,
	})
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, accepted); done {
		return err
	}
	p.line("")
	p.line("%s case %d of %s begins with these words", markGood, accepted.Number, accepted.Machine)
	p.para(
		2,
		fmt.Sprintf("A bag of %s that is handed in joins it: diorthos gather, then diorthos submit.", accepted.Machine),
	)
	return nil
}

func nothingMeant(a *ask.Answer, err error) error {
	if err == nil && len(a.Why) == 0 {
		return errFound
	}
	return err
}

// atTerminal reports whether somebody sits there who can be asked.
func atTerminal(c *cli.Command) bool {
	in, okIn := c.Root().Reader.(*os.File)
	out, okOut := c.Root().Writer.(*os.File)
	return okIn && okOut && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}

// maxAsked bounds what is read from standard input, in bytes.
const maxAsked = 64 << 10

// whatIsAsked is what the flags and arguments ask; in is where answers come from, nil
// when the words came from there.
func whatIsAsked(c *cli.Command, k *knowledge.Knowledge) (q ask.Question, in *bufio.Scanner, err error) {
	q = ask.Question{
		Text: strings.Join(c.Args().Slice(), " "), When: c.String("when"), Family: c.String("family"),
		Answers: map[string]int{},
	}
	if q.When != "" && q.When != knowledge.ExplainsStart && q.When != knowledge.ExplainsAttempt {
		return q, nil, usage(c, fmt.Errorf("--when %q: want start or attempt", q.When))
	}
	if q.Family != "" && k.Families[q.Family] == nil {
		return q, nil, usage(c, fmt.Errorf("--family %q: no family is called so", q.Family))
	}
	for _, a := range c.StringSlice("answer") {
		check, number, _ := strings.Cut(a, "=")
		n, err := strconv.Atoi(number)
		if err != nil {
			return q, nil, usage(c, fmt.Errorf("--answer %q: want CHECK=N", a))
		}
		q.Answers[check] = n
	}
	if info, err := os.Stat(q.Text); q.Text != "" && err == nil && info.Mode().IsRegular() {
		return q, nil, usage(c, fmt.Errorf("%s is a file: give it as \"diorthos ask <%[1]s\", or to diorthos read", q.Text))
	}
	in = bufio.NewScanner(c.Root().Reader)
	if q.Text != "" && q.Text != "-" {
		return q, in, nil
	}
	if atTerminal(c) {
		_, _ = fmt.Fprint(c.Root().Writer, "What stands on the screen? ")
		if in.Scan() {
			q.Text = in.Text()
		}
		return q, in, nil
	}
	raw, err := io.ReadAll(io.LimitReader(c.Root().Reader, maxAsked))
	q.Text = string(raw)
	return q, nil, err
}

func showAnswer(p *page, a *ask.Answer) {
	if len(a.Messages) == 0 && len(a.Why) == 0 {
		p.line("%s no message and no cause is known that these words could mean", markNone)
		p.para(2, "Give more of the words that stand there. What helps else is evidence: diorthos diagnose --image DISK, "+
			"--live, or the logs with diorthos read.")
		return
	}
	if len(a.Messages) > 0 {
		p.head("Which message")
		for _, m := range a.Messages[:min(len(a.Messages), 3)] {
			p.hangingIndent(fmt.Sprintf("  %5s  ", percent(m.Share)), filledIn(m.Message.Says))
			where := fmt.Sprintf("%s, at %s", m.Message.By, m.Message.At)
			if m.Message.Code != "" {
				where += ", code " + m.Message.Code
			}
			p.line("         %s", p.faint(where))
		}
	}
	if len(a.Given) > 0 {
		p.head("Answered")
		for _, g := range a.Given {
			p.hangingIndent("  "+markGood+" ", g.Title+" "+g.Answer)
		}
	}
	showCauses(p, a)
	showSettle(p, &docket.Docket{Settle: a.Next[:min(len(a.Next), 1)]})
	if len(a.ToDo) == 0 {
		return
	}
	p.head("What to do")
	for _, r := range a.ToDo[:min(len(a.ToDo), 5)] {
		p.line("  %d  %s  %s", r.Number, p.strong(r.Title),
			p.faint(fmt.Sprintf("%s · %s · about %d min", r.Invasive, whoDoes(r.By), r.Minutes)))
		for i, s := range r.Steps {
			p.hangingIndent(fmt.Sprintf("     %d. ", i+1), s.Do)
		}
	}
	if len(a.Jobs) > 0 {
		p.head("Jobs like this, walked to the proof")
		for _, j := range a.Jobs[:min(len(a.Jobs), 3)] {
			p.line("  docs/jobs/%02d  %s", j.Number, j.Title)
		}
	}
	p.line("")
	p.para(2, "Words alone do not prove it. With the machine at hand: diorthos diagnose --image DISK, or --live.")
}

// filledIn is a message as it stands on a screen, with an ellipsis for what differs.
func filledIn(says string) string { return differs.ReplaceAllString(says, "…") }

var differs = regexp.MustCompile(`\{\w+\}`)

func showCauses(p *page, a *ask.Answer) {
	if len(a.Why) == 0 {
		return
	}
	p.head("What it points to")
	left := 1.0
	for _, f := range a.Why[:min(len(a.Why), 5)] {
		p.line("  %5s  %s  %s", percent(f.Probability), p.strong(f.Title), p.faint(explains(f)))
		p.para(9, f.Tell)
		left -= f.Probability
	}
	if left > 0.05 {
		p.line("  %5s  %s", units.Percent(left), p.faint("something else"))
	}
}

// goOn asks question after question, the most telling first, until the answers end or
// nothing is left to ask.
func goOn(p *page, in *bufio.Scanner, q ask.Question, a *ask.Answer, k *knowledge.Knowledge) error {
	for len(a.Next) > 0 {
		next := a.Next[0]
		p.line("")
		p.line("%s", p.strong(next.Title))
		p.hangingIndent("  ", next.Do)
		for i, o := range next.Answers {
			p.line("  %d  %s", i+1, o.Says)
		}
		_, _ = fmt.Fprint(p.w, "  which? a number, or Enter to end: ")
		if !in.Scan() {
			return in.Err()
		}
		text := strings.TrimSpace(in.Text())
		if text == "" {
			return nil
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > len(next.Answers) {
			p.line("  %s want a number from 1 to %d", markOdd, len(next.Answers))
			continue
		}
		q.Answers[next.Check] = next.Answers[n-1].Number
		again, err := ask.About(q, k)
		if err != nil {
			return err
		}
		a = again
		showAnswer(p, a)
	}
	return nil
}
