package crowd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"diorthos/agent"
	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
)

// A Crowd is agents of machines that are not there.
type Crowd struct {
	URL      string
	Token    string // of somebody who may make codes
	Folder   string // for a folder of each agent
	Machines int
	// Name is what machine n is called and where it stands; nil for names of its own.
	Name func(n int) (name, site string)
	Seed uint64
	// Day is how long a day of the machines takes. In each, Failing of them fail, each for a cause of its own.
	Day     time.Duration
	Failing float64
	// Outbreak is the share of the machines that take one update in each day, and HitRate the share of those that cannot.
	Outbreak, HitRate float64
	// Flap is how often a second, of all open connections, one is cut.
	Flap float64
	// Known means that the service knows machines that never failed already, so that they hand nothing in.
	Known bool

	Enrolled, HandedIn, Tried, Hit, Cut atomic.Int64

	mu    sync.Mutex // guards Outbreak and HitRate once it runs
	lines lines
}

// Strike sets what share takes the update in each day from now on, and what share of those cannot.
func (c *Crowd) Strike(outbreak, hitRate float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Outbreak, c.HitRate = outbreak, hitRate
}

func (c *Crowd) struck() (outbreak, hitRate float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.Outbreak, c.HitRate
}

// Made is the name of a machine where nothing else is wanted.
func Made(n int) (name, site string) {
	site = fmt.Sprintf("Terminal %d", n%40)
	return fmt.Sprintf("berth%d-desk-%d", n%40, n), site
}

// How many enrol at once, and how often each tries.
const (
	mostEnrolling = 32
	mostTries     = 6 // for one
)

// Run enrols those that have not enrolled, and has all of them work until ctx ends.
func (c *Crowd) Run(ctx context.Context) error {
	if c.Name == nil {
		c.Name = Made
	}
	c.lines.open = map[net.Conn]struct{}{}
	machines := make([]*machine, c.Machines)
	for i := range machines {
		machines[i] = c.machine(i)
	}
	var running sync.WaitGroup
	defer running.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if c.Flap > 0 {
		running.Go(func() { c.flap(ctx) })
	}
	if err := c.enrol(ctx, machines, func(m *machine) { running.Go(func() { m.run(ctx) }) }); err != nil {
		return err
	}
	<-ctx.Done()
	return nil
}

// enrol makes the machines known, many at once, and starts each that is.
func (c *Crowd) enrol(ctx context.Context, machines []*machine, start func(*machine)) error {
	desk := client.New(c.URL, c.Token)
	next := make(chan *machine)
	failed := make(chan error, mostEnrolling)
	var enrolling sync.WaitGroup
	for range mostEnrolling {
		enrolling.Go(func() {
			for m := range next {
				if err := m.enrol(ctx, desk); err != nil {
					failed <- err
					return
				}
				c.Enrolled.Add(1)
				start(m)
			}
		})
	}
	var err error
	for _, m := range machines {
		select {
		case next <- m:
		case err = <-failed:
		case <-ctx.Done():
			err = ctx.Err()
		}
		if err != nil {
			break
		}
	}
	close(next)
	enrolling.Wait()
	select {
	case late := <-failed:
		err = errors.Join(err, late)
	default:
	}
	return err
}

// machine is one that is not there.
type machine struct {
	crowd      *Crowd
	name, site string
	agent      *agent.Agent
	random     *rand.Rand

	mu    sync.Mutex
	fails string // what its last attempt came to; empty where none failed
	tries int64
}

func (c *Crowd) machine(n int) *machine {
	m := &machine{crowd: c, random: rand.New(rand.NewPCG(c.Seed, uint64(n)))} //nolint:gosec // to repeat a run
	m.name, m.site = c.Name(n)
	m.agent = &agent.Agent{
		Folder: filepath.Join(c.Folder, m.name), Host: m.name, Log: slog.New(slog.DiscardHandler), Every: 10 * c.Day,
		Notice: max(c.Day/100, time.Second), Dial: c.lines.dialer(n),
		Open:   func(*bag.Facts) (climb.Machine, error) { return nil, errNotThere },
		Record: func() (*climb.Record, error) { return nil, climb.ErrBusy },
		Target: func(action.ID) (*block.Target, error) { return nil, errNotThere },
		Undo:   func(context.Context, string) error { return errNotThere },
		Trace:  m.trace, Gather: m.gather,
	}
	return m
}

var errNotThere = errors.New("this machine is simulated: it has no disk")

func (m *machine) enrol(ctx context.Context, desk *client.Client) error {
	err := m.agent.Load()
	if !errors.Is(err, agent.ErrNotEnrolled) {
		return err
	}
	for tries := 1; ; tries++ { // the network is as bad for this as for all else
		var code *client.AgentCode
		if code, err = desk.MakeCode(ctx, client.CodeWish{Machine: m.name, Site: m.site}); err == nil {
			_, err = m.agent.Enrol(ctx, m.crowd.URL, code.Code)
		}
		if err == nil || tries == mostTries || ctx.Err() != nil {
			return err
		}
		time.Sleep(time.Duration(tries) * time.Second)
	}
}

// run has the agent work while the machine lives through its days.
func (m *machine) run(ctx context.Context) {
	var living sync.WaitGroup
	living.Go(func() { _ = m.agent.Run(ctx) }) // it ends with ctx
	day := m.crowd.Day
	for wait := time.Duration(m.random.Int64N(int64(day))); ; wait = day {
		select {
		case <-ctx.Done():
			living.Wait()
			return
		case <-time.After(wait):
			m.live()
		}
	}
}

// live is a day of the machine.
func (m *machine) live() {
	outbreak, hitRate := m.crowd.struck()
	updated := m.random.Float64() < outbreak
	hit := updated && m.random.Float64() < hitRate
	if updated {
		m.crowd.Tried.Add(1)
	}
	alone := m.random.Float64() < m.crowd.Failing
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case hit:
		m.crowd.Hit.Add(1)
		m.fails = "beacon-driver (2.4-1)"
	case alone:
		m.fails = fmt.Sprintf("%s-%d (1.%d-1)", own[m.random.IntN(len(own))], m.random.IntN(400), m.random.IntN(9))
	case updated:
		m.fails = ""
	default:
		return
	}
	m.tries++
}

// own are packages that fail by themselves, here and there.
var own = []string{"tern", "skua", "fulmar", "gannet", "petrel", "dunlin", "curlew", "godwit", "plover", "puffin"}

func (m *machine) trace() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return fmt.Sprintf("tried %d", m.tries)
}

// gather writes what the machine would hand in.
func (m *machine) gather(_ context.Context, path string) (digest string, err error) {
	m.mu.Lock()
	fails, tries := m.fails, m.tries
	m.mu.Unlock()
	if tries == 0 && m.crowd.Known {
		return "", nil // nothing that the service does not know
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	now := time.Now()
	w, err := bag.NewWriter(f, bag.Options{Name: m.name, Created: now})
	if err != nil {
		return "", err
	}
	if err := w.AddFacts(m.facts(now)); err != nil {
		return "", err
	}
	log := attempt(now, fails, tries)
	if err := w.AddFile("logs/term.log", int64(len(log)), bytes.NewReader(log)); err != nil {
		return "", err
	}
	if _, err := w.Close(); err != nil {
		return "", err
	}
	m.crowd.HandedIn.Add(1)
	return fmt.Sprintf("%s %d", fails, tries), nil
}

func (m *machine) facts(now time.Time) *bag.Facts {
	in := &bag.Installed{
		Family: "debian", Name: "Debian GNU/Linux", Version: "12", Architecture: "amd64", Kernel: "6.1.0-18-amd64",
		Sources: []bag.Source{}, Packages: []bag.Package{},
	}
	for i := range 40 {
		in.Packages = append(in.Packages, bag.Package{Name: fmt.Sprintf("part-%d", i), Version: "1.0-1", State: "installed"})
	}
	return &bag.Facts{
		Schema: bag.FactsVersion, Gathered: now.UTC(), Disks: []bag.Disk{}, Installed: in,
		Machine: bag.Machine{Name: m.name, Site: m.site, Model: "Havnar D4 desktop"},
	}
}

// attempt is the log of a run of packages.
func attempt(now time.Time, fails string, n int64) []byte {
	var b bytes.Buffer
	_, _ = fmt.Fprintf(&b, "Log started: %s\n", now.UTC().Format("2006-01-02  15:04:05"))
	what := fails
	if what == "" {
		what = "beacon-driver (2.4-1)"
	}
	name, _, _ := bytes.Cut([]byte(what), []byte(" "))
	_, _ = fmt.Fprintf(&b, "Preparing to unpack .../%s.deb ...\nUnpacking %s ...\nSetting up %s ...\n", name, what, what)
	if fails != "" {
		_, _ = fmt.Fprintf(&b, "/var/lib/dpkg/info/%s.postinst: 3: cannot open /etc/%[1]s.conf: No such file\n"+
			"dpkg: error processing package %[1]s (--configure):\n"+
			" installed %[1]s package post-installation script subprocess returned error exit status 2\n"+
			"Errors were encountered while processing:\n %[1]s\n", name)
	}
	_, _ = fmt.Fprintf(&b, "Log ended: %s\n", now.UTC().Add(time.Duration(n)*time.Second).Format("2006-01-02  15:04:05"))
	return b.Bytes()
}

// lines are the connections of all.
type lines struct {
	mu   sync.Mutex
	open map[net.Conn]struct{}
}

// places is from how many addresses of this computer they come: one has ports for some 28,000.
const places = 20

// dialer dials from an address of machine n.
func (l *lines) dialer(n int) func(context.Context, string, string) (net.Conn, error) {
	from := &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+n%places))}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		d := net.Dialer{Timeout: 10 * time.Second}
		if host, _, err := net.SplitHostPort(address); err == nil && net.ParseIP(host).IsLoopback() {
			d.LocalAddr = from
		}
		conn, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		kept := &line{Conn: conn, of: l}
		l.mu.Lock()
		l.open[kept] = struct{}{}
		l.mu.Unlock()
		return kept, nil
	}
}

type line struct {
	net.Conn
	of *lines
}

func (l *line) Close() error {
	l.of.mu.Lock()
	delete(l.of.open, l)
	l.of.mu.Unlock()
	return l.Conn.Close()
}

// flap cuts connections, one after the other.
func (c *Crowd) flap(ctx context.Context) {
	tick := time.NewTicker(time.Duration(float64(time.Second) / c.Flap))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		c.lines.mu.Lock()
		for conn := range c.lines.open { // any
			_ = conn.(*line).Conn.Close() //nolint:forcetypeassert // only such are kept
			c.Cut.Add(1)
			break
		}
		c.lines.mu.Unlock()
	}
}

// Tell writes a line on how it goes.
func (c *Crowd) Tell(w io.Writer) {
	c.lines.mu.Lock()
	open := len(c.lines.open)
	c.lines.mu.Unlock()
	_, _ = fmt.Fprintf(w, "%d enrolled, %d connected, %d bags, %d hit by the outbreak, %d connections cut\n",
		c.Enrolled.Load(), open, c.HandedIn.Load(), c.Hit.Load(), c.Cut.Load())
}
