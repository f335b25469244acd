package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/knowledge"
	"diorthos/core/readiness"
	"diorthos/core/reading"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform"
)

func readyCommand() *cli.Command {
	return &cli.Command{
		Name: "ready", Usage: "judge whether a machine is fit for a release, an update or a medium",
		Description: "Measures the running machine, or what --image, --root or --bag holds, against a release: each\n" +
			"requirement with what is required, what was measured and how a number came about. Exit status 1\n" +
			"if the machine is unfit.\n\n" +
			"Examples:\n" +
			"   diorthos ready --live --for debian-13\n" +
			"   diorthos ready --bag kestrel.bag.tar.gz --recommend\n" +
			"   diorthos ready --root /mnt --for debian-13 --index Packages.xz --needs skerrow-crew\n" +
			"   diorthos ready --live --update skerrow-berth_1.4_all.deb\n" +
			"   diorthos ready --image /dev/sdb --rehearse --network --start",
		Flags: append(
			lookFlags(),
			&cli.StringFlag{Name: "bag", Usage: "a `BAG` that was gathered"},
			&cli.StringFlag{Name: "for", Usage: "the `RELEASE` to go to, such as debian-13"},
			&cli.BoolFlag{Name: "recommend", Usage: "say which release to go to, and why not to the others"},
			&cli.StringSliceFlag{
				Name:  "index",
				Usage: "`FILE` with the release's packages (Packages, also compressed); once more for each further one",
			},
			&cli.StringSliceFlag{Name: "needs", Usage: "a `PACKAGE` that the user cannot do without"},
			&cli.StringFlag{Name: "update", Usage: "a package `FILE` that is to be installed"},
			&cli.BoolFlag{
				Name: "rehearse", Usage: "do the update, or with --for the upgrade, on a draft of the disk with the machine's " +
					"own tools and sources, and tell how it goes; nothing of the machine is changed",
			},
			&cli.BoolFlag{Name: "start", Usage: "with --rehearse: start the machine from the draft afterwards, in an emulator"},
			&cli.StringSliceFlag{
				Name:  "hold",
				Usage: "with --rehearse: hold `PACKAGE` back on the draft, to see whether the rest succeeds",
			},
			networkFlag(),
			&cli.StringFlag{Name: "medium", Usage: "the install `IMAGE` that is to be started"},
			&cli.StringFlag{Name: "firmware", Usage: "the machine's firmware `MODE`, uefi or bios, where it cannot be measured"},
			jsonFlag(),
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			if c.Bool("rehearse") {
				release := ""
				if id := c.String("for"); id != "" {
					r, err := findRelease(k, id)
					if err != nil {
						return err
					}
					release = r.Codename
				}
				return rehearseUpdate(ctx, c, release)
			}
			facts, err := factsFor(ctx, c)
			if err != nil {
				return err
			}
			switch {
			case c.IsSet("update"):
				return readyForUpdate(c, facts, k)
			case c.Bool("recommend"):
				return recommend(c, facts, k)
			case c.IsSet("for"):
				return readyFor(c, facts, k)
			}
			return usage(c, errors.New("say what for: --for RELEASE, --recommend, --update FILE or --rehearse"))
		},
	}
}

// factsFor takes the facts of whatever the flags name.
func factsFor(ctx context.Context, c *cli.Command) (*bag.Facts, error) {
	facts, err := lookOrOpen(ctx, c)
	if err != nil {
		return nil, err
	}
	mode, err := firmwareFlag(c)
	if err != nil {
		return nil, err
	}
	if mode != "" {
		facts.Firmware = &bag.Firmware{Mode: mode}
	}
	return facts, nil
}

func lookOrOpen(ctx context.Context, c *cli.Command) (*bag.Facts, error) {
	path := c.String("bag")
	if path == "" {
		keys, err := keysOf(c)
		if err != nil {
			return nil, err
		}
		l, err := host.Look(host.GatherOptions{
			Keys:       keys,
			Image:      c.String("image"),
			Root:       c.String("root"),
			Live:       c.Bool("live"),
			SectorSize: c.Int("sector-size"),
			Adapters:   platform.All(),
			Now:        time.Now(),
		})
		if err != nil {
			return nil, err
		}
		l.Close()
		return l.Facts, nil
	}
	f, err := block.OpenRegular(path, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	info, err := bag.Read(ctx, f, bag.DefaultLimits, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return info.Facts, nil
}

func question(c *cli.Command, facts *bag.Facts, k *knowledge.Knowledge) readiness.Question {
	return readiness.Question{
		Facts:  facts,
		Family: k.Families[facts.Family()],
		Limits: k.Limits,
		Needed: c.StringSlice("needs"),
		Now:    time.Now(),
	}
}

func readyFor(c *cli.Command, facts *bag.Facts, k *knowledge.Knowledge) error {
	release, err := findRelease(k, c.String("for"))
	if err != nil {
		return err
	}
	q := question(c, facts, k)
	q.Release = release
	if path := c.String("medium"); path != "" {
		if q.Medium, err = mediumAt(path); err != nil {
			return err
		}
	}
	if q.Plan, err = plan(c, facts, release); err != nil {
		return err
	}
	report, err := readiness.Judge(q)
	if err != nil {
		return err
	}
	done, err := writeJSON(c, report)
	if !done {
		p := newPage(c)
		p.line("%s for %s: %s", p.strong(facts.Machine.Name), report.Title, p.word(report.Verdict))
		showVerdicts(p, report.Verdicts)
		showPlan(p, report.Plan)
		p.line("%s", p.faint("Required by: "+report.Source))
	}
	return unfit(report.Verdict, err)
}

// mediumAt looks at an install image.
func mediumAt(path string) (*readiness.Medium, error) {
	src, err := host.OpenDisk(path, 512, true)
	if err != nil {
		return nil, err
	}
	defer func() { _ = src.Close() }()
	m, err := inspected(src, path)
	if err != nil {
		return nil, err
	}
	return &readiness.Medium{Title: m.Title, Modes: m.Modes(), Architecture: m.Architecture}, nil
}

func unfit(w readiness.Rating, err error) error {
	if err == nil && w == readiness.Unfit {
		return errFound
	}
	return err
}

func findRelease(k *knowledge.Knowledge, id string) (*knowledge.Release, error) {
	var known []string
	for _, r := range k.Releases {
		if r.ID == id || r.Codename == id {
			return r, nil
		}
		known = append(known, r.ID)
	}
	return nil, fmt.Errorf("no release is called %q; known are %s", id, strings.Join(known, ", "))
}

// plan computes the upgrade from the index files given, or from the lists that
// the machine itself has of that release. Without any there is no plan.
func plan(c *cli.Command, facts *bag.Facts, release *knowledge.Release) (*readiness.Plan, error) {
	sys := facts.Installed
	if sys == nil || sys.Family != release.Family || sys.Version == release.Version {
		return nil, nil //nolint:nilnil // nothing to compute
	}
	files := c.StringSlice("index")
	if len(files) == 0 {
		files = ownLists(c, release)
	}
	if len(files) == 0 {
		return nil, nil //nolint:nilnil // nothing to compute from
	}
	var opened []io.Reader
	var names []string
	for _, name := range files {
		plain, err := reading.OpenPlain(reading.Source{
			Name: name,
			Open: func() (io.ReadCloser, error) { return os.Open(name) },
		})
		if err != nil {
			return nil, err
		}
		defer func() { _ = plain.Close() }()
		opened, names = append(opened, plain), append(names, filepath.Base(name))
	}
	basis := strings.Join(names, ", ")
	packages, ok := packagesOf(sys.Family)
	if !ok {
		return nil, nil //nolint:nilnil // an upgrade of such a system cannot be computed
	}
	computed, err := packages.PlanUpgrade(sys, basis, opened...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", basis, err)
	}
	return computed, nil
}

// ownLists finds the lists of a release that the machine has fetched.
func ownLists(c *cli.Command, release *knowledge.Release) []string {
	root := c.String("root")
	if c.Bool("live") {
		root = "/"
	}
	if root == "" {
		return nil
	}
	packages, ok := packagesOf(release.Family)
	if !ok {
		return nil
	}
	var found []string
	for _, name := range packages.PackageLists(os.DirFS(root), release.Codename) {
		found = append(found, filepath.Join(root, filepath.FromSlash(name)))
	}
	return found
}

// packagesOf is who knows the packages of a family of systems.
func packagesOf(family string) (system.Packages, bool) {
	for _, a := range platform.All() {
		if p, ok := a.(system.Packages); ok && a.Family() == family {
			return p, true
		}
	}
	return nil, false
}

func recommend(c *cli.Command, facts *bag.Facts, k *knowledge.Knowledge) error {
	var failed error
	choices, err := readiness.Recommend(question(c, facts, k), k.Releases, func(r *knowledge.Release) *readiness.Plan {
		p, err := plan(c, facts, r)
		failed = errors.Join(failed, err)
		return p
	})
	if err = errors.Join(err, failed); err != nil {
		return err
	}
	picked := slices.ContainsFunc(choices, func(x readiness.Choice) bool { return x.Picked })
	done, err := writeJSON(c, choices)
	if !done {
		p := newPage(c)
		installed := "no system that is known"
		if facts.Installed != nil {
			installed = facts.Installed.Name
		}
		p.line("%s has %s.", p.strong(facts.Machine.Name), installed)
		var rows [][]string
		for _, x := range choices {
			mark := map[bool]string{true: p.good(markGood + " go to"), false: p.faint("  not")}[x.Picked]
			rows = append(rows, []string{mark, x.Report.Title, x.Why})
		}
		p.table([]string{"", "RELEASE", "WHY"}, rows)
		if !picked {
			p.line("%s No known release can be gone to.", p.bad(markBroken))
		}
	}
	if err == nil && !picked {
		return errFound
	}
	return err
}

func readyForUpdate(c *cli.Command, facts *bag.Facts, k *knowledge.Knowledge) error {
	if facts.Installed == nil {
		return errors.New("ready: no installed system is known to hold the update against")
	}
	f, err := block.OpenRegular(c.String("update"), os.O_RDONLY)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	packages, ok := packagesOf(facts.Installed.Family)
	if !ok {
		return fmt.Errorf(
			"ready: packages of %s cannot be judged by themselves: hold the machine against what is offered to it, with "+
				"\"upkeep show\"",
			facts.Installed.Name,
		)
	}
	pkg, err := packages.ReadPackage(f)
	if err != nil {
		return fmt.Errorf("%s: %w", c.String("update"), err)
	}
	q := question(c, facts, k)
	list := append(
		[]readiness.Verdict{readiness.Applicable(facts.Installed, pkg, q.Family, packages.CompareVersions)},
		readiness.General(q)...,
	)
	done, err := writeJSON(c, list)
	if !done {
		p := newPage(c)
		p.line("%s on %s", p.strong(pkg.Name+" "+pkg.Version+" "+pkg.Architecture), facts.Machine.Name)
		showVerdicts(p, list)
	}
	return unfit(list[0].Verdict, err)
}

func (p *page) word(w readiness.Rating) string {
	switch w {
	case readiness.Unfit:
		return p.bad(markBroken + " unfit")
	case readiness.Fit:
		return p.good(markGood + " fit")
	case readiness.Unknown:
		return p.faint("? unknown")
	}
	return p.paint(text.Colors{text.FgYellow}, markOdd+" doubtful")
}

func showVerdicts(p *page, list []readiness.Verdict) {
	var rows [][]string
	for _, v := range list {
		rows = append(rows, []string{
			p.word(v.Verdict), v.Title, text.WrapSoft(v.Required, 44), text.WrapSoft(v.Measured, 44),
		})
	}
	p.table([]string{"", "WHAT", "REQUIRED", "MEASURED"}, rows)
	for _, v := range list {
		if len(v.Sum) > 0 {
			p.line("%s, %s:", v.Title, v.Required)
			for _, t := range v.Sum {
				p.line("  %12s  %s", size(t.Bytes), t.What)
			}
		}
	}
	for _, v := range list {
		if v.Do != "" {
			p.hangingIndent(v.Title+": ", v.Do)
		}
	}
}

func showPlan(p *page, plan *readiness.Plan) {
	if plan == nil {
		return
	}
	p.line(
		"%s to upgrade, %d new, %s to download, from %s",
		plural(plan.Upgrades, "package", "packages"), plan.New, size(plan.Download), plan.Basis,
	)
	for _, l := range []struct {
		lead string
		list []string
	}{
		{"held and staying: ", plan.Held},
		{"not in the release: ", plan.Gone},
		{"needed and not to be had: ", plan.Missing},
	} {
		if len(l.list) > 0 {
			p.hangingIndent(l.lead, shortened(l.list, 12))
		}
	}
}

// shortened lists the first few and says how many more there are.
func shortened(list []string, n int) string {
	text := strings.Join(list[:min(len(list), n)], ", ")
	if len(list) > n {
		text += fmt.Sprintf(" and %d more", len(list)-n)
	}
	return text
}
