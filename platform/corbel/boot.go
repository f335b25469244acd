package corbel

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/boot"
	"diorthos/core/firmware"
	"diorthos/platform/corbelfile"
)

// bootFile is a file of the boot component as the store has it; nil if it has
// none that is whole.
func bootFile(sys fs.FS, name string) []byte {
	c := &componentStore{fsys: sys}
	_, x, err := c.index()
	if err != nil {
		return nil
	}
	return c.fileOf(x, corbelfile.BootComponent, name)
}

// bootFiles are the versions of a file of the boot component that the store
// has: an update does not write boot code anew when the old one will do.
func bootFiles(sys fs.FS, name string) (list [][]byte) {
	c := &componentStore{fsys: sys}
	names, _ := fs.Glob(sys, manifestPath(corbelfile.BootComponent, "*")) // the pattern is right
	for _, n := range names {
		version := strings.TrimPrefix(path.Base(n), corbelfile.BootComponent+"-")
		one := &corbelfile.Index{Components: []corbelfile.Component{{Name: corbelfile.BootComponent, Version: version}}}
		if raw := c.fileOf(one, corbelfile.BootComponent, name); raw != nil {
			list = append(list, raw)
		}
	}
	return list
}

// fileOf is the payload from which a component's file is made.
func (c *componentStore) fileOf(x *corbelfile.Index, component, name string) []byte {
	for _, in := range x.Components {
		if in.Name != component && component != "" {
			continue
		}
		m, err := c.read(in.Name, in.Version)
		if err != nil {
			continue
		}
		i := slices.IndexFunc(m.Files, func(f corbelfile.File) bool { return f.Path == name })
		if i < 0 {
			continue
		}
		raw, err := fs.ReadFile(c.fsys, payloadPath(m.Files[i].Payload))
		if err == nil && corbelfile.Hash(raw) == m.Files[i].Payload {
			return raw
		}
	}
	return nil
}

// bootSystem is Corbel's part of the chain, for [boot.Follow].
type bootSystem struct {
	sys    fs.FS // of the system that lies on the disk; nil if there is none
	wants  func(fs.FS) []string
	serial string
}

// Code is what the boot component says has to stand in sector 0 and in the
// boot sector.
func (b *bootSystem) Code() (disk, sector *boot.Piece) {
	if b.sys == nil {
		return nil, nil
	}
	piece := func(name string, at int64) *boot.Piece {
		raw := bootFile(b.sys, name)
		if raw == nil {
			return nil
		}
		return &boot.Piece{What: "as in the component store", Data: raw, Also: bootFiles(b.sys, name), At: at}
	}
	return piece(corbelfile.BootCodeFile, 0), piece(corbelfile.BootSectorFile, corbelfile.BootSectorAt)
}

func loaderFile(mode string) string {
	if mode == "uefi" {
		return corbelfile.LoaderFileUEFI
	}
	return corbelfile.LoaderFileBIOS
}

// Loader is where the loader lies and what it has to be.
func (b *bootSystem) Loader(m firmware.Mode) (string, [][]byte) {
	mode := string(m)
	if b.sys == nil {
		return corbelfile.Loader(mode), nil
	}
	return corbelfile.Loader(mode), bootFiles(b.sys, loaderFile(mode))
}

// Config reads the boot store.
func (b *bootSystem) Config(volume fs.FS, m firmware.Mode) (boot.Config, error) {
	mode := string(m)
	raw, err := fs.ReadFile(volume, corbelfile.BootStore(mode))
	if err != nil {
		return boot.Config{}, fmt.Errorf("%s is not there", corbelfile.BootStore(mode))
	}
	e, err := corbelfile.ReadBootStore(raw)
	return boot.Config{Volume: e.Volume, Kernel: e.Kernel}, err
}

// Rest follows pending work and what the components and services ask.
func (b *bootSystem) Rest(volume fs.FS) []boot.Link {
	s := &System{sys: volume}
	links := []boot.Link{}
	p, err := s.Pending()
	switch {
	case err != nil:
		return append(links, boot.Link{
			Kind:  boot.LinkPending,
			What:  corbelfile.WorklistPath,
			Saw:   err.Error(),
			Fault: "pending-unreadable",
		})
	case p == nil:
		links = append(links, boot.Link{Kind: boot.LinkPending, What: "work for this start", Saw: "none"})
	case !p.Whole:
		return append(links, boot.Link{
			Kind:  boot.LinkPending,
			What:  p.Transaction,
			Saw:   fmt.Sprintf("the list breaks off after %d operations", p.Operations),
			Fault: "pending-half-done",
		})
	case len(p.Gone) > 0:
		return append(links, boot.Link{
			Kind: boot.LinkPending,
			What: p.Transaction,
			Saw: fmt.Sprintf(
				"%d of %d operations refer to %s %s, which is not in the store",
				p.Gone[0].Operations, p.Operations, p.Gone[0].Component, p.Gone[0].Version,
			),
			Fault: "pending-component-gone",
		})
	default:
		links = append(links, boot.Link{
			Kind: boot.LinkPending,
			What: p.Transaction,
			Saw:  fmt.Sprintf("%d operations, all can be done", p.Operations),
		})
	}
	if _, _, err := s.store().index(); err != nil {
		return append(links, boot.Link{
			Kind:  boot.LinkServices,
			What:  corbelfile.IndexPath,
			Saw:   err.Error(),
			Fault: boot.ComponentsUnknown,
		})
	}
	if wants := b.wants(volume); len(wants) > 0 {
		return append(links, boot.Link{Kind: boot.LinkServices, What: "components", Saw: wants[0], Fault: "component-wants"})
	}
	list, err := s.Services()
	if err != nil {
		return append(links, boot.Link{
			Kind:  boot.LinkServices,
			What:  corbelfile.ServicesPath,
			Saw:   err.Error(),
			Fault: "services-unreadable",
		})
	}
	for _, svc := range list {
		if svc.Broken != "" && svc.Start != corbelfile.StartOff {
			return append(links, boot.Link{
				Kind:  boot.LinkServices,
				What:  svc.Name,
				Saw:   fmt.Sprintf("service of program %s: %s", svc.Program, svc.Broken),
				Fault: "service-of-program",
			})
		}
	}
	return append(links, boot.Link{
		Kind: boot.LinkServices,
		What: "services",
		Saw:  fmt.Sprintf("%d, none that cannot start", len(list)),
	})
}

// PutBootCode writes the code into sector 0; the table there stays as it is.
func (s *System) PutBootCode() error {
	raw := bootFile(s.sys, corbelfile.BootCodeFile)
	if raw == nil {
		return errNoPiece(corbelfile.BootCodeFile)
	}
	s.label("boot code in sector 0")
	_, err := s.dev.WriteAt(raw, 0)
	return err
}

func (s *System) label(what string) {
	if d, ok := s.dev.(interface{ For(string) }); ok {
		d.For(what)
	}
}

func errNoPiece(name string) error {
	return fmt.Errorf("corbel: the store holds no whole %s: repair the component store first", name)
}

// PutBootSector writes the code into the boot sector of the boot volume; what
// describes the file system there stays as it is.
func (s *System) PutBootSector() error {
	raw := bootFile(s.sys, corbelfile.BootSectorFile)
	if raw == nil {
		return errNoPiece(corbelfile.BootSectorFile)
	}
	if s.boot == nil {
		return errNoBoot
	}
	s.label("boot sector's code")
	_, err := s.dev.WriteAt(raw, s.bootPart.Off+corbelfile.BootSectorAt)
	return err
}

var errNoBoot = fmt.Errorf("corbel: no boot volume can be read: mend its file system first")

// PutLoader writes the loader from the component store.
func (s *System) PutLoader() error {
	raw := bootFile(s.sys, loaderFile(s.mode))
	if raw == nil {
		return errNoPiece(loaderFile(s.mode))
	}
	return s.putBoot(corbelfile.Loader(s.mode), raw)
}

// PutBootStore writes a boot store that starts the system on this disk.
func (s *System) PutBootStore() error {
	e := corbelfile.BootEntry{Volume: s.serial, Kernel: corbelfile.KernelPath, Mode: "normal"}
	return s.putBoot(corbelfile.BootStore(s.mode), e.Bytes())
}

func (s *System) putBoot(name string, raw []byte) error {
	if s.boot == nil {
		return errNoBoot
	}
	if have, err := fs.ReadFile(s.boot, name); err == nil && bytes.Equal(have, raw) {
		return nil
	}
	if err := s.editBoot.Mkdir(path.Dir(name)); err != nil {
		return err
	}
	return s.editBoot.WriteFile(name, raw)
}

// BootPartition is the number of the partition with the loader; 0 when there
// is none.
func (s *System) BootPartition() int { return s.bootPart.Number }

// BootPiece says whether one piece by which the machine starts (code, sector,
// loader or store) is as the component store and this disk want it.
func (s *System) BootPiece(kind string) error {
	b := &bootSystem{sys: s.sys}
	if s.boot == nil {
		return errNoBoot
	}
	disk, sector := b.Code()
	switch kind {
	case "code":
		return s.samePiece(disk, 0)
	case "sector":
		return s.samePiece(sector, s.bootPart.Off)
	case "loader":
		name := corbelfile.Loader(s.mode)
		if raw, err := fs.ReadFile(s.boot, name); err != nil || !bytes.Equal(raw, bootFile(s.sys, loaderFile(s.mode))) {
			return fmt.Errorf("corbel: loader %s is not as in the component store", name)
		}
		return nil
	}
	config, err := b.Config(s.boot, firmware.Mode(s.mode))
	if err == nil && config.Volume != s.serial {
		err = fmt.Errorf("corbel: the boot store names volume %s, the system lies on %s", config.Volume, s.serial)
	}
	return err
}

func (s *System) samePiece(want *boot.Piece, at int64) error {
	if want == nil {
		return errNoPiece("boot code")
	}
	got := make([]byte, len(want.Data))
	if _, err := s.dev.ReadAt(got, at+want.At); err != nil || !bytes.Equal(got, want.Data) {
		return fmt.Errorf("corbel: the code at byte %d is not that of the component store", at+want.At)
	}
	return nil
}
