package debian

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/system"
)

// RemakeEarlyImages has the early-boot image of every kernel made anew by the system's own tool
// (update-initramfs(8)): for each kernel whose modules are there.
func (n *inner) RemakeEarlyImages(ctx context.Context, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error {
		made := 0
		for _, version := range w.kernels() {
			if _, err := w.in.Files().Stat(path.Join("usr/lib/modules", version)); err != nil {
				if _, err := w.in.Files().Stat(path.Join("lib/modules", version)); err != nil {
					continue
				}
			}
			out, ok, err := w.attempt(ctx, "update-initramfs", "-c", "-k", version)
			if err != nil {
				return err
			}
			if !ok {
				return fmt.Errorf("the early-boot image of %s cannot be made: %s", version, lastWords(out.Text))
			}
			made++
			w.did = append(w.did, "boot/initrd.img-"+version+" is made anew by the system's own tool")
		}
		if made == 0 {
			return errors.New("no kernel is there of which the modules are there too")
		}
		if esp := espOf(n.ground); esp != 0 && usesEntries(n.ground, esp) { // it reads copies beside its entries
			return w.remakeEntries()
		}
		if !w.namesEarly() { // a menu of when there was none
			return w.remakeMenu(ctx)
		}
		return nil
	})
}

// namesEarly reports whether what the menu starts has an early-boot image.
func (w *worker) namesEarly() bool {
	text, err := w.in.Files().ReadFile("boot/grub/grub.cfg")
	return err != nil || bytes.Contains(text, []byte("initrd"))
}

// kernels are the versions that lie in boot, the newest first.
func (w *worker) kernels() (list []string) {
	entries, _ := fs.ReadDir(w.files(), "boot")
	for _, e := range entries {
		if version, ok := strings.CutPrefix(e.Name(), "vmlinuz-"); ok && !strings.Contains(version, ".aside-") &&
			!strings.Contains(version, ".dpkg-") {
			list = append(list, version)
		}
	}
	slices.SortFunc(list, func(a, b string) int { return CompareVersions(b, a) })
	return list
}

// RemakeMenu has GRUB's menu made anew from the kernels that are there and can start: by the
// system's own tool, where that comes to a menu that starts; else by us.
func (n *inner) RemakeMenu(ctx context.Context, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error { return w.remakeMenu(ctx) })
}

func (w *worker) remakeMenu(ctx context.Context) error {
	if esp := espOf(w.n.ground); esp != 0 && usesEntries(w.n.ground, esp) {
		return w.remakeEntries()
	}
	if err := w.kernelsAside(); err != nil {
		return err
	}
	if err := w.in.Files().MkdirAll("boot/grub", 0o755); err != nil {
		return err
	}
	const menu = "boot/grub/grub.cfg"
	if err := w.n.keepCopy(w.in.Files(), menu); err != nil {
		return err
	}
	if _, err := w.in.Files().Stat("usr/sbin/update-grub"); err == nil {
		_, before := w.in.Files().Stat(menu + ".new")
		_, ok, err := w.attempt(ctx, "update-grub")
		if err != nil {
			return err
		}
		if errors.Is(before, fs.ErrNotExist) { // what it leaves when it ends with an error
			if err := w.in.Files().Remove(menu + ".new"); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		if ok && w.starts(menu) == nil {
			w.did = append(w.did, menu+" is made anew by the system's own tool")
			return nil
		}
	}
	text, count, err := w.ownMenu()
	if err != nil {
		return err
	}
	if err := replace(w.in.Files(), menu, text, 0o600); err != nil {
		return err
	}
	if err := w.starts(menu); err != nil {
		return err
	}
	w.did = append(w.did, fmt.Sprintf("%s is written from what kernels are there: %d", menu, count))
	return nil
}

// kernelsAside moves kernels aside that are none, so that no menu names them.
func (w *worker) kernelsAside() error {
	list := w.kernels()
	var bad []string
	for _, version := range list {
		if w.notStartable("boot/vmlinuz-"+version) != "" {
			bad = append(bad, version)
		}
	}
	if len(bad) == len(list) {
		return errors.New("no kernel is there that could be started: put one back first")
	}
	for _, version := range bad {
		to, err := w.n.moveAside(w.in.Files(), "boot/vmlinuz-"+version)
		if err != nil {
			return err
		}
		w.did = append(w.did, fmt.Sprintf("boot/vmlinuz-%s, which cannot start, is moved aside to %s", version, to))
	}
	return nil
}

// notStartable says why a file is not a kernel.
func (w *worker) notStartable(name string) string {
	f, err := w.in.Files().Open(name)
	if err != nil {
		return err.Error()
	}
	defer func() { _ = f.Close() }() // it was only read
	info, err := f.Stat()
	if err != nil {
		return err.Error()
	}
	head := make([]byte, 4096)
	_, _ = f.ReadAt(head, 0) // what is shorter ends in zeros
	return notAKernel(head, info.Size())
}

// starts says why a menu starts nothing of this system.
func (w *worker) starts(menu string) error {
	raw, err := w.in.Files().ReadFile(menu)
	if err != nil {
		return err
	}
	root := w.n.ground.Contents[w.n.number].UUID
	text := string(raw)
	for _, version := range w.kernels() {
		named := strings.Contains(text, "vmlinuz-"+version+" ")
		_, early := w.in.Files().Stat("boot/initrd.img-" + version)
		if named && (early != nil || strings.Contains(text, "initrd.img-"+version)) &&
			(strings.Contains(text, "root=UUID="+root) || strings.Contains(text, "root=PARTUUID=")) &&
			strings.Contains(text, w.rootFlags()) {
			return nil
		}
	}
	return errors.New("the menu names no kernel of this system with its volume")
}

// ownMenu is a menu of the kernels that are there, the newest first.
func (w *worker) ownMenu() (text []byte, count int, err error) {
	own := w.n.ground.Contents[w.n.number]
	bootUUID, kind, folder := own.UUID, own.Kind, path.Join("/", w.n.ground.Root().Subvolume, "boot")
	for _, m := range w.n.mounts() {
		if m.Path == "boot" {
			content := w.n.ground.Contents[m.Volume]
			bootUUID, kind, folder = content.UUID, content.Kind, strings.TrimSuffix(path.Join("/", m.Subvolume), "/")
		}
	}
	root := own.UUID
	if root == "" || bootUUID == "" {
		return nil, 0, errors.New("the volume has no name of its own by which a menu could call it")
	}
	arguments := w.arguments()
	var b bytes.Buffer
	b.WriteString(
		"# Written from the kernels that are there. update-grub writes it anew.\nset timeout=5\nset default=0\n" +
			"insmod part_gpt\ninsmod part_msdos\n",
	)
	for _, module := range []string{"ext2", "fat"} { // for all of their kinds
		if strings.HasPrefix(kind, module[:3]) {
			kind = module
		}
	}
	fmt.Fprintf(&b, "insmod %s\n", kind)
	for _, version := range w.kernels() {
		fmt.Fprintf(&b, "menuentry 'Debian GNU/Linux, with Linux %s' {\n\tsearch --no-floppy --fs-uuid --set=root %s\n"+
			"\tlinux %s/vmlinuz-%s root=UUID=%s %sro %s\n", version, bootUUID, folder, version, root, w.rootFlags(), arguments)
		if _, err := w.in.Files().Stat("boot/initrd.img-" + version); err == nil {
			fmt.Fprintf(&b, "\tinitrd %s/initrd.img-%s\n", folder, version)
		}
		b.WriteString("}\n")
		count++
	}
	if count == 0 {
		return nil, 0, errors.New("no kernel is there")
	}
	return b.Bytes(), count, nil
}

// rootFlags tell the kernel in which subvolume the system lies; empty where it lies in none.
func (w *worker) rootFlags() string {
	if sub := w.n.ground.Root().Subvolume; sub != "" {
		return "rootflags=subvol=" + sub + " "
	}
	return ""
}

// arguments are those that the machine's kernels were given, without the names of volumes.
func (w *worker) arguments() string {
	var words []string
	settings := fields(readAll(w.in.Files(), "etc/default/grub"))
	words = append(words, strings.Fields(settings["GRUB_CMDLINE_LINUX"])...)
	words = append(words, strings.Fields(settings["GRUB_CMDLINE_LINUX_DEFAULT"])...)
	return strings.Join(words, " ")
}

// Chain is that by which the machine starts, as it stands now.
func (n *inner) Chain() (boot.Chain, error) {
	facts := &bag.Facts{}
	chain := chainOf(system.GroundOf(n.dev, n.ground.Table, n.keys, n.number, Adapter{}), facts)
	if chain == nil {
		return nil, errors.New("the way by which this machine starts is not followed")
	}
	return chain, nil
}
