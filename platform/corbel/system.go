package corbel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/platform/corbelfile"
)

// A System is Corbel on its volumes, opened to be read or to be changed.
type System struct {
	mode string // of the firmware; empty when not known
	now  time.Time
	sys  fs.FS
	boot fs.FS // nil when no boot volume can be read
	// What is written to; nil when the system is only read.
	edit, editBoot *fat.Editor
	dev            block.Device
	table          *layout.Table
	bootPart       layout.Partition
	sysPart        layout.Partition
	serial         string // of the system volume
	keptIn         string // where settings were kept aside; empty until they are
	candidates     []bootVolume
}

// Family is what facts call this kind of system.
func (s *System) Family() string { return Family }

// Open opens the system on a partition of a disk for changes. The boot volume
// goes by content: the one whose boot store names this system, else the first
// that holds a loader's folder, or that has no place else to be.
func (a Adapter) Open(dev block.Device, partition int, o system.Options) (system.System, error) {
	table, err := layout.Read(dev)
	if err != nil {
		return nil, err
	}
	s := &System{mode: string(o.Mode), now: o.Now, dev: dev, table: table}
	var damaged error
	for _, p := range table.Partitions() {
		part := block.NewWriteRange(dev, p.Off, p.Length)
		e, err := fat.Edit(part, o.Now)
		if err != nil {
			continue
		}
		if alike, err := e.TablesAgree(); err != nil || !alike {
			damaged = errors.Join(damaged, fmt.Errorf(
				"corbel: the copies of the allocation table of partition %d differ: mend its file system first", p.Number,
			))
			continue
		}
		switch {
		case p.Number == partition && isSystem(e):
			s.sys, s.edit, s.sysPart, s.serial = e, e, p, layout.Recognise(part).UUID
		case p.Number != partition && isBoot(e, p) && !isSystem(e):
			s.candidates = append(s.candidates, bootVolume{e, p})
		}
	}
	if s.sys == nil && damaged != nil {
		return nil, damaged
	}
	if s.sys == nil {
		return nil, fmt.Errorf("corbel: no system lies on partition %d", partition)
	}
	s.chooseBoot()
	return s, nil
}

// A bootVolume is one from which the firmware may start a system.
type bootVolume struct {
	edit *fat.Editor
	part layout.Partition
}

// chooseBoot takes the boot volume that starts this system, else the first.
func (s *System) chooseBoot() {
	for i, c := range s.candidates {
		own := false
		if raw, err := fs.ReadFile(c.edit, corbelfile.BootStore(s.mode)); err == nil {
			e, err := corbelfile.ReadBootStore(raw)
			own = err == nil && e.Volume == s.serial
		}
		if i == 0 || own {
			s.boot, s.editBoot, s.bootPart = c.edit, c.edit, c.part
		}
		if own {
			return
		}
	}
}

// isBoot tells the loader's volume from others by what is on it.
func isBoot(v fs.FS, p layout.Partition) bool {
	for _, name := range []string{
		corbelfile.EarlyUEFI, corbelfile.LoaderUEFI, corbelfile.BootStoreUEFI, corbelfile.LoaderBIOS,
		corbelfile.BootStoreBIOS, corbelfile.EarlyBIOS,
	} {
		if has(v, name) {
			return true
		}
	}
	return p.TypeCode == layout.TypeESP.String()
}

// isSystem tells a system by its release, its kernel or its store: any of them may
// be what is broken.
func isSystem(v fs.FS) bool {
	return has(v, corbelfile.ReleasePath) || has(v, corbelfile.KernelPath) || has(v, corbelfile.ManifestFolder)
}

func has(fsys fs.FS, name string) bool {
	_, err := fs.Stat(fsys, name)
	return err == nil
}

func (s *System) put(name string, v any) error { return s.edit.WriteFile(name, corbelfile.Encode(v)) }

// updateService is the one that fetches and installs updates.
const updateService = "courier"

// Services lists the services beside what the release ships.
func (s *System) Services() ([]upkeep.Service, error) {
	list, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesPath)
	if err != nil {
		return nil, err
	}
	shipped, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesShipped)
	if err != nil {
		return nil, err
	}
	out := make([]upkeep.Service, len(list))
	for i, have := range list {
		out[i] = upkeep.Service{
			Name:    have.Name,
			Needs:   have.Needs,
			Start:   have.Start,
			Running: have.Running,
			Program: have.Program,
		}
		if k := slices.IndexFunc(shipped, func(o corbelfile.Service) bool { return o.Name == have.Name }); k >= 0 {
			out[i].Shipped, out[i].Runs = shipped[k].Start, shipped[k].Running
		}
		if have.AtStart && have.Program != "" {
			out[i].Broken = s.broken(have.File)
		}
	}
	for _, s := range shipped {
		if !slices.ContainsFunc(out, func(o upkeep.Service) bool { return o.Name == s.Name }) {
			out = append(out, upkeep.Service{Name: s.Name, Needs: s.Needs, Shipped: s.Start, Runs: s.Running, Missing: true})
		}
	}
	order, err := upkeep.StartOrder(out, updateService)
	for i := range out {
		out[i].Update = err == nil && slices.Contains(order, out[i].Name)
	}
	return out, nil
}

// broken says why a program cannot run: every one begins by a magic and the
// sum of what follows.
func (s *System) broken(name string) string {
	raw, err := fs.ReadFile(s.sys, name)
	switch {
	case err != nil:
		return name + " is missing"
	case !corbelfile.Runs(raw):
		return name + " is not what its own sum says"
	}
	return ""
}

// PutServices changes start types and states. What the release ships and is not
// there is put back, unless it is still said to be missing.
func (s *System) PutServices(list []upkeep.Service) error {
	have, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesPath)
	if err != nil {
		return err
	}
	shipped, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesShipped)
	if err != nil {
		return err
	}
	for _, want := range list {
		here := slices.ContainsFunc(have, func(h corbelfile.Service) bool { return h.Name == want.Name })
		i := slices.IndexFunc(shipped, func(o corbelfile.Service) bool { return o.Name == want.Name })
		if !here && i >= 0 && !want.Missing {
			have = append(have, shipped[i])
		}
	}
	for i := range have {
		for _, want := range list {
			if want.Name == have[i].Name {
				have[i].Start, have[i].Running = want.Start, want.Running
			}
		}
	}
	return s.put(corbelfile.ServicesPath, have)
}

// Leftovers are work folders of attempts that did not end.
func (s *System) Leftovers() []string {
	list, _ := fs.Glob(s.sys, path.Join(corbelfile.UpdateFolder, corbelfile.WorkPrefix+"*")) // the pattern is right
	return list
}

// DamagedDownloads are those that are not what the catalogue says.
func (s *System) DamagedDownloads() (list []bag.Download, err error) {
	offers, err := s.offers()
	if err != nil {
		return nil, err
	}
	for _, o := range offers {
		name := packPath(o.ID)
		raw, err := fs.ReadFile(s.sys, name)
		if err != nil {
			continue
		}
		if got := corbelfile.PackDigest(raw); got != o.Digest {
			list = append(list, bag.Download{Name: name, Size: int64(len(raw)), Want: o.Digest, Got: got})
		}
	}
	return list, nil
}

func packPath(id string) string { return path.Join(corbelfile.CacheFolder, id+".pack") }

// RoomFor is what the most demanding offer asks of a volume, and what is free there; nothing is asked of a boot volume
// where there is none.
func (s *System) RoomFor(_ context.Context, place system.Place, _ system.ToolOptions) ([]system.VolumeRoom, error) {
	part, always, asks := s.sysPart, int64(corbelfile.RoomForAttempt), func(f *corbelfile.Fit) int64 { return f.Free }
	if place == system.BootVolumes {
		if s.boot == nil {
			return nil, nil
		}
		part, always, asks = s.bootPart, 0, func(f *corbelfile.Fit) int64 { return f.FreeBoot }
	}
	want, free, err := s.room(part, always, asks)
	need := system.Need{Mount: string(place), Terms: []system.Term{{What: "what the largest offer asks for", Bytes: want}}}
	return []system.VolumeRoom{{Need: need, Free: free}}, err
}

// Dispensable are downloads that nothing on offer is waiting for, and early-boot images of builds that are gone.
func (s *System) Dispensable(_ context.Context, place system.Place) ([]bag.Download, error) {
	if place == system.BootVolumes {
		return s.OldEarlyImages()
	}
	return s.OldDownloads()
}

// MakeRoom takes all of them off the volume. The journal keeps them.
func (s *System) MakeRoom(ctx context.Context, place system.Place, _ system.ToolOptions) (did []string, err error) {
	list, err := s.Dispensable(ctx, place)
	edit := s.edit
	if place == system.BootVolumes {
		edit = s.editBoot
	}
	for _, d := range list {
		err = errors.Join(err, edit.Remove(d.Name))
		did = append(did, fmt.Sprintf("%s, %d bytes, taken away; the journal keeps it", d.Name, d.Size))
	}
	return did, err
}

// room is what offers ask of a volume, always where they do not say, and what is free on it.
func (s *System) room(
	part layout.Partition, always int64, asks func(*corbelfile.Fit) int64,
) (want, free int64, err error) {
	offers, err := s.offers()
	for _, o := range offers {
		if o.Fit != nil {
			want = max(want, asks(o.Fit))
		} else {
			want = max(want, always)
		}
	}
	return want, layout.Recognise(block.NewReadRange(s.dev, part.Off, part.Length)).Free, err
}

// OldDownloads are those that nothing on offer is waiting for.
func (s *System) OldDownloads() (list []bag.Download, err error) {
	offers, err := s.offers()
	if err != nil {
		return nil, err
	}
	names, err := fs.Glob(s.sys, path.Join(corbelfile.CacheFolder, "*.pack"))
	for _, name := range names {
		wanted := slices.ContainsFunc(offers, func(o corbelfile.Offer) bool { return packPath(o.ID) == name })
		if info, err := fs.Stat(s.sys, name); err == nil && !wanted {
			list = append(list, bag.Download{Name: name, Size: info.Size()})
		}
	}
	return list, err
}

// OldEarlyImages are those of builds that are neither installed nor were
// before.
func (s *System) OldEarlyImages() (list []bag.Download, err error) {
	if s.boot == nil {
		return nil, nil
	}
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return nil, err
	}
	history, err := s.History()
	if err != nil {
		return nil, err
	}
	keep := []string{strconv.Itoa(rel.Build)}
	for _, h := range history {
		keep = append(keep, strconv.Itoa(h.Build), strconv.Itoa(h.Was))
	}
	names, err := fs.Glob(s.boot, path.Join(corbelfile.Early(s.mode), "early-*.img"))
	for _, name := range names {
		build := strings.TrimSuffix(strings.TrimPrefix(path.Base(name), "early-"), ".img")
		if info, err := fs.Stat(s.boot, name); err == nil && !slices.Contains(keep, build) {
			list = append(list, bag.Download{Name: name, Size: info.Size()})
		}
	}
	return list, err
}

// CacheLocked reports whether the cache cannot be written, and UnlockCache
// puts that right.
func (s *System) CacheLocked() bool {
	info, err := fs.Stat(s.sys, corbelfile.CacheFolder)
	return err != nil || !info.IsDir() || info.Mode()&0o200 == 0
}

// UnlockCache makes the cache a folder that can be written.
func (s *System) UnlockCache() error {
	if info, err := fs.Stat(s.sys, corbelfile.CacheFolder); err == nil && !info.IsDir() {
		if _, err := s.MoveAside(corbelfile.CacheFolder); err != nil { // something else took its name
			return err
		}
	}
	if err := s.edit.Mkdir(corbelfile.CacheFolder); err != nil {
		return err
	}
	return s.edit.SetReadOnly(corbelfile.CacheFolder, false)
}

func (s *System) offers() ([]corbelfile.Offer, error) {
	return read[[]corbelfile.Offer](s.sys, corbelfile.OffersPath)
}

// HoldOlder holds back what is offered though a newer one is installed.
func (s *System) HoldOlder(context.Context, system.ToolOptions) (held []string, err error) {
	drivers, err := read[[]corbelfile.Driver](s.sys, corbelfile.DriversPath)
	if err != nil {
		return nil, err
	}
	return s.changeOffers(func(o *corbelfile.Offer) bool {
		older := slices.ContainsFunc(drivers, func(d corbelfile.Driver) bool {
			return d.Device == o.Device && compareVersions(d.Version, o.Version) > 0
		})
		if o.Kind != "driver" || o.Held || !older {
			return false
		}
		o.Held = true
		return true
	})
}

// AskAsSystem lets the system ask for what an account without rights asked
// for.
func (s *System) AskAsSystem() ([]string, error) {
	return s.changeOffers(func(o *corbelfile.Offer) bool {
		was := o.As
		o.As = corbelfile.OwnerSystem
		return was != o.As
	})
}

func (s *System) changeOffers(f func(*corbelfile.Offer) bool) (changed []string, err error) {
	list, err := s.offers()
	if err != nil {
		return nil, err
	}
	for i := range list {
		if f(&list[i]) {
			changed = append(changed, list[i].ID)
		}
	}
	if len(changed) == 0 {
		return nil, nil
	}
	return changed, s.put(corbelfile.OffersPath, list)
}

// compareVersions compares numbers with points between, part by part.
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		var m, n int
		if i < len(x) {
			m, _ = strconv.Atoi(x[i])
		}
		if i < len(y) {
			n, _ = strconv.Atoi(y[i])
		}
		if m != n {
			return m - n
		}
	}
	return 0
}

// Pending reads the work for the next start; nil when there is none.
func (s *System) Pending() (*bag.Pending, error) {
	t, err := read[corbelfile.Transaction](s.sys, corbelfile.TransactionPath)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil //nolint:nilnil // none is no error
	}
	if err != nil {
		return nil, err
	}
	p := &bag.Pending{Transaction: t.ID, Gone: []bag.MissingReference{}}
	raw, err := fs.ReadFile(s.sys, corbelfile.WorklistPath)
	if err != nil {
		return p, nil //nolint:nilerr // a list that is missing is not whole
	}
	ops, whole, err := corbelfile.ReadWorklist(bytes.NewReader(raw))
	p.Operations, p.Whole = len(ops), whole && err == nil && t.Complete
	for _, op := range ops {
		if has(s.sys, manifestPath(op.Component, op.Version)) {
			continue
		}
		i := slices.IndexFunc(p.Gone, func(g bag.MissingReference) bool {
			return g.Component == op.Component && g.Version == op.Version
		})
		if i < 0 {
			i = len(p.Gone)
			p.Gone = append(p.Gone, bag.MissingReference{Component: op.Component, Version: op.Version})
		}
		p.Gone[i].Operations++
	}
	return p, nil
}

// CutPending takes out of the worklist the operations on components that are
// not in the store. The list as it was is kept aside.
func (s *System) CutPending(ctx context.Context) (cut upkeep.Cut, err error) {
	raw, err := fs.ReadFile(s.sys, corbelfile.WorklistPath)
	if err != nil {
		return cut, err
	}
	manifests, err := fs.Sub(s.sys, corbelfile.ManifestFolder)
	if err != nil {
		return cut, err
	}
	var out bytes.Buffer
	cut, err = upkeep.Excise(ctx, bytes.NewReader(raw), &out, corbelfile.FindOperations(Missing(manifests)))
	if err != nil {
		return cut, err
	}
	if _, err := s.MoveAside(corbelfile.WorklistPath); err != nil {
		return cut, err
	}
	return cut, s.edit.WriteFile(corbelfile.WorklistPath, out.Bytes())
}

// Missing tells of a component, as a worklist names it, whether it has no
// manifest in a folder. Each is looked for once.
func Missing(manifests fs.FS) func(component []byte) bool {
	there := map[string]bool{}
	return func(on []byte) bool {
		known, seen := there[string(on)]
		if !seen {
			name, version, _ := strings.Cut(string(on), " ")
			known = has(manifests, name+"-"+version)
			there[string(on)] = known
		}
		return !known
	}
}

// RevertPending gives up the pending work as a whole: list and transaction are
// moved aside. Nothing of it was done yet.
func (s *System) RevertPending() error {
	for _, name := range []string{corbelfile.WorklistPath, corbelfile.TransactionPath} {
		if !has(s.sys, name) {
			continue
		}
		if _, err := s.MoveAside(name); err != nil {
			return err
		}
	}
	return nil
}

// History is what was installed, the oldest first.
func (s *System) History() ([]bag.HistoryEntry, error) {
	list, err := read[[]corbelfile.History](s.sys, corbelfile.HistoryPath)
	out := make([]bag.HistoryEntry, len(list))
	for i, h := range list {
		out[i] = bag.HistoryEntry{When: h.When, Kind: h.Kind, ID: h.ID, Title: h.Title, Build: h.Build, Was: h.Was}
	}
	return out, err
}

// RemoveLatest takes the latest update or release away: the components are
// those from before it again. What it brought stays in the store.
func (s *System) RemoveLatest(context.Context, system.ToolOptions) ([]string, error) {
	list, err := read[[]corbelfile.History](s.sys, corbelfile.HistoryPath)
	if err != nil {
		return nil, err
	}
	last := len(list) - 1
	for last >= 0 && list[last].Kind != "update" && list[last].Kind != "upgrade" {
		last--
	}
	if last < 0 || len(list[last].Changed) == 0 {
		return nil, errors.New("corbel: no update is noted that could be removed")
	}
	h := list[last]
	st := s.store()
	_, index, err := st.index()
	if err != nil {
		return nil, err
	}
	for _, was := range h.Changed {
		if err := s.goBack(st, index, was); err != nil {
			return nil, fmt.Errorf("corbel: remove %s: %s: %w", h.ID, was.Name, err)
		}
	}
	index.Build = h.Was
	if err := s.edit.WriteFile(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, *index)); err != nil {
		return nil, err
	}
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return nil, err
	}
	rel.Build = h.Was
	if h.Kind == "upgrade" {
		rel.Version = fmt.Sprintf("%d.%d", h.Was/1000, h.Was/100%10)
		rel.Title = "Corbel " + rel.Version
	}
	if err := s.put(corbelfile.ReleasePath, rel); err != nil {
		return nil, err
	}
	did := []string{fmt.Sprintf("%s, %s is removed", h.ID, h.Title)}
	return did, s.put(corbelfile.HistoryPath, slices.Delete(list, last, last+1))
}

// LatestRemoved holds what the release says of itself against the store's index: both are of one build again.
func (s *System) LatestRemoved(context.Context) (saw string, err error) {
	history, err := s.History()
	if err != nil {
		return "", err
	}
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return "", err
	}
	_, index, err := s.store().index()
	if err == nil && index.Build != rel.Build {
		err = fmt.Errorf("the release is build %d, and the index is of %d", rel.Build, index.Build)
	}
	return fmt.Sprintf("build %d, after %d entries of the history", rel.Build, len(history)), err
}

// goBack makes one component what it was.
func (s *System) goBack(st *componentStore, index *corbelfile.Index, was corbelfile.Component) error {
	m, err := st.read(was.Name, was.Version)
	if err != nil {
		return err
	}
	for _, f := range m.Files {
		data, err := fs.ReadFile(s.sys, payloadPath(f.Payload))
		if err != nil {
			return err
		}
		if err := st.PutProjected(f.Path, data); err != nil {
			return err
		}
	}
	for i := range index.Components {
		if index.Components[i].Name == was.Name {
			index.Components[i] = was
		}
	}
	return nil
}

// RemoveProgram takes the program away that was installed last: its services
// off the list, its folder aside.
func (s *System) RemoveProgram() (string, error) {
	list, err := read[[]corbelfile.Program](s.sys, corbelfile.ProgramsPath)
	if err != nil {
		return "", err
	}
	if len(list) == 0 {
		return "", errors.New("corbel: no program is installed")
	}
	last := 0
	for i := range list {
		if list[i].Installed.After(list[last].Installed) {
			last = i
		}
	}
	p := list[last]
	services, err := read[[]corbelfile.Service](s.sys, corbelfile.ServicesPath)
	if err != nil {
		return "", err
	}
	services = slices.DeleteFunc(services, func(o corbelfile.Service) bool { return o.Program == p.Name })
	if err := s.put(corbelfile.ServicesPath, services); err != nil {
		return "", err
	}
	if has(s.sys, p.Folder) {
		if _, err := s.MoveAside(p.Folder); err != nil {
			return "", err
		}
	}
	return p.Name + " " + p.Version, s.put(corbelfile.ProgramsPath, slices.Delete(list, last, last+1))
}
