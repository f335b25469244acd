package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
)

// orderRung has the agent of a case's machine take a rung or take it back, and follows it; or stops what was ordered.
func orderRung(ctx context.Context, c *cli.Command) error {
	number, err := caseNumber(c)
	if err != nil {
		return err
	}
	p := newPage(c)
	if c.Bool("withdraw") {
		return withdraw(ctx, c, p, number)
	}
	if c.IsSet("order") && c.IsSet("take-back") {
		return usage(c, errors.New("--order and --take-back contradict each other"))
	}
	wish := client.OrderWish{Rung: c.Int("order")}
	if c.IsSet("take-back") {
		wish = client.OrderWish{Rung: c.Int("take-back"), Back: true}
	}
	o, err := service(c).OrderRung(ctx, number, wish)
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		p.line("order %d: %s", o.ID, p.strong(whatOrdered(o)))
		p.line(
			"%s",
			p.faint("Ctrl-C ends the waiting, not the order: \"diorthos case "+fmt.Sprint(number)+"\" shows how it stands."),
		)
	}
	o, err = followOrder(ctx, c, p, number, o)
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, o); done {
		return err
	}
	switch o.State {
	case client.OrderProven:
		p.line("%s proven at the machine", p.good(markGood))
	case client.OrderTakenBack:
		p.line("%s taken back at the machine", p.good(markGood))
	default:
		p.hangingIndent(p.bad(markBroken)+" "+string(o.State)+": ", o.Problem)
		return errFound
	}
	return nil
}

// whatOrdered is an order in words.
func whatOrdered(o *client.CaseOrder) string {
	what := fmt.Sprintf("rung %d, %s", o.Rung, o.Title)
	if o.Back {
		return "take back " + what
	}
	return what
}

// followOrder waits until an order has ended, and says what goes on.
func followOrder(
	ctx context.Context, c *cli.Command, p *page, number int64, o *client.CaseOrder,
) (*client.CaseOrder, error) {
	said := ""
	for {
		d, err := service(c).Case(ctx, number)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(d.Orders, func(x client.CaseOrder) bool { return x.ID == o.ID })
		if i < 0 {
			return nil, fmt.Errorf("order %d is no longer told of", o.ID)
		}
		if o = &d.Orders[i]; o.Ended() {
			return o, nil
		}
		now := "waits for the agent, or for the hours of its site"
		if o.State == client.OrderRunning {
			now = "the agent is at it"
		}
		for _, x := range d.Climbs {
			if x.State == client.Running && x.Phase != "" {
				now = "the agent: " + string(x.Phase)
			}
		}
		if now != said && !c.Bool("json") {
			p.line("  %s", now)
			said = now
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("order %d goes on; nobody waits for it here any more", o.ID)
		case <-time.After(time.Second):
		}
	}
}

func withdraw(ctx context.Context, c *cli.Command, p *page, number int64) error {
	d, err := service(c).Case(ctx, number)
	if err != nil {
		return err
	}
	var done []string
	for _, o := range d.Orders {
		if o.State == client.OrderOrdered {
			if err := service(c).WithdrawOrder(ctx, number, o.ID); err != nil {
				return err
			}
			done = append(done, fmt.Sprintf("order %d, %s", o.ID, whatOrdered(&o)))
		}
	}
	if len(done) == 0 {
		return fmt.Errorf("case %d has no order that the agent has not begun", number)
	}
	p.line("%s stopped: %s", p.good(markGood), strings.Join(done, "; "))
	return nil
}

// showOrders lists what the machine's agent was told to do, and says that it could be told.
func showOrders(p *page, d *client.CaseDetail) {
	if d.Agent == nil && len(d.Orders) == 0 {
		return
	}
	p.head("At the machine")
	if a := d.Agent; a != nil {
		heard := "its agent was never heard"
		if a.Seen != nil {
			heard = "its agent was heard " + when(*a.Seen) + " UTC"
		}
		if a.Stick {
			heard += ", from a stick"
		}
		if !a.Silent {
			heard += fmt.Sprintf("; it takes a rung with \"diorthos case %d --order RUNG\"", d.Number)
		}
		p.line("  %s", heard)
	}
	for _, o := range d.Orders {
		mark := markOdd
		switch o.State {
		case client.OrderProven, client.OrderTakenBack:
			mark = p.good(markGood)
		case client.OrderFailed, client.OrderRefused, client.OrderLost:
			mark = p.bad(markBroken)
		}
		p.hangingIndent(
			fmt.Sprintf("  %s %s  ", mark, when(o.Made)),
			strings.TrimSuffix(fmt.Sprintf("%s, by %s: %s; %s", whatOrdered(&o), o.By, o.State, o.Problem), "; "),
		)
	}
}
