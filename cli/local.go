package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/ladder"
	"diorthos/host"
)

const diagnoseHelp = `Gathers the evidence of a machine and reads it here: no service and no network are needed. Of a
disk, a machine's folder or the running machine the bag and its docket are kept in an outbox beside
the journals, so that "diorthos ladder" and "diorthos climb" with the same --image go on from there;
"diorthos submit OUTBOX" hands all of it in when a service is there. Exit status 1 if something is
wrong.

Examples:
   diorthos diagnose kestrel.bag.tar.gz
   diorthos diagnose --image .demo/machines/gannet-crew-2
   diorthos diagnose --live`

func diagnoseCommand() *cli.Command {
	return &cli.Command{
		Name: "diagnose", Usage: "find out why a machine failed, without a service: from a bag, a disk or this machine",
		ArgsUsage: "[BAG]", Description: diagnoseHelp,
		Flags: append(append(lookFlags(), evidenceFlags()...), jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			d, err := diagnosed(ctx, c, true)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, d); done {
				return wrongOnDocket(d, err)
			}
			showCase(newPage(c), d)
			return wrongOnDocket(d, nil)
		},
	}
}

// wrongOnDocket is ErrFound when something is wrong with the machine.
func wrongOnDocket(d *client.CaseDetail, err error) error {
	if err == nil && d.State != client.Healthy {
		return ErrFound
	}
	return err
}

// diagnosed is the case of what the flags name, read here: from a bag, or from the
// outbox of a machine. When anew is set, or nothing is in the outbox, the machine is
// looked at first.
func diagnosed(ctx context.Context, c *cli.Command, anew bool) (*client.CaseDetail, error) {
	if path := c.Args().First(); path != "" {
		if c.IsSet("image") || c.IsSet("root") || c.Bool("live") {
			return nil, usage(c, errors.New("name a BAG, or what to look at, not both"))
		}
		return readBag(ctx, c, path)
	}
	if !c.IsSet("image") && c.String("root") == "" && !c.Bool("live") {
		return nil, usage(c, errors.New("say what to look at: a BAG, --image, --root or --live"))
	}
	o, err := gatherOptions(c)
	if err != nil {
		return nil, err
	}
	o.Live = o.Live && o.Image == "" // of a climb it says that the image is this machine's
	look, err := host.Look(o)
	if err != nil {
		return nil, err
	}
	look.Close()
	box := outbox{folder: outboxOf(c, look.Facts.Machine.Name)}
	last, err := box.last()
	if err != nil {
		return nil, err
	}
	if last == 0 || anew {
		if err := os.MkdirAll(box.folder, 0o700); err != nil {
			return nil, err
		}
		last++
		if _, err := gatherTo(ctx, box.bag(last), o); err != nil {
			return nil, err
		}
	}
	d, err := readBag(ctx, c, box.bag(last))
	if err != nil {
		return nil, err
	}
	d.Number = -last
	record, err := climb.ReadRecord(recordPath(c, d.Machine), d.Machine)
	if err != nil {
		return nil, err
	}
	for rung, outcome := range climb.StandingOn(d.Docket.ToDo, record.Runs(d.Number)) {
		d.Stands[strconv.Itoa(rung)] = outcome
	}
	return d, nil
}

// newer looks whether the machine has failed again since a docket was drawn of it, or whether no
// rung of it is left and something is wrong all the same: what was mended may show what else is.
// Then the docket of how it is now is the one to go by.
func newer(ctx context.Context, c *cli.Command, d *client.CaseDetail) (*client.CaseDetail, error) {
	if d.Number >= 0 || len(d.Stands) == 0 || d.Docket == nil || c.IsSet("resume") || c.Bool("dry-run") ||
		len(c.IntSlice("only"))+len(c.IntSlice("skip")) > 0 || c.IsSet("to") {
		return d, nil
	}
	o, err := gatherOptions(c)
	if err != nil {
		return nil, err
	}
	o.Live = o.Live && o.Image == ""
	box := outbox{folder: outboxOf(c, d.Machine)}
	path := strings.TrimSuffix(box.bag(-d.Number+1), ".tar.gz") + ".looked.tar.gz"
	defer func() { _ = os.Remove(path) }() // it has its own name by then, or is of no use
	if _, err := gatherTo(ctx, path, o); err != nil {
		return nil, err
	}
	fresh, err := readBag(ctx, c, path)
	if err != nil {
		return nil, err
	}
	again := fresh.Docket != nil && latestOf(fresh.Docket).After(latestOf(d.Docket))
	again = again || brokenFurtherOn(d.Docket, fresh.Docket)
	left := slices.ContainsFunc(d.Docket.ToDo, func(r ladder.Rung) bool { return d.Standing(r.Number) == "" })
	if !again && (left || fresh.Docket == nil || len(fresh.Docket.ToDo) == 0) {
		return d, nil
	}
	if err := os.Rename(path, box.bag(-d.Number+1)); err != nil {
		return nil, err
	}
	return diagnosed(ctx, c, false)
}

// brokenFurtherOn reports whether the chain by which a machine starts is broken at another link than a
// docket says: what was mended has shown it.
func brokenFurtherOn(was, now *docket.Docket) bool {
	if was == nil || now == nil || was.State == nil || now.State == nil {
		return false
	}
	before, after := was.State.Chain.Broken(), now.State.Chain.Broken()
	return after != nil && (before == nil || before.Kind != after.Kind || before.Fault != after.Fault)
}

// latestOf is when the latest attempt of a docket began.
func latestOf(d *docket.Docket) time.Time {
	if len(d.Attempts) == 0 {
		return time.Time{}
	}
	return d.Attempts[0].Began
}

func recordPath(c *cli.Command, machine string) string {
	return (&host.Machine{Path: c.String("image"), Root: c.String("root"), Name: machine}).Record()
}

// outboxOf is the folder beside the record of a machine's climbs.
func outboxOf(c *cli.Command, machine string) string {
	record := recordPath(c, machine)
	return strings.TrimSuffix(record, filepath.Ext(record)) + ".outbox"
}

// readBag draws the docket of a bag, here.
func readBag(ctx context.Context, c *cli.Command, path string) (d *client.CaseDetail, err error) {
	k, err := loadKnowledge()
	if err != nil {
		return nil, err
	}
	f, err := block.OpenRegular(path, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	stat, err := f.Stat()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "diorthos-diagnose-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	info, err := bag.Unpack(ctx, f, bag.DefaultLimits, dir)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	logs, total := docket.Logs(info, dir)
	bar := newBar(c, "reading logs", total)
	defer bar.clear()
	drawn, err := docket.Draw(ctx, info.Facts, logs, k, func(n int64) { bar.show("reading logs", n, total) })
	if err != nil {
		return nil, err
	}
	state := client.Open
	if drawn.Sound() {
		state = client.Healthy
	}
	return &client.CaseDetail{
		Case: client.Case{
			Machine:  info.Facts.Machine.Name,
			Site:     info.Facts.Machine.Site,
			State:    state,
			Received: info.Facts.Gathered,
			By:       hostName(),
			Bag:      info.Digest,
			BagSize:  stat.Size(),
			Headline: drawn.Headline(),
		},
		Docket: drawn,
		Climbs: []client.Climb{},
		Stands: map[string]climb.Outcome{},
	}, nil
}

// An outbox holds what was found out without a service: bags by their number, and
// the case that each became once it was handed in.
type outbox struct{ folder string }

func (o outbox) bag(n int64) string { return filepath.Join(o.folder, fmt.Sprintf("%d.bag.tar.gz", n)) }

func (o outbox) receipt(n int64) string {
	return filepath.Join(o.folder, fmt.Sprintf("%d.case.json", n))
}

// last is the number of the latest bag; 0 when there is none.
func (o outbox) last() (last int64, err error) {
	list, err := filepath.Glob(filepath.Join(o.folder, "*.bag.tar.gz"))
	for _, name := range list {
		n, err := strconv.ParseInt(strings.TrimSuffix(filepath.Base(name), ".bag.tar.gz"), 10, 64)
		if err == nil {
			last = max(last, n)
		}
	}
	return last, err
}

// handedIn is the case that a bag became; 0 before it was handed in.
func (o outbox) handedIn(n int64) int64 {
	raw, err := os.ReadFile(o.receipt(n))
	var r struct {
		Case int64 `json:"case"`
	}
	if err != nil || json.Unmarshal(raw, &r) != nil {
		return 0
	}
	return r.Case
}

// submitOutbox hands in what an outbox holds: each bag, and what was climbed on its
// docket. What was handed in before is not handed in again.
func submitOutbox(ctx context.Context, c *cli.Command, folder string) error {
	box := outbox{folder: folder}
	last, err := box.last()
	if err != nil {
		return err
	}
	if last == 0 {
		return fmt.Errorf("%s holds no bag", folder)
	}
	var list []client.Case
	p := newPage(c)
	for n := int64(1); n <= last; n++ {
		if box.handedIn(n) != 0 {
			continue
		}
		if _, err := os.Stat(box.bag(n)); err != nil {
			continue
		}
		accepted, err := submit(ctx, c, box.bag(n))
		if err != nil {
			return err
		}
		cs, err := waitRead(ctx, c, accepted.Number)
		if err != nil {
			return err
		}
		runs, err := box.runs(n, cs.Machine)
		if err != nil {
			return err
		}
		if err := reportRuns(ctx, c, cs.Number, runs); err != nil {
			return err
		}
		raw, err := json.Marshal(map[string]any{"case": cs.Number, "at": time.Now().UTC(), "runs": len(runs)})
		if err != nil {
			return err
		}
		if err := os.WriteFile(box.receipt(n), raw, 0o600); err != nil {
			return err
		}
		list = append(list, cs)
		if !c.Bool("json") {
			showAccepted(p, cs, accepted.Again)
			if len(runs) > 0 {
				p.line("  %s of its ladder told", plural(len(runs), "rung", "rungs"))
			}
		}
	}
	if len(list) == 0 && !c.Bool("json") {
		p.line("%s all of it was handed in before", markNone)
	}
	_, err = writeJSON(c, list)
	return err
}

// runs are what was climbed on the docket of a bag.
func (o outbox) runs(n int64, machine string) ([]climb.Run, error) {
	r, err := climb.ReadRecord(strings.TrimSuffix(o.folder, ".outbox")+".climbs", machine)
	if err != nil {
		return nil, err
	}
	return r.Runs(-n), nil
}

func reportRuns(ctx context.Context, c *cli.Command, number int64, runs []climb.Run) error {
	for _, run := range runs {
		started, err := service(c).StartClimb(ctx, number, client.ClimbStart{Host: hostName(), Rung: run.Rung})
		if err != nil {
			return err
		}
		report := client.ClimbReport{State: client.Ended, Run: &run}
		if run.Outcome == climb.CutOff || run.Outcome == climb.Stopped {
			report.State = client.CutOff
		}
		if _, err := service(c).ReportClimb(ctx, started.ID, report); err != nil {
			return err
		}
	}
	return nil
}
