package service

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"diorthos/client"
	"diorthos/service/bags"
	"diorthos/service/records"
)

// A reconciler holds, all the time and in small steps, what is recorded against what
// lies in the store of bags. What the queue and the climbs lost is found by the queue's
// own rounds.
type reconciler struct {
	log   *slog.Logger
	kept  *bags.Store
	store *records.Store
	found *prometheus.CounterVec
	gone  prometheus.Gauge
	keep  time.Duration // how long bags are kept once their cases ended; 0 for ever

	after   string // the last digest that was looked at in this pass
	missing int    // bags that were found gone in this pass
	told    map[string]bool
}

// What a reconciler finds.
const (
	neverAcknowledged = "bag never acknowledged" // it was dropped
	bagGone           = "bag gone"               // its case stays; its logs cannot be shown
	bagOutlived       = "bag outlived"           // it was kept for as long as was said, and removed
)

const (
	// reconcileEvery is how often a step is made, and reconcileStep how many bags one is.
	reconcileEvery = 30 * time.Second
	reconcileStep  = 500
	sweepStep      = 5000
	// unknownAge is how old a bag is that nothing was recorded of before it is taken as left
	// behind by a crash.
	unknownAge = 24 * time.Hour
)

func newReconciler(
	log *slog.Logger, kept *bags.Store, store *records.Store, reg *prometheus.Registry, keep time.Duration,
) *reconciler {
	r := &reconciler{
		log: log, kept: kept, store: store, keep: keep, told: map[string]bool{},
		found: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "diorthos_reconciler_found_total",
			Help: "What did not fit together, by what it was.",
		}, []string{"what"}),
		gone: prometheus.NewGauge(prometheus.GaugeOpts{
			Name: "diorthos_bags_gone",
			Help: "Bags that are recorded and not in the store, at the last whole pass.",
		}),
	}
	reg.MustRegister(r.found, r.gone)
	for _, what := range []string{neverAcknowledged, bagGone, bagOutlived} {
		r.found.WithLabelValues(what) // told as 0 from the beginning
	}
	return r
}

// run makes steps until ctx ends.
func (r *reconciler) run(ctx context.Context) {
	tick := time.NewTicker(reconcileEvery)
	defer tick.Stop()
	for {
		if err := r.sweep(ctx); err != nil && ctx.Err() == nil {
			r.log.Warn("look for bags that were never acknowledged", "error", err)
		}
		if err := r.outlived(ctx); err != nil && ctx.Err() == nil {
			r.log.Warn("remove what has been kept long enough", "error", err)
		}
		if err := r.step(ctx); err != nil && ctx.Err() == nil {
			r.log.Warn("hold records against bags", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// sweep drops what a crash between storing and recording left, a part of the store at a time.
func (r *reconciler) sweep(ctx context.Context) error {
	n, err := r.kept.Sweep(ctx, unknownAge, sweepStep, func(key string) (bool, error) { return r.store.HasBlob(ctx, key) })
	if n > 0 {
		r.found.WithLabelValues(neverAcknowledged).Add(float64(n))
		r.tell(ctx, neverAcknowledged, fmt.Sprintf("%d bags were dropped", n))
	}
	return err
}

// outlived removes bags that have been kept for as long as was said. What is noted and not dropped, because this
// process ends in between, the sweep finds.
func (r *reconciler) outlived(ctx context.Context) error {
	if r.keep <= 0 {
		return nil
	}
	list, err := r.store.RemoveOutlived(ctx, time.Now().Add(-r.keep), reconcileStep)
	if err != nil {
		return err
	}
	for _, b := range list {
		if err := r.kept.Drop(ctx, b.Blob); err != nil {
			r.log.Warn("drop a bag", "key", b.Blob, "error", err)
		}
		r.found.WithLabelValues(bagOutlived).Inc()
		r.tell(ctx, bagOutlived, fmt.Sprintf("case %d: the bag %.12s was removed, %d days after the case ended",
			b.Number, b.Digest, int(r.keep.Hours()/24)))
	}
	return nil
}

// step looks whether some of the bags that are recorded are there.
func (r *reconciler) step(ctx context.Context) error {
	list, err := r.store.BagsAfter(ctx, r.after, reconcileStep)
	if err != nil {
		return err
	}
	for _, b := range list {
		if !r.kept.Holds(ctx, b.Blob, b.Size) {
			r.missing++
			if !r.told[b.Digest] {
				r.told[b.Digest] = true
				r.found.WithLabelValues(bagGone).Inc()
				r.tell(
					ctx,
					bagGone,
					fmt.Sprintf("case %d: the bag %.12s is not in the store, or not whole; handed in again, it is kept anew",
						b.Number, b.Digest),
				)
			}
		}
		r.after = b.Digest
	}
	if len(list) < reconcileStep { // the end of a pass
		r.gone.Set(float64(r.missing))
		r.after, r.missing = "", 0
	}
	return nil
}

func (r *reconciler) tell(ctx context.Context, what, detail string) {
	r.log.Warn("reconciler", "what", what, "detail", detail)
	err := r.store.Note(ctx, client.AuditEntry{
		Who: "the service", Action: "reconcile", Object: what, Outcome: client.AuditDone, Detail: detail,
	})
	if err != nil && ctx.Err() == nil {
		r.log.Error("not in the audit", "action", "reconcile", "error", err)
	}
}
