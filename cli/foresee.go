package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/block"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/host/inside"
	"diorthos/platform"
)

// rehearsedUpdate is what a rehearsal of an update found.
type rehearsedUpdate struct {
	*system.Foreseen
	Docket *client.CaseDetail `json:"docket,omitempty"` // of the failure that has not happened yet
	Starts *host.Rehearsed    `json:"starts,omitempty"`
}

// rehearseUpdate does an update on a draft of a machine's disk, and tells how it went: as the docket of a
// failure that has not happened yet, where it failed.
func rehearseUpdate(ctx context.Context, c *cli.Command, release string) (err error) {
	path := host.Locate(c.String("image")).Disk
	if path == "" {
		return usage(c, errors.New("a rehearsal works on a draft of a disk: name it with --image"))
	}
	used, err := host.InUse(path)
	if err != nil {
		return err
	}
	if len(used) > 0 { // what is read of it would change meanwhile
		return fmt.Errorf("%s is %s: rehearse the update from a rescue medium, or on a copy of the disk", path, used[0].Where)
	}
	keys, err := keysOf(c)
	if err != nil {
		return err
	}
	dev, err := host.OpenDisk(path, c.Int(sectorSizeFlag), true)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	draft := block.NewDraft(dev)
	able, err := foreseer(draft, system.Options{Now: time.Now(), Enter: inside.Enter, Keys: keys})
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	bar := newBar(c, "", 0)
	began := time.Now()
	wish := system.UpdateWish{Release: release, Hold: c.StringSlice("hold"), ToolOptions: system.ToolOptions{
		Network: c.Bool("network"),
		Say: func(what string) {
			bar.show(fmt.Sprintf("on a draft, %s: %s", time.Since(began).Round(time.Second), what), 0, 0)
		},
	}}
	seen := rehearsedUpdate{}
	seen.Foreseen, err = able.RehearseUpdate(ctx, wish)
	bar.clear()
	if err != nil {
		return err
	}
	console := "" // of what succeeded only the machine as it is afterwards says something
	if seen.Failed {
		console = seen.Console
	}
	if seen.Docket, err = docketOfDraft(ctx, c, draft, console); err != nil {
		return err
	}
	if c.Bool("start") && !seen.Failed {
		r := host.Rehearsal{Adapters: platform.All(), Keys: keys}
		r.Say = func(string) { bar.show("starting it on a copy: "+time.Since(began).Round(time.Second).String(), 0, 0) }
		seen.Starts, err = r.Run(ctx, draft)
		bar.clear()
		if err != nil {
			return err
		}
	}
	done, err := writeJSON(c, seen)
	if !done {
		showForeseen(newPage(c), seen)
	}
	if err == nil && !seen.Failed && seen.Stale != "" && !seen.Tried() {
		return errors.New("nothing was tried: allow the network with --network, or give the machine sources that lie on it")
	}
	if err == nil && (seen.Failed || wrongAfterwards(seen) || seen.Starts != nil && !seen.Starts.Starts) {
		return errFound
	}
	return err
}

// foreseer is the first system on a disk whose updates can be tried on a draft.
func foreseer(draft *block.Draft, o system.Options) (system.Foreseer, error) {
	list, err := system.OpenAll(platform.All(), draft, o)
	if err != nil {
		return nil, err
	}
	why := "no system that is known lies on it"
	for _, opened := range list {
		if f, ok := opened.System.(system.Foreseer); ok {
			return f, nil
		}
		for _, a := range platform.All() {
			if a.Family() == opened.System.Family() {
				why = opened.Title + ": " + system.Lack[system.Foreseer](a)
			}
		}
	}
	return nil, fmt.Errorf("an update cannot be rehearsed here: %s", why)
}

// docketOfDraft reads what was printed, and the draft as it is now, as the evidence of a case.
func docketOfDraft(
	ctx context.Context,
	c *cli.Command,
	draft *block.Draft,
	console string,
) (*client.CaseDetail, error) {
	dir, err := os.MkdirTemp("", "diorthos-rehearsal-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }() // it was read
	logs := filepath.Join(dir, "logs")
	if err := os.Mkdir(logs, 0o700); err != nil {
		return nil, err
	}
	if console != "" {
		if err := os.WriteFile(filepath.Join(logs, "console.txt"), []byte(console), 0o600); err != nil {
			return nil, err
		}
	}
	o, err := gatherOptions(c)
	if err != nil {
		return nil, err
	}
	o.Device, o.Logs = draft, logs
	path := filepath.Join(dir, "rehearsed.tar.gz")
	if _, err := gatherTo(ctx, path, o); err != nil {
		return nil, err
	}
	return readBag(ctx, c, path)
}

// wrongAfterwards reports whether something is found wrong with the draft on which the update succeeded.
func wrongAfterwards(seen rehearsedUpdate) bool { return seen.Docket.State != client.Healthy }

// plainly is a command without the options that answer questions beforehand.
func plainly(command string) string {
	var words []string
	list := strings.Fields(command)
	for i := 0; i < len(list); i++ {
		switch list[i] {
		case "-y", "-q":
		case "-o":
			i++
		default:
			words = append(words, list[i])
		}
	}
	return strings.Join(words, " ")
}

func showForeseen(p *page, seen rehearsedUpdate) {
	p.head("TRIED ON A DRAFT")
	p.para(2, "Nothing of the machine was changed: this was done on a draft of its disk, with its own tools and sources.")
	for _, s := range seen.Steps {
		mark := p.good(markGood)
		if s.Status != 0 {
			mark = p.bad(markBroken)
		}
		p.hangingIndent(
			fmt.Sprintf("  %s ", mark),
			fmt.Sprintf("%s  %s", plainly(s.Command), p.faint(s.Took.Round(100*time.Millisecond).String())),
		)
		if s.Last != "" {
			p.hangingIndent("    ", s.Last)
		}
	}
	plan := seen.Plan
	p.line("")
	p.line(
		"  %d upgraded, %d new, %d removed, %d kept back",
		len(plan.Upgraded),
		len(plan.Added),
		len(plan.Removed),
		len(plan.Kept),
	)
	for what, names := range map[string][]string{"removed": plan.Removed, "kept back": plan.Kept} {
		if len(names) > 0 {
			p.hangingIndent("  "+markOdd+" ", what+": "+strings.Join(names[:min(len(names), 12)], ", "))
		}
	}
	for _, a := range seen.Asked {
		p.hangingIndent("  "+markOdd+" ", a)
	}
	for _, r := range seen.Rooms {
		p.line("  room on %-10s %s before, %s after", r.Mount, size(r.Before), size(r.After))
	}
	if seen.Starts != nil {
		mark := p.good(markGood)
		if !seen.Starts.Starts {
			mark = p.bad(markBroken)
		}
		p.line("  %s afterwards %s, after %s", mark, seen.Starts.End, seen.Starts.Took.Round(time.Second))
	}
	p.line("")
	if seen.Stale != "" {
		p.hangingIndent("  "+markOdd+" ", seen.Stale)
	}
	if !seen.Failed {
		if seen.Tried() {
			p.line("%s the update succeeds, as far as it could be tried", p.good(markGood))
		} else {
			p.line("%s nothing was there to be upgraded, so nothing was tried", markNone)
		}
		if wrongAfterwards(seen) {
			p.line("%s something is wrong with the machine all the same; this is how it would be afterwards", p.bad(markBroken))
			p.line("")
			showCase(p, seen.Docket)
		}
		return
	}
	if d := seen.Docket.Docket; d != nil && d.Failure != nil && d.Failure.Object != "" {
		p.hangingIndent(
			"  next  ",
			fmt.Sprintf("whether the rest succeeds meanwhile: the same with --hold %s", d.Failure.Object),
		)
		p.line("")
	}
	p.line("%s the update would fail; this is the docket of that failure, which has not happened yet", p.bad(markBroken))
	p.line("")
	showCase(p, seen.Docket)
}
