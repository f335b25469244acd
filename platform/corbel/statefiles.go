package corbel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/platform/corbelfile"
)

// stateFile is one list of the system's state: how to tell that it is sound, and
// where another comes from.
type stateFile struct {
	name     string
	start    bool // the machine does not start without it
	optional bool // may be missing
	// check decodes it and holds it against the rest of the system.
	check func(*System, []byte) error
	// anew makes it from what else is known, when no checkpoint holds one that is
	// sound; it says from what.
	anew func(context.Context, *System, []store.Source) ([]byte, string, error)
}

func decodes[T any](s *System, name string, raw []byte) error {
	var v T
	return corbelfile.Decode(name, raw, &v)
}

// list is a state file that holds a list of which nothing more is known.
func list[T any](name string) stateFile {
	return stateFile{
		name:  name,
		check: func(s *System, raw []byte) error { return decodes[[]T](s, name, raw) },
		anew: func(context.Context, *System, []store.Source) ([]byte, string, error) {
			return corbelfile.Encode([]T{}), "an empty list: what stood in it is not known", nil
		},
	}
}

// stateFiles are in the order in which they are put right: the later ones are held
// against the earlier ones.
var stateFiles = []stateFile{
	{name: corbelfile.IndexPath, start: true, check: checkIndex, anew: indexAnew},
	{name: corbelfile.ReleasePath, check: checkRelease, anew: releaseAnew},
	{name: corbelfile.ServicesPath, start: true, check: checkServices, anew: servicesAnew},
	{name: corbelfile.SettingsPath, check: checkSettings, anew: shippedSettings},
	{name: corbelfile.TransactionPath, start: true, optional: true, check: func(s *System, raw []byte) error {
		return decodes[corbelfile.Transaction](s, corbelfile.TransactionPath, raw)
	}},
	{name: corbelfile.OffersPath, check: checkOffers, anew: offersAnew},
	list[corbelfile.History](corbelfile.HistoryPath),
	list[corbelfile.Feature](corbelfile.FeaturesPath),
	list[corbelfile.Driver](corbelfile.DriversPath),
	list[corbelfile.Program](corbelfile.ProgramsPath),
}

// fault says what is wrong with the file as it is; empty when nothing is.
func (f stateFile) fault(s *System) string {
	raw, err := fs.ReadFile(s.sys, f.name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && f.optional:
		return ""
	case errors.Is(err, fs.ErrNotExist):
		return "it is missing"
	case err != nil:
		return "it cannot be read: " + err.Error()
	}
	if err := f.check(s, raw); err != nil {
		return strings.TrimPrefix(err.Error(), "corbel: "+f.name+": ")
	}
	return ""
}

// StateLeft is empty: what is wrong with one of its lists is always put right.
func (*System) StateLeft() []bag.StateFault { return nil }

// StateFaults holds the lists of the system's state against each other.
func (s *System) StateFaults() (faults []bag.StateFault, err error) {
	for _, f := range stateFiles {
		if text := f.fault(s); text != "" {
			faults = append(faults, bag.StateFault{File: f.name, Text: text, Start: f.start})
		}
	}
	return faults, nil
}

// MendState puts one list right: from the newest checkpoint that holds one which
// goes with the rest of the system, else from what else is known. What was there is
// moved aside.
func (s *System) MendState(ctx context.Context, sources []store.Source, fault bag.StateFault) (string, error) {
	i := slices.IndexFunc(stateFiles, func(f stateFile) bool { return f.name == fault.File })
	if i < 0 {
		return "", fmt.Errorf("corbel: %s is no list of the system's state", fault.File)
	}
	f := stateFiles[i]
	if f.anew == nil { // work that was begun and of which nothing is known: given up
		return f.name + " and its list are moved aside", s.RevertPending()
	}
	raw, from, err := s.soundState(ctx, sources, f)
	if err != nil {
		return "", fmt.Errorf("corbel: %s: %w", f.name, err)
	}
	if has(s.sys, f.name) {
		if _, err := s.MoveAside(f.name); err != nil {
			return "", err
		}
	}
	if err := s.edit.Mkdir(path.Dir(f.name)); err != nil {
		return "", err
	}
	return f.name + " from " + from, s.edit.WriteFile(f.name, raw)
}

func (s *System) soundState(ctx context.Context, sources []store.Source, f stateFile) ([]byte, string, error) {
	if f.name == corbelfile.IndexPath {
		return s.bestIndex(ctx, f)
	}
	for _, at := range s.checkpoints() {
		c, err := read[corbelfile.Checkpoint](s.sys, at)
		if err != nil {
			continue
		}
		k := slices.Index(c.Files, f.name)
		if k < 0 {
			continue
		}
		raw, err := fs.ReadFile(s.sys, path.Join(path.Dir(at), fmt.Sprint(k)))
		if err == nil && f.check(s, raw) == nil {
			return raw, "checkpoint " + c.ID, nil
		}
	}
	raw, from, err := f.anew(ctx, s, sources)
	if err != nil {
		return nil, "", err
	}
	return raw, from, f.check(s, raw)
}

// bestIndex is the one of all that are kept, and of one made anew, by which most of
// the system's files are what they have to be.
func (s *System) bestIndex(ctx context.Context, f stateFile) (best []byte, from string, err error) {
	most := -1
	offer := func(raw []byte, where string) {
		if f.check(s, raw) != nil {
			return
		}
		if n := s.filesAsIn(raw); n > most {
			best, from, most = raw, where, n
		}
	}
	for _, at := range s.checkpoints() {
		c, err := read[corbelfile.Checkpoint](s.sys, at)
		k := slices.Index(c.Files, f.name)
		if err != nil || k < 0 {
			continue
		}
		if raw, err := fs.ReadFile(s.sys, path.Join(path.Dir(at), fmt.Sprint(k))); err == nil {
			offer(raw, "checkpoint "+c.ID)
		}
	}
	raw, where, err := f.anew(ctx, s, nil)
	if err == nil {
		offer(raw, where)
	}
	if most < 0 {
		return nil, "", errors.Join(
			err, errors.New("neither a checkpoint nor the store holds what an index could be made of"),
		)
	}
	return best, from, nil
}

// filesAsIn counts the files of the system that are as an index wants them.
func (s *System) filesAsIn(raw []byte) (n int) {
	var x corbelfile.Index
	if corbelfile.Unseal(corbelfile.KindIndex, raw, &x) != nil {
		return -1
	}
	for _, c := range x.Components {
		m, err := s.store().read(c.Name, c.Version)
		if err != nil {
			continue
		}
		for _, file := range m.Files {
			own, err := fs.ReadFile(s.sys, path.Join(corbelfile.SystemFolder, file.Path))
			if err == nil && corbelfile.Hash(own) == file.Payload {
				n++
			}
		}
	}
	return n
}

// checkpoints are the notes of all that there are, the newest first.
func (s *System) checkpoints() []string {
	all, _ := fs.Glob(s.sys, path.Join(corbelfile.CheckpointRoot, "*", "checkpoint.json")) // the pattern is right
	slices.Sort(all)
	slices.Reverse(all)
	return all
}

// checkIndex holds the index against its own seal, and against the build that the
// release says is installed.
func checkIndex(s *System, raw []byte) error {
	var x corbelfile.Index
	if err := corbelfile.Unseal(corbelfile.KindIndex, raw, &x); err != nil {
		return err
	}
	if len(x.Components) == 0 {
		return errors.New("it lists no component")
	}
	if release, history := s.builds(); release == history && release != 0 && x.Build != release {
		return fmt.Errorf("it is of build %d, and the latest that was installed is %d", x.Build, release)
	}
	return nil
}

// builds are what the release and the history say is installed; 0 where they
// cannot be read.
func (s *System) builds() (release, history int) {
	if list, err := read[[]corbelfile.History](s.sys, corbelfile.HistoryPath); err == nil && len(list) > 0 {
		history = list[len(list)-1].Build
	}
	rel, _ := read[corbelfile.Release](s.sys, corbelfile.ReleasePath) // zero says it
	return rel.Build, history
}

// indexAnew lists the manifests that are in the store: of each component the
// latest that the installed build can have.
func indexAnew(_ context.Context, s *System, _ []store.Source) ([]byte, string, error) {
	names, err := fs.Glob(s.sys, path.Join(corbelfile.ManifestFolder, "*"))
	if err != nil {
		return nil, "", err
	}
	release, history := s.builds()
	build := cmp.Or(max(release, 0), history)
	off := s.featuresOff()
	newest := map[string]corbelfile.Manifest{}
	hashes := map[string]string{}
	for _, name := range names {
		raw, err := fs.ReadFile(s.sys, name)
		var m corbelfile.Manifest
		if err != nil || corbelfile.Unseal(corbelfile.KindManifest, raw, &m) != nil {
			continue
		}
		if build != 0 && m.Build > build || slices.Contains(off, m.Name) {
			continue
		}
		if have, ok := newest[m.Name]; !ok || compareVersions(m.Version, have.Version) > 0 {
			newest[m.Name], hashes[m.Name] = m, corbelfile.Hash(raw)
		}
	}
	x := corbelfile.Index{Build: build}
	for name, m := range newest {
		x.Components = append(x.Components, corbelfile.Component{Name: name, Version: m.Version, Manifest: hashes[name]})
		if build == 0 {
			x.Build = max(x.Build, m.Build)
		}
	}
	slices.SortFunc(x.Components, func(a, b corbelfile.Component) int { return strings.Compare(a.Name, b.Name) })
	return corbelfile.Seal(corbelfile.KindIndex, x),
		fmt.Sprintf("%d manifests that are in the store", len(x.Components)), nil
}

func (s *System) featuresOff() (components []string) {
	list, _ := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath) // without the list none is left out
	for _, f := range list {
		if !f.On {
			components = append(components, f.Component)
		}
	}
	return components
}

func checkRelease(s *System, raw []byte) error {
	var r corbelfile.Release
	if err := corbelfile.Decode(corbelfile.ReleasePath, raw, &r); err != nil {
		return err
	}
	_, x, err := s.store().index()
	switch {
	case r.Family != Family:
		return fmt.Errorf("it is of family %q", r.Family)
	case err == nil && r.Build != x.Build:
		return fmt.Errorf("it says build %d, and the store is of build %d", r.Build, x.Build)
	case r.Title == "" || r.Version == "":
		return errors.New("it has no title or no version")
	}
	if arch := s.architecture(); arch != "" && r.Architecture != arch {
		return fmt.Errorf("it says %s, and the components are for %s", r.Architecture, arch)
	}
	return nil
}

// architecture is what the components are for; empty when none can be read.
func (s *System) architecture() string {
	_, x, err := s.store().index()
	if err != nil {
		return ""
	}
	for _, c := range x.Components {
		if m, err := s.store().read(c.Name, c.Version); err == nil && m.Architecture != "" {
			return m.Architecture
		}
	}
	return ""
}

func releaseAnew(_ context.Context, s *System, _ []store.Source) ([]byte, string, error) {
	_, x, err := s.store().index()
	if err != nil {
		return nil, "", err
	}
	r, _ := read[corbelfile.Release](s.sys, corbelfile.ReleasePath) // what of it is right is kept
	for _, at := range s.checkpoints() {
		c, err := read[corbelfile.Checkpoint](s.sys, at)
		if k := slices.Index(c.Files, corbelfile.ReleasePath); err == nil && k >= 0 {
			if kept, err := read[corbelfile.Release](s.sys, path.Join(path.Dir(at), fmt.Sprint(k))); err == nil {
				r.Host = kept.Host
				break
			}
		}
	}
	r.Family, r.Build, r.Architecture = Family, x.Build, s.architecture()
	r.Version = fmt.Sprintf("%d.%d", x.Build/1000, x.Build/100%10)
	r.Title = "Corbel " + r.Version
	return corbelfile.Encode(r), fmt.Sprintf("the store, which is of build %d", x.Build), nil
}

// checkServices holds the services of the release against those that it ships:
// what they run, what they need, whether the start needs them. Start types are
// judged by themselves.
func checkServices(s *System, raw []byte) error {
	var have []corbelfile.Service
	if err := corbelfile.Decode(corbelfile.ServicesPath, raw, &have); err != nil {
		return err
	}
	shipped, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesShipped)
	if err != nil {
		return nil //nolint:nilerr // a file of the system that is missing is the store's fault
	}
	for _, want := range shipped {
		i := slices.IndexFunc(have, func(h corbelfile.Service) bool { return h.Name == want.Name })
		if i < 0 {
			continue // judged as a service that is missing
		}
		h := have[i]
		if h.File != want.File || h.AtStart != want.AtStart || h.Program != want.Program ||
			!slices.Equal(h.Needs, want.Needs) {
			return fmt.Errorf("service %s is not what the release ships: it runs %q and needs %s; want %q and %s",
				h.Name, h.File, strings.Join(h.Needs, ", "), want.File, strings.Join(want.Needs, ", "))
		}
	}
	for _, h := range have {
		known := slices.ContainsFunc(shipped, func(w corbelfile.Service) bool { return w.Name == h.Name })
		if h.Name == "" || !known && h.Program == "" {
			return fmt.Errorf("service %q belongs neither to the release nor to a program", h.Name)
		}
	}
	return nil
}

// servicesAnew takes those of the release as it ships them, with the start types
// that they have, and those of programs as they are.
func servicesAnew(_ context.Context, s *System, _ []store.Source) ([]byte, string, error) {
	shipped, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesShipped)
	if err != nil {
		return nil, "", err
	}
	have, _ := read[[]corbelfile.Service](s.sys, corbelfile.ServicesPath) // what of it is right is kept
	for i, w := range shipped {
		k := slices.IndexFunc(have, func(h corbelfile.Service) bool { return h.Name == w.Name })
		if k >= 0 &&
			slices.Contains([]string{corbelfile.StartAuto, corbelfile.StartDemand, corbelfile.StartOff}, have[k].Start) {
			shipped[i].Start, shipped[i].Running = have[k].Start, have[k].Running
		}
	}
	for _, h := range have {
		if h.Program != "" && h.Name != "" {
			shipped = append(shipped, h)
		}
	}
	return corbelfile.Encode(shipped), "what the release ships, and the programs that are known", nil
}

func checkSettings(_ *System, raw []byte) error {
	_, err := corbelfile.ReadTree(raw)
	return err
}

func shippedSettings(_ context.Context, s *System, _ []store.Source) ([]byte, string, error) {
	raw, err := fs.ReadFile(s.sys, corbelfile.SettingsShipped)
	return raw, "what the release ships", err
}

// An offering source can tell what it offers to a machine.
type offering interface {
	Offers(ctx context.Context) ([]corbelfile.Offer, error)
}

// Offers are all that the vendor has.
func (s *vendorSource) Offers(ctx context.Context) (list []corbelfile.Offer, err error) {
	raw, err := s.ask(ctx, s.base+"/catalogue")
	if err != nil {
		return nil, err
	}
	return list, corbelfile.Decode("the vendor's catalogue", raw, &list)
}

// checkOffers holds what is offered against itself, and against the packages that
// were downloaded.
func checkOffers(s *System, raw []byte) error {
	var list []corbelfile.Offer
	if err := corbelfile.Decode(corbelfile.OffersPath, raw, &list); err != nil {
		return err
	}
	kinds := []string{"update", "upgrade", "driver", "feature", "install"}
	for _, o := range list {
		switch {
		case o.ID == "" || o.As == "" || o.Architecture == "":
			return fmt.Errorf("an offer has no id, no architecture, or nobody who asked: %q", o.ID)
		case !slices.Contains(kinds, o.Kind):
			return fmt.Errorf("%s is of kind %q", o.ID, o.Kind)
		case o.Base <= 0 || o.Build <= 0 || o.Kind == "update" && o.Build <= o.Base:
			return fmt.Errorf("%s leads from build %d to build %d", o.ID, o.Base, o.Build)
		}
		file, err := fs.ReadFile(s.sys, packPath(o.ID))
		if err != nil {
			continue
		}
		if pack, err := corbelfile.ReadPack(file); err == nil && pack.Damaged() == "" &&
			(pack.Offer.Base != o.Base || pack.Offer.Build != o.Build || pack.Offer.Architecture != o.Architecture) {
			return fmt.Errorf("%s is not what its downloaded package says of itself", o.ID)
		}
	}
	return nil
}

// offersAnew asks the vendor what there is for this build.
func offersAnew(ctx context.Context, s *System, sources []store.Source) ([]byte, string, error) {
	failed := errors.New("what is on offer is the vendor's to say: name its service by --source")
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return nil, "", err
	}
	for _, src := range sources {
		v, ok := src.(offering)
		if !ok {
			continue
		}
		all, err := v.Offers(ctx)
		if err != nil {
			failed = err
			continue
		}
		mine := slices.DeleteFunc(all, func(o corbelfile.Offer) bool {
			return o.Kind != "update" || o.Base != rel.Build || o.Architecture != rel.Architecture || o.SupersededBy != ""
		})
		return corbelfile.Encode(mine), src.Title(), nil
	}
	return nil, "", failed
}
