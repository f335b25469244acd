package debian

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/layout"
	"diorthos/core/system"
)

// espOf is the number of the EFI system partition; 0 when there is none.
func espOf(g system.Ground) int {
	for _, p := range g.Table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() {
			return p.Number
		}
	}
	return 0
}

// espFolders are where a system mounts the EFI system partition, and where the service manager does by
// itself where fstab says nothing.
var espFolders = []string{"efi", "boot/efi", "boot"}

// espMount is where the EFI system partition is to be mounted inside, where the system's own list
// of mounts does not name it.
func (n *inner) espMount(list []system.Mount) (system.Mount, bool) {
	esp := espOf(n.ground)
	if esp == 0 || !usesEntries(n.ground, esp) ||
		slices.ContainsFunc(list, func(m system.Mount) bool { return m.Volume == esp }) {
		return system.Mount{}, false
	}
	for _, at := range espFolders {
		info, err := fs.Stat(n.fsys, at)
		if err == nil && info.IsDir() && !slices.ContainsFunc(list, func(m system.Mount) bool { return m.Path == at }) &&
			at != "boot" {
			return system.Mount{Volume: esp, Path: at}, true
		}
	}
	return system.Mount{}, false
}

// remakeEntries writes the entries of systemd-boot anew from the kernels that are there: each with its
// early-boot image beside it on the EFI system partition.
func (w *worker) remakeEntries() error {
	base := ""
	for _, m := range w.n.mounts() {
		if m.Volume == espOf(w.n.ground) {
			base = m.Path
		}
	}
	if base == "" {
		return errors.New("the EFI system partition is not mounted inside the system: nothing can be put there")
	}
	files := w.in.Files()
	if err := w.carriedAside(base); err != nil {
		return err
	}
	token, options := w.entryToken(base), w.entryOptions(base)
	written := 0
	for _, version := range w.kernels() {
		kernel, early := "boot/vmlinuz-"+version, "boot/initrd.img-"+version
		if w.notStartable(kernel) != "" {
			continue
		}
		if _, err := files.Stat(early); err != nil && !kernelFinds(argument(options, "root")) {
			continue
		}
		folder := path.Join(token, version)
		if err := files.MkdirAll(path.Join(base, folder), 0o755); err != nil {
			return err
		}
		if err := w.copyInto(kernel, path.Join(base, folder, "linux")); err != nil {
			return err
		}
		text := fmt.Sprintf(
			"title Debian GNU/Linux\nversion %s\nsort-key debian\noptions %s\nlinux /%s/linux\n",
			version,
			options,
			folder,
		)
		if _, err := files.Stat(early); err == nil {
			name := "initrd.img-" + version
			if err := w.copyInto(early, path.Join(base, folder, name)); err != nil {
				return err
			}
			text += fmt.Sprintf("initrd /%s/%s\n", folder, name)
		}
		if err := files.MkdirAll(path.Join(base, "loader/entries"), 0o755); err != nil {
			return err
		}
		name := path.Join(base, "loader/entries", strings.ReplaceAll(folder, "/", "-")+".conf")
		if err := w.in.Files().WriteFile(name, []byte(text), 0o644); err != nil {
			return err
		}
		written++
	}
	if written == 0 {
		return errors.New("no kernel that could be started, with its early-boot image, lies in /boot: put one back first")
	}
	w.did = append(
		w.did,
		fmt.Sprintf("%d entries of the loader are written from the kernels in /boot, which are laid beside them", written),
	)
	return w.defaultThere(base)
}

// carriedAside takes kernels out of the way that carry all and cannot start: they would be started
// before what is written beside them.
func (w *worker) carriedAside(base string) error {
	whole, _ := fs.Glob(w.files(), path.Join(base, "EFI/Linux/*.efi")) // the pattern is right
	for _, name := range whole {
		if programCut(w.files(), name) == "" {
			continue
		}
		to := name + ".aside-" + w.n.now.UTC().Format("20060102-150405")
		if err := w.in.Files().Rename(name, to); err != nil {
			return err
		}
		w.did = append(w.did, fmt.Sprintf("%s, which cannot start, is moved aside to %s", name, to))
	}
	return nil
}

// defaultThere keeps loader.conf from naming an entry that is not there.
func (w *worker) defaultThere(base string) error {
	name := path.Join(base, "loader/loader.conf")
	raw, err := w.in.Files().ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var kept []string
	entries, _ := fs.Glob(w.files(), path.Join(base, "loader/entries/*.conf")) // the pattern is right
	for _, line := range strings.Split(string(raw), "\n") {
		if words := strings.Fields(line); len(words) == 2 && words[0] == "default" && !strings.HasPrefix(words[1], "@") {
			found := slices.ContainsFunc(entries, func(e string) bool {
				id, _ := assessed(path.Base(e), ".conf")
				ok, _ := path.Match(words[1], id)
				return ok
			})
			if !found {
				w.did = append(w.did, fmt.Sprintf("loader.conf does not name %q any more, of which there is no entry", words[1]))
				continue
			}
		}
		kept = append(kept, line)
	}
	fresh := strings.Join(kept, "\n")
	if fresh == string(raw) {
		return nil
	}
	return w.in.Files().WriteFile(name, []byte(fresh), 0o644)
}

// entryToken is the name under which the system's kernels lie on the EFI system partition.
func (w *worker) entryToken(base string) string {
	if text := strings.TrimSpace(readText(w.files(), "etc/kernel/entry-token")); text != "" && fs.ValidPath(text) &&
		!strings.Contains(text, "/") {
		return text
	}
	id := strings.TrimSpace(readText(w.files(), "etc/machine-id"))
	for _, token := range []string{id, "debian"} {
		if token == "" {
			continue
		}
		if info, err := fs.Stat(w.files(), path.Join(base, token)); err == nil && info.IsDir() {
			return token
		}
	}
	if len(id) == 32 {
		return id
	}
	return "debian"
}

// entryOptions is the kernels' command line: as it is configured, else as an entry has it that is there;
// always with a root volume that is on this disk.
func (w *worker) entryOptions(base string) string {
	list := []string{strings.TrimSpace(readText(w.files(), "etc/kernel/cmdline"))}
	names, _ := fs.Glob(w.files(), path.Join(base, "loader/entries/*.conf")) // the pattern is right
	for _, name := range names {
		for _, line := range strings.Split(readText(w.files(), name), "\n") {
			if value, ok := strings.CutPrefix(line, "options"); ok {
				list = append(list, strings.TrimSpace(value))
			}
		}
	}
	for _, options := range list {
		if root := argument(options, "root"); root != "" && volumeNamed(w.n.ground, root) == w.n.number {
			return options
		}
	}
	root := "root=UUID=" + w.n.ground.Contents[w.n.number].UUID
	if v := w.n.ground.Volumes.Numbered(w.n.number); v != nil && len(v.Names) > 0 {
		root = "root=" + v.Names[len(v.Names)-1]
	}
	var rest []string
	for _, word := range strings.Fields(list[len(list)-1]) {
		if !strings.HasPrefix(word, "root=") {
			rest = append(rest, word)
		}
	}
	return strings.TrimSpace(root + " ro " + strings.Join(rest, " "))
}

// copyInto copies a file of the system, if the copy is not there as it should be.
func (w *worker) copyInto(from, to string) error {
	files := w.in.Files()
	raw, err := readWhole(w.files(), from)
	if err != nil {
		return err
	}
	if have, err := readWhole(w.files(), to); err == nil && bytes.Equal(have, raw) {
		return nil
	}
	return files.WriteFile(to, raw, 0o644)
}
