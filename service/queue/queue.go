// Package queue reads cases in the background. The jobs lie in PostgreSQL, so
// several processes share them and none is lost with a process.
//
//	q, err := queue.New(ctx, store, bags, current, bag.DefaultLimits, logger)
//	err = q.Start(ctx)
package queue

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"go.opentelemetry.io/otel/trace"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/fleet"
	"diorthos/core/knowledge"
	"diorthos/service/bags"
	"diorthos/service/records"
	"diorthos/service/traces"
)

// A Queue hands cases to workers.
type Queue struct {
	store     *records.Store
	bags      *bags.Store
	knowledge func() *knowledge.Knowledge

	lessonsMu sync.Mutex
	lessons   []knowledge.SiteLesson // what outcomes have taught, as it was asked for last
	lessonsAt time.Time
	limits    bag.Limits
	log       *slog.Logger
	river     *river.Client[pgx.Tx]
	Read      atomic.Int64 // cases read by this process
	Traces    trace.Tracer // told where time goes; nil for nobody
}

type readCase struct {
	Number int64  `json:"number"`
	Trace  string `json:"trace,omitempty"` // in which the reading goes on, whichever process does it
}

func (readCase) Kind() string { return "read_case" }

// readTimeout bounds the reading of one case.
const readTimeout = 30 * time.Minute

// New brings the queue's own tables up to date and prepares workers.
//
// Limits bound what a bag may unpack to. Current gives the knowledge to read with,
// which may be loaded anew while the service runs.
func New(
	ctx context.Context, store *records.Store, b *bags.Store, current func() *knowledge.Knowledge,
	limits bag.Limits, log *slog.Logger,
) (*Queue, error) {
	driver := riverpgxv5.New(store.Pool)
	m, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: log})
	if err != nil {
		return nil, fmt.Errorf("queue: %w", err)
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("queue: %w", err)
	}
	q := &Queue{store: store, bags: b, knowledge: current, limits: limits, log: log}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{queue: q})
	q.river, err = river.NewClient(driver, &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}},
		Workers:           workers,
		Logger:            log,
		JobTimeout:        readTimeout,
		FetchPollInterval: 500 * time.Millisecond,
		ID:                "diorthos-" + rand.Text()[:8],
	})
	if err != nil {
		return nil, fmt.Errorf("queue: %w", err)
	}
	return q, nil
}

// Enqueue adds the reading of a case within a transaction.
func (q *Queue) Enqueue(ctx context.Context) func(pgx.Tx, int64) error {
	return func(tx pgx.Tx, number int64) error {
		_, err := q.river.InsertTx(
			ctx,
			tx,
			readCase{Number: number, Trace: traces.Handed(ctx)},
			&river.InsertOpts{MaxAttempts: 3},
		)
		return err
	}
}

// Run works until ctx ends, then lets running jobs finish for a while.
func (q *Queue) Run(ctx context.Context) error {
	if err := q.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("queue: %w", err)
	}
	tick := time.NewTicker(3 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			return q.river.StopAndCancel(ending)
		case <-tick.C:
			q.sweepFolders()
			if err := q.store.Due(ctx, notBefore); err != nil {
				q.log.Warn("look for jobs of another clock", "error", err)
			}
			if numbers, err := q.store.Requeue(ctx, awaited, q.Enqueue(ctx)); err != nil {
				q.log.Warn("look for silent workers", "error", err)
			} else if len(numbers) > 0 {
				q.log.Info("took cases over that nobody was at work on", "cases", numbers)
			}
			if numbers, err := q.store.EndSilentClimbs(ctx); err != nil {
				q.log.Warn("look for silent climbs", "error", err)
			} else if len(numbers) > 0 {
				q.log.Info("cut silent climbs off", "cases", numbers)
			}
		}
	}
}

// notBefore are jobs that were put off by the clock of a process that is ahead of the database's, or by one of the
// database's own that was set back: none waits for so long.
const notBefore = `update river_job set scheduled_at = now() where state = 'available' and scheduled_at > now()
	or state in ('scheduled', 'retryable') and scheduled_at > now() + interval '1 minute'`

// awaited is the condition under which a job of the queue will still come to a
// case. A job that was fetched by a process which then died stays "running"; had
// the process lived, the case would be claimed by now. One that was fetched in what is to come was so before the clock
// was set back.
const awaited = `exists (select 1 from river_job j where j.args @> jsonb_build_object('number', cases.number)
	and (j.state in ('available', 'pending', 'scheduled', 'retryable')
		or j.state = 'running' and j.attempted_at between now() - interval '15 seconds' and now() + interval '1 minute'))`

type worker struct {
	river.WorkerDefaults[readCase]
	queue *Queue
}

// Work reads one case. The claim sees to it that it is read once, however
// often the job is started.
func (w *worker) Work(ctx context.Context, job *river.Job[readCase]) (failed error) {
	q, number := w.queue, job.Args.Number
	claim := uuid.NewString()
	blob, ok, err := q.store.Claim(ctx, number, claim)
	if err != nil || !ok {
		return err
	}
	began := time.Now()
	if q.Traces != nil {
		var done func(error)
		ctx, done = traces.Job(ctx, q.Traces, job.Args.Trace, "read the case", number)
		defer func() { done(failed) }()
	}
	r := newReporter(ctx, q.store, number, claim)
	d, note, err := q.read(ctx, number, blob, r)
	r.stop()
	var bad *bag.Error
	switch {
	case errors.As(err, &bad):
		q.log.Error("case cannot be read", "case", number, "error", err)
		return q.store.Settle(ctx, number, claim, nil, err.Error(), note)
	case err != nil && passing(err): // not the bag's fault: no try is counted
		q.log.Warn("case waits", "case", number, "error", err)
		if err := q.store.Release(context.WithoutCancel(ctx), number, claim, "waits: "+err.Error()); err != nil {
			return err
		}
		return river.JobSnooze(snooze)
	case err != nil && job.Attempt >= job.MaxAttempts:
		q.log.Error("case given up", "case", number, "error", err)
		return q.store.Settle(ctx, number, claim, nil, fmt.Sprintf("given up after %d tries: %v", job.Attempt, err), note)
	case err != nil: // the next try begins afresh
		return errors.Join(
			fmt.Errorf("read case %d: %w", number, err), q.store.Release(context.WithoutCancel(ctx), number, claim, ""),
		)
	}
	settling, done := traces.Step(ctx, "settle the case")
	err = q.store.Settle(settling, number, claim, d, "", note)
	if done(err); err != nil {
		return err
	}
	q.Read.Add(1)
	q.log.Info("case read", "case", number, "machine", d.Machine.Name, "findings", len(d.Why), "took", time.Since(began))
	return nil
}

// read unpacks a bag into a folder of its own and draws the docket.
func (q *Queue) read(
	ctx context.Context, number int64, blob string, r *reporter,
) (d *docket.Docket, note records.FleetNote, err error) {
	body, size, err := q.bags.Open(ctx, blob)
	if err != nil {
		return nil, note, err
	}
	defer func() { _ = body.Close() }()
	dir, done, err := workFolder()
	if err != nil {
		return nil, note, err
	}
	defer done()
	r.set("unpacking", 0, size)
	unpacking, ended := traces.Step(ctx, "unpack the bag")
	info, err := bag.Unpack(unpacking, &counting{body, r}, q.limits, dir)
	if ended(err); err != nil {
		return nil, note, err
	}
	if info.Facts.Call == nil {
		if info.Facts.Call, err = q.store.CallOf(ctx, number); err != nil {
			return nil, note, err
		}
	}
	logs, total := docket.Logs(info, dir)
	r.set("reading logs", 0, total)
	reading, ended := traces.Step(ctx, "read the logs and diagnose")
	d, err = docket.Draw(reading, info.Facts, logs, q.taught(ctx), func(n int64) { r.set("reading logs", n, total) })
	if ended(err); err != nil {
		return nil, note, err
	}
	return d, fleetNote(info.Facts, d), nil
}

// taughtEvery is how long what outcomes have taught is used before it is asked for anew.
const taughtEvery = 30 * time.Second

// taught is the knowledge in force with what outcomes at this site have taught. That it cannot be
// asked for keeps no case from being read.
func (q *Queue) taught(ctx context.Context) *knowledge.Knowledge {
	k := q.knowledge()
	q.lessonsMu.Lock()
	defer q.lessonsMu.Unlock()
	if time.Since(q.lessonsAt) > taughtEvery {
		learned, err := q.store.Learned(ctx, k.ShippedHelp)
		if err != nil {
			q.log.Warn("what outcomes taught is not at hand", "error", err)
			return k.WithSite(q.lessons)
		}
		q.lessons, q.lessonsAt = nil, time.Now()
		for _, l := range learned.Counts {
			q.lessons = append(q.lessons, knowledge.SiteLesson{
				Cause: l.Cause, Remedy: l.Remedy, Helps: l.Helps, Helped: l.Helped, Tried: l.Tried,
			})
		}
	}
	return k.WithSite(q.lessons)
}

// fleetNote is what the fleet is told of a case.
func fleetNote(facts *bag.Facts, d *docket.Docket) records.FleetNote {
	n := records.FleetNote{Traits: fleet.Traits(facts), Family: facts.Family(), Tried: len(d.Attempts) > 0}
	n.Attributes = fleet.Attributes(n.Traits, d)
	if f, failed := fleet.FingerprintOf(d, n.Family); failed {
		n.Failure = &f
	}
	return n
}

type counting struct {
	io.Reader
	r *reporter
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.r.add(int64(n))
	return n, err
}

// A reporter tells the store of the progress a few times a second, and that
// the worker is alive even when nothing progresses.
type reporter struct {
	phase       atomic.Pointer[string]
	done, total atomic.Int64
	quit        chan struct{}
	ended       chan struct{}
}

func newReporter(ctx context.Context, store *records.Store, number int64, claim string) *reporter {
	r := &reporter{quit: make(chan struct{}), ended: make(chan struct{})}
	r.set("unpacking", 0, 0)
	go func() {
		defer close(r.ended)
		tick := time.NewTicker(300 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-r.quit:
				return
			case <-ctx.Done():
				return
			case <-tick.C:
				_ = store.Report(ctx, number, claim, client.Progress{
					Phase: *r.phase.Load(),
					Done:  r.done.Load(),
					Total: r.total.Load(),
				})
			}
		}
	}()
	return r
}

func (r *reporter) set(phase string, done, total int64) {
	r.phase.Store(&phase)
	r.done.Store(done)
	r.total.Store(total)
}

func (r *reporter) add(n int64) { r.done.Add(n) }

func (r *reporter) stop() {
	close(r.quit)
	<-r.ended
}
