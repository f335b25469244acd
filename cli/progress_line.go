package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/client"
	"diorthos/core/ladder"
)

// A progressLine tells a person before a terminal what a rung is doing, for how long,
// and how long it will go on, by what it took in earlier climbs. Elsewhere it
// says nothing.
type progressLine struct {
	out     io.Writer
	rung    ladder.Rung
	typical client.Typical
	began   time.Time
	doing   chan string
	ended   sync.WaitGroup
}

func newProgressLine(c *cli.Command, rung ladder.Rung, typical client.Typical) *progressLine {
	w := &progressLine{out: c.Root().ErrWriter, rung: rung, typical: typical, began: time.Now(), doing: make(chan string)}
	if f, ok := w.out.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		w.out = io.Discard
	}
	w.ended.Go(w.run)
	return w
}

func (w *progressLine) phase(name string) { w.doing <- name }

// end takes the line away again.
func (w *progressLine) end() {
	close(w.doing)
	w.ended.Wait()
}

func (w *progressLine) run() {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	phase, shown := "", false
	for {
		select {
		case name, ok := <-w.doing:
			if !ok {
				if shown {
					_, _ = fmt.Fprint(w.out, "\r\x1b[K")
				}
				return
			}
			phase = name
		case <-tick.C:
			spent := time.Since(w.began)
			if spent < time.Second {
				continue // most rungs are over by then
			}
			_, _ = fmt.Fprintf(
				w.out, "\r\x1b[K  rung %d, %s: %s; %s", w.rung.Number, phase, spent.Round(time.Second),
				left(spent, w.typical, w.rung.Minutes),
			)
			shown = true
		}
	}
}

// left says how long a rung will go on. Minutes is what it takes by the book,
// for one that was never proven yet.
func left(spent time.Duration, typical client.Typical, minutes int) string {
	if typical.Runs == 0 {
		return fmt.Sprintf("about %d min by the book", minutes)
	}
	more := seconds(typical.Seconds) - spent
	if more < 0 {
		return "longer than " + tookBefore(typical)
	}
	return fmt.Sprintf("about %s left (%s)", max(more.Round(time.Second), time.Second), tookBefore(typical))
}

func tookBefore(t client.Typical) string {
	return fmt.Sprintf("%s in %s", rounded(seconds(t.Seconds)), plural(int(t.Runs), "earlier climb", "earlier climbs"))
}

// rounded is a time as people say it.
func rounded(d time.Duration) time.Duration {
	switch {
	case d < 100*time.Millisecond:
		return d.Round(time.Millisecond / 10)
	case d < time.Minute:
		return d.Round(time.Second / 10)
	}
	return d.Round(time.Second)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
