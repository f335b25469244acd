package service_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
	"diorthos/service"
	"diorthos/standin/cluster"
)

var database *cluster.Cluster

func TestMain(m *testing.M) { os.Exit(withDatabase(m)) }

func withDatabase(m *testing.M) int {
	dir, err := os.MkdirTemp("", "diorthos-service-") // not below what the database's user cannot enter
	if err != nil {
		panic(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	database, err = cluster.Start(context.Background(), filepath.Join(dir, "database"), cluster.Options{})
	if err != nil {
		panic(err)
	}
	defer func() { _ = database.Stop() }()
	return m.Run()
}

// A served service runs within the test, on a database of its own.
type served struct {
	t              *testing.T
	url, dsn, bags string
	metrics        string // where the metrics are served; empty for nowhere
	token          string
	changes        []func(*service.Config) // what a test sets otherwise
}

func serve(t *testing.T, takeOnly bool, changes ...func(*service.Config)) *served {
	t.Helper()
	return serveOn(t, takeOnly, "", changes...)
}

// serveOn serves on a database in which something was done before anything else.
func serveOn(t *testing.T, takeOnly bool, first string, changes ...func(*service.Config)) *served {
	t.Helper()
	s := &served{t: t, bags: t.TempDir(), token: "the-token-of-a-test", changes: changes}
	name := strings.ToLower(fmt.Sprintf("t%d", time.Now().UnixNano()))
	s.sql(database.DSN, "create database "+name)
	s.dsn = strings.Replace(database.DSN, "/postgres?", "/"+name+"?", 1)
	if first != "" {
		s.sql(s.dsn, first)
	}
	if err := service.SetToken(t.Context(), s.dsn, "Ragna Holm", s.token); err != nil {
		t.Fatal(err)
	}
	s.run(takeOnly)
	return s
}

// run starts a process' worth of the service; it ends with the test.
func (s *served) run(takeOnly bool) (stop func()) {
	s.t.Helper()
	listener, err := service.Listen("127.0.0.1:0")
	if err != nil {
		s.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	config := service.Config{
		Database:  s.dsn,
		Bags:      s.bags,
		Knowledge: func() (*knowledge.Knowledge, error) { return knowledge.Load(shipped.Files) },
		Limits:    bag.DefaultLimits,
		Log:       slog.New(slog.NewTextHandler(io.Discard, nil)),
		TakeOnly:  takeOnly,
		Metrics:   s.metrics,
		// so that a test can come from many places
		Forwarders: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")},
		Ready:      func(a string) { ready <- a },
	}
	for _, change := range s.changes {
		change(&config)
	}
	if config.SignOn != nil && config.SignOn.Public == "" {
		config.SignOn.Public = "http://" + listener.Addr().String()
	}
	go func() { ended <- service.Run(ctx, listener, config) }()
	stopped := false
	stop = func() {
		if stopped {
			return
		}
		stopped = true
		cancel()
		if err := <-ended; err != nil {
			s.t.Errorf("the service ended with %v", err)
		}
	}
	s.t.Cleanup(stop)
	select {
	case a := <-ready:
		s.url = "http://" + a
	case err := <-ended:
		s.t.Fatal(err)
	}
	return stop
}

func (s *served) client() *client.Client { return client.New(s.url, s.token) }

func (s *served) sql(dsn, statement string) {
	s.t.Helper()
	conn, err := pgx.Connect(s.t.Context(), dsn)
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if _, err := conn.Exec(s.t.Context(), statement); err != nil {
		s.t.Fatalf("%s: %v", statement, err)
	}
}

// state waits until a case is in one of the states.
func (s *served) state(number int64, limit time.Duration, wanted ...client.CaseState) client.Case {
	s.t.Helper()
	for end := time.Now().Add(limit); ; time.Sleep(100 * time.Millisecond) {
		c, err := s.client().Case(s.t.Context(), number)
		if err != nil {
			s.t.Fatal(err)
		}
		if slices.Contains(wanted, c.State) {
			return c.Case
		}
		if time.Now().After(end) {
			s.t.Fatalf("case %d is %s after %s, want %v: %s", number, c.State, limit, wanted, c.Problem)
		}
	}
}

// send sends a request as it is; the caller closes the answer's body.
func (s *served) send(ctx context.Context, method, path string, body io.Reader, header ...string) *http.Response {
	s.t.Helper()
	req, err := http.NewRequestWithContext(ctx, method, s.url+path, body)
	if err != nil {
		s.t.Fatal(err)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return resp
}

// call sends a request as it is and returns status and body.
func (s *served) call(method, path string, body io.Reader, header ...string) (int, string) {
	s.t.Helper()
	resp := s.send(s.t.Context(), method, path, body, header...)
	defer func() { _ = resp.Body.Close() }()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	return resp.StatusCode, string(text)
}

func (s *served) signedIn() []string { return []string{"Authorization", "Bearer " + s.token} }

// packed is a bag of one log. Facts may be given as they are to be written.
func packed(t *testing.T, machine string, files map[string]string, facts *bag.Facts) []byte {
	t.Helper()
	if facts == nil {
		facts = &bag.Facts{}
	}
	facts.Schema, facts.Gathered = bag.FactsVersion, time.Unix(1_795_000_000, 0).UTC()
	facts.Machine.Name, facts.Disks = machine, []bag.Disk{}
	var out bytes.Buffer
	w, err := bag.NewWriter(&out, bag.Options{Name: machine, Created: facts.Gathered})
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		if err := w.AddFile(name, int64(len(text)), strings.NewReader(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.AddFacts(facts); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

const brokenUpdate = "Log started: 2026-11-01  07:10:00\n" +
	"Unpacking skerrow-crew (2.0) over (1.0) ...\n" +
	"dpkg: error processing archive /var/cache/apt/archives/skerrow-crew_2.0_amd64.deb (--unpack):\n" +
	" cannot copy extracted data for './usr/share/crew/tides' to '/usr/share/crew/tides.dpkg-new': " +
	"failed to write (No space left on device)\n" +
	"Errors were encountered while processing:\n" +
	" /var/cache/apt/archives/skerrow-crew_2.0_amd64.deb\n" +
	"Log ended: 2026-11-01  07:10:09\n"

// handIn sends a bag over a connection of its own. With a delay, the connection is
// closed that long after the last byte, without looking for the answer.
func (s *served) handIn(body []byte, hangUp bool, delay time.Duration) (int, client.Accepted) {
	s.t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	head := fmt.Sprintf(
		"POST /api/v1/bags HTTP/1.1\r\nHost: diorthos\r\nAuthorization: Bearer %s\r\n"+
			"Content-Type: application/octet-stream\r\nContent-Length: %d\r\nConnection: close\r\n\r\n", s.token, len(body))
	if _, err := conn.Write(append([]byte(head), body...)); err != nil {
		s.t.Fatal(err)
	}
	if hangUp {
		time.Sleep(delay)
		return 0, client.Accepted{}
	}
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	var a client.Accepted
	if resp.StatusCode < 300 {
		if err := json.NewDecoder(resp.Body).Decode(&a); err != nil {
			s.t.Fatal(err)
		}
	}
	return resp.StatusCode, a
}

// Whoever sends a bag and hangs up before the answer, at any moment, and sends it
// once more, has it acknowledged; each acknowledged bag lies in the store, whole.
func TestAClosedConnectionLosesNoBag(t *testing.T) {
	s := serve(t, true)
	for i := range 60 {
		body := packed(t, fmt.Sprintf("tern-%d", i), map[string]string{"term.log": brokenUpdate}, nil)
		s.handIn(body, true, time.Duration(i)*200*time.Microsecond)
		status, a := s.handIn(body, false, 0)
		if status != http.StatusOK && status != http.StatusCreated {
			t.Fatalf("bag %d: status %d", i, status)
		}
		var blob string
		conn, err := pgx.Connect(t.Context(), s.dsn)
		if err != nil {
			t.Fatal(err)
		}
		err = conn.QueryRow(t.Context(), "select blob from bags join cases on bag_digest = digest where number = $1",
			a.Number).Scan(&blob)
		_ = conn.Close(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if kept, err := os.ReadFile(filepath.Join(s.bags, blob)); err != nil || !bytes.Equal(kept, body) {
			t.Errorf("bag %d was acknowledged as case %d and is not in the store: %v", i, a.Number, err)
		}
	}
}

// A bag that is gone from the disk is not acknowledged a second time without being
// kept.
func TestABagThatIsGoneIsKeptAnew(t *testing.T) {
	s := serve(t, true)
	body := packed(t, "tern-1", map[string]string{"term.log": brokenUpdate}, nil)
	_, first := s.handIn(body, false, 0)
	kept, err := filepath.Glob(filepath.Join(s.bags, "*"))
	if err != nil || len(kept) != 1 {
		t.Fatalf("%v %v", kept, err)
	}
	if err := os.Remove(kept[0]); err != nil {
		t.Fatal(err)
	}
	if status, again := s.handIn(body, false, 0); status != http.StatusOK || again.Number != first.Number {
		t.Errorf("status %d, case %d, want %d", status, again.Number, first.Number)
	}
	s.run(false)
	s.state(first.Number, time.Minute, client.Open)
}

// A process that died between taking a job and claiming its case strands nothing.
func TestAStrandedCaseIsReadAllTheSame(t *testing.T) {
	s := serve(t, true)
	_, a := s.handIn(packed(t, "tern-1", map[string]string{"term.log": brokenUpdate}, nil), false, 0)
	s.sql(s.dsn, "update river_job set state = 'running', attempt = 1, attempted_at = now() - interval '1 minute', "+
		"attempted_by = '{dead}'")
	s.sql(s.dsn, "update cases set updated_at = now() - interval '1 minute'")
	began := time.Now()
	s.run(false)
	c := s.state(a.Number, 30*time.Second, client.Open)
	t.Logf("read %s after the start: %s", time.Since(began).Round(time.Millisecond), c.Headline)
}

// A job that is lost altogether is made again.
func TestACaseWithoutAJobIsReadAllTheSame(t *testing.T) {
	s := serve(t, true)
	_, a := s.handIn(packed(t, "tern-1", map[string]string{"term.log": brokenUpdate}, nil), false, 0)
	s.sql(s.dsn, "delete from river_job")
	s.sql(s.dsn, "update cases set updated_at = now() - interval '1 minute'")
	s.run(false)
	s.state(a.Number, 30*time.Second, client.Open)
}

// What no database or file system keeps is refused at the door, in words, and
// nothing of it is kept.
func TestWhatCannotBeKeptIsRefused(t *testing.T) {
	s := serve(t, true)
	nul := &bag.Facts{Machine: bag.Machine{Model: "Havnar\x00D4"}}
	for name, c := range map[string]struct {
		files map[string]string
		facts *bag.Facts
		says  string
	}{
		"a NUL in the facts":  {map[string]string{"a.log": "x\n"}, nul, "U+0000"},
		"a file and a folder": {map[string]string{"a": "x\n", "a/b": "y\n"}, nil, "one is a file"},
	} {
		status, text := s.call("POST", "/api/v1/bags", bytes.NewReader(packed(t, "tern-1", c.files, c.facts)),
			append(s.signedIn(), "Content-Type", "application/octet-stream")...)
		if status != http.StatusUnprocessableEntity || !strings.Contains(text, c.says) {
			t.Errorf("%s: status %d: %s", name, status, text)
		}
	}
	if kept, err := filepath.Glob(filepath.Join(s.bags, "*")); err != nil || len(kept) != 0 {
		t.Errorf("kept %v: %v", kept, err)
	}
}

// A NUL in a log is no reason to read a case for ever.
func TestANULInALogIsReadOver(t *testing.T) {
	s := serve(t, false)
	text := strings.Replace(brokenUpdate, "tides.dpkg-new", "ti\x00des.dpkg-new", 1)
	_, a := s.handIn(packed(t, "tern-1", map[string]string{"term.log": text}, nil), false, 0)
	s.state(a.Number, time.Minute, client.Open)
}

// While there is no room for temporary files a case waits, says so, and is read
// once there is; the folders of a process that was killed go.
func TestTroubleOfTheMachineIsWaitedOut(t *testing.T) {
	room := t.TempDir()
	t.Setenv("TMPDIR", filepath.Join(room, "not-there-yet"))
	s := serve(t, false)
	_, a := s.handIn(packed(t, "tern-1", map[string]string{"term.log": brokenUpdate}, nil), false, 0)
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		c, err := s.client().Case(t.Context(), a.Number)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(c.Problem, "waits:") && c.State == client.Received {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("the case is %s: %q", c.State, c.Problem)
		}
	}
	left := filepath.Join(os.TempDir(), "diorthos-reading-left")
	if err := os.MkdirAll(left, 0o700); err != nil {
		t.Fatal(err)
	}
	long := time.Now().Add(-time.Hour)
	if err := os.Chtimes(left, long, long); err != nil {
		t.Fatal(err)
	}
	if c := s.state(a.Number, time.Minute, client.Open); c.Problem != "" {
		t.Errorf("it was read and says %q", c.Problem)
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if _, err := os.Stat(left); os.IsNotExist(err) {
			break
		}
		if time.Now().After(end) {
			t.Fatal("what a killed process left is still there")
		}
	}
}

// A case is closed by a person with what helped, and when the very thing that failed
// succeeds; a bag in which nothing wrong was found proves nothing. It opens again when
// its cause comes back.
func TestCasesAreClosedAndComeBack(t *testing.T) {
	s := serve(t, false)
	run := func(day, term string, end string) []byte {
		history := "\nStart-Date: " + day + "  07:10:00\nCommandline: apt-get dist-upgrade\n" +
			"Upgrade: skerrow-crew:amd64 (1.0, 2.0)\n" + end + "End-Date: " + day + "  07:10:09\n"
		return packed(t, "tern-1", map[string]string{
			"apt/term.log": strings.ReplaceAll(term, "2026-11-01", day), "apt/history.log": history,
		}, nil)
	}
	broken := func(day string) []byte {
		return run(day, brokenUpdate, "Error: Sub-process /usr/bin/dpkg returned an error code (1)\n")
	}
	change := func(number int64, state client.CaseState, note string) error {
		_, err := s.client().ChangeCase(t.Context(), number, client.CaseChange{State: state, Note: note})
		return err
	}
	_, first := s.handIn(broken("2026-11-01"), false, 0)
	s.state(first.Number, time.Minute, client.Open)
	if err := change(first.Number, client.Closed, "made room"); err != nil {
		t.Fatal(err)
	}
	if c := s.state(first.Number, 0, client.Closed); c.Note != "made room" || c.ClosedBy != "Ragna Holm" {
		t.Errorf("closed: %+v", c)
	}
	if err := change(first.Number, client.Closed, ""); err == nil {
		t.Error("it is closed twice")
	}
	_, second := s.handIn(broken("2026-11-02"), false, 0)
	s.state(second.Number, time.Minute, client.Open)
	if c := s.state(first.Number, 10*time.Second, client.Open); !strings.Contains(c.Note, "it came back: case 2") {
		t.Errorf("opened again: %+v", c)
	}
	_, nothing := s.handIn(packed(t, "tern-1", map[string]string{"a.log": "nothing\n"}, nil), false, 0)
	if c := s.state(nothing.Number, time.Minute, client.Open); !strings.HasPrefix(c.Headline, "Nothing to judge by") {
		t.Errorf("a bag that says nothing: %+v", c)
	}
	time.Sleep(time.Second) // it would have been closed by now
	if c := s.state(first.Number, 0, client.Open); c.State != client.Open {
		t.Errorf("closed by a bag that proves nothing: %+v", c)
	}
	well := "Log started: 2026-11-01  07:10:00\nUnpacking skerrow-crew (2.0) over (1.0) ...\n" +
		"Setting up skerrow-crew (2.0) ...\nLog ended: 2026-11-01  07:10:09\n"
	_, last := s.handIn(run("2026-11-04", well, ""), false, 0)
	s.state(last.Number, time.Minute, client.Healthy)
	for _, n := range []int64{first.Number, second.Number} {
		c := s.state(n, 10*time.Second, client.Closed)
		if !strings.Contains(c.Note, "case 4: what had failed succeeded on 2026-11-04") {
			t.Errorf("case %d: %+v", n, c)
		}
	}
	if err := change(second.Number, client.Open, "not so"); err != nil {
		t.Error(err)
	}
	if err := change(999, client.Closed, ""); err == nil {
		t.Error("a case that is not there is closed")
	}
}

// A page of another site cannot make a signed-in browser change anything.
func TestAnotherSiteCannotUseTheSession(t *testing.T) {
	s := serve(t, true)
	status, body := s.call("POST", "/api/v1/bags", strings.NewReader("x"), append(s.signedIn(),
		"Content-Type", "text/plain", "Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example")...)
	if status != http.StatusForbidden {
		t.Errorf("status %d: %s", status, body)
	}
}

// Lists come in pages that neither skip nor repeat, the newest first.
func TestPagesOfCasesAreWhole(t *testing.T) {
	s := serve(t, true)
	for i := range 7 {
		s.handIn(packed(t, fmt.Sprintf("tern-%d", i), map[string]string{"a.log": "x\n"}, nil), false, 0)
	}
	var seen []int64
	for before := int64(0); ; {
		page, err := s.client().Cases(t.Context(), client.CaseQuery{Before: before, Limit: 3})
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range page.Cases {
			seen = append(seen, c.Number)
		}
		if before = page.Next; before == 0 {
			break
		}
	}
	if want := []int64{7, 6, 5, 4, 3, 2, 1}; !reflect.DeepEqual(seen, want) {
		t.Errorf("pages hold %v, want %v", seen, want)
	}
	for path, says := range map[string]string{
		"/api/v1/cases?limit=0":        "limit",
		"/api/v1/cases?state=sleeping": "state",
		"/api/v1/cases/999":            "999",
	} {
		if status, body := s.call("GET", path, nil, s.signedIn()...); status < 400 || !strings.Contains(body, says) {
			t.Errorf("%s: status %d: %s", path, status, body)
		}
	}
}

// The words that the document lists are those that Go knows, wherever they stand.
func TestTheDocumentTakesItsWordsFromGo(t *testing.T) {
	s := serve(t, true)
	_, text := s.call("GET", "/api/v1/openapi.json", nil)
	var doc any
	if err := json.Unmarshal([]byte(text), &doc); err != nil {
		t.Fatal(err)
	}
	lists := map[string][][]string{}
	enums(doc, "", lists)
	sorted := func(list []string) []string { slices.Sort(list); return list }
	for field, want := range map[string][]string{
		"state": texts(client.CaseStates()), "outcome": texts(reading.Outcomes()),
	} {
		found := false
		for _, got := range lists[field] {
			found = found || reflect.DeepEqual(sorted(got), sorted(want))
		}
		if !found {
			t.Errorf("%s: the document lists %v, want one to be %v", field, lists[field], want)
		}
	}
	for _, got := range lists["state"] { // also that of a query, which is written by hand
		if slices.Contains(got, string(client.Healthy)) &&
			!reflect.DeepEqual(sorted(got), sorted(texts(client.CaseStates()))) {
			t.Errorf("a list of the states of a case is %v", got)
		}
	}
}

func texts[T ~string](list []T) (out []string) {
	for _, w := range list {
		out = append(out, string(w))
	}
	return out
}

// enums collects the lists of words by the name of their field or parameter.
func enums(node any, name string, into map[string][][]string) {
	switch v := node.(type) {
	case map[string]any:
		if n, ok := v["name"].(string); ok {
			name = n
		}
		if list, ok := v["enum"].([]any); ok {
			var words []string
			for _, w := range list {
				words = append(words, fmt.Sprint(w))
			}
			into[name] = append(into[name], words)
		}
		for key, child := range v {
			if key == "schema" || key == "items" || key == "additionalProperties" {
				enums(child, name, into)
			} else {
				enums(child, key, into)
			}
		}
	case []any:
		for _, child := range v {
			enums(child, name, into)
		}
	}
}
