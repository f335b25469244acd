package debian

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/system"
)

// heldFile is where what is held back stands, in apt's own words (apt_preferences(5)).
const heldFile = "etc/apt/preferences.d/diorthos-held"

const heldHead = "Explanation: held back by Diorthos: "

var (
	heldRelease = regexp.MustCompile(`^release ([a-z][a-z0-9-]{0,40})$`)
	heldPackage = regexp.MustCompile(`^([a-z0-9][a-z0-9+.-]{0,100})(?:=([0-9A-Za-z.+:~-]{1,100}))?$`)
)

// ErrNotHoldable means that it cannot be told what is to be held back.
var ErrNotHoldable = errors.New(
	"want PACKAGE, PACKAGE=VERSION, or \"release CODENAME\" for a system of the Debian family",
)

// pinOf is the record of apt's preferences that keeps something from being installed.
func pinOf(what string) (string, error) {
	pin := "Package: %s\nPin: %s\nPin-Priority: -1\n"
	if m := heldRelease.FindStringSubmatch(what); m != nil {
		return heldHead + what + "\n" + fmt.Sprintf(pin, "*", "release n="+m[1]), nil
	}
	if m := heldPackage.FindStringSubmatch(what); m != nil {
		version := "version *"
		if m[2] != "" {
			version = "version " + m[2]
		}
		return heldHead + what + "\n" + fmt.Sprintf(pin, m[1], version), nil
	}
	return "", fmt.Errorf("hold back %q: %w", what, ErrNotHoldable)
}

// Held lists what is held back.
func (n *inner) Held() (list []string, err error) { return heldIn(n.fsys) }

func heldIn(root fs.FS) (list []string, err error) {
	text, err := fs.ReadFile(root, heldFile)
	if errors.Is(err, fs.ErrNotExist) {
		return []string{}, nil
	}
	for _, line := range strings.Split(string(text), "\n") {
		if what, ok := strings.CutPrefix(line, heldHead); ok {
			list = append(list, what)
		}
	}
	return list, err
}

// Knows reports whether a package of that name is installed or on the lists, or whether lists of that release are here.
func (n *inner) Knows(what string) bool {
	if m := heldRelease.FindStringSubmatch(what); m != nil {
		names, _ := fs.Glob(n.fsys, listsFolder+"/*_dists_"+m[1]+"[_-]*") // the pattern is right
		return len(names) > 0
	}
	m := heldPackage.FindStringSubmatch(what)
	if m == nil {
		return false
	}
	if slices.ContainsFunc(installedIn(n.fsys), func(p bag.Package) bool { return p.Name == m[1] }) {
		return true
	}
	names, _ := fs.Glob(n.fsys, listsFolder+"/*_Packages") // the pattern is right
	record := []byte("\nPackage: " + m[1] + "\n")
	return slices.ContainsFunc(names, func(name string) bool {
		text, err := fs.ReadFile(n.fsys, name)
		return err == nil && (bytes.Contains(text, record) || bytes.HasPrefix(text, record[1:]))
	})
}

// Hold keeps something from being installed, until it is released.
func (n *inner) Hold(ctx context.Context, what string) (bool, error) {
	if _, err := pinOf(what); err != nil {
		return false, err
	}
	return n.setHeld(ctx, func(list []string) []string {
		if slices.Contains(list, what) {
			return list
		}
		return append(list, what)
	})
}

// Release lets it be installed again.
func (n *inner) Release(ctx context.Context, what string) (bool, error) {
	return n.setHeld(ctx, func(list []string) []string {
		return slices.DeleteFunc(list, func(held string) bool { return held == what })
	})
}

func (n *inner) setHeld(ctx context.Context, change func([]string) []string) (changed bool, err error) {
	was, err := n.Held()
	if err != nil {
		return false, err
	}
	list := change(slices.Clone(was))
	if slices.Equal(was, list) {
		return false, nil
	}
	return true, n.within(ctx, func(in system.Inside) error { return putHeld(in.Files(), list) })
}

// putHeld writes down what is held back.
func putHeld(files *os.Root, list []string) error {
	if len(list) == 0 {
		return files.Remove(heldFile)
	}
	var records []string
	for _, what := range list {
		pin, err := pinOf(what)
		if err != nil {
			return err
		}
		records = append(records, pin)
	}
	if err := files.MkdirAll("etc/apt/preferences.d", 0o755); err != nil {
		return err
	}
	return replace(files, heldFile, []byte(strings.Join(records, "\n")), os.FileMode(0o644))
}

// toInstall is what apt would put in place of an installed version (apt-get(8), --simulate).
var toInstall = regexp.MustCompile(`(?m)^Inst (\S+) \[([^\]\s]+)\] \((\S+) `)

// HoldOlder holds back what apt would put in place of a newer version: a pin or a source of somebody's prefers it.
func (n *inner) HoldOlder(ctx context.Context, o system.ToolOptions) (held []string, err error) {
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, say: o.Say, said: o.Said}
		if w.say == nil {
			w.say = func(string) {}
		}
		out, err := w.run(ctx, "apt-get", "-s", "-q", "--allow-downgrades", "dist-upgrade")
		if err != nil {
			return err
		}
		if out.Status != 0 {
			return fmt.Errorf("apt-get -s dist-upgrade: %s", lastWords(out.Text))
		}
		for _, m := range toInstall.FindAllStringSubmatch(out.Text, -1) {
			if CompareVersions(m[3], m[2]) < 0 {
				held = append(held, m[1]+"="+m[3])
			}
		}
		return nil
	})
	if err != nil || len(held) == 0 {
		return nil, err
	}
	_, err = n.setHeld(ctx, func(list []string) []string { return append(list, held...) })
	return held, err
}
