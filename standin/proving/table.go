package proving

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"

	standin "diorthos/standin/corbel"
)

// pairs are faults of which one hides the other: the attempt fails by the
// first, and by the second once the first is mended.
var pairs = [][2]string{
	{"updates-paused", "payload-missing"},
	{"service-disabled", "cache-package-damaged"},
	{"leftover-work-folder", "branch-owner-wrong"},
	{"service-need-stopped", "protected-file-altered"},
	{"cache-unwritable", "manifest-damaged"},
	{"rights-missing", "policy-value-wrong"},
	{"loader-gone", "boot-store-gone"},
	{"boot-store-other-volume", "pending-many-gone"},
	{"pending-component-gone", "program-stops-start"},
	{"boot-code-damaged", "boot-sector-damaged"},
	{"firmware-variables-stale", "loader-gone"},
	{"file-system-errors", "payload-altered"},
	{"leftover-work-folder", "file-system-errors"},
}

// A Plan says what to prove.
type Plan struct {
	Seeds   int    // for each fault
	From    uint64 // the first seed
	Workers int
	Only    string // the beginning of a fault's name; empty for all
	Pairs   int    // further pairs for each seed, drawn at random
}

// A Line is the sum of the runs of one fault.
type Line struct {
	Fault    string `json:"fault"`
	Beyond   bool   `json:"beyondRepair"`
	Runs     int    `json:"runs"`
	First    int    `json:"first"`    // the right cause came first
	Three    int    `json:"three"`    // or among the first three
	Repaired int    `json:"repaired"` // or, beyond repair, got the right advice
	Rungs    int    `json:"rungs"`    // taken in all
	Intact   int    `json:"intact"`   // files of the users
	Loans    int    `json:"loans"`    // all given back
	Undo     int    `json:"undo"`     // byte for byte
}

// A Totals sums up all lines.
type Totals struct {
	Lines    []Line   `json:"lines"`
	Failures []string `json:"failures"`
}

// drawPair draws two faults that one machine can have, and that the same
// attempt fails by.
func drawPair(r *rand.Rand) (a, b *standin.Fault) {
	for {
		a, b = &standin.Faults[r.IntN(len(standin.Faults))], &standin.Faults[r.IntN(len(standin.Faults))]
		fits := len(a.Modes) == 0 || len(b.Modes) == 0 || a.Modes[0] == b.Modes[0]
		if a.Group == b.Group && (a.Group == "trust and clock" || a.Group == regressions) {
			continue // one can make the other good again, or takes the ground from under it
		}
		if names := []string{a.Name, b.Name}; slices.Contains(names, "clock-put-right") &&
			slices.Contains(names, "network-absent") {
			continue // without a network no clock is put right
		}
		if a.Name != b.Name && a.Try == b.Try && fits && !a.Beyond && !b.Beyond && Cause(a) != Cause(b) {
			if len(a.Modes) == 0 {
				a, b = b, a // the one that needs a firmware mode chooses it
			}
			if a.Name == "list-cut-off" {
				a, b = b, a // nothing reads the list after it
			}
			return a, b
		}
	}
}

type job struct {
	name   string
	faults []*standin.Fault
	seed   uint64
}

// Prove runs the plan and tells progress, which may be nil, after each run.
func (l *Loop) Prove(ctx context.Context, p Plan, progress func(done, of int)) (*Totals, error) {
	jobs := p.jobs()
	results := make([]*Result, len(jobs))
	failed := make([]error, len(jobs))
	next := make(chan int)
	var wait sync.WaitGroup
	var mu sync.Mutex
	done := 0
	for range max(p.Workers, 1) {
		wait.Add(1)
		go func() {
			defer wait.Done()
			for i := range next {
				results[i], failed[i] = l.one(ctx, jobs[i])
				mu.Lock()
				if done++; progress != nil {
					progress(done, len(jobs))
				}
				mu.Unlock()
			}
		}()
	}
	for i := range jobs {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	wait.Wait()
	t := sum(jobs, results)
	for _, err := range failed {
		if err != nil {
			t.Failures = append(t.Failures, err.Error())
		}
	}
	return t, ctx.Err()
}

// Workers is how many runs go at once by default.
func Workers() int { return runtime.NumCPU() }

func (p Plan) jobs() (list []job) {
	for s := range uint64(p.Seeds) {
		for i := range standin.Faults {
			f := &standin.Faults[i]
			if strings.HasPrefix(f.Name, p.Only) {
				list = append(list, job{f.Name, []*standin.Fault{f}, p.From + s*1009 + uint64(i)})
			}
		}
		for i, pair := range pairs {
			if p.Only == "" || p.Only == "pairs" {
				list = append(list, job{
					strings.Join(pair[:], " + "), []*standin.Fault{standin.FaultNamed(pair[0]), standin.FaultNamed(pair[1])},
					p.From + s*1009 + 100 + uint64(i),
				})
			}
		}
		r := rand.New(rand.NewPCG(p.From+s, 0xba))
		for i := range p.Pairs {
			a, b := drawPair(r)
			list = append(list, job{"pairs at random", []*standin.Fault{a, b}, p.From + s*1009 + 200 + uint64(i)})
		}
		if p.Only == "" || p.Only == "healthy" {
			list = append(list, job{"healthy", nil, p.From + s*1009 + 999})
		}
	}
	return list
}

func (l *Loop) one(ctx context.Context, j job) (r *Result, err error) {
	folder, err := os.MkdirTemp("", "diorthos-loop-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	r, err = l.Run(ctx, filepath.Join(folder, "run"), j.seed, j.faults...)
	if err != nil {
		return nil, fmt.Errorf("%s, seed %d: %w", j.name, j.seed, err)
	}
	return r, nil
}

func sum(jobs []job, results []*Result) *Totals {
	lines := map[string]*Line{}
	var order []string
	t := &Totals{}
	for i, j := range jobs {
		line := lines[j.name]
		if line == nil {
			line = &Line{Fault: j.name}
			lines[j.name], order = line, append(order, j.name)
		}
		for _, f := range j.faults {
			line.Beyond = line.Beyond || f.Beyond
		}
		if results[i] == nil {
			line.Runs++
			continue
		}
		if bad := line.add(results[i]); bad != "" {
			t.Failures = append(
				t.Failures,
				fmt.Sprintf(
					"%s (%s), seed %d: %s\n    %s", j.name, results[i].Fault, j.seed, bad,
					strings.Join(append(results[i].Rungs, results[i].Notes...), "\n    "),
				),
			)
		}
	}
	for _, name := range order {
		t.Lines = append(t.Lines, *lines[name])
	}
	sort.Strings(t.Failures)
	return t
}

// add counts one run and says what of it is not as it should be.
func (l *Line) add(r *Result) string {
	var bad []string
	count := func(n *int, ok bool, what string) {
		if ok {
			*n++
		} else {
			bad = append(bad, what)
		}
	}
	l.Runs++
	l.Rungs += len(r.Rungs)
	healthy := len(r.Wanted) == 0
	count(&l.First, r.First || healthy && len(r.Found) == 0, "cause not first")
	count(&l.Three, r.Three || healthy, "cause not among three")
	if l.Beyond {
		count(&l.Repaired, !r.Repaired && r.Advice && r.First, "no right advice")
	} else {
		count(&l.Repaired, r.Repaired, "not repaired")
	}
	count(&l.Intact, r.Intact, "files of users differ")
	count(&l.Loans, r.Loans, "a loan is out")
	count(&l.Undo, r.Undone, "not undone")
	return strings.Join(bad, ", ")
}

// Sum adds up lines: all, those that can be repaired, those beyond repair.
func (t *Totals) Sum(which func(Line) bool) (s Line) {
	for _, l := range t.Lines {
		if which(l) {
			s.Runs += l.Runs
			s.First += l.First
			s.Three += l.Three
			s.Repaired += l.Repaired
			s.Rungs += l.Rungs
			s.Intact += l.Intact
			s.Loans += l.Loans
			s.Undo += l.Undo
		}
	}
	return s
}

// Print writes the table and the totals.
func (t *Totals) Print(w io.Writer) {
	row := func(l Line, name string) {
		word := fmt.Sprint(l.Repaired)
		if l.Beyond {
			word += " advised"
		}
		_, _ = fmt.Fprintf(
			w, "%-48s %5d %6d %6d %13s %6.1f %7d %6d %6d\n", name, l.Runs, l.First, l.Three, word,
			float64(l.Rungs)/float64(max(l.Runs, 1)), l.Intact, l.Loans, l.Undo,
		)
	}
	_, _ = fmt.Fprintf(
		w, "%-48s %5s %6s %6s %13s %6s %7s %6s %6s\n", "fault", "runs", "first", "in 3", "repaired", "rungs", "intact",
		"loans", "undo",
	)
	for _, l := range t.Lines {
		row(l, l.Fault)
	}
	_, _ = fmt.Fprintln(w)
	all := t.Sum(func(Line) bool { return true })
	mend := t.Sum(func(l Line) bool { return !l.Beyond && l.Fault != "healthy" })
	beyond := t.Sum(func(l Line) bool { return l.Beyond })
	share := func(n, of int) string {
		if of == 0 {
			return "none among these"
		}
		return fmt.Sprintf("%d of %d (%.1f %%)", n, of, 100*float64(n)/float64(of))
	}
	for _, x := range [][2]string{
		{"right cause first", share(all.First, all.Runs)}, {"among the first three", share(all.Three, all.Runs)},
		{"repaired, of what can be", share(mend.Repaired, mend.Runs)},
		{"rungs for each repair", fmt.Sprintf("%.2f", float64(mend.Rungs)/float64(max(mend.Repaired, 1)))},
		{"right advice, of what cannot", share(beyond.Repaired, beyond.Runs)},
		{"users' files intact", share(all.Intact, all.Runs)},
		{"loans given back", share(all.Loans, all.Runs)},
		{"undone byte for byte", share(all.Undo, all.Runs)},
	} {
		_, _ = fmt.Fprintf(w, "%-32s %s\n", x[0], x[1])
	}
	for _, f := range t.Failures {
		_, _ = fmt.Fprintln(w, "\n"+f)
	}
}
