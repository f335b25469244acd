package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/ladder"
	"diorthos/core/store"
	"diorthos/core/upkeep"
	"diorthos/host"
	"diorthos/platform/corbel"
	"diorthos/platform/corbelfile"
)

// lookFor takes the facts of the disk or machine's folder that the command
// names.
func lookFor(c *cli.Command, path string) (*bag.Facts, error) {
	l, err := host.Look(host.GatherOptions{Image: path, SectorSize: c.Int("sector-size"), Platforms: platforms(), Now: time.Now()})
	if err != nil {
		return nil, err
	}
	l.Close()
	if l.Facts.State == nil {
		return nil, fmt.Errorf("%s: no system lies there whose parts can be told apart", path)
	}
	return l.Facts, nil
}

// onMachine makes an action of a command of what it does with the facts of the
// disk or folder that it names.
func onMachine(do func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		a, err := args(c, "IMAGE")
		if err != nil {
			return err
		}
		facts, err := lookFor(c, a[0])
		if err != nil {
			return err
		}
		return do(ctx, c, facts, a[0])
	}
}

// does takes one action on a machine, outside of any case: guard, journal,
// change, proof.
func does(ctx context.Context, c *cli.Command, facts *bag.Facts, path, action string, params map[string]string) (err error) {
	at := host.Locate(path)
	device := at.Device(action)
	dev, err := host.OpenDisk(device, c.Int("sector-size"), c.Bool("dry-run"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	build := 0
	if facts.State.Store != nil {
		build = facts.State.Store.Build
	}
	list, err := componentSources(c.StringSlice("source"), build)
	if err != nil {
		return err
	}
	if ladder.Destroys(action) && !c.Bool("dry-run") && c.String("confirm") != facts.Machine.Name {
		p := newPage(c)
		p.line("  %s Data will be lost:", p.bad(markBroken))
		showLosses(p, facts.Disks, []string{"system"})
		return fmt.Errorf("%s destroys what is listed: give --confirm %s to go on; nothing was changed", action, facts.Machine.Name)
	}
	journal := c.String("journal")
	if journal == "" && !c.Bool("dry-run") {
		if journal, err = journalPath(device, facts.Machine.Name); err != nil {
			return err
		}
	}
	o := ladder.Options{DryRun: c.Bool("dry-run"), Machine: facts.Machine.Name, Path: absolute(device), Now: time.Now, Bench: host.Bench(platforms(), facts, list, time.Now),
		Journal: func(h block.Head) (*block.Journal, error) { return block.CreateJournal(journal, h) }}
	run, err := ladder.Take(ctx, ladder.Rung{Number: 1, Remedy: action, Title: action, Action: action, Params: params, Target: ladder.TargetOf(action, facts)}, dev, o)
	if run != nil && run.Outcome != ladder.Refused && !c.Bool("dry-run") {
		run.Journal = absolute(journal)
	}
	done, errOut := put(c, run)
	if !done && run != nil {
		p := newPage(c)
		showRun(p, "  ", *run)
		if run.Journal != "" {
			p.line("  take it back  diorthos undo %s", relative(run.Journal))
		}
	}
	return afterRun(c, err, errOut)
}

func bootCommand() *cli.Command {
	return &cli.Command{
		Name: "boot", Usage: "follow the chain by which a machine starts, and mend its broken link",
		Commands: []*cli.Command{
			{Name: "show", Usage: "follow the chain to its end, or to the first broken link", ArgsUsage: "IMAGE|FOLDER",
				Description: "From the firmware over table, loader and kernel to the services. Exit status 1 if a link is broken.\n\nExample:\n   diorthos boot show .demo/machines/kestrel-bridge-1",
				Flags:       []cli.Flag{sectorFlag(), jsonFlag()},
				Action: onMachine(func(_ context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					done, err := put(c, facts.State.Chain)
					if !done {
						showChain(newPage(c), facts.State.Chain)
					}
					if err == nil && facts.State.Chain.Broken() != nil {
						return errFound
					}
					return err
				})},
			{Name: "mend", Usage: "mend the first broken link of the chain", ArgsUsage: "IMAGE|FOLDER",
				Description: "Boot code, boot sector, loader and boot store are written from the component store on the machine itself. Through a\njournal: \"diorthos undo\" brings every byte back.\n\nExample:\n   diorthos boot mend .demo/machines/kestrel-bridge-1 --dry-run",
				Flags:       append(changeFlags(), sourceFlag()),
				Action: onMachine(func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					b := facts.State.Chain.Broken()
					if b == nil {
						newPage(c).line("%s no link of the chain is broken", newPage(c).good(markGood))
						return nil
					}
					action, ok := linkActions[b.Fault]
					if !ok {
						return fmt.Errorf("%s: %s (%s): this link is not mended by one change; hand the machine in as a case for its ladder", b.Kind, b.Saw, b.Fault)
					}
					return does(ctx, c, facts, path, action, nil)
				})},
		},
	}
}

// linkActions is what mends a broken link.
var linkActions = map[string]string{
	"boot-code-damaged": "boot.code", "boot-sector-damaged": "boot.sector", "loader-missing": "boot.loader", "loader-altered": "boot.loader",
	"boot-store-damaged": "boot.store", "boot-store-other-volume": "boot.store", "active-flag": "layout.activate", "table-damaged": "layout.mend-primary-gpt",
	"kernel-missing": "store.repair", "kernel-altered": "store.repair", "boot-order": "plate.boot-order", "boot-entries-stale": "plate.boot-entry", "boot-entries-missing": "plate.boot-entry",
	"pending-component-gone": "upkeep.cut-pending", "pending-half-done": "upkeep.revert-pending", "component-wants": "upkeep.remove-update", "service-of-program": "upkeep.remove-program",
}

func showChain(p *page, chain boot.Chain) {
	if len(chain) == 0 {
		return
	}
	p.head("How it starts")
	for _, l := range chain {
		mark := p.good(markGood)
		if l.Fault != "" {
			mark = p.bad(markBroken)
		}
		p.hang(fmt.Sprintf("  %s %-17s ", mark, l.Kind), l.What+": "+l.Saw)
		if l.Fault != "" {
			p.line("    %s", p.faint(l.Fault))
		}
	}
}

func storeCommand() *cli.Command {
	return &cli.Command{
		Name: "store", Usage: "verify a machine's component store and its protected files, and repair them",
		Commands: []*cli.Command{
			{Name: "check", Usage: "hold every manifest, payload and protected file against its hash", ArgsUsage: "IMAGE|FOLDER",
				Description: "Exit status 1 if something is wrong.\n\nExample:\n   diorthos store check .demo/machines/tarvoe-office-1",
				Flags:       []cli.Flag{sectorFlag(), jsonFlag()},
				Action: onMachine(func(_ context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					if facts.State.Store == nil {
						return fmt.Errorf("%s: this system has no component store that is known", path)
					}
					done, err := put(c, facts.State.Store)
					if !done {
						showStore(newPage(c), facts.State.Store)
					}
					if err == nil && len(facts.State.Store.Faults) > 0 {
						return errFound
					}
					return err
				})},
			{Name: "repair", Usage: "put right what the check finds, from a source of the same build", ArgsUsage: "IMAGE|FOLDER",
				Description: "First from the machine's own copies, then from --source. A source of another build is refused.\n\nExample:\n   diorthos store repair .demo/machines/tarvoe-office-1 --source .demo/medium-7210.pack",
				Flags:       append(changeFlags(), sourceFlag()),
				Action: onMachine(func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					return does(ctx, c, facts, path, "store.repair", nil)
				})},
		},
	}
}

func showStore(p *page, r *store.Verification) {
	if r == nil {
		return
	}
	p.head("Component store")
	mark := p.good(markGood)
	if len(r.Faults) > 0 {
		mark = p.bad(markBroken)
	}
	p.line("  %s build %d: %s, %s, %s hashed: %s", mark, r.Build, plural(r.Components, "component", "components"), plural(r.Files, "file", "files"), size(r.Bytes), plural(len(r.Faults), "fault", "faults"))
	for _, f := range r.Faults {
		p.hang("    "+p.bad(markBroken)+" ", f.String())
		p.line("      want %s%s", f.Want, map[bool]string{true: "", false: ", got " + f.Got}[f.Got == ""])
	}
}

// withParams are actions that have to be told more than the machine.
var withParams = []string{"upkeep.set-policy", "upkeep.lend-policy", "upkeep.set-value", "upkeep.set-owner", "upkeep.rename-setting", "upkeep.restore-settings"}

func upkeepCommand() *cli.Command {
	var names []string
	for _, n := range ladder.Actions() {
		if strings.HasPrefix(n, "upkeep.") && !slices.Contains(withParams, n) {
			names = append(names, strings.TrimPrefix(n, "upkeep."))
		}
	}
	return &cli.Command{
		Name: "upkeep", Usage: "show services, settings, pending work and the update client of a machine, and change them",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show how they stand beside what the release ships", ArgsUsage: "IMAGE|FOLDER",
				Description: "Exit status 1 if something is not as it should be.\n\nExample:\n   diorthos upkeep show .demo/machines/fulmar-crew-1",
				Flags:       []cli.Flag{sectorFlag(), jsonFlag()},
				Action: onMachine(func(_ context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					done, err := put(c, facts.State)
					odd := len(upkeepFaults(facts.State)) > 0
					if !done {
						showUpkeep(newPage(c), facts.State)
					}
					if err == nil && odd {
						return errFound
					}
					return err
				})},
			{Name: "cut", Usage: "copy a list of pending work without what refers to missing components", ArgsUsage: "LIST OUT",
				Description: "For a list of any size, taken off a machine: everything else stays byte for byte the same, in little memory. On a\nmachine itself, \"upkeep do cut-pending\" does it through a journal.\n\nExample:\n   diorthos upkeep cut list list.new --store /mnt/corbel/store/manifests",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "store", Usage: "`FOLDER` with the manifests of the components that are there", Required: true}, jsonFlag()},
				Action:      cutList},
			settingsSet(), settingsCommand(),
			{Name: "do", Usage: "take one action", ArgsUsage: "ACTION IMAGE|FOLDER",
				Description: "The actions: " + strings.Join(names, ", ") + ".\nEach is proven afterwards, and taken back if it cannot be.\n\nExample:\n   diorthos upkeep do leftovers-aside .demo/machines/gannet-crew-2 --dry-run",
				Flags:       append(changeFlags(), sourceFlag(), &cli.StringFlag{Name: "confirm", Usage: "the machine's `NAME`, to say that what an action destroys may be lost"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "ACTION", "IMAGE")
					if err != nil {
						return err
					}
					if !slices.Contains(names, a[0]) {
						return usage(c, fmt.Errorf("there is no action %q: want one of %s", a[0], strings.Join(names, ", ")))
					}
					facts, err := lookFor(c, a[1])
					if err != nil {
						return err
					}
					return does(ctx, c, facts, a[1], "upkeep."+a[0], nil)
				}},
		},
	}
}

// cutList copies a worklist without the operations on components that have no
// manifest.
func cutList(ctx context.Context, c *cli.Command) (err error) {
	a, err := args(c, "LIST", "OUT")
	if err != nil {
		return err
	}
	folder := c.String("store")
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return fmt.Errorf("--store %s: want the folder with the manifests", folder)
	}
	in, err := os.Open(a[0])
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(a[1], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, out.Close()); err != nil {
			_ = os.Remove(a[1]) // half a list is worse than none
		}
	}()
	bar := newBar(c, "cutting", info.Size())
	defer bar.clear()
	cut, err := upkeep.Excise(ctx, io.TeeReader(in, bar), out, corbelfile.FindOperations(corbel.Missing(os.DirFS(folder))))
	if err != nil {
		return err
	}
	bar.clear()
	if done, err := put(c, cut); done {
		return err
	}
	newPage(c).line("%s: %s left out, %s; the rest is byte for byte the same", a[1], plural(cut.Out, "operation", "operations"), size(cut.Bytes))
	return nil
}

// upkeepFaults lists in words what is not as it should be.
func upkeepFaults(s *bag.State) (list []string) {
	for _, v := range s.Services {
		if v.Update && (v.Start != v.Shipped || v.Running != v.Runs) {
			list = append(list, fmt.Sprintf("service %s: start type %s, the release ships %s; running: %v", v.Name, v.Start, v.Shipped, v.Running))
		}
		if v.Broken != "" {
			list = append(list, fmt.Sprintf("service %s of %s: %s", v.Name, v.Program, v.Broken))
		}
	}
	if p := s.Pending; p != nil {
		if !p.Whole {
			list = append(list, fmt.Sprintf("pending work %s breaks off after %d operations", p.Transaction, p.Operations))
		}
		for _, g := range p.Gone {
			list = append(list, fmt.Sprintf("pending work %s: %d of %d operations refer to %s %s, which is gone", p.Transaction, g.Operations, p.Operations, g.Component, g.Version))
		}
	}
	for _, f := range s.Settings {
		list = append(list, fmt.Sprintf("setting %s %s: %s: want %s, got %s", f.Branch, f.Name, f.Kind, f.Want, f.Got))
	}
	if u := s.Update; u != nil {
		if u.PausedUntil != "" {
			list = append(list, "updates are paused until "+u.PausedUntil)
		}
		if u.CacheLocked {
			list = append(list, "the download cache cannot be written")
		}
		for _, d := range u.CacheDamaged {
			list = append(list, d.Name+" is not what the catalogue says")
		}
		for _, l := range u.Leftovers {
			list = append(list, l+" is left of an earlier attempt")
		}
	}
	return list
}

func showUpkeep(p *page, s *bag.State) {
	p.head("Upkeep")
	for _, f := range upkeepFaults(s) {
		p.hang("  "+p.bad(markBroken)+" ", f)
	}
	if len(upkeepFaults(s)) == 0 {
		p.line("  %s services, settings, pending work and update client are as they should be", p.good(markGood))
	}
	if s.Pending != nil {
		p.line("  %s pending: %s, %s for the next start", markNone, s.Pending.Transaction, plural(s.Pending.Operations, "operation", "operations"))
	}
	for _, h := range s.History {
		p.line("  %s %s  %-8s %s, build %d", markNone, when(h.When), h.Kind, h.Title, h.Build)
	}
}
