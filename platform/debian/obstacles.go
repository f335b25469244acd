package debian

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/bag"
)

// localFolders are where people put what is run by the tools of the package system, or before
// them. What a package owns there is left alone.
var localFolders = []string{
	"etc/kernel/", "etc/initramfs/", "etc/initramfs-tools/", "etc/apt/apt.conf.d/", "etc/apt/preferences.d/",
	"etc/apt/auth.conf.d/", "etc/apt/preferences", "etc/apt/apt.conf", "etc/dpkg/dpkg.cfg.d/", "etc/grub.d/",
	"etc/ca-certificates/update.d/", "usr/local/bin/", "usr/local/sbin/", "usr/local/lib/", "etc/ld.so.conf.d/",
	"etc/modprobe.d/", "etc/apt/trusted.gpg.d/", "etc/systemd/system/", "etc/dpkg/origins/",
}

var pathInText = regexp.MustCompile(`/?(?:etc|usr|var|boot|lib|opt|tmp)/[A-Za-z0-9_./+:@~%-]+`)

// clear looks in what a program printed for something that stops it and can be put out of its
// way or put right. It reports whether anything was done.
func (w *worker) clear(ctx context.Context, text string) (bool, error) {
	if cleared, err := w.clearNamed(ctx, text); cleared || err != nil {
		return cleared, err
	}
	return w.clearBy(ctx, text, w.holdShadows, w.mendRecords)
}

// clearNamed looks only for what the text names.
func (w *worker) clearNamed(ctx context.Context, text string) (bool, error) {
	return w.clearBy(
		ctx, text, w.unmarkNamed, w.holdDownload, w.holdSetting, w.holdNamed, w.holdOption, w.unmaskNamed, w.makeAccounts,
		w.chmodNamed, w.restoreFiles,
	)
}

func (w *worker) clearBy(
	ctx context.Context, text string, ways ...func(context.Context, string) (string, error),
) (bool, error) {
	for _, how := range ways {
		said, err := how(ctx, text)
		if err != nil {
			return false, err
		}
		if said != "" {
			w.did = append(w.did, said)
			return true, nil
		}
	}
	return false, nil
}

// named lists the files that a text names and that are there.
func (w *worker) named(text string) (list []string) {
	for _, name := range pathInText.FindAllString(text, -1) {
		name = strings.TrimRight(strings.TrimPrefix(name, "/"), ".:,")
		if at := strings.LastIndexByte(name, ':'); at > 0 { // FILE:LINE
			if _, err := w.in.Files().Lstat(name); err != nil {
				name = name[:at]
			}
		}
		if _, err := w.in.Files().Lstat(name); err == nil && !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list
}

// saysNotWritten is how programs say that they could not change a file; not all say why.
var saysNotWritten = regexp.MustCompile(
	`Operation not permitted|(?i:fail\w* (?:to|while) (?:writ|open|renam|replac|remov|updat|chang|lock)\w*|` +
		`(?:cannot|can't|could not|couldn't|unable to) (?:writ|open|renam|replac|remov|updat|chang|lock)\w*)`,
)

// unmarkNamed lets files be changed that the text names and that are marked, and the folders
// in which they lie.
func (w *worker) unmarkNamed(_ context.Context, text string) (string, error) {
	var lines []string
	for line := range strings.Lines(text) {
		if saysNotWritten.MatchString(line) {
			lines = append(lines, line)
		}
	}
	for _, name := range w.named(strings.Join(lines, "")) {
		name = strings.TrimSuffix(name, ".dpkg-new")
		for at := name; at != "." && at != "/"; at = path.Dir(at) {
			was, err := marked(w.in.Files(), at)
			if err == nil && was {
				return "/" + at + " can be changed again", unmark(w.in.Files(), at)
			}
		}
	}
	return "", nil
}

// holdNamed moves a file aside that the text names, that belongs to no package, and that lies
// where people put what the tools run or read.
func (w *worker) holdNamed(_ context.Context, text string) (string, error) {
	for _, name := range slices.Backward(w.named(text)) { // the last one named is the one that failed
		if w.isLocal(name) && !w.owned(name) {
			return w.hold(name, "the tools stop at it, and it belongs to no package")
		}
	}
	return "", nil
}

func (w *worker) isLocal(name string) bool {
	info, err := w.in.Files().Lstat(name)
	if err != nil || info.IsDir() || strings.Contains(name, ".aside-") {
		return false
	}
	return slices.ContainsFunc(localFolders, func(f string) bool { return strings.HasPrefix(name, f) || name == f })
}

// hold moves something aside, and remembers it.
func (w *worker) hold(name, why string) (string, error) {
	to, err := w.n.moveAside(w.in.Files(), name)
	if err != nil {
		return "", err
	}
	w.held[name] = to
	return fmt.Sprintf("/%s is held aside in /%s: %s", name, to, why), nil
}

// owned reports whether a package owns a file.
func (w *worker) owned(name string) bool {
	line := []byte("\n/" + name + "\n")
	plain := []byte("\n/" + strings.TrimPrefix(name, "usr/") + "\n")
	entries, _ := fs.ReadDir(w.files(), infoFolder)
	for _, e := range entries {
		switch path.Ext(e.Name()) {
		case ".list", ".conffiles":
			raw, err := w.in.Files().ReadFile(path.Join(infoFolder, e.Name()))
			if raw = append([]byte("\n"), raw...); err == nil && (bytes.Contains(raw, line) || bytes.Contains(raw, plain)) {
				return true
			}
		}
	}
	return false
}

// failedHook is how apt and dpkg say that a command failed which they are told to run (apt.conf(5), dpkg(1)).
var failedHook = regexp.MustCompile(
	`Problem executing scripts \S+ '([^']+)'|Failure running (?:script|hook) (\S+)|` +
		`Sub-process (/\S+) returned an error code|error executing hook '(.+)', exit code`,
)

// hookFolders are where people tell apt and dpkg what to run.
var hookFolders = []string{"etc/apt/apt.conf.d", "etc/dpkg/dpkg.cfg.d"}

// holdSetting moves a file of apt's or dpkg's configuration aside whose command fails.
func (w *worker) holdSetting(_ context.Context, text string) (string, error) {
	for _, m := range failedHook.FindAllStringSubmatch(text, -1) {
		command := m[1] + m[2] + m[3] + m[4]
		for _, folder := range hookFolders {
			entries, _ := fs.ReadDir(w.files(), folder)
			for _, e := range entries {
				name := path.Join(folder, e.Name())
				if strings.Contains(readAll(w.in.Files(), name), command) {
					return w.hold(name, fmt.Sprintf("its command %q fails", command))
				}
			}
		}
	}
	return "", nil
}

var deniedProgram = regexp.MustCompile(`(?m)(/(?:usr|etc|var|bin|sbin|lib)\S*?): (?:Permission denied|cannot execute)`)

// chmodNamed lets a program of a package be run again.
func (w *worker) chmodNamed(_ context.Context, text string) (string, error) {
	for _, m := range deniedProgram.FindAllStringSubmatch(text, -1) {
		name := strings.TrimPrefix(m[1], "/")
		info, err := w.in.Files().Stat(name)
		if err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 != 0 {
			continue
		}
		if strings.Contains(name, "bin/") || strings.HasPrefix(name, infoFolder) {
			return "/" + name + " can be run again", w.in.Files().Chmod(name, 0o755)
		}
	}
	return "", nil
}

var missingProgram = regexp.MustCompile(
	`(?m)(?:^|[ :])([a-z0-9][a-z0-9+._-]*): (?:command )?not found|` +
		`(/(?:usr/)?s?bin/[a-z0-9+._-]+): (?:bad interpreter|No such file)|` +
		`error while loading shared libraries: (\S+): `,
)

// restoreFiles brings back what a program calls and does not find, and what it names and is not as its package brought
// it: from the cache, or, where the network may be used, from the repositories.
func (w *worker) restoreFiles(ctx context.Context, text string) (string, error) {
	names := w.named(text)
	for _, m := range missingProgram.FindAllStringSubmatch(text, -1) {
		switch {
		case m[1] != "":
			names = append(names, "usr/bin/"+m[1], "usr/sbin/"+m[1], "bin/"+m[1], "sbin/"+m[1])
		case m[2] != "":
			names = append(names, strings.TrimPrefix(m[2], "/"))
		case m[3] != "":
			names = append(names, "usr/lib/x86_64-linux-gnu/"+m[3], "lib/x86_64-linux-gnu/"+m[3], "usr/lib/"+m[3])
		}
	}
	if len(names) == 0 {
		return "", nil
	}
	root, buf := w.files(), make([]byte, 64<<10)
	for _, p := range payloads(root) {
		if p.sum == "" || !slices.Contains(names, p.path) && !slices.Contains(names, "usr/"+p.path) {
			continue
		}
		if fault, _ := checkPayload(root, p, buf); fault == nil {
			continue
		}
		want := map[string]string{p.path: p.sum}
		from, put, err := w.restore(p.of, want, w.sources)
		if err == nil && put == 0 && w.fetch(ctx, p.of) {
			from, put, err = w.restore(p.of, want, w.sources)
		}
		if err != nil || put > 0 {
			return fmt.Sprintf("/%s is as %s brought it, from %s", p.path, p.of.Name, from), err
		}
	}
	return "", ctx.Err()
}

// fetch brings the package file of what is installed into apt's cache, where the network may be used.
func (w *worker) fetch(ctx context.Context, p bag.Package) bool {
	if !w.network {
		return false
	}
	out, err := w.run(ctx, "sh", "-c", `cd "$0" && exec apt-get -q download "$1"`, "/"+cacheFolder,
		p.Name+":"+p.Architecture+"="+p.Version)
	return err == nil && out.Status == 0
}

func firstOf(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// holdShadows moves programs and libraries of people aside that are found before those of
// packages.
func (w *worker) holdShadows(context.Context, string) (string, error) {
	for _, local := range []string{"usr/local/sbin", "usr/local/bin", "usr/local/lib"} {
		entries, _ := fs.ReadDir(w.files(), local)
		for _, e := range entries {
			name := path.Join(local, e.Name())
			if e.IsDir() || w.owned(name) {
				continue
			}
			for _, of := range []string{"usr/sbin", "usr/bin", "usr/lib/x86_64-linux-gnu", "usr/lib"} {
				if strings.Contains(local, "lib") != strings.Contains(of, "lib") {
					continue
				}
				if _, err := w.in.Files().Stat(path.Join(of, e.Name())); err == nil {
					return w.hold(name, "it is found before that of the package")
				}
			}
		}
	}
	return "", nil
}

// mendRecords puts right what is wrong with the records, one at a time.
func (w *worker) mendRecords(context.Context, string) (string, error) {
	for _, l := range looks {
		for _, f := range l(w.n, w.files()) {
			if f.mend == nil || w.held["record "+f.File+f.Text] != "" {
				continue
			}
			w.held["record "+f.File+f.Text] = "tried"
			if said, err := f.mend(w.in.Files()); err == nil {
				return said, nil
			}
		}
	}
	return "", nil
}

// marked reports whether a file is marked so that nobody can change it.
func marked(files *os.Root, name string) (bool, error) {
	marks, err := marksOf(files, name)
	return marks&(markImmutable|markAppend) != 0, err
}
