package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"diorthos/client"
)

// A live connection that breaks is made again, and nothing that the watcher
// waits for is lost.
func TestWatchConnectsAgain(t *testing.T) {
	var calls atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		n := calls.Add(1)
		if n == 2 { // what a proxy says while the service restarts
			hijacked, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				_ = hijacked.Close()
			}
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		state := client.Reading
		if n > 2 {
			state = client.Open
		}
		_, _ = fmt.Fprintf(w, ":\n\nevent: case\ndata: {\"number\":1,\"state\":%q}\n\n", state)
	}))
	defer server.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var seen []string
	err := client.New(server.URL, "t").Watch(ctx, 1, func(c client.Case) bool {
		seen = append(seen, string(c.State))
		return c.State != client.Open
	})
	if err != nil || strings.Join(seen, " ") != "reading open" || calls.Load() != 3 {
		t.Errorf("%v: saw %v in %d calls", err, seen, calls.Load())
	}
}

func TestAnswersThatAreNoProblemsAreExplainedAllTheSame(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		want   string
	}{
		"a problem": {
			409, `{"type":"urn:diorthos:problem:busy","title":"Conflict","status":409,"detail":"case 1 is being climbed"}`,
			"case 1 is being climbed",
		},
		"a list of faults": {
			422,
			`{"title":"Unprocessable Entity","detail":"validation failed",` +
				`"errors":[{"message":"expected number <= 200","location":"query.limit"}]}`,
			"query.limit: expected number <= 200",
		},
		"a proxy's page":    {502, "<html>Bad Gateway</html>", "502"},
		"an answer cut off": {200, `{"cases":[`, "cannot be read"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		}))
		_, err := client.New(server.URL, "t").Cases(context.Background(), client.CaseQuery{})
		server.Close()
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := client.New(
		"http://127.0.0.1:1", "t",
	).Cases(context.Background(), client.CaseQuery{}); !errors.Is(err, client.ErrUnreachable) {
		t.Errorf("no service: %v", err)
	}
}
