package ladder

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/upkeep"
)

// What a system has to be able to do for an action to work on it.
type (
	serviceKeeper interface {
		Services() ([]upkeep.Service, error)
		PutServices([]upkeep.Service) error
	}
	downloads interface {
		DamagedDownloads() ([]bag.Download, error)
		OldDownloads() ([]bag.Download, error)
		RemoveDownload(name string) error
	}
	earlyImages interface {
		OldEarlyImages() ([]bag.Download, error)
		RemoveEarlyImage(name string) error
	}
	mover interface {
		Leftovers() []string
		MoveAside(name string) (string, error)
	}
	cache interface {
		CacheLocked() bool
		UnlockCache() error
	}
	offers interface {
		HoldOlderDrivers() ([]string, error)
		AskAsSystem() ([]string, error)
	}
	settingKeeper interface {
		SettingFaults() ([]bag.SettingFault, error)
		MendSetting(bag.SettingFault) error
	}
	policyKeeper interface {
		Policy() (map[string]string, error)
		SetPolicy(name, value string) (was string, err error)
	}
	pendingKeeper interface {
		Pending() (*bag.Pending, error)
		CutPending(context.Context) (upkeep.Cut, error)
		RevertPending() error
	}
	features interface {
		PutFeature(context.Context, []store.Source) ([]string, error)
		FeatureStored() (name string, err error)
	}
	componentKeeper interface{ Components() store.Writer }
	remover         interface {
		History() ([]bag.Done, error)
		RemoveLatest() (string, error)
	}
	programs  interface{ RemoveProgram() (string, error) }
	installer interface {
		componentKeeper
		Reinstall(context.Context, []store.Source) ([]string, error)
	}
	cleanInstaller interface {
		componentKeeper
		settingKeeper
		InstallClean(context.Context, []store.Source) ([]string, error)
	}
	checkpoints interface{ ReturnToCheckpoint() (string, error) }
	starter     interface {
		SetMode(mode string) (was string, err error)
	}
	booter interface {
		PutBootCode() error
		PutBootSector() error
		PutLoader() error
		PutBootStore() error
		BootPiece(kind string) error
	}
)

// on makes an action that needs a system of one ability. do returns what it
// did, in words; nothing done is nothing to change.
func on[T any](do func(context.Context, *ground, T) ([]string, error), prove func(context.Context, T) []Check) action {
	return action{fits: holdsSystem,
		do: func(ctx context.Context, g *ground) (effect, error) {
			sys, ok := g.system.(T)
			if !ok {
				return effect{guard: []Check{{What: "the system on the disk is one that this can be done to", Saw: "it is not, or none was found"}}}, nil
			}
			did, err := do(ctx, g, sys)
			if err == nil && len(did) == 0 {
				err = errNothing
			}
			return effect{did: did}, err
		},
		prove: func(ctx context.Context, _, after *ground) []Check {
			sys, ok := after.system.(T)
			if !ok {
				return []Check{{What: "the system can still be read", Saw: "it cannot"}}
			}
			return prove(ctx, sys)
		}}
}

// holdsSystem fits the disk on which a system lies whose parts are known.
func holdsSystem(f *bag.Facts, d bag.Disk) bool {
	return f.State != nil && slices.ContainsFunc(d.Partitions, func(p bag.Partition) bool { return p.System != nil })
}

// told turns a look into a check.
func told(what string, err error, saw string) []Check {
	if err != nil {
		return []Check{{What: what, Saw: err.Error()}}
	}
	return []Check{{What: what, OK: true, Saw: saw}}
}

// systemActions change the state of a system.
var systemActions = map[string]action{
	"upkeep.start-types": on(startTypes, proveServices),
	"upkeep.start-needs": on(startNeeds, proveServices),
	"upkeep.leftovers-aside": on(leftoversAside, func(_ context.Context, s mover) []Check {
		return none("no work folder of an earlier attempt is left", s.Leftovers())
	}),
	"upkeep.downloads-aside": on(func(_ context.Context, g *ground, s downloads) ([]string, error) {
		list, err := s.DamagedDownloads()
		return aside(g, list, err)
	}, func(_ context.Context, s downloads) []Check {
		list, err := s.DamagedDownloads()
		return told("no download differs from the catalogue", errors.Join(err, some(list)), "none does")
	}),
	"upkeep.unlock-cache": on(func(_ context.Context, _ *ground, s cache) ([]string, error) {
		if !s.CacheLocked() {
			return nil, nil
		}
		return []string{"the cache can be written again"}, s.UnlockCache()
	}, func(_ context.Context, s cache) []Check {
		return []Check{{What: "the cache can be written", OK: !s.CacheLocked(), Saw: fmt.Sprintf("locked: %v", s.CacheLocked())}}
	}),
	"upkeep.reset-update-client": on(resetClient, func(ctx context.Context, s updateClient) []Check {
		return append(proveServices(ctx, s), none("no work folder of an earlier attempt is left", s.Leftovers())...)
	}),
	"upkeep.make-room": on(func(_ context.Context, _ *ground, s downloads) ([]string, error) {
		list, err := s.OldDownloads()
		return remove(list, err, s.RemoveDownload)
	}, func(_ context.Context, s downloads) []Check {
		list, err := s.OldDownloads()
		return told("no download is left that nothing waits for", errors.Join(err, some(list)), "none is")
	}),
	"upkeep.make-boot-room": on(func(_ context.Context, _ *ground, s earlyImages) ([]string, error) {
		list, err := s.OldEarlyImages()
		return remove(list, err, s.RemoveEarlyImage)
	}, func(_ context.Context, s earlyImages) []Check {
		list, err := s.OldEarlyImages()
		return told("no early-boot image is left of a build that is gone", errors.Join(err, some(list)), "none is")
	}),
	"upkeep.ask-as-system": on(func(_ context.Context, _ *ground, s offers) ([]string, error) {
		list, err := s.AskAsSystem()
		return prefixed("asked for by the system: ", list), err
	}, func(_ context.Context, s offers) []Check { // on a draft: what would still have to be changed
		list, err := s.AskAsSystem()
		return told("what is on offer is asked for by the system", errors.Join(err, some(list)), "all of it")
	}),
	"upkeep.hold-drivers": on(func(_ context.Context, _ *ground, s offers) ([]string, error) {
		list, err := s.HoldOlderDrivers()
		return prefixed("held back: ", list), err
	}, func(_ context.Context, s offers) []Check {
		list, err := s.HoldOlderDrivers()
		return told("no driver is on offer that is older than the installed one", errors.Join(err, some(list)), "none that is not held back")
	}),
	"upkeep.mend-settings": on(mendSettings, func(_ context.Context, s settingKeeper) []Check {
		list, err := s.SettingFaults()
		return told("every branch is sound, belongs to its owner and has values that work", errors.Join(err, some(list)), "all are")
	}),
	"upkeep.set-policy":  policy(),
	"upkeep.lend-policy": lendPolicy(),
	"upkeep.cut-pending": on(func(ctx context.Context, _ *ground, s pendingKeeper) ([]string, error) {
		p, err := s.Pending()
		if err != nil || p == nil || len(p.Gone) == 0 {
			return nil, err
		}
		cut, err := s.CutPending(ctx)
		return []string{fmt.Sprintf("%d operations of %d taken out; the list as it was is kept aside", cut.Out, p.Operations)}, err
	}, func(_ context.Context, s pendingKeeper) []Check {
		p, err := s.Pending()
		if err == nil && p != nil && (len(p.Gone) > 0 || !p.Whole) {
			err = fmt.Errorf("%d things are still referred to that are gone", len(p.Gone))
		}
		return told("the pending work refers to nothing that is gone", err, "all of it can be done")
	}),
	"upkeep.revert-pending": on(func(_ context.Context, _ *ground, s pendingKeeper) ([]string, error) {
		p, err := s.Pending()
		if err != nil || p == nil {
			return nil, err
		}
		return []string{"transaction " + p.Transaction + " is given up; its list is kept aside"}, s.RevertPending()
	}, func(_ context.Context, s pendingKeeper) []Check {
		p, err := s.Pending()
		if err == nil && p != nil {
			err = fmt.Errorf("%s is pending", p.Transaction)
		}
		return told("nothing is pending", err, "nothing is")
	}),
	"upkeep.feature-source": on(func(ctx context.Context, g *ground, s features) ([]string, error) {
		return s.PutFeature(ctx, g.Sources)
	},
		func(_ context.Context, s features) []Check {
			name, err := s.FeatureStored()
			return told("the payload is in the store", err, name+": every file has the hash that its manifest says")
		}),
	"upkeep.remove-update": on(func(_ context.Context, _ *ground, s remover) ([]string, error) {
		what, err := s.RemoveLatest()
		return []string{what + " is removed"}, err
	}, func(ctx context.Context, s remover) []Check {
		list, err := s.History()
		return append(told("the history ends with what was there before", err, fmt.Sprintf("%d entries", len(list))), wholeAgain(ctx, s)...)
	}),
	"upkeep.remove-program": on(func(_ context.Context, _ *ground, s programs) ([]string, error) {
		what, err := s.RemoveProgram()
		return []string{what + " is removed; its folder is kept aside"}, err
	}, proveProgram),
	"upkeep.reinstall": on(func(ctx context.Context, g *ground, s installer) ([]string, error) {
		return s.Reinstall(ctx, g.Sources)
	},
		func(ctx context.Context, s installer) []Check { return proveStore(ctx, s) }),
	"upkeep.install-clean": destroying(on(func(ctx context.Context, g *ground, s cleanInstaller) ([]string, error) {
		return s.InstallClean(ctx, g.Sources)
	},
		func(ctx context.Context, s cleanInstaller) []Check {
			list, err := s.SettingFaults()
			return append(proveStore(ctx, s), told("the settings are those that the release ships", errors.Join(err, some(list)), "all of them")...)
		})),
	"upkeep.return-to-checkpoint": on(func(_ context.Context, _ *ground, s checkpoints) ([]string, error) {
		what, err := s.ReturnToCheckpoint()
		return []string{"returned to " + what}, err
	}, wholeAgain[checkpoints]),
	"boot.minimal-mode": minimalMode(),
	"boot.normal-mode": on(func(_ context.Context, _ *ground, s starter) ([]string, error) {
		_, err := s.SetMode("normal")
		return []string{"the next start is a normal one"}, err
	}, saysMode("normal")),
	"store.repair": on(repairStore, proveStore[componentKeeper]),
	"boot.code":    on(booting("boot code in sector 0 as in the component store", booter.PutBootCode), proveBoot("code")),
	"boot.sector":  on(booting("boot sector's code as in the component store", booter.PutBootSector), proveBoot("sector")),
	"boot.loader":  on(booting("loader as in the component store", booter.PutLoader), proveBoot("loader")),
	"boot.store":   on(booting("boot store that starts the system on this disk", booter.PutBootStore), proveBoot("store")),
}

func destroying(a action) action {
	a.destroys = true
	return a
}

func some[T any](list []T) error {
	if len(list) > 0 {
		return fmt.Errorf("%d are left: %v", len(list), list[0])
	}
	return nil
}

func none(what string, list []string) []Check { return told(what, some(list), "none") }

func prefixed(lead string, list []string) []string {
	for i := range list {
		list[i] = lead + list[i]
	}
	return list
}

func remove(list []bag.Download, err error, one func(string) error) (did []string, _ error) {
	for _, d := range list {
		err = errors.Join(err, one(d.Name))
		did = append(did, fmt.Sprintf("%s, %d bytes, taken away; the journal keeps it", d.Name, d.Size))
	}
	return did, err
}

func aside(g *ground, list []bag.Download, err error) (did []string, _ error) {
	m, ok := g.system.(mover)
	if !ok || err != nil {
		return nil, errors.Join(err, errors.ErrUnsupported)
	}
	for _, d := range list {
		to, err := m.MoveAside(d.Name)
		if err != nil {
			return nil, err
		}
		did = append(did, fmt.Sprintf("%s moved to %s", d.Name, to))
	}
	return did, nil
}

func leftoversAside(_ context.Context, _ *ground, s mover) (did []string, err error) {
	for _, name := range s.Leftovers() {
		to, err := s.MoveAside(name)
		if err != nil {
			return nil, err
		}
		did = append(did, fmt.Sprintf("%s moved to %s", name, to))
	}
	return did, nil
}

// startTypes gives the services that updates depend on the start types that
// the release ships, and starts those that it ships running.
func startTypes(ctx context.Context, g *ground, s serviceKeeper) ([]string, error) {
	return changeServices(s, func(svc *upkeep.Service) string {
		if svc.Start == svc.Shipped || svc.Shipped == "" {
			return ""
		}
		was := svc.Start
		svc.Start, svc.Running = svc.Shipped, svc.Running || svc.Runs
		return fmt.Sprintf("%s: start type %s, was %s", svc.Name, svc.Shipped, was)
	})
}

// startNeeds starts what updates depend on, what is needed first.
func startNeeds(_ context.Context, _ *ground, s serviceKeeper) ([]string, error) {
	return changeServices(s, func(svc *upkeep.Service) string {
		if svc.Running || !svc.Runs {
			return ""
		}
		svc.Running = true
		return svc.Name + ": started"
	})
}

// changeServices goes over those that updates depend on, in the order in which
// they need each other.
func changeServices(s serviceKeeper, change func(*upkeep.Service) string) (did []string, err error) {
	list, err := s.Services()
	if err != nil {
		return nil, err
	}
	var update []string
	for _, svc := range list {
		if !svc.Update {
			continue
		}
		order, err := upkeep.StartOrder(list, svc.Name)
		if err != nil {
			return nil, err
		}
		for _, name := range order {
			if !slices.Contains(update, name) {
				update = append(update, name)
			}
		}
	}
	for _, name := range update {
		i := slices.IndexFunc(list, func(svc upkeep.Service) bool { return svc.Name == name })
		if words := change(&list[i]); words != "" {
			did = append(did, words)
		}
	}
	if len(did) == 0 {
		return nil, nil
	}
	return did, s.PutServices(list)
}

func proveServices[T serviceKeeper](_ context.Context, s T) []Check {
	list, err := s.Services()
	if err != nil {
		return told("the services can be read", err, "")
	}
	var checks []Check
	for _, svc := range list {
		if svc.Update {
			checks = append(checks, Check{What: "service " + svc.Name + " is as the release ships it", OK: svc.Start == svc.Shipped && svc.Running == svc.Runs, Saw: fmt.Sprintf("start type %s, running: %v", svc.Start, svc.Running)})
		}
	}
	return checks
}

// An updateClient can be reset as a whole.
type updateClient interface {
	serviceKeeper
	mover
	downloads
	cache
}

// resetClient does the gentle resets in one.
func resetClient(ctx context.Context, g *ground, s updateClient) (did []string, err error) {
	for _, step := range []func() ([]string, error){
		func() ([]string, error) { return startTypes(ctx, g, s) },
		func() ([]string, error) { return startNeeds(ctx, g, s) },
		func() ([]string, error) { return leftoversAside(ctx, g, s) },
		func() ([]string, error) {
			list, err := s.DamagedDownloads()
			return aside(g, list, err)
		},
		func() ([]string, error) {
			if !s.CacheLocked() {
				return nil, nil
			}
			return []string{"the cache can be written again"}, s.UnlockCache()
		},
	} {
		more, err := step()
		if err != nil {
			return nil, err
		}
		did = append(did, more...)
	}
	return did, nil
}

func mendSettings(_ context.Context, _ *ground, s settingKeeper) (did []string, err error) {
	list, err := s.SettingFaults()
	if err != nil {
		return nil, err
	}
	for _, f := range list {
		if err := s.MendSetting(f); err != nil {
			return nil, err
		}
		did = append(did, fmt.Sprintf("%s %s: %s as the release ships it", f.Branch, f.Name, f.Kind))
	}
	return did, nil
}

// setPolicy sets the value that the remedy names.
func setPolicy(_ context.Context, g *ground, s policyKeeper) ([]string, error) {
	name, value := g.params["name"], g.params["value"]
	was, err := s.SetPolicy(name, value)
	if err != nil || was == value {
		return nil, err
	}
	return []string{fmt.Sprintf("%s is %q, was %q", name, value, was)}, nil
}

// policy sets a value of the policy, and proves that it is there.
func policy() action {
	return proving(on(setPolicy, nil), func(after *ground, s policyKeeper) []Check {
		have, err := s.Policy()
		name, value := after.params["name"], after.params["value"]
		return []Check{{What: "the policy " + name + " is as wanted", OK: err == nil && have[name] == value, Saw: fmt.Sprintf("%q", have[name])}}
	})
}

// proving gives an action a proof that needs to know what was wanted.
func proving[T any](a action, prove func(after *ground, sys T) []Check) action {
	a.prove = func(_ context.Context, _, after *ground) []Check {
		sys, ok := after.system.(T)
		if !ok {
			return []Check{{What: "the system can still be read", Saw: "it cannot"}}
		}
		return prove(after, sys)
	}
	return a
}

// saysMode proves the mode of the next start: setting it, on a draft, tells
// what it was.
func saysMode(mode string) func(context.Context, starter) []Check {
	return func(_ context.Context, s starter) []Check {
		was, err := s.SetMode(mode)
		return []Check{{What: "the boot store says " + mode, OK: err == nil && was == mode, Saw: was}}
	}
}

// wholeAgain verifies the components that the system has now.
func wholeAgain[T any](ctx context.Context, s T) []Check {
	keeper, ok := any(s).(componentKeeper)
	if !ok {
		return []Check{{What: "the component store can be verified", Saw: "it cannot"}}
	}
	return proveStore(ctx, keeper)
}

// lendPolicy sets a value for one attempt.
func lendPolicy() action {
	a := policy()
	set := a.do
	a.do = func(ctx context.Context, g *ground) (effect, error) {
		was := ""
		if s, ok := g.system.(policyKeeper); ok {
			if policy, err := s.Policy(); err == nil {
				was = policy[g.params["name"]]
			}
		}
		e, err := set(ctx, g)
		if err != nil || len(e.did) == 0 {
			return e, err
		}
		e.loans = []Loan{{What: fmt.Sprintf("the policy %q is %q for the attempt", g.params["name"], g.params["value"]), Back: fmt.Sprintf("It is set to %q again.", was),
			Action: "upkeep.set-policy", Params: map[string]string{"name": g.params["name"], "value": was}}}
		return e, nil
	}
	return a
}

func proveProgram(_ context.Context, s programs) []Check {
	keeper, ok := s.(serviceKeeper)
	if !ok {
		return told("the program is gone", nil, "from the list of programs")
	}
	list, err := keeper.Services()
	for _, svc := range list {
		if svc.Broken != "" {
			err = errors.Join(err, fmt.Errorf("%s: %s", svc.Name, svc.Broken))
		}
	}
	return told("no service of a program is broken", err, fmt.Sprintf("%d services", len(list)))
}

func repairStore(ctx context.Context, g *ground, s componentKeeper) ([]string, error) {
	w := s.Components()
	report, err := store.Verify(ctx, w, 1, nil)
	if err != nil || len(report.Faults) == 0 {
		return nil, err
	}
	return store.Repair(ctx, w, report, g.Sources)
}

// proveStore verifies the store once more.
func proveStore[T componentKeeper](ctx context.Context, s T) []Check {
	r, err := store.Verify(ctx, s.Components(), 1, nil)
	if err == nil && len(r.Faults) > 0 {
		err = errors.New(r.Faults[0].String())
	}
	saw := ""
	if err == nil {
		saw = fmt.Sprintf("%d components, %d files", r.Components, r.Files)
	}
	return told("every payload and every protected file has the hash that its manifest says", err, saw)
}

// minimalMode lends a start without the programs of users.
func minimalMode() action {
	a := on(func(_ context.Context, _ *ground, s starter) ([]string, error) {
		was, err := s.SetMode("minimal")
		if err != nil || was == "minimal" {
			return nil, err
		}
		return []string{"the next start is in minimal mode"}, nil
	}, saysMode("minimal"))
	set := a.do
	a.do = func(ctx context.Context, g *ground) (effect, error) {
		e, err := set(ctx, g)
		if err == nil && len(e.did) > 0 {
			e.loans = []Loan{{What: "the machine starts in minimal mode", Back: "It starts in normal mode again.", Action: "boot.normal-mode"}}
		}
		return e, err
	}
	return a
}

func booting(what string, put func(booter) error) func(context.Context, *ground, booter) ([]string, error) {
	return func(_ context.Context, _ *ground, s booter) ([]string, error) { return []string{what}, put(s) }
}

func proveBoot(kind string) func(context.Context, booter) []Check {
	return func(_ context.Context, s booter) []Check {
		return told("the "+kind+" is as the component store and this disk want it", s.BootPiece(kind), "byte for byte")
	}
}
