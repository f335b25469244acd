package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"go.opentelemetry.io/otel/trace"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/service/api"
	"diorthos/service/bags"
	"diorthos/service/notices"
	"diorthos/service/queue"
	"diorthos/service/records"
	"diorthos/service/signon"
	"diorthos/service/traces"
)

// Config says how the service runs.
type Config struct {
	Listen   string         // address and port
	Database string         // PostgreSQL connection string
	Bags     string         // folder, or bucket URL
	SignOn   *signon.Config // where people sign in besides by token; nil for nowhere
	BagsFrom string         // where bags are being moved from, which is read too; empty for none
	BagKeys  string         // file with the keys by which bags are encrypted where they lie; empty for none
	// Traces is the address of a collector (OTLP over HTTP); empty for none. TracesShare of them are kept, 0 to 1.
	Traces      string
	TracesShare float64
	// KeepBags is how long a bag is kept once its case ended; 0 for ever.
	KeepBags time.Duration
	// Knowledge loads the shipped knowledge and the site's own. It is called again
	// when Reload says so; what does not load is logged, and the earlier stays.
	Knowledge func() (*knowledge.Knowledge, error)
	Reload    <-chan os.Signal
	Console   fs.FS
	Limits    bag.Limits
	Log       *slog.Logger
	// TakeOnly leaves the reading of cases to other processes on the same
	// database.
	TakeOnly bool
	// Metrics is an address and port at which the metrics alone are served; empty for nowhere.
	Metrics string
	TLS     *Certificate // nil for plain HTTP
	Plain   bool         // plain HTTP is allowed beyond this computer
	// Notices says who is told of outbreaks; its store and log are those of the service.
	Notices notices.Sender
	// Forwarders are proxies whose X-Forwarded-For is believed.
	Forwarders []netip.Prefix
	// Ready is called with the address once requests are answered.
	Ready func(address string)
}

// ErrPortInUse means that another program listens at the address.
var ErrPortInUse = errors.New("address is in use")

// Listen opens the port, so that a port in use is known before anything else
// is started.
func Listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf(
			"listen on %s: %w: stop the program there, or choose another with --listen", address, ErrPortInUse,
		)
	}
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", address, err)
	}
	return l, nil
}

// Run serves until ctx ends. The listener is closed when it returns.
func Run(ctx context.Context, listener net.Listener, c Config) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer func() { _ = listener.Close() }()
	address := listener.Addr()
	switch {
	case c.TLS != nil:
		var err error
		if listener, err = c.TLS.over(listener, c.Log); err != nil {
			return err
		}
	case !c.Plain && !mayBePlain(address):
		return fmt.Errorf("listen on %s: %w", address, ErrPlain)
	}
	var current atomic.Pointer[knowledge.Knowledge]
	k, err := c.Knowledge()
	if err != nil {
		return err
	}
	current.Store(k)
	store, err := records.Open(ctx, c.Database)
	if err != nil {
		return err
	}
	defer store.Close()
	var people *signon.Provider
	if c.SignOn != nil {
		if people, err = signon.New(*c.SignOn); err != nil {
			return err
		}
	}
	var keys *bags.Keys
	if c.BagKeys != "" {
		if keys, err = bags.LoadKeys(c.BagKeys); err != nil {
			return err
		}
	}
	kept, err := bags.OpenBeside(ctx, c.Bags, c.BagsFrom, keys)
	if err != nil {
		return err
	}
	defer func() { _ = kept.Close() }()
	var told trace.Tracer
	if c.Traces != "" {
		var end func()
		if told, end, err = traces.New(ctx, c.Traces, c.TracesShare); err != nil {
			return err
		}
		defer end()
	}
	q, err := queue.New(ctx, store, kept, current.Load, c.Limits, c.Log)
	if err != nil {
		return err
	}
	q.Traces = told
	reg := prometheus.NewRegistry()
	reg.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewCounterFunc(prometheus.CounterOpts{
			Name: "diorthos_cases_read_total",
			Help: "Cases read by this process.",
		}, func() float64 { return float64(q.Read.Load()) }))
	a := api.New(api.Deps{
		Store:     store,
		Bags:      kept,
		Enqueue:   q.Enqueue,
		Knowledge: current.Load,
		Limits:    c.Limits,
		Console:   c.Console,
		Log:       c.Log,
		Metrics:   reg,
		Traces:    told,

		TLS:        c.TLS != nil,
		Forwarders: c.Forwarders,
		SignOn:     people,
	})
	var running sync.WaitGroup
	if c.Metrics != "" {
		end, err := serveMetrics(c.Metrics, reg)
		if err != nil {
			return err
		}
		defer end()
	}
	watch := newReconciler(c.Log, kept, store, reg, c.KeepBags)
	running.Go(func() { watch.run(ctx) })
	running.Go(func() { conductRollouts(ctx, store, c.Log) })
	notices := c.Notices
	notices.Store, notices.Log, notices.Source = store, c.Log, "diorthos://"+address.String()
	running.Go(func() { notices.Run(ctx) })
	running.Go(func() { reload(ctx, c, &current) })
	failed := make(chan error, 2)
	running.Go(func() { a.Listen(ctx) })
	if !c.TakeOnly {
		running.Go(func() { failed <- q.Run(ctx) })
	}
	server := &http.Server{
		Handler:           a,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    32 << 10,
		BaseContext:       func(net.Listener) context.Context { return ctx },
	}
	running.Go(func() {
		if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			failed <- fmt.Errorf("serve: %w", err)
		}
	})
	c.Log.Info("serving", "address", listener.Addr().String(), "knowledge", k.Version)
	if c.Ready != nil {
		c.Ready(listener.Addr().String())
	}
	var first error
	select {
	case <-ctx.Done():
	case first = <-failed:
	}
	stop() // ends live streams, so that the shutdown is quick
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := server.Shutdown(ending); err != nil {
		_ = server.Close()
	}
	running.Wait()
	c.Log.Info("stopped")
	return first
}

// conductEvery is how often roll-outs are brought a step further.
const conductEvery = 2 * time.Second

func conductRollouts(ctx context.Context, store *records.Store, log *slog.Logger) {
	tick := time.NewTicker(conductEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := store.Conduct(ctx); err != nil && ctx.Err() == nil {
			log.Warn("roll-outs wait", "error", err)
		}
	}
}

// serveMetrics serves the metrics at an address of their own.
func serveMetrics(address string, reg *prometheus.Registry) (end func(), err error) {
	l, err := Listen(address)
	if err != nil {
		return nil, fmt.Errorf("metrics: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(reg, promhttp.HandlerOpts{}))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = server.Serve(l) // until it is closed
	}()
	return func() { _ = server.Close(); <-ended }, nil
}

// reload loads the knowledge anew each time it is told to.
func reload(ctx context.Context, c Config, current *atomic.Pointer[knowledge.Knowledge]) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.Reload:
		}
		k, err := c.Knowledge()
		if err != nil {
			c.Log.Error(
				"the knowledge was not loaded anew; the earlier one stays", "version", current.Load().Version, "error", err,
			)
			continue
		}
		c.Log.Info("knowledge loaded anew", "was", current.Swap(k).Version, "version", k.Version)
	}
}

// SetToken gives a person a token, in place of an earlier one.
func SetToken(ctx context.Context, database, name, token string) error {
	store, err := records.Open(ctx, database)
	if err != nil {
		return err
	}
	defer store.Close()
	return store.SetToken(ctx, name, token)
}
