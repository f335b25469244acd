package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/layout"
)

// post sends a body as plain HTTP does.
func (s *stage) post(path, token string, body io.Reader) (int, map[string]any) {
	s.t.Helper()
	req, err := http.NewRequest(http.MethodPost, s.url+path, body)
	if err != nil {
		s.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return answer(s.t, resp)
}

func (s *stage) get(path string) (int, map[string]any) {
	s.t.Helper()
	req, err := http.NewRequest(http.MethodGet, s.url+path, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return answer(s.t, resp)
}

func answer(t testing.TB, resp *http.Response) (int, map[string]any) {
	t.Helper()
	defer func() { _ = resp.Body.Close() }()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	if resp.StatusCode >= 400 && resp.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("status %d comes as %q: %s", resp.StatusCode, resp.Header.Get("Content-Type"), raw)
	}
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		t.Fatalf("%v: %s", err, raw)
	}
	return resp.StatusCode, m
}

// evidence packs a small bag with one log.
func evidence(t *testing.T, machine string, size int64, log io.Reader) string {
	t.Helper()
	return evidenceIn(t, t.TempDir(), machine, size, log)
}

func evidenceIn(t *testing.T, dir, machine string, size int64, log io.Reader) string {
	t.Helper()
	path := filepath.Join(dir, machine+".tar.gz")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	w, err := bag.NewWriter(f, bag.Options{Name: machine, Created: time.Unix(1_795_000_000, 0)})
	if err != nil {
		t.Fatal(err)
	}
	none := bag.TableCopy{State: "absent"}
	facts := &bag.Facts{
		Schema:   bag.FactsVersion,
		Gathered: time.Unix(1_795_000_000, 0).UTC(),
		Machine:  bag.Machine{Name: machine},
		Disks: []bag.Disk{{
			ID:         "disk0",
			Source:     "x",
			SectorSize: 512,
			Style:      "none",
			Marks:      []string{},
			Primary:    none,
			Backup:     none,
			Problems:   []layout.Problem{},
			Partitions: []bag.Partition{{Number: 1, System: &bag.System{Family: "debian", Name: "Debian 12"}}},
		}},
	}
	if err := w.AddFacts(facts); err != nil {
		t.Fatal(err)
	}
	if err := w.AddFile("logs/apt/term.log", size, log); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestBadBagsGetAProblemAndTheServiceGoesOn(t *testing.T) {
	limits := bag.DefaultLimits
	limits.Files = 3
	s := newStage(t, limits)
	good, err := os.ReadFile(evidence(t, "fulmar-1", 5, strings.NewReader("text\n")))
	if err != nil {
		t.Fatal(err)
	}
	altered := bytes.Clone(good)
	altered[len(altered)-6] ^= 1 // in the compression's own checksum
	for name, c := range map[string]struct {
		token, kind string
		status      int
		body        []byte
	}{
		"no token":       {"", "sign-in", 401, good},
		"unknown token":  {"who-is-this", "sign-in", 401, good},
		"not a bag":      {s.token, "not-a-bag", 422, []byte("hello")},
		"nothing":        {s.token, "not-a-bag", 422, nil},
		"cut off":        {s.token, "bag-cut-off", 422, good[:len(good)/2]},
		"altered":        {s.token, "bag-checksum", 422, altered},
		"wrong checksum": {s.token, "bag-checksum", 422, handMade("b/data/a", strings.Repeat("0", 64)+"  data/a\n")},
		"leaves the bag": {s.token, "bag-unsafe-name", 422, handMade("b/data/../../x", "")},
		"bomb":           {s.token, "bag-too-large", 413, bomb()},
	} {
		t.Run(name, func(t *testing.T) {
			status, p := s.post("/api/v1/bags", c.token, bytes.NewReader(c.body))
			detail, _ := p["detail"].(string)
			if status != c.status || p["type"] != "urn:diorthos:problem:"+c.kind || len(detail) < 20 ||
				p["status"] != float64(c.status) {
				t.Errorf("status %d: %v", status, p)
			}
		})
	}
	if kept, err := filepath.Glob(filepath.Join(s.bags, "*")); err != nil || len(kept) != 0 {
		t.Errorf("refused bags were kept: %v %v", kept, err)
	}
	if status, p := s.get("/api/v1/cases/12"); status != 404 ||
		!strings.Contains(p["detail"].(string), "there is no case 12") {
		t.Errorf("unknown case: %d %v", status, p)
	}
	if status, p := s.get("/api/v1/cases/12/lines?file=x&around=1"); status != 404 || p["detail"] == nil {
		t.Errorf("lines of an unknown case: %d %v", status, p)
	}
	if status, _ := s.get("/api/v1/nowhere"); status != 404 {
		t.Errorf("unknown address: %d", status)
	}
	first, a := s.post("/api/v1/bags", s.token, bytes.NewReader(good))
	again, b := s.post("/api/v1/bags", s.token, bytes.NewReader(good))
	if first != 201 || again != 200 || a["number"] != b["number"] || b["again"] != true {
		t.Errorf("the same bag twice: %d %v, %d %v", first, a["number"], again, b["number"])
	}
}

func handMade(name, manifest string) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, e := range [][2]string{
		{"b/bagit.txt", "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"},
		{name, "x"},
		{"b/manifest-sha256.txt", manifest},
	} {
		_ = w.WriteHeader(&tar.Header{Name: e[0], Typeflag: tar.TypeReg, Size: int64(len(e[1])), Mode: 0o644})
		_, _ = io.WriteString(w, e[1])
	}
	_ = w.Close()
	_ = z.Close()
	return out.Bytes()
}

func bomb() []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	_ = w.WriteHeader(&tar.Header{Name: "b/data/zeros", Typeflag: tar.TypeReg, Size: 300 << 20, Mode: 0o644})
	for chunk, i := make([]byte, 1<<20), 0; i < 300; i++ {
		_, _ = w.Write(chunk)
	}
	_ = w.Close()
	_ = z.Close()
	return out.Bytes()
}

// serveProcess runs the service as a process of its own, started by the
// command in front if there is one.
// The address stays the same from one process to the next.
func (s *stage) serveProcess(front ...string) *exec.Cmd {
	s.t.Helper()
	address := strings.TrimPrefix(s.url, "http://")
	if address == "" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			s.t.Fatal(err)
		}
		address = l.Addr().String()
		_ = l.Close()
	}
	line := append(front, binary, "serve", "--database", s.dsn, "--bags", s.bags, "--listen", address)
	line = append(line, s.serveMore...)
	cmd := exec.Command(line[0], line[1:]...)
	if err := cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	s.url = "http://" + address
	within(s.t, time.Minute, "the service is ready", func() bool {
		resp, err := http.Get(s.url + "/readyz")
		if err != nil {
			return false
		}
		_ = resp.Body.Close()
		return resp.StatusCode == 200
	})
	return cmd
}

var peak = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// peakMemory is the most memory that a process ever held, in bytes.
func peakMemory(t testing.TB, cmd *exec.Cmd) int64 {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	n, err := strconv.ParseInt(peak.FindStringSubmatch(string(status))[1], 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return n << 10
}

func TestTwoGigabytesAreTakenInWithFlatMemory(t *testing.T) {
	s := prepare(t)
	cmd := s.serveProcess()
	small := evidence(t, "gannet-1", 1<<20, io.LimitReader(&noise{r: rand.NewChaCha8([32]byte{1})}, 1<<20))
	s.must(0, "submit", small)
	before := peakMemory(t, cmd)
	const size = 2 << 30
	large := evidence(t, "gannet-2", size, io.LimitReader(&noise{r: rand.NewChaCha8([32]byte{2})}, size))
	info, err := os.Stat(large)
	if err != nil || info.Size() < size {
		t.Fatalf("the bag has %d bytes: %v", info.Size(), err)
	}
	s.must(0, "submit", large)
	after := peakMemory(t, cmd)
	t.Logf("peak memory of the service: %d MiB after 1 MiB, %d MiB after 2 GiB", before>>20, after>>20)
	if after > before+96<<20 {
		t.Errorf("memory grew from %d to %d MiB", before>>20, after>>20)
	}
}

// noise cannot be compressed and has lines.
type noise struct{ r *rand.ChaCha8 }

func (n *noise) Read(p []byte) (int, error) {
	_, _ = n.r.Read(p)
	for i := 99; i < len(p); i += 100 {
		p[i] = '\n'
	}
	return len(p), nil
}

// No file may grow beyond half a MiB here, as on a disk that is full: the bag is
// refused in words, nothing of it is kept, and the service goes on.
func TestABagForWhichThereIsNoRoomIsRefused(t *testing.T) {
	s := prepare(t)
	s.serveProcess("sh", "-c", `ulimit -f 1024; exec "$@"`, "sh")
	r := s.run("submit", evidence(t, "gannet-3", 30<<20, io.LimitReader(&noise{r: rand.NewChaCha8([32]byte{3})}, 30<<20)))
	if r.status != 2 || !strings.Contains(r.errout, "no room for this bag") || strings.Count(r.errout, "\n") != 1 {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	if kept, err := filepath.Glob(filepath.Join(s.bags, "*")); err != nil || len(kept) != 0 {
		t.Errorf("kept %v: %v", kept, err)
	}
	wants(t, s.must(0, "submit", evidence(t, "gannet-4", 5, strings.NewReader("text\n"))), "taken in as case 1")
}

// A worker killed in the middle of a case loses nothing: another process of
// the service takes over.
func TestAKilledWorkerLosesNothing(t *testing.T) {
	s := prepare(t)
	first := s.serveProcess()
	line := []byte("dpkg: error processing package nothing (--configure): this line makes the reader work\n")
	const size = 120 << 20
	big := evidence(t, "tern-1", size, io.LimitReader(&repeat{text: line}, size))
	out := s.must(0, "submit", "--no-wait", "--json", big)
	var a client.Accepted
	if err := json.Unmarshal([]byte(out), &a); err != nil {
		t.Fatal(err)
	}
	state := func() client.Case {
		c, err := s.client().Case(t.Context(), a.Number)
		if err != nil {
			t.Fatal(err)
		}
		return c.Case
	}
	within(t, time.Minute, "the case is being read", func() bool { return state().State == client.Reading })
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = first.Wait()
	s.serveProcess()
	if c := state(); c.State != client.Reading {
		t.Fatalf("the case is %s: it was read before the worker could be killed", c.State)
	}
	within(t, 5*time.Minute, "another worker has read the case", func() bool { return state().State == client.Healthy })
	if c := state(); c.Tried != "" && c.Problem != "" {
		t.Errorf("%+v", c)
	}
}

// What was kept of a bag is damaged before anybody has read it. The case says so,
// and is read once the bag is handed in again; no other case is made.
func TestACaseThatCannotBeReadIsHealedByItsBag(t *testing.T) {
	s := prepare(t)
	packed := evidence(t, "skua-2", 5, strings.NewReader("text\n"))
	s.serveMore = []string{"--take-only"}
	taking := s.serveProcess()
	s.must(0, "submit", "--no-wait", packed)
	kept, err := filepath.Glob(filepath.Join(s.bags, "*"))
	if err != nil || len(kept) != 1 {
		t.Fatalf("%v %v", kept, err)
	}
	raw, err := os.ReadFile(kept[0])
	if err != nil {
		t.Fatal(err)
	}
	raw[len(raw)/2] ^= 0xff
	if err := os.WriteFile(kept[0], raw, 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second) // a worker would have taken it by now
	state := func() client.CaseState {
		c, err := s.client().Case(t.Context(), 1)
		if err != nil {
			t.Fatal(err)
		}
		return c.State
	}
	if got := state(); got != client.Received {
		t.Fatalf("a process that only takes has made it %s", got)
	}
	if err := taking.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_ = taking.Wait() // else it may answer for the next one, and end in the middle
	s.serveMore = nil
	s.serveProcess()
	within(t, 3*time.Minute, "it is found unreadable", func() bool { return state() == client.Unreadable })
	wants(t, s.must(0, "case", "1"), "unreadable", "Hand the same bag in again")
	wants(t, s.must(0, "submit", packed), "case 1")
	within(t, 3*time.Minute, "it is read", func() bool { return state() == client.Healthy })
	if left, _ := filepath.Glob(filepath.Join(s.bags, "*")); len(left) != 1 || left[0] == kept[0] {
		t.Errorf("kept are %v, the damaged one was %v", left, kept)
	}
	if page, err := s.client().Cases(t.Context(), client.CaseQuery{Limit: 10}); err != nil || len(page.Cases) != 1 {
		t.Errorf("%+v %v", page, err)
	}
}

type repeat struct {
	text []byte
	at   int
}

func (r *repeat) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = r.text[r.at]
		r.at = (r.at + 1) % len(r.text)
	}
	return len(p), nil
}

func TestSignInSessionAndHeaders(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	resp, err := http.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+s.token+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	cookies := resp.Cookies()
	if resp.StatusCode != 200 || len(cookies) != 1 || !cookies[0].HttpOnly ||
		cookies[0].SameSite != http.SameSiteStrictMode || strings.Contains(cookies[0].Value, s.token) {
		t.Fatalf("status %d, cookies %+v", resp.StatusCode, cookies)
	}
	if csp := resp.Header.Get("Content-Security-Policy"); !strings.Contains(csp, "default-src 'none'") ||
		strings.Contains(csp, "unsafe") {
		t.Errorf("policy %q", csp)
	}
	call := func(method, path, site string) int {
		req, err := http.NewRequest(method, s.url+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.AddCookie(cookies[0])
		req.Header.Set("Sec-Fetch-Site", site)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	if got := call(http.MethodGet, "/api/v1/session", "same-origin"); got != 200 {
		t.Errorf("signed in, and told %d", got)
	}
	if got := call(http.MethodPost, "/api/v1/bags", "cross-site"); got != 403 {
		t.Errorf("a post from another site got %d", got)
	}
	if got := call(http.MethodDelete, "/api/v1/session", "same-origin"); got != 204 {
		t.Errorf("sign-out got %d", got)
	}
	if got := call(http.MethodGet, "/api/v1/cases", "same-origin"); got != 401 {
		t.Errorf("signed out, and told %d", got)
	}
	for path, want := range map[string]string{
		"/healthz": "ok",
		"/readyz":  "ready",
	} {
		resp, err := http.Get(s.url + path)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		if resp.StatusCode != 200 || !strings.Contains(string(text), want) {
			t.Errorf("%s: %d %.200s", path, resp.StatusCode, text)
		}
	}
}

// The console's types are made from the committed document.
func TestTheCommittedOpenAPIDocumentIsTheAPIs(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	_, served := s.get("/api/v1/openapi.json")
	raw, err := os.ReadFile("../console/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var committed map[string]any
	if err := json.Unmarshal(raw, &committed); err != nil {
		t.Fatal(err)
	}
	a, _ := json.Marshal(served)
	b, _ := json.Marshal(committed)
	if !bytes.Equal(a, b) {
		t.Error("console/openapi.json is out of date: run \"make openapi\"")
	}
	if served["openapi"] != "3.1.0" {
		t.Errorf("version %v", served["openapi"])
	}
}

// Many technicians hand the same bag in at the same moment: one case.
func TestTheSameBagAtTheSameMomentIsOneCase(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	raw, err := os.ReadFile(evidence(t, "skua-1", 5, strings.NewReader("text\n")))
	if err != nil {
		t.Fatal(err)
	}
	numbers := make(chan int64, 8)
	for range cap(numbers) {
		go func() {
			a, err := s.client().Submit(context.Background(), bytes.NewReader(raw), int64(len(raw)))
			if err != nil {
				numbers <- -1
				return
			}
			numbers <- a.Number
		}()
	}
	for range cap(numbers) {
		if n := <-numbers; n != 1 {
			t.Errorf("case %d, want 1", n)
		}
	}
	if kept, err := filepath.Glob(filepath.Join(s.bags, "*")); err != nil || len(kept) != 1 {
		t.Errorf("%d bags kept: %v", len(kept), err)
	}
}

// Only one climb of a case goes on at a time, and none of one that is not
// read or is over.
func TestClimbsTakeTurns(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	image := copyImage(t)
	packed := filepath.Join(t.TempDir(), "k.tar.gz")
	s.must(0, "gather", "--image", image, "--out", packed)
	s.must(0, "submit", packed)
	c := s.client()
	ctx := context.Background()
	first, err := c.StartClimb(ctx, 1, client.ClimbStart{Host: "stick-1"})
	if err != nil {
		t.Fatal(err)
	}
	kind := func(err error) string {
		var p *client.Problem
		if !errors.As(err, &p) {
			return fmt.Sprint(err)
		}
		return strings.TrimPrefix(p.Type, "urn:diorthos:problem:")
	}
	if _, err := c.StartClimb(ctx, 1, client.ClimbStart{Host: "stick-2"}); kind(err) != "busy" {
		t.Errorf("a second climb: %v", err)
	}
	r := s.run("climb", "1", "--image", image)
	if r.status != 2 || !strings.Contains(r.errout, "being climbed right now") || !same(t, image, pristine) {
		t.Errorf("climb beside another: %d %s", r.status, r.errout)
	}
	if _, err := c.ReportClimb(ctx, first.ID, client.ClimbReport{
		State:   client.CutOff,
		Problem: "the stick was pulled",
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.ReportClimb(ctx, first.ID, client.ClimbReport{State: client.Ended}); kind(err) != "ended" {
		t.Errorf("a report after the end: %v", err)
	}
	if _, err := c.ReportClimb(ctx, 999, client.ClimbReport{State: client.Ended}); kind(err) != "unknown" {
		t.Errorf("a report of no climb: %v", err)
	}
	d, err := c.Case(ctx, 1)
	if err != nil || d.State != client.Open || len(d.Climbs) != 1 || d.Climbs[0].Problem != "the stick was pulled" {
		t.Errorf("%v %+v", err, d)
	}
}

func TestCasesArePagedAndFiltered(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	for i := range 7 {
		s.must(0, "submit", "--no-wait", evidence(t, fmt.Sprintf("%s-%d", []string{
			"tern", "skua_x",
		}[i%2], i), 5, strings.NewReader("text\n")))
	}
	c := s.client()
	var seen []int64
	q := client.CaseQuery{Limit: 3}
	for pages := 0; ; pages++ {
		p, err := c.Cases(t.Context(), q)
		if err != nil || p.Total != 7 || pages > 3 {
			t.Fatalf("page %d: %v %+v", pages, err, p)
		}
		for _, cs := range p.Cases {
			seen = append(seen, cs.Number)
		}
		if q.Before = p.Next; p.Next == 0 {
			break
		}
	}
	if fmt.Sprint(seen) != "[7 6 5 4 3 2 1]" {
		t.Errorf("pages give %v", seen)
	}
	for part, want := range map[string]int64{"tern": 4, "skua_": 3, "skua%": 0, "TERN-0": 1} { // no letter is a wildcard
		if p, err := c.Cases(t.Context(), client.CaseQuery{
			Machine: part,
			Limit:   50,
		}); err != nil || p.Total != want || int64(len(p.Cases)) != want {
			t.Errorf("%q: %v %+v", part, err, p)
		}
	}
	wants(t, s.must(0, "cases", "--limit", "2"), "more: diorthos cases --before 6")
}

// What is watched arrives without asking again, also through another process.
func TestWatchersHearOfChanges(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	s.must(0, "submit", evidence(t, "tern-9", 5, strings.NewReader("text\n")))
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	states := make(chan client.CaseState, 16)
	go func() {
		_ = s.client().Watch(ctx, 1, func(c client.Case) bool { states <- c.State; return true })
	}()
	want := func(state client.CaseState) {
		t.Helper()
		for {
			select {
			case got := <-states:
				if got == state {
					return
				}
			case <-ctx.Done():
				t.Fatalf("never heard of %s", state)
			}
		}
	}
	want(client.Healthy)
	climb, err := s.client().StartClimb(ctx, 1, client.ClimbStart{Host: "stick-1"})
	if err != nil {
		t.Fatal(err)
	}
	want(client.Climbing)
	if _, err := s.client().ReportClimb(ctx, climb.ID, client.ClimbReport{State: client.Ended}); err != nil {
		t.Fatal(err)
	}
	want(client.Open)
	if err := s.client().Watch(ctx, 99, func(client.Case) bool { return true }); err == nil ||
		!strings.Contains(err.Error(), "there is no case 99") {
		t.Errorf("watching nothing: %v", err)
	}
}
