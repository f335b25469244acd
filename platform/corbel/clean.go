package corbel

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/core/store"
	"diorthos/platform/corbelfile"
)

// InstallClean makes the system volume anew and lays the release out on it, from
// a medium or another source of the same build. Users, programs, settings and
// checkpoints of that volume go; other partitions stay. What the vendor offers
// and the drivers of what is attached are carried over.
func (s *System) InstallClean(ctx context.Context, sources []store.Source) ([]string, error) {
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return nil, err
	}
	carried := map[string][]byte{}
	for _, name := range []string{corbelfile.OffersPath, corbelfile.DriversPath} {
		if raw, err := fs.ReadFile(s.sys, name); err == nil {
			carried[name] = raw
		}
	}
	features, _ := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath) // without the list none is left out
	for i := range features {
		features[i].On = false
	}
	return s.from(sources, rel.Build, func(src store.Source, l lister) ([]string, error) {
		if err := s.emptied(); err != nil {
			return nil, err
		}
		did, err := s.layFrom(ctx, src, l, rel.Build, features)
		if err != nil {
			return nil, err
		}
		did = append([]string{"the system volume made anew, with nothing on it"}, did...)
		return did, s.begun(rel, features, carried)
	})
}

// emptied makes the file system of the system volume anew, of the same label and
// serial, by which the boot store knows it.
func (s *System) emptied() error {
	p := s.sysPart
	part := block.NewWriteRange(s.dev, p.Off, p.Length)
	serial, err := strconv.ParseUint(strings.ReplaceAll(s.serial, "-", ""), 16, 32)
	if err != nil {
		return fmt.Errorf("corbel: serial of the system volume: %w", err)
	}
	part.For("system volume made anew")
	if err := fat.Format(part, p.Length, fat.Options{
		Label:  layout.Recognise(part).Label,
		Serial: uint32(serial),
	}); err != nil {
		return err
	}
	e, err := fat.Edit(part, s.now)
	if err != nil {
		return err
	}
	s.sys, s.edit = e, e
	for _, folder := range []string{
		corbelfile.ManifestFolder, corbelfile.PayloadFolder, corbelfile.CacheFolder, corbelfile.UsersFolder,
	} {
		if err := e.Mkdir(folder); err != nil {
			return err
		}
	}
	return nil
}

// begun writes the state that a machine begins with.
func (s *System) begun(rel corbelfile.Release, features []corbelfile.Feature, carried map[string][]byte) error {
	for to, from := range map[string]string{
		corbelfile.SettingsPath: corbelfile.SettingsShipped,
		corbelfile.ServicesPath: corbelfile.ServicesShipped,
	} {
		raw, err := fs.ReadFile(s.sys, from)
		if err != nil {
			return err
		}
		carried[to] = raw
	}
	carried[corbelfile.ReleasePath] = corbelfile.Encode(rel)
	carried[corbelfile.FeaturesPath] = corbelfile.Encode(features)
	carried[corbelfile.ProgramsPath] = corbelfile.Encode([]corbelfile.Program{})
	carried[corbelfile.HistoryPath] = corbelfile.Encode([]corbelfile.History{{
		When:    s.now.UTC(),
		Kind:    "install",
		ID:      "clean",
		Title:   rel.Title,
		Build:   rel.Build,
		Changed: []corbelfile.Component{},
	}})
	for name, raw := range carried {
		if err := s.edit.Mkdir(path.Dir(name)); err != nil {
			return err
		}
		if err := s.edit.WriteFile(name, raw); err != nil {
			return err
		}
	}
	return nil
}
