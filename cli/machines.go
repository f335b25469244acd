package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/urfave/cli/v3"

	"diorthos/client"
)

func machinesCommand() *cli.Command {
	return &cli.Command{
		Name: "machines", Usage: "list machines, or show one with its facts and cases", ArgsUsage: "[NAME]",
		Description: "Examples:\n   diorthos machines --name kiosk --state open\n   diorthos machines lerrick-kiosk-1\n" +
			"   diorthos machines lerrick-kiosk-1 --twin\n" +
			"   diorthos machines lerrick-kiosk-1 --export lerrick-kiosk-1.tar.gz",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "name", Usage: "only machines with this in their name or site"},
			&cli.StringFlag{
				Name:  "state",
				Usage: "only machines whose latest case is received, reading, open, climbing, unreadable, healthy or closed",
			},
			&cli.BoolFlag{Name: "twin", Usage: "the healthy machines most like this one, and what differs"},
			&cli.StringFlag{Name: "against", Usage: "with --twin: the healthy machine `NAME` to compare with"},
			&cli.StringFlag{Name: "export", Usage: "save everything that is kept of it, bags too, to a new `FILE`"},
			&cli.StringFlag{Name: "after", Usage: "only machines behind this `NAME`"},
			&cli.IntFlag{Name: "limit", Usage: "machines on a page, 1 to 200", Value: 40}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage(c, fmt.Errorf("want one NAME, got %d", c.Args().Len()))
			}
			if c.Bool("twin") && c.Args().First() == "" {
				return usage(c, errors.New("--twin: want the NAME of a machine"))
			}
			if file := c.String("export"); file != "" {
				a, err := args(c, "NAME")
				if err != nil {
					return err
				}
				return saveExport(c, a[0], file, func(to io.Writer) error { return service(c).ExportMachine(ctx, a[0], to) })
			}
			if name := c.Args().First(); name != "" && c.Bool("twin") {
				return showTwin(ctx, c, name)
			} else if name != "" {
				return showMachine(ctx, c, name)
			}
			page, err := service(c).Machines(ctx, client.MachineQuery{
				Name:  c.String("name"),
				State: client.CaseState(c.String("state")),
				After: c.String("after"),
				Limit: c.Int("limit"),
			})
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, page); done {
				return err
			}
			p := newPage(c)
			if len(page.Machines) == 0 {
				p.line("No machine fits. A machine is known from its first case on: diorthos gather …, then diorthos submit BAG")
				return nil
			}
			var rows [][]string
			for _, m := range page.Machines {
				rows = append(rows, []string{
					m.Name, m.Site, m.Model, strconv.FormatInt(m.Case, 10), stateMark(m.State), m.Headline,
				})
			}
			p.table([]string{"machine", "site", "model", "case", "state", "likeliest cause"}, rows, 4)
			if page.Next != "" {
				p.line("%s", p.faint(fmt.Sprintf("%d in all; more: diorthos machines --after %s", page.Total, page.Next)))
			}
			return nil
		},
	}
}

func showMachine(ctx context.Context, c *cli.Command, name string) error {
	m, err := service(c).Machine(ctx, name)
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, m); done {
		return err
	}
	p := newPage(c)
	p.line("%s  %s  %s", p.strong(m.Name), m.Site, m.Model)
	if h := m.Hardware; h != nil && h.Memory > 0 {
		p.line(
			"  %s, %d processors, %s of memory, display %dx%d", h.Processor, h.Processors, size(h.Memory), h.Width, h.Height,
		)
	}
	for _, d := range m.Disks {
		p.diskMap(d)
	}
	if m.Facts != nil {
		showChain(p, m.Facts.Chain)
		showStore(p, m.Facts.Store)
		showUpkeep(p, m.Facts, m.Conditions)
	}
	p.head("Cases")
	showCases(p, &client.CasePage{Cases: m.History})
	return nil
}
