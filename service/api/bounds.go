package api

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/time/rate"
)

// Bounds of what one request, and all of them, may cost.
const (
	// requestTime is how long a request without a bag may take to arrive.
	requestTime = 8 * time.Second
	// answerTime is how long whoever asked may take to read the answer; tellTime, to read
	// one change of a live stream.
	answerTime = 2 * time.Minute
	tellTime   = 30 * time.Second
	// bagGrace is how long a bag may take before its rate counts, and leastRate the bytes a
	// second that it then has to come at: a ship's link is slow, one that stands still is none.
	bagGrace  = 30 * time.Second
	leastRate = 2 << 10
	// intakes is how many bags may come in at once; each takes up to about 20 MiB.
	intakes = 12
	// intakeWait is how long one more waits for its turn.
	intakeWait = 10 * time.Second
	// parsings is how many sets of facts are parsed at once: up to about 60 MiB each.
	parsings = 2
)

// paced is a body that has to come at a least rate.
type paced struct {
	r      io.Reader
	until  func(time.Time) error // sets until when more is waited for
	began  time.Time
	n      int64
	marked int64 // n when the deadline was last set
}

func newPaced(r io.Reader, until func(time.Time) error) *paced {
	p := &paced{r: r, until: until, began: time.Now()}
	_ = until(p.began.Add(bagGrace))
	return p
}

func (p *paced) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	if p.n += int64(n); p.n-p.marked > 16<<10 {
		p.marked = p.n
		_ = p.until(p.began.Add(bagGrace + time.Duration(p.n/leastRate)*time.Second))
	}
	return n, err
}

// tooSlow reports whether a body was waited for in vain.
func tooSlow(err error) bool { return errors.Is(err, os.ErrDeadlineExceeded) }

// arriving gives every request a time to arrive in. Bags have a pace of their own.
func arriving(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		if r.Method == http.MethodGet && r.URL.Path == orderPath { // it has no body, and is waited for
			_ = control.SetReadDeadline(time.Time{})
			_ = control.SetWriteDeadline(time.Now().Add(longestPoll + answerTime))
			next.ServeHTTP(w, r)
			return
		}
		_ = control.SetReadDeadline(time.Now().Add(requestTime))
		_ = control.SetWriteDeadline(time.Now().Add(answerTime))
		next.ServeHTTP(w, r)
	})
}

var plainID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

// plainIDs forgets the id that came with a request unless it is short and plain: it
// stands in the log.
func plainIDs(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !plainID.MatchString(r.Header.Get("X-Request-Id")) {
			r.Header.Del("X-Request-Id")
		}
		next.ServeHTTP(w, r)
	})
}

var methods = []string{
	http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
	http.MethodOptions,
}

// methodLabel is the method of a request, or "other": what labels a metric must not be
// invented by whoever asks.
func methodLabel(method string) string {
	if slices.Contains(methods, method) {
		return method
	}
	return "other"
}

// cut shortens what a request brought along for the log.
func cut(text string) string {
	const most = 200
	if len(text) > most {
		return text[:most] + "…"
	}
	return text
}

type addressKey struct{}

// addressed notes from where a request comes: of a forwarder that is trusted, from where
// that says.
func addressed(forwarders []netip.Prefix) func(http.Handler) http.Handler {
	trusted := func(a netip.Addr) bool {
		return slices.ContainsFunc(forwarders, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			host, _, _ := net.SplitHostPort(r.RemoteAddr)
			from, err := netip.ParseAddr(host)
			chain := strings.Split(r.Header.Get("X-Forwarded-For"), ",")
			for err == nil && trusted(from) && len(chain) > 0 {
				before, bad := netip.ParseAddr(strings.TrimSpace(chain[len(chain)-1]))
				if bad != nil {
					break
				}
				from, chain = before, chain[:len(chain)-1]
			}
			if err == nil {
				host = from.Unmap().String()
			}
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), addressKey{}, host)))
		})
	}
}

// address is from where a request comes.
func address(ctx context.Context) string {
	text, _ := ctx.Value(addressKey{}).(string)
	return text
}

// A throttle slows down who fails to sign in again and again, by address.
type throttle struct {
	mu   sync.Mutex
	seen map[string]*rate.Limiter
}

// Failures that one address may have at once, and how often one more.
const (
	failures     = 10
	failureEvery = 6 * time.Second
	addresses    = 10_000 // that are remembered
)

func newThrottle() *throttle { return &throttle{seen: map[string]*rate.Limiter{}} }

func (t *throttle) of(address string) *rate.Limiter {
	t.mu.Lock()
	defer t.mu.Unlock()
	l := t.seen[address]
	if l == nil {
		if len(t.seen) >= addresses { // a flood from many: those that have rested are forgotten
			for a, l := range t.seen {
				if l.Tokens() >= failures {
					delete(t.seen, a)
				}
			}
		}
		l = rate.NewLimiter(rate.Every(failureEvery), failures)
		if len(t.seen) < addresses {
			t.seen[address] = l
		}
	}
	return l
}

// open reports whether another try may be made from an address.
func (t *throttle) open(address string) bool { return t.of(address).Tokens() >= 1 }

// failed notes a try that failed.
func (t *throttle) failed(address string) { t.of(address).Allow() }

// turn waits for a place among the intakes.
func (a *API) turn(ctx context.Context) (done func(), err error) {
	wait := time.NewTimer(intakeWait)
	defer wait.Stop()
	select {
	case a.taking <- struct{}{}:
		return func() { <-a.taking }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-wait.C:
		return nil, huma.ErrorWithHeaders(
			problem(http.StatusServiceUnavailable, "busy-taking", "many bags are being handed in; try again in a few seconds"),
			http.Header{"Retry-After": {"10"}},
		)
	}
}
