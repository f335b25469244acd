package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/host"
	"diorthos/platform"
)

const keptAndJournalled = "The settings as they were are kept aside, whole and the branch by itself, and a journal " +
	"brings every byte back.\n\n"

func settingsSet() *cli.Command {
	return changeSetting(
		"set", "change one value of the settings", "An empty VALUE takes it out. ",
		"upkeep set update/policy drivers take .demo/machines/fulmar-crew-1", "upkeep.set-value", "branch", "name",
		"value",
	)
}

func settingsCommand() *cli.Command {
	return &cli.Command{
		Name: "settings", Usage: "list the settings, and change owners, names, or bring back what was kept aside",
		Commands: []*cli.Command{
			{
				Name:        "show",
				Usage:       "list branches, owners, grants and values, and where settings were kept aside",
				ArgsUsage:   "IMAGE|FOLDER",
				Description: "Example:\n   diorthos upkeep settings show .demo/machines/fulmar-crew-1",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "branch", Usage: "only the `BRANCH` of this name"}, sectorFlag(), jsonFlag(),
				},
				Action: onMachine(showSettings),
			},
			changeSetting(
				"own", "give a branch to somebody", "",
				"upkeep settings own shell/menu system system:full,admins:full,users:read .demo/machines/fulmar-crew-1",
				"upkeep.set-owner", "branch", "owner", "grants",
			),
			changeSetting(
				"rename", "give a value of a branch another name", "An empty NAME renames the branch itself. ",
				"upkeep settings rename print/default tray drawer .demo/machines/fulmar-crew-1", "upkeep.rename-setting",
				"branch", "name", "to",
			),
			changeSetting(
				"restore", "bring back settings that were kept aside",
				"An empty BRANCH is all of them; an empty FROM the latest that differ. ",
				"upkeep settings restore shell/menu \"\" .demo/machines/fulmar-crew-1", "upkeep.restore-settings", "branch",
				"from",
			),
		},
	}
}

// changeSetting makes a command of an action with parameters, which are the
// command's arguments before the machine.
func changeSetting(name, usage, more, example string, id action.ID, params ...string) *cli.Command {
	var words []string
	text := ""
	for _, p := range params {
		words = append(words, strings.ToUpper(p))
		text += strings.ToUpper(p) + " "
	}
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: text + "IMAGE|FOLDER",
		Description: more + keptAndJournalled + "Example:\n   diorthos " + example, Flags: changeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, append(words, "IMAGE")...)
			if err != nil {
				return err
			}
			facts, err := lookFor(c, a[len(params)], false)
			if err != nil {
				return err
			}
			values := map[string]string{}
			for i, p := range params {
				values[p] = a[i]
			}
			return runAction(ctx, c, facts, a[len(params)], id, values)
		},
	}
}

// ableSystem opens the first system on a disk, or that of a folder, that has an ability, to be read.
func ableSystem[T any](c *cli.Command, facts *bag.Facts, path string) (found T, close func() error, err error) {
	if host.HoldsSystem(path) {
		s, done, err := host.ReadFolder(path, platform.All(), time.Now())
		if err != nil {
			return found, nil, err
		}
		if t, ok := s.(T); ok {
			return t, done, nil
		}
		return found, nil, errors.Join(fmt.Errorf("%s: no system lies there with which this can be done", path), done())
	}
	keys, err := keysOf(c)
	if err != nil {
		return found, nil, err
	}
	dev, err := host.OpenDisk(host.Locate(path).Disk, c.Int("sector-size"), true)
	if err != nil {
		return found, nil, err
	}
	mode := firmware.Mode("")
	if facts.Firmware != nil {
		mode = facts.Firmware.Mode
	}
	list, err := system.OpenAll(platform.All(), dev, system.Options{Mode: mode, Now: time.Now(), Keys: keys})
	if err != nil {
		return found, nil, errors.Join(err, dev.Close())
	}
	for _, o := range list {
		if t, ok := o.System.(T); ok {
			return t, dev.Close, nil
		}
	}
	return found, nil, errors.Join(fmt.Errorf("%s: no system lies there with which this can be done", path), dev.Close())
}

func showSettings(_ context.Context, c *cli.Command, facts *bag.Facts, path string) (err error) {
	keeper, closeDisk, err := ableSystem[system.SettingsEditor](c, facts, path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, closeDisk()) }()
	list, err := keeper.Settings()
	if err != nil {
		return err
	}
	if only := c.String("branch"); only != "" {
		list = slices.DeleteFunc(list, func(b upkeep.Branch) bool { return b.Name != only })
		if len(list) == 0 {
			return fmt.Errorf("%s: the settings have no branch %q", path, only)
		}
	}
	if done, err := writeJSON(c, map[string]any{"branches": list, "kept": keeper.KeptSettings()}); done {
		return err
	}
	p := newPage(c)
	for _, b := range list {
		p.line("%s  %s", p.strong(b.Name), p.faint(b.Owner+"  "+b.Grants))
		if b.Damaged != "" {
			p.hangingIndent("  "+p.bad(markBroken)+" damaged: ", b.Damaged)
		}
		for _, name := range slices.Sorted(maps.Keys(b.Values)) {
			p.line("  %-12s %s", name, b.Values[name])
		}
	}
	for _, at := range keeper.KeptSettings() {
		p.line("kept aside: %s", at)
	}
	return nil
}

// putBackCommand brings back what was moved aside, by its name.
func putBackCommand() *cli.Command {
	return &cli.Command{
		Name: "put-back", Usage: "bring back something that was moved aside", ArgsUsage: "NAME IMAGE|FOLDER",
		Description: "Works after the machine was used. What stands in its place now is moved aside in its turn, and\n" +
			"named. \"upkeep aside\" lists the names.\n\n" +
			"Example:\n" +
			"   diorthos upkeep put-back 20261125-101500/attempt-7 .demo/machines/gannet-crew-2",
		Flags: changeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "NAME", "IMAGE")
			if err != nil {
				return err
			}
			facts, err := lookFor(c, a[1], false)
			if err != nil {
				return err
			}
			return runAction(ctx, c, facts, a[1], "upkeep.put-back", map[string]string{"name": a[0]})
		},
	}
}

// tidyCommand frees what was moved aside.
func tidyCommand() *cli.Command {
	return &cli.Command{
		Name: "tidy", Usage: "free what repairs moved aside, once the machine works again", ArgsUsage: "IMAGE|FOLDER",
		Description: "The last step of a repair: until then nothing is deleted. It says what is freed, and how much. Through\n" +
			"a journal, by which it comes back as long as the machine was not used since.\n\n" +
			"Examples:\n" +
			"   diorthos upkeep tidy .demo/machines/gannet-crew-2 --dry-run\n" +
			"   diorthos upkeep tidy .demo/machines/gannet-crew-2 --name 20261125-101500/attempt-7",
		Flags: append(changeFlags(), &cli.StringFlag{Name: "name", Usage: "free only what is called so where it lies aside"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "IMAGE")
			if err != nil {
				return err
			}
			facts, err := lookFor(c, a[0], false)
			if err != nil {
				return err
			}
			return runAction(ctx, c, facts, a[0], "upkeep.tidy", map[string]string{"name": c.String("name")})
		},
	}
}

// holdCommand holds something back on one machine, or lets it go.
func holdCommand(name string, id action.ID, usage string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "WHAT IMAGE|FOLDER",
		Description: "WHAT is, of a Debian machine, PACKAGE, PACKAGE=VERSION or 'release CODENAME'; of a Corbel one the\n" +
			"title or number of what is on offer. / is the running machine. On all machines with an agent:\n" +
			"diorthos outbreaks.\n\n" +
			"Examples:\n" +
			"   diorthos upkeep " + name + " 'Corbel 7.2 update of November' .demo/machines/gannet-crew-2\n" +
			"   diorthos upkeep " + name + " 'release trixie' /",
		Flags: changeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "WHAT", "IMAGE")
			if err != nil {
				return err
			}
			facts, err := lookFor(c, a[1], false)
			if err != nil {
				return err
			}
			return runAction(ctx, c, facts, a[1], id, map[string]string{"what": a[0]})
		},
	}
}

// asideCommand lists what was moved aside.
func asideCommand() *cli.Command {
	return &cli.Command{
		Name: "aside", Usage: "list what was moved aside, and where it was", ArgsUsage: "IMAGE|FOLDER",
		Description: "Example:\n   diorthos upkeep aside .demo/machines/gannet-crew-2",
		Flags:       []cli.Flag{sectorFlag(), jsonFlag()},
		Action: onMachine(func(_ context.Context, c *cli.Command, facts *bag.Facts, path string) (err error) {
			s, closeDisk, err := ableSystem[system.Aside](c, facts, path)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, closeDisk()) }()
			list, err := s.MovedAside()
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, append([]upkeep.Aside{}, list...)); done {
				return err
			}
			p := newPage(c)
			if len(list) == 0 {
				p.line("%s nothing was moved aside on it", markNone)
				return nil
			}
			var rows [][]string
			var all int64
			for _, a := range list {
				rows = append(rows, []string{a.Name, size(a.Size), a.From})
				all += a.Size
			}
			p.table([]string{"name", "size", "was at"}, rows)
			p.line("")
			p.line("bring one back  diorthos upkeep put-back NAME %s", path)
			p.line("free %-10s diorthos upkeep tidy %s", size(all), path)
			return nil
		}),
	}
}
