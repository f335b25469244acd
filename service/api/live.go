package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
)

// live tells everybody who watches which cases have changed. A watcher that
// is slow misses nothing: what changed meanwhile is told once.
type live struct {
	mu       sync.Mutex
	watchers map[*watcher]bool
}

type watcher struct {
	only    int64 // one case, 0 for all
	mu      sync.Mutex
	changed map[int64]bool
	wake    chan struct{}
}

func newLive() *live { return &live{watchers: map[*watcher]bool{}} }

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
			c, err := a.Store.Case(ctx, in.Number)
			if err != nil {
				return nil, a.caseProblem("watch a case", fmt.Sprintf("case %d", in.Number), err)
			}
			return &huma.StreamResponse{Body: func(ctx huma.Context) { a.stream(ctx, in.Number, c) }}, nil
		})
	huma.Register(api, describe("watch-cases", "/api/v1/live", "Watch all cases"),
		func(context.Context, *struct{}) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(ctx huma.Context) { a.stream(ctx, 0, nil) }}, nil
		})
}

// stream sends changes until the watcher goes away.
func (a *API) stream(ctx huma.Context, only int64, first *client.Case) {
	w, leave := a.live.watch(only)
	defer leave()
	_ = ctx.SetReadDeadline(time.Time{})
	ctx.SetHeader("Content-Type", "text/event-stream")
	ctx.SetHeader("Cache-Control", "no-store")
	ctx.SetHeader("X-Accel-Buffering", "no")
	out := ctx.BodyWriter()
	flush := func() {}
	if rw, ok := out.(http.ResponseWriter); ok {
		control := http.NewResponseController(rw)
		_ = control.SetWriteDeadline(time.Time{})
		flush = func() { _ = control.Flush() }
	}
	send := func(c *client.Case) bool {
		raw, err := json.Marshal(c)
		if err == nil {
			_, err = fmt.Fprintf(out, "event: case\ndata: %s\n\n", raw)
			flush()
		}
		return err == nil
	}
	flush()
	if first != nil {
		// It may have changed between the look-up and the watch.
		if c, err := a.Store.Case(ctx.Context(), only); err == nil {
			first = c
		}
		if !send(first) {
			return
		}
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Context().Done():
			return
		case <-beat.C:
			if _, err := fmt.Fprint(out, ":\n\n"); err != nil {
				return
			}
			flush()
		case <-w.wake:
			for _, n := range w.take() {
				if n == everything {
					if _, err := fmt.Fprint(out, "event: missed\ndata: {}\n\n"); err != nil {
						return
					}
					flush()
					continue
				}
				if c, err := a.Store.Case(ctx.Context(), n); err == nil && !send(c) {
					return
				}
			}
		}
	}
}
