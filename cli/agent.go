package cli

import (
	"context"
	"crypto/sha256"
	_ "embed" // the unit
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/agent"
	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/host"
	"diorthos/platform"
)

//go:embed diorthos-agent.service
var agentUnit string

func agentCommand() *cli.Command {
	folder := &cli.StringFlag{
		Name: "folder", Usage: "`FOLDER` of its key and what it could not hand in yet", Value: "/var/lib/diorthos/agent",
	}
	every := &cli.DurationFlag{Name: "every", Usage: "how often the machine is looked at", Value: 24 * time.Hour}
	notice := &cli.DurationFlag{
		Name: "notice", Usage: "how often it is noticed whether something was tried on it since", Value: time.Minute,
	}
	return &cli.Command{
		Name: "agent", Usage: "the process on a machine: it hands in what fails, and carries out approved repairs",
		Commands: []*cli.Command{
			{Name: "code", Usage: "make a code by which the agent of a machine may enrol", ArgsUsage: "MACHINE",
				Description: "Good once, for an hour.\n\nExample:\n   diorthos agent code lerrick-kiosk-1 --site 'Lerrick " +
					"terminal'",
				Flags: append(serviceFlags(), &cli.StringFlag{Name: "site", Usage: "where the machine stands"}, jsonFlag()),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "MACHINE")
					if err != nil {
						return err
					}
					code, err := service(c).MakeCode(ctx, client.CodeWish{Machine: a[0], Site: c.String("site")})
					if err != nil {
						return err
					}
					if done, err := writeJSON(c, code); done {
						return err
					}
					p := newPage(c)
					p.line("%s  %s", p.strong(code.Code), p.faint("for "+code.Machine+", once, until "+when(code.Expires)))
					p.line("on the machine: diorthos agent enrol --url %s --code %s", service(c).URL(), code.Code)
					return nil
				}},
			{Name: "enrol", Usage: "make this machine's agent known to a service",
				Description: "Makes a key that never leaves its folder.\n\n" +
					"Example:\n   diorthos agent enrol --url https://diorthos.skerrow.example --code 3K7QX2MPLA",
				Flags: []cli.Flag{folder, &cli.StringFlag{Name: "url", Usage: "of the service", Required: true},
					&cli.StringFlag{Name: "code", Usage: "that was made for this machine", Required: true}},
				Action: func(ctx context.Context, c *cli.Command) error {
					machine, err := (&agent.Agent{Folder: c.String("folder"), Hardware: host.Hardware}).Enrol(
						ctx,
						c.String("url"),
						c.String("code"),
					)
					if err != nil {
						return err
					}
					newPage(c).line("%s enrolled for %s: diorthos agent run", markGood, machine)
					return nil
				}},
			{Name: "run", Usage: "work until told to stop",
				Description: "Looks at the machine once a day, and when something was tried on it and has ended; hands in what\n" +
					"differs, waits for orders and carries them out through the same guards, journal and proofs as\n" +
					"\"diorthos climb\". Goes on where it was after a restart.\n\n" +
					"Examples:\n   diorthos agent run --live\n   diorthos agent run --image /dev/sda",
				Flags: append(lookFlags(), folder, every, notice),
				Action: func(ctx context.Context, c *cli.Command) error {
					o, err := gatherOptions(c)
					if err != nil {
						return err
					}
					a := newAgent(o, c.String("folder"), slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil)))
					a.Every, a.Notice = c.Duration("every"), c.Duration("notice")
					if err := a.Load(); err != nil {
						return err
					}
					return a.Run(ctx)
				}},
			stickCommand(),
			admitCommand(),
			{Name: "many", Usage: "work for all machines in a folder, in one process", ArgsUsage: "FOLDER",
				Description: "For machines that are folders with a disk image, such as those of the demo. Each that has no " +
					"agent is\n" +
					"enrolled first.\n\nExample:\n   diorthos agent many .demo/machines",
				Flags:  append(serviceFlags(), every, notice),
				Action: manyAgents},
			{Name: "unit", Usage: "print the unit by which the service manager runs this machine's agent",
				Description: "Example:\n   diorthos agent unit > /etc/systemd/system/diorthos-agent.service\n" +
					"   systemctl enable --now diorthos-agent",
				Action: func(_ context.Context, c *cli.Command) error {
					program, err := os.Executable()
					if err != nil {
						return err
					}
					_, err = fmt.Fprint(c.Root().Writer, strings.ReplaceAll(agentUnit, "@PROGRAM@", program))
					return err
				}},
			{Name: "list", Usage: "list the agents that are on",
				Description: "Example:\n   diorthos agent list", Flags: append(serviceFlags(), jsonFlag()), Action: listAgents},
			{Name: "end", Usage: "turn an agent off", ArgsUsage: "NUMBER",
				Description: "Example:\n   diorthos agent end 4", Flags: serviceFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "NUMBER")
					if err != nil {
						return err
					}
					id, err := numberOf(c, a[0], "an agent")
					if err != nil {
						return err
					}
					if err := service(c).EndAgent(ctx, id); err != nil {
						return err
					}
					newPage(c).line("%s agent %d is off", markGood, id)
					return nil
				}},
		},
	}
}

func listAgents(ctx context.Context, c *cli.Command) error {
	list, err := service(c).Agents(ctx)
	if err != nil {
		return err
	}
	return printList(
		c, list, "No machine has an agent yet: diorthos agent code MACHINE",
		[]string{"№", "machine", "heard (UTC)", "enrolled", "by"},
		func(a client.Agent) []string {
			seen := "never"
			if a.Seen != nil {
				seen = when(*a.Seen)
			}
			if a.Silent {
				seen += ", silent"
			}
			if a.Stick {
				seen += ", from a stick until " + when(*a.Expires)
			}
			if a.Copied != nil {
				seen += "; a copy of its disk ran elsewhere on " + when(*a.Copied)
			}
			return []string{strconv.FormatInt(a.ID, 10), a.Machine, seen, when(a.Enrolled), a.By}
		}, 1,
	)
}

// newAgent is the agent of the machine that options look at.
func newAgent(o host.GatherOptions, folder string, log *slog.Logger) *agent.Agent {
	a := &agent.Agent{Folder: folder, Host: hostName(), Log: log}
	machine := func(facts *bag.Facts) *host.Machine {
		return &host.Machine{
			Keep: o.Keep,
			Path: o.Image, Root: filesOf(o), Name: a.Machine(), SectorSize: o.SectorSize, Live: o.Live,
			Adapters: platform.All(), Facts: facts,
			Now: time.Now,
		}
	}
	a.Open = func(facts *bag.Facts) (climb.Machine, error) { return machine(facts), nil }
	a.Record = func() (*climb.Record, error) { return climb.OpenRecord(machine(nil).Record(), a.Machine()) }
	a.Gather = func(ctx context.Context, path string) (string, error) {
		defer debug.FreeOSMemory() // what was looked at is large, and then nothing happens for long
		o := o
		o.Now, o.Machine = time.Now(), a.Machine()
		if o.Site == "" {
			o.Site = a.Site()
		}
		g, err := gatherTo(ctx, path, o)
		if err != nil {
			return "", err
		}
		return measured(g.Facts)
	}
	if o.Live {
		a.Hardware = host.Hardware
	}
	a.Trace = func() string { return host.Trace(o) }
	a.Target = func(id action.ID) (*block.Target, error) { return machine(nil).Target(id) }
	a.Undo = func(ctx context.Context, journal string) (err error) {
		j, err := block.OpenJournal(journal)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, j.Close()) }()
		before := j.State()
		if err := undo(ctx, "", j); err != nil {
			return err
		}
		return noteUndone(j, journal, before)
	}
	return a
}

// filesOf is the folder with the files that options look at, where no disk is named.
func filesOf(o host.GatherOptions) string {
	if o.Root == "" && o.Image == "" && o.Live {
		return "/"
	}
	return o.Root
}

// measured is a digest of facts without when they were gathered.
func measured(facts *bag.Facts) (string, error) {
	f := *facts
	f.Gathered = time.Time{}
	raw, err := json.Marshal(f)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:]), nil
}

// manyAgents enrols and runs an agent for each machine in a folder.
func manyAgents(ctx context.Context, c *cli.Command) error {
	a, err := args(c, "FOLDER")
	if err != nil {
		return err
	}
	many := &ManyAgents{
		Folder: a[0], Service: service(c), Every: c.Duration("every"), Notice: c.Duration("notice"),
		Log: slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil)),
	}
	started, err := many.Start(ctx)
	if err != nil {
		return err
	}
	newPage(c).line("%s %s; Ctrl-C stops", markGood, plural(started, "agent works", "agents work"))
	many.Wait()
	return nil
}

// ManyAgents work for all machines in a folder, in one process.
type ManyAgents struct {
	Folder        string
	Service       *client.Client
	Every, Notice time.Duration // as an agent has them
	Log           *slog.Logger
	Known         bool // the service knows the machines as they are

	running sync.WaitGroup
}

// Start enrols those that are not, and has all of them work until ctx ends. It says how many there are.
func (m *ManyAgents) Start(ctx context.Context) (started int, err error) {
	entries, err := os.ReadDir(m.Folder)
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		folder := filepath.Join(m.Folder, e.Name())
		if host.Locate(folder).Disk == folder { // no machine's
			continue
		}
		one := newAgent(host.GatherOptions{Image: folder, Adapters: platform.All()}, filepath.Join(folder, "agent"), m.Log)
		one.Every, one.Notice = m.Every, m.Notice
		err := one.Load()
		if errors.Is(err, agent.ErrNotEnrolled) {
			err = m.enrol(ctx, one, e.Name())
		}
		if err != nil {
			return started, err
		}
		started++
		m.running.Go(func() { _ = one.Run(ctx) }) // it ends with ctx
	}
	if started == 0 {
		return 0, fmt.Errorf("%s: none of its folders holds a machine's disk", m.Folder)
	}
	return started, nil
}

func (m *ManyAgents) enrol(ctx context.Context, one *agent.Agent, name string) error {
	code, err := m.Service.MakeCode(ctx, client.CodeWish{Machine: name})
	if err != nil {
		return err
	}
	if _, err := one.Enrol(ctx, m.Service.URL(), code.Code); err != nil {
		return err
	}
	if m.Known {
		one.Looked()
	}
	return nil
}

// Wait returns when all have ended.
func (m *ManyAgents) Wait() { m.running.Wait() }
