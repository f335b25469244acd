package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"diorthos/client"
	"diorthos/service/records"

	"github.com/danielgtaylor/huma/v2"
)

// A news is a case in short as it is after a change, read once however many watch.
type news struct {
	once sync.Once
	raw  []byte // nil if it could not be read
	site string
}

// live tells everybody who watches which cases have changed. A watcher that
// is slow misses nothing: what changed meanwhile is told once.
type live struct {
	mu       sync.Mutex
	watchers map[*watcher]bool
	latest   map[int64]*news // since its last change
}

// keptNews is how many cases are remembered as they are; after that all are forgotten.
const keptNews = 10_000

type watcher struct {
	only    int64 // one case, 0 for all
	mu      sync.Mutex
	changed map[int64]bool
	wake    chan struct{}
}

func newLive() *live { return &live{watchers: map[*watcher]bool{}, latest: map[int64]*news{}} }

// read is a case as it is after its last change.
func (l *live) read(number int64, look func() (*client.Case, error)) *news {
	l.mu.Lock()
	n := l.latest[number]
	if n == nil {
		if len(l.latest) >= keptNews {
			clear(l.latest)
		}
		n = &news{}
		l.latest[number] = n
	}
	l.mu.Unlock()
	n.once.Do(func() {
		c, err := look()
		if err == nil {
			n.site = c.Site
			if n.raw, err = json.Marshal(c); err == nil {
				return
			}
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.latest[number] == n { // the next asks again
			delete(l.latest, number)
		}
	})
	return n
}

func (l *live) watch(only int64) (*watcher, func()) {
	w := &watcher{only: only, changed: map[int64]bool{}, wake: make(chan struct{}, 1)}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.watchers[w] = true
	return w, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.watchers, w)
	}
}

func (l *live) changed(number int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.latest, number)
	for w := range l.watchers {
		if w.only == 0 || w.only == number {
			w.tell(number)
		}
	}
}

// allChanged makes everybody look again: changes may have been missed.
func (l *live) allChanged() {
	l.mu.Lock()
	defer l.mu.Unlock()
	clear(l.latest)
	for w := range l.watchers {
		if w.only != 0 {
			w.tell(w.only)
		} else {
			w.tell(everything)
		}
	}
}

// everything stands for all cases: whoever watches a list fetches it anew.
const everything = 0

func (w *watcher) tell(number int64) {
	w.mu.Lock()
	w.changed[number] = true
	w.mu.Unlock()
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

func (w *watcher) take() []int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	var list []int64
	for n := range w.changed {
		list = append(list, n)
	}
	clear(w.changed)
	return list
}

func (a *API) liveRoutes(api huma.API) {
	describe := func(id, path, summary string, errs ...int) huma.Operation {
		return huma.Operation{
			OperationID: id,
			Method:      http.MethodGet,
			Path:        path,
			Summary:     summary,
			Tags:        []string{"live"},
			Errors:      errs,
			Description: "Server-sent events, each \"event: case\" with a case in short as its data. An \"event: missed\" " +
				"says that changes may have been missed: fetch the list anew. A line \":\" every 15 seconds keeps the " +
				"connection open.",
			Responses: map[string]*huma.Response{"200": {Description: "A stream of events", Content: map[string]*huma.MediaType{
				"text/event-stream": {Schema: &huma.Schema{Type: "string"}},
			}}},
		}
	}
	huma.Register(api, describe("watch-case", "/api/v1/cases/{number}/live", "Watch a case", http.StatusNotFound),
		func(ctx context.Context, in *casePath) (*huma.StreamResponse, error) {
			if _, err := a.mine(ctx, "watch a case", in.Number); err != nil {
				return nil, err
			}
			return &huma.StreamResponse{Body: func(ctx huma.Context) { a.stream(ctx, in.Number) }}, nil
		})
	huma.Register(api, describe("watch-cases", "/api/v1/live", "Watch all cases"),
		func(context.Context, *struct{}) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(ctx huma.Context) { a.stream(ctx, 0) }}, nil
		})
}

// stream sends changes until the watcher goes away.
func (a *API) stream(ctx huma.Context, only int64) {
	w, leave := a.live.watch(only)
	defer leave()
	who := identity(ctx.Context())
	_ = ctx.SetReadDeadline(time.Time{})
	ctx.SetHeader("Content-Type", "text/event-stream")
	ctx.SetHeader("Cache-Control", "no-store")
	ctx.SetHeader("X-Accel-Buffering", "no")
	out := ctx.BodyWriter()
	flush, within := func() {}, func() {}
	if rw, ok := out.(http.ResponseWriter); ok {
		control := http.NewResponseController(rw)
		within = func() { _ = control.SetWriteDeadline(time.Now().Add(tellTime)) }
		flush = func() { _ = control.Flush() }
	}
	write := func(text string) bool {
		within()
		_, err := io.WriteString(out, text)
		flush()
		return err == nil
	}
	send := func(number int64) bool {
		n := a.live.read(number, func() (*client.Case, error) {
			return a.Store.Case(context.WithoutCancel(ctx.Context()), number)
		})
		return n.raw == nil || !who.At(n.site) || write(fmt.Sprintf("event: case\ndata: %s\n\n", n.raw))
	}
	flush()
	if only != 0 && !send(only) {
		return
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Context().Done():
			return
		case <-beat.C:
			if _, err := a.who(ctx); errors.Is(err, records.ErrNotFound) || !write(":\n\n") {
				return // the token, the session or the person has ended
			}
		case <-w.wake:
			for _, n := range w.take() {
				if n == everything && !write("event: missed\ndata: {}\n\n") || n != everything && !send(n) {
					return
				}
			}
		}
	}
}
