package proving

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/ladder"
)

// A Mutation is what became of a machine that was changed at random.
type Mutation struct {
	*Result
	Did   []string // what was changed
	Fails string   // what the attempt said; empty where it went well
	// Could says that a reinstall keeping files would have let the attempt succeed.
	Could bool
}

// Mutate changes one machine at random, and lets Diorthos find out and mend where
// the machine does not start or take its update then.
func (l *Loop) Mutate(ctx context.Context, folder string, seed uint64) (*Mutation, error) {
	r := &round{loop: l, ctx: ctx, folder: folder, try: startAndUpdate, res: &Result{Seed: seed}}
	o, err := r.build(seed, []string{"uefi", "bios"}[seed%2])
	if err != nil {
		return nil, err
	}
	r.look = r.m.Folder
	res := &Mutation{Result: r.res}
	if res.Did, err = r.m.Mutate(o); err != nil {
		return res, err
	}
	// The attempt leaves its logs on the machine where it fails; where it goes well
	// the machine is not diagnosed as one that was updated.
	trial, err := r.m.Copy(filepath.Join(folder, "trial"))
	if err != nil {
		return res, err
	}
	out, err := r.attempt(trial, Now)
	if err != nil {
		return res, fmt.Errorf("the stand-in: %w", err)
	}
	if out.OK {
		_, err := r.diagnose() // whatever was changed, it can be read
		return res, err
	}
	r.m, res.Fails = trial, fmt.Sprintf("0x%08x %s", out.Code, out.Text)
	if err := r.mend(false); err != nil {
		return res, err
	}
	res.Could = res.Repaired
	if !res.Repaired {
		res.Could, err = r.reinstalled()
	}
	return res, err
}

// reinstalled reports whether a reinstall keeping files would have helped.
func (r *round) reinstalled() (bool, error) {
	c, err := r.m.Copy(filepath.Join(r.folder, "reinstalled"))
	if err != nil {
		return false, err
	}
	whole := r.m
	defer func() { r.m = whole }()
	r.m = c
	k := r.loop.Knowledge.Remedies["reinstall-keeping-files"]
	d, err := r.diagnose()
	if err != nil {
		return false, err
	}
	facts := &bag.Facts{Disks: d.Disks, Firmware: d.Firmware, State: d.State, Hardware: d.Hardware}
	went, err := r.take(
		ladder.Rung{Remedy: k.ID, Action: k.Action, By: k.By, Target: action.TargetOf(k.Action, facts)}, facts,
	)
	if err != nil || !went {
		return false, nil //nolint:nilerr // then it could not
	}
	out, err := r.attempt(r.m, Now)
	return err == nil && out.OK, err
}

// Mutations are the sum of many.
type Mutations struct {
	Runs     int      `json:"runs"`
	Fail     int      `json:"fail"`     // do not start, or not take their update
	Could    int      `json:"could"`    // of these, those that a reinstall keeping files can repair
	Repaired int      `json:"repaired"` // of these, those that were repaired
	Kind     int      `json:"kind"`     // of those that fail: the likeliest kind is that of a change
	Crashes  int      `json:"crashes"`  // could not be read or judged
	AllClear int      `json:"allClear"` // were told that nothing is wrong
	Intact   int      `json:"intact"`
	Undone   int      `json:"undone"`
	Failures []string `json:"failures"`
}

// ProveMutations changes many machines.
func (l *Loop) ProveMutations(
	ctx context.Context, from uint64, runs, workers int, progress func(done, of int),
) *Mutations {
	t := &Mutations{}
	seeds := make(chan uint64)
	var wait sync.WaitGroup
	var mu sync.Mutex
	for range max(workers, 1) {
		wait.Go(func() {
			for seed := range seeds {
				r, err := l.oneMutation(ctx, seed)
				mu.Lock()
				t.add(seed, r, err)
				if progress != nil {
					progress(t.Runs, runs)
				}
				mu.Unlock()
			}
		})
	}
	for i := range runs {
		if ctx.Err() == nil {
			seeds <- from + uint64(i)
		}
	}
	close(seeds)
	wait.Wait()
	return t
}

func (l *Loop) oneMutation(ctx context.Context, seed uint64) (r *Mutation, err error) {
	folder, err := os.MkdirTemp("", "diorthos-mutant-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	return l.Mutate(ctx, folder, seed)
}

func (t *Mutations) add(seed uint64, r *Mutation, err error) {
	t.Runs++
	tell := func(what string) {
		text := fmt.Sprintf("seed %d: %s", seed, what)
		if r != nil {
			text += "\n    " + strings.Join(append(append(append([]string{}, r.Did...), "-> "+r.Fails), r.Notes...), "\n    ") +
				"\n    found " + strings.Join(r.Found, ", ") + "; took " + strings.Join(r.Rungs, ", ")
		}
		t.Failures = append(t.Failures, text)
	}
	if err != nil {
		t.Crashes++
		tell(err.Error())
		return
	}
	if r.Fails == "" {
		return
	}
	t.Fail++
	if r.AllClear {
		t.AllClear++
		tell("was told that nothing is wrong")
	}
	if r.Intact {
		t.Intact++
	} else {
		tell("the users' files differ")
	}
	if r.Undone {
		t.Undone++
	} else {
		tell("was not undone byte for byte")
	}
	if rightKind(r.Did, r.Kind) {
		t.Kind++
	} else {
		tell(fmt.Sprintf("the kind is not that of a change: %q", r.Kind))
	}
	if !r.Could {
		return
	}
	t.Could++
	if r.Repaired {
		t.Repaired++
	} else {
		tell("was not repaired, and a reinstall keeping files would have")
	}
}

// Print writes the sums and what was not as it should be.
func (t *Mutations) Print(w io.Writer) {
	for _, x := range []struct {
		what  string
		n, of int
	}{
		{"changed at random: fail then", t.Fail, t.Runs},
		{"could not be read or judged", t.Crashes, t.Runs},
		{"told that nothing is wrong", t.AllClear, t.Fail},
		{"likeliest kind is that of a change", t.Kind, t.Fail},
		{"repaired, of what a reinstall could", t.Repaired, t.Could},
		{"users' files intact", t.Intact, t.Fail},
		{"undone byte for byte", t.Undone, t.Fail},
	} {
		_, _ = fmt.Fprintf(w, "%-36s %d of %d\n", x.what, x.n, x.of)
	}
	for _, f := range t.Failures {
		_, _ = fmt.Fprintln(w, "\n"+f)
	}
}
