package cli

import (
	"context"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/system"
)

func storeCheckCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "hold every file that the system brought against its hash", ArgsUsage: "[IMAGE|FOLDER]",
		Description: "Manifests, payloads and protected files of a component store; or every file of every package, " +
			"with the\n" +
			"records of the package system. IMAGE is a disk or an image of one, FOLDER a machine's folder or one that\n" +
			"holds a whole system; --live is this machine. Exit status 1 if something is wrong.\n\n" +
			"Examples:\n" +
			"   diorthos store check .demo/machines/tarvoe-office-1\n" +
			"   diorthos store check --live",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "live", Usage: "the running machine"}, sectorFlag(), jsonFlag()},
		Action: storeCheck,
	}
}

// A packageReport is what a check of a system of packages found.
type packageReport struct {
	*store.Verification
	// Records are what is wrong with the records of packages, and what is worked with.
	Records []bag.StateFault `json:"records"`
	// Mended is how many of those can be put right by an action.
	Mended int `json:"mended"`
	// NotAtRest are packages on which work was begun and not ended.
	NotAtRest []bag.Package `json:"notAtRest"`
}

func storeCheck(ctx context.Context, c *cli.Command) error {
	path, err := oneMachine(c)
	if err != nil {
		return err
	}
	if holdsFiles(path) {
		return checkFiles(ctx, c, path)
	}
	facts, err := lookFor(c, path, false)
	if err != nil {
		return err
	}
	if facts.State.Store == nil {
		return checkFiles(ctx, c, path)
	}
	done, err := writeJSON(c, facts.State.Store)
	if !done {
		showStore(newPage(c), facts.State.Store)
	}
	if err == nil && len(facts.State.Store.Faults) > 0 {
		return errFound
	}
	return err
}

// checkFiles holds the files of packages against their sums, wherever the system lies.
func checkFiles(ctx context.Context, c *cli.Command, path string) error {
	a, volume, err := systemAt(c, path)
	if err != nil {
		return err
	}
	return checkPackages(ctx, c, a, volume, path)
}

func checkPackages(ctx context.Context, c *cli.Command, a system.Adapter, root fs.FS, path string) error {
	v, ok := a.(system.Verifier)
	if !ok {
		return fmt.Errorf("%s: files of this family of systems are not held against anything", path)
	}
	bar := newBar(c, "", 0)
	r := packageReport{Records: []bag.StateFault{}, NotAtRest: []bag.Package{}}
	var err error
	r.Verification, err = v.VerifyPayloads(ctx, root, runtime.NumCPU(), func(done, of int) {
		bar.show("files checked", int64(done), int64(of))
	})
	bar.clear()
	if err != nil {
		return err
	}
	flaws, mended := v.StateFlaws(root, time.Now())
	r.Records, r.Mended = append(r.Records, flaws...), mended
	if in := a.Inventory(root); in != nil {
		k, err := loadKnowledge()
		if err != nil {
			return err
		}
		for _, p := range in.Packages {
			if f := k.Families[a.Family()]; f != nil && !slices.Contains(f.AtRest, p.State) {
				r.NotAtRest = append(r.NotAtRest, p)
			}
		}
	}
	wrong := len(r.Faults) + len(r.Records) + len(r.NotAtRest)
	if r.Files == 0 {
		wrong++
	}
	if done, err := writeJSON(c, r); done || err != nil {
		if err == nil && wrong > 0 {
			return errFound
		}
		return err
	}
	showPackages(newPage(c), r, path)
	if wrong > 0 {
		return errFound
	}
	return nil
}

// mostShown bounds how many of one sort are listed.
const mostShown = 40

func showPackages(p *page, r packageReport, path string) {
	p.head("Files of packages")
	shown := *r.Verification
	shown.Faults = shown.Faults[:min(len(shown.Faults), mostShown)]
	mark := p.good(markGood)
	if len(r.Faults) > 0 {
		mark = p.bad(markBroken)
	}
	if r.Files == 0 {
		p.line("  %s no package is known here: nothing was held against anything", p.bad(markBroken))
		mark = markNone
	}
	p.line("  %s %s, %s, %s hashed: %s", mark, plural(r.Components, "package", "packages"),
		plural(r.Files, "file", "files"), size(r.Bytes), plural(len(r.Faults), "fault", "faults"))
	for _, f := range shown.Faults {
		p.hangingIndent("    "+p.bad(markBroken)+" ", f.Path+": "+faultWords[f.Kind]+", of "+f.Component+" "+f.Version)
	}
	if more := len(r.Faults) - len(shown.Faults); more > 0 {
		p.line("    and %d more: --json lists all", more)
	}
	if n := len(r.Unsummed); n > 0 {
		p.hangingIndent("  "+markNone+" ", fmt.Sprintf(
			"%s no checksums, so that of their files only whether they are there was looked at: %s",
			plural(n, "package brings", "packages bring"), strings.Join(r.Unsummed[:min(n, 8)], ", "),
		))
	}
	p.head("Records, and what the package system works with")
	if len(r.Records) == 0 {
		p.line("  %s all that was looked at can be read, and agrees", p.good(markGood))
	}
	for _, f := range r.Records {
		p.hangingIndent("  "+p.bad(markBroken)+" ", f.File+": "+f.Text)
	}
	for _, pkg := range r.NotAtRest {
		p.line("  %s %s %s: %s", p.bad(markBroken), pkg.Name, pkg.Version, pkg.State)
	}
	p.line("")
	switch {
	case len(r.Records) > 0 && r.Mended > 0:
		p.line("  next  diorthos upkeep do mend-lists %s", path)
	case len(r.Faults) > 0:
		p.line("  next  diorthos store repair %s", path)
	case len(r.NotAtRest) > 0:
		p.line("  next  diorthos climb --image %s", path)
	}
}

var faultWords = map[string]string{
	store.PayloadMissing: "it is not there", store.PayloadAltered: "it is not as the package brought it",
	store.Unreadable: "it cannot be read",
}

func buildOf(r *store.Verification) string {
	if r.Build == 0 {
		return ""
	}
	return fmt.Sprintf("build %d: ", r.Build)
}
