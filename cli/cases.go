package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/bag"
)

func casesCommand() *cli.Command {
	return &cli.Command{
		Name: "cases", Usage: "list cases, the newest first",
		Description: "Example:\n   diorthos cases --machine kestrel",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "machine", Usage: "only machines with this in their name"},
			&cli.StringFlag{
				Name:  "state",
				Usage: "only cases that are received, reading, open, climbing, unreadable, healthy or closed",
			},
			&cli.Int64Flag{Name: "before", Usage: "only cases with a lower number"},
			&cli.IntFlag{Name: "limit", Usage: "cases on a page, 1 to 200", Value: 20}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			page, err := service(c).Cases(ctx, client.CaseQuery{
				Machine: c.String("machine"),
				State:   client.CaseState(c.String("state")),
				Before:  c.Int64("before"),
				Limit:   c.Int("limit"),
			})
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, page); done {
				return err
			}
			showCases(newPage(c), page)
			return nil
		},
	}
}

func showCases(p *page, list *client.CasePage) {
	if len(list.Cases) == 0 {
		p.line("No cases. Hand one in: diorthos gather …, then diorthos submit BAG")
		return
	}
	var rows [][]string
	for _, cs := range list.Cases {
		proven := ""
		if cs.Rungs > 0 {
			proven = fmt.Sprintf("%d of %d", cs.Proven, cs.Rungs)
		}
		rows = append(rows, []string{
			strconv.FormatInt(cs.Number, 10), cs.Machine, stateMark(cs.State), cs.Tried,
			text.Snip(cs.Headline+cs.Problem, 60, "…"), proven, when(cs.Received),
		})
	}
	p.table([]string{"case", "machine", "state", "tried", "likeliest cause", "proven", "received (UTC)"}, rows, 1)
	if list.Next > 0 {
		p.line("%s", p.faint(fmt.Sprintf("more: diorthos cases --before %d", list.Next)))
	}
}

func stateMark(state client.CaseState) string {
	marks := map[client.CaseState]string{
		client.Received:   "○",
		client.Reading:    "◔",
		client.Open:       "●",
		client.Climbing:   "◑",
		client.Unreadable: "✕",
		client.Healthy:    "·",
		client.Closed:     "✓",
	}
	return marks[state] + " " + string(state)
}

func caseCommand() *cli.Command {
	return &cli.Command{
		Name:      "case",
		Usage:     "print the docket of a case: what was tried, where it broke, why, what to do",
		ArgsUsage: "NUMBER",
		Description: "A case is closed by itself when what had failed succeeds, or the machine starts again, and opened\n" +
			"again when the same cause comes back.\n\n" +
			"Examples:\n" +
			"   diorthos case 1\n" +
			"   diorthos case 1 --close --note 'made room on /boot'\n" +
			"   diorthos case 1 --order 1\n" +
			"   diorthos case 1 --save-bag kestrel-office-3.tar.gz\n" +
			"   diorthos case 1 --remove-evidence",
		Flags: append(serviceFlags(),
			&cli.BoolFlag{Name: "close", Usage: "close it: it is done"},
			&cli.IntFlag{Name: "approve", Usage: "agree to `RUNG`, which disrupts or destroys; it counts for a day"},
			&cli.IntFlag{Name: "order", Usage: "have the agent of its machine take `RUNG`, and wait for how it ends"},
			&cli.IntFlag{Name: "take-back", Usage: "have the agent take back what it did of `RUNG`, and wait for how it ends"},
			&cli.BoolFlag{Name: "withdraw", Usage: "stop what was ordered, if the agent has not begun it"},
			&cli.BoolFlag{Name: "reopen", Usage: "open it again"},
			&cli.BoolFlag{Name: "read-again", Usage: "have it read once more, such as after a problem or with newer knowledge"},
			&cli.StringFlag{
				Name: "save-bag", Usage: "save its bag to a new `FILE`, to read here or to hand on", TakesFile: true,
			},
			&cli.BoolFlag{
				Name: "remove-evidence", Usage: "remove its bag from the service for good; the docket stays",
			},
			&cli.StringFlag{Name: "note", Usage: "with --close what helped, with --reopen why"}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.IsSet("save-bag") {
				return saveBag(ctx, c, c.String("save-bag"))
			}
			if c.IsSet("order") || c.IsSet("take-back") || c.Bool("withdraw") {
				return orderRung(ctx, c)
			}
			if err := changeCase(ctx, c); err != nil {
				return err
			}
			d, err := fetchCase(ctx, c)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, d); done {
				return err
			}
			showCase(newPage(c), d)
			return nil
		},
	}
}

// changeCase closes or reopens a case, if a flag asks for it.
func changeCase(ctx context.Context, c *cli.Command) error {
	if c.IsSet("approve") {
		number, err := caseNumber(c)
		if err != nil {
			return err
		}
		_, err = service(c).ApproveRung(ctx, number, c.Int("approve"))
		return err
	}
	switch {
	case c.Bool("read-again"):
		return readAgain(ctx, c)
	case c.Bool("remove-evidence"):
		return removeEvidence(ctx, c)
	}
	change := client.CaseChange{State: client.Closed, Note: c.String("note")}
	switch {
	case c.Bool("close") && c.Bool("reopen"):
		return usage(c, fmt.Errorf("--close and --reopen contradict each other"))
	case c.Bool("reopen"):
		change.State = client.Open
	case !c.Bool("close"):
		return nil
	}
	number, err := caseNumber(c)
	if err != nil {
		return err
	}
	_, err = service(c).ChangeCase(ctx, number, change)
	return err
}

// saveBag fetches the bag of a case to a file that is not there yet, and verifies it before it gets its name.
func saveBag(ctx context.Context, c *cli.Command, path string) error {
	number, err := caseNumber(c)
	if err != nil {
		return err
	}
	var info *bag.Info
	err = fetched(
		path,
		func(to io.Writer) error { return service(c).Bag(ctx, number, to) },
		func(from io.Reader) (err error) {
			info, err = bag.Read(ctx, from, bag.DefaultLimits, nil)
			return err
		},
	)
	if err != nil {
		return err
	}
	saved := struct {
		File    string `json:"file"`
		Bag     string `json:"bag"`
		Machine string `json:"machine"`
		Files   int    `json:"files"`
	}{path, info.Digest, info.Facts.Machine.Name, len(info.Files)}
	if done, err := writeJSON(c, saved); done {
		return err
	}
	newPage(c).line(
		"%s: the bag of case %d, of %s, with facts and %s; verified", path, number, saved.Machine,
		plural(saved.Files, "file", "files"),
	)
	return nil
}

// fetched saves a download to a file that is not there yet, which gets its name only once it is found whole.
func fetched(path string, fetch func(io.Writer) error, whole func(io.Reader) error) (err error) {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s is there already", path)
	}
	draft, err := os.OpenFile(path+".part", os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, draft.Close()); err != nil {
			_ = os.Remove(draft.Name())
		}
	}()
	if err := fetch(draft); err != nil {
		return err
	}
	if _, err := draft.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := whole(draft); err != nil {
		return fmt.Errorf("what was fetched is not whole: %w", err)
	}
	return errors.Join(draft.Sync(), os.Rename(draft.Name(), path))
}

// removeEvidence has the bag of a case removed.
func removeEvidence(ctx context.Context, c *cli.Command) error {
	number, err := caseNumber(c)
	if err != nil {
		return err
	}
	_, err = service(c).RemoveEvidence(ctx, number)
	return err
}

// readAgain has a case read once more, and waits for that.
func readAgain(ctx context.Context, c *cli.Command) error {
	number, err := caseNumber(c)
	if err != nil {
		return err
	}
	if _, err := service(c).ReadAgain(ctx, number); err != nil {
		return err
	}
	return service(c).Watch(ctx, number, func(c client.Case) bool {
		return c.State == client.Received || c.State == client.Reading
	})
}

// theCase is the case whose number is the command's only argument or, without one,
// that of the machine that --image names, read here.
func theCase(ctx context.Context, c *cli.Command) (*client.CaseDetail, error) {
	if !c.Args().Present() && (c.IsSet("image") || c.String("root") != "" || c.Bool("live")) {
		return diagnosed(ctx, c, false)
	}
	return fetchCase(ctx, c)
}

// fetchCase gets the case whose number is the command's only argument.
func fetchCase(ctx context.Context, c *cli.Command) (*client.CaseDetail, error) {
	number, err := caseNumber(c)
	if err != nil {
		return nil, err
	}
	return service(c).Case(ctx, number)
}

// numberOf reads the NUMBER of something that the service has.
func numberOf(c *cli.Command, text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usage(c, fmt.Errorf("NUMBER %q: want that of %s", text, what))
	}
	return n, nil
}

func caseNumber(c *cli.Command) (int64, error) {
	a, err := args(c, "NUMBER")
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(a[0], 10, 64)
	if err != nil || n < 1 {
		return 0, usage(c, fmt.Errorf("%q is not the number of a case", a[0]))
	}
	return n, nil
}

func showCase(p *page, d *client.CaseDetail) {
	title := d.Machine
	if d.Site != "" {
		title += ", " + d.Site
	}
	if d.Number > 0 {
		p.line("%s  %s  %s", p.strong(fmt.Sprintf("Case %d", d.Number)), p.strong(title), stateMark(d.State))
		p.line("%s", p.faint(fmt.Sprintf("received %s UTC from %s, bag %.12s", when(d.Received), d.By, d.Bag)))
		if d.Removed != nil {
			p.line(
				"%s",
				p.faint(fmt.Sprintf("the bag was removed from the service %s UTC; its logs cannot be shown", when(*d.Removed))),
			)
		}
	} else {
		p.line("%s  %s", p.strong(title), stateMark(d.State))
		p.line("%s", p.faint(fmt.Sprintf("gathered %s UTC, read here by %s, not handed in", when(d.Received), d.By)))
	}
	if d.Cohort != nil && d.Cohort.Machines > 1 {
		p.line("%s machines fail in this way: diorthos cohorts %d", strconv.Itoa(d.Cohort.Machines), d.Cohort.ID)
	}
	if d.Note != "" || d.State == client.Closed {
		p.hangingIndent("  ", strings.TrimSpace(fmt.Sprintf("%s %s", d.ClosedBy, d.Note)))
	}
	if d.Problem != "" {
		p.hangingIndent(p.bad(markBroken)+" ", d.Problem)
	}
	if d.Docket == nil {
		if d.State == client.Unreadable {
			p.para(0, "What the service kept of the bag cannot be read. Hand the same bag in again (diorthos submit): the "+
				"case is then read from the new copy. If that is not at hand, gather anew.")
		} else {
			p.line("It has not been read yet.")
		}
		return
	}
	showTried(p, d.Docket)
	showBroke(p, d.Docket)
	showSuspects(p, d.Docket)
	showWhy(p, d.Docket)
	showSettle(p, d.Docket)
	showFit(p, d.Docket)
	showToDo(p, d, false)
	showLooked(p, d.Docket)
	for _, disk := range d.Docket.Disks {
		p.head("Disk")
		showDisk(p, disk)
	}
	showClimbs(p, d.Climbs)
	showOrders(p, d)
}
