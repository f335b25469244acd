package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/block"
	"diorthos/host"
)

// damagedJournal says of a journal that cannot be trusted what can still be read of it,
// and what undoing that would do. Nothing is written.
func damagedJournal(ctx context.Context, c *cli.Command, path string, err error) error {
	if !errors.Is(err, block.ErrDamaged) {
		return err
	}
	r, salvaged := block.Salvage(path)
	if salvaged != nil { // nothing of it can be read
		return fmt.Errorf("%w; nothing was written", err)
	}
	_, _ = fmt.Fprintln(c.Root().ErrWriter, "diorthos:", oneLine(err)+"; nothing was written")
	defer func() { _ = r.Close() }()
	dev, opened := host.OpenTarget(r.Head(), targetNamed(c), true)
	if opened != nil {
		return errFound
	}
	defer func() { _ = dev.Close() }()
	if list, strange, asked := r.Back(ctx, dev); asked == nil {
		_, _ = fmt.Fprintf(
			c.Root().ErrWriter,
			"%s can be read of it; --as-far-as-known would bring back %s, leave %d that hold something else "+
				"now, and can say nothing of at least %s\n",
			plural(r.Known(), "change", "changes"),
			plural(len(list), "place", "places"),
			strange,
			plural(r.Lost(), "change", "changes"),
		)
	}
	return errFound
}

// undoKnown brings back what a damaged journal still tells, by a journal of its own.
func undoKnown(ctx context.Context, c *cli.Command, path string) (err error) {
	r, err := block.Salvage(path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	dev, err := host.OpenTarget(r.Head(), targetNamed(c), c.Bool("dry-run"))
	if err != nil {
		return fmt.Errorf("%w; if it lies elsewhere now, give it with --image or --root", err)
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	list, strange, err := r.Back(ctx, dev)
	if err != nil {
		return refusedUndo(c, err)
	}
	own := ""
	if len(list) > 0 && !c.Bool("dry-run") {
		own = fmt.Sprintf("%s.back-%s.journal", path, time.Now().UTC().Format("20060102-150405"))
		if err := bringBack(ctx, dev, r.Head(), list, own); err != nil {
			return err
		}
	}
	if done, err := writeJSON(c, map[string]any{
		"head": r.Head(), "known": r.Known(), "lost": r.Lost(), "broughtBack": len(list), "strange": strange, "journal": own,
	}); done {
		return errors.Join(err, incomplete(r, strange))
	}
	p := newPage(c)
	h := r.Head()
	p.line("%s of %s, %s", p.strong(h.Action), h.Machine, when(h.Started))
	showChanges(p, h, list)
	switch {
	case own == "" && len(list) > 0:
		p.line("%s %s would be brought back; nothing was changed (dry run)", markNone, plural(len(list), "place", "places"))
	case len(list) == 0:
		p.line("%s all that can be read of it is on the disk as it was before; nothing was changed", markNone)
	default:
		p.line("%s %s brought back; undo that with: diorthos undo %s", markOdd, plural(len(list), "place", "places"), own)
	}
	if strange > 0 {
		p.line(
			"%s %s left as they are: they hold something that the journal does not know",
			markOdd,
			plural(strange, "place", "places"),
		)
	}
	if r.Lost() > 0 {
		p.line("%s at least %s that it noted cannot be read: those are still so. Check the disk.", p.bad(markBroken),
			plural(r.Lost(), "change", "changes"))
	}
	return incomplete(r, strange)
}

// incomplete is an error unless all that the journal noted is as it was.
func incomplete(r *block.Remains, strange int) error {
	if strange > 0 || r.Lost() > 0 {
		return errFound
	}
	return nil
}

func bringBack(ctx context.Context, dev block.Device, h block.Head, list []block.Write, own string) (err error) {
	h.Action, h.Keeps, h.Started = "undo, as far as known, of "+h.Action, false, time.Now().UTC()
	j, err := block.CreateJournal(own, h)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	return j.Apply(ctx, dev, list)
}
