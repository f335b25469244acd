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

// Where GRUB's files lie: those that its package brings, and those that it is started from.
const (
	biosModules = "usr/lib/grub/i386-pc"
	grubFolder  = "boot/grub"
)

// coreModules are what a core image needs to find its menu on any of our disks.
var coreModules = []string{
	"biosdisk", "part_msdos", "part_gpt", "ext2", "xfs", "btrfs", "fat", "search_fs_uuid", "configfile", "normal",
}

// InstallLoader puts the loader back where all of it is gone: its files from its package, its
// core image put together by its own tool, its code, and a menu of the kernels that are there.
func (s *BIOSSystem) InstallLoader(ctx context.Context, o system.ToolOptions) ([]string, error) {
	did, err := s.working(ctx, o, (*worker).loaderFiles)
	if err != nil {
		return nil, err
	}
	more, err := s.RemakeMenu(ctx, o)
	if err != nil {
		return nil, err
	}
	fresh, err := s.again()
	if err != nil {
		return nil, err
	}
	bios, ok := fresh.(*BIOSSystem)
	if !ok {
		return nil, errors.New("the machine starts by UEFI")
	}
	if err := bios.PutBootCode(); err != nil {
		return nil, err
	}
	return append(append(did, more...), "boot code in sector 0, and the core image behind it"), nil
}

// InstallLoader does it for a machine that starts by UEFI.
func (s *System) InstallLoader(ctx context.Context, o system.ToolOptions) ([]string, error) {
	if err := s.PutLoader(); err != nil {
		return nil, err
	}
	if err := s.PutBootStore(); err != nil {
		return nil, err
	}
	did := []string{"the loader and its short configuration on the EFI system partition"}
	if chain, err := s.Chain(); err == nil && chain.Broken() == nil {
		return did, nil
	}
	more, err := s.RemakeMenu(ctx, o)
	return append(did, more...), err
}

// again opens the system as it stands in the draft now.
func (n *inner) again() (system.System, error) {
	return Adapter{}.Open(n.dev, n.number, system.Options{Now: n.now, Enter: n.enter, Keys: n.keys})
}

// loaderFiles lays GRUB's files out and has its core image put together.
func (w *worker) loaderFiles(ctx context.Context) error {
	files := w.in.Files()
	entries, err := fs.ReadDir(w.files(), biosModules)
	if err != nil {
		return fmt.Errorf("the package grub-pc-bin, which has the loader, is not whole on this system: %w", err)
	}
	to := path.Join(grubFolder, "i386-pc")
	if err := files.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, e := range entries {
		if ext := path.Ext(e.Name()); ext != ".mod" && ext != ".lst" && ext != ".img" {
			continue
		}
		data, err := files.ReadFile(path.Join(biosModules, e.Name()))
		if err != nil {
			return err
		}
		if err := replace(files, path.Join(to, e.Name()), data, 0o644); err != nil {
			return err
		}
	}
	uuid, folder := w.menuPlace()
	if uuid == "" {
		return errors.New("the volume has no name of its own by which a loader could find it")
	}
	const config = "run/core.cfg"
	text := fmt.Sprintf("search.fs_uuid %s root\nset prefix=($root)'%s'\n", uuid, folder)
	if err := files.WriteFile(config, []byte(text), 0o600); err != nil {
		return err
	}
	args := append([]string{
		"grub-mkimage", "-O", "i386-pc", "-c", "/" + config, "-p", folder, "-o", "/" + to + "/core.img",
	}, coreModules...)
	out, ok, err := w.attempt(ctx, args...)
	if err != nil || !ok {
		return errors.Join(err, fmt.Errorf("the core image cannot be put together: %s", lastWords(out.Text)))
	}
	w.did = append(w.did, to+": the loader's files from its package, and its core image put together anew")
	return nil
}

// menuPlace is the volume with the menu, and the folder of GRUB's files on it.
func (w *worker) menuPlace() (uuid, folder string) {
	for _, m := range w.n.mounts() {
		if m.Path == "boot" {
			return w.n.ground.Contents[m.Volume].UUID, "/" + strings.TrimPrefix(grubFolder, "boot/")
		}
	}
	return w.n.ground.Contents[w.n.number].UUID, "/" + grubFolder
}
