package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"diorthos/core/readfs"
	"diorthos/core/store"
	"diorthos/core/system"
)

// A worker runs the system's own tools inside it, and clears out of their way what stops them,
// as long as nobody but a person's own files is touched.
type worker struct {
	n       *inner
	in      system.Inside
	network bool
	sources []store.Source // where package files may come from besides
	say     func(string)   // told what is being run
	said    string         // where it failed
	did     []string
	held    map[string]string // what was moved aside, and to where
}

// confAnswers answer the question about a configuration file that both sides changed: the
// person's stays.
var confAnswers = []string{"--force-confdef", "--force-confold"}

// FinishPackages brings every package to rest: what was begun is completed, or, where that
// cannot be done, what the last run had added is taken back.
func (n *inner) FinishPackages(ctx context.Context, o system.ToolOptions) (did []string, err error) {
	return n.working(ctx, o, (*worker).finish)
}

// working enters the system and lets a worker do something; files that it changed are counted.
func (n *inner) working(
	ctx context.Context, o system.ToolOptions, f func(*worker, context.Context) error,
) (did []string, err error) {
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{
			n:       n,
			in:      in,
			network: o.Network,
			sources: o.Sources,
			say:     o.Say,
			said:    o.Said,
			held:    map[string]string{},
		}
		if w.say == nil {
			w.say = func(string) {}
		}
		if err := f(w, ctx); err != nil {
			return err
		}
		changed, err := in.Changed()
		if err != nil || len(changed) == 0 && len(w.did) == 0 {
			return err
		}
		did = append(append(w.did, summary(changed)), w.leftToDo(changed)...)
		return nil
	})
	return did, err
}

// unitFiles are folders in which the service manager finds what it runs.
var unitFiles = []string{"usr/lib/systemd/system/", "lib/systemd/system/", "etc/systemd/system/"}

// leftToDo says what a draft of files leaves to the machine itself.
func (w *worker) leftToDo(changed []system.Change) (list []string) {
	if w.n.tree == nil {
		return nil
	}
	if _, err := w.in.Files().Stat(system.MenuOwed); err == nil {
		list = append(list, "left to do on the machine itself: update-grub, since the loader's menu is made from its disks")
	}
	var units []string
	for _, c := range changed {
		for _, folder := range unitFiles {
			if name, ok := strings.CutPrefix(c.Path, folder); ok && !strings.Contains(name, "/") && c.How != system.FileRemoved {
				units = append(units, name)
			}
		}
	}
	if len(units) > 0 {
		list = append(list, "left to do if it is running: systemctl daemon-reload, then systemctl restart "+
			strings.Join(slices.Compact(units), " "))
	}
	return list
}

// summary says in a line which files differ.
func summary(list []system.Change) string {
	count := map[system.ChangeKind]int{}
	var names []string
	for _, c := range list {
		count[c.How]++
		if len(names) < 4 && !strings.HasPrefix(c.Path, "var/") {
			names = append(names, c.Path)
		}
	}
	text := fmt.Sprintf("%d files added, %d changed, %d removed",
		count[system.FileAdded], count[system.FileChanged], count[system.FileRemoved])
	if len(names) > 0 {
		text += ", such as " + strings.Join(names, ", ")
	}
	return text
}

// run runs one of the system's programs.
func (w *worker) run(ctx context.Context, args ...string) (system.Output, error) {
	w.say(strings.Join(args, " "))
	return w.in.Run(ctx, system.Command{Args: args, Network: w.network, Limit: longestTool})
}

// longestTool is how long one of the system's tools may run: a script that asks the same question
// for ever, with nobody to answer, would not end by itself.
const longestTool = 15 * time.Minute

// mostObstacles bounds how many things are cleared out of the way of one program.
const mostObstacles = 12

// attempt runs a program until it ends well or nothing more is found that stops it. ok is false
// where it still fails; out is what it printed last.
func (w *worker) attempt(ctx context.Context, args ...string) (out system.Output, ok bool, err error) {
	for range mostObstacles {
		out, err = w.run(ctx, args...)
		if err != nil || out.Status == 0 {
			return out, out.Status == 0, err
		}
		cleared, err := w.clear(ctx, out.Text)
		if err != nil || !cleared {
			return out, false, err
		}
	}
	return out, false, nil
}

// knowsPackages refuses a database that names none: its tools find nothing wrong with that.
func (w *worker) knowsPackages() error {
	if len(installedIn(w.files())) == 0 {
		return errors.New("the package database names no package: nothing can be said of any")
	}
	return nil
}

// PackagesAtRest asks the system's own tools, inside it.
func (n *inner) PackagesAtRest(ctx context.Context) error {
	return n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, say: func(string) {}}
		if err := w.knowsPackages(); err != nil {
			return err
		}
		tool, said, err := w.unrest(ctx)
		if err == nil && tool != nil {
			err = fmt.Errorf("%s: %s", strings.Join(tool, " "), lastWords(said))
		}
		return err
	})
}

// restChecks are how the tools say that nothing is left to do.
var restChecks = [][]string{{"dpkg", "--audit"}, {"apt-get", "check", "-q"}}

// unrest is the tool that says that something is left to do, and what it said; none where all is at rest.
func (w *worker) unrest(ctx context.Context) (tool []string, said string, err error) {
	for _, args := range restChecks {
		out, err := w.run(ctx, args...)
		if err != nil {
			return nil, "", err
		}
		if out.Status != 0 || args[0] == "dpkg" && strings.TrimSpace(out.Text) != "" {
			return args, out.Text, nil
		}
	}
	return nil, "", nil
}

func (w *worker) finish(ctx context.Context) error {
	if err := w.knowsPackages(); err != nil {
		return err
	}
	resting, _, err := w.atRest(ctx)
	if err != nil {
		return err
	}
	if resting { // then what stopped the attempt may still be in the way
		_, err := w.clearNamed(ctx, w.said)
		return err
	}
	out, ok, err := w.attempt(ctx, append([]string{"dpkg", "--configure", "-a"}, confAnswers...)...)
	if err != nil {
		return err
	}
	if ok {
		w.did = append(w.did, "dpkg --configure -a: every package that was unpacked is configured")
	}
	for _, step := range []func(context.Context) error{w.unpackAgain, w.meetDependencies, w.takeBack} {
		resting, _, err := w.atRest(ctx)
		if err != nil || resting {
			return err
		}
		if err := step(ctx); err != nil {
			return err
		}
	}
	why := ""
	resting, why, err = w.atRest(ctx)
	switch {
	case err != nil:
		return err
	case resting:
		return nil
	case !ok:
		return fmt.Errorf("what was begun can be neither completed nor taken back: %s", lastWords(out.Text))
	}
	return fmt.Errorf("packages are still not at rest: %s", why)
}

// atRest asks dpkg and apt whether anything is left to do.
func (w *worker) atRest(ctx context.Context) (ok bool, why string, err error) {
	tool, said, err := w.unrest(ctx)
	if err != nil || tool == nil {
		return tool == nil, "", err
	}
	if tool[0] == "apt-get" {
		if cleared, err := w.clear(ctx, said); err != nil || cleared {
			return false, "", errors.Join(err, ctx.Err())
		}
	}
	return false, lastWords(said), nil
}

// lastWords are the lines with which a program gave up.
func lastWords(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	var kept []string
	for _, line := range lines {
		line = strings.TrimSpace(line)
		if strings.Contains(strings.ToLower(line), "error") || strings.HasPrefix(line, "E: ") {
			kept = append(kept, line)
		}
	}
	if len(kept) == 0 {
		kept = lines
	}
	return firstFew(kept[max(0, len(kept)-3):], 3)
}

// unpackAgain installs packages anew of which the files are not all there.
func (w *worker) unpackAgain(ctx context.Context) error {
	for _, p := range installedIn(w.files()) {
		if p.State != "half-installed" && !w.reinstall(p.Name) {
			continue
		}
		if from := w.packageFile(p.Name, p.Version); from != "" {
			out, ok, err := w.attempt(ctx, append([]string{"dpkg", "--unpack"}, append(confAnswers, "/"+from)...)...)
			if err != nil {
				return err
			}
			if ok {
				w.did = append(w.did, fmt.Sprintf("%s is unpacked anew from %s", p.Name, from))
				continue
			}
			_ = out
		}
		if !w.network {
			continue
		}
		_, ok, err := w.attempt(ctx, w.apt("install", "--reinstall", p.Name)...)
		if err != nil {
			return err
		}
		if ok {
			w.did = append(w.did, p.Name+" is fetched and installed anew")
		}
	}
	_, _, err := w.attempt(ctx, append([]string{"dpkg", "--configure", "-a"}, confAnswers...)...)
	return err
}

// reinstall reports whether the database says that a package has to be installed anew.
func (w *worker) reinstall(name string) bool {
	for _, s := range stanzas([]byte(readAll(w.in.Files(), statusFile))) {
		if strings.SplitN(s.name, ":", 2)[0] == name {
			return strings.Contains(string(s.raw), "\nStatus: install reinstreq ")
		}
	}
	return false
}

func readAll(files *os.Root, name string) string {
	raw, _ := files.ReadFile(name)
	return string(raw)
}

// files reads the system from inside.
func (w *worker) files() fs.FS { return readfs.Within(w.in.Files()) }

// packageFile finds a package file in apt's cache; of any version where none is named.
func (w *worker) packageFile(name, version string) string {
	entries, _ := fs.ReadDir(w.files(), cacheFolder)
	for _, e := range entries {
		parts := strings.Split(strings.TrimSuffix(e.Name(), ".deb"), "_")
		if len(parts) == 3 && parts[0] == name && (version == "" || strings.ReplaceAll(parts[1], "%3a", ":") == version) {
			return path.Join(cacheFolder, e.Name())
		}
	}
	return ""
}

// apt is a command of apt-get that asks nothing.
func (w *worker) apt(args ...string) []string {
	list := []string{
		"apt-get", "-y", "-q", "-o", "Dpkg::Options::=--force-confdef", "-o", "Dpkg::Options::=--force-confold",
		"-o", "Dpkg::Use-Pty=0", "-o", mends + "=true", // in apt's own history: this was no person's
	}
	if !w.network {
		list = append(list, "--no-download")
	}
	return append(list, args...)
}

var removes = regexp.MustCompile(`(?m)^Remv (\S+)`)

// meetDependencies lets apt add what is missing, or take away what cannot be kept: nothing that
// was at rest.
func (w *worker) meetDependencies(ctx context.Context) error {
	plan, ok, err := w.attempt(ctx, "apt-get", "-s", "-f", "install")
	if err != nil || !ok {
		return err
	}
	for _, m := range removes.FindAllStringSubmatch(plan.Text, -1) {
		for _, p := range installedIn(w.files()) {
			if p.Name == strings.SplitN(m[1], ":", 2)[0] && p.State == "installed" && w.satisfied(ctx, p.Name) {
				return fmt.Errorf("apt would remove %s, which works: a person has to decide", m[1])
			}
		}
	}
	_, ok, err = w.attempt(ctx, w.apt("-f", "install")...)
	if ok {
		w.did = append(w.did, "apt-get -f install: what depends on each other fits")
	}
	return err
}

// satisfied reports whether all that an installed package needs is there.
func (w *worker) satisfied(ctx context.Context, name string) bool {
	out, err := w.run(ctx, "apt-get", "check", "-q")
	return err == nil && !strings.Contains(out.Text, " "+name+" : ")
}

var (
	failedPackage = regexp.MustCompile(`(?m)^dpkg: error processing (?:package|archive) (\S+?)(?::\S+)? \(`)
	installLine   = regexp.MustCompile(`(?m)^\S+ \S+ (install|upgrade) (\S+?):\S+ (\S+) (\S+)$`)
)

// takeBack brings packages that cannot be configured to what was there before the run: the
// earlier version, or nothing.
func (w *worker) takeBack(ctx context.Context) error {
	out, err := w.run(ctx, append([]string{"dpkg", "--configure", "-a"}, confAnswers...)...)
	if err != nil {
		return err
	}
	log := readAll(w.in.Files(), "var/log/dpkg.log")
	var names []string
	for _, m := range failedPackage.FindAllStringSubmatch(out.Text, -1) {
		names = append(names, m[1])
	}
	for _, p := range installedIn(w.files()) {
		if p.State == "half-installed" && !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
		}
	}
	for _, name := range slices.Backward(names) { // what needs another is told after it
		what, old := "", ""
		for _, l := range installLine.FindAllStringSubmatch(log, -1) {
			if l[2] == name {
				what, old = l[1], l[3]
			}
		}
		if what == "upgrade" && old != "<none>" {
			if from := w.packageFile(name, old); from != "" {
				if r, err := w.run(ctx, "dpkg", "-i", "--force-downgrade", "/"+from); err != nil || r.Status == 0 {
					w.did = append(w.did, fmt.Sprintf("%s is back at version %s", name, old))
					if err != nil {
						return err
					}
				}
			}
			continue
		}
		if what != "install" {
			continue
		}
		remove := func() (system.Output, error) {
			return w.run(ctx, "dpkg", "--force-remove-reinstreq", "--remove", name)
		}
		r, err := remove()
		if err != nil {
			return err
		}
		if r.Status != 0 { // its own script for the removal fails too
			if r, err = w.withoutScripts(ctx, name, remove); err != nil {
				return err
			}
		}
		if r.Status == 0 {
			w.did = append(w.did, name+", which the last run had added and which cannot be configured, is removed again")
		}
	}
	return nil
}

// withoutScripts does something while a package's scripts for its removal are out of the way.
func (w *worker) withoutScripts(
	_ context.Context,
	name string,
	do func() (system.Output, error),
) (system.Output, error) {
	files := w.in.Files()
	for _, s := range []string{"prerm", "postrm"} {
		at := fmt.Sprintf("%s/%s.%s", infoFolder, name, s)
		if _, err := files.Lstat(at); err == nil {
			if _, err := w.n.moveAside(files, at); err != nil {
				return system.Output{}, err
			}
		}
	}
	return do()
}
