package health_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/knowledge"
	"diorthos/service/health"
)

// TestOnlyWhatWasLookedAtIsCalledGood breaks one thing after the other.
func TestOnlyWhatWasLookedAtIsCalledGood(t *testing.T) {
	dir := t.TempDir()
	open := filepath.Join(dir, "open")
	if err := os.Mkdir(open, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o777); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	private := filepath.Join(dir, "private")
	if err := os.Mkdir(private, 0o700); err != nil {
		t.Fatal(err)
	}
	of := func(w health.Wanted, what string) health.Finding {
		for _, f := range health.Look(t.Context(), w) {
			if f.What == what {
				return f
			}
		}
		t.Fatalf("nothing was said of %s", what)
		return health.Finding{}
	}
	for name, c := range map[string]struct {
		wanted health.Wanted
		what   string
		rating health.Rating
		says   string
	}{
		"nothing named": {health.Wanted{}, "database", health.Unasked, "no --database"},
		"no database": {
			health.Wanted{Database: "postgres://nobody@127.0.0.1:9/x?connect_timeout=2"},
			"database", health.Bad, "9",
		},
		"a private folder": {health.Wanted{Bags: private}, "bags", health.Good, "free"},
		"an open folder":   {health.Wanted{Bags: open}, "bags", health.Doubtful, "free"},
		"a file":           {health.Wanted{Bags: file}, "bags", health.Bad, "not a folder"},
		"no folder":        {health.Wanted{Bags: filepath.Join(dir, "none")}, "bags", health.Doubtful, "not there yet"},
		"bad knowledge": {health.Wanted{
			Knowledge: func() (*knowledge.Knowledge, error) { return nil, os.ErrInvalid },
		}, "knowledge", health.Bad, "invalid"},
	} {
		f := of(c.wanted, c.what)
		if f.Rating != c.rating || !strings.Contains(f.Saw, c.says) ||
			(f.Rating == health.Bad) != (health.Worst([]health.Finding{f}) == health.Bad) {
			t.Errorf("%s: %+v, want %s and %q", name, f, c.rating, c.says)
		}
	}
	if f := health.Certificate(file, file, time.Now()); f.Rating != health.Bad {
		t.Errorf("an empty certificate: %+v", f)
	}
	if left, err := os.ReadDir(private); err != nil || len(left) != 0 {
		t.Errorf("the look left %v (%v)", left, err)
	}
}
