package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
)

func wavesCommand() *cli.Command {
	return &cli.Command{
		Name: "waves", Usage: "offer a repair that was proven to all machines that fail in the same way, in waves",
		ArgsUsage: "[NUMBER]",
		Description: "First one machine, then three at other sites, then a tenth, then three tenths, then the rest. A " +
			"wave goes on\n" +
			"when the one before it is through and its proofs hold; it halts when too many fail, or one is lost.\n\n" +
			"Examples:\n" +
			"   diorthos waves\n" +
			"   diorthos waves --offer remove-latest-update --cohort 4 --preview\n" +
			"   diorthos waves --offer remove-latest-update --cohort 4\n" +
			"   diorthos waves 1 --take-back",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "offer", Usage: "offer the remedy with this `NAME`"},
			&cli.IntFlag{Name: "cohort", Usage: "to the cohort of this `NUMBER`"},
			&cli.BoolFlag{Name: "paused", Usage: "plan it, and begin when somebody lets it go on with --go-on"},
			&cli.BoolFlag{Name: "preview", Usage: "say who would be in which wave and who is left out, and begin nothing"},
			&cli.BoolFlag{Name: "pause", Usage: "begin no further wave"},
			&cli.BoolFlag{Name: "go-on", Usage: "go on after a pause or a halt"},
			&cli.BoolFlag{Name: "stop", Usage: "give no further order"},
			&cli.BoolFlag{Name: "take-back", Usage: "undo it on the machines where it was done, the newest first"},
			jsonFlag()),
		Action: waves,
		Commands: []*cli.Command{{
			Name: "rules", Usage: "show or set when, and on how many machines at once, orders are begun at a site",
			ArgsUsage: "[SITE]",
			Description: "An order that was begun is carried out to its end. Without a rule they are begun at any hour,\n" +
				"on any number.\n\n" +
				"Examples:\n" +
				"   diorthos waves rules\n" +
				"   diorthos waves rules 'Lerrick Terminal' --window 20:00-05:00 --zone Europe/Oslo --at-once 2\n" +
				"   diorthos waves rules 'Lerrick Terminal' --window always --hold-outbreaks",
			Flags: append(serviceFlags(),
				&cli.StringFlag{Name: "window", Usage: "`FROM-TO`, as 20:00-05:00; or always"},
				&cli.StringFlag{Name: "zone", Usage: "zone of these times, such as Europe/Oslo", Value: "UTC"},
				&cli.IntFlag{Name: "at-once", Usage: "machines at a time; 0 for any number"},
				&cli.BoolFlag{
					Name:  "hold-outbreaks",
					Usage: "hold back at once the package or update that an outbreak points to; --hold-outbreaks=false for by hand",
				}, jsonFlag()),
			Action: siteRules,
		}},
	}
}

func siteRules(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usage(c, errors.New("want one SITE: put its name between quotation marks"))
	}
	list, err := service(c).SiteRules(ctx)
	if err != nil {
		return err
	}
	if c.Args().Present() && slices.ContainsFunc([]string{"window", "zone", "at-once", "hold-outbreaks"}, c.IsSet) {
		rule, err := changedRule(c, list)
		if err != nil {
			return err
		}
		if _, err := service(c).SetSiteRule(ctx, rule); err != nil {
			return err
		}
		if list, err = service(c).SiteRules(ctx); err != nil {
			return err
		}
	}
	return printList(
		c, list, "No site has a rule: orders are begun at any hour, on any number of machines at once",
		[]string{"site", "machines", "orders are begun", "at once", "outbreaks are held", "by", "since (UTC)"},
		siteRuleRow, 0,
	)
}

func siteRuleRow(r client.SiteRule) []string {
	window, atOnce := "always", "any number"
	if r.Opens != "" {
		window = fmt.Sprintf("%s to %s %s", r.Opens, r.Closes, r.Zone)
	}
	if r.AtOnce > 0 {
		atOnce = strconv.Itoa(r.AtOnce)
	}
	machines := strconv.Itoa(r.Machines)
	if r.Machines == 0 {
		machines = "none: is the name right?"
	}
	holds := "by hand"
	if r.Holds {
		holds = "at once"
	}
	return []string{r.Site, machines, window, atOnce, holds, r.By, when(r.At)}
}

// changedRule is the rule of a site with what the flags say; the rest stays as it is.
func changedRule(c *cli.Command, list []client.SiteRule) (client.SiteRule, error) {
	rule := client.SiteRule{Site: c.Args().First(), Zone: c.String("zone")}
	if i := slices.IndexFunc(list, func(r client.SiteRule) bool { return r.Site == rule.Site }); i >= 0 {
		rule = list[i]
	}
	if c.IsSet("zone") {
		rule.Zone = c.String("zone")
	}
	if c.IsSet("at-once") {
		rule.AtOnce = c.Int("at-once")
	}
	if c.IsSet("hold-outbreaks") {
		rule.Holds = c.Bool("hold-outbreaks")
	}
	switch w := c.String("window"); w {
	case "":
	case "always":
		rule.Opens, rule.Closes = "", ""
	default:
		var ok bool
		if rule.Opens, rule.Closes, ok = strings.Cut(w, "-"); !ok {
			return rule, usage(c, fmt.Errorf("--window %q: want FROM-TO, as 20:00-05:00, or always", w))
		}
	}
	rule.Machines, rule.By, rule.At = 0, "", time.Time{} // the service says these
	return rule, nil
}

func waves(ctx context.Context, c *cli.Command) error {
	switch {
	case c.String("offer") != "":
		if c.Int("cohort") <= 0 || c.Args().Present() {
			return usage(c, errors.New("--offer wants --cohort NUMBER"))
		}
		r, err := service(c).Offer(ctx, client.RolloutWish{
			Cohort: int64(c.Int("cohort")), Remedy: c.String("offer"), Preview: c.Bool("preview"), Paused: c.Bool("paused"),
		})
		if err != nil {
			return err
		}
		return showRollout(c, r)
	case !c.Args().Present():
		return listRollouts(ctx, c)
	}
	a, err := args(c, "NUMBER")
	if err != nil {
		return err
	}
	id, err := numberOf(c, a[0], "a roll-out")
	if err != nil {
		return err
	}
	for flag, state := range map[string]string{"pause": "paused", "go-on": "going", "stop": "stopped",
		"take-back": "taking back"} {
		if c.Bool(flag) {
			r, err := service(c).ChangeRollout(ctx, id, state)
			if err != nil {
				return err
			}
			return showRollout(c, r)
		}
	}
	r, err := service(c).Rollout(ctx, id)
	if err != nil {
		return err
	}
	return showRollout(c, r)
}

func listRollouts(ctx context.Context, c *cli.Command) error {
	list, err := service(c).Rollouts(ctx)
	if err != nil {
		return err
	}
	return printList(
		c, list,
		"No repair goes round yet. One that was proven on a machine can be offered to its cohort: diorthos waves --help",
		[]string{"№", "repair", "state", "wave", "machines", "begun", "by"},
		func(r client.Rollout) []string {
			return []string{
				strconv.FormatInt(r.ID, 10), r.Title, r.State, fmt.Sprintf("%d of %d", r.Wave, r.Waves), tallyWords(r),
				when(r.Begun), r.By,
			}
		}, 1,
	)
}

func tallyWords(r client.Rollout) string {
	var words []string
	for _, t := range []struct {
		n    int
		what string
	}{
		{r.Tally.Proven, "proven"}, {r.Tally.Running, "at it"}, {r.Tally.Waiting, "waiting"}, {r.Tally.Failed, "failed"},
		{r.Tally.Refused, "refused"}, {r.Tally.Lost, "lost"}, {r.Tally.TakenBack, "taken back"},
	} {
		if t.n > 0 {
			words = append(words, fmt.Sprintf("%d %s", t.n, t.what))
		}
	}
	return strings.Join(words, ", ")
}

func showRollout(c *cli.Command, r *client.Rollout) error {
	if done, err := writeJSON(c, r); done {
		return err
	}
	p := newPage(c)
	state := r.State
	if r.ID == 0 {
		state = "a preview: nothing was begun"
	}
	p.line(
		"%s  %s",
		p.strong(r.Title),
		p.faint(fmt.Sprintf("cohort %d · %s · %s · by %s", r.Cohort, r.Invasive, state, r.By)),
	)
	if r.Why != "" {
		p.line("  %s", r.Why)
	}
	if r.ID > 0 {
		p.line("  roll-out %d, wave %d of %d: %s", r.ID, r.Wave, r.Waves, tallyWords(*r))
	}
	var rows [][]string
	for _, m := range r.Members {
		wave := "–"
		if m.Wave > 0 {
			wave = strconv.Itoa(m.Wave)
		}
		rows = append(rows, []string{wave, m.Machine, m.Site, orderMark(m.State), m.Problem})
	}
	p.table([]string{"wave", "machine", "site", "state", ""}, rows, 4)
	if r.State == "halted" || r.Tally.Failed+r.Tally.Lost > 0 {
		return errFound
	}
	return nil
}

func orderMark(s client.OrderState) string {
	marks := map[client.OrderState]string{
		client.OrderProven: markGood, client.OrderFailed: markBroken, client.OrderLost: markBroken,
		client.OrderRefused: markBroken,
	}
	if m, ok := marks[s]; ok {
		return m + " " + string(s)
	}
	return markNone + " " + string(s)
}
