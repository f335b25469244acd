package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/client"
	"diorthos/core/block"
)

func submitCommand() *cli.Command {
	return &cli.Command{
		Name: "submit", Usage: "hand a bag in and wait for its docket", ArgsUsage: "BAG|OUTBOX",
		Description: "Prints the number of the case. The same bag handed in again gives the same case. Of an outbox,\n" +
			"which \"diorthos diagnose\" keeps beside the journals, every bag that was not handed in yet is, with\n" +
			"what was climbed on its docket.\n\n" +
			"Examples:\n" +
			"   diorthos submit kestrel.bag.tar.gz\n" +
			"   diorthos submit .demo/machines/gannet-crew-2/gannet-crew-2.outbox",
		Flags: append(serviceFlags(), &cli.BoolFlag{
			Name:  "no-wait",
			Usage: "do not wait until it has been read",
		}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "BAG")
			if err != nil {
				return err
			}
			if info, err := os.Stat(a[0]); err == nil && info.IsDir() {
				return submitOutbox(ctx, c, a[0])
			}
			accepted, err := submit(ctx, c, a[0])
			if err != nil {
				return err
			}
			last := accepted.Case
			if !c.Bool("no-wait") {
				if last, err = waitRead(ctx, c, accepted.Number); err != nil {
					return err
				}
			}
			if done, err := writeJSON(c, client.Accepted{
				Case: last, Again: accepted.Again, Joined: accepted.Joined,
			}); done {
				return unreadable(last, err)
			}
			showAccepted(newPage(c), last, accepted.Again)
			return unreadable(last, nil)
		},
	}
}

func unreadable(cs client.Case, err error) error {
	if err == nil && cs.State == client.Unreadable {
		return fmt.Errorf("case %d cannot be read: %s", cs.Number, cs.Problem)
	}
	return err
}

func showAccepted(p *page, cs client.Case, again bool) {
	word := "taken in as"
	if again {
		word = "was handed in before as"
	}
	p.line("%s %s %s %s", p.good(markGood), cs.Machine, word, p.strong(fmt.Sprintf("case %d", cs.Number)))
	if cs.Headline != "" {
		p.line("  %s", cs.Headline)
		p.line("  diorthos case %d", cs.Number)
	}
}

func submit(ctx context.Context, c *cli.Command, path string) (a *client.Accepted, err error) {
	f, err := block.OpenRegular(path, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	bar := newBar(c, "sending", info.Size())
	defer bar.clear()
	return service(c).Submit(ctx, io.TeeReader(f, bar), info.Size())
}

// waitRead shows how far the reading is until it has ended.
func waitRead(ctx context.Context, c *cli.Command, number int64) (last client.Case, err error) {
	bar := newBar(c, "waiting", -1)
	defer bar.clear()
	err = service(c).Watch(ctx, number, func(cs client.Case) bool {
		last = cs
		if cs.Progress != nil {
			bar.show(cs.Progress.Phase, cs.Progress.Done, cs.Progress.Total)
		}
		return cs.State == client.Received || cs.State == client.Reading
	})
	return last, err
}

// bar shows progress on a terminal, and nothing elsewhere.
type bar struct{ *progressbar.ProgressBar }

func newBar(c *cli.Command, what string, total int64) *bar {
	out := c.Root().ErrWriter
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		out = io.Discard
	}
	return &bar{progressbar.NewOptions64(
		total, progressbar.OptionSetWriter(out), progressbar.OptionSetDescription(what), progressbar.OptionShowBytes(true),
		progressbar.OptionSetWidth(30), progressbar.OptionThrottle(100*time.Millisecond),
		progressbar.OptionSetPredictTime(true), progressbar.OptionClearOnFinish(),
	)}
}

func (b *bar) show(what string, done, total int64) {
	b.Describe(strings.TrimSpace(what))
	if total > 0 {
		b.ChangeMax64(total)
		_ = b.Set64(min(done, total))
	}
}

func (b *bar) clear() { _ = b.Clear() }
