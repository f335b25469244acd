package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"diorthos/core/system"
)

var errNoNetwork = errors.New(
	"its sources are reached over a network: let its own tools use it with --network",
)

// ListsAnew moves the lists of packages aside, with what was fetched in part, and has the system's own tools
// fetch them anew.
func (n *inner) ListsAnew(ctx context.Context, o system.ListOptions) ([]string, error) {
	return n.working(ctx, o.ToolOptions, func(w *worker, ctx context.Context) error {
		if !w.network && w.remoteSources() {
			return errNoNetwork
		}
		aside := 0
		for _, folder := range []string{listsFolder, listsFolder + "/partial", cacheFolder + "/partial"} {
			entries, err := fs.ReadDir(w.files(), folder)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			for _, e := range entries {
				if e.IsDir() || e.Name() == "lock" {
					continue
				}
				if _, err := n.moveAside(w.in.Files(), path.Join(folder, e.Name())); err != nil {
					return err
				}
				aside++
			}
		}
		if aside > 0 {
			w.did = append(w.did, fmt.Sprintf("%d lists and parts of files are moved aside", aside))
		}
		args := []string{"apt-get", "update", "-q"}
		if o.AcceptChange {
			args = append(args, "--allow-releaseinfo-change")
		}
		out, err := w.run(ctx, args...)
		if err != nil {
			return err
		}
		if out.Status != 0 || listsNotFetched.MatchString(out.Text) {
			return fmt.Errorf("%s: %s", strings.Join(args, " "), lastWords(out.Text))
		}
		w.did = append(w.did, strings.Join(args, " ")+": every list is fetched")
		return nil
	})
}

// ListsSound asks the system's own tools whether they can work with the lists that are there.
func (n *inner) ListsSound(ctx context.Context) error {
	return n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, say: func(string) {}}
		out, err := w.run(ctx, "apt-cache", "dump")
		if err != nil {
			return err
		}
		if out.Status != 0 {
			return fmt.Errorf("apt-cache: %s", lastWords(out.Text))
		}
		return nil
	})
}
