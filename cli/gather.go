package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/host"
	"diorthos/platform"
)

func gatherCommand() *cli.Command {
	return &cli.Command{
		Name: "gather", Usage: "gather the evidence of a machine into a bag",
		Description: "Reads the running machine (--live), a disk or an image of one (--image), or a folder that holds\n" +
			"a system (--root), and changes no byte of it. The bag holds facts, the first and last MiB of an\n" +
			"image, and the package logs: those in --logs, or those of the system.\n\n" +
			"Examples:\n" +
			"   diorthos gather --image .demo/kestrel-office-3.img --out kestrel.bag.tar.gz\n" +
			"   diorthos gather --live --site 'MV Kestrel' --out here.bag.tar.zst\n" +
			"   diorthos gather --live --list\n" +
			"   diorthos gather --live --mask --leave-out 'console*' --out here.bag.tar.zst",
		Flags: append(append(lookFlags(), evidenceFlags()...),
			&cli.StringFlag{Name: "out", Usage: "the bag to write, .tar.gz or .tar.zst"},
			&cli.BoolFlag{Name: "list", Usage: "say what would be taken, and take nothing"}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			o, err := gatherOptions(c)
			if err != nil {
				return err
			}
			if c.Bool("list") {
				return listEvidence(ctx, c, o)
			}
			if c.String("out") == "" {
				return usage(c, errors.New("say which bag to write: --out FILE.tar.gz, or --list to see what would be in it"))
			}
			g, err := gatherTo(ctx, c.String("out"), o)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, map[string]any{
				"bag":     c.String("out"),
				"digest":  g.Digest,
				"machine": g.Facts.Machine.Name,
				"files":   g.Files,
				"bytes":   g.Bytes,
				"leftOut": g.Facts.LeftOut,
				"masked":  g.Masked,
			}); done {
				return err
			}
			p := newPage(c)
			p.line(
				"%s %s: %s, %s of evidence from %s", p.good(markGood), p.strong(c.String("out")),
				plural(g.Files, "file", "files"), size(g.Bytes), g.Facts.Machine.Name,
			)
			for _, l := range g.Facts.LeftOut {
				p.hangingIndent("  "+p.bad(markBroken)+" left out  ", l.Name+": "+l.Why)
			}
			for _, d := range g.Facts.Disks {
				p.line(
					"  %s  %s, %s, %s", d.Source, size(d.Size), plural(len(d.Partitions), "partition", "partitions"),
					plural(len(d.Problems), "problem", "problems"),
				)
			}
			if o.Mask {
				p.line("  replaced %s", maskedText(g.Masked))
			}
			p.line("  digest %s", g.Digest)
			return nil
		},
	}
}

// evidenceFlags say what to gather besides, and what a disk may not tell of its
// machine.
func evidenceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "logs", Usage: "folder of logs, or one log, to take instead of those on the disk"},
		&cli.StringSliceFlag{
			Name: "with", Usage: "a `FILE` of what was seen besides, such as the text of the screen; once more for each",
		},
		&cli.StringFlag{Name: "machine", Usage: "name of the machine, if the system on the disk does not say"},
		&cli.StringFlag{Name: "site", Usage: "where the machine stands"},
		&cli.StringFlag{Name: "model", Usage: "the machine's model"},
		&cli.StringSliceFlag{
			Name:  "leave-out",
			Usage: "files that are not to be taken, by a `PATTERN` such as 'logs/apt/*' or '*.1'; once more for each",
		},
		&cli.BoolFlag{
			Name: "mask", Usage: "replace names of people, addresses of mail and addresses in a network, the same by the same",
		},
	}
}

// listEvidence prints what would be taken.
func listEvidence(ctx context.Context, c *cli.Command, o host.GatherOptions) error {
	list, facts, err := host.List(ctx, o)
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, map[string]any{
		"machine": facts.Machine.Name, "facts": facts, "files": list, "leftOut": facts.LeftOut,
	}); done {
		return err
	}
	p := newPage(c)
	p.line("Of %s would be taken:", p.strong(facts.Machine.Name))
	p.line("  %12s  facts.json, as --json prints them here", "")
	for _, f := range list {
		p.line("  %12s  %s", size(f.Bytes), f.Name)
	}
	for _, l := range facts.LeftOut {
		p.hangingIndent("  "+p.bad(markBroken)+" left out  ", l.Name+": "+l.Why)
	}
	return nil
}

// maskedText says how many different things were replaced.
func maskedText(counts map[string]int) string {
	var list []string
	for _, k := range []struct{ key, one, many string }{
		{"person", "name of a person", "names of people"}, {"mail", "address of mail", "addresses of mail"},
		{"ip4", "IPv4 address", "IPv4 addresses"}, {"ip6", "IPv6 address", "IPv6 addresses"},
		{"mac", "MAC address", "MAC addresses"},
	} {
		if n := counts[k.key]; n > 0 {
			list = append(list, plural(n, k.one, k.many))
		}
	}
	if len(list) == 0 {
		return "nothing: no names of people and no addresses stand in it"
	}
	return strings.Join(list, ", ") + ", each by the same throughout"
}

// gatherOptions are what lookFlags and evidenceFlags ask for.
func gatherOptions(c *cli.Command) (host.GatherOptions, error) {
	keys, err := keysOf(c)
	return host.GatherOptions{
		Keys:       keys,
		Image:      c.String("image"),
		Root:       c.String("root"),
		Live:       c.Bool("live"),
		SectorSize: c.Int("sector-size"),
		Logs:       c.String("logs"),
		With:       c.StringSlice("with"),
		Machine:    c.String("machine"),
		Site:       c.String("site"),
		Model:      c.String("model"),
		Adapters:   platform.All(),
		Now:        time.Now(),
		LeaveOut:   c.StringSlice("leave-out"),
		Mask:       c.Bool("mask"),
	}, errors.Join(err, checkPatterns(c))
}

// lookFlags say which machine to look at.
func lookFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "image", Usage: "disk image or block `DEVICE`"},
		&cli.StringFlag{Name: "root", Usage: "`FOLDER` that holds a whole system"},
		&cli.BoolFlag{Name: "live", Usage: "the running machine"},
		sectorFlag(),
	}
}

func checkPatterns(c *cli.Command) error {
	for _, pattern := range c.StringSlice("leave-out") {
		if _, err := path.Match(pattern, ""); err != nil {
			return fmt.Errorf("--leave-out %q: %w: want a name with * ? [ ] in it", pattern, err)
		}
	}
	return nil
}

// gatherTo writes the bag beside its place and moves it there when it is
// whole, so that a bag of that name is never half a bag.
func gatherTo(ctx context.Context, path string, o host.GatherOptions) (g *host.Gathered, err error) {
	switch {
	case strings.HasSuffix(path, ".tar.zst"):
		o.Zstd = true
	case !strings.HasSuffix(path, ".tar.gz"):
		return nil, fmt.Errorf("gather: %s: a bag's name ends in .tar.gz or .tar.zst", path)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".gathering-")
	if err != nil {
		return nil, fmt.Errorf("gather: %w", err)
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	g, err = host.Gather(ctx, f, o)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	return g, os.Rename(f.Name(), path)
}
