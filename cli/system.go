package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/readiness"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/host"
	"diorthos/platform"
)

// lookFor takes the facts of the disk or machine's folder that the command
// names.
func lookFor(c *cli.Command, path string, chainAlone bool) (*bag.Facts, error) {
	keys, err := keysOf(c)
	if err != nil {
		return nil, err
	}
	o := host.GatherOptions{
		Keys: keys, Image: path, SectorSize: c.Int("sector-size"), Adapters: platform.All(), Now: time.Now(),
		ChainAlone: chainAlone,
	}
	if host.HoldsSystem(path) {
		o.Image, o.Root = "", path
	}
	l, err := host.Look(o)
	if err != nil {
		return nil, err
	}
	l.Close()
	if l.Facts.State == nil {
		why := ""
		for _, d := range l.Facts.Disks {
			for _, p := range d.Partitions {
				if strings.HasPrefix(p.Content.Kind, "luks") {
					why = fmt.Sprintf("; partition %d is encrypted: open it with --key-file FILE or --unlock", p.Number)
				}
			}
		}
		return nil, fmt.Errorf("%s: no system lies there whose parts can be told apart%s", path, why)
	}
	return l.Facts, nil
}

// onMachine makes an action of a command of what it does with the facts of the
// disk or folder that it names.
func onMachine(do machineAction) cli.ActionFunc { return onMachineAlone(do, false) }

type machineAction func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error

// onMachineAlone is an action on a machine, of which no more may be asked than by what it starts.
func onMachineAlone(do machineAction, chainAlone bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		a, err := args(c, "IMAGE")
		if err != nil {
			return err
		}
		facts, err := lookFor(c, a[0], chainAlone)
		if err != nil {
			return err
		}
		return do(ctx, c, facts, a[0])
	}
}

// runAction takes one action on a machine, outside of any case.
func runAction(
	ctx context.Context, c *cli.Command, facts *bag.Facts, path string, id action.ID, params map[string]string,
) error {
	m, err := machineFor(c, facts.Machine.Name, path, facts)
	if err != nil {
		return err
	}
	return performOn(ctx, c, m, facts, id, params)
}

func bootCommand() *cli.Command {
	return &cli.Command{
		Name: "boot", Usage: "follow the chain by which a machine starts, and mend its broken link",
		Commands: []*cli.Command{
			{Name: "show", Usage: "follow the chain to its end, or to the first broken link", ArgsUsage: "IMAGE|FOLDER",
				Description: "From the firmware over table, loader and kernel to the services. Exit status 1 if a link is\n" +
					"broken.\n\n" +
					"Example:\n" +
					"   diorthos boot show .demo/machines/kestrel-bridge-1",
				Flags: []cli.Flag{sectorFlag(), jsonFlag()},
				Action: onMachineAlone(func(_ context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					done, err := writeJSON(c, facts.State.Chain)
					if !done {
						showChain(newPage(c), facts.State.Chain)
						showWays(newPage(c), facts.State.Ways)
					}
					if err == nil && facts.State.Chain.Broken() != nil {
						return errFound
					}
					return err
				}, true)},
			{Name: "mend", Usage: "mend the first broken link of the chain", ArgsUsage: "IMAGE|FOLDER",
				Description: "Boot code, boot sector, loader and boot store are written from the component store on the\n" +
					"machine itself. Through a journal: \"diorthos undo\" brings every byte back.\n\n" +
					"Example:\n" +
					"   diorthos boot mend .demo/machines/kestrel-bridge-1 --dry-run",
				Flags: append(changeFlags(), sourceFlag(), networkFlag()),
				Action: onMachine(func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					b := facts.State.Chain.Broken()
					if b == nil {
						newPage(c).line("%s no link of the chain is broken", newPage(c).good(markGood))
						return nil
					}
					k, err := loadKnowledge()
					if err != nil {
						return err
					}
					id, ok := k.Mends[b.Fault]
					if !ok {
						return fmt.Errorf(
							"%s: %s (%s): this link is not mended by one change; hand the machine in as a case for its ladder",
							b.Kind, b.Saw, b.Fault,
						)
					}
					return runAction(ctx, c, facts, path, id, nil)
				})},
		},
	}
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
		p.hangingIndent(fmt.Sprintf("  %s %-17s ", mark, l.Kind), l.What+": "+l.Saw)
		if l.Fault != "" {
			p.line("    %s", p.faint(string(l.Fault)))
		}
	}
}

// showWays draws each way in which the firmware could start the machine in a row of its own.
func showWays(p *page, ways []boot.Way) {
	if len(ways) == 0 {
		return
	}
	p.head("Ways to start, in the firmware's order")
	for _, w := range ways {
		mark, name, text := p.faint("·"), cmp.Or(w.Entry, "-"), w.Note
		if b := w.Chain.Broken(); b != nil {
			mark, text = p.bad(markBroken), fmt.Sprintf("%s, %s: %s", b.Kind, b.What, b.Saw)
		} else if len(w.Chain) > 0 {
			mark, text = p.good(markGood), "holds, as far as it is followed"
		}
		if w.Taken {
			text = "taken: " + text
		}
		p.hangingIndent(fmt.Sprintf("  %s %-4s ", mark, name), w.Title+"  "+text)
	}
}

func storeCommand() *cli.Command {
	return &cli.Command{
		Name: "store", Usage: "verify a machine's component store and its protected files, and repair them",
		Commands: []*cli.Command{
			storeCheckCommand(),
			{Name: "repair", Usage: "put right what the check finds, from a source of the same build", ArgsUsage: "IMAGE|FOLDER",
				Description: "First from the machine's own copies, then from --source. A source of another build is refused.\n\n" +
					"Example:\n" +
					"   diorthos store repair .demo/machines/tarvoe-office-1 --source .demo/medium-7210.pack",
				Flags: append(changeFlags(), sourceFlag(), networkFlag()),
				Action: onMachine(func(ctx context.Context, c *cli.Command, facts *bag.Facts, path string) error {
					id := action.ID("store.repair")
					if facts.State.Store == nil { // files of packages, and no store beside them
						id = "packages.restore-files"
					}
					return runAction(ctx, c, facts, path, id, nil)
				})},
		},
	}
}

func showStore(p *page, r *store.Verification) {
	if r == nil {
		return
	}
	p.head("Component store")
	showVerification(p, r)
}

func showVerification(p *page, r *store.Verification) {
	mark := p.good(markGood)
	if len(r.Faults) > 0 {
		mark = p.bad(markBroken)
	}
	p.line(
		"  %s %s%s, %s, %s hashed: %s", mark, buildOf(r), plural(r.Components, "component", "components"),
		plural(r.Files, "file", "files"), size(r.Bytes), plural(len(r.Faults), "fault", "faults"),
	)
	for _, f := range r.Faults {
		p.hangingIndent("    "+p.bad(markBroken)+" ", f.String())
		p.line("      want %s%s", f.Want, map[bool]string{true: "", false: ", got " + f.Got}[f.Got == ""])
	}
}

// plainActions are those of upkeep that have to be told no more than the machine.
func plainActions() (names []string) {
	for _, id := range action.IDs() {
		name, ok := strings.CutPrefix(string(id), "upkeep.")
		if a, _ := action.Named(id); ok &&
			!slices.ContainsFunc(
				a.Parameters,
				func(p action.Parameter) bool { return p.Name != "system" && p.Name != action.Said.Name },
			) {
			names = append(names, name)
		}
	}
	return names
}

func upkeepCommand() *cli.Command {
	names := plainActions()
	return &cli.Command{
		Name: "upkeep", Usage: "show services, settings, pending work and the update client of a machine, and change them",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show how they stand beside what the release ships", ArgsUsage: "IMAGE|FOLDER",
				Description: "Exit status 1 if something is not as it should be.\n\n" +
					"Example:\n" +
					"   diorthos upkeep show .demo/machines/fulmar-crew-1",
				Flags:  []cli.Flag{sectorFlag(), jsonFlag()},
				Action: onMachine(showUpkeepOf)},
			{Name: "cut", Usage: "copy a list of pending work without what refers to missing components", ArgsUsage: "LIST OUT",
				Description: "For a list of any size, taken off a machine: everything else stays byte for byte the same, in\n" +
					"little memory. On a machine itself, \"upkeep do cut-pending\" does it through a journal.\n\n" +
					"Example:\n" +
					"   diorthos upkeep cut list list.new --store /mnt/corbel/store/manifests",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:     "store",
						Usage:    "`FOLDER` with the manifests of the components that are there",
						Required: true,
					},
					jsonFlag(),
				},
				Action: cutList},
			settingsSet(), settingsCommand(), putBackCommand(), tidyCommand(), asideCommand(), roomCommand(),
			backupCommand(),
			holdCommand("hold", action.HoldBack, "keep a release, an update or a package from being begun"),
			holdCommand("release", action.LetGo, "let what is held back be begun again"),
			{Name: "do", Usage: "take one action", ArgsUsage: "ACTION IMAGE|FOLDER",
				Description: "The actions: " + strings.Join(names, ", ") +
					".\n" +
					"Each is proven afterwards, and taken back if it cannot be.\n\n" +
					"Example:\n" +
					"   diorthos upkeep do leftovers-aside .demo/machines/gannet-crew-2 --dry-run",
				Flags: append(changeFlags(), sourceFlag(), networkFlag(), systemFlag(), yesFlag(), &cli.StringFlag{
					Name:  "confirm",
					Usage: "the machine's `NAME`, to say that what an action destroys may be lost",
				}),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "ACTION", "IMAGE")
					if err != nil {
						return err
					}
					if !slices.Contains(names, a[0]) {
						return usage(c, fmt.Errorf("there is no action %q: want one of %s", a[0], strings.Join(names, ", ")))
					}
					facts, err := lookFor(c, a[1], false)
					if err != nil {
						return err
					}
					return runAction(ctx, c, facts, a[1], action.ID("upkeep."+a[0]), systemParam(c))
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
	in, err := block.OpenRegular(a[0], os.O_RDONLY)
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
	cut, err := upkeep.Excise(ctx, io.TeeReader(in, bar), out, finderFor(folder))
	if err != nil {
		return err
	}
	bar.clear()
	if done, err := writeJSON(c, cut); done {
		return err
	}
	newPage(c).line(
		"%s: %s left out, %s; the rest is byte for byte the same",
		a[1], plural(cut.Out, "operation", "operations"), size(cut.Bytes),
	)
	return nil
}

// finderFor finds what is gone, by the first family whose lists can be cut.
func finderFor(folder string) upkeep.Finder {
	for _, a := range platform.All() {
		if cutter, ok := a.(system.Cutter); ok {
			return cutter.FindGone(os.DirFS(folder))
		}
	}
	return func(data []byte, _ bool) (int, int, int) { return -1, -1, len(data) }
}

// systemFlag chooses one of several systems on a disk.
func systemFlag() cli.Flag {
	return &cli.IntFlag{Name: "system", Usage: "number of the partition with the system, where several are on the disk"}
}

func yesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "yes", Usage: "do not ask before what disrupts"}
}

func systemParam(c *cli.Command) map[string]string {
	if n := c.Int("system"); n > 0 {
		return map[string]string{"system": strconv.Itoa(n)}
	}
	return nil
}

func showUpkeep(p *page, s *bag.State, list []readiness.Verdict) {
	p.head("Upkeep")
	showVerdicts(p, list)
	if s.Pending != nil {
		p.line("  %s pending: %s, %s for the next start", markNone, s.Pending.Transaction,
			plural(s.Pending.Operations, "operation", "operations"))
	}
	for _, h := range s.History {
		p.line("  %s %s  %-8s %s, build %d", markNone, when(h.When), h.Kind, h.Title, h.Build)
	}
}

// showUpkeepOf says how the parts stand. What was not measured is no fault, and is
// not called fine either.
func showUpkeepOf(_ context.Context, c *cli.Command, facts *bag.Facts, _ string) error {
	k, err := loadKnowledge()
	if err != nil {
		return err
	}
	list := readiness.Conditions(facts.State, k.Limits)
	done, err := writeJSON(c, struct {
		*bag.State
		Conditions []readiness.Verdict `json:"conditions"`
	}{facts.State, list})
	if !done {
		showUpkeep(newPage(c), facts.State, list)
	}
	return unfit(readiness.Worst(list), err)
}
