package cluster_test

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/jackc/pgx/v5"

	"diorthos/standin/cluster"
)

func exec(t *testing.T, c *cluster.Cluster, statement string) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, c.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(ctx) }()
	var got string
	if err := conn.QueryRow(ctx, statement).Scan(&got); err != nil {
		t.Fatalf("%s: %v", statement, err)
	}
	return got
}

func TestDataOutliveAKillAndStayOnLoopback(t *testing.T) {
	work, err := os.MkdirTemp("", "diorthos-cluster-")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(work) }()
	// A folder that the database's own user cannot enter, as below /root.
	closed := filepath.Join(work, "closed")
	if err := os.MkdirAll(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(closed, "database")
	first, err := cluster.Start(context.Background(), dir, cluster.Options{})
	if err != nil {
		t.Fatal(err)
	}
	exec(t, first, "with made as (select set_config('x.y', 'z', false)) select 'made' from made")
	conf, err := pgx.ParseConfig(first.DSN)
	if err != nil {
		t.Fatal(err)
	}
	if got := exec(t, first, "select current_setting('listen_addresses')"); got != "127.0.0.1" {
		t.Errorf("listens on %q", got)
	}
	bad := *conf
	bad.Password = "guessed"
	if c, err := pgx.ConnectConfig(context.Background(), &bad); err == nil {
		_ = c.Close(context.Background())
		t.Error("a wrong password was let in")
	}
	conn, err := pgx.Connect(context.Background(), first.DSN)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(context.Background(), "create table kept as select 'still here' as word"); err != nil {
		t.Fatal(err)
	}
	_ = conn.Close(context.Background())

	// The one that runs is left behind, as by a kill of whoever started it;
	// the next start takes its place.
	second, err := cluster.Start(context.Background(), dir, cluster.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if got := exec(t, second, "select word from kept"); got != "still here" {
		t.Errorf("got %q", got)
	}
	if err := second.Stop(); err != nil {
		t.Error(err)
	}
	if c, err := net.Dial("tcp", net.JoinHostPort(conf.Host, strconv.Itoa(int(conf.Port)))); err == nil {
		_ = c.Close()
		t.Error("the first one still listens")
	}
	if err := cluster.Remove(dir); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(second.Dir()); !os.IsNotExist(err) {
		t.Errorf("the data are still there: %v", err)
	}
}
