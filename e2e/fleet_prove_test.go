//go:build prove

package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/climb"
)

// fleetRun is a service of three processes, and the agents of real machines of Corbel in three processes more, all of
// which are killed at random while an outbreak is seen, held back and mended in waves.
type fleetRun struct {
	*faultRun
	front   *front
	folders [3]string // of machines, one for each process of agents
	broken  []string  // machines that lost their loader
	well    []string
	agents  [3]*faultProcess
	ends    atomic.Int64 // of agents' processes
}

// A front passes requests on to whichever process of the service answers, as a load balancer does, and can cut all.
type front struct {
	*badLine
	next atomic.Int64
}

// newFleetRun builds n machines, a fifth of which lose their loader.
func newFleetRun(t *testing.T, n int) *fleetRun {
	t.Helper()
	f := &fleetRun{faultRun: newFaultRun(t)}
	root := t.TempDir()
	for i := range f.folders {
		f.folders[i] = filepath.Join(root, strconv.Itoa(i))
		if err := os.Mkdir(f.folders[i], 0o700); err != nil {
			t.Fatal(err)
		}
		f.agents[i] = &faultProcess{}
	}
	work := make(chan int)
	var building sync.WaitGroup
	for range 2 {
		building.Go(func() {
			for i := range work {
				at := filepath.Join(f.folders[i%3], fmt.Sprintf("kiosk-%03d", i))
				if out, err := exec.Command(
					binary, "standin", "build", at, "--seed", strconv.Itoa(700+i), "--name", filepath.Base(at),
					"--site", fmt.Sprintf("Terminal %d", i%7),
				).CombinedOutput(); err != nil {
					t.Errorf("%v: %s", err, out)
				}
			}
		})
	}
	for i := range n {
		work <- i
		at := filepath.Join(f.folders[i%3], fmt.Sprintf("kiosk-%03d", i))
		if i%5 == 0 {
			f.broken = append(f.broken, at)
		} else {
			f.well = append(f.well, at)
		}
	}
	close(work)
	building.Wait()
	targets := make([]string, len(f.processes))
	for i, p := range f.processes {
		targets[i] = strings.TrimPrefix(p.url, "http://")
	}
	f.front = &front{badLine: newBadLine(t, targets[0])}
	go func() { // another process for each connection
		for t.Context().Err() == nil {
			f.front.lead(targets[f.front.next.Add(1)%int64(len(targets))])
			time.Sleep(3 * time.Millisecond)
		}
	}()
	return f
}

// keepAgents starts the agents of a folder, and starts them again whenever they ended, until ctx ends.
func (f *fleetRun) keepAgents(ctx context.Context, i int, log io.Writer) {
	for ctx.Err() == nil {
		cmd := exec.Command(binary, "agent", "many", f.folders[i], "--notice", "1s")
		cmd.Env = append(os.Environ(), "DIORTHOS_URL=http://"+f.front.listener.Addr().String(), "DIORTHOS_TOKEN="+f.token)
		cmd.Stdout, cmd.Stderr = log, log
		if err := cmd.Start(); err != nil {
			f.t.Error(err)
			return
		}
		p := f.agents[i]
		p.mu.Lock()
		p.process = cmd.Process
		p.mu.Unlock()
		stop := context.AfterFunc(ctx, func() { _ = cmd.Process.Kill() })
		_ = cmd.Wait()
		stop()
		time.Sleep(200 * time.Millisecond)
	}
}

// fail makes everything fail at random until ctx ends.
func (f *fleetRun) fail(ctx context.Context, random *rand.Rand) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second + time.Duration(random.Int64N(int64(3*time.Second)))):
		}
		switch k := random.IntN(12); {
		case k < 5:
			f.processes[random.IntN(3)].kill()
			f.kills.Add(1)
		case k < 9:
			f.agents[random.IntN(3)].kill()
			f.ends.Add(1)
		case k < 11:
			f.line.cut()
			f.front.cut()
			f.cuts.Add(1)
		default:
			f.restartDatabase(random.IntN(2) == 0)
		}
	}
}

// ask tries until it is answered: an answer that is lost is asked for again.
func (f *fleetRun) ask(what string, limit time.Duration, try func(c *client.Client) error) {
	f.t.Helper()
	var last error
	for end := time.Now().Add(limit); time.Now().Before(end); time.Sleep(300 * time.Millisecond) {
		ctx := client.New("http://"+f.front.listener.Addr().String(), f.token)
		if last = try(ctx); last == nil {
			return
		}
	}
	f.t.Fatalf("%s: not in %s: %v", what, limit, last)
}

var errNotYet = errors.New("not yet")

// An outbreak on some of many machines is seen, held back, mended on one and then on its like in waves, while processes
// of the service and of the agents are killed every few seconds, PostgreSQL is ended and connections are cut. Nothing
// is lost, nothing is done twice, no hold stays, every machine that was mended starts, and none that was well is
// changed. DIORTHOS_FLEET says how many machines; the seed is printed.
func TestAFleetIsMendedWhileEverythingFails(t *testing.T) {
	n := 60
	if text := os.Getenv("DIORTHOS_FLEET"); text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil {
			t.Fatal(err)
		}
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d, %d machines", seed, n)
	f := newFleetRun(t, n)
	serving, processes, logs := f.serve("diorthos-fleet.log")
	for i := range f.agents {
		processes.Go(func() { f.keepAgents(serving, i, logs) })
	}
	f.ask("every agent is enrolled, and every machine known", 10*time.Minute, func(c *client.Client) error {
		page, err := c.Machines(t.Context(), client.MachineQuery{Limit: 200})
		if err == nil && len(page.Machines) < min(n, 200) {
			err = errNotYet
		}
		list, err2 := c.Agents(t.Context())
		if err == nil && err2 == nil && len(list) < n {
			err = errNotYet
		}
		return errors.Join(err, err2)
	})
	troubled, quiet := context.WithCancel(t.Context())
	var trouble sync.WaitGroup
	trouble.Go(func() { f.fail(troubled, rand.New(rand.NewPCG(seed, 0))) })
	defer func() { quiet(); trouble.Wait() }()

	// The update of the day takes their loader. Nobody hands anything in: the agents notice.
	began := time.Now()
	for _, at := range f.broken {
		f.harm(at)
	}
	planted := time.Now()
	cohort := f.outbreak()
	t.Logf("outbreak raised %s after the first machine was harmed", time.Since(began).Round(time.Second))
	const held = "Corbel 7.2 update of November"
	f.ask("the hold", 2*time.Minute, func(c *client.Client) error {
		_, err := c.Hold(t.Context(), 1, held)
		return err
	})
	f.ask("every broken machine in the cohort", 8*time.Minute, func(c *client.Client) error {
		d, err := c.Cohort(t.Context(), cohort)
		if err == nil && d.Machines < len(f.broken) {
			err = fmt.Errorf("%w: %d of %d", errNotYet, d.Machines, len(f.broken))
		}
		return err
	})
	t.Logf(
		"all %d failing machines were known %s after the last was harmed",
		len(f.broken),
		time.Since(planted).Round(time.Second),
	)
	remedy := f.mendFirst(cohort)
	waved := time.Now()
	proven := f.waves(cohort, remedy)
	t.Logf("the waves took %s, %d mended", time.Since(waved).Round(time.Second), len(proven))
	f.ask("the hold is lifted", 2*time.Minute, func(c *client.Client) error {
		_, err := c.Hold(t.Context(), 1, "")
		return err
	})
	quiet()
	trouble.Wait()
	f.ask("no machine holds anything any more", 3*time.Minute, func(c *client.Client) error {
		list, err := c.Agents(t.Context())
		if err != nil {
			return err
		}
		for _, a := range list {
			if len(a.Held) > 0 {
				return fmt.Errorf("%w: %s holds %v", errNotYet, a.Machine, a.Held)
			}
		}
		return nil
	})
	f.allRead(3 * time.Minute)
	f.end()
	f.account(len(proven))
}

// harm takes a machine's loader, and has it try to start.
func (f *fleetRun) harm(at string) {
	f.t.Helper()
	if out, err := exec.Command(binary, "standin", "break", at, "loader-gone").CombinedOutput(); err != nil {
		f.t.Fatalf("%v: %s", err, out)
	}
	_ = exec.Command(binary, "standin", "try", at, "start").Run() // it fails
}

// outbreak waits until one is raised, and returns its cohort.
func (f *fleetRun) outbreak() (cohort int64) {
	f.t.Helper()
	f.ask("an outbreak", 5*time.Minute, func(c *client.Client) error {
		list, err := c.Outbreaks(f.t.Context())
		if err == nil && len(list) == 0 {
			err = errNotYet
		}
		if err == nil {
			cohort = list[0].Cohort
		}
		return err
	})
	return cohort
}

// mendFirst climbs one machine of the cohort by hand, so that the repair is proven on one.
func (f *fleetRun) mendFirst(cohort int64) (remedy string) {
	f.t.Helper()
	var d *client.CohortDetail
	f.ask("the cohort", time.Minute, func(c *client.Client) (err error) {
		d, err = c.Cohort(f.t.Context(), cohort)
		return err
	})
	number, machine := d.Cases[0].Number, d.Cases[0].Machine
	var detail *client.CaseDetail
	f.ask("its case", time.Minute, func(c *client.Client) (err error) {
		detail, err = c.Case(f.t.Context(), number)
		return err
	})
	at, _ := filepath.Glob(filepath.Join(filepath.Dir(f.folders[0]), "*", machine))
	f.ask("the first climb", 5*time.Minute, func(*client.Client) error {
		cmd := exec.Command(binary, "climb", strconv.FormatInt(number, 10), "--image", at[0])
		cmd.Env = append(os.Environ(), "DIORTHOS_URL=http://"+f.front.listener.Addr().String(), "DIORTHOS_TOKEN="+f.token)
		out, err := cmd.CombinedOutput()
		if err != nil && !strings.Contains(string(out), "nothing") {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
	remedy = detail.Docket.ToDo[0].Remedy
	f.ask("the outcome of the first climb", 3*time.Minute, func(c *client.Client) error {
		d, err := c.Cohort(f.t.Context(), cohort)
		if err == nil {
			for _, h := range d.Helped {
				if h.Remedy == remedy && h.Proven > 0 {
					return nil
				}
			}
			err = errNotYet
		}
		return err
	})
	return remedy
}

// waves offers the repair until it was proven on every machine of the cohort but the first: one that was left out, as
// what it handed in was not read yet, is offered it again.
func (f *fleetRun) waves(cohort int64, remedy string) (proven map[string]bool) {
	f.t.Helper()
	proven = map[string]bool{}
	f.ask("every machine of the cohort is mended", 25*time.Minute, func(c *client.Client) error {
		list, err := c.Rollouts(f.t.Context())
		if err != nil {
			return err
		}
		going := false
		for _, r := range list {
			full, err := c.Rollout(f.t.Context(), r.ID)
			if err != nil {
				return err
			}
			for _, m := range full.Members {
				if m.State == client.OrderProven {
					proven[m.Machine] = true
				}
			}
			if going = going || r.State == "going"; r.State == "halted" {
				f.t.Logf("roll-out %d was halted: %s", r.ID, r.Why)
				_, err := c.ChangeRollout(f.t.Context(), r.ID, "going")
				return errors.Join(err, errNotYet)
			}
		}
		switch {
		case len(proven) == len(f.broken)-1:
			return nil
		case !going:
			_, err = c.Offer(f.t.Context(), client.RolloutWish{Cohort: cohort, Remedy: remedy})
		}
		return errors.Join(err, fmt.Errorf("%w: %d mended", errNotYet, len(proven)))
	})
	return proven
}

// account holds what is on the machines against what the service says of them.
func (f *fleetRun) account(mended int) {
	t := f.t
	var dead, changed, twice, open, owed int
	for i, at := range append(append([]string{}, f.broken...), f.well...) {
		if out, err := exec.Command(binary, "standin", "try", at, "start").CombinedOutput(); err != nil {
			dead++
			t.Errorf("%s does not start: %s", filepath.Base(at), out)
		}
		record, err := climb.ReadRecord(filepath.Join(at, filepath.Base(at)+".climbs"), filepath.Base(at))
		if err != nil {
			t.Fatal(err)
		}
		done := map[string]int{}
		for _, m := range record.Mended() {
			if m.Outcome == string(climb.Proven) {
				done[m.Remedy]++
			}
		}
		if done[string(action.HoldBack)] != done[string(action.LetGo)] {
			owed++
			t.Errorf("%s: held back %d times, let go %d times", filepath.Base(at), done[string(action.HoldBack)],
				done[string(action.LetGo)])
		}
		for what, n := range done {
			switch {
			case what == string(action.HoldBack) || what == string(action.LetGo):
			case i >= len(f.broken):
				changed++
				t.Errorf("%s was well, and %s was done on it", filepath.Base(at), what)
			case n > 1:
				twice++
				t.Errorf("%s: %s was done %d times", filepath.Base(at), what, n)
			}
		}
		owed += len(record.Owed())
		if e := record.Unfinished(); e != nil {
			open++
			t.Errorf("%s: %s was begun and never ended: %+v", filepath.Base(at), e.Remedy, e)
		}
	}
	conn := f.connect()
	count := func(query string) (n int) {
		if err := conn.QueryRow(t.Context(), query).Scan(&n); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		return n
	}
	rows, err := conn.Query(
		t.Context(),
		"select c.title || ', ' || c.machines || ' machines' from outbreaks o join cohorts c on c.id = o.cohort_id",
	)
	if err != nil {
		t.Fatal(err)
	}
	titles, err := pgx.CollectRows(rows, pgx.RowTo[string])
	t.Logf("outbreaks: %q %v", titles, err)
	t.Logf("kill -9 of the service: %d, of agents: %d, PostgreSQL ended: %d, connections cut: %d", f.kills.Load(),
		f.ends.Load(), f.restarts.Load(), f.cuts.Load())
	for _, row := range []struct {
		what     string
		got, aim int
	}{
		{"machines that the wave mended", mended, len(f.broken) - 1},
		{"machines that do not start", dead, 0},
		{"healthy machines that were changed", changed, 0},
		{"repairs that were done twice", twice, 0},
		{"repairs that were begun and never ended", open, 0},
		{"loans that are owed", owed, 0},
		{"orders that never ended", count("select count(*) from orders where state in ('ordered', 'running', 'lost')"), 0},
		{"outbreaks", count("select count(*) from outbreaks"), 1},
		{"cases unreadable", count("select count(*) from cases where state = 'unreadable'"), 0},
	} {
		t.Logf("%-40s %5d   aim %d", row.what, row.got, row.aim)
		if row.got != row.aim {
			t.Errorf("%s: %d", row.what, row.got)
		}
	}
}
