package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sys/unix"

	"diorthos/client"
	"diorthos/host"
	"diorthos/platform/debian"
	"diorthos/service"
	"diorthos/standin/cluster"
	"diorthos/standin/fleet"
)

// demoRoom is what the demo needs on disk, in bytes.
const demoRoom = 600 << 20

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "serve the demo of Skerrow Ferries, with a database of its own",
		Description: "Makes what is missing in --folder (database, disk images, bags), serves until Ctrl-C and keeps the data.\n\nExample:\n   diorthos demo --folder .demo",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "folder", Usage: "where the demo keeps everything", Value: ".demo"},
			&cli.StringFlag{Name: "listen", Usage: "address and port", Value: "127.0.0.1:7420", Sources: cli.EnvVars("DIORTHOS_LISTEN")},
			&cli.BoolFlag{Name: "reset", Usage: "remove what is there, and stop"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			d := &demo{folder: c.String("folder"), listen: c.String("listen"), out: c.Root().Writer}
			if c.Bool("reset") {
				return d.reset()
			}
			return d.run(ctx)
		},
	}
}

type demo struct {
	folder, listen string
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
	if err := service.SetToken(ctx, db.DSN, fleet.Technician, token); err != nil {
		return err
	}
	log, err := os.OpenFile(d.path("service.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, log.Close()) }()
	serving, stop := context.WithCancel(ctx)
	defer stop()
	ready, ended := make(chan string, 1), make(chan error, 1)
	conf := config(db.DSN, d.path("bags"), log)
	conf.Ready = func(address string) { ready <- "http://" + address }
	go func() { ended <- service.Run(serving, listener, conf) }()
	select {
	case err := <-ended:
		return err
	case url := <-ready:
		if err := d.load(ctx, client.New(url, token)); err != nil {
			stop()
			return errors.Join(err, <-ended)
		}
		if err := d.greet(url, token); err != nil {
			stop()
			return errors.Join(err, <-ended)
		}
	}
	err = <-ended
	d.say("stopped; the data stay in %s", d.folder)
	return err
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
		return fmt.Errorf("%s has %d MiB free and the demo needs %d MiB: make room, or choose another folder with --folder", d.folder, free>>20, int64(demoRoom)>>20)
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
		image, bag := d.path(m.Name+".img"), d.path(m.Name+".bag.tar.gz")
		if _, err := os.Stat(bag); errors.Is(err, fs.ErrNotExist) {
			d.say("making %s", m.Name)
			if err := m.Make(ctx, image); err != nil {
				return err
			}
			if err := gather(ctx, m, image, bag); err != nil {
				return err
			}
		}
		if err := d.submit(ctx, c, bag); err != nil {
			return fmt.Errorf("hand in %s: %w", bag, err)
		}
	}
	return nil
}

func gather(ctx context.Context, m fleet.Machine, image, bag string) (err error) {
	f, err := os.Create(bag + ".new")
	if err != nil {
		return err
	}
	_, err = host.Gather(ctx, f, host.GatherOptions{Image: image, Site: m.Site, Model: m.Model, Platforms: []host.Platform{debian.Adapter{}}, Now: time.Now()})
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(bag+".new", bag)
}

func (d *demo) submit(ctx context.Context, c *client.Client, bag string) (err error) {
	f, err := os.Open(bag)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	a, err := c.Submit(ctx, f, info.Size())
	if err != nil {
		return err
	}
	return c.Watch(ctx, a.Number, func(cs client.Case) bool { return cs.State == client.Received || cs.State == client.Reading })
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
	d.say(`
Diorthos serves the demo of Skerrow Ferries.

  console   %s
  sign in   %s   (%s)

In another terminal, from this folder:

  . %s
  diorthos case 1
  diorthos layout check %s
  diorthos climb 1 --image %s

Ctrl-C stops service and database; the data stay in %s.`, url, token, fleet.Technician, d.path("env"), image, image, d.folder)
	return nil
}
