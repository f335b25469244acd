package agent

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
)

// An Agent works for one machine.
type Agent struct {
	Folder string // of its key and its outbox; only its own
	// Open is the machine as a climb works on it, with the facts of a docket.
	Open func(*bag.Facts) (climb.Machine, error)
	// Record opens the machine's record of climbs.
	Record func() (*climb.Record, error)
	// Gather writes a bag of the machine, and says by what it differs from another one: a
	// digest of what was measured without the time.
	Gather func(ctx context.Context, path string) (digest string, err error)
	// Target is what an action that a person named would change, by which it is known again.
	Target func(action.ID) (*block.Target, error)
	// Undo takes back what a journal did.
	Undo func(ctx context.Context, journal string) error
	Host string      // name of this computer, for climbs
	Dial client.Dial // nil for any way to the service
	// Hardware tells this machine's hardware from another one; nil or empty where it cannot be told, as of an image.
	Hardware func() string
	Log      *slog.Logger
	// Trace says in short what attempts have left on the machine: when it is another one, and stands still, something
	// was tried. nil or an empty text where that cannot be told.
	Trace func() string
	// Stick means that it runs beside the machine's own system: it changes nothing but what it is ordered to, and holds
	// nothing back.
	Stick bool
	// Every is how often the machine is looked at even so; 0 for once a day.
	Every time.Duration
	// Notice is how often its trace is looked at; 0 for once a minute.
	Notice time.Duration
	// Wait is how long it is waited for an order at a time; 0 for a minute.
	Wait time.Duration

	keep    *kept
	service *client.Client
	until   time.Time // when its token ends
	sent    string    // digest of what was handed in last
	look    time.Time // when the machine was looked at last
	settled bool      // what was cut off before it was started is taken back
	moving  string    // its trace when it was seen to change
}

// kept is what an agent keeps in its folder.
type kept struct {
	URL     string             `json:"url"`
	Agent   int64              `json:"agent"`
	Machine string             `json:"machine"`
	Site    string             `json:"site,omitempty"`
	Key     ed25519.PrivateKey `json:"key"`
	Service ed25519.PublicKey  `json:"service"`
	// Done are orders that were carried out, with how they ended: an order that is given twice
	// is done once.
	Done map[int64]client.OrderReport `json:"done"`
	// Busy means that the agent itself is changing the machine.
	Busy bool `json:"busy,omitempty"`
	// Begun is the order that is being carried out; 0 for none.
	Begun int64 `json:"begun,omitempty"`
	// Untold are runs of which the service does not know yet how they ended.
	Untold []untold `json:"untold,omitempty"`
	// Journals are those of orders, by the machine's case and the remedy, to take them back.
	Journals map[string]string `json:"journals"`
	Sent     string            `json:"sent"`
	// Outbox is the digest of what could not be handed in yet.
	Outbox string `json:"outbox,omitempty"`
	// Trace is that of the machine when it was looked at last.
	Trace string `json:"trace,omitempty"`
	// Held is what the service wants to be held back, each with why that cannot be done here; empty where it is.
	Held map[string]string `json:"held,omitempty"`
	// HeldUntold means that the service has not heard of that yet.
	HeldUntold bool `json:"heldUntold,omitempty"`
}

const (
	keptName  = "agent.json"
	bagSuffix = ".bag.tar.gz"
)

// ErrOver means that the service lets the agent of a stick in no more.
var ErrOver = errors.New("this machine is let in no more: its time is over, or somebody ended it")

// ErrNotEnrolled means that the agent is not known to a service yet.
var ErrNotEnrolled = errors.New("this agent is not enrolled: diorthos agent enrol --url … --code …")

// Enrol makes a key of its own and makes the agent known by a code.
func (a *Agent) Enrol(ctx context.Context, url, code string) (machine string, err error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	done, err := a.reach(url).Enrol(ctx, client.Enrolment{
		Code: strings.TrimSpace(code), Public: public, Hardware: a.hardware(),
	})
	if err != nil {
		return "", err
	}
	a.keep = &kept{
		URL: url, Agent: done.Agent, Machine: done.Machine, Site: done.Site, Key: private, Service: done.Service,
		Done: map[int64]client.OrderReport{}, Journals: map[string]string{},
	}
	return done.Machine, a.save()
}

func (a *Agent) hardware() (h client.Hardware) {
	if a.Hardware != nil {
		h.Hardware = a.Hardware()
	}
	return h
}

func (a *Agent) reach(url string) *client.Client {
	if a.Dial != nil {
		return client.NewOver(url, "", a.Dial)
	}
	return client.New(url, "")
}

// Load reads what the agent keeps.
func (a *Agent) Load() error {
	raw, err := os.ReadFile(filepath.Join(a.Folder, keptName))
	if errors.Is(err, fs.ErrNotExist) {
		return ErrNotEnrolled
	}
	if err != nil {
		return err
	}
	a.keep = &kept{}
	if err := json.Unmarshal(raw, a.keep); err != nil {
		return fmt.Errorf("%s: %w", filepath.Join(a.Folder, keptName), err)
	}
	a.sent = a.keep.Sent
	return nil
}

// Forget lays aside by which key the agent was let in, so that it can be let in anew; its journals stay.
func (a *Agent) Forget() error {
	a.sent, a.look, a.until = "", time.Time{}, time.Time{} // as another machine, perhaps: it is looked at anew
	path := filepath.Join(a.Folder, keptName)
	return os.Rename(path, path+".over")
}

// Looked says that the machine was looked at just now by somebody else, so that nothing is handed in for a start.
func (a *Agent) Looked() {
	a.look = time.Now()
	if a.keep.Trace == "" && a.Trace != nil {
		a.keep.Trace = a.Trace()
	}
}

// Site is where the machine stands, as far as the service knew.
func (a *Agent) Site() string { return a.keep.Site }

// Machine is the machine that it is enrolled for.
func (a *Agent) Machine() string { return a.keep.Machine }

// save writes what is kept, durably, beside its name first.
func (a *Agent) save() error {
	if err := os.MkdirAll(a.Folder, 0o700); err != nil {
		return err
	}
	a.keep.Sent = a.sent
	raw, err := json.Marshal(a.keep)
	if err != nil {
		return err
	}
	path := filepath.Join(a.Folder, keptName)
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

const (
	firstPause   = 2 * time.Second
	longestPause = 5 * time.Minute
)

// Run works until ctx ends. When the service cannot be reached it waits, longer each time and
// never all agents at once.
func (a *Agent) Run(ctx context.Context) error {
	if a.keep == nil {
		if err := a.Load(); err != nil {
			return err
		}
	}
	a.service = a.reach(a.keep.URL)
	pause, refused := firstPause, 0
	for ctx.Err() == nil {
		err := a.once(ctx)
		if err == nil {
			pause, refused = firstPause, 0
			continue
		}
		if ctx.Err() != nil {
			break
		}
		var p *client.Problem
		if errors.As(err, &p) && p.Status == 401 {
			a.until = time.Time{}
			if refused++; a.Stick && refused > 1 { // by its key too, not only with a token that was over
				return ErrOver
			}
		}
		if errors.As(err, &p) && strings.HasSuffix(p.Type, "copied-disk") {
			return err // it is the agent of another machine: nothing of that one may be done here
		}
		a.Log.Warn("waiting", "machine", a.keep.Machine, "error", err, "pause", pause)
		sleep(ctx, pause)
		pause = min(2*pause, longestPause)
	}
	return nil
}

// sleep waits about so long, never all agents alike.
func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d/2 + mathrand.N(d)): //nolint:gosec // to spread, not to hide
	}
}

// or is d, or what stands for none.
func or(d, none time.Duration) time.Duration {
	if d == 0 {
		return none
	}
	return d
}

func (a *Agent) once(ctx context.Context) error {
	a.settle(ctx)
	if err := a.signOn(ctx); err != nil {
		return err
	}
	if err := errors.Join(a.tell(ctx), a.tellHeld(ctx)); err != nil {
		return err
	}
	if time.Since(a.look) >= or(a.Every, 24*time.Hour) {
		a.look = time.Now()
		if err := a.handIn(ctx); errors.Is(err, errGather) && ctx.Err() == nil {
			// What is to be done and held back is still asked for: it may be what helps.
			a.Log.Error("the machine cannot be looked at; tried again in an hour", "machine", a.keep.Machine, "error", err)
			a.look = a.look.Add(time.Hour - or(a.Every, 24*time.Hour))
		} else if err != nil {
			a.look = time.Time{}
			return err
		}
	}
	waiting, stop := context.WithCancel(ctx)
	defer stop()
	watched := make(chan struct{})
	go func() { defer close(watched); a.watch(waiting, stop) }()
	task, err := a.service.NextTask(waiting, or(a.Wait, time.Minute), slices.Sorted(maps.Keys(a.keep.Held)))
	if err == nil && task.Order == nil && task.Again > 0 {
		sleep(waiting, time.Duration(task.Again)*time.Second)
	}
	noticed := waiting.Err() != nil && ctx.Err() == nil
	stop()
	<-watched
	if noticed {
		a.look = time.Time{}
	}
	if err != nil {
		if noticed {
			return nil // nobody waits for the answer any more
		}
		return err
	}
	if !a.Stick {
		err = a.hold(ctx, task.Held)
	}
	if err != nil || task.Order == nil {
		return err
	}
	return a.carryOut(ctx, task.Order)
}

// watch ends the waiting when something was tried on the machine and has ended.
func (a *Agent) watch(ctx context.Context, noticed func()) {
	if a.Trace == nil {
		return
	}
	tick := time.NewTicker(or(a.Notice, time.Minute))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := a.Trace()
		if now == "" || now == a.keep.Trace {
			continue
		}
		if now != a.moving { // it goes on, perhaps
			a.moving = now
			continue
		}
		a.Log.Info("something was tried here", "machine", a.keep.Machine)
		noticed()
		return
	}
}

// signOn gets a token when the one that is held is about to end.
func (a *Agent) signOn(ctx context.Context) error {
	if time.Until(a.until) > 2*time.Minute {
		return nil
	}
	now := time.Now()
	on, err := a.service.SignOn(ctx, client.SignOn{
		Agent: a.keep.Agent, Time: now, Signature: ed25519.Sign(a.keep.Key, client.SignOnText(a.keep.Agent, now)),
		Hardware: a.hardware(),
	})
	if err == nil {
		a.until = on.Expires
	}
	return err
}

// handIn gathers and hands in what differs from what was handed in last. A bag that cannot be
// handed in stays in the folder, and is tried again first.
func (a *Agent) handIn(ctx context.Context) error {
	path, trace := filepath.Join(a.Folder, "outbox"+bagSuffix), ""
	if a.Trace != nil {
		trace = a.Trace()
	}
	if _, err := os.Stat(path); err == nil {
		if err := a.submit(ctx, path); err != nil {
			return err
		}
		a.sent = a.keep.Outbox
	}
	digest, err := a.Gather(ctx, path)
	if err != nil {
		return errors.Join(fmt.Errorf("%w: %w", errGather, err), removed(path))
	}
	if digest != a.sent {
		a.keep.Outbox = digest
		if err := a.save(); err != nil {
			return err
		}
		if err := a.submit(ctx, path); err != nil {
			return err
		}
	} else if err := removed(path); err != nil || trace == a.keep.Trace {
		return err
	}
	a.sent, a.keep.Trace = digest, trace
	return a.save()
}

// errGather means that the machine cannot be looked at, which is no fault of the service's.
var errGather = errors.New("gather")

func removed(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (a *Agent) submit(ctx context.Context, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		return errors.Join(err, f.Close())
	}
	accepted, err := a.service.Submit(ctx, f, info.Size())
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil && !away(err) { // it would be refused again, and keep what comes after it from being handed in
		kept := strings.TrimSuffix(path, bagSuffix) + ".refused" + bagSuffix
		a.Log.Error("a bag is refused, and kept", "machine", a.keep.Machine, "error", err, "bag", kept)
		return os.Rename(path, kept)
	}
	if err != nil {
		return err
	}
	a.Log.Info("handed in", "machine", a.keep.Machine, "case", accepted.Number)
	return removed(path)
}
