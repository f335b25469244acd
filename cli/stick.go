package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/agent"
	"diorthos/client"
	"diorthos/host"
	"diorthos/platform"
)

func stickCommand() *cli.Command {
	return &cli.Command{
		Name: "stick", Usage: "let somebody far away look at this machine's disk and repair it, by a code on the screen",
		Description: "For a machine that does not start: start it from any Linux stick with this program, as root, and\n" +
			"read the code aloud to whoever sits at the service. They let the machine in (\"diorthos agent admit\", or\n" +
			"Agents in the console), see its disk, and have its rungs taken here; nothing that destroys is. It lasts for\n" +
			"twelve hours.\n\n" +
			"Of several disks the one with a system on it is taken that this computer does not use itself; --image names\n" +
			"another.\n\n" +
			"Example:\n   diorthos agent stick --url https://diorthos.skerrow.example --folder /media/stick/diorthos",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "of the service", Required: true},
			&cli.StringFlag{Name: "image", Usage: "disk image or block `DEVICE`"}, sectorFlag(),
			&cli.StringFlag{
				Name: "folder", Value: "diorthos-stick",
				Usage: "`FOLDER` of journals, and of what could not be handed in yet: on the stick, not in memory",
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			if u, err := url.Parse(c.String("url")); err != nil || u.Host == "" {
				return usage(c, fmt.Errorf("--url %s: want an address such as https://diorthos.skerrow.example", c.String("url")))
			}
			return runStick(ctx, c)
		},
	}
}

func runStick(ctx context.Context, c *cli.Command) error {
	p := newPage(c)
	disk, tells, err := stickDisk(p, c.String("image"))
	if err != nil {
		return err
	}
	folder, err := filepath.Abs(c.String("folder"))
	if err != nil {
		return err
	}
	folder = filepath.Join(folder, host.DiskIdentity(disk)) // the stick is taken from one machine to the next
	o := host.GatherOptions{Image: disk, Keep: folder, SectorSize: c.Int("sector-size"), Adapters: platform.All()}
	a := newAgent(o, folder, slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil)))
	a.Hardware, a.Stick, a.Wait = host.Hardware, true, 10*time.Second // that it was ended is seen soon
	if host.InMemory(folder) {
		p.hangingIndent("  "+p.bad(markOdd)+" ", folder+" is in memory: when this computer ends, what was changed can be "+
			"taken back no more. Name a folder on the stick with --folder.")
	}
	for {
		machine, err := letIn(ctx, c, p, a, tells)
		if err != nil {
			return err
		}
		p.line("%s Let in as %s. Its disk is looked at; what is to be done is decided at the service.", p.good(markGood),
			p.strong(machine))
		p.line(
			"%s",
			p.faint("Leave this running. Ctrl-C ends it: what is being done is then taken back at the next start of it."),
		)
		if err := a.Run(ctx); !errors.Is(err, agent.ErrOver) {
			return err
		}
		p.line("%s %v", p.bad(markOdd), agent.ErrOver)
		if err := a.Forget(); err != nil {
			return err
		}
	}
}

// letIn is the machine as which this one was let in, before or by a code that is shown now.
func letIn(ctx context.Context, c *cli.Command, p *page, a *agent.Agent, tells string) (machine string, err error) {
	if err := a.Load(); err == nil {
		return a.Machine(), nil
	} else if !errors.Is(err, agent.ErrNotEnrolled) {
		return "", err
	}
	at := strings.TrimSuffix(c.String("url"), "/")
	show := func(code string, expires time.Time) {
		p.line("")
		p.line("  Code   %s   until %s UTC", p.strong(code), expires.UTC().Format("15:04"))
		p.line("")
		p.line("Read it to whoever sits at the service. They type it at %s/agents, or:", at)
		p.line("  diorthos agent admit %s MACHINE", code)
		p.line("%s", p.faint("Waiting. Ctrl-C ends it; meanwhile nothing on the disk is changed."))
	}
	waiting := func(err error) { p.line("%s not yet: %v; trying again", p.bad(markOdd), err) }
	return a.Knock(ctx, at, tells, show, waiting)
}

// stickDisk finds the disk to work on, and says in short what this machine is.
func stickDisk(p *page, named string) (path, tells string, err error) {
	model := host.Model()
	if model == "" {
		model = "a machine that does not say its model"
	}
	if named != "" {
		if _, err := os.Stat(host.Locate(named).Disk); err != nil {
			return "", "", err
		}
		return named, model + ", to work on " + filepath.Base(named), nil
	}
	disks := host.WholeDisks(platform.All())
	var fit []host.WholeDisk
	var all []string
	p.line("%s", model)
	for _, d := range disks {
		what := "no system that is known"
		if len(d.Systems) > 0 {
			what = strings.Join(d.Systems, ", ")
		}
		switch {
		case d.Problem != "":
			what = d.Problem
		case d.InUse != "":
			what += ", in use here: " + d.InUse
		case len(d.Systems) > 0:
			fit = append(fit, d)
		}
		p.line("  %s  %s  %s", d.Source, size(d.Size), what)
		all = append(all, fmt.Sprintf("%s %s (%s)", d.Source, size(d.Size), what))
	}
	switch len(fit) {
	case 1:
		return fit[0].Source, model + "; " + strings.Join(all, "; ") + "; to work on " + fit[0].Source, nil
	case 0:
		if len(disks) == 0 {
			return "", "", errors.New("this computer has no disk of its own: a disk image is named with --image")
		}
		return "", "", errors.New("no disk with a system on it that this computer does not use itself: " +
			"name the one to work on with --image")
	}
	return "", "", fmt.Errorf("%d disks have a system on them: name the one to work on with --image", len(fit))
}

func admitCommand() *cli.Command {
	return &cli.Command{
		Name: "admit", Usage: "let a machine in that was started from a stick, by the code on its screen",
		ArgsUsage: "CODE MACHINE",
		Description: "Without MACHINE it is only said what the machine tells of itself.\n\n" +
			"Examples:\n   diorthos agent admit K7QX-2MPL\n" +
			"   diorthos agent admit K7QX-2MPL kestrel-bridge-1 --site 'MV Kestrel'",
		Flags: append(serviceFlags(), &cli.StringFlag{Name: "site", Usage: "where a machine stands that is not known yet"},
			jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if n := c.Args().Len(); n < 1 || n > 2 {
				return usage(c, errors.New("want CODE, and MACHINE to let it in"))
			}
			code, machine := c.Args().Get(0), c.Args().Get(1)
			k, err := service(c).Knocking(ctx, code)
			if err != nil {
				return err
			}
			p := newPage(c)
			if machine == "" {
				if done, err := writeJSON(c, k); done {
					return err
				}
				p.line("%s", k.Tells)
				p.line("%s", p.faint("asks from "+k.Address+" since "+when(k.At)+" UTC"))
				p.line("let it in as the machine that it is: diorthos agent admit %s MACHINE", code)
				return nil
			}
			agent, err := service(c).Admit(ctx, client.Admission{Code: code, Machine: machine, Site: c.String("site")})
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, agent); done {
				return err
			}
			p.line(
				"%s %s is let in until %s UTC, from a stick: %s",
				p.good(markGood),
				p.strong(machine),
				when(*agent.Expires),
				k.Tells,
			)
			p.line("its disk is being looked at: diorthos machines %s", machine)
			p.line("then, for its case: diorthos case NUMBER --order RUNG")
			return nil
		},
	}
}
