package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	urfave "github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"diorthos/cli"
	"diorthos/client"
	"diorthos/host"
	"diorthos/platform"
	"diorthos/service"
	"diorthos/standin/cluster"
	"diorthos/standin/corbel"
	"diorthos/standin/fleet"
	"diorthos/standin/jobs"
)

// demoRoom is what the demo needs on disk, in bytes.
const demoRoom = 600 << 20

func demoCommand() *urfave.Command {
	return &urfave.Command{
		Name: "demo", Usage: "serve the demo of Skerrow Ferries, with a database of its own",
		Description: "Makes what is missing in --folder (database, disk images, bags), serves until Ctrl-C and keeps\n" +
			"the data.\n\n" +
			"Example:\n" +
			"   diorthos demo --folder .demo",
		Flags: []urfave.Flag{
			&urfave.StringFlag{Name: "folder", Usage: "where the demo keeps everything", Value: ".demo"},
			&urfave.StringFlag{
				Name:    "listen",
				Usage:   "address and port",
				Value:   "127.0.0.1:7420",
				Sources: urfave.EnvVars("DIORTHOS_LISTEN"),
			},
			&urfave.StringFlag{
				Name:  "debian",
				Usage: "`SCRIPT` that makes the Debian machines of the jobs, which come while the demo is served; takes root",
			},
			&urfave.BoolFlag{Name: "reset", Usage: "remove what is there, and stop"},
		},
		Action: func(ctx context.Context, c *urfave.Command) error {
			d := &demo{folder: c.String("folder"), listen: c.String("listen"), debian: c.String("debian"), out: c.Root().Writer}
			if c.Bool("reset") {
				return d.reset()
			}
			return d.run(ctx)
		},
	}
}

type demo struct {
	folder, listen string
	debian         string // the script that makes Debian machines; empty for none
	secret         string // that signs the technician in
	out            io.Writer
}

func (d *demo) path(name string) string { return filepath.Join(d.folder, name) }

func (d *demo) say(format string, a ...any) { _, _ = fmt.Fprintf(d.out, format+"\n", a...) }

func (d *demo) reset() error {
	if _, err := os.Stat(d.path("token")); errors.Is(err, fs.ErrNotExist) {
		d.say("there is no demo in %s", d.folder)
		return nil
	}
	if err := cluster.Remove(d.path("database")); err != nil {
		return err
	}
	if err := os.RemoveAll(d.folder); err != nil {
		return err
	}
	d.say("removed %s", d.folder)
	return nil
}

func (d *demo) run(ctx context.Context) (err error) {
	listener, err := service.Listen(d.listen)
	if err != nil {
		return err
	}
	defer func() { _ = listener.Close() }()
	if err := os.MkdirAll(d.folder, 0o755); err != nil {
		return err
	}
	if err := d.room(); err != nil {
		return err
	}
	token, err := d.token()
	if err != nil {
		return err
	}
	db, err := cluster.Start(ctx, d.path("database"), cluster.Options{})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Stop()) }()
	d.secret = token
	if err := service.SetToken(ctx, db.DSN, fleet.Technician, token); err != nil {
		return err
	}
	log, err := os.OpenFile(d.path("service.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, log.Close()) }()
	conf := config(db.DSN, d.path("bags"), []string{os.Getenv("DIORTHOS_KNOWLEDGE")}, log)
	if err := d.damage(ctx, conf); err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	ready, ended := make(chan string, 1), make(chan error, 1)
	conf.Ready = func(address string) { ready <- "http://" + address }
	go func() { ended <- service.Run(serving, listener, conf) }()
	select {
	case err := <-ended:
		return err
	case url := <-ready:
		if err := errors.Join(d.load(ctx, client.New(url, token)), d.prepareJobs(ctx)); err != nil {
			stop()
			return errors.Join(err, <-ended)
		}
		agents, err := d.agents(serving, client.New(url, token), log)
		if err != nil {
			stop()
			return errors.Join(err, <-ended)
		}
		defer agents.Wait()
		defer stop() // before it is waited for them
		if err := d.greet(url, token); err != nil {
			stop()
			return errors.Join(err, <-ended)
		}
		made := make(chan struct{})
		go func() {
			defer close(made)
			if err := d.debianMachines(serving, client.New(url, token)); err != nil && serving.Err() == nil {
				d.say("Debian machines: %v", err)
			}
		}()
		defer func() { <-made }()
		defer stop()
	}
	err = <-ended
	d.say("stopped; the data stay in %s", d.folder)
	return err
}

// damage hands one bag in to a process that takes only, and damages what was
// kept of it, as a failing disk would: its case cannot be read, until somebody
// hands the bag in again.
func (d *demo) damage(ctx context.Context, conf service.Config) error {
	bag, marker := d.path(fleet.Damaged+".bag.tar.gz"), d.path("damaged")
	if _, err := os.Stat(marker); err == nil {
		return nil
	}
	members := slices.DeleteFunc(fleet.Members(), func(m fleet.Member) bool { return m.Name != fleet.Damaged })
	if err := d.makeMembers(ctx, members); err != nil {
		return err
	}
	first, err := d.bagOf(ctx, fleet.Machines[0]) // its case is to be the first
	if err != nil {
		return err
	}
	listener, err := service.Listen("127.0.0.1:0")
	if err != nil {
		return err
	}
	taking, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	conf.TakeOnly, conf.Ready = true, func(address string) {
		go func() {
			c := client.New("http://"+address, d.secret)
			_, err := give(taking, c, first)
			if err == nil {
				_, err = give(taking, c, bag)
			}
			ended <- err
			stop()
		}()
	}
	if err := service.Run(taking, listener, conf); err != nil {
		return err
	}
	if err := <-ended; err != nil {
		return err
	}
	raw, err := os.ReadFile(bag)
	if err != nil {
		return err
	}
	list, _ := filepath.Glob(filepath.Join(d.path("bags"), "*")) // the pattern is right
	for _, path := range list {
		kept, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if bytes.Equal(kept, raw) {
			for i := range 64 {
				kept[len(kept)/2+i] ^= 0x5a
			}
			return errors.Join(os.WriteFile(path, kept, 0o600), os.WriteFile(marker, nil, 0o644))
		}
	}
	return fmt.Errorf("the bag of %s was not kept", fleet.Damaged)
}

// room refuses to begin what cannot be completed.
func (d *demo) room() error {
	var s unix.Statfs_t
	if err := unix.Statfs(d.folder, &s); err != nil {
		return err
	}
	if _, err := os.Stat(d.path("env")); err == nil {
		return nil // it is made already
	}
	if free := int64(s.Bavail) * s.Bsize; free < demoRoom {
		return fmt.Errorf(
			"%s has %d MiB free and the demo needs %d MiB: make room, or choose another folder with --folder",
			d.folder, free>>20, int64(demoRoom)>>20,
		)
	}
	return nil
}

// token keeps the demo's sign-in from one run to the next.
func (d *demo) token() (string, error) {
	text, err := os.ReadFile(d.path("token"))
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	token := newToken()
	return token, os.WriteFile(d.path("token"), []byte(token+"\n"), 0o600)
}

// load makes the machines that are missing and hands their bags in, through
// the same API as everybody.
func (d *demo) load(ctx context.Context, c *client.Client) error {
	if err := fleet.Logs(d.path("logs")); err != nil {
		return err
	}
	for _, m := range fleet.Machines {
		bag, err := d.bagOf(ctx, m)
		if err != nil {
			return err
		}
		if err := d.submit(ctx, c, bag); err != nil {
			return err
		}
	}
	return d.loadMembers(ctx, c)
}

// bagOf makes a machine, unless it is there, and gathers its bag.
func (d *demo) bagOf(ctx context.Context, m fleet.Machine) (bag string, err error) {
	image, bag := d.path(m.Name+".img"), d.path(m.Name+".bag.tar.gz")
	if _, err := os.Stat(bag); !errors.Is(err, fs.ErrNotExist) {
		return bag, err
	}
	d.say("making %s", m.Name)
	if err := m.Make(ctx, image); err != nil {
		return "", err
	}
	return bag, gather(ctx, image, bag, m.Site, m.Model)
}

// loadMembers does the same for the machines that run Corbel, and climbs the
// ladders of two of them.
func (d *demo) loadMembers(ctx context.Context, c *client.Client) error {
	members := fleet.Members()
	if err := d.makeMembers(ctx, members); err != nil {
		return err
	}
	for i, m := range members {
		bag := d.path(m.Name + ".bag.tar.gz")
		if m.Name == fleet.Damaged { // handed in already; once more would heal it
			continue
		}
		if err := d.submit(ctx, c, bag); err != nil {
			return err
		}
		if i%10 == 9 {
			d.say("%d of %d machines handed in", i+1, len(members))
		}
	}
	for _, name := range fleet.Mended {
		if err := d.climb(ctx, c, name); err != nil {
			return fmt.Errorf("climb on %s: %w", name, err)
		}
	}
	return d.begin(ctx, c, fleet.Climbing)
}

// agents has the agents of the machines that run Corbel work within the demo, and brings the outbreak of the kiosks as
// far as a person has to decide: what it points to is held back, and the repair that helped on one is offered to its
// like, in waves that wait to be let go on.
func (d *demo) agents(ctx context.Context, c *client.Client, log io.Writer) (*cli.ManyAgents, error) {
	many := &cli.ManyAgents{
		Folder: d.path("machines"), Service: c, Known: true, Log: slog.New(slog.NewTextHandler(log, nil)),
	}
	n, err := many.Start(ctx)
	if err != nil {
		return nil, err
	}
	d.say("%d agents work", n)
	for heard := 0; heard < n && ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
		list, err := c.Agents(ctx)
		if err != nil {
			return nil, err
		}
		heard = 0
		for _, a := range list {
			if a.Seen != nil {
				heard++
			}
		}
	}
	outbreaks, err := c.Outbreaks(ctx)
	if err != nil || len(outbreaks) == 0 || outbreaks[0].Held != "" {
		return many, err
	}
	if suspect := outbreaks[0].Suspect; suspect != "" {
		if _, err := c.Hold(ctx, outbreaks[0].ID, suspect); err != nil {
			return nil, err
		}
	}
	cohort, err := c.Cohort(ctx, outbreaks[0].Cohort)
	if err != nil || len(cohort.Helped) == 0 || cohort.Helped[0].Proven == 0 {
		return many, err
	}
	_, err = c.Offer(ctx, client.RolloutWish{Cohort: cohort.ID, Remedy: cohort.Helped[0].Remedy, Paused: true})
	return many, err
}

// begin lets somebody be at work on a machine.
func (d *demo) begin(ctx context.Context, c *client.Client, machine string) error {
	page, err := c.Cases(ctx, client.CaseQuery{Machine: machine, Limit: 1})
	if err != nil || len(page.Cases) == 0 || page.Cases[0].State != client.Open {
		return err
	}
	_, err = c.StartClimb(ctx, page.Cases[0].Number, client.ClimbStart{Host: machine, Rung: 1})
	return err
}

// makeMembers makes the machines whose bags are missing, two at a time.
func (d *demo) makeMembers(ctx context.Context, members []fleet.Member) error {
	var missing []fleet.Member
	for _, m := range members {
		if _, err := os.Stat(d.path(m.Name + ".bag.tar.gz")); errors.Is(err, fs.ErrNotExist) {
			missing = append(missing, m)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	if len(missing) > 1 {
		d.say("making %d machines that run Corbel", len(missing))
	}
	now := time.Now().UTC()
	v, err := corbel.NewVendor(now)
	if err != nil {
		return err
	}
	s := httptest.NewServer(v)
	defer s.Close()
	link := corbel.Link{Base: s.URL, Client: http.DefaultClient}
	if err := os.WriteFile(d.path("medium-7210.pack"), v.Medium(), 0o644); err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	for _, m := range missing {
		group.Go(func() error {
			folder := d.path(filepath.Join("machines", m.Name))
			if err := os.RemoveAll(folder); err != nil {
				return err
			}
			if err := m.Make(ctx, folder, now, v, link); err != nil {
				return err
			}
			return gather(ctx, folder, d.path(m.Name+".bag.tar.gz"), m.Site, m.Model)
		})
	}
	return group.Wait()
}

// prepareJobs makes the machines that wait for the jobs of docs/jobs, those that are missing.
func (d *demo) prepareJobs(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	for _, j := range jobs.List {
		folder := d.path(fmt.Sprintf("jobs/%02d", j.Number))
		if _, err := os.Stat(folder); err == nil {
			continue
		}
		group.Go(func() error {
			making := folder + ".making" // one that was not completed is made anew
			if err := os.RemoveAll(making); err != nil {
				return err
			}
			if err := j.Prepare(ctx, filepath.Join(making, "kiosk"), time.Now()); err != nil {
				return err
			}
			return os.Rename(making, folder)
		})
	}
	return group.Wait()
}

// climb takes the first rung of a machine's case, as a technician would, if
// nobody has yet.
func (d *demo) climb(ctx context.Context, c *client.Client, machine string) error {
	page, err := c.Cases(ctx, client.CaseQuery{Machine: machine, Limit: 50})
	if err != nil || len(page.Cases) == 0 ||
		slices.ContainsFunc(page.Cases, func(cs client.Case) bool { return cs.Proven > 0 }) {
		return err
	}
	var said bytes.Buffer
	folder := d.path(filepath.Join("machines", machine))
	// A command line of its own: not one below that of the demo.
	own, cancel := context.WithCancel(context.Background())
	defer cancel()
	defer context.AfterFunc(ctx, cancel)()
	status := cli.Run(own, []string{
		"diorthos", "climb", fmt.Sprint(page.Cases[0].Number), "--image", folder, "--url", c.URL(), "--token", d.secret,
		"--yes",
	}, strings.NewReader("y\n"), &said, &said)
	if status != 0 {
		return fmt.Errorf("it ended with %d: %s", status, strings.TrimSpace(said.String()))
	}
	return nil
}

func gather(ctx context.Context, image, bag, site, model string) error {
	return gatherTo(ctx, bag, gatherOptions(image, site, model))
}

func gatherOptions(image, site, model string) host.GatherOptions {
	return host.GatherOptions{Image: image, Site: site, Model: model, Adapters: platform.All(), Now: time.Now()}
}

func gatherTo(ctx context.Context, bag string, o host.GatherOptions) (err error) {
	f, err := os.Create(bag + ".new")
	if err != nil {
		return err
	}
	_, err = host.Gather(ctx, f, o)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(bag+".new", bag)
}

// submit hands a bag in and waits until it has been read.
func (d *demo) submit(ctx context.Context, c *client.Client, bag string) error {
	number, err := give(ctx, c, bag)
	if err != nil {
		return fmt.Errorf("hand in %s: %w", bag, err)
	}
	return c.Watch(ctx, number, func(cs client.Case) bool {
		return cs.State == client.Received || cs.State == client.Reading
	})
}

// give hands a bag in.
func give(ctx context.Context, c *client.Client, bag string) (number int64, err error) {
	f, err := os.Open(bag)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	a, err := c.Submit(ctx, f, info.Size())
	if err != nil {
		return 0, err
	}
	return a.Number, nil
}

func (d *demo) greet(url, token string) error {
	bin, err := os.Executable()
	if err != nil {
		return err
	}
	env := fmt.Sprintf("export DIORTHOS_URL=%s DIORTHOS_TOKEN=%s PATH=%q:\"$PATH\"\n", url, token, filepath.Dir(bin))
	if err := os.WriteFile(d.path("env"), []byte(env), 0o600); err != nil {
		return err
	}
	image := d.path(fleet.Machines[0].Name + ".img")
	d.say(
		`
Diorthos serves the demo of Skerrow Ferries.

  console   %s
  sign in   %s   (%s)

In another terminal, from this folder:

  . %s
  diorthos case 1
  diorthos layout check %s
  diorthos climb 1 --image %s
  diorthos machines --state open

A broken machine waits for each job of docs/jobs, where this one is walked:

  cd %s && diorthos diagnose --image kiosk

Ctrl-C stops service and database; the data stay in %s.`,
		url, token, fleet.Technician, d.path("env"), image, image, d.path("jobs/07"), d.folder,
	)
	return nil
}
