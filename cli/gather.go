package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
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
			"   diorthos gather --live --site 'MV Kestrel' --out here.bag.tar.zst",
		Flags: append(append(lookFlags(), evidenceFlags()...),
			&cli.StringFlag{Name: "out", Usage: "the bag to write, .tar.gz or .tar.zst", Required: true}, jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			o, err := gatherOptions(c)
			if err != nil {
				return err
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
			p.line("  digest %s", g.Digest)
			return nil
		},
	}
}

// evidenceFlags say what to gather besides, and what a disk may not tell of its
// machine.
func evidenceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "logs", Usage: "folder of logs to take instead of those on the disk"},
		&cli.StringFlag{Name: "machine", Usage: "name of the machine, if the system on the disk does not say"},
		&cli.StringFlag{Name: "site", Usage: "where the machine stands"},
		&cli.StringFlag{Name: "model", Usage: "the machine's model"},
	}
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
		Machine:    c.String("machine"),
		Site:       c.String("site"),
		Model:      c.String("model"),
		Adapters:   platform.All(),
		Now:        time.Now(),
	}, err
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
