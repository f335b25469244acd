package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	commands "diorthos/cli"
	"diorthos/standin/corbel"
	"diorthos/standin/crowd"
	"diorthos/standin/jobs"
	"diorthos/standin/proving"
)

func standinCommand() *cli.Command {
	seed := func() cli.Flag {
		return &cli.UintFlag{Name: "seed", Usage: "the same `NUMBER` gives the same machine and the same fault", Value: 1}
	}
	vendor := func() cli.Flag {
		return &cli.StringFlag{
			Name:  "vendor",
			Usage: "`ADDRESS` of the vendor's service; one is started for the attempt when left out",
		}
	}
	return &cli.Command{
		Name: "standin", Usage: "build, break and try machines of the stand-in system Corbel",
		Description: "For learning and for tests: no real machine is touched. Every fault is a change of a machine's\n" +
			"state; what then happens follows from that state.\n\n" +
			"Examples:\n" +
			"   diorthos standin build /tmp/kiosk --mode uefi\n" +
			"   diorthos standin break /tmp/kiosk loader-gone\n" +
			"   diorthos standin try /tmp/kiosk start\n" +
			"   diorthos gather --image /tmp/kiosk --out kiosk.tar.gz",
		Commands: []*cli.Command{
			{Name: "build", Usage: "build a machine: a folder with a disk image and a nameplate", ArgsUsage: "FOLDER",
				Description: "Example:\n   diorthos standin build /tmp/kiosk --seed 7 --mode bios --name terminal-kiosk-2",
				Flags: []cli.Flag{
					seed(), &cli.StringFlag{Name: "mode", Usage: "of the firmware: uefi or bios", Value: "uefi"},
					&cli.StringFlag{Name: "name", Value: "kestrel-office-7"},
					&cli.StringFlag{Name: "site", Value: "Kestrel Terminal"}, commands.JSONFlag(),
				},
				Action: buildMachine},
			{Name: "break", Usage: "break a machine by a fault", ArgsUsage: "FOLDER FAULT",
				Description: "\"diorthos standin faults\" lists them.\n\n" +
					"Example:\n" +
					"   diorthos standin break /tmp/kiosk payload-missing",
				Flags: []cli.Flag{seed(), commands.JSONFlag()}, Action: breakMachine},
			{
				Name:      "job",
				Usage:     "make the machine that waits for one of the jobs that docs/jobs walks",
				ArgsUsage: "NUMBER FOLDER",
				Description: "Builds it, breaks it, and makes the attempt that fails. The vendor's medium of its build is put\n" +
					"beside the folder. Without NUMBER the jobs are listed.\n\n" +
					"Example:\n" +
					"   diorthos standin job 7 /tmp/kiosk",
				Flags:  []cli.Flag{commands.JSONFlag()},
				Action: prepareJob,
			},
			{
				Name:        "try",
				Usage:       "let a machine start, or try an update, upgrade, driver, feature or install",
				ArgsUsage:   "FOLDER WHAT",
				Description: "Exit status 1 if it fails.\n\nExample:\n   diorthos standin try /tmp/kiosk update",
				Flags:       []cli.Flag{vendor(), commands.JSONFlag()},
				Action:      tryMachine,
			},
			{
				Name:      "hands",
				Usage:     "do at a machine what only a person can: plug, unplug, set the firmware, restart",
				ArgsUsage: "FOLDER REMEDY",
				Description: "REMEDY is what a rung for hands is called by; --list lists those that there are.\n\n" +
					"Example:\n" +
					"   diorthos standin hands /tmp/kiosk unplug-external-disks",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "list", Usage: "list what can be done"}, commands.JSONFlag()},
				Action: useHands,
			},
			{
				Name:      "mutate",
				Usage:     "change one to three things of a machine's system at random",
				ArgsUsage: "FOLDER",
				Description: "Deletes, cuts off, flips, swaps, renames, fills, owns, dates; fields of lists, sectors. Users'\n" +
					"files stay as they are. Says what it changed.\n\n" +
					"Example:\n" +
					"   diorthos standin mutate /tmp/kiosk --seed 7",
				Flags:  []cli.Flag{seed(), commands.JSONFlag()},
				Action: mutateMachine,
			},
			{
				Name:        "faults",
				Usage:       "list the faults, and what each lets fail",
				Description: "Example:\n   diorthos standin faults",
				Flags:       []cli.Flag{commands.JSONFlag()},
				Action:      listFaults,
			},
			{
				Name:        "vendor",
				Usage:       "serve the vendor's catalogue, packages and service state",
				Description: "Example:\n   diorthos standin vendor --listen 127.0.0.1:7431",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7431"}},
				Action:      serveVendor,
			},
			{Name: "fleet", Usage: "agents of many machines that are not there, which fail now and then",
				Description: "They speak to a service as real agents do. What they do is printed every ten seconds, until\n" +
					"Ctrl-C. Once enrolled they are so for the next time as well.\n\n" +
					"Example:\n   diorthos standin fleet --machines 500 --day 5m --outbreak 0.3 --hit-rate 0.05",
				Flags: append(commands.ServiceFlags(), seed(),
					&cli.IntFlag{Name: "machines", Usage: "how many", Value: 100},
					&cli.DurationFlag{Name: "day", Usage: "how long a day of theirs takes", Value: 10 * time.Minute},
					&cli.FloatFlag{Name: "failing", Usage: "share that fails each day, each by itself", Value: 0.01},
					&cli.FloatFlag{Name: "outbreak", Usage: "share that takes one update each day"},
					&cli.FloatFlag{Name: "hit-rate", Usage: "share of those that cannot take it", Value: 0.02},
					&cli.FloatFlag{Name: "flap", Usage: "connections that are cut each second"},
					&cli.BoolFlag{Name: "known", Usage: "the service knows the machines: those that are well hand nothing in"},
					&cli.StringFlag{Name: "folder", Usage: "`FOLDER` for what the agents keep", Value: "fleet.standin"}),
				Action: runFleet},
			{Name: "prove", Usage: "close the loop: break, try, diagnose, mend, try again, take back; print a table",
				Description: "Every fault is put onto --seeds machines. Exit status 1 if something is not as it should be.\n\n" +
					"Example:\n" +
					"   diorthos standin prove --seeds 8 --seed-from 5000",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "seeds", Usage: "machines for each fault", Value: 8},
					&cli.UintFlag{Name: "seed-from", Usage: "the first seed", Value: 1},
					&cli.StringFlag{Name: "only", Usage: "faults whose names begin with `NAME`; pairs; healthy"},
					&cli.IntFlag{Name: "workers", Usage: "runs at once; as many as processors when left out"},
					&cli.IntFlag{Name: "mutations", Usage: "prove `N` machines that were changed at random instead"},
					&cli.IntFlag{Name: "pairs", Usage: "further pairs of faults for each seed, drawn at random", Value: 20},
					commands.JSONFlag(),
				},
				Action: proveLoop},
		},
	}
}

func runFleet(ctx context.Context, c *cli.Command) error {
	if c.Int("machines") < 1 || c.Duration("day") < time.Second {
		return errors.New("want at least one machine, and a day of at least a second")
	}
	fleet := &crowd.Crowd{
		URL: c.String("url"), Token: c.String("token"), Folder: c.String("folder"), Machines: c.Int("machines"),
		Seed: uint64(c.Uint("seed")), Day: c.Duration("day"), Failing: c.Float("failing"), Outbreak: c.Float("outbreak"),
		HitRate: c.Float("hit-rate"), Flap: c.Float("flap"), Known: c.Bool("known"),
	}
	ended := make(chan error, 1)
	go func() { ended <- fleet.Run(ctx) }()
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for {
		select {
		case err := <-ended:
			if ctx.Err() != nil {
				err = nil // it was stopped
			}
			return err
		case <-tick.C:
			fleet.Tell(c.Root().Writer)
		}
	}
}

func two(c *cli.Command, what string) (a, b string, err error) {
	if c.Args().Len() != 2 {
		return "", "", fmt.Errorf("want %s: see \"diorthos standin %s --help\"", what, c.Name)
	}
	return c.Args().Get(0), c.Args().Get(1), nil
}

// vendorDown is a file in a machine's folder that says that the vendor's service
// is down for it.
const vendorDown = "vendor-down"

// link reaches the vendor, or one that is started for the purpose, and is down for
// the machine of a serial.
func link(address, down string) (corbel.Link, func(), error) {
	if address != "" {
		return corbel.Link{Base: strings.TrimSuffix(address, "/"), Client: http.DefaultClient}, func() {}, nil
	}
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		return corbel.Link{}, nil, err
	}
	v.SetDown(down, down != "")
	s := httptest.NewServer(v)
	return corbel.Link{Base: s.URL, Client: http.DefaultClient}, s.Close, nil
}

func buildMachine(ctx context.Context, c *cli.Command) error {
	folder := c.Args().First()
	if folder == "" || c.Args().Len() != 1 {
		return errors.New("want FOLDER: see \"diorthos standin build --help\"")
	}
	mode := c.String("mode")
	if mode != "uefi" && mode != "bios" {
		return fmt.Errorf("--mode %q: want uefi or bios", mode)
	}
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		return err
	}
	s := httptest.NewServer(v)
	defer s.Close()
	m, err := corbel.Build(ctx, folder, corbel.Options{
		Seed:   uint64(c.Uint("seed")),
		Mode:   mode,
		Name:   c.String("name"),
		Site:   c.String("site"),
		Now:    time.Now().UTC(),
		Vendor: v,
		Link:   corbel.Link{Base: s.URL, Client: http.DefaultClient},
	})
	if err != nil {
		return err
	}
	if done, err := commands.Put(c, map[string]any{
		"name":     m.Plate.Name,
		"model":    m.Plate.Model,
		"serial":   m.Plate.Serial,
		"firmware": mode,
		"build":    corbel.BuildBase,
		"folder":   folder,
	}); done {
		return err
	}
	_, err = fmt.Fprintf(
		c.Root().Writer, "%s: %s, %s, %s firmware, build %d, in %s\n", m.Plate.Name, m.Plate.Model, m.Plate.Serial, mode,
		corbel.BuildBase, folder,
	)
	return err
}

// prepareJob makes the machine of a job, or lists the jobs.
func prepareJob(ctx context.Context, c *cli.Command) error {
	stories, err := jobs.Stories()
	if err != nil {
		return err
	}
	if c.Args().Len() == 0 {
		if done, err := commands.Put(c, stories); done {
			return err
		}
		for _, j := range jobs.List {
			_, _ = fmt.Fprintf(c.Root().Writer, "%2d  %s\n", j.Number, stories[j.Number].Title)
		}
		_, err := fmt.Fprintln(
			c.Root().Writer,
			"\ndocs/jobs walks each; job 19 is walked on the demo's kiosks, 9 and 17 on Debian machines.",
		)
		return err
	}
	number, folder, err := two(c, "NUMBER FOLDER")
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(number)
	job, ok := jobs.Of(n)
	if err != nil || !ok {
		return fmt.Errorf("no machine waits for a job %q: \"diorthos standin job\" lists those that there are", number)
	}
	if _, err := os.Stat(folder); err == nil {
		return fmt.Errorf("%s is there already: name a folder that is not", folder)
	}
	if err := job.Prepare(ctx, folder, time.Now()); err != nil {
		return err
	}
	if done, err := commands.Put(c, map[string]any{"job": job, "folder": folder}); done {
		return err
	}
	_, err = fmt.Fprintf(c.Root().Writer, "%s\n  \"%s\"\n  the %s fails; look at it: diorthos diagnose --image %s\n",
		stories[n].Title, stories[n].Said, job.Try, folder)
	return err
}

func breakMachine(ctx context.Context, c *cli.Command) error {
	folder, name, err := two(c, "FOLDER FAULT")
	if err != nil {
		return err
	}
	f := corbel.FaultNamed(name)
	if f == nil {
		return fmt.Errorf("no fault is called %q: see \"diorthos standin faults\"", name)
	}
	m, err := corbel.Open(folder)
	if err != nil {
		return err
	}
	if len(f.Modes) > 0 && f.Modes[0] != m.Plate.Firmware.Mode {
		return fmt.Errorf(
			"%s is a fault of machines with %s firmware, this one has %s", name, f.Modes[0], m.Plate.Firmware.Mode,
		)
	}
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		return err
	}
	if err := f.Break(ctx, m, corbel.Options{
		Seed:   uint64(c.Uint("seed")),
		Mode:   m.Plate.Firmware.Mode,
		Now:    time.Now().UTC(),
		Vendor: v,
	}); err != nil {
		return err
	}
	if v.Down(m.Plate.Serial) { // the vendor of the next command has to know it too
		if err := os.WriteFile(
			filepath.Join(folder, vendorDown),
			[]byte("the vendor's service is down for this machine; remove this file when it is up again\n"), 0o644,
		); err != nil {
			return err
		}
	}
	if done, err := commands.Put(c, map[string]any{"name": m.Plate.Name, "fault": name, "fails": f.Try}); done {
		return err
	}
	_, err = fmt.Fprintf(
		c.Root().Writer, "%s is broken: %s. What fails by it: diorthos standin try %s %s\n", m.Plate.Name, name, folder,
		f.Try,
	)
	return err
}

func tryMachine(ctx context.Context, c *cli.Command) error {
	folder, what, err := two(c, "FOLDER WHAT")
	if err != nil {
		return err
	}
	m, err := corbel.Open(folder)
	if err != nil {
		return err
	}
	down := ""
	if _, err := os.Stat(filepath.Join(folder, vendorDown)); err == nil {
		down = m.Plate.Serial
	}
	l, stop, err := link(c.String("vendor"), down)
	if err != nil {
		return err
	}
	defer stop()
	out, err := corbel.TryOn(ctx, m, what, time.Now().UTC(), l)
	if err != nil {
		return err
	}
	if done, err := commands.Put(c, map[string]any{
		"name":   m.Plate.Name,
		"tried":  what,
		"ok":     out.OK,
		"stage":  out.Stage,
		"code":   fmt.Sprintf("0x%08x", out.Code),
		"text":   out.Text,
		"screen": append([]string{}, out.Screen...),
	}); done {
		if err == nil && !out.OK {
			return commands.ErrFound
		}
		return err
	}
	for _, line := range out.Screen {
		_, _ = fmt.Fprintln(c.Root().Writer, "  "+line)
	}
	if !out.OK {
		_, _ = fmt.Fprintf(
			c.Root().Writer, "%s: %s failed at %s: %s (0x%08x)\n", m.Plate.Name, what, out.Stage, out.Text, out.Code,
		)
		return commands.ErrFound
	}
	_, err = fmt.Fprintf(c.Root().Writer, "%s: %s: %s\n", m.Plate.Name, what, out.Text)
	return err
}

func useHands(ctx context.Context, c *cli.Command) error {
	if c.Bool("list") {
		names := slices.Sorted(maps.Keys(corbel.Hands))
		if done, err := commands.Put(c, names); done {
			return err
		}
		_, err := fmt.Fprintln(c.Root().Writer, strings.Join(names, "\n"))
		return err
	}
	folder, what, err := two(c, "FOLDER REMEDY")
	if err != nil {
		return err
	}
	m, err := corbel.Open(folder)
	if err != nil {
		return err
	}
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		return err
	}
	p := corbel.Person{Machine: m, Vendor: v, Now: time.Now().UTC()}
	switch done, err := p.Do(ctx, what); {
	case err != nil:
		return err
	case !done:
		return fmt.Errorf("nothing that hands do is called %q: see \"diorthos standin hands --list\"", what)
	}
	if done, err := commands.Put(c, map[string]any{"name": m.Plate.Name, "did": what}); done {
		return err
	}
	_, err = fmt.Fprintf(c.Root().Writer, "%s: %s: done\n", m.Plate.Name, what)
	return err
}

func listFaults(_ context.Context, c *cli.Command) error {
	var list []map[string]any
	for _, f := range corbel.Faults {
		list = append(list, map[string]any{
			"name":         f.Name,
			"group":        f.Group,
			"fails":        f.Try,
			"firmware":     append([]string{}, f.Modes...),
			"beyondRepair": f.Beyond,
		})
	}
	if done, err := commands.Put(c, list); done {
		return err
	}
	group := ""
	for _, f := range corbel.Faults {
		if f.Group != group {
			group = f.Group
			_, _ = fmt.Fprintln(c.Root().Writer, group)
		}
		more := ""
		if len(f.Modes) > 0 {
			more = ", " + f.Modes[0] + " firmware"
		}
		if f.Beyond {
			more += ", beyond repair"
		}
		_, _ = fmt.Fprintf(c.Root().Writer, "  %-28s fails: %s%s\n", f.Name, f.Try, more)
	}
	return nil
}

func serveVendor(ctx context.Context, c *cli.Command) error {
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return err
	}
	_, _ = fmt.Fprintf(c.Root().Writer, "The vendor's service is at http://%s; Ctrl-C ends it.\n", listener.Addr())
	s := &http.Server{Handler: v, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		_ = s.Close()
	}()
	if err := s.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func mutateMachine(_ context.Context, c *cli.Command) error {
	m, err := corbel.Open(c.Args().First())
	if err != nil {
		return err
	}
	did, err := m.Mutate(corbel.Options{Seed: uint64(c.Uint("seed")), Now: time.Now().UTC()})
	if err != nil {
		return err
	}
	if done, err := commands.Put(c, map[string]any{"name": m.Plate.Name, "did": did}); done {
		return err
	}
	for _, text := range did {
		_, _ = fmt.Fprintln(c.Root().Writer, text)
	}
	return nil
}

// proveMutations proves machines that were changed at random.
func proveMutations(ctx context.Context, c *cli.Command, l *proving.Loop, workers int) error {
	began := time.Now()
	t := l.ProveMutations(ctx, uint64(c.Uint("seed-from")), c.Int("mutations"), workers, func(done, of int) {
		_, _ = fmt.Fprintf(os.Stderr, "\r%d of %d machines, %s", done, of, time.Since(began).Round(time.Second))
	})
	_, _ = fmt.Fprintln(os.Stderr)
	if done, err := commands.Put(c, t); err != nil {
		return err
	} else if !done {
		t.Print(c.Root().Writer)
	}
	if len(t.Failures) > 0 {
		return commands.ErrFound
	}
	return ctx.Err()
}

func proveLoop(ctx context.Context, c *cli.Command) error {
	l, err := proving.New()
	if err != nil {
		return err
	}
	defer l.Close()
	workers := c.Int("workers")
	if workers == 0 {
		workers = proving.Workers()
	}
	if c.Int("mutations") > 0 {
		return proveMutations(ctx, c, l, workers)
	}
	began := time.Now()
	t, err := l.Prove(ctx, proving.Plan{
		Seeds:   c.Int("seeds"),
		From:    uint64(c.Uint("seed-from")),
		Workers: workers,
		Only:    c.String("only"),
		Pairs:   c.Int("pairs"),
	}, func(done, of int) {
		if done%20 == 0 || done == of {
			_, _ = fmt.Fprintf(os.Stderr, "\r%d of %d machines, %s", done, of, time.Since(began).Round(time.Second))
		}
	})
	_, _ = fmt.Fprintln(os.Stderr)
	if err != nil {
		return err
	}
	if done, err := commands.Put(c, t); err != nil {
		return err
	} else if !done {
		t.Print(c.Root().Writer)
	}
	if len(t.Failures) > 0 {
		return commands.ErrFound
	}
	return nil
}
