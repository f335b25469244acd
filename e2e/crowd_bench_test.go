package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/standin/cluster"
	"diorthos/standin/crowd"
)

// settled is what a fleet of n machines is like before anybody fails: all are known, with what they are like.
const settled = `
insert into machines (name, site, model, first_seen, last_seen, state, traits, attributes, alike)
  select 'berth' || n %% 40 || '-desk-' || n, 'Terminal ' || n %% 40, 'Havnar D4 desktop',
    now() - interval '1 year', now(), 'healthy', jsonb_build_object('site', 'Terminal ' || n %% 40, 'model', 'Havnar D4 desktop', 'system', 'debian',
      'release', 'Debian GNU/Linux 12', 'architecture', 'amd64', 'package part-' || n %% 97, '1.' || n %% 7 || '-1'),
    jsonb_build_array('architecture=amd64', 'model=Havnar D4 desktop', 'release=Debian GNU/Linux 12',
      'site=Terminal ' || n %% 40, 'system=debian'), 'Havnar D4 desktop|Debian GNU/Linux 12'
  from generate_series(0, %[1]d - 1) n;
insert into attribute_counts (attribute, machines) select a, count(*)
  from machines, jsonb_array_elements_text(attributes) a group by a;
insert into tries (family, count) values ('debian', %[1]d * 30)`

// BenchmarkCrowd has the agents of DIORTHOS_BENCH_CROWD machines, which are not there, speak to one process of the
// service: they enrol, wait for orders and hand in what fails, one in a hundred in a day of five minutes, and then an
// update that some cannot take. It asks for pages meanwhile.
func BenchmarkCrowd(b *testing.B) {
	n, err := strconv.Atoi(os.Getenv("DIORTHOS_BENCH_CROWD"))
	if err != nil || n < 100 {
		b.Skip("DIORTHOS_BENCH_CROWD: want how many agents, at least 100")
	}
	dir, err := os.MkdirTemp("", "diorthos-crowd-")
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = cluster.Remove(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		b.Fatal(err)
	}
	c, err := cluster.Start(b.Context(), filepath.Join(dir, "database"), cluster.Options{})
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = c.Stop() }()
	earlier := database
	database = c
	s := prepare(b)
	database = earlier
	serving := s.serveProcess()
	conn, err := pgx.Connect(b.Context(), s.dsn)
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if _, err := conn.PgConn().Exec(b.Context(), fmt.Sprintf(settled, n)).ReadAll(); err != nil {
		b.Fatal(err)
	}
	if _, err := conn.Exec(b.Context(), "vacuum analyze"); err != nil {
		b.Fatal(err)
	}
	number := func(query string) (v float64) {
		if err := conn.QueryRow(b.Context(), query).Scan(&v); err != nil {
			b.Error(query, err)
		}
		return v
	}
	ctx, stop := context.WithCancel(b.Context())
	day := 5 * time.Minute
	folder := b.TempDir()
	if fast, err := os.MkdirTemp("/dev/shm", "diorthos-crowd-"); err == nil { // as many disks as machines
		folder = fast
		defer func() { _ = os.RemoveAll(fast) }()
	}
	all := &crowd.Crowd{
		URL: s.url, Token: s.token, Folder: folder, Machines: n, Seed: 1, Day: day, Known: true,
		Failing: 0.01, Flap: 2,
	}
	ended := make(chan error, 1)
	began := time.Now()
	go func() { ended <- all.Run(ctx) }()
	for all.Enrolled.Load() < int64(n) {
		select {
		case err := <-ended:
			b.Fatalf("%d enrolled, and it ended: %v", all.Enrolled.Load(), err)
		case <-time.After(time.Second):
		}
	}
	took := time.Since(began)
	fmt.Printf(
		"  %-44s %.0f a second, %d in %s\n",
		"agents enrolled",
		float64(n)/took.Seconds(),
		n,
		took.Round(time.Second),
	)
	before := number("select pg_database_size(current_database())")
	cases := number("select count(*) from cases")
	all.Strike(0.02, 0.1)
	at := pages(b, s, day)
	fmt.Printf("  %-44s %.0f MiB\n", "memory of the service, at its peak", float64(peakMemory(b, serving)>>20))
	more := number("select count(*) from cases") - cases
	fmt.Printf("  %-44s %.0f, %.1f KiB of the database each\n", "cases in a day of five minutes", more,
		(number("select pg_database_size(current_database())")-before)/1024/max(more, 1))
	fmt.Printf(
		"  %-44s %.0f\n",
		"that were not read yet",
		number("select count(*) from cases where state in ('received', 'reading')"),
	)
	for what, took := range at {
		slices.Sort(took)
		fmt.Printf("  %-44s %.1f ms of %d\n", what+", p99", float64(took[len(took)*99/100].Microseconds())/1000, len(took))
	}
	fmt.Printf("  %-44s %.1f s after its case came in, the %.0f. machine of %.0f that updated\n", "outbreak raised",
		number(`select extract(epoch from o.raised_at - c.received_at) from outbreaks o join cases c on c.number = o.raised_by
			order by o.id limit 1`),
		number("select machines from outbreaks order by id limit 1"), float64(all.Tried.Load()))
	fmt.Printf("  %-44s %.0f\n", "outbreaks", number("select count(*) from outbreaks"))
	stop()
	if err := <-ended; err != nil {
		b.Error(err)
	}
}

// pages asks for pages for so long.
func pages(b *testing.B, s *stage, during time.Duration) map[string][]time.Duration {
	b.Helper()
	at := map[string][]time.Duration{}
	for end := time.Now().Add(during); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		for what, path := range map[string]string{
			"list of cases": "/api/v1/cases?limit=50", "list of machines": "/api/v1/machines?limit=50",
			"list of cohorts": "/api/v1/cohorts", "page of a cohort": "/api/v1/cohorts/1",
			"list of outbreaks": "/api/v1/outbreaks", "page of agents": "/api/v1/agents",
			"twin": "/api/v1/machines/berth7-desk-7/twin",
		} {
			began := time.Now()
			if status, _ := s.ask(b, path); status == http.StatusOK { // there may be no cohort yet
				at[what] = append(at[what], time.Since(began))
			}
		}
	}
	return at
}
