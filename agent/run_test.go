package agent

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/climb"
)

// a service that takes what it is handed, unless it is away.
type desk struct {
	mu    sync.Mutex
	away  bool
	taken []string
	asked int
	wants []string            // what has to be held back
	lose  bool                // what is told of that
	held  []map[string]string // what was told
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	answer := func(v any) { _ = json.NewEncoder(w).Encode(v) }
	switch r.URL.Path {
	case "/api/v1/enrol":
		answer(client.Enrolled{Agent: 1, Machine: "kiosk-1", Service: make([]byte, ed25519.PublicKeySize)})
	case "/api/v1/sign-on":
		answer(client.SignedOn{Token: "t", Expires: time.Now().Add(time.Hour)})
	case "/api/v1/order":
		d.asked++
		d.mu.Unlock()
		select {
		case <-r.Context().Done():
		case <-time.After(200 * time.Millisecond):
		}
		d.mu.Lock()
		answer(client.Task{Held: append([]string{}, d.wants...)})
	case "/api/v1/held":
		if d.lose {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var told client.HeldReport
		_ = json.NewDecoder(r.Body).Decode(&told)
		d.held = append(d.held, told.Held)
		answer(struct{}{})
	case "/api/v1/bags":
		raw, _ := io.ReadAll(r.Body)
		if d.away {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if string(raw) == "no bag" {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnprocessableEntity)
			_, _ = w.Write([]byte(`{"status": 422, "title": "not a bag"}`))
			return
		}
		d.taken = append(d.taken, string(raw))
		answer(client.Accepted{Case: client.Case{Number: int64(len(d.taken))}})
	}
}

// What a machine holds back is told until the service has heard it, also by an agent that was started again meanwhile,
// and once: else the service would believe that nothing is held there.
func TestWhatIsHeldBackIsToldUntilItIsHeard(t *testing.T) {
	service := &desk{wants: []string{"the update of November"}, lose: true}
	server := httptest.NewServer(service)
	defer server.Close()
	folder := t.TempDir()
	asks := func(until func() bool) {
		t.Helper()
		a := &Agent{
			Folder: folder, Log: slog.New(slog.DiscardHandler), Wait: time.Second,
			Record: func() (*climb.Record, error) { return climb.OpenRecord(filepath.Join(folder, "r.climbs"), "kiosk-1") },
			Target: func(action.ID) (*block.Target, error) { return nil, errors.New("it has no policy") },
			Gather: func(_ context.Context, path string) (string, error) {
				return "well", os.WriteFile(path, []byte("well"), 0o600)
			},
		}
		if _, err := os.Stat(filepath.Join(folder, keptName)); err != nil {
			if _, err := a.Enrol(t.Context(), server.URL, "code"); err != nil {
				t.Fatal(err)
			}
		}
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		ended := make(chan error, 1)
		go func() { ended <- a.Run(ctx) }()
		for !until() && ctx.Err() == nil {
			time.Sleep(20 * time.Millisecond)
		}
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
	asks(func() bool {
		raw, err := os.ReadFile(filepath.Join(folder, keptName))
		return err == nil && strings.Contains(string(raw), "it has no policy") // it was tried, and could not be told
	})
	service.mu.Lock()
	service.lose = false
	service.mu.Unlock()
	seen := func() int { service.mu.Lock(); defer service.mu.Unlock(); return len(service.held) }
	asks(func() bool { return seen() > 0 })
	asked := func() int { service.mu.Lock(); defer service.mu.Unlock(); return service.asked }
	for before := asked(); asked() < before+3; {
		asks(func() bool { return asked() >= before+3 })
	}
	if service.held == nil || len(service.held) != 1 || service.held[0]["the update of November"] == "" {
		t.Errorf("told: %v", service.held)
	}
}

func (d *desk) got(away bool) []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.away = away
	return append([]string{}, d.taken...)
}

// What is tried on a machine is handed in once it has ended, once, also when the service was away meanwhile; nothing
// is handed in for nothing, and not again after a restart.
func TestWhatWasTriedIsNoticedAndHandedInOnce(t *testing.T) {
	service := &desk{}
	server := httptest.NewServer(service)
	defer server.Close()
	var mu sync.Mutex
	trace, state, undone := "a", "well", []string{}
	set := func(a, b string) {
		mu.Lock()
		defer mu.Unlock()
		trace, state = a, b
	}
	folder := t.TempDir()
	begin := func() (end func()) {
		a := &Agent{
			Folder: folder, Log: slog.New(slog.DiscardHandler), Notice: 30 * time.Millisecond, Wait: time.Second,
			Record: func() (*climb.Record, error) { return climb.OpenRecord(filepath.Join(folder, "r.climbs"), "kiosk-1") },
			Undo: func(_ context.Context, journal string) error {
				mu.Lock()
				defer mu.Unlock()
				undone = append(undone, journal)
				return nil
			},
			Trace: func() string { mu.Lock(); defer mu.Unlock(); return trace },
			Gather: func(_ context.Context, path string) (string, error) {
				mu.Lock()
				defer mu.Unlock()
				return "digest of " + state, os.WriteFile(path, []byte(state), 0o600)
			},
		}
		if _, err := os.Stat(filepath.Join(folder, keptName)); err != nil {
			if _, err := a.Enrol(t.Context(), server.URL, "code"); err != nil {
				t.Fatal(err)
			}
		}
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- a.Run(ctx) }()
		return func() {
			stop()
			if err := <-ended; err != nil {
				t.Error(err)
			}
		}
	}
	wants := func(what string, want ...string) {
		t.Helper()
		var got []string
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if got = service.got(false); len(got) >= len(want) {
				break
			}
		}
		time.Sleep(300 * time.Millisecond) // what would come in too much
		if got = service.got(false); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("%s: handed in %q, want %q", what, got, want)
		}
	}
	end := begin()
	wants("at first", "well")
	set("b", "well")
	wants("something was tried that left all as it was", "well")
	set("n", "no bag")
	wants("one is refused", "well")
	set("c", "failed")
	wants("something failed", "well", "failed")
	end()
	service.got(true) // away from now on
	set("d", "failed again")
	end = begin()
	time.Sleep(400 * time.Millisecond)
	end()
	end = begin()
	wants("the service was away, and the agent started again", "well", "failed", "failed again")
	end()
	record, err := climb.OpenRecord(filepath.Join(folder, "r.climbs"), "kiosk-1")
	if err == nil {
		err = record.Note(climb.Entry{Mark: climb.MarkBegun, Rung: 1, Remedy: "mend", Journal: "cut.journal"})
	}
	if err := errors.Join(err, record.Close()); err != nil {
		t.Fatal(err)
	}
	for _, own := range []bool{false, true} { // what was cut off is a person's work, or its own
		want := "[]"
		if own {
			want = "[cut.journal]"
			kept := filepath.Join(folder, keptName)
			raw, err := os.ReadFile(kept)
			if err == nil {
				err = os.WriteFile(kept, bytes.Replace(raw, []byte("{"), []byte(`{"busy": true, `), 1), 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		undone = []string{}
		end = begin()
		wants("started again, and nothing was tried", "well", "failed", "failed again")
		end()
		if fmt.Sprint(undone) != want {
			t.Errorf("work that was cut off, its own %v: taken back %v, want %s", own, undone, want)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(folder, "outbox*")); len(left) != 1 ||
		!strings.Contains(left[0], "refused") {
		t.Errorf("left in the outbox: %v", left)
	}
}

// What fails for now only is tried again; what the service refuses is not.
func TestWhatIsTriedAgain(t *testing.T) {
	for status, again := range map[int]bool{
		401: true, 403: false, 404: false, 409: false, 422: false, 429: true, 500: true, 503: true,
	} {
		if away(&client.Problem{Status: status}) != again {
			t.Errorf("%d: tried again %v", status, !again)
		}
	}
	if !away(fmt.Errorf("no route: %w", io.ErrUnexpectedEOF)) || away(nil) {
		t.Error("no answer at all is tried again, and an answer is not")
	}
	if err := asked(&client.Problem{Status: 409}); !errors.Is(err, climb.ErrBlocked) || errors.Is(err, errAway) {
		t.Errorf("somebody else is at work: %v", err)
	}
}
