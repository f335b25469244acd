package debian

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/system"
)

var errNoRun = errors.New("apt's history tells of no run that could be taken back")

// RemoveLatest brings the packages of apt's last run to what they were before it: from the cache, from sources at
// hand or, where the network may be used, from the repositories. What the run brought is held back until it is
// released.
func (n *inner) RemoveLatest(ctx context.Context, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, (*worker).goBack)
}

// LatestRemoved says why the packages of the last run are not what they were before it.
func (n *inner) LatestRemoved(ctx context.Context) (saw string, err error) {
	last, ok := latestRun(n.fsys)
	if !ok {
		return "", errNoRun
	}
	installed := installedIn(n.fsys)
	if left := last.standing(installed); len(left) > 0 {
		return "", fmt.Errorf("%d packages are not as they were, such as %s", len(left), left[0].name)
	}
	saw = fmt.Sprintf("%d packages, as before %s", len(last.changes), last.when)
	if others := last.overtaken(installed); others > 0 {
		saw = fmt.Sprintf("%d of %d packages, as before %s; the others were changed once more since then",
			len(last.changes)-others, len(last.changes), last.when)
	}
	return saw, n.PackagesAtRest(ctx)
}

// overtaken counts the changes of a run whose packages are neither as before nor as it left them.
func (r run) overtaken(installed []bag.Package) (count int) {
	for _, c := range r.changes {
		if i := c.find(installed); i >= 0 && installed[i].State == "installed" && installed[i].Version != c.was &&
			installed[i].Version != c.now {
			count++
		}
	}
	return count
}

func (c packageChange) find(installed []bag.Package) int {
	return slices.IndexFunc(installed, func(p bag.Package) bool {
		return p.Name == c.name && (p.Architecture == c.architecture || p.Architecture == "all")
	})
}

// standing are the changes of a run that still stand. What was changed once more since then is not its own any more.
func (r run) standing(installed []bag.Package) (list []packageChange) {
	for _, c := range r.changes {
		i := c.find(installed)
		switch {
		case i < 0:
			if c.now == "" { // it was removed
				list = append(list, c)
			}
		case c.now == "" || installed[i].Version == c.was && installed[i].State == "installed":
		case installed[i].Version == c.now || installed[i].State != "installed":
			list = append(list, c)
		}
	}
	return list
}

func (w *worker) goBack(ctx context.Context) error {
	last, ok := latestRun(w.files())
	if !ok {
		return errNoRun
	}
	left := last.standing(installedIn(w.files()))
	if len(left) == 0 {
		return nil
	}
	var files, added []string
	var missing []string
	for _, c := range left {
		if c.was == "" {
			added = append(added, c.name+":"+c.architecture)
			continue
		}
		name, err := w.earlier(ctx, c)
		if err != nil {
			return err
		}
		if name == "" {
			missing = append(missing, fmt.Sprintf("%s %s for %s", c.name, c.was, c.architecture))
			continue
		}
		files = append(files, "/"+name)
	}
	if len(missing) > 0 {
		return fmt.Errorf("what was there before is not at hand: %s: give the package files with --source, or let the "+
			"repositories be asked with --network", firstFew(missing, 4))
	}
	const marks = "var/lib/apt/extended_states" // apt takes what it is told to install for what a person wants
	wanted, unmarked := w.in.Files().ReadFile(marks)
	if err := w.backByApt(ctx, files, added); err != nil {
		if ctx.Err() != nil {
			return err
		}
		if err := w.backByDpkg(ctx, files, added); err != nil {
			return err
		}
	}
	if unmarked == nil {
		if err := replace(w.in.Files(), marks, wanted, 0o644); err != nil {
			return err
		}
	}
	return w.tellBack(last, left)
}

// earlier finds the package file of what was there before, or brings it into apt's cache; empty where nobody has it.
func (w *worker) earlier(ctx context.Context, c packageChange) (string, error) {
	for _, architecture := range []string{c.architecture, "all"} {
		p := bag.Package{Name: c.name, Version: c.was, Architecture: architecture}
		name := cachedName(p)
		if wholePackage(w.files(), name) == nil {
			return name, nil
		}
		for _, s := range w.sources {
			src, ok := s.(packageSource)
			if !ok {
				continue
			}
			deb, err := src.openPackage(p)
			if err != nil {
				continue // the next may have it
			}
			if err := errors.Join(w.bring(deb, name), deb.Close()); err != nil {
				return "", err
			}
			return name, nil
		}
		if w.fetch(ctx, p) && wholePackage(w.files(), name) == nil {
			return name, nil
		}
	}
	return "", ctx.Err()
}

// bring copies a package file into the system.
func (w *worker) bring(deb *debFile, name string) error {
	if err := w.in.Files().MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := w.in.Files().OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(deb.copyTo(f), f.Close())
}

// backByApt lets apt do it in its order, if it would remove nothing else.
func (w *worker) backByApt(ctx context.Context, files, added []string) error {
	args := append([]string{"install", "--allow-downgrades", "--allow-change-held-packages"}, files...)
	for _, name := range added {
		args = append(args, name+"-")
	}
	plan, err := w.run(ctx, append([]string{"apt-get", "-s", "-q"}, args...)...)
	if err != nil {
		return err
	}
	if plan.Status != 0 {
		return errors.New(lastWords(plan.Text))
	}
	for _, m := range removes.FindAllStringSubmatch(plan.Text, -1) {
		name, _, _ := strings.Cut(m[1], ":")
		if !slices.ContainsFunc(added, func(a string) bool { return strings.HasPrefix(a, name+":") }) {
			return fmt.Errorf("apt would remove %s too, which that run did not bring", name)
		}
	}
	out, ok, err := w.attempt(ctx, w.apt(args...)...)
	if err == nil && !ok {
		err = errors.New(lastWords(out.Text))
	}
	return err
}

// backByDpkg puts all the files in place at once, where apt can work out no order: packages are between two states.
func (w *worker) backByDpkg(ctx context.Context, files, added []string) error {
	if len(added) > 0 {
		// What cannot be removed before the others are back is tried once more afterwards.
		if _, err := w.run(ctx, append([]string{"dpkg", "--force-remove-reinstreq", "--remove"}, added...)...); err != nil {
			return err
		}
	}
	if len(files) > 0 {
		args := append([]string{"dpkg", "--force-downgrade"}, confAnswers...)
		if _, _, err := w.attempt(ctx, append(append(args, "--install"), files...)...); err != nil {
			return err
		}
	}
	for _, name := range added {
		remove := func() (system.Output, error) {
			return w.run(ctx, "dpkg", "--force-remove-reinstreq", "--remove", name)
		}
		out, err := remove()
		if err == nil && out.Status != 0 {
			bare, _, _ := strings.Cut(name, ":")
			_, err = w.withoutScripts(ctx, bare, remove)
		}
		if err != nil {
			return err
		}
	}
	if _, _, err := w.attempt(ctx, append([]string{"dpkg", "--configure", "-a"}, confAnswers...)...); err != nil {
		return err
	}
	resting, why, err := w.atRest(ctx)
	if err == nil && !resting {
		err = fmt.Errorf("what the last run did cannot be taken back: %s", why)
	}
	return err
}

// tellBack says what is as before, and holds back what the run brought.
func (w *worker) tellBack(last run, left []packageChange) error {
	if still := last.standing(installedIn(w.files())); len(still) > 0 {
		return fmt.Errorf("%d packages could not be brought back, such as %s", len(still), still[0].name)
	}
	var back, removed, again, pins []string
	for _, c := range left {
		switch {
		case c.was == "":
			removed = append(removed, c.name)
		case c.now == "":
			again = append(again, c.name+" "+c.was)
		default:
			back = append(back, c.name+" "+c.was)
			pins = append(pins, c.name+"="+c.now)
		}
	}
	for _, said := range []struct {
		text string
		list []string
	}{
		{"back at the version before", back}, {"removed, which that run had added", removed},
		{"installed again, which that run had removed", again},
	} {
		if len(said.list) > 0 {
			w.did = append(w.did, fmt.Sprintf("%s: %s", said.text, firstFew(said.list, 8)))
		}
	}
	if len(pins) == 0 {
		return nil
	}
	held, err := heldIn(w.files())
	if err != nil {
		return err
	}
	for _, pin := range pins {
		if !slices.Contains(held, pin) {
			held = append(held, pin)
		}
	}
	w.did = append(w.did, fmt.Sprintf(
		"held back until \"diorthos upkeep release\" lets them be installed: %s", firstFew(pins, 8),
	))
	return putHeld(w.in.Files(), held)
}
