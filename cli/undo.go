package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/tree"
	"diorthos/host"
)

func undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take back, byte for byte, what a journal notes", ArgsUsage: "JOURNAL",
		Description: "Refuses, before anything is written, if the disk is not the journal's or was changed since.\n" +
			"Exit status 1 then. With a token, the case's docket is told.\n" +
			"Of a journal that is damaged or cut short, --as-far-as-known brings back what can still be read\n" +
			"and says what cannot; that has a journal of its own.\n\n" +
			"Example:\n" +
			"   diorthos undo .demo/kestrel-office-3-20261123-081500.journal",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "image", Usage: "the disk, if it is not where it was"},
			&cli.StringFlag{Name: "root", Usage: "the `FOLDER` of the system's files, if it is not where it was"},
			&cli.BoolFlag{Name: "as-far-as-known", Usage: "bring back what a damaged journal still tells"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what the journal holds and change nothing"}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "JOURNAL")
			if err != nil {
				return err
			}
			if c.Bool("as-far-as-known") {
				return undoKnown(ctx, c, a[0])
			}
			j, err := block.OpenJournal(a[0])
			if err != nil {
				return damagedJournal(ctx, c, a[0], err)
			}
			defer func() { _ = j.Close() }()
			before := j.State()
			if !c.Bool("dry-run") {
				if err := undo(ctx, targetNamed(c), j); err != nil {
					return refusedUndo(c, err)
				}
			}
			told := errors.Join(noteUndone(j, a[0], before), tellUndone(ctx, c, j, before))
			if done, err := writeJSON(c, map[string]any{
				"head":    j.Head(),
				"was":     before,
				"is":      j.State(),
				"changes": j.Changes(),
			}); done {
				return errors.Join(err, told)
			}
			showUndo(newPage(c), j, before, c.Bool("dry-run"))
			return told
		},
	}
}

// targetNamed is where a person says that a journal's target lies; empty for where it lay.
func targetNamed(c *cli.Command) string { return cmp.Or(c.String("image"), c.String("root")) }

// showChanges lists what a journal is about: places of a disk, or files.
func showChanges(p *page, h block.Head, list []block.Write) {
	seen := ""
	for _, w := range list {
		if len(h.Files) == 0 {
			p.line("  %s at byte %d", w.What, w.Off)
			continue
		}
		what, _, _ := strings.Cut(w.What, " (") // a large file has several pieces
		if what != seen && what != tree.FolderTimes {
			p.line("  %s", what)
		}
		seen = what
	}
}

func undo(ctx context.Context, image string, j *block.Journal) (err error) {
	if j.State() == block.Undone {
		return nil
	}
	at := image
	if at == "" {
		at = j.Head().Target.Path
	}
	used, err := host.InUse(at)
	for _, u := range used {
		if err == nil && len(j.Head().Files) == 0 && u.Meets(j.Changes()) {
			return fmt.Errorf(
				"%s: bytes %d to %d are %s: what is taken back would be written behind the kernel's back; unmount it first",
				at, u.Off, u.Off+u.Length, u.Where,
			)
		}
	}
	dev, err := host.OpenTarget(j.Head(), image, false)
	if err != nil {
		return fmt.Errorf("%w; if it lies elsewhere now, give it with --image or --root", err)
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	return j.Undo(ctx, dev)
}

// noteUndone puts onto the machine's record, which lies beside the journal, that a
// rung was taken back. Where there is no record there is nothing to note.
func noteUndone(j *block.Journal, journal string, before block.State) (err error) {
	h := j.Head()
	if j.State() != block.Undone && j.State() != block.Recorded || before == block.Undone || h.Machine == "" {
		return nil
	}
	path := (&host.Machine{Name: h.Machine, Path: journal}).Record()
	if _, err := os.Stat(path); err != nil {
		return nil //nolint:nilerr // none
	}
	r, err := climb.OpenRecord(path, h.Machine)
	if err != nil {
		return fmt.Errorf("the disk is as it was, but the machine's record could not be told: %w", err)
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	return r.Note(climb.Entry{
		At:      time.Now().UTC(),
		Mark:    climb.MarkTakenBack,
		Case:    h.Case,
		Rung:    h.Number,
		Remedy:  h.Rung,
		Journal: absolute(journal),
	})
}

// tellUndone puts onto the docket of the journal's case that its rung was
// taken back. Without a token there is nobody to tell.
func tellUndone(ctx context.Context, c *cli.Command, j *block.Journal, before block.State) error {
	h := j.Head()
	if h.Case <= 0 || tokenOf(c) == "" || j.State() != block.Undone || before == block.Undone {
		return nil
	}
	s := service(c)
	started, err := s.StartClimb(ctx, h.Case, client.ClimbStart{Host: hostName(), Rung: h.Number})
	if err != nil {
		return fmt.Errorf("the disk is as it was, but the service could not be told: %w", err)
	}
	run := &climb.Run{
		Rung: h.Number, Remedy: h.Rung, Outcome: climb.TakenBack, Began: time.Now().UTC(),
		Guard: []action.Check{}, Planned: []climb.Planned{}, Proof: []action.Check{},
	}
	if _, err := s.ReportClimb(ctx, started.ID, client.ClimbReport{State: client.Ended, Run: run}); err != nil {
		return fmt.Errorf("the disk is as it was, but the service could not be told: %w", err)
	}
	return nil
}

func refusedUndo(c *cli.Command, err error) error {
	if errors.Is(err, block.ErrChangedSince) || errors.Is(err, block.ErrNotThisDisk) || errors.Is(err, block.ErrCutShort) {
		_, _ = fmt.Fprintln(c.Root().ErrWriter, "diorthos:", oneLine(err)+"; nothing was written")
		return errFound
	}
	return err
}

func showUndo(p *page, j *block.Journal, before block.State, dry bool) {
	h := j.Head()
	p.line("%s of %s, %s", p.strong(h.Action), h.Machine, when(h.Started))
	showChanges(p, h, j.Changes())
	switch {
	case before == block.Undone:
		p.line("%s it was taken back before", markNone)
	case before == block.Recorded && dry:
		p.line(
			"%s by what it notes, it was cut off before anything was written (dry run: the disk was not looked at)",
			markNone,
		)
	case before == block.Recorded:
		p.line(
			"%s it was cut off before anything was written, and the disk is as it notes it: nothing to take back",
			markNone,
		)
	case j.State() == block.Undone:
		what := "byte"
		if len(h.Files) > 0 {
			what = "file"
		}
		p.line("%s taken back: every %s is as it was", p.good(markGood), what)
	default:
		p.line("%s is %s; nothing was changed (dry run)", markNone, before)
	}
}
