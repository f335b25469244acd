package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/fleet"
)

func cohortsCommand() *cli.Command {
	return &cli.Command{
		Name: "cohorts", Usage: "list failures that several machines have, or show one", ArgsUsage: "[NUMBER]",
		Description: "A cohort is all cases that are the same failure: which machines, since when, what they have in " +
			"common\n" +
			"that others have not, and what helped.\n\n" +
			"Examples:\n" +
			"   diorthos cohorts\n" +
			"   diorthos cohorts 3\n" +
			"   diorthos cohorts 3 --name 'November kiosks'\n" +
			"   diorthos cohorts 7 --into 3",
		Flags: append(
			serviceFlags(),
			&cli.StringFlag{Name: "name", Usage: "what it is to be called"},
			&cli.BoolFlag{Name: "mute", Usage: "tell nobody when it becomes an outbreak"},
			&cli.BoolFlag{Name: "unmute", Usage: "tell people again"},
			&cli.IntFlag{Name: "into", Usage: "it belongs to cohort `NUMBER`, now and for cases to come; 0 for none"},
			&cli.StringFlag{
				Name:  "split",
				Usage: "split it by a `TRAIT` of the machines, for cases to come: site, model, release, firmware or kernel",
			},
			&cli.IntFlag{Name: "after", Usage: "only cohorts behind this `NUMBER` of the list"},
			&cli.IntFlag{Name: "limit", Usage: "cohorts on a page, 1 to 200", Value: 40},
			jsonFlag(),
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage(c, fmt.Errorf("want one NUMBER, got %d", c.Args().Len()))
			}
			if c.Args().Len() == 0 {
				return listCohorts(ctx, c)
			}
			id, err := numberOf(c, c.Args().First(), "a cohort")
			if err != nil {
				return err
			}
			if change, any := cohortChange(c); any {
				done, err := service(c).ChangeCohort(ctx, id, change)
				if err != nil {
					return err
				}
				if said, err := writeJSON(c, done); said {
					return err
				}
				newPage(c).line("%s cohort %d: %s", markGood, done.ID, done.Called())
				return nil
			}
			return showCohort(ctx, c, id)
		},
	}
}

func cohortChange(c *cli.Command) (change client.CohortChange, any bool) {
	if c.IsSet("name") {
		name := c.String("name")
		change.Name, any = &name, true
	}
	if c.Bool("mute") || c.Bool("unmute") {
		muted := c.Bool("mute")
		change.Muted, any = &muted, true
	}
	if c.IsSet("into") {
		into := int64(c.Int("into"))
		change.Into, any = &into, true
	}
	if c.IsSet("split") {
		by := c.String("split")
		change.By, any = &by, true
	}
	return change, any
}

func listCohorts(ctx context.Context, c *cli.Command) error {
	page, err := service(c).Cohorts(ctx, int64(c.Int("after")), c.Int("limit"))
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, page); done {
		return err
	}
	p := newPage(c)
	if len(page.Cohorts) == 0 {
		p.line("No machine has failed yet. A cohort is made by the first case: diorthos submit BAG")
		return nil
	}
	var rows [][]string
	for _, k := range page.Cohorts {
		rows = append(rows, []string{
			strconv.FormatInt(
				k.ID,
				10,
			), strconv.Itoa(k.Machines), when(k.First), when(k.Last), outbreakWord(k), k.Called(), k.Fingerprint.Object,
		})
	}
	p.table([]string{"№", "machines", "first", "last", "", "failure", "of"}, rows, 5)
	if page.Next > 0 {
		p.line("%s", p.faint(fmt.Sprintf("more: diorthos cohorts --after %d", page.Next)))
	}
	return nil
}

func outbreakWord(k client.Cohort) string {
	switch {
	case k.Muted:
		return "muted"
	case k.Outbreak == nil:
		return ""
	case k.Outbreak.Held != "" && k.Outbreak.LiftedAt == nil:
		return markBroken + " outbreak, held"
	}
	return markBroken + " outbreak"
}

func showCohort(ctx context.Context, c *cli.Command, id int64) error {
	d, err := service(c).Cohort(ctx, id)
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, d); done {
		return err
	}
	p := newPage(c)
	p.line(
		"%s  %s",
		p.strong(d.Called()),
		p.faint(fmt.Sprintf("cohort %d · %s · since %s", d.ID, plural(d.Machines, "machine", "machines"), when(d.First))),
	)
	if d.Outbreak != nil {
		p.line(
			"%s outbreak %d, raised %s, when %s had failed",
			p.bad(markBroken),
			d.Outbreak.ID,
			when(d.Outbreak.Raised),
			plural(d.Outbreak.Machines, "machine", "machines"),
		)
		if d.Outbreak.Held != "" && d.Outbreak.LiftedAt == nil {
			p.line("  held back: %s, by %s", d.Outbreak.Held, d.Outbreak.HeldBy)
		}
	}
	p.head("The same in all")
	f := d.Fingerprint
	for _, row := range [][2]string{
		{"cause", f.Cause}, {"kind", f.Kind}, {"of", f.Object}, {"said by", f.Speaker}, {"words", f.Template}, {"stage",
			f.Stage}, {"link", f.Link},
	} {
		if row[1] != "" {
			p.hangingIndent(fmt.Sprintf("  %-8s ", row[0]), row[1])
		}
	}
	showSharedTraits(p, d)
	p.head("Where")
	p.line("  by site   %s", tallies(d.Sites))
	p.line("  by model  %s", tallies(d.Models))
	p.line("  by day    %s", tallies(d.Days))
	if len(d.Helped) > 0 {
		p.head("What helped")
		for _, h := range d.Helped {
			p.line("  %s %s: proven on %d, failed on %d", markOf(h.Proven > 0), h.Title, h.Proven, h.Failed)
		}
	}
	p.head("Machines")
	var rows [][]string
	for _, k := range d.Cases {
		rows = append(
			rows,
			[]string{k.Machine, k.Site, strconv.FormatInt(k.Number, 10), stateMark(k.State), when(k.Received)},
		)
	}
	p.table([]string{"machine", "site", "case", "state", "handed in"}, rows, 1)
	return nil
}

func markOf(good bool) string {
	if good {
		return markGood
	}
	return markBroken
}

func tallies(list []client.MachineCount) string {
	var words []string
	for _, t := range list {
		words = append(words, fmt.Sprintf("%s %d", t.What, t.Machines))
	}
	return strings.Join(words, ", ")
}

func showSharedTraits(p *page, d *client.CohortDetail) {
	p.head("What they have in common, and others not")
	if len(d.Shared) == 0 {
		p.line(
			"  %s nothing that could not be so by chance, of %s compared",
			markNone,
			plural(d.Looked, "attribute", "attributes"),
		)
		return
	}
	for _, s := range d.Shared {
		p.hangingIndent("  "+p.bad(markBroken)+" ", fmt.Sprintf(
			"%s: %d of %d, and %d of %d others; odds %.0f to %.0f times",
			s.Attribute,
			s.Failing,
			s.Of,
			s.Others,
			s.OfOthers,
			s.Low,
			s.High,
		))
	}
	p.line(
		"  %s",
		p.faint(
			fmt.Sprintf(
				"of %s compared; at most one in twenty of these is so by chance",
				plural(d.Looked, "attribute", "attributes"),
			),
		),
	)
}

func outbreaksCommand() *cli.Command {
	return &cli.Command{
		Name: "outbreaks", Usage: "list failures that are suddenly common, and hold back what brings them",
		ArgsUsage: "[NUMBER]",
		Description: "An outbreak is raised once, by a sequential test, as soon as a failure comes far more often " +
			"than before.\n" +
			"What is held is told to people and to their tools (webhook, e-mail), and every machine of the kind that " +
			"has an\n" +
			"agent keeps its own tools from beginning it, until it is lifted. WHAT is, of a Debian machine, PACKAGE,\n" +
			"PACKAGE=VERSION or 'release CODENAME'; of a Corbel one the title or number of what is on offer.\n\n" +
			"Examples:\n" +
			"   diorthos outbreaks\n" +
			"   diorthos outbreaks 1 --hold 'Corbel 7.2 update of November'\n" +
			"   diorthos outbreaks 1 --lift",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "hold", Usage: "hold `WHAT` back: a release, an update or a package"},
			&cli.BoolFlag{Name: "lift", Usage: "hold it back no longer"}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 1 {
				return hold(ctx, c)
			}
			if c.Args().Present() || c.IsSet("hold") || c.Bool("lift") {
				return usage(c, errors.New("want the NUMBER of one outbreak"))
			}
			list, err := service(c).Outbreaks(ctx)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, list); done {
				return err
			}
			p := newPage(c)
			if len(list) == 0 {
				p.line("%s no failure is suddenly common", markGood)
				return nil
			}
			var rows [][]string
			going := false
			for _, o := range list {
				state := "goes on"
				if o.Ended != nil {
					state = "over since " + when(*o.Ended)
				} else {
					going = true
				}
				held := ""
				if o.Held != "" && o.LiftedAt == nil {
					held = fmt.Sprintf("%s, by %s, on %d of %d", o.Held, o.HeldBy, o.HeldOn, o.HeldOf)
				}
				rows = append(rows, []string{
					strconv.FormatInt(
						o.ID,
						10,
					), o.Title, strconv.Itoa(o.Now), when(o.Raised), state, held, strconv.FormatInt(o.Cohort, 10),
				})
			}
			p.table([]string{"№", "failure", "machines", "raised", "state", "held back", "cohort"}, rows, 1)
			for _, o := range list {
				if o.Suspect != "" && o.Ended == nil && (o.Held == "" || o.LiftedAt != nil) {
					p.hangingIndent("  ", fmt.Sprintf(
						"outbreak %d points to %s, which nobody holds back: diorthos outbreaks %d --hold '%s'",
						o.ID, o.Suspect, o.ID, o.Suspect))
				}
				showHoldProblems(p, o)
			}
			if going {
				return errFound
			}
			return nil
		},
	}
}

// showHoldProblems says which machines do not hold something back, those together for which it is the same.
func showHoldProblems(p *page, o client.Outbreak) {
	why := map[string][]string{}
	for _, m := range o.HoldProblems {
		why[m.Problem] = append(why[m.Problem], m.Machine)
	}
	for _, problem := range sortedKeys(why) {
		who := why[problem][0] + " does"
		if n := len(why[problem]); n > 1 {
			who = fmt.Sprintf("%d machines do", n)
		}
		p.hangingIndent("  "+p.bad(markBroken)+" ", fmt.Sprintf("%s not hold %s back: %s", who, o.Held, problem))
	}
}

func hold(ctx context.Context, c *cli.Command) error {
	id, err := numberOf(c, c.Args().First(), "an outbreak")
	if err != nil {
		return err
	}
	if c.Bool("lift") == (c.String("hold") != "") {
		return usage(c, errors.New("want either --hold WHAT or --lift"))
	}
	o, err := service(c).Hold(ctx, id, c.String("hold"))
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, o); done {
		return err
	}
	if c.Bool("lift") {
		newPage(c).line("%s %s is no longer held back", markGood, o.Held)
	} else {
		newPage(c).line("%s %s is held back, by %s: told to everybody, and to %s, of which %d hold it back so far",
			markGood, o.Held, o.HeldBy, plural(o.HeldOf, "agent", "agents"), o.HeldOn)
	}
	return nil
}

// showTwin says which healthy machine is most like one, and how they differ.
func showTwin(ctx context.Context, c *cli.Command, name string) error {
	r, err := service(c).Twin(ctx, name, c.String("against"))
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, r); done {
		return err
	}
	p := newPage(c)
	if len(r.Twins) == 0 {
		p.line("%s no healthy machine of this model and release is known, to compare %s with", markNone, name)
		return nil
	}
	p.head("Healthy machines most like it")
	for _, t := range r.Twins {
		p.line("  %s  %s", t.Machine, p.faint(fmt.Sprintf("%.0f %% of what is known of both is the same", 100*t.Alike)))
	}
	p.line(
		"  %s",
		p.faint(fmt.Sprintf("of %s of its model and release", plural(r.Looked, "healthy machine", "healthy machines"))),
	)
	p.head("What differs from " + r.Against)
	if len(r.Differences) == 0 {
		p.line("  %s nothing that is known", markNone)
		return nil
	}
	var rows [][]string
	for _, d := range r.Differences[:min(len(r.Differences), 40)] {
		rows = append(rows, []string{
			d.Trait, orDash(d.Here), orDash(d.There), fmt.Sprintf("%d of %d", d.Healthy, d.OfHealthy), fmt.Sprintf("%d of %d",
				d.Failing, d.OfFailing),
		})
	}
	p.table([]string{"", "here", "on the twin", "healthy ones like here", "failing ones like here"}, rows, 1)
	if more := len(r.Differences) - 40; more > 0 {
		p.line("  %s", p.faint(fmt.Sprintf("and %d more: --json lists all", more)))
	}
	return nil
}

func orDash(text string) string {
	if text == "" {
		return "–"
	}
	return text
}

// learnedCommand shows what outcomes have taught.
func learnedCommand() *cli.Command {
	return &cli.Command{
		Name: "learned", Usage: "show what outcomes at this site have taught of each remedy",
		Description: "Each remedy that was proven, did not help or was taken back counts, one machine once, and no " +
			"one person\n" +
			"decides alone. While it is frozen nothing new counts: look at what waits, and freeze it anew to accept\n" +
			"that. The version of what counts stands on each docket.\n\n" +
			"Examples:\n   diorthos knowledge learned\n   diorthos knowledge learned --freeze\n" +
			"   diorthos knowledge learned --json > learned.json",
		Flags: append(serviceFlags(), jsonFlag(),
			&cli.BoolFlag{Name: "freeze", Usage: "let what was learned so far count, and nothing that comes"},
			&cli.BoolFlag{Name: "thaw", Usage: "let all count again"},
			&cli.BoolFlag{Name: "reset", Usage: "forget what was learned so far: the shipped chances count"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			var do []client.LearnedWhat
			for _, what := range []client.LearnedWhat{client.FreezeLearned, client.ThawLearned, client.ResetLearned} {
				if c.Bool(string(what)) {
					do = append(do, what)
				}
			}
			if len(do) > 1 {
				return errors.New("want one of --freeze, --thaw and --reset")
			}
			ask := service(c).Learned
			if len(do) == 1 {
				ask = func(ctx context.Context) (*client.Taught, error) { return service(c).ChangeLearned(ctx, do[0]) }
			}
			learned, err := ask(ctx)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, learned); done {
				return err
			}
			p := newPage(c)
			if learned.Frozen != nil {
				p.line("Frozen since %s by %s.", when(*learned.Frozen), learned.By)
			}
			if learned.Since != nil {
				p.line("What came of climbs before %s is forgotten.", when(*learned.Since))
			}
			list := learned.Counts
			if learned.Frozen != nil && len(learned.Waiting) > 0 {
				p.line("%s %s; --freeze accepts it.", markOdd, plural(len(learned.Waiting), "remedy waits", "remedies wait"))
				for _, l := range learned.Waiting {
					p.line("  %s for %s: helped %d of %d, %s", l.Remedy, l.Cause, l.Helped, l.Tried, percent(l.Helps))
				}
			}
			return printList(
				c, list, "No remedy has been tried yet. A climb tells what came of it: diorthos climb NUMBER …",
				[]string{"remedy", "cause", "helped", "as shipped", "as learned"},
				func(l fleet.Learned) []string {
					return []string{
						l.Remedy, l.Cause, fmt.Sprintf("%d of %d", l.Helped, l.Tried), percent(l.Shipped),
						percent(l.Helps) + " (" + interval(l) + ")",
					}
				}, 1,
			)
		},
	}
}

func interval(l fleet.Learned) string { return fmt.Sprintf("%.0f to %.0f %%", 100*l.Low, 100*l.High) }
