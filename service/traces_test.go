package service_test

import (
	"bytes"
	"encoding/hex"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"diorthos/client"
	"diorthos/service"
)

// A lockedBuffer is written by many.
type lockedBuffer struct {
	mu sync.Mutex
	bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.Write(p)
}

func (b *lockedBuffer) text() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.String()
}

// A bag that comes in with a trace of its caller is followed from the request to the docket, in one trace; the log
// names it, and a problem names the request. That nobody listens to traces keeps nothing up.
func TestABagIsTracedFromTheRequestToTheDocket(t *testing.T) {
	var mu sync.Mutex
	spans := map[string]*trace.Span{}
	listens := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		var told collector.ExportTraceServiceRequest
		if err == nil {
			err = proto.Unmarshal(raw, &told)
		}
		if err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: %v", r.URL.Path, err)
		}
		mu.Lock()
		defer mu.Unlock()
		for _, of := range told.GetResourceSpans() {
			for _, scope := range of.GetScopeSpans() {
				for _, s := range scope.GetSpans() {
					spans[s.GetName()] = s
				}
			}
		}
		w.Header().Set("Content-Type", "application/x-protobuf")
	}))
	defer listens.Close()
	var log lockedBuffer
	s := serve(t, false, func(c *service.Config) {
		c.Traces, c.TracesShare = listens.URL, 0 // only those that a caller keeps
		c.Log = slog.New(slog.NewJSONHandler(&log, nil))
	})
	const id = "0af7651916cd43dd8448eb211c80319c"
	bag := packed(t, "tern-1", map[string]string{"logs/apt/term.log": brokenUpdate}, nil)
	status, text := s.call(http.MethodPost, "/api/v1/bags", bytes.NewReader(bag),
		append(s.signedIn(), "Traceparent", "00-"+id+"-b7ad6b7169203331-01")...)
	if status != http.StatusCreated {
		t.Fatalf("%d %s", status, text)
	}
	s.state(1, 30*time.Second, client.Open)
	parents := map[string]string{
		"POST /api/v1/bags": "", "take the bag and verify it": "POST /api/v1/bags", "record the case": "POST /api/v1/bags",
		"read the case": "record the case", "unpack the bag": "read the case", "read the logs and diagnose": "read the case",
		"settle the case": "read the case",
	}
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		mu.Lock()
		n := len(spans)
		mu.Unlock()
		if n >= len(parents) {
			break
		}
	}
	mu.Lock()
	defer mu.Unlock()
	if len(spans) != len(parents) {
		t.Errorf("%d spans, want %d", len(spans), len(parents))
	}
	for name, parent := range parents {
		span := spans[name]
		if span == nil {
			t.Errorf("nothing is told of %q", name)
			continue
		}
		if got := hex.EncodeToString(span.GetTraceId()); got != id {
			t.Errorf("%q is in the trace %s", name, got)
		}
		if parent != "" && !bytes.Equal(span.GetParentSpanId(), spans[parent].GetSpanId()) {
			t.Errorf("%q is not within %q", name, parent)
		}
	}
	if !strings.Contains(log.text(), `"trace":"`+id+`"`) {
		t.Error("the log does not name the trace")
	}
	r := s.send(t.Context(), http.MethodGet, "/api/v1/cases/99", nil, s.signedIn()...)
	raw, _ := io.ReadAll(r.Body)
	_ = r.Body.Close()
	number := r.Header.Get("X-Request-Id")
	if number == "" || !strings.Contains(string(raw), `"instance":"urn:diorthos:request:`+number+`"`) ||
		!strings.Contains(log.text(), `"request":"`+number+`"`) {
		t.Errorf("the problem, the header and the log do not name the request %q: %s", number, raw)
	}

	away := serve(t, false, func(c *service.Config) { c.Traces, c.TracesShare = "http://127.0.0.1:9", 1 })
	if status, _ := away.handIn(bag, false, 0); status != http.StatusCreated {
		t.Errorf("without a collector: %d", status)
	}
	away.state(1, 30*time.Second, client.Open)
}
