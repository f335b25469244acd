package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

func knowledgeCommand() *cli.Command {
	return &cli.Command{
		Name: "knowledge", Usage: "check, try and make knowledge: dialects, causes, signatures, remedies",
		Commands: []*cli.Command{
			learnedCommand(),
			{
				Name: "check", Usage: "check a folder of knowledge, or what is shipped", ArgsUsage: "[FOLDER]",
				Description: "A FOLDER is laid over what is shipped: a file takes the place of the shipped one of its name.\n" +
					"Expressions are compiled against the facts, and every name is looked up. Warns of what is in\n" +
					"order and can never come to anything.\n" +
					"Exit status 1 if something is wrong or warned of; the message names file and line.\n\n" +
					"Example:\n" +
					"   diorthos knowledge check docs/own-system/knowledge",
				Flags:  []cli.Flag{jsonFlag()},
				Action: checkKnowledge,
			},
			{
				Name: "try", Usage: "show what a signature finds in logs", ArgsUsage: "SIGNATURE PATH…",
				Description: "Exit status 1 if it finds nothing.\n\n" +
					"Example:\n" +
					"   diorthos knowledge try boot-volume-full .demo/logs",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "from", Usage: "`FOLDER` of knowledge, laid over what is shipped"}, jsonFlag(),
				},
				Action: trySignature,
			},
			{
				Name: "infer", Usage: "make a dialect from a log of unknown format, as YAML", ArgsUsage: "FILE",
				Description: "Looks at the first 2,000 lines.\n\n" +
					"Example:\n" +
					"   diorthos knowledge infer /var/log/skerrow-board.log >knowledge/dialects/skerrow-board.yaml",
				Action: inferDialect,
			},
		},
	}
}

func checkKnowledge(_ context.Context, c *cli.Command) error {
	var site []fs.FS
	where := "the shipped knowledge"
	if c.Args().Present() {
		a, err := args(c, "FOLDER")
		if err != nil {
			return err
		}
		if info, err := os.Stat(a[0]); err != nil || !info.IsDir() {
			return errors.Join(err, fmt.Errorf("%s is not a folder", a[0]))
		}
		site, where = []fs.FS{os.DirFS(a[0])}, a[0]+", laid over what is shipped,"
	}
	k, err := knowledge.Load(shipped.Files, site...)
	if err != nil {
		_, _ = fmt.Fprintln(c.Root().ErrWriter, "diorthos:", oneLine(err))
		return errFound
	}
	warnings := append([]string{}, k.Warnings()...)
	done, err := writeJSON(c, map[string]any{
		"version": k.Version, "dialects": len(k.Dialects), "causes": len(k.Causes), "signatures": len(k.Signatures),
		"remedies": len(k.Remedies), "families": k.Carried(), "warnings": warnings,
	})
	if !done {
		p := newPage(c)
		p.line("%s %s is in order, version %s", p.good(markGood), where, k.Version)
		p.line(
			"  %d dialects, %d causes, %d signatures, %d remedies",
			len(k.Dialects), len(k.Causes), len(k.Signatures), len(k.Remedies),
		)
		for _, f := range k.Carried() {
			p.line("  %s: Diorthos carries out %d of %d remedies itself, for %d of %d causes; the others are for a person",
				f.Family, f.Remedies-f.ByHand, f.Remedies, f.Reached, f.Causes)
		}
		for _, w := range warnings {
			p.hangingIndent("  "+markOdd+" ", w)
		}
	}
	if err == nil && len(warnings) > 0 {
		return errFound
	}
	return err
}

// A tried is one pattern of a signature with what it found.
type tried struct {
	Pattern string          `json:"pattern"`
	In      string          `json:"in"`
	Odds    float64         `json:"odds"`
	Found   []reading.Event `json:"found"`
}

func trySignature(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() < 2 {
		return usage(c, fmt.Errorf("SIGNATURE and PATH are needed"))
	}
	var site []fs.FS
	if from := c.String("from"); from != "" {
		site = []fs.FS{os.DirFS(from)}
	}
	k, err := knowledge.Load(shipped.Files, site...)
	if err != nil {
		return err
	}
	id := c.Args().First()
	at := slices.IndexFunc(k.Signatures, func(s *knowledge.Signature) bool { return s.ID == id })
	if at < 0 {
		return fmt.Errorf("there is no signature %q", id)
	}
	logs, err := sources(c, c.Args().Slice()[1:])
	if err != nil {
		return err
	}
	timeline, err := k.Reader.Read(ctx, logs, reading.Anchor{Now: time.Now()}, nil)
	if err != nil {
		return err
	}
	list, any := hitsOf(k.Signatures[at], timeline)
	if done, err := writeJSON(c, list); done {
		return unlessFound(any, err)
	}
	p := newPage(c)
	p.line("%s", p.strong(id+" → "+k.Signatures[at].Cause))
	for _, t := range list {
		p.line("  %s", p.faint(fmt.Sprintf("%s, odds %g: %s", t.In, t.Odds, t.Pattern)))
		if len(t.Found) == 0 {
			p.line("    %s nothing", markNone)
		}
		for i, e := range t.Found {
			if i == maxShown {
				p.line("    and %d more", len(t.Found)-i)
				break
			}
			p.hangingIndent(
				"    "+p.good(markGood)+" ", fmt.Sprintf("%s line %d: %s", e.File, e.Line, strings.ReplaceAll(e.Text, "\n", " ")),
			)
		}
	}
	return unlessFound(any, nil)
}

func unlessFound(found bool, err error) error {
	if err == nil && !found {
		return errFound
	}
	return err
}

// hitsOf collects what each pattern of a signature matches anywhere.
func hitsOf(s *knowledge.Signature, timeline *reading.Timeline) (list []tried, any bool) {
	all := timeline.Unassigned
	for _, a := range timeline.Attempts {
		all = append(all, a.Events()...)
	}
	for i, e := range s.Events {
		t := tried{Pattern: e.Match, In: e.In, Odds: e.Odds, Found: []reading.Event{}}
		for _, ev := range all {
			if slices.Contains(ev.Hits, s.WatchID(i)) {
				t.Found = append(t.Found, ev)
			}
		}
		any = any || len(t.Found) > 0
		list = append(list, t)
	}
	return list, any
}

func inferDialect(ctx context.Context, c *cli.Command) error {
	a, err := args(c, "FILE")
	if err != nil {
		return err
	}
	src := reading.Source{Name: a[0], Open: func() (io.ReadCloser, error) { return os.Open(a[0]) }}
	window, err := reading.Window(ctx, src, 1, 2000)
	if err != nil {
		return err
	}
	lines := make([]string, len(window))
	for i, l := range window {
		lines[i] = l.Text
	}
	d, err := reading.Infer(filepath.Base(a[0]), lines)
	if err != nil {
		return fmt.Errorf("%s: %w", a[0], err)
	}
	_, err = io.WriteString(c.Root().Writer, d.YAML(lines))
	return err
}
