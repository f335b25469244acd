package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/host"
)

// An ascent is a climb over several rungs of a case.
type ascent struct {
	c      *cli.Command
	p      *page
	d      *client.CaseDetail
	ledger *ladder.Ledger
	in     *bufio.Scanner
}

// errBlocked means that a rung waits for something a person has to do first.
var errBlocked = errors.New("blocked")

func newAscent(c *cli.Command, d *client.CaseDetail) (*ascent, error) {
	l, err := ladder.OpenLedger(ledgerPath(c, d.Machine), d.Number, d.Machine)
	if err != nil {
		return nil, err
	}
	return &ascent{c: c, p: newPage(c), d: d, ledger: l, in: bufio.NewScanner(c.Root().Reader)}, nil
}

// ledgerPath is beside the image, or in the current folder.
func ledgerPath(c *cli.Command, machine string) string {
	folder := "."
	if image := c.String("image"); image != "" && !strings.HasPrefix(image, "/dev/") {
		folder = host.Locate(image).Folder()
	}
	return filepath.Join(folder, machine+".ledger")
}

// wanted are the rungs to take, in order.
func wanted(c *cli.Command, d *client.CaseDetail) ([]ladder.Rung, error) {
	if d.Docket == nil {
		return nil, fmt.Errorf("case %d has not been read yet: see \"diorthos case %d\"", d.Number, d.Number)
	}
	all := d.Docket.ToDo
	if len(all) == 0 {
		return nil, fmt.Errorf("case %d has no ladder: nothing was found that a remedy is known for", d.Number)
	}
	only := append(c.IntSlice("only"), c.IntSlice("rung")...)
	for _, n := range append(append(append([]int{}, only...), c.IntSlice("skip")...), c.Int("to")) {
		if n < 0 || n > len(all) {
			return nil, fmt.Errorf("case %d has rungs 1 to %d, no rung %d", d.Number, len(all), n)
		}
	}
	var list []ladder.Rung
	for _, r := range all {
		switch {
		case len(only) > 0 && !slices.Contains(only, r.Number), slices.Contains(c.IntSlice("skip"), r.Number), c.Int("to") > 0 && r.Number > c.Int("to"):
			continue
		case len(only) == 0 && d.Standing(r.Number) == ladder.Proven && !c.IsSet("resume"):
			continue
		}
		list = append(list, r)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("no rung of case %d is left to take: all %d are proven or left out", d.Number, len(all))
	}
	if c.Int("to") == 0 && len(only) == 0 && !c.Bool("hands") {
		list = list[:1]
	}
	return list, nil
}

// climb takes rung after rung until one makes the failed thing work, one
// cannot be taken, or none is left.
func (a *ascent) climb(ctx context.Context, list []ladder.Rung) (runs []ladder.Run, err error) {
	if err := a.owed(ctx); err != nil {
		return runs, err
	}
	// What was borrowed is asked for however the climb ends.
	defer func() { err = errors.Join(err, a.giveBack(context.WithoutCancel(ctx))) }()
	for _, r := range list {
		if err := a.restart(); err != nil {
			return runs, err
		}
		a.heading(r)
		if ok, err := a.allowed(r); err != nil || !ok {
			return runs, err
		}
		run, err := a.take(ctx, r)
		if run != nil {
			runs = append(runs, *run)
			if run.Outcome != ladder.Planning {
				err = errors.Join(err, a.ledger.Note(*run))
			}
		}
		if err != nil {
			return runs, err
		}
		if r.Restart && run.Outcome != ladder.Refused && run.Outcome != ladder.Planning {
			if err := a.ledger.OweRestart(r.Number, a.boot()); err != nil {
				return runs, err
			}
		}
		if r.By == knowledge.ByHands && run.Outcome == ladder.Proven {
			a.say("%s The failed thing works again: the rungs above are not needed.", a.p.good(markGood))
			break
		}
	}
	return runs, nil
}

func (a *ascent) say(format string, args ...any) {
	if !a.c.Bool("json") {
		a.p.line(format, args...)
	}
}

func (a *ascent) heading(r ladder.Rung) {
	a.say("%s  %s", a.p.strong(fmt.Sprintf("Rung %d of %d  %s", r.Number, len(a.d.Docket.ToDo), r.Title)), a.p.faint(string(r.Invasive)))
}

// boot is what the running machine calls its present start; empty when the
// climb works on another machine's disk.
func (a *ascent) boot() string {
	if a.c.IsSet("image") {
		return ""
	}
	return host.Boot()
}

// restart refuses to go on while one is owed.
func (a *ascent) restart() error {
	ok, err := a.ledger.Restarted(a.boot(), a.c.Bool("restarted"))
	if err != nil || ok {
		return err
	}
	return fmt.Errorf("%w: rung %d owes a restart: steps taken before it may do nothing, silently. Restart the machine, then give --restarted", errBlocked, a.ledger.Restart)
}

// allowed asks before what disrupts or destroys.
func (a *ascent) allowed(r ladder.Rung) (bool, error) {
	if a.c.Bool("dry-run") {
		return true, nil
	}
	switch r.Invasive {
	case knowledge.Disrupts:
		if a.c.Bool("yes") {
			return true, nil
		}
		return a.yes("It restarts something or takes a service away for a while. Go on?")
	case knowledge.Destroys:
		a.p.line("  %s Data will be lost:", a.p.bad(markBroken))
		showLosses(a.p, a.d.Docket.Disks, r.Loses)
		name := a.c.String("confirm")
		if name == "" {
			name = a.ask(fmt.Sprintf("Type the machine's name, %s, to go on:", a.d.Machine))
		}
		if name != a.d.Machine {
			return false, fmt.Errorf("%w: the name of the machine was not given; nothing was changed", errBlocked)
		}
	}
	return true, nil
}

// showLosses lists what lies on the partitions of some roles, or on all.
func showLosses(p *page, disks []bag.Disk, roles []string) {
	for _, d := range disks {
		for _, part := range d.Partitions {
			if len(roles) == 0 || slices.Contains(roles, part.Role) {
				p.line("    %s partition %d, %s: %s %s", d.Source, part.Number, size(part.Size), part.Content.Kind, part.Content.Label)
			}
		}
	}
}

// take takes one rung, by hand or by an action, and notes its loans first.
func (a *ascent) take(ctx context.Context, r ladder.Rung) (*ladder.Run, error) {
	if r.By == knowledge.ByHands {
		if !a.c.Bool("hands") {
			return nil, fmt.Errorf("%w: rung %d, %q, is for a person: go on with --hands, or print \"diorthos ladder %d --sheet\"", errBlocked, r.Number, r.Title, a.d.Number)
		}
		return a.byHand(ctx, r)
	}
	if !a.c.IsSet("image") {
		return nil, usage(a.c, errors.New("--image is missing: the disk to work on"))
	}
	if err := a.borrow(r); err != nil {
		return nil, err
	}
	run, err := takeRung(ctx, a.c, a.d, r, a.lend)
	if run != nil && !a.c.Bool("json") {
		showRun(a.p, "  ", *run)
	}
	return run, err
}

func (a *ascent) borrow(r ladder.Rung) error {
	if a.c.Bool("dry-run") {
		return nil
	}
	for _, l := range r.Loans {
		if err := a.ledger.Borrow(ladder.Loan{What: l.What, Back: l.Back, Rung: r.Number, Borrowed: time.Now().UTC()}); err != nil {
			return err
		}
	}
	return nil
}

// byHand leads a person through the steps and keeps the answers.
func (a *ascent) byHand(ctx context.Context, r ladder.Rung) (*ladder.Run, error) {
	run := &ladder.Run{Rung: r.Number, Remedy: r.Remedy, Began: time.Now().UTC(), Outcome: ladder.Refused, Guard: []ladder.Check{}, Planned: []ladder.Planned{}, Proof: []ladder.Check{}}
	if a.c.Bool("dry-run") {
		run.Outcome = ladder.Planning
		for _, s := range r.Steps {
			a.p.hang("  □ ", s.Do)
		}
		return run, nil
	}
	if err := a.borrow(r); err != nil {
		return nil, err
	}
	for i, s := range r.Steps {
		a.p.hang(fmt.Sprintf("  %d. ", i+1), s.Do)
		check, err := a.step(s)
		if err != nil {
			return nil, err
		}
		run.Guard = append(run.Guard, check)
		if !check.OK {
			break
		}
	}
	ok, err := a.yes("Does the failed thing work now? " + r.Proof)
	if err != nil {
		return nil, err
	}
	run.Outcome = map[bool]ladder.Outcome{true: ladder.Proven, false: ladder.NotHelped}[ok]
	run.Proof = []ladder.Check{{What: r.Proof, OK: ok, Saw: "said by whoever did it"}}
	run.Took = time.Since(run.Began)
	s := service(a.c)
	climb, err := s.StartClimb(ctx, a.d.Number, client.ClimbStart{Host: hostName(), Rung: r.Number})
	if err != nil {
		return run, err
	}
	return run, reportEnd(ctx, s, climb.ID, run, nil)
}

// step asks what came of a step, and looks itself where facts tell.
func (a *ascent) step(s knowledge.Step) (ladder.Check, error) {
	for {
		ok, err := a.yes("   Right if: " + s.Shows + " Is it so?")
		if err != nil {
			return ladder.Check{}, err
		}
		if !ok {
			return ladder.Check{What: s.Do, Saw: "otherwise"}, nil
		}
		measured, err := a.measure(s)
		if err != nil {
			return ladder.Check{}, err
		}
		switch measured {
		case knowledge.Holds:
			a.p.line("     %s measured: it is so", a.p.good(markGood))
			return ladder.Check{What: s.Do, OK: true, Saw: "measured: it is so"}, nil
		case knowledge.NotMeasured:
			return ladder.Check{What: s.Do, OK: true, Saw: "as it should be, by the word of whoever did it"}, nil
		}
		a.p.line("     %s measured: it is not so yet", a.p.bad(markBroken))
		if again, err := a.yes("   Try it once more?"); err != nil || !again {
			return ladder.Check{What: s.Do, Saw: "measured: it is not so"}, err
		}
	}
}

// measure looks at the machine again, if it is at hand.
func (a *ascent) measure(s knowledge.Step) (knowledge.Measure, error) {
	live := a.c.Bool("live")
	if s.Seen == "" || !live && !a.c.IsSet("image") {
		return knowledge.NotMeasured, nil
	}
	look := host.GatherOptions{Live: live, SectorSize: a.c.Int("sector-size"), Platforms: platforms(), Now: time.Now()}
	if !live {
		look.Image = a.c.String("image")
	}
	l, err := host.Look(look)
	if err != nil {
		return knowledge.NotMeasured, fmt.Errorf("look at the machine again: %w", err)
	}
	l.Close()
	facts, err := l.Facts.AsMap()
	if err != nil {
		return knowledge.NotMeasured, err
	}
	return s.Measure(facts)
}

// owed shows loans of an earlier climb that nobody gave back, and offers to.
func (a *ascent) owed(ctx context.Context) error {
	if len(a.ledger.Owed()) == 0 || a.c.Bool("dry-run") {
		return nil
	}
	a.say("%s From an earlier climb, not given back:", a.p.bad(markBroken))
	return a.giveBack(ctx)
}

// giveBack asks for every loan. What is neither returned nor accepted stays
// owed, and is shown again.
func (a *ascent) giveBack(ctx context.Context) error {
	if a.c.Bool("dry-run") {
		return nil
	}
	owed := a.ledger.Owed()
	var order []int
	for i := range owed {
		order = append(order, i)
	}
	sort.Ints(order)
	for _, i := range order {
		l := owed[i]
		a.p.hang("  "+markOdd+" ", fmt.Sprintf("borrowed by rung %d: %s. %s", l.Rung, l.What, l.Back))
		if l.Action != "" {
			if err := a.putBack(ctx, i, l); err != nil {
				return err
			}
			continue
		}
		switch answer := a.ask("Given back? [y]es, [n]ot yet, or why it stays as it is:"); strings.ToLower(answer) {
		case "y", "yes":
			if err := a.ledger.Return(i, time.Now().UTC()); err != nil {
				return err
			}
		case "", "n", "no":
			a.p.line("  It stays on the ledger, and is asked for again.")
		default:
			if err := a.ledger.Accept(i, answer); err != nil {
				return err
			}
		}
	}
	return nil
}

// lend notes what an action is about to borrow.
func (a *ascent) lend(loans []ladder.Loan) error {
	for _, l := range loans {
		if err := a.ledger.Borrow(l); err != nil {
			return err
		}
	}
	return nil
}

// putBack gives a loan back by its action, once the attempt that it was
// borrowed for has been made.
func (a *ascent) putBack(ctx context.Context, i int, l ladder.Loan) error {
	if answer := strings.ToLower(a.ask("Make the attempt again now. Is it done, and shall it be given back? [y]es, [n]ot yet:")); answer != "y" && answer != "yes" {
		a.p.line("  It stays on the ledger: the next climb of this case gives it back.")
		return nil
	}
	path := host.Locate(a.c.String("image")).Device(l.Action)
	dev, err := host.OpenDisk(path, a.c.Int("sector-size"), false)
	if err != nil {
		return err
	}
	defer func() { _ = dev.Close() }()
	journal, err := journalPath(path, a.d.Machine)
	if err != nil {
		return err
	}
	o := ladder.Options{Machine: a.d.Machine, Case: a.d.Number, Path: absolute(path), Now: time.Now, Journal: func(h block.Head) (*block.Journal, error) { return block.CreateJournal(journal, h) }}
	if o.Bench, err = bench(a.c, a.d); err != nil {
		return err
	}
	run, err := ladder.GiveBack(ctx, l, dev, o)
	if err != nil {
		return err
	}
	for _, did := range run.Did {
		a.say("  %s given back: %s", a.p.good(markGood), did)
	}
	return a.ledger.Return(i, time.Now().UTC())
}

// ask reads one line; nothing when there is nobody to answer.
func (a *ascent) ask(question string) string {
	_, _ = fmt.Fprintf(a.p.w, "  %s ", question)
	if !a.in.Scan() {
		a.p.line("")
		return ""
	}
	return strings.TrimSpace(a.in.Text())
}

func (a *ascent) yes(question string) (bool, error) {
	switch answer := strings.ToLower(a.ask(question + " [y/n]")); answer {
	case "y", "yes":
		return true, nil
	case "n", "no":
		return false, nil
	default:
		return false, fmt.Errorf("%w: %q is neither y nor n; what was done so far is noted in the ledger", errBlocked, answer)
	}
}

func ladderCommand() *cli.Command {
	return &cli.Command{
		Name: "ladder", Usage: "show a case's ladder, what is borrowed, or print the sheet to take along", ArgsUsage: "NUMBER",
		Description: "With --sheet a Markdown file and a page to print are written: exact for this machine, for somebody without network.\n\nExamples:\n   diorthos ladder 1\n   diorthos ladder 1 --sheet .",
		Flags:       append(serviceFlags(), &cli.StringFlag{Name: "sheet", Usage: "write the sheet into `FOLDER`"}, &cli.StringFlag{Name: "image", Usage: "the image beside which the ledger of borrowed things lies"}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			d, err := fetchCase(ctx, c)
			if err != nil {
				return err
			}
			if d.Docket == nil {
				return fmt.Errorf("case %d has not been read yet", d.Number)
			}
			if folder := c.String("sheet"); folder != "" {
				return writeSheets(c, d, folder)
			}
			if done, err := put(c, d.Docket.ToDo); done {
				return err
			}
			p := newPage(c)
			showToDo(p, d)
			l, err := ladder.OpenLedger(ledgerPath(c, d.Machine), d.Number, d.Machine)
			if err != nil {
				return err
			}
			for _, loan := range l.Owed() {
				p.hang("  "+p.bad(markBroken)+" ", fmt.Sprintf("borrowed by rung %d and not given back: %s. %s", loan.Rung, loan.What, loan.Back))
			}
			if l.Restart > 0 {
				p.line("  %s rung %d owes a restart", p.bad(markBroken), l.Restart)
			}
			return nil
		},
	}
}

func writeSheets(c *cli.Command, d *client.CaseDetail, folder string) error {
	base := filepath.Join(folder, fmt.Sprintf("case-%d-%s", d.Number, d.Machine))
	sheet := sheetOf(d)
	var names []string
	for name, write := range map[string]func(*os.File) error{base + ".md": func(f *os.File) error { return sheet.Markdown(f) }, base + ".html": func(f *os.File) error { return sheet.HTML(f) }} {
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		if err := errors.Join(write(f), f.Sync(), f.Close()); err != nil {
			return err
		}
		names = append(names, name)
	}
	sort.Strings(names)
	if done, err := put(c, names); done {
		return err
	}
	p := newPage(c)
	for _, n := range names {
		p.line("%s %s", p.good(markGood), n)
	}
	return nil
}
