//go:build prove

package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/service"
	"diorthos/standin/cluster"
	"diorthos/standin/fleet"
)

// faultRun is a service of three processes on one PostgreSQL whose parts fail at random while bags come in.
type faultRun struct {
	t         *testing.T
	work      string // temp folders of the processes
	bags      string // a small volume of its own, so that it can be full
	line      *badLine
	db        string // where the cluster lies
	dsn       string // through the line
	processes [3]*faultProcess
	token     string
	end       func() // ends all processes

	kills, restarts, cuts, fills, jumps, slow, unread atomic.Int64
	taken                                             sync.Map // digest → acknowledged
	sent, repeated, broken                            atomic.Int64
	full                                              atomic.Int64 // bags that were refused because the volume was full
}

// faultProcess is one of the processes; it is started again whenever it ended.
type faultProcess struct {
	url     string
	mu      sync.Mutex
	process *os.Process
}

// acknowledged is a bag for which the service has answered, and the case that it said.
type acknowledged struct {
	number int64
	packed [sha256.Size]byte
	at     time.Time
}

// badLine passes connections on to PostgreSQL, and can cut them all.
type badLine struct {
	listener net.Listener
	mu       sync.Mutex
	to       string
	open     map[net.Conn]bool
}

func newBadLine(t *testing.T, to string) *badLine {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := &badLine{listener: l, to: to, open: map[net.Conn]bool{}}
	go b.serve()
	t.Cleanup(func() { _ = l.Close() })
	return b
}

func (b *badLine) serve() {
	for {
		near, err := b.listener.Accept()
		if err != nil {
			return
		}
		go b.pass(near)
	}
}

func (b *badLine) pass(near net.Conn) {
	b.mu.Lock()
	to := b.to
	b.mu.Unlock()
	far, err := net.Dial("tcp", to)
	if err != nil {
		_ = near.Close()
		return
	}
	b.mu.Lock()
	b.open[near], b.open[far] = true, true
	b.mu.Unlock()
	both := make(chan struct{}, 2)
	one := func(dst, src net.Conn) {
		_, _ = io.Copy(dst, src)
		both <- struct{}{}
	}
	go one(near, far)
	go one(far, near)
	<-both
	_, _ = near.Close(), far.Close()
	<-both
	b.mu.Lock()
	delete(b.open, near)
	delete(b.open, far)
	b.mu.Unlock()
}

// cut ends every connection at once: whoever waited for the answer to a commit does not learn it.
func (b *badLine) cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.open {
		_ = c.Close()
	}
}

func (b *badLine) lead(to string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.to = to
}

// smallVolume is a mounted volume of some megabytes.
func smallVolume(t *testing.T, megabytes int) string {
	t.Helper()
	dir := t.TempDir()
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm,mode=700", megabytes), "tmpfs", dir).
		CombinedOutput()
	if err != nil {
		t.Fatalf("mount, for which root is needed: %v: %s", err, out)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

func newFaultRun(t *testing.T) *faultRun {
	t.Helper()
	f := &faultRun{t: t, token: "token-of-faults", work: t.TempDir(), bags: smallVolume(t, 400)}
	dir, err := os.MkdirTemp("", "diorthos-faults-") // another user than ours must be able to enter
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cluster.Remove(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	f.db = filepath.Join(dir, "database")
	c, err := cluster.Start(t.Context(), f.db, cluster.Options{})
	if err != nil {
		t.Fatal(err)
	}
	f.line = newBadLine(t, addressOf(t, c.DSN))
	f.dsn = strings.Replace(c.DSN, addressOf(t, c.DSN), f.line.listener.Addr().String(), 1)
	conn, err := pgx.Connect(t.Context(), f.dsn)
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		databaseClock(0),
		"do $$ begin execute format('alter database %I set search_path = public, pg_catalog', current_database()); end $$",
	} {
		if _, err := conn.Exec(t.Context(), statement); err != nil {
			t.Fatal(err)
		}
	}
	_ = conn.Close(t.Context())
	if err := service.SetToken(t.Context(), f.dsn, fleet.Technician, f.token); err != nil {
		t.Fatal(err)
	}
	for i := range f.processes {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		f.processes[i] = &faultProcess{url: "http://" + l.Addr().String()}
		_ = l.Close()
	}
	t.Cleanup(func() { _ = c.Stop() })
	return f
}

func addressOf(t *testing.T, dsn string) string {
	t.Helper()
	conf, err := pgx.ParseConfig(dsn)
	if err != nil {
		t.Fatal(err)
	}
	return net.JoinHostPort(conf.Host, strconv.Itoa(int(conf.Port)))
}

// keep starts a process, and starts it again whenever it ended, until ctx ends.
func (f *faultRun) keep(ctx context.Context, p *faultProcess, log io.Writer) {
	for ctx.Err() == nil {
		cmd := exec.Command(
			binary, "serve", "--database", f.dsn, "--bags", f.bags, "--listen", strings.TrimPrefix(p.url, "http://"),
		)
		cmd.Env = append(os.Environ(), "TMPDIR="+f.work)
		cmd.Stdout, cmd.Stderr = log, log
		if err := cmd.Start(); err != nil {
			f.t.Error(err)
			return
		}
		p.mu.Lock()
		p.process = cmd.Process
		p.mu.Unlock()
		stop := context.AfterFunc(ctx, func() { _ = cmd.Process.Signal(syscall.SIGTERM) })
		_ = cmd.Wait()
		stop()
	}
}

func (p *faultProcess) kill() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.process != nil {
		_ = p.process.Kill()
	}
}

// send hands a bag in, as a client does that tries until it is answered: at another process each time, sometimes
// on a connection that it closes as soon as the last byte has left.
func (f *faultRun) send(ctx context.Context, random *rand.Rand, packed []byte) {
	f.sent.Add(1)
	for first := true; ctx.Err() == nil; first = false {
		if !first {
			f.repeated.Add(1)
			time.Sleep(time.Duration(random.IntN(200)) * time.Millisecond)
		}
		p := f.processes[random.IntN(len(f.processes))]
		if random.IntN(4) == 0 {
			f.sendAndHangUp(p, packed, time.Duration(random.IntN(13))*time.Millisecond)
			f.broken.Add(1)
			continue
		}
		a, err := f.client(p).Submit(ctx, bytes.NewReader(packed), int64(len(packed)))
		if err != nil {
			if p := (*client.Problem)(nil); errors.As(err, &p) && p.Status == http.StatusInsufficientStorage {
				f.full.Add(1)
			}
			continue
		}
		f.taken.Store(a.Bag, acknowledged{a.Number, sha256.Sum256(packed), time.Now()})
		return
	}
}

func (f *faultRun) client(p *faultProcess) *client.Client { return client.New(p.url, f.token) }

func (f *faultRun) sendAndHangUp(p *faultProcess, packed []byte, after time.Duration) {
	conn, err := net.DialTimeout("tcp", strings.TrimPrefix(p.url, "http://"), time.Second)
	if err != nil {
		return
	}
	defer func() { _ = conn.Close() }()
	_, err = fmt.Fprintf(
		conn, "POST /api/v1/bags HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\n%s",
		f.token, len(packed), packed,
	)
	if err == nil {
		time.Sleep(after)
	}
}

// someBag is evidence that no other bag holds: the log of a run that fails.
func (f *faultRun) someBag(dir string, n int64) []byte {
	log := fmt.Sprintf("Log started: 2026-11-17  12:%02d:%02d\nSetting up tern-tools (%d) ...\n"+
		"/var/lib/dpkg/info/tern-tools.postinst: 3: cannot open /etc/tern: No such file\n"+
		"dpkg: error processing package tern-tools (--configure):\n"+
		" installed tern-tools package post-installation script subprocess returned error exit status 2\n",
		n/60%60, n%60, n)
	path := evidenceIn(f.t, dir, fmt.Sprintf("skua-%d", n%200), int64(len(log)), strings.NewReader(log))
	packed, err := os.ReadFile(path)
	if err != nil {
		f.t.Fatal(err)
	}
	return packed
}

// trouble makes things fail at random until ctx ends.
func (f *faultRun) trouble(ctx context.Context, random *rand.Rand) {
	pause := func(least, most time.Duration) bool {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(least + time.Duration(random.Int64N(int64(most-least)))):
			return true
		}
	}
	var others sync.WaitGroup
	others.Go(func() {
		for pause(20*time.Second, 34*time.Second) {
			f.restartDatabase(random.IntN(2) == 0)
		}
	})
	others.Go(func() {
		for pause(2*time.Second, 8*time.Second) {
			f.line.cut()
			f.cuts.Add(1)
		}
	})
	others.Go(func() {
		for pause(25*time.Second, 45*time.Second) {
			f.fill(2 * time.Second)
		}
	})
	others.Go(func() {
		for pause(10*time.Second, 30*time.Second) {
			f.jump(ctx, time.Duration(random.IntN(7200)-3600)*time.Second)
		}
	})
	others.Go(func() {
		for pause(15*time.Second, 35*time.Second) {
			f.slowDown(ctx, 5*time.Second)
		}
	})
	for pause(600*time.Millisecond, 1800*time.Millisecond) {
		f.processes[random.IntN(len(f.processes))].kill()
		f.kills.Add(1)
	}
	others.Wait()
}

// restartDatabase ends PostgreSQL, by kill -9 where it is told so, and starts it again.
func (f *faultRun) restartDatabase(kill bool) {
	if pid, err := os.ReadFile(filepath.Join(f.data(), "data", "postmaster.pid")); err == nil && kill {
		if n, err := strconv.Atoi(strings.SplitN(string(pid), "\n", 2)[0]); err == nil {
			_ = syscall.Kill(n, syscall.SIGKILL)
		}
	}
	c, err := cluster.Start(context.Background(), f.db, cluster.Options{})
	if err != nil {
		f.t.Errorf("PostgreSQL does not start again: %v", err)
		return
	}
	f.line.lead(addressOf(f.t, c.DSN))
	f.restarts.Add(1)
	f.t.Cleanup(func() { _ = c.Stop() })
}

func (f *faultRun) data() string {
	if at, err := os.Readlink(f.db); err == nil {
		return at
	}
	return f.db
}

// databaseClock makes the database's clock, as every statement of the service reads it, one that is off.
func databaseClock(off time.Duration) string {
	return fmt.Sprintf(`create or replace function public.now() returns timestamptz language sql stable as
		$f$ select pg_catalog.now() + interval '%d seconds' $f$`, int(off.Seconds()))
}

// jump sets the database's clock.
func (f *faultRun) jump(ctx context.Context, off time.Duration) {
	conn, err := pgx.Connect(ctx, f.dsn)
	if err != nil {
		return // it is away
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if _, err := conn.Exec(ctx, databaseClock(off)); err == nil {
		f.jumps.Add(1)
	}
}

// slowDown makes every write that is to be durable take long, in the service and in the database.
func (f *faultRun) slowDown(ctx context.Context, during time.Duration) {
	args := []string{"-f", "-qqq", "-o", "/dev/null", "-e", "trace=fsync,fdatasync",
		"-e", "inject=fsync,fdatasync:delay_enter=300000"}
	for _, p := range f.processes {
		p.mu.Lock()
		if p.process != nil {
			args = append(args, "-p", strconv.Itoa(p.process.Pid))
		}
		p.mu.Unlock()
	}
	ctx, cancel := context.WithTimeout(ctx, during)
	defer cancel()
	cmd := exec.CommandContext(ctx, "strace", append(args, f.backends()...)...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) } // it lets go of them
	cmd.WaitDelay = 5 * time.Second
	if _ = cmd.Run(); ctx.Err() != nil { // else one of them had ended, or may not be traced
		f.slow.Add(1)
	}
}

// backends are PostgreSQL's processes, as strace wants them.
func (f *faultRun) backends() (args []string) {
	raw, err := os.ReadFile(filepath.Join(f.data(), "data", "postmaster.pid"))
	if err != nil {
		return nil
	}
	out, _ := exec.Command("pgrep", "-P", strings.SplitN(string(raw), "\n", 2)[0]).Output()
	for _, pid := range strings.Fields(string(out)) {
		args = append(args, "-p", pid)
	}
	return args
}

// fill takes all the room where bags are kept, for a while.
func (f *faultRun) fill(during time.Duration) {
	path := filepath.Join(f.bags, "ballast")
	if w, err := os.Create(path); err == nil {
		_, _ = io.Copy(w, &repeat{text: []byte{0}})
		_ = w.Close()
	}
	time.Sleep(during)
	_ = os.Remove(path)
	f.fills.Add(1)
}

// Three processes and their database are killed, cut off from one another and left without room while bags come in,
// many of them on connections that end before the answer. What was acknowledged is kept whole, read once, and made
// one case; nothing else is left lying about. DIORTHOS_FAULTS says for how long; the seed is printed.
func TestFaultsLoseNothing(t *testing.T) {
	length := 10 * time.Minute
	if text := os.Getenv("DIORTHOS_FAULTS"); text != "" {
		var err error
		if length, err = time.ParseDuration(text); err != nil {
			t.Fatal(err)
		}
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d, for %s", seed, length)
	f := newFaultRun(t)
	f.serve("diorthos-faults.log")
	f.load(length, seed)
	// Quiet now: what was begun is brought to its end.
	for _, p := range f.processes {
		f.answers(p, time.Minute)
	}
	calm := time.Now()
	f.allRead(5 * time.Minute)
	settled := time.Since(calm)
	f.judge(settled)
}

// serve has all processes run until the test ends, and write to a log in the folder for temporary files.
func (f *faultRun) serve(name string) (until context.Context, running *sync.WaitGroup, logs *os.File) {
	f.t.Helper()
	logs, err := os.Create(filepath.Join(os.TempDir(), name))
	if err != nil {
		f.t.Fatal(err)
	}
	until, end := context.WithCancel(f.t.Context())
	running = &sync.WaitGroup{}
	f.end = func() { end(); running.Wait() }
	f.t.Cleanup(func() { f.end(); _ = logs.Close() })
	for _, p := range f.processes {
		running.Go(func() { f.keep(until, p, logs) })
	}
	for _, p := range f.processes {
		f.answers(p, time.Minute)
	}
	return until, running, logs
}

// load hands bags in while things fail.
func (f *faultRun) load(length time.Duration, seed uint64) {
	troubled, quiet := context.WithTimeout(f.t.Context(), length)
	defer quiet()
	var all sync.WaitGroup
	all.Go(func() { f.trouble(troubled, rand.New(rand.NewPCG(seed, 0))) })
	all.Go(func() { f.countUnread(troubled) })
	var next atomic.Int64
	for i := range 6 {
		dir := f.t.TempDir()
		all.Go(func() {
			random := rand.New(rand.NewPCG(seed, uint64(i+1)))
			for troubled.Err() == nil {
				if f.unread.Load() > mostUnread {
					time.Sleep(100 * time.Millisecond)
					continue
				}
				f.send(f.t.Context(), random, f.someBag(dir, next.Add(1))) // not troubled: what was begun is brought to its end
			}
		})
	}
	all.Wait()
}

// mostUnread is how many bags may wait to be read before no more are handed in: what is measured is how long a hindered
// one takes, not how fast bags are read.
const mostUnread = 300

// countUnread keeps count of the bags that wait, until ctx ends.
func (f *faultRun) countUnread(ctx context.Context) {
	for ctx.Err() == nil {
		time.Sleep(time.Second)
		conn, err := pgx.Connect(ctx, f.dsn)
		if err != nil {
			continue // it is away
		}
		var n int64
		if conn.QueryRow(ctx, "select count(*) from cases where state in ('received', 'reading')").Scan(&n) == nil {
			f.unread.Store(n)
		}
		_ = conn.Close(context.Background())
	}
}

func (f *faultRun) answers(p *faultProcess, limit time.Duration) {
	f.t.Helper()
	within(f.t, limit, p.url+" answers", func() bool {
		resp, err := http.Get(p.url + "/readyz")
		if err != nil {
			return false
		}
		_ = resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	})
}

func (f *faultRun) connect() *pgx.Conn {
	f.t.Helper()
	conn, err := pgx.Connect(f.t.Context(), f.dsn)
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

func (f *faultRun) allRead(limit time.Duration) {
	f.t.Helper()
	conn := f.connect()
	defer func() {
		if !f.t.Failed() {
			return
		}
		var left string
		_ = conn.QueryRow(context.Background(), `select string_agg(l, E'\n') from (select to_json(c)::text || ' ' ||
			coalesce((select string_agg(to_json(j)::text, ' ') from river_job j
				where j.args @> jsonb_build_object('number', c.number)), '') l
			from (select number, state, claim, heartbeat, updated_at, now(), pg_catalog.now() as clock from cases
				where state in ('received', 'reading') limit 5) c) x`).Scan(&left)
		f.t.Logf("left:\n%s", left)
	}()
	within(f.t, limit, "every case is read", func() bool {
		var n int
		const unread = "select count(*) from cases where state in ('received', 'reading')"
		if err := conn.QueryRow(f.t.Context(), unread).Scan(&n); err != nil {
			f.t.Fatal(err)
		}
		return n == 0
	})
}

// judge holds what is kept against what was acknowledged.
func (f *faultRun) judge(settled time.Duration) {
	conn := f.connect()
	numbers := map[int64]string{}
	var lost, other, changed, acks int
	f.taken.Range(func(key, value any) bool {
		acks++
		digest, a := key.(string), value.(acknowledged)
		if before := numbers[a.number]; before != "" && before != digest {
			other++ // one case for two bags
		}
		numbers[a.number] = digest
		kept := sha256.New()
		if err := f.client(f.processes[0]).Bag(f.t.Context(), a.number, kept); err != nil {
			lost++
			f.t.Errorf("case %d: %v", a.number, err)
		} else if [sha256.Size]byte(kept.Sum(nil)) != a.packed {
			changed++
		}
		return true
	})
	count := func(query string) (n int) {
		if err := conn.QueryRow(f.t.Context(), query).Scan(&n); err != nil {
			f.t.Fatalf("%s: %v", query, err)
		}
		return n
	}
	cases := count("select count(*) from cases")
	unread := count("select count(*) from cases where state = 'unreadable'")
	check, err := f.client(f.processes[0]).VerifyAudit(f.t.Context())
	if err != nil {
		f.t.Fatal(err)
	}
	unfit := 0
	if check.Problem != "" {
		unfit++
		f.t.Error(check.Problem)
	}
	within(f.t, 2*time.Minute, "folders of killed processes are gone", func() bool { return len(f.leftFolders()) == 0 })
	f.t.Logf("kill -9 of a process: %d, PostgreSQL ended: %d, its connections cut: %d, no room for bags: %d times, "+
		"its clock set by up to an hour: %d times, durable writes slow: %d times",
		f.kills.Load(), f.restarts.Load(), f.cuts.Load(), f.fills.Load(), f.jumps.Load(), f.slow.Load())
	f.t.Logf("bags handed in: %d (tries besides: %d, on connections that ended early: %d, refused for room: %d)",
		f.sent.Load(), f.repeated.Load(), f.broken.Load(), f.full.Load())
	for _, row := range []struct {
		what     string
		got, aim int
	}{
		{"acknowledged bags", acks, int(f.sent.Load())},
		{"acknowledged bags that are lost", lost, 0},
		{"acknowledged bags that are not as they were", changed, 0},
		{"cases for two bags", other, 0},
		{"cases beside those of acknowledged bags", cases - acks, 0},
		{"cases called unreadable", unread, 0},
		{"entries of the audit that do not fit", unfit, 0},
	} {
		f.t.Logf("%-45s %6d   aim %d", row.what, row.got, row.aim)
		if row.got != row.aim {
			f.t.Errorf("%s: %d", row.what, row.got)
		}
	}
	waits := f.waits(conn)
	f.t.Logf("from a bag's arrival until its case was read: half %s, 99 %% %s, longest %s "+
		"(with a kill each second, and a clock that is set)",
		at(waits, 0.5), at(waits, 0.99), at(waits, 1))
	f.t.Logf("all were read %s after the last fault   aim 30s", settled.Round(100*time.Millisecond))
	if settled > 30*time.Second {
		f.t.Errorf("a case moved on only %s after the last fault", settled)
	}
}

// leftFolders are those in which a process laid a bag out and did not remove it.
func (f *faultRun) leftFolders() []string {
	left, _ := filepath.Glob(filepath.Join(f.work, "diorthos-*"))
	return left
}

// waits are the times from the arrival of a bag until its case was read, the shortest first.
func (f *faultRun) waits(conn *pgx.Conn) []time.Duration {
	rows, err := conn.Query(f.t.Context(),
		"select extract(epoch from updated_at - received_at)::float8 from cases where "+
			"updated_at - received_at between interval '0' and interval '5 minutes' order by 1") // no clock was set meanwhile
	if err != nil {
		f.t.Fatal(err)
	}
	seconds, err := pgx.CollectRows(rows, pgx.RowTo[float64])
	if err != nil {
		f.t.Fatal(err)
	}
	list := make([]time.Duration, len(seconds))
	for i, s := range seconds {
		list[i] = time.Duration(s * float64(time.Second)).Round(10 * time.Millisecond)
	}
	return list
}

func at(sorted []time.Duration, share float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(len(sorted)-1, int(share*float64(len(sorted))))]
}
