// Package e2e drives the whole of Diorthos as its users do: the binary, plain
// HTTP, the Go client and the console in a browser, against a real PostgreSQL.
package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/console"
	"diorthos/core/bag"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
	"diorthos/service"
	"diorthos/standin/cluster"
	"diorthos/standin/fleet"
)

var (
	database *cluster.Cluster
	binary   string
	pristine string // the disk image of the walk-through's machine
)

func TestMain(m *testing.M) {
	os.Exit(run(m))
}

// run starts one database for all tests, builds the binary, makes the image.
func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "diorthos-e2e-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the database runs as another user
	}
	if err != nil {
		return fail(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	binary = filepath.Join(dir, "diorthos")
	if out, err := exec.Command("go", "build", "-o", binary, "../cmd/diorthos").CombinedOutput(); err != nil {
		return fail(fmt.Errorf("build: %w: %s", err, out))
	}
	ctx := context.Background()
	if database, err = cluster.Start(ctx, filepath.Join(dir, "database"), cluster.Options{Fleeting: true}); err != nil {
		return fail(err)
	}
	defer func() { _ = database.Stop() }()
	pristine = filepath.Join(dir, fleet.Machines[0].Name+".img")
	if err := fleet.Machines[0].Make(ctx, pristine); err != nil {
		return fail(err)
	}
	return m.Run()
}

func fail(err error) int {
	_, _ = fmt.Fprintln(os.Stderr, "e2e:", err)
	return 2
}

// A stage is a service of a test's own.
type stage struct {
	t     testing.TB
	url   string
	token string
	dsn   string
	bags  string

	serveMore []string // further flags of serveProcess
}

var stages atomic.Int32

// newStage serves from within the test on a fresh database.
func newStage(t testing.TB, limits bag.Limits, more ...func(*service.Config)) *stage {
	t.Helper()
	s := prepare(t)
	listener, err := service.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	conf := service.Config{
		Database:  s.dsn,
		Bags:      s.bags,
		Knowledge: func() (*knowledge.Knowledge, error) { return knowledge.Load(shipped.Files) },
		Console:   console.Files(),
		Limits:    limits,
		Log:       slog.New(slog.NewTextHandler(io.Discard, nil)),
		Ready:     func(a string) { ready <- a },
	}
	for _, m := range more {
		m(&conf)
	}
	go func() { ended <- service.Run(ctx, listener, conf) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("service ended with %v", err)
		}
	})
	select {
	case a := <-ready:
		s.url = "http://" + a
	case err := <-ended:
		ended <- err
		t.Fatal(err)
	}
	return s
}

// prepare makes the database and a person who may sign in.
func prepare(t testing.TB) *stage {
	t.Helper()
	ctx := context.Background()
	name := fmt.Sprintf("stage%d", stages.Add(1))
	conn, err := pgx.Connect(ctx, database.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }()
	if _, err := conn.Exec(ctx, "create database "+name); err != nil {
		t.Fatal(err)
	}
	s := &stage{
		t:     t,
		token: "token-of-" + name,
		dsn:   strings.Replace(database.DSN, "/postgres?", "/"+name+"?", 1),
		bags:  t.TempDir(),
	}
	if err := service.SetToken(ctx, s.dsn, fleet.Technician, s.token); err != nil {
		t.Fatal(err)
	}
	return s
}

func (s *stage) client() *client.Client { return client.New(s.url, s.token) }

// result is what a run of the binary came to.
type result struct {
	status      int
	out, errout string
}

// run runs the binary as this stage's technician.
func (s *stage) run(args ...string) result {
	s.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "DIORTHOS_URL="+s.url, "DIORTHOS_TOKEN="+s.token)
	return finish(s.t, cmd)
}

// answering runs the binary with somebody at the keyboard.
func (s *stage) answering(answers string, args ...string) result {
	s.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "DIORTHOS_URL="+s.url, "DIORTHOS_TOKEN="+s.token)
	cmd.Stdin = strings.NewReader(answers)
	return finish(s.t, cmd)
}

func finish(t testing.TB, cmd *exec.Cmd) result {
	t.Helper()
	var out, errout bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errout
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errout.String()}
}

// must runs the binary and expects a status.
func (s *stage) must(status int, args ...string) string {
	s.t.Helper()
	r := s.run(args...)
	if r.status != status {
		s.t.Fatalf("diorthos %s: status %d, want %d\n%s%s", strings.Join(args, " "), r.status, status, r.out, r.errout)
	}
	return r.out
}

func wants(t testing.TB, text string, parts ...string) {
	t.Helper()
	for _, p := range parts {
		if !strings.Contains(text, p) {
			t.Errorf("does not say %q:\n%s", p, text)
		}
	}
}

// copyImage gives a test an image of its own.
func copyImage(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), filepath.Base(pristine))
	if out, err := exec.Command("cp", "--sparse=always", pristine, path).CombinedOutput(); err != nil {
		t.Fatalf("cp: %v: %s", err, out)
	}
	return path
}

func same(t *testing.T, a, b string) bool {
	t.Helper()
	return exec.Command("cmp", "--silent", a, b).Run() == nil
}

// within waits until a condition holds.
func within(t testing.TB, limit time.Duration, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(limit); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("not within %s: %s", limit, what)
}
