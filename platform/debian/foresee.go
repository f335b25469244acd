package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/system"
)

// RehearseUpdate does the update, or the upgrade to another release, with the system's own tools and
// sources on the draft. Nothing is cleared out of their way: what stops them here stops them there.
func (n *inner) RehearseUpdate(ctx context.Context, o system.UpdateWish) (seen *system.Foreseen, err error) {
	began := time.Now()
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, network: o.Network, say: o.Say, held: map[string]string{}}
		if w.say == nil {
			w.say = func(string) {}
		}
		f := &foreseeing{worker: w, seen: &system.Foreseen{Steps: []system.Step{}, Asked: []string{}, Rooms: []system.Room{}}}
		seen = f.seen
		return f.do(ctx, o)
	})
	if err != nil {
		return nil, err
	}
	seen.Took = time.Since(began)
	return seen, nil
}

// A foreseeing is a rehearsal that is going on.
type foreseeing struct {
	*worker
	seen    *system.Foreseen
	console strings.Builder
}

var errNoUpdates = errors.New(
	"nothing can be fetched: let it use the network (--network), or give the machine sources that lie on it",
)

func (f *foreseeing) do(ctx context.Context, o system.UpdateWish) error {
	release := o.Release
	before, err := f.free(ctx)
	if err != nil {
		return err
	}
	if len(o.Hold) > 0 {
		out, err := f.step(ctx, append([]string{"apt-mark", "hold"}, o.Hold...))
		if err != nil {
			return err
		}
		if out.Status != 0 {
			return fmt.Errorf("hold back %s: %s", strings.Join(o.Hold, ", "), lastWords(out.Text))
		}
	}
	if release != "" {
		if err := f.toRelease(release); err != nil {
			return err
		}
	}
	remote := f.remoteSources()
	if remote && !f.network && release != "" {
		return errNoUpdates
	}
	steps := [][]string{{"-s", "dist-upgrade"}, {"dist-upgrade"}}
	if release != "" { // the order that the release notes ask for
		steps = [][]string{{"-s", "full-upgrade"}, {"upgrade", "--without-new-pkgs"}, {"full-upgrade"}}
	}
	if f.network || !remote { // else with the lists and files that are there
		steps = append([][]string{{"update"}}, steps...)
	} else {
		f.seen.Stale = "its sources are reached over a network, which was not allowed: the lists are those that " +
			"lie on the machine"
	}
	for _, s := range steps {
		out, err := f.step(ctx, f.aptTold(s...))
		if err != nil {
			return err
		}
		if s[0] == "-s" && out.Status == 0 {
			f.seen.Plan = planOf(out.Text)
		}
		// apt calls lists that could not be fetched a success, and goes on with older ones
		notFetched := s[0] == "update" && listsNotFetched.MatchString(out.Text)
		if f.seen.Failed = out.Status != 0 || notFetched; f.seen.Failed {
			break
		}
	}
	for _, check := range restChecks {
		if f.seen.Failed {
			break
		}
		out, err := f.step(ctx, check)
		if err != nil {
			return err
		}
		f.seen.Failed = out.Status != 0 || check[0] == "dpkg" && strings.TrimSpace(out.Text) != ""
	}
	after, err := f.free(ctx)
	if err != nil {
		return err
	}
	for _, r := range before {
		i := slices.IndexFunc(after, func(a system.Room) bool { return a.Mount == r.Mount })
		if i >= 0 {
			f.seen.Rooms = append(f.seen.Rooms, system.Room{Mount: r.Mount, Before: r.Before, After: after[i].Before})
		}
	}
	f.seen.Console = f.console.String()
	return nil
}

// aptTold is apt as a person runs it, with the answers given beforehand that keep a person's own files.
func (f *foreseeing) aptTold(args ...string) []string {
	list := []string{"apt-get", "-y", "-q"}
	if args[0] != "update" && args[0] != "-s" {
		list = append(
			list,
			"-o",
			"Dpkg::Options::=--force-confdef",
			"-o",
			"Dpkg::Options::=--force-confold",
			"-o",
			"Dpkg::Use-Pty=0",
		)
		if !f.network && f.remoteSources() {
			list = append(list, "--no-download")
		}
	}
	return append(list, args...)
}

// step runs one program and keeps what a screen would show of it.
func (f *foreseeing) step(ctx context.Context, args []string) (system.Output, error) {
	out, err := f.run(ctx, args...)
	if err != nil {
		return out, err
	}
	host := strings.TrimSpace(readText(f.files(), "etc/hostname"))
	fmt.Fprintf(&f.console, "root@%s:~# %s\n%s\n", host, strings.Join(args, " "), strings.TrimRight(out.Text, "\n"))
	s := system.Step{Command: strings.Join(args, " "), Status: out.Status, Took: out.Took}
	if out.Status != 0 {
		s.Last = lastWords(out.Text)
	}
	f.seen.Steps = append(f.seen.Steps, s)
	for _, m := range askedAbout.FindAllStringSubmatch(out.Text, -1) {
		f.seen.Asked = append(f.seen.Asked, fmt.Sprintf("%s was changed here and by the package: yours is kept", m[1]))
	}
	return out, nil
}

// askedAbout is how dpkg begins its question about a configuration file.
var askedAbout = regexp.MustCompile(`(?m)^Configuration file '([^']+)'$`)

var listsNotFetched = regexp.MustCompile(`(?m)^(?:Err:|W: Failed to fetch|W: Some index files failed|W: .*signature)`)

var (
	planLine = regexp.MustCompile(`(?m)^(Inst|Remv) (\S+)( \[)?`)
	keptBack = regexp.MustCompile(`(?m)^The following packages have been kept back:\n((?:  .*\n)+)`)
)

// planOf reads what apt said that it would do.
func planOf(text string) system.UpdatePlan {
	p := system.UpdatePlan{Upgraded: []string{}, Added: []string{}, Removed: []string{}, Kept: []string{}}
	for _, m := range planLine.FindAllStringSubmatch(text, -1) {
		switch {
		case m[1] == "Remv":
			p.Removed = append(p.Removed, m[2])
		case m[3] != "":
			p.Upgraded = append(p.Upgraded, m[2])
		default:
			p.Added = append(p.Added, m[2])
		}
	}
	if m := keptBack.FindStringSubmatch(text); m != nil {
		p.Kept = strings.Fields(m[1])
	}
	return p
}

// free is what is free on each volume that the system has mounted.
func (f *foreseeing) free(ctx context.Context) (list []system.Room, err error) {
	out, err := f.run(
		ctx,
		"df",
		"-B1",
		"--output=target,avail",
		"-x",
		"tmpfs",
		"-x",
		"devtmpfs",
		"-x",
		"proc",
		"-x",
		"sysfs",
	)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(out.Text) {
		w := strings.Fields(line)
		if len(w) != 2 {
			continue
		}
		info, err := f.in.Files().Stat(strings.TrimPrefix(path.Clean("./"+w[0]), "/"))
		if err != nil || !info.IsDir() { // a file that is lent for the while
			continue
		}
		if n, err := strconv.ParseInt(w[1], 10, 64); err == nil {
			list = append(list, system.Room{Mount: w[0], Before: n})
		}
	}
	return list, nil
}

// sourceFiles are the files that name apt's sources.
func (w *worker) sourceFiles() (names []string) {
	names = append(names, "etc/apt/sources.list")
	for _, pattern := range []string{"etc/apt/sources.list.d/*.list", "etc/apt/sources.list.d/*.sources"} {
		found, _ := fs.Glob(w.files(), pattern) // the patterns are right
		names = append(names, found...)
	}
	return names
}

var remoteScheme = regexp.MustCompile(
	`(?m)^\s*(?:deb(?:-src)?\s+(?:\[[^\]]*\]\s+)?|URIs:\s*)(?:https?|ftp|ssh|rsh|tor|mirror)[+a-z]*:`,
)

// remoteSources reports whether any source is to be reached over a network.
func (w *worker) remoteSources() bool {
	return slices.ContainsFunc(
		w.sourceFiles(),
		func(name string) bool { return remoteScheme.MatchString(readText(w.files(), name)) },
	)
}

// toRelease has the sources name another release.
func (f *foreseeing) toRelease(release string) error {
	now := fields(readText(f.files(), "etc/os-release"))["VERSION_CODENAME"]
	if now == "" {
		return errors.New("the system does not say the code name of its release: the sources cannot be changed to another")
	}
	if release == now {
		return fmt.Errorf("%s is installed already", release)
	}
	word := regexp.MustCompile(`(^|[\s/])` + regexp.QuoteMeta(now) + `($|[\s/-])`)
	changed := 0
	for _, name := range f.sourceFiles() {
		text := readText(f.files(), name)
		fresh := word.ReplaceAllString(text, "${1}"+release+"${2}")
		if fresh == text {
			continue
		}
		if err := replace(f.in.Files(), path.Clean(name), []byte(fresh), 0o644); err != nil {
			return err
		}
		changed++
	}
	if changed == 0 {
		return fmt.Errorf("no source names %s: there is nothing to change to %s", now, release)
	}
	return nil
}
