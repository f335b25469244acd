package corbel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/platform/corbelfile"
)

// A lister is a source that can tell of what its build consists.
type lister interface {
	Components(ctx context.Context) ([]string, error)
}

// Components lists what the medium installs; optional features are on it too,
// and are no part of the release.
func (s *packSource) Components(context.Context) ([]string, error) {
	return names(s.pack.Manifests), nil
}

// Components lists what the twin has.
func (s *twinSource) Components(context.Context) (list []string, err error) {
	_, all, err := s.Index()
	for _, c := range all {
		list = append(list, c.Name)
	}
	return list, err
}

// Components lists what the vendor publishes of the build.
func (s *vendorSource) Components(ctx context.Context) ([]string, error) {
	raw, err := s.get(ctx, "manifests")
	if err != nil {
		return nil, err
	}
	var list []corbelfile.Manifest
	err = corbelfile.Decode("the vendor's manifests", raw, &list)
	return names(list), err
}

func names(list []corbelfile.Manifest) (out []string) {
	for _, m := range list {
		out = append(out, m.Name)
	}
	return out
}

// Reinstall lays the release out anew, from a source of the same build: store,
// index and the files of the system. Work that is pending is given up and kept
// aside, settings that are damaged are put back to what the release ships, and
// the loader is written anew. Users, programs and everything of theirs stay.
func (s *System) Reinstall(ctx context.Context, sources []store.Source) ([]string, error) {
	var first []string
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil { // which build to lay out has to be known
		from, mendErr := s.MendState(ctx, sources, bag.StateFault{File: corbelfile.ReleasePath})
		if mendErr != nil {
			return nil, mendErr
		}
		if rel, err = read[corbelfile.Release](s.sys, corbelfile.ReleasePath); err != nil {
			return nil, err
		}
		first = []string{from}
	}
	features, _ := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath) // without the list none is left out
	return s.from(sources, rel.Build, func(src store.Source, l lister) ([]string, error) {
		did, err := s.layFrom(ctx, src, l, rel.Build, features)
		if err != nil {
			return nil, err
		}
		return append(append(first, did...), s.tidied(ctx, sources)...), nil
	})
}

// from lays a release out by the first source of its build with which that goes
// well, and writes what the machine is started by.
func (s *System) from(
	sources []store.Source, build int, lay func(store.Source, lister) ([]string, error),
) ([]string, error) {
	failed := fmt.Errorf(
		"%w %d: name an install medium, a twin or the vendor's service by --source", store.ErrOtherBuild, build,
	)
	for _, src := range sources {
		l, ok := src.(lister)
		if src.Build() != build || !ok {
			continue
		}
		did, err := lay(src, l)
		if err == nil {
			return did, s.finish()
		}
		failed = err
	}
	return nil, failed
}

func (s *System) layFrom(
	ctx context.Context, src store.Source, l lister, build int, features []corbelfile.Feature,
) ([]string, error) {
	list, err := l.Components(ctx)
	if err != nil {
		return nil, err
	}
	st := s.store()
	x := corbelfile.Index{Build: build}
	for _, name := range list {
		if slices.ContainsFunc(features, func(f corbelfile.Feature) bool { return f.Component == name && !f.On }) {
			continue
		}
		if _, err := st.take(ctx, src, name); err != nil {
			return nil, err
		}
		raw, err := src.Manifest(ctx, name, "")
		if err != nil {
			return nil, err
		}
		m, err := st.Parse(raw)
		if err != nil {
			return nil, err
		}
		if err := s.project(st, m); err != nil {
			return nil, err
		}
		x.Components = append(x.Components, corbelfile.Component(m.Component))
	}
	return []string{fmt.Sprintf(
		"%d components of build %d laid out anew from %s", len(x.Components), build, src.Title(),
	)}, s.edit.WriteFile(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, x))
}

// project makes the files of a component from its payloads. What is right
// already is left alone.
func (s *System) project(st *componentStore, m *store.Manifest) error {
	for _, f := range m.Files {
		data, err := fs.ReadFile(s.sys, payloadPath(f.Payload))
		if err != nil {
			return err
		}
		own, err := fs.ReadFile(s.sys, path.Join(corbelfile.SystemFolder, f.Path))
		if err == nil && bytes.Equal(own, data) {
			continue
		}
		if err := st.PutProjected(f.Path, data); err != nil {
			return err
		}
	}
	return nil
}

// tidied puts back what stands beside the components, and says what of it.
func (s *System) tidied(ctx context.Context, sources []store.Source) (did []string) {
	if p, err := s.Pending(); err == nil && p != nil && s.RevertPending() == nil {
		did = append(did, "pending work "+p.Transaction+" is given up, and kept aside")
	}
	lists, _ := s.StateFaults() // it never fails
	for _, f := range lists {
		if from, err := s.MendState(ctx, sources, f); err == nil {
			did = append(did, from)
		}
	}
	faults, _ := s.SettingFaults() // settings that cannot be read stay
	for _, f := range faults {
		if s.MendSetting(f) == nil {
			did = append(did, "setting "+f.Branch+" as the release ships it")
		}
	}
	return did
}

// finish writes what the machine is started by.
func (s *System) finish() error {
	if s.boot == nil {
		return errNoBoot
	}
	err := errors.Join(s.PutLoader(), s.PutBootStore())
	if s.mode != "uefi" {
		err = errors.Join(err, s.PutBootCode(), s.PutBootSector())
	}
	return err
}

// ReturnToCheckpoint brings the state files back that the latest checkpoint
// kept, and the files of the system that belong to them.
func (s *System) ReturnToCheckpoint() (string, error) {
	all, _ := fs.Glob(s.sys, path.Join(corbelfile.CheckpointRoot, "*", "checkpoint.json")) // the pattern is right
	if len(all) == 0 {
		return "", errors.New("corbel: no checkpoint was made")
	}
	slices.Sort(all)
	at := all[len(all)-1]
	c, err := read[corbelfile.Checkpoint](s.sys, at)
	if err != nil {
		return "", err
	}
	for i, name := range c.Files {
		raw, err := fs.ReadFile(s.sys, path.Join(path.Dir(at), fmt.Sprint(i)))
		if err != nil {
			return "", fmt.Errorf("corbel: checkpoint %s: %w", c.ID, err)
		}
		if err := s.edit.WriteFile(name, raw); err != nil {
			return "", err
		}
	}
	if err := s.RevertPending(); err != nil {
		return "", err
	}
	st := s.store()
	_, list, err := st.Index()
	if err != nil {
		return "", err
	}
	for _, component := range list {
		m, err := st.Manifest(component)
		if err != nil {
			return "", fmt.Errorf("corbel: checkpoint %s: %s: %w: repair the component store first", c.ID, component.Name, err)
		}
		if err := s.project(st, m); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("checkpoint %s, %s, build %d", c.ID, c.Why, c.Build), nil
}

// SetMode makes the loader start the system in a mode, normal or minimal, in
// which no program of a user is started, and says which it was.
func (s *System) SetMode(mode string) (was string, err error) {
	if s.boot == nil {
		return "", errNoBoot
	}
	e := corbelfile.BootEntry{Volume: s.serial, Kernel: corbelfile.KernelPath, Mode: "normal"}
	if raw, err := fs.ReadFile(s.boot, corbelfile.BootStore(s.mode)); err == nil {
		if have, err := corbelfile.ReadBootStore(raw); err == nil {
			e = have
		}
	}
	was, e.Mode = e.Mode, mode
	return was, s.putBoot(corbelfile.BootStore(s.mode), e.Bytes())
}
