package debian

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/system"
)

// UpgradePackages brings all packages to what the sources offer, those too that others have to come or go for. What a
// person asked for is not removed.
func (n *inner) UpgradePackages(ctx context.Context, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, (*worker).upgrade)
}

func (w *worker) upgrade(ctx context.Context) error {
	if !w.network && w.remoteSources() {
		return errNoNetwork
	}
	if err := w.finish(ctx); err != nil {
		return err
	}
	out, ok, err := w.attempt(ctx, "apt-get", "update", "-q")
	if err != nil {
		return err
	}
	if !ok || listsNotFetched.MatchString(out.Text) {
		return fmt.Errorf("apt-get update: %s", lastWords(out.Text))
	}
	plan, ok, err := w.attempt(ctx, "apt-get", "-s", "-q", "dist-upgrade")
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("apt-get -s dist-upgrade: %s", lastWords(plan.Text))
	}
	automatic := w.automatic()
	for _, m := range removes.FindAllStringSubmatch(plan.Text, -1) {
		if name, _, _ := strings.Cut(m[1], ":"); !slices.Contains(automatic, name) {
			return fmt.Errorf("apt would remove %s, which somebody asked for: a person has to decide", name)
		}
	}
	if !strings.Contains(plan.Text, "\nInst ") && !strings.HasPrefix(plan.Text, "Inst ") {
		return errors.New("every package is as new as the sources have it")
	}
	out, ok, err = w.attempt(
		ctx,
		slices.DeleteFunc(w.apt("dist-upgrade"), func(a string) bool { return a == "--no-download" })...)
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("apt-get dist-upgrade: %s", lastWords(out.Text))
	}
	p := planOf(plan.Text)
	w.did = append(w.did, fmt.Sprintf("%d packages are upgraded, %d come with them, %d go", len(p.Upgraded), len(p.Added),
		len(p.Removed)))
	return nil
}

var automaticStanza = regexp.MustCompile(`(?m)^Package: (\S+)\n(?:[A-Z][^\n]*\n)*?Auto-Installed: 1$`)

// automatic are packages that came because others needed them.
func (w *worker) automatic() (names []string) {
	for _, m := range automaticStanza.FindAllStringSubmatch(readAll(w.in.Files(), "var/lib/apt/extended_states"), -1) {
		names = append(names, m[1])
	}
	return names
}

// AllNew says what the sources still have that is newer.
func (n *inner) AllNew(ctx context.Context) error {
	return n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, say: func(string) {}}
		out, err := w.run(ctx, "apt-get", "-s", "-q", "dist-upgrade")
		if err != nil {
			return err
		}
		if p := planOf(out.Text); out.Status != 0 || len(p.Upgraded)+len(p.Added)+len(p.Removed) > 0 {
			return fmt.Errorf("apt-get -s dist-upgrade: %d packages are still to be upgraded", len(p.Upgraded))
		}
		return nil
	})
}
