package e2e

import (
	"context"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/core/bag"
)

// yearsOfCases is a fleet of 100,000 machines with a million cases, as they are after
// years: most of them quiet, two thousand open.
const yearsOfCases = `
set session_replication_role = replica; -- a million notes to nobody
insert into machines (name, site, model, first_seen, last_seen)
  select 'site' || n % 400 || '-desk-' || n, 'Terminal ' || n % 400, 'Havnar D4 desktop', now() - interval '3 years',
    now() - (n % 1000) * interval '1 minute'
  from generate_series(1, 100000) n;
insert into bags (digest, blob, size) select md5(n::text) || md5(n::text), 'blob-' || n, 8000
  from generate_series(1, 1000000) n;
insert into cases (machine_id, bag_digest, state, received_at, updated_at, received_by, headline, tried, rungs)
  select 1 + n % 100000, md5(n::text) || md5(n::text), case when n % 500 = 0 then 'open' else 'healthy' end,
    now() - (1000000 - n) * interval '1 minute', now(), 'Ragna Holm', 'The boot volume is full', 'update failed', 3
  from generate_series(1, 1000000) n;
update machines set latest = c.number, state = c.state
  from (select distinct on (machine_id) machine_id, number, state from cases order by machine_id, number desc) c
  where c.machine_id = machines.id;
set session_replication_role = origin;`

// BenchmarkLists asks for pages of lists over a large fleet; p99 is what the
// slowest of a hundred takes at the service, the way over loopback included.
func BenchmarkLists(b *testing.B) {
	s := newStage(b, bag.DefaultLimits)
	conn, err := pgx.Connect(context.Background(), s.dsn)
	if err != nil {
		b.Fatal(err)
	}
	if _, err := conn.PgConn().Exec(context.Background(), yearsOfCases).ReadAll(); err != nil {
		b.Fatal(err)
	}
	if _, err := conn.Exec(context.Background(), "vacuum analyze"); err != nil {
		b.Fatal(err)
	}
	_ = conn.Close(context.Background())
	paths := map[string]string{"a machine": "/api/v1/machines/site77-desk-77", "a case": "/api/v1/cases/500000"}
	for what, name := range map[string]string{
		"all": "", "a part": "desk-777", "two letters": "te", "one letter": "1", "nothing": "zz",
		"nothing, longer": "no-such-machine",
	} {
		for _, state := range []string{"", "open", "healthy", "closed"} {
			paths["cases, "+what+" "+state] = "/api/v1/cases?limit=100&machine=" + name + "&state=" + state
			paths["machines, "+what+" "+state] = "/api/v1/machines?limit=100&name=" + name + "&state=" + state
		}
		paths["cases, deep, "+what] = "/api/v1/cases?limit=100&before=400000&machine=" + name
		paths["machines, deep, "+what] = "/api/v1/machines?limit=100&after=site5&name=" + name
	}
	for name, path := range paths {
		path = strings.NewReplacer("&machine=&", "&", "&name=&", "&").Replace(path)
		path = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(path, "&state="), "&machine="), "&name=")
		b.Run(name, func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				began := time.Now()
				s.fetch(b, path)
				took = append(took, time.Since(began))
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
		})
	}
}

func (s *stage) fetch(b *testing.B, path string) {
	if status, text := s.ask(b, path); status != http.StatusOK {
		b.Fatalf("%s: %d %s", path, status, text)
	}
}

// ask gets a page whole.
func (s *stage) ask(b *testing.B, path string) (status int, text []byte) {
	b.Helper()
	req, err := http.NewRequest(http.MethodGet, s.url+path, nil)
	if err != nil {
		b.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	text, err = io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	if err != nil {
		b.Fatalf("%s: %v", path, err)
	}
	return resp.StatusCode, text
}
