package service_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
)

// unpacked are the entries of an export.
func unpacked(t *testing.T, raw []byte) map[string]string {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	entries := map[string]string{}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return entries
		}
		if err != nil {
			t.Fatal(err)
		}
		raw, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		entries[h.Name] = string(raw)
	}
}

// Whoever administers gives out all that is kept of a person or a machine, and nothing of others; secrets stay, and an
// archive that cannot be made whole never looks whole.
func TestEverythingKeptOfOneIsExported(t *testing.T) {
	s := serve(t, false)
	c := s.client()
	mine := packed(t, "tern-1", map[string]string{"logs/apt/term.log": brokenUpdate}, nil)
	if status, _ := s.handIn(mine, false, 0); status != http.StatusCreated {
		t.Fatal(status)
	}
	s.state(1, 30*time.Second, client.Open)
	for _, other := range []string{"gannet-3", "tern-10"} {
		number := s.mustSubmit(other, "Lerrick")
		s.state(number, 30*time.Second, client.Open)
		if err := c.Bag(t.Context(), number, io.Discard); err != nil {
			t.Fatal(err)
		}
	}
	works := client.Work
	if _, err := c.SetPerson(t.Context(), "Joren Vik", client.PersonChange{Role: works}); err != nil {
		t.Fatal(err)
	}
	given, err := c.AddToken(t.Context(), "Joren Vik", client.TokenWish{Name: "laptop"})
	if err != nil {
		t.Fatal(err)
	}
	joren := client.New(s.url, given.Secret)
	if _, err := joren.ChangeCase(t.Context(), 1, client.CaseChange{State: client.Closed, Note: "made room"}); err != nil {
		t.Fatal(err)
	}
	if err := joren.Bag(t.Context(), 1, io.Discard); err != nil {
		t.Fatal(err)
	}

	var of bytes.Buffer
	if err := c.ExportMachine(t.Context(), "tern-1", &of); err != nil {
		t.Fatal(err)
	}
	machine := unpacked(t, of.Bytes())
	if machine["bags/case-1.bag.tar.gz"] != string(mine) {
		t.Errorf("the bag is not as it was handed in: %d bytes", len(machine["bags/case-1.bag.tar.gz"]))
	}
	for entry, wants := range map[string][]string{
		"machines.jsonl": {"tern-1"}, "cases.jsonl": {`"docket"`, "made room"}, "bags.jsonl": {`"size"`},
		"audit.jsonl": {"get-bag", "Joren Vik"},
	} {
		for _, want := range wants {
			if !strings.Contains(machine[entry], want) {
				t.Errorf("%s does not say %s: %.300s", entry, want, machine[entry])
			}
		}
	}
	of.Reset()
	if err := c.ExportPerson(t.Context(), "Joren Vik", &of); err != nil {
		t.Fatal(err)
	}
	person := unpacked(t, of.Bytes())
	for entry, want := range map[string]string{
		"people.jsonl": `"role": "work"`, "tokens.jsonl": "laptop", "cases.jsonl": "made room", "audit.jsonl": "get-bag",
	} {
		if !strings.Contains(person[entry], want) {
			t.Errorf("%s does not say %s: %.300s", entry, want, person[entry])
		}
	}
	for entry, text := range machine {
		if strings.Contains(text, "gannet-3") || strings.Contains(text, "tern-10") {
			t.Errorf("%s of tern-1 tells of another machine", entry)
		}
	}
	for entry, text := range person {
		if strings.Contains(text, `"hash"`) && entry != "audit.jsonl" || strings.Contains(text, `"docket"`) {
			t.Errorf("%s of a person holds what is not theirs: %.200s", entry, text)
		}
	}
	var refused *client.Problem
	for _, err := range []error{
		joren.ExportPerson(t.Context(), "Joren Vik", io.Discard), joren.ExportMachine(t.Context(), "tern-1", io.Discard),
	} {
		if !errors.As(err, &refused) || refused.Status != http.StatusForbidden {
			t.Errorf("one who works takes an export: %v", err)
		}
	}
	for _, err := range []error{
		c.ExportPerson(t.Context(), "Nobody", io.Discard), c.ExportMachine(t.Context(), "tern-9", io.Discard),
	} {
		if !errors.As(err, &refused) || refused.Status != http.StatusNotFound {
			t.Errorf("nobody is exported: %v", err)
		}
	}

	files, err := filepath.Glob(filepath.Join(s.bags, "*", "*"))
	if more, _ := filepath.Glob(filepath.Join(s.bags, "*")); err == nil {
		files = append(files, more...)
	}
	for _, name := range files {
		if raw, err := os.ReadFile(name); err == nil && bytes.Equal(raw, mine) {
			if err := os.Remove(name); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := c.ExportMachine(t.Context(), "tern-1", io.Discard); err == nil {
		t.Error("an export without a bag that should be in it looks whole")
	}
}

// namesSomebody are the columns in which a person or a machine can stand.
var namesSomebody = regexp.MustCompile(`^(?:person|person_id|who|machine|machine_id|case_number|\w+_by)$`)

// A column that names a person, a machine or a case is one that an export asks; so is one that comes later.
func TestAnExportAsksEveryColumnThatNamesSomebody(t *testing.T) {
	s := serve(t, true)
	source, err := os.ReadFile("records/export.go")
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(t.Context(), s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	rows, err := conn.Query(t.Context(), "select table_name::text, column_name::text from information_schema.columns "+
		"where table_schema = 'public' and table_name not like 'river%'")
	if err != nil {
		t.Fatal(err)
	}
	columns, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ Table, Column string }])
	if err != nil {
		t.Fatal(err)
	}
	asked := 0
	for _, c := range columns {
		if !namesSomebody.MatchString(c.Column) || slices.Contains([]string{"cases.machine_id"}, c.Table+"."+c.Column) {
			continue
		}
		asked++
		pattern := regexp.MustCompile(`table:\s+"` + c.Table + `",[^}]*where:[^}]*\b` + c.Column + `\b`)
		if !pattern.Match(source) {
			t.Errorf("%s.%s is in no export", c.Table, c.Column)
		}
	}
	if asked < 15 {
		t.Errorf("only %d columns name somebody", asked)
	}
}
