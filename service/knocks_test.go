package service_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"diorthos/client"
)

// knocker is a machine that was started from a stick, as far as the service can know one.
type knocker struct {
	public  ed25519.PublicKey
	private ed25519.PrivateKey
}

func newKnocker(t *testing.T) knocker {
	t.Helper()
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	return knocker{public, private}
}

func (k knocker) asks(at time.Time) client.KnockAsked {
	return client.KnockAsked{Public: k.public, Time: at, Signature: ed25519.Sign(k.private, client.KnockText(at))}
}

func status(err error) int {
	if p := (*client.Problem)(nil); errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// Whoever knocks without a token costs a bounded number of rows, is told nothing, and is let in by the code on its own
// screen alone: once, by a person, in time, and for some hours.
func TestAKnockIsAnsweredByAPersonAlone(t *testing.T) {
	s := serve(t, false)
	anybody, desk, machine := client.New(s.url, ""), s.client(), newKnocker(t)
	knock := client.Knock{Public: machine.public, Tells: "a kiosk with one disk"}
	if _, err := anybody.Knock(t.Context(), client.Knock{Public: []byte("short")}); status(err) != 422 {
		t.Errorf("a key that is none: %v", err)
	}
	first, err := anybody.Knock(t.Context(), knock)
	if err != nil {
		t.Fatal(err)
	}
	second, err := anybody.Knock(t.Context(), knock) // its answer was lost: the code that it shows is this one
	if err != nil {
		t.Fatal(err)
	}
	if _, err := desk.Knocking(t.Context(), first.Code); status(err) != http.StatusNotFound {
		t.Errorf("a code that is shown nowhere any more: %v", err)
	}
	if k, err := desk.Knocking(t.Context(), second.Code); err != nil || k.Tells != knock.Tells || k.Address == "" {
		t.Errorf("who knocks: %+v, %v", k, err)
	}
	forged := machine.asks(time.Now())
	forged.Public = newKnocker(t).public
	for what, asked := range map[string]client.KnockAsked{
		"with another key":    forged,
		"long ago":            machine.asks(time.Now().Add(-time.Hour)),
		"by one that has not": newKnocker(t).asks(time.Now()),
	} {
		if _, err := anybody.Admitted(t.Context(), asked); status(err) != http.StatusGone {
			t.Errorf("asked %s: %v", what, err)
		}
	}
	if _, err := desk.Admit(t.Context(), client.Admission{Code: second.Code, Machine: "kiosk-1"}); err != nil {
		t.Fatal(err)
	}
	in, err := anybody.Admitted(t.Context(), machine.asks(time.Now()))
	if err != nil || in == nil || in.Machine != "kiosk-1" || len(in.Service) != ed25519.PublicKeySize {
		t.Fatalf("let in: %+v, %v", in, err)
	}
	agent := client.New(s.url, "")
	on := func() error {
		now := time.Now()
		_, err := agent.SignOn(t.Context(), client.SignOn{
			Agent: in.Agent, Time: now, Signature: ed25519.Sign(machine.private, client.SignOnText(in.Agent, now)),
		})
		return err
	}
	if err := on(); err != nil {
		t.Fatal(err)
	}
	// An agent lets nobody in and orders nothing.
	if _, err := agent.Admit(t.Context(), client.Admission{Code: second.Code, Machine: "kiosk-2"}); status(err) != 403 {
		t.Errorf("an agent lets another one in: %v", err)
	}
	if _, err := agent.OrderRung(t.Context(), 1, client.OrderWish{Rung: 1}); status(err) != 403 {
		t.Errorf("an agent orders: %v", err)
	}
	if _, err := desk.Admit(t.Context(), client.Admission{Code: second.Code, Machine: "kiosk-2"}); status(err) != 404 {
		t.Errorf("a code counts twice: %v", err)
	}
	s.sql(s.dsn, "update agents set expires_at = now() - interval '1 second'")
	if err := on(); status(err) != http.StatusUnauthorized {
		t.Errorf("after its twelve hours: %v", err)
	}
	if list, err := desk.Agents(t.Context()); err != nil || len(list) != 0 {
		t.Errorf("agents whose time is over: %+v, %v", list, err)
	}
}

// The codes of machines that knock in vain are over after a quarter of an hour, and no address fills the table.
func TestKnocksAreBounded(t *testing.T) {
	s := serve(t, false)
	anybody := client.New(s.url, "")
	late := newKnocker(t)
	code, err := anybody.Knock(t.Context(), client.Knock{Public: late.public})
	if err != nil {
		t.Fatal(err)
	}
	s.sql(s.dsn, "update knocks set expires_at = now() - interval '1 second'")
	if _, err := s.client().Admit(t.Context(), client.Admission{Code: code.Code, Machine: "x"}); status(err) != 404 {
		t.Errorf("a code that is over: %v", err)
	}
	if _, err := anybody.Admitted(t.Context(), late.asks(time.Now())); status(err) != http.StatusGone {
		t.Errorf("told to the machine: %v", err)
	}
	refused := 0
	for range 30 {
		if _, err := anybody.Knock(t.Context(), client.Knock{Public: newKnocker(t).public}); err != nil {
			refused = status(err)
			break
		}
	}
	if refused != http.StatusTooManyRequests && refused != http.StatusServiceUnavailable {
		t.Errorf("thirty at once from one address came to %d", refused)
	}
	s.sql(s.dsn, "insert into knocks (public, hash, address, expires_at) "+
		"select n::text::bytea, n::text::bytea, n::text, now() + interval '1 minute' from generate_series(1, 200) n")
	body, err := json.Marshal(client.Knock{Public: newKnocker(t).public})
	if err != nil {
		t.Fatal(err)
	}
	refusal, said := s.call(http.MethodPost, "/api/v1/knocks", bytes.NewReader(body),
		append(from(), "Content-Type", "application/json")...)
	if refusal != http.StatusServiceUnavailable || !strings.Contains(said, "crowded") {
		t.Errorf("one more than two hundred: %d %s", refusal, said)
	}
}
