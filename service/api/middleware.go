package api

import (
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"diorthos/core/plain"
	"diorthos/service/traces"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
)

// policy lets the console load nothing but its own files.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; " +
	"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// hsts tells browsers to come over TLS alone from now on, for a year.
const hsts = "max-age=31536000"

func (a *API) secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if a.TLS {
			h.Set("Strict-Transport-Security", hsts)
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// plainAddress refuses an address of the API that names what cannot be kept.
func plainAddress(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		query, err := url.QueryUnescape(r.URL.RawQuery)
		if !strings.HasPrefix(r.URL.Path, "/api/") || err == nil && plain.Text(r.URL.Path) && plain.Text(query) {
			next.ServeHTTP(w, r)
			return
		}
		answerProblem(w, r, http.StatusUnprocessableEntity, "not-plain", "the address cannot be read: "+errNotPlain.Error())
	})
}

// notThere answers at addresses of the API at which there is nothing.
func notThere(w http.ResponseWriter, r *http.Request) {
	answerProblem(
		w, r, http.StatusNotFound, "unknown",
		"there is nothing at this address; the API is described at /api/v1/openapi.json",
	)
}

// notSo answers calls that an address does not take.
func notSo(w http.ResponseWriter, r *http.Request) {
	answerProblem(w, r, http.StatusMethodNotAllowed, "method", "nothing can be done at this address by "+r.Method)
}

// traced begins a trace of a request for the API, or goes on with the caller's. Streams that stay open are left out.
func (a *API) traced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := middleware.GetReqID(r.Context())
		w.Header().Set("X-Request-Id", id)
		if a.Traces == nil || !strings.HasPrefix(r.URL.Path, "/api/") || strings.HasSuffix(r.URL.Path, "/live") {
			next.ServeHTTP(w, r)
			return
		}
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		r, done := traces.Request(r, a.Traces, id)
		defer func() { done(chi.RouteContext(r.Context()).RoutePattern(), ww.Status()) }()
		next.ServeHTTP(ww, r)
	})
}

// logged writes one structured line for each request that is not routine.
func (a *API) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		began := time.Now()
		next.ServeHTTP(ww, r)
		if strings.HasPrefix(r.URL.Path, "/api/") {
			a.Log.Info(
				"request",
				"method",
				methodLabel(r.Method),
				"path",
				cut(r.URL.Path),
				"from",
				address(r.Context()),
				"status",
				ww.Status(),
				"bytes",
				ww.BytesWritten(),
				"took",
				time.Since(began),
				"request",
				middleware.GetReqID(r.Context()),
				"trace",
				traces.ID(r.Context()),
			)
		}
	})
}

// recovered turns a panic into a 500 and keeps the service going.
func (a *API) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			v := recover()
			if v == http.ErrAbortHandler {
				panic(v) // the server cuts the connection
			}
			if v != nil {
				a.Log.Error("panic", "path", cut(r.URL.Path), "value", v, "stack", string(debug.Stack()))
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(http.StatusInternalServerError)
				_, _ = w.Write(
					[]byte(
						`{"title":"Internal Server Error","status":500,"detail":"this is a fault of the service; it is in its log"}`,
					),
				)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

type metrics struct {
	requests *prometheus.HistogramVec
	bags     *prometheus.CounterVec
	signIns  *prometheus.CounterVec
}

func newMetrics(reg *prometheus.Registry) *metrics {
	m := &metrics{
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "diorthos_http_request_seconds",
			Help:    "Time to answer a request.",
			Buckets: []float64{.001, .005, .01, .025, .05, .1, .5, 1, 5, 30},
		}, []string{"route", "method", "status"}),
		bags: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "diorthos_bags_total",
			Help: "Bags handed in, by what became of them.",
		}, []string{"outcome"}),
		signIns: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "diorthos_sign_ins_total",
			Help: "Tries to sign in, by what became of them.",
		}, []string{"outcome"}),
	}
	reg.MustRegister(m.requests, m.bags, m.signIns)
	return m
}

func (m *metrics) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		began := time.Now()
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" {
			route = "console"
		}
		m.requests.WithLabelValues(route, methodLabel(r.Method), strconv.Itoa(ww.Status())).
			Observe(time.Since(began).Seconds())
	})
}

// console serves the built console. Paths that are no files are pages of the
// console's own router.
func console(files fs.FS) http.HandlerFunc {
	server := http.FileServerFS(files)
	return func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "api/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
			notThere(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			w.Header().Set("Cache-Control", "no-cache")
		}
		if _, err := fs.Stat(files, name); err == nil && name != "." {
			server.ServeHTTP(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(
				w, "The console is not built into this binary: run \"make console\" and build again.", http.StatusNotFound,
			)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
	}
}
