// Package cluster runs a private PostgreSQL on loopback: for the demo, which
// keeps it, and for tests, which throw it away.
//
//	c, err := cluster.Start(ctx, ".demo/database", cluster.Options{})
//	defer c.Stop()
//	fmt.Println(c.DSN)
//
// PostgreSQL refuses to run as root: started by root, it runs as the user
// postgres that Debian's package made.
package cluster

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options say how the cluster runs.
type Options struct {
	// Fleeting gives up durability for speed. For tests.
	Fleeting bool
}

// A Cluster is a running PostgreSQL with one empty or known database.
type Cluster struct {
	DSN  string
	dir  string
	cmd  *exec.Cmd
	done chan struct{}
}

// ErrNotInstalled means that PostgreSQL's server programs are missing.
var ErrNotInstalled = errors.New("PostgreSQL is not installed: run \"make packages\", or apt-get install postgresql")

// Start makes a cluster in dir if there is none, and starts it on a free port
// of 127.0.0.1. One that was left running there is stopped first.
func Start(ctx context.Context, dir string, o Options) (*Cluster, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	run, err := newRunner(bin)
	if err != nil {
		return nil, err
	}
	if dir, err = run.home(dir); err != nil {
		return nil, fmt.Errorf("cluster: %w", err)
	}
	password, err := run.initialise(ctx, dir)
	if err != nil {
		return nil, fmt.Errorf("cluster: %w", err)
	}
	run.stopLeftOver(ctx, dir)
	c, err := run.start(ctx, dir, password, o)
	for tries := 0; errors.Is(err, errEnded) && tries < 20 && ctx.Err() == nil; tries++ {
		time.Sleep(500 * time.Millisecond) // children of one that was killed hold its memory for a moment
		c, err = run.start(ctx, dir, password, o)
	}
	return c, err
}

var errEnded = errors.New("it ended at once")

// Dir is where the data really lie.
func (c *Cluster) Dir() string { return c.dir }

// Stop ends the cluster and waits until all is written.
func (c *Cluster) Stop() error {
	_ = c.cmd.Process.Signal(syscall.SIGINT) // "fast": ends sessions, keeps data
	select {
	case <-c.done:
		return nil
	case <-time.After(20 * time.Second):
		_ = c.cmd.Process.Kill()
		return errors.New("cluster: did not stop within 20 s and was killed")
	}
}

func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		return "", ErrNotInstalled
	}
	sort.Strings(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// A runner runs PostgreSQL's programs, as postgres if we are root.
type runner struct {
	bin      string
	uid, gid int // -1 if we are not root
}

func newRunner(bin string) (*runner, error) {
	r := &runner{bin: bin, uid: -1, gid: -1}
	if os.Getuid() != 0 {
		return r, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("cluster: PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	if r.uid, err = strconv.Atoi(u.Uid); err == nil {
		r.gid, err = strconv.Atoi(u.Gid)
	}
	return r, err
}

func (r *runner) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(r.bin, name), args...)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for us to pass on
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	if r.uid >= 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(r.uid), Gid: uint32(r.gid)}
	}
	return cmd
}

// home makes the folder and gives it to whoever runs PostgreSQL. A folder that
// this user cannot enter, such as one below /root, is replaced by one beside
// the user's own, and a link to it is left in its place.
func (r *runner) home(dir string) (string, error) {
	if at, err := os.Readlink(dir); err == nil {
		return at, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	if r.uid < 0 {
		return dir, nil
	}
	if err := os.Chown(dir, r.uid, r.gid); err != nil {
		return "", err
	}
	if r.canEnter(dir) {
		return dir, nil
	}
	sum := sha256.Sum256([]byte(dir))
	other := filepath.Join("/var/lib/postgresql", "diorthos-"+hex.EncodeToString(sum[:4]))
	if err := os.MkdirAll(other, 0o700); err != nil {
		return "", err
	}
	if err := os.Chown(other, r.uid, r.gid); err != nil {
		return "", err
	}
	if err := os.Remove(dir); err != nil {
		return "", err
	}
	return other, os.Symlink(other, dir)
}

func (r *runner) canEnter(dir string) bool {
	for d := filepath.Dir(dir); d != "/"; d = filepath.Dir(d) {
		info, err := os.Stat(d)
		if err != nil {
			return false
		}
		owner, ok := info.Sys().(*syscall.Stat_t)
		if info.Mode()&0o001 == 0 && !(ok && int(owner.Uid) == r.uid && info.Mode()&0o100 != 0) {
			return false
		}
	}
	return true
}

// initialise makes the cluster once; a half-made one is made anew.
func (r *runner) initialise(ctx context.Context, dir string) (password string, err error) {
	keep := filepath.Join(dir, "password")
	if text, err := os.ReadFile(keep); err == nil {
		return string(text), nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	data := filepath.Join(dir, "data")
	if err := os.RemoveAll(data); err != nil {
		return "", err
	}
	password = rand.Text()
	draft := keep + ".new"
	if err := os.WriteFile(draft, []byte(password), 0o600); err != nil {
		return "", err
	}
	if r.uid >= 0 {
		if err := os.Chown(draft, r.uid, r.gid); err != nil {
			return "", err
		}
	}
	out, err := r.command(
		ctx, "initdb", "--pgdata", data, "--username", "diorthos", "--pwfile", draft, "--auth", "scram-sha-256",
		"--encoding", "UTF8", "--locale", "C.UTF-8", "--no-sync",
	).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("initdb: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return password, os.Rename(draft, keep)
}

// stopLeftOver ends what a killed run left behind.
func (r *runner) stopLeftOver(ctx context.Context, dir string) {
	data := filepath.Join(dir, "data")
	if _, err := os.Stat(filepath.Join(data, "postmaster.pid")); err == nil {
		_ = r.command(ctx, "pg_ctl", "stop", "--pgdata", data, "--mode", "fast", "--silent").Run()
	}
}

func (r *runner) start(ctx context.Context, dir, password string, o Options) (*Cluster, error) {
	port, err := freePort()
	if err != nil {
		return nil, fmt.Errorf("cluster: %w", err)
	}
	args := []string{
		"-D", filepath.Join(dir, "data"), "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=", "-c", "max_connections=60",
	}
	if o.Fleeting {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	logPath := filepath.Join(dir, "log")
	log, err := os.OpenFile(logPath, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, fmt.Errorf("cluster: %w", err)
	}
	defer func() { _ = log.Close() }()
	cmd := r.command(context.WithoutCancel(ctx), "postgres", args...)
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("cluster: start postgres: %w", err)
	}
	c := &Cluster{
		dir:  dir,
		cmd:  cmd,
		done: make(chan struct{}),
		DSN:  fmt.Sprintf("postgres://diorthos:%s@127.0.0.1:%d/postgres?sslmode=disable", password, port),
	}
	go func() {
		_ = cmd.Wait()
		close(c.done)
	}()
	if err := c.wait(ctx); err != nil {
		_ = c.Stop()
		return nil, fmt.Errorf("cluster: postgres does not answer: %w (its log is %s)", err, logPath)
	}
	return c, nil
}

func (c *Cluster) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, c.DSN)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-c.done:
			return errEnded
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// Remove deletes the cluster in dir and what a link there leads to.
func Remove(dir string) error {
	if at, err := os.Readlink(dir); err == nil {
		if err := os.RemoveAll(at); err != nil {
			return err
		}
	}
	return os.RemoveAll(dir)
}
