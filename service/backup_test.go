package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/service/backup"
	"diorthos/service/bags"
)

// TestABackupGivesEverythingBack writes a backup of a running service, restores it beside,
// and holds every case, person and audit entry against the first. Damaged in many places,
// the file restores nothing.
// Whatever the service records is kept, or is named among what is not.
func TestABackupKeepsEveryTable(t *testing.T) {
	s := serve(t, true)
	conn, err := pgx.Connect(t.Context(), s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(t.Context(), "select tablename from pg_tables where schemaname = current_schema()")
	if err != nil {
		t.Fatal(err)
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || len(all) < 20 {
		t.Fatalf("%d tables: %v", len(all), err)
	}
	for _, name := range all {
		left := slices.ContainsFunc(backup.Left, func(pattern string) bool {
			matched, err := path.Match(pattern, name)
			return err == nil && matched
		})
		if kept := slices.Contains(backup.Kept(), name); kept == left {
			t.Errorf("table %s: kept %t, left out %t", name, kept, left)
		}
	}
}

func TestABackupGivesEverythingBack(t *testing.T) {
	s := serve(t, false)
	for _, m := range []string{"tern-1", "tern-2", "gannet-3"} {
		s.state(s.mustSubmit(m, "Lerrick"), 30*time.Second, client.Open)
	}
	told, err := s.client().OpenCall(t.Context(), client.NewCall{Machine: "skua-1", Words: "no space left on device"})
	if err != nil {
		t.Fatal(err)
	}
	s.state(told.Number, 30*time.Second, client.Open)
	closed := client.CaseChange{State: client.Closed, Note: "made room"}
	if _, err := s.client().ChangeCase(t.Context(), 2, closed); err != nil {
		t.Fatal(err)
	}
	from, err := bags.Open(t.Context(), s.bags)
	if err != nil {
		t.Fatal(err)
	}
	var file bytes.Buffer
	sum, err := backup.Write(t.Context(), s.dsn, from, &file, nil)
	if err != nil || sum.Rows["cases"] != 4 || sum.Bags != 4 {
		t.Fatalf("%+v, %v", sum, err)
	}
	want := s.everything(4)

	other := beside(t, s, "restored")
	to, err := bags.Open(t.Context(), other.bags)
	if err != nil {
		t.Fatal(err)
	}
	var bad *backup.DamagedError
	for i := 1; i < 40; i++ {
		raw := bytes.Clone(file.Bytes())
		if at := i * len(raw) / 40; i%2 == 0 {
			raw = raw[:at]
		} else {
			raw[at] ^= 0x10
		}
		if _, err := backup.Check(bytes.NewReader(raw)); !errors.As(err, &bad) {
			t.Fatalf("damage %d passed: %v", i, err)
		}
		if i%7 == 0 {
			if _, err := backup.Restore(t.Context(), other.dsn, to, bytes.NewReader(raw), nil); err == nil {
				t.Fatalf("damage %d was restored", i)
			}
		}
	}
	if left, err := os.ReadDir(other.bags); err != nil || len(left) != 0 {
		t.Errorf("damaged files left %d bags (%v)", len(left), err)
	}
	if _, err := backup.Restore(t.Context(), other.dsn, to, bytes.NewReader(file.Bytes()), nil); err != nil {
		t.Fatal(err)
	}
	if _, err := backup.Restore(t.Context(), other.dsn, to, bytes.NewReader(file.Bytes()), nil); !errors.Is(
		err,
		backup.ErrNotEmpty,
	) {
		t.Errorf("restored twice: %v", err)
	}
	other.run(false)
	if got := other.everything(4); got != want {
		t.Errorf("restored is not what was backed up:\n%s\n%s", got, want)
	}
	if n := other.mustSubmit("petrel-9", "Lerrick"); n != 5 {
		t.Errorf("the next case is %d, want 5", n)
	}
	status, text := other.call("GET", "/api/v1/audit/check", nil, other.signedIn()...)
	if status != 200 || strings.Contains(text, `"broken":[{`) {
		t.Errorf("the audit does not hold: %d %s", status, text)
	}
}

// beside is a service with a database and bags of its own that does not run yet.
func beside(t *testing.T, s *served, name string) *served {
	t.Helper()
	other := &served{t: t, bags: t.TempDir(), token: s.token}
	name = strings.ToLower(name + time.Now().Format("150405000000"))
	s.sql(database.DSN, "create database "+name)
	other.dsn = strings.Replace(database.DSN, "/postgres?", "/"+name+"?", 1)
	return other
}

// everything is each case as the service gives it, and who may use it.
func (s *served) everything(cases int) string {
	s.t.Helper()
	var all []any
	for n := range int64(cases) {
		c, err := s.client().Case(s.t.Context(), n+1)
		if err != nil {
			s.t.Fatal(err)
		}
		all = append(all, c)
		_, lines := s.call("GET", "/api/v1/machines/"+c.Machine, nil, s.signedIn()...)
		all = append(all, lines)
	}
	raw, err := json.Marshal(all)
	if err != nil {
		s.t.Fatal(err)
	}
	return string(raw)
}
