package ladder_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/ladder"
)

func TestLoansAreOwedUntilReturnedOrAccepted(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tern.ledger")
	open := func() *ladder.Ledger {
		l, err := ladder.OpenLedger(path, 7, "tern-laptop-1")
		if err != nil {
			t.Fatal(err)
		}
		return l
	}
	l := open()
	for _, what := range []string{"the clock", "the network", "the clock"} {
		if err := l.Borrow(ladder.Loan{What: what, Back: "put it back", Rung: 2}); err != nil {
			t.Fatal(err)
		}
	}
	l = open() // as after a crash
	if len(l.Owed()) != 2 {
		t.Fatalf("%+v", l.Loans)
	}
	if err := l.Return(0, time.Unix(1_795_000_000, 0)); err != nil {
		t.Fatal(err)
	}
	if err := l.Accept(1, "the cable is broken"); err != nil {
		t.Fatal(err)
	}
	if l = open(); len(l.Owed()) != 0 || l.Loans[1].Accepted != "the cable is broken" {
		t.Errorf("%+v", l.Loans)
	}
	if err := l.Borrow(ladder.Loan{What: "the clock"}); err != nil || len(open().Owed()) != 1 {
		t.Errorf("borrowed again after it was returned: %v %+v", err, l.Loans)
	}
	if _, err := ladder.OpenLedger(path, 8, "tern-laptop-1"); !errors.Is(err, ladder.ErrOtherClimb) {
		t.Errorf("another case: %v", err)
	}
	if err := os.WriteFile(path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ladder.OpenLedger(path, 7, "tern-laptop-1"); err == nil {
		t.Error("a damaged ledger was taken for an empty one")
	}
}

func TestARestartBlocksUntilItIsSeen(t *testing.T) {
	l, err := ladder.OpenLedger(filepath.Join(t.TempDir(), "l"), 1, "m")
	if err != nil {
		t.Fatal(err)
	}
	if err := l.OweRestart(3, "boot-a"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		boot string
		told bool
		want bool
	}{{"boot-a", false, false}, {"", false, false}, {"boot-b", false, true}, {"boot-b", false, true}} {
		if got, err := l.Restarted(c.boot, c.told); err != nil || got != c.want {
			t.Errorf("%+v: %t %v", c, got, err)
		}
	}
	if err := l.OweRestart(3, ""); err != nil { // of a machine that cannot be asked
		t.Fatal(err)
	}
	if got, _ := l.Restarted("boot-z", false); got {
		t.Error("a restart was seen on another machine")
	}
	if got, _ := l.Restarted("", true); !got {
		t.Error("a person said so")
	}
}
