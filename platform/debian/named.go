package debian

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/system"
)

// ClearWay puts right what is named where it was said why the attempt failed, and completes what was begun.
func (n *inner) ClearWay(ctx context.Context, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error {
		cleared := 0
		for text := w.said; cleared < mostObstacles; cleared++ {
			more, err := w.clearNamed(ctx, text)
			for i := 0; i < len(restChecks) && !more && err == nil; i++ { // what they say now, the docket may not quote
				var out system.Output
				if out, err = w.run(ctx, restChecks[i]...); err == nil && out.Status != 0 {
					more, err = w.clearNamed(ctx, out.Text)
				}
			}
			if err != nil {
				return err
			}
			if !more {
				break
			}
		}
		if cleared == 0 {
			return nil
		}
		out, ok, err := w.attempt(ctx, append([]string{"dpkg", "--configure", "-a"}, confAnswers...)...)
		if err == nil && !ok {
			err = fmt.Errorf("dpkg --configure -a: %s", lastWords(out.Text))
		}
		return err
	})
}

// holdDownload moves a package file out of apt's cache that the text names and that cannot be read to its end: the next
// run fetches it anew. So it does with apt's own index of what it has read.
func (w *worker) holdDownload(_ context.Context, text string) (string, error) {
	if indexBroken.MatchString(text) {
		for _, name := range (Adapter{}).MadeAnew() {
			if there(w.files(), name) {
				return "/" + name + " is out of the way: it is made anew", w.in.Files().Remove(name)
			}
		}
	}
	for _, name := range w.named(text) {
		if path.Dir(name) != cacheFolder || path.Ext(name) != ".deb" {
			continue
		}
		if err := readToItsEnd(w.in.Files(), name); err != nil {
			return w.hold(name, "it is damaged, and is fetched anew: "+err.Error())
		}
	}
	return "", nil
}

// indexBroken is how apt says that it cannot use the index that it has made.
var indexBroken = regexp.MustCompile(`[Tt]he package cache file is (?:corrupted|an incompatible)|` +
	`The package cache was built for a different|[Uu]nable to (?:read|parse) the (?:package )?cache`)

// readToItsEnd reads all that a package file holds.
func readToItsEnd(files *os.Root, name string) error {
	f, err := files.Open(name)
	if err != nil {
		return err
	}
	deb, err := openDeb(name, f)
	if err != nil {
		return err
	}
	for _, part := range []string{"control", "data"} {
		if e := deb.each(part, func(_ *tar.Header, r io.Reader) (bool, error) {
			_, err := io.Copy(io.Discard, r)
			return true, err
		}); e != nil {
			err = errors.Join(err, e)
		}
	}
	return errors.Join(err, deb.Close())
}

// aptOption is the name of one of apt's options (apt.conf(5)).
var aptOption = regexp.MustCompile(`\b(?:APT|Apt|Acquire|Dir|DPkg|Dpkg)(?:::[A-Za-z0-9-]+)+`)

// holdOption moves a file of apt's configuration aside that sets an option which apt names where it gives up, if the file
// is a person's.
func (w *worker) holdOption(_ context.Context, text string) (string, error) {
	for _, option := range aptOption.FindAllString(text, -1) {
		last := option[strings.LastIndex(option, ":")+1:]
		sets := regexp.MustCompile(`(?mi)^[^#\n]*\b` + regexp.QuoteMeta(last) + `\b[^\n]*;`)
		for _, folder := range []string{"etc/apt/apt.conf.d/*", "etc/apt/apt.conf"} {
			names, _ := fs.Glob(w.files(), folder) // the patterns are right
			for _, name := range names {
				if !w.isLocal(name) || w.owned(name) {
					continue
				}
				set := readAll(w.in.Files(), name)
				if sets.MatchString(set) && strings.Contains(set, strings.SplitN(option, ":", 2)[0]) {
					return w.hold(name, "it sets "+option+", at which apt gives up")
				}
			}
		}
	}
	return "", nil
}

var maskedUnit = regexp.MustCompile(`[Uu]nit ([A-Za-z0-9@_.:-]+\.[a-z]+) (?:file )?is masked`)

// unmaskNamed lets a service start again that the text calls masked (systemctl(1), mask).
func (w *worker) unmaskNamed(_ context.Context, text string) (string, error) {
	for _, m := range maskedUnit.FindAllStringSubmatch(text, -1) {
		name := "etc/systemd/system/" + m[1]
		if to, err := w.in.Files().Readlink(name); err != nil || to != "/dev/null" {
			continue
		}
		return w.hold(name, "it keeps the service from starting, which the package has to start")
	}
	return "", nil
}

// missingAccount is how programs say that nobody is called so.
var missingAccount = regexp.MustCompile(
	`(?:[Ii]nvalid (?:user|group|spec)|[Uu]nknown (?:user|group)|[Nn]o such (?:user|group))[: ]+[‘'"]?` +
		`([a-z_][a-z0-9_-]{0,31})(?:[:.]([a-z_][a-z0-9_-]{0,31}))?[’'"]?|` +
		`(?:[Uu]ser|[Gg]roup|[Aa]ccount) [‘'"]?([a-z_][a-z0-9_-]{0,31})[’'"]? (?:does not exist|not found|is unknown)`,
)

// makeAccounts makes accounts again that the text misses and that every system of the family has, with the numbers that
// they always have (base-passwd, /usr/share/base-passwd); others by what packages say of theirs (sysusers.d(5)).
func (w *worker) makeAccounts(ctx context.Context, text string) (string, error) {
	var missing []string
	for _, m := range missingAccount.FindAllStringSubmatch(text, -1) {
		for _, name := range m[1:] {
			if name != "" && !slices.Contains(missing, name) {
				missing = append(missing, name)
			}
		}
	}
	for _, name := range missing {
		made := false
		for _, list := range []string{"group", "passwd"} {
			ok, err := w.fromMaster(list, name)
			if err != nil {
				return "", err
			}
			made = made || ok
		}
		if made {
			return "the account " + name + " is there again, as every system of this kind has it", nil
		}
		if w.sysusersKnow(name) && w.held["account "+name] == "" {
			w.held["account "+name] = "tried"
			out, err := w.run(ctx, "systemd-sysusers")
			if err != nil {
				return "", err
			}
			if out.Status == 0 && accountLine(readAll(w.in.Files(), "etc/passwd"), name) != "" {
				return "the account " + name + " is there again, as its package says", nil
			}
		}
	}
	return "", nil
}

// accountLine is the line of an account in a list of them.
func accountLine(text, name string) string {
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, name+":") {
			return strings.TrimSuffix(line, "\n")
		}
	}
	return ""
}

// fromMaster adds an account to a list from what every system has, unless its number is another's.
func (w *worker) fromMaster(list, name string) (bool, error) {
	master := accountLine(readAll(w.in.Files(), "usr/share/base-passwd/"+list+".master"), name)
	text := readAll(w.in.Files(), "etc/"+list)
	fields := strings.Split(master, ":")
	if master == "" || len(fields) < 4 || text == "" || accountLine(text, name) != "" {
		return false, nil
	}
	for line := range strings.Lines(text) {
		if of := strings.Split(line, ":"); len(of) > 2 && of[2] == fields[2] {
			return false, nil
		}
	}
	fields[1] = "x" // the lists of passwords have what the master list says: nobody signs in by it
	if list == "passwd" {
		shadow := readAll(w.in.Files(), "etc/shadow")
		if shadow != "" && accountLine(shadow, name) == "" {
			line := name + ":*:19000:0:99999:7:::\n"
			if err := replace(w.in.Files(), "etc/shadow", []byte(ended(shadow)+line), 0o640); err != nil {
				return false, err
			}
		}
	}
	return true, replace(w.in.Files(), "etc/"+list, []byte(ended(text)+strings.Join(fields, ":")+"\n"), 0o644)
}

// ended is a text whose last line is ended.
func ended(text string) string {
	if strings.HasSuffix(text, "\n") {
		return text
	}
	return text + "\n"
}

// sysusersKnow reports whether a package says how an account is to be made.
func (w *worker) sysusersKnow(name string) bool {
	line := regexp.MustCompile(fmt.Sprintf(`(?m)^[ug]!?\s+%s\s`, regexp.QuoteMeta(name)))
	names, _ := fs.Glob(w.files(), "usr/lib/sysusers.d/*.conf") // the pattern is right
	return slices.ContainsFunc(names, func(file string) bool { return line.MatchString(readAll(w.in.Files(), file)) })
}
