package action

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/core/units"
	"diorthos/core/upkeep"
)

// which is the parameter by which one of several systems on a disk is chosen.
var which = Parameter{Name: "system", Says: "number of the partition with the system, where several are on the disk"}

// systemAction makes an action that needs a system of one ability. do returns
// what it did, in words; nothing done is nothing to change.
func systemAction[T any](
	do func(context.Context, *Context, T) ([]string, error), prove func(context.Context, T) []Check,
) Action {
	return Action{
		Parameters: []Parameter{which}, fits: holdsSystem,
		do: func(ctx context.Context, c *Context) (Effect, error) {
			sys, check := able[T](c)
			e := Effect{Guard: []Check{check}}
			if !check.OK {
				return e, nil
			}
			did, err := do(ctx, c, sys)
			if err == nil && len(did) == 0 {
				err = ErrNothing
			}
			e.Did = did
			return e, err
		},
		prove: func(ctx context.Context, p Proof) []Check {
			sys, check := able[T](p.After)
			if !check.OK {
				check.What = "the system can still be read"
				return []Check{check}
			}
			return prove(ctx, sys)
		},
	}
}

// onFiles makes an action one that works wherever the files of a system lie.
func onFiles(a Action) Action {
	a.OnFiles = true
	return a
}

// retried makes an action one after which the attempt that failed is made again on a copy.
func retried(a Action) Action {
	a.TriesAgain = true
	return a
}

// taking gives an action parameters.
func taking(a Action, list ...Parameter) Action {
	a.Parameters = append(slices.Clone(a.Parameters), list...)
	return a
}

// holdsSystem fits the disk on which a system lies whose parts are known.
func holdsSystem(f *bag.Facts, d bag.Disk) bool {
	return f.State != nil && slices.ContainsFunc(d.Places(), func(p bag.Partition) bool { return p.System != nil })
}

// makesRoom frees volumes. The proof is the room that the next attempt needs, which is why room was made.
func makesRoom(place system.Place) Action {
	return onFiles(
		taking(proving(systemAction(func(ctx context.Context, c *Context, s system.RoomMaker) ([]string, error) {
			return s.MakeRoom(ctx, place, c.toolOptions())
		}, nil), func(ctx context.Context, after *Context, s system.RoomMaker) (checks []Check) {
			rooms, err := s.RoomFor(ctx, place, after.toolOptions())
			if err != nil {
				return resultCheck("there is room enough", err, "")
			}
			wanted := int64(0)
			for _, r := range rooms {
				wanted += r.Bytes()
				checks = append(checks, Check{
					What: "there is room for the next attempt: " + r.Mount, OK: r.Free >= r.Bytes(),
					Saw: fmt.Sprintf("%s free, %s wanted", units.FormatBytes(r.Free), units.FormatBytes(r.Bytes())),
				})
			}
			if wanted == 0 { // then all that could go had to
				list, err := s.Dispensable(ctx, place)
				checks = append(
					checks,
					resultCheck("nothing is left that could go", errors.Join(err, errIfAny(list)), "nothing is")...)
			}
			return checks
		}), Said),
	)
}

// resultCheck turns a look into a check.
func resultCheck(what string, err error, saw string) []Check {
	if err != nil {
		return []Check{{What: what, Saw: err.Error()}}
	}
	return []Check{{What: what, OK: true, Saw: saw}}
}

// systemActions change the state of a system.
var systemActions = map[ID]Action{
	"upkeep.start-types": systemAction(startTypes, proveServices),
	"upkeep.start-needs": systemAction(startNeeds, proveServices),
	"upkeep.mend-lists": retried(onFiles(
		saysWhatToolsMind(systemAction(mendLists, func(_ context.Context, s system.StateLists) []Check {
			list, err := s.StateFaults()
			err = errors.Join(err, errIfAny(list))
			if left := s.StateLeft(); len(left) > 0 {
				return resultCheck(
					"what can be put right of the system's own state without a person is", err, "left is "+leftText(left),
				)
			}
			return resultCheck("the lists of the system's own state can be read and agree", err, "all do")
		})),
	)),
	"upkeep.leftovers-aside": systemAction(leftoversAside, func(_ context.Context, s system.WorkFolders) []Check {
		return none("no work folder of an earlier attempt is left", s.Leftovers())
	}),
	"upkeep.downloads-aside": systemAction(func(_ context.Context, _ *Context, s movableDownloads) ([]string, error) {
		list, err := s.DamagedDownloads()
		return aside(s, list, err)
	}, func(_ context.Context, s movableDownloads) []Check {
		list, err := s.DamagedDownloads()
		return resultCheck("no download differs from the catalogue", errors.Join(err, errIfAny(list)), "none does")
	}),
	"upkeep.unlock-cache": systemAction(func(_ context.Context, _ *Context, s system.Cache) ([]string, error) {
		if !s.CacheLocked() {
			return nil, nil
		}
		return []string{"the download cache can be written again"}, s.UnlockCache()
	}, func(_ context.Context, s system.Cache) []Check {
		return []Check{{
			What: "the download cache can be written",
			OK:   !s.CacheLocked(),
			Saw:  fmt.Sprintf("locked: %v", s.CacheLocked()),
		}}
	}),
	"upkeep.reset-update-client": systemAction(resetClient, func(ctx context.Context, s updateClient) []Check {
		return append(proveServices(ctx, s), none("no work folder of an earlier attempt is left", s.Leftovers())...)
	}),
	"upkeep.make-room":      retried(makesRoom(system.SystemVolumes)),
	"upkeep.make-boot-room": retried(makesRoom(system.BootVolumes)),
	"upkeep.ask-as-system": systemAction(func(_ context.Context, _ *Context, s system.Asking) ([]string, error) {
		list, err := s.AskAsSystem()
		return prefixed("asked for by the system: ", list), err
	}, func(_ context.Context, s system.Asking) []Check { // on a draft: what would still have to be changed
		list, err := s.AskAsSystem()
		return resultCheck("what is on offer is asked for by the system", errors.Join(err, errIfAny(list)), "all of it")
	}),
	"upkeep.hold-drivers": onFiles(systemAction(func(ctx context.Context, c *Context, s system.Offers) ([]string, error) {
		list, err := s.HoldOlder(ctx, c.toolOptions())
		return prefixed("held back: ", list), err
	}, func(ctx context.Context, s system.Offers) []Check {
		list, err := s.HoldOlder(ctx, system.ToolOptions{})
		return resultCheck(
			"nothing is on offer that is older than what is installed",
			errors.Join(err, errIfAny(list)), "nothing that is not held back",
		)
	})),
	"upkeep.mend-settings": systemAction(mendSettings, func(_ context.Context, s system.Settings) []Check {
		list, err := s.SettingFaults()
		return resultCheck(
			"every branch is sound, belongs to its owner and has values that work", errors.Join(err, errIfAny(list)), "all are",
		)
	}),
	"upkeep.set-policy":  policy(),
	"upkeep.lend-policy": lendPolicy(),
	"upkeep.cut-pending": systemAction(func(ctx context.Context, _ *Context, s system.Pending) ([]string, error) {
		p, err := s.Pending()
		if err != nil || p == nil || len(p.Gone) == 0 {
			return nil, err
		}
		cut, err := s.CutPending(ctx)
		return []string{fmt.Sprintf(
			"%d operations of %d taken out; the list as it was is kept aside", cut.Out, p.Operations,
		)}, err
	}, func(_ context.Context, s system.Pending) []Check {
		p, err := s.Pending()
		if err == nil && p != nil && (len(p.Gone) > 0 || !p.Whole) {
			err = fmt.Errorf("%d things are still referred to that are gone", len(p.Gone))
		}
		return resultCheck("the pending work refers to nothing that is gone", err, "all of it can be done")
	}),
	"upkeep.put-back": onFiles(taking(proving(systemAction(putBack, nil), provePutBack),
		Parameter{Name: "name", Required: true, Says: "what it is called where it lies aside"})),
	"upkeep.tidy": onFiles(taking(proving(systemAction(tidy, nil), proveTidy),
		Parameter{Name: "name", Says: "one of what lies aside; empty for all of it"})),
	"upkeep.revert-pending": systemAction(func(_ context.Context, _ *Context, s system.Pending) ([]string, error) {
		p, err := s.Pending()
		if err != nil || p == nil {
			return nil, err
		}
		return []string{"transaction " + p.Transaction + " is given up; its list is kept aside"}, s.RevertPending()
	}, func(_ context.Context, s system.Pending) []Check {
		p, err := s.Pending()
		if err == nil && p != nil {
			err = fmt.Errorf("%s is pending", p.Transaction)
		}
		return resultCheck("nothing is pending", err, "nothing is")
	}),
	"upkeep.feature-source": onFiles(taking(proving(
		systemAction(func(ctx context.Context, c *Context, s system.Features) ([]string, error) {
			return s.PutFeature(ctx, c.Sources, c.toolOptions())
		}, nil), func(ctx context.Context, after *Context, s system.Features) []Check {
			name, err := s.FeatureStored(ctx, after.toolOptions())
			return resultCheck("all that is asked for is there", err, name+": every file has the hash that is wanted")
		}), Said)),
	"upkeep.remove-update": onFiles(
		systemAction(func(ctx context.Context, c *Context, s system.Updates) ([]string, error) {
			return s.RemoveLatest(ctx, c.toolOptions())
		}, func(ctx context.Context, s system.Updates) []Check {
			saw, err := s.LatestRemoved(ctx)
			checks := resultCheck("what was there before the latest update is there again", err, saw)
			if keeper, ok := s.(system.Components); ok {
				checks = append(checks, proveStore(ctx, keeper)...)
			}
			return checks
		}),
	),
	"upkeep.remove-program": systemAction(func(_ context.Context, _ *Context, s system.Programs) ([]string, error) {
		what, err := s.RemoveProgram()
		return []string{what + " is removed; its folder is kept aside"}, err
	}, proveProgram),
	"upkeep.reinstall": systemAction(func(ctx context.Context, c *Context, s system.Reinstall) ([]string, error) {
		return s.Reinstall(ctx, c.Sources)
	},
		func(ctx context.Context, s system.Reinstall) []Check { return proveStore(ctx, s) }),
	"upkeep.install-clean": destroying(
		systemAction(func(ctx context.Context, c *Context, s system.CleanInstall) ([]string, error) {
			return s.InstallClean(ctx, c.Sources)
		},
			func(ctx context.Context, s system.CleanInstall) []Check {
				list, err := s.SettingFaults()
				return append(
					proveStore(ctx, s),
					resultCheck("the settings are those that the release ships", errors.Join(err, errIfAny(list)), "all of them")...,
				)
			}),
	),
	"upkeep.return-to-checkpoint": systemAction(
		func(_ context.Context, _ *Context, s system.Checkpoints) ([]string, error) {
			what, err := s.ReturnToCheckpoint()
			return []string{"returned to " + what}, err
		},
		proveStoreIntact[system.Checkpoints],
	),
	"boot.minimal-mode": minimalMode(),
	"boot.normal-mode": systemAction(func(_ context.Context, _ *Context, s system.StartMode) ([]string, error) {
		_, err := s.SetMode("normal")
		return []string{"the next start is a normal one"}, err
	}, saysMode("normal")),
	"store.repair": systemAction(repairStore, proveStore[system.Components]),
	"boot.code": systemAction(
		bootAction(
			"boot code in sector 0 as the system has it",
			system.BootPieces.PutBootCode,
		),
		proveBoot[system.BootPieces]("code"),
	),
	"boot.sector": systemAction(
		bootAction(
			"boot sector's code as in the component store",
			system.BootPieces.PutBootSector,
		),
		proveBoot[system.BootPieces]("sector"),
	),
	"boot.loader": systemAction(
		bootAction("loader as the system has it", system.LoaderFiles.PutLoader), proveBoot[system.LoaderFiles]("loader"),
	),
	"boot.store": systemAction(
		bootAction("what the loader reads, so that it starts the system on this disk", system.LoaderFiles.PutBootStore),
		proveBoot[system.LoaderFiles]("store"),
	),
	"packages.lists-anew": retried(onFiles(taking(systemAction(
		func(ctx context.Context, c *Context, s system.PackageLists) ([]string, error) {
			return s.ListsAnew(ctx, system.ListOptions{
				ToolOptions: c.toolOptions(), AcceptChange: c.params["accept"] == "change",
			})
		},
		func(ctx context.Context, s system.PackageLists) []Check {
			return resultCheck("the lists of packages can be worked with", s.ListsSound(ctx), "the system's own tools say so")
		},
	), Parameter{Name: "accept", Says: "change: a source may call itself something else than before"}))),
	"packages.finish": retried(onFiles(taking(systemAction(
		func(ctx context.Context, c *Context, s system.PackageTools) ([]string, error) {
			return s.FinishPackages(ctx, c.toolOptions())
		},
		func(ctx context.Context, s system.PackageTools) []Check {
			return resultCheck(
				"every package is at rest, and the next run can begin", s.PackagesAtRest(ctx), "the system's own tools say so",
			)
		},
	), Said))),
	"packages.clear-way": retried(onFiles(taking(systemAction(
		func(ctx context.Context, c *Context, s system.PackageTools) ([]string, error) {
			return s.ClearWay(ctx, c.toolOptions())
		},
		func(ctx context.Context, s system.PackageTools) []Check {
			return resultCheck(
				"every package is at rest, and the next run can begin", s.PackagesAtRest(ctx), "the system's own tools say so",
			)
		},
	), Said))),
	"packages.upgrade": retried(onFiles(taking(systemAction(
		func(ctx context.Context, c *Context, s system.PackageTools) ([]string, error) {
			return s.UpgradePackages(ctx, c.toolOptions())
		},
		func(ctx context.Context, s system.PackageTools) []Check {
			return append(
				resultCheck("every package is at rest", s.PackagesAtRest(ctx), "the system's own tools say so"),
				resultCheck("every package is as new as the sources have it", s.AllNew(ctx), "the system's own tools say so")...,
			)
		},
	), Said))),
	"packages.restore-files": retried(onFiles(systemAction(
		func(ctx context.Context, c *Context, s system.Payloads) ([]string, error) {
			return s.RestorePayloads(ctx, c.Sources, c.toolOptions())
		},
		provePayloads,
	))),
	"boot.early-images": systemAction(
		func(ctx context.Context, c *Context, s system.BootTools) ([]string, error) {
			return s.RemakeEarlyImages(ctx, c.toolOptions())
		}, proveChain(boot.LinkEarly),
	),
	"boot.install-loader": systemAction(
		func(ctx context.Context, c *Context, s system.BootTools) ([]string, error) {
			return s.InstallLoader(ctx, c.toolOptions())
		}, proveChain(boot.LinkKernel),
	),
	"boot.menu": systemAction(
		func(ctx context.Context, c *Context, s system.BootTools) ([]string, error) {
			return s.RemakeMenu(ctx, c.toolOptions())
		}, proveChain(boot.LinkKernel),
	),
	"boot.mounts": systemAction(
		func(_ context.Context, _ *Context, s system.References) ([]string, error) { return s.MendMounts() },
		proveBoot[system.References]("mounts"),
	),
	"boot.root": systemAction(
		func(_ context.Context, _ *Context, s system.References) ([]string, error) { return s.MendRoot() },
		proveBoot[system.References]("root"),
	),
}

// Said is a parameter that a docket fills: what was said where the attempt failed.
var Said = Parameter{Name: "said", Says: "what was said where it failed: what that names may be in the way"}

// toolOptions are how the system's own tools are let work.
func (c *Context) toolOptions() system.ToolOptions {
	return system.ToolOptions{
		Network: c.Network, Sources: c.Sources, Said: c.params[Said.Name], Say: func(what string) { c.progress(what, 0, 0) },
	}
}

func provePayloads(ctx context.Context, s system.Payloads) []Check {
	r, err := s.VerifyPayloads(ctx, 2, nil)
	saw := ""
	switch {
	case err != nil:
	case len(r.Faults) > 0:
		err = errors.New(r.Faults[0].String())
	default:
		saw = fmt.Sprintf("%d packages, %d files", r.Components, r.Files)
	}
	return resultCheck("every file of every package is there and has its checksum", err, saw)
}

// proveChain proves that the chain holds up to a link. What is broken behind it is another rung's,
// and is said.
func proveChain(upTo boot.LinkKind) func(context.Context, system.BootTools) []Check {
	return func(_ context.Context, s system.BootTools) []Check {
		what := fmt.Sprintf("the chain by which the machine starts holds, as far as the %s", upTo)
		chain, err := s.Chain()
		if err != nil {
			return resultCheck(what, err, "")
		}
		b := chain.Broken()
		switch {
		case b == nil:
			return resultCheck(what, nil, "it was followed to its end")
		case chain.HoldsTo(upTo):
			return resultCheck(what, nil, fmt.Sprintf("further on it is broken: %s, %s: %s", b.Kind, b.What, b.Saw))
		}
		return resultCheck(what, fmt.Errorf("%s, %s: %s", b.Kind, b.What, b.Saw), "")
	}
}

func destroying(a Action) Action {
	a.Destroys = true
	return a
}

// errIfAny says that something is left that ought not to be.
func errIfAny[T any](list []T) error {
	if len(list) > 0 {
		return fmt.Errorf("%d are left: %v", len(list), list[0])
	}
	return nil
}

func none(what string, list []string) []Check { return resultCheck(what, errIfAny(list), "none") }

func prefixed(lead string, list []string) []string {
	for i := range list {
		list[i] = lead + list[i]
	}
	return list
}

// movableDownloads can be moved aside.
type movableDownloads interface {
	system.Downloads
	system.WorkFolders
}

func aside(m system.WorkFolders, list []bag.Download, err error) (did []string, _ error) {
	if err != nil {
		return nil, err
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

// putBack brings something back that was moved aside, and says what it takes the
// place of.
func putBack(_ context.Context, c *Context, s system.Aside) ([]string, error) {
	name := c.params["name"]
	to, overwrote, err := s.PutBack(name)
	if err != nil {
		return nil, err
	}
	did := []string{name + " is back at " + to}
	if overwrote != "" {
		did = append(did, "what stood there meanwhile is kept aside as "+overwrote)
	}
	return did, nil
}

func provePutBack(_ context.Context, after *Context, s system.Aside) []Check {
	list, err := s.MovedAside()
	for _, a := range list {
		if a.Name == after.params["name"] {
			err = errors.Join(err, fmt.Errorf("%s still lies aside", a.Name))
		}
	}
	return resultCheck("it lies aside no more", err, fmt.Sprintf("%d other things do", len(list)))
}

// tidy frees what was moved aside.
func tidy(_ context.Context, c *Context, s system.Aside) (did []string, err error) {
	list, err := s.MovedAside()
	if err != nil {
		return nil, err
	}
	var freed int64
	for _, a := range list {
		if only := c.params["name"]; only != "" && only != a.Name {
			continue
		}
		if err := s.FreeAside(a.Name); err != nil {
			return nil, err
		}
		freed += a.Size
		did = append(did, fmt.Sprintf("%s is freed, %s; it was at %s", a.Name, units.FormatBytes(a.Size), a.From))
	}
	if len(did) > 1 {
		did = append(did, units.FormatBytes(freed)+" in all")
	}
	return did, nil
}

func proveTidy(_ context.Context, after *Context, s system.Aside) []Check {
	list, err := s.MovedAside()
	left := 0
	for _, a := range list {
		if only := after.params["name"]; only == "" || only == a.Name {
			left++
		}
	}
	if err == nil && left > 0 {
		err = fmt.Errorf("%d things still do", left)
	}
	return resultCheck("what was to be freed lies aside no more", err, fmt.Sprintf("%d other things do", len(list)-left))
}

func leftoversAside(_ context.Context, _ *Context, s system.WorkFolders) (did []string, err error) {
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
func startTypes(ctx context.Context, c *Context, s system.Services) ([]string, error) {
	return changeServices(s, func(svc *upkeep.Service) string {
		if svc.Start == svc.Shipped || svc.Shipped == "" {
			return ""
		}
		was := svc.Start
		svc.Start, svc.Running = svc.Shipped, svc.Running || svc.Runs
		if svc.Missing {
			svc.Missing = false
			return svc.Name + ": put back as the release ships it"
		}
		return fmt.Sprintf("%s: start type %s, was %s", svc.Name, svc.Shipped, was)
	})
}

// startNeeds starts what updates depend on, what is needed first.
func startNeeds(_ context.Context, _ *Context, s system.Services) ([]string, error) {
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
func changeServices(s system.Services, change func(*upkeep.Service) string) (did []string, err error) {
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

func proveServices[T system.Services](_ context.Context, s T) []Check {
	list, err := s.Services()
	if err != nil {
		return resultCheck("the services can be read", err, "")
	}
	var checks []Check
	for _, svc := range list {
		if svc.Update {
			checks = append(checks, Check{
				What: "service " + svc.Name + " is as the release ships it",
				OK:   svc.Start == svc.Shipped && svc.Running == svc.Runs,
				Saw:  fmt.Sprintf("start type %s, running: %v", svc.Start, svc.Running),
			})
		}
	}
	return checks
}

// An updateClient can be reset as a whole.
type updateClient interface {
	system.Services
	system.WorkFolders
	system.Downloads
	system.Cache
}

// resetClient does the gentle resets in one.
func resetClient(ctx context.Context, c *Context, s updateClient) (did []string, err error) {
	for _, step := range []func() ([]string, error){
		func() ([]string, error) { return startTypes(ctx, c, s) },
		func() ([]string, error) { return startNeeds(ctx, c, s) },
		func() ([]string, error) { return leftoversAside(ctx, c, s) },
		func() ([]string, error) {
			list, err := s.DamagedDownloads()
			return aside(s, list, err)
		},
		func() ([]string, error) {
			if !s.CacheLocked() {
				return nil, nil
			}
			return []string{"the download cache can be written again"}, s.UnlockCache()
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

func mendSettings(_ context.Context, _ *Context, s system.Settings) (did []string, err error) {
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
func setPolicy(ctx context.Context, c *Context, s system.Policy) ([]string, error) {
	name, value := c.params["name"], c.params["value"]
	was, err := s.SetPolicy(ctx, name, value)
	if err != nil || was == value {
		return nil, err
	}
	return []string{fmt.Sprintf("%s is %s, was %s", name, ofPolicy(value), ofPolicy(was))}, nil
}

// ofPolicy is a value in words.
func ofPolicy(value string) string {
	if value == "" {
		return "left to the machine's own settings"
	}
	return strconv.Quote(value)
}

// policyParameters are what is set.
var policyParameters = []Parameter{
	{Name: "name", Required: true, Says: "which value of the policy"},
	{Name: "value", Required: true, Says: "what it shall be; empty takes it out"},
}

// policy sets a value of the policy, and proves that it is there.
func policy() Action {
	return onFiles(
		taking(proving(systemAction(setPolicy, nil), func(_ context.Context, after *Context, s system.Policy) []Check {
			have, err := s.Policy()
			name, value := after.params["name"], after.params["value"]
			return []Check{{
				What: "the policy " + name + " is as wanted", OK: err == nil && have[name] == value,
				Saw: ofPolicy(have[name]),
			}}
		}), policyParameters...),
	)
}

// proving gives an action a proof that needs to know what was wanted.
func proving[T any](a Action, prove func(ctx context.Context, after *Context, sys T) []Check) Action {
	a.prove = func(ctx context.Context, p Proof) []Check {
		sys, check := able[T](p.After)
		if !check.OK {
			check.What = "the system can still be read"
			return []Check{check}
		}
		return prove(ctx, p.After, sys)
	}
	return a
}

// saysMode proves the mode of the next start: setting it, on a draft, tells
// what it was.
func saysMode(mode string) func(context.Context, system.StartMode) []Check {
	return func(_ context.Context, s system.StartMode) []Check {
		was, err := s.SetMode(mode)
		return []Check{{What: "the boot store says " + mode, OK: err == nil && was == mode, Saw: was}}
	}
}

// proveStoreIntact verifies the components that the system has now.
func proveStoreIntact[T any](ctx context.Context, s T) []Check {
	keeper, ok := any(s).(system.Components)
	if !ok {
		return []Check{{What: "the component store can be verified", Saw: "it cannot"}}
	}
	return proveStore(ctx, keeper)
}

// lendPolicy sets a value for one attempt.
func lendPolicy() Action {
	a := policy()
	set := a.do
	a.do = func(ctx context.Context, c *Context) (Effect, error) {
		was := ""
		if s, check := able[system.Policy](c); check.OK {
			if policy, err := s.Policy(); err == nil {
				was = policy[c.params["name"]]
			}
		}
		e, err := set(ctx, c)
		if err != nil || len(e.Did) == 0 {
			return e, err
		}
		e.Loans = []LoanTerms{{
			What:   fmt.Sprintf("the policy %q is %q for the attempt", c.params["name"], c.params["value"]),
			Back:   fmt.Sprintf("It is %s again.", ofPolicy(was)),
			Action: "upkeep.set-policy", Params: map[string]string{"name": c.params["name"], "value": was},
		}}
		return e, nil
	}
	return a
}

func proveProgram(_ context.Context, s system.Programs) []Check {
	keeper, ok := s.(system.Services)
	if !ok {
		return resultCheck("the program is gone", nil, "from the list of programs")
	}
	list, err := keeper.Services()
	for _, svc := range list {
		if svc.Broken != "" {
			err = errors.Join(err, fmt.Errorf("%s: %s", svc.Name, svc.Broken))
		}
	}
	return resultCheck("no service of a program is broken", err, fmt.Sprintf("%d services", len(list)))
}

func repairStore(ctx context.Context, c *Context, s system.Components) ([]string, error) {
	w := s.Components()
	report, err := store.Verify(ctx, w, 1, nil)
	if err != nil || len(report.Faults) == 0 {
		return nil, err
	}
	return store.Repair(ctx, w, report, c.Sources)
}

// proveStore verifies the store once more.
func proveStore[T system.Components](ctx context.Context, s T) []Check {
	r, err := store.Verify(ctx, s.Components(), 1, nil)
	if err == nil && len(r.Faults) > 0 {
		err = errors.New(r.Faults[0].String())
	}
	saw := ""
	if err == nil {
		saw = fmt.Sprintf("%d components, %d files", r.Components, r.Files)
	}
	return resultCheck("every payload and every protected file has the hash that its manifest says", err, saw)
}

// minimalMode lends a start without the system.Programs of users.
func minimalMode() Action {
	a := systemAction(func(_ context.Context, _ *Context, s system.StartMode) ([]string, error) {
		was, err := s.SetMode("minimal")
		if err != nil || was == "minimal" {
			return nil, err
		}
		return []string{"the next start is in minimal mode"}, nil
	}, saysMode("minimal"))
	set := a.do
	a.do = func(ctx context.Context, c *Context) (Effect, error) {
		e, err := set(ctx, c)
		if err == nil && len(e.Did) > 0 {
			e.Loans = []LoanTerms{{
				What: "the machine starts in minimal mode", Back: "It starts in normal mode again.",
				Action: "boot.normal-mode",
			}}
		}
		return e, err
	}
	return a
}

func bootAction[T any](what string, put func(T) error) func(context.Context, *Context, T) ([]string, error) {
	return func(_ context.Context, _ *Context, s T) ([]string, error) {
		return []string{what}, put(s)
	}
}

func proveBoot[T interface{ BootPiece(kind string) error }](kind string) func(context.Context, T) []Check {
	return func(_ context.Context, s T) []Check {
		return resultCheck(kind+": as the system and this disk want it", s.BootPiece(kind), "it was read back")
	}
}

// mendLists puts right, one after the other, what the system knows of itself. A list
// for which nothing is at hand does not keep the others from being put right.
// saysWhatToolsMind notes what the system's own tools still stop at, once something was put right: they may mind what
// nothing here looks at.
func saysWhatToolsMind(a Action) Action {
	do := a.do
	a.do = func(ctx context.Context, c *Context) (Effect, error) {
		e, err := do(ctx, c)
		if s, check := able[system.PackageTools](c); err == nil && check.OK && c.toolsCanRun() {
			if minds := s.PackagesAtRest(ctx); minds != nil && ctx.Err() == nil {
				e.Notes = append(e.Notes, "its own tools still stop: "+minds.Error())
			}
		}
		return e, err
	}
	return a
}

// toolsCanRun reports whether the system's own tools can be run inside it from here.
func (c *Context) toolsCanRun() bool { return c.Enter != nil || c.files != nil }

func mendLists(ctx context.Context, c *Context, s system.StateLists) (did []string, err error) {
	var failed error
	const mostPasses = 20 // what is right again can show what else is wrong
	for pass, more := 0, true; more && pass < mostPasses; pass++ {
		list, err := s.StateFaults()
		if err != nil {
			return nil, err
		}
		more, failed = false, nil
		for _, f := range list {
			text, err := s.MendState(ctx, c.Sources, f)
			if err != nil {
				failed = errors.Join(failed, err)
				continue
			}
			if !slices.Contains(did, text) {
				did, more = append(did, text), true
			}
		}
	}
	if left := s.StateLeft(); len(did) == 0 && failed == nil && len(left) > 0 {
		return nil, errors.New("it takes a person: " + leftText(left))
	}
	if len(did) == 0 {
		return nil, failed
	}
	return did, nil
}

// leftText tells what nothing here puts right.
func leftText(left []bag.StateFault) string {
	text := left[0].File + ": " + left[0].Text
	if more := len(left) - 1; more > 0 {
		text += fmt.Sprintf(" (and %d more)", more)
	}
	return text
}
