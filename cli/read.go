package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

func readCommand() *cli.Command {
	return &cli.Command{
		Name: "read", Usage: "read logs: what was tried, where it broke, why", ArgsUsage: "PATH…",
		Description: "Reads files and folders; compressed ones too; \"-\" is standard input. Needs no service.\n" +
			"Exit status 1 if an attempt failed.\n\n" +
			"Examples:\n" +
			"   diorthos read .demo/logs\n" +
			"   diorthos read --why-not term.log:86 .demo/logs\n" +
			"   diorthos read --unparsed .demo/logs",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "why-not", Usage: "say why line `FILE:LINE` was not chosen as the decisive one"},
			&cli.BoolFlag{
				Name:  "unparsed",
				Usage: "list the lines that are no records of their log's dialect; they are read as plain text",
			},
			jsonFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return usage(c, fmt.Errorf("PATH is missing"))
			}
			logs, err := sources(c, c.Args().Slice())
			if err != nil {
				return err
			}
			debug.SetGCPercent(40) // logs of any size in little memory
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			if c.IsSet("why-not") {
				return whyNot(ctx, c, k, logs)
			}
			if c.Bool("unparsed") {
				return listUnparsed(ctx, c, k, logs)
			}
			d, err := docket.Draw(ctx, &bag.Facts{}, logs, k, nil)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, d); done {
				return failedAttempt(d, err)
			}
			p := newPage(c)
			showTried(p, d)
			showBroke(p, d)
			showSuspects(p, d)
			showWhy(p, d)
			showSettle(p, d)
			showFiles(p, d)
			return failedAttempt(d, nil)
		},
	}
}

// whyNot explains one line that was not chosen.
func whyNot(ctx context.Context, c *cli.Command, k *knowledge.Knowledge, logs []reading.Source) error {
	file, number, ok := strings.Cut(c.String("why-not"), ":")
	line, err := strconv.Atoi(number)
	if !ok || err != nil || line < 1 {
		return usage(c, fmt.Errorf("--why-not %q: want FILE:LINE", c.String("why-not")))
	}
	timeline, err := k.Reader.Read(ctx, logs, reading.Anchor{Now: time.Now()}, nil)
	if err != nil {
		return err
	}
	newPage(c).hangingIndent(fmt.Sprintf("%s line %d  ", file, line), timeline.WhyNot(file, line))
	return nil
}

// listUnparsed prints as it reads: there can be millions.
func listUnparsed(ctx context.Context, c *cli.Command, k *knowledge.Knowledge, logs []reading.Source) error {
	type unparsed struct {
		File string `json:"file"`
		reading.WindowLine
	}
	out := bufio.NewWriterSize(c.Root().Writer, 64<<10)
	lines := json.NewEncoder(out)
	for _, src := range logs {
		_, err := k.Reader.Unparsed(ctx, src, func(l reading.WindowLine) error {
			if c.Bool("json") {
				return lines.Encode(unparsed{src.Name, l})
			}
			_, err := fmt.Fprintf(out, "%s:%d  %s\n", src.Name, l.Number, sanitize(l.Text))
			return err
		})
		if err != nil {
			return errors.Join(err, out.Flush())
		}
	}
	return out.Flush()
}

func failedAttempt(d *docket.Docket, err error) error {
	if err == nil && d.Failure != nil {
		return errFound
	}
	return err
}

// sources lists the logs at the paths given, folders with all they hold. What can
// be read only once, such as a pipe, is kept in a file of its own meanwhile: to
// tell its language and dialect, and to read it, it is read more than once.
func sources(c *cli.Command, paths []string) ([]reading.Source, error) {
	var list []reading.Source
	for _, path := range paths {
		if path == "-" {
			src, err := spooled("standard input", c.Root().Reader)
			if err != nil {
				return nil, err
			}
			list = append(list, src)
			continue
		}
		err := filepath.WalkDir(path, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			src, err := sourceAt(shown(path, name), name)
			list = append(list, src)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("no files in %s", strings.Join(paths, ", "))
	}
	return list, nil
}

// sourceAt is the log at a path: a file, or what can be read only once.
func sourceAt(name, path string) (reading.Source, error) {
	info, err := os.Stat(path)
	if err != nil {
		return reading.Source{}, err
	}
	if info.Mode().IsRegular() {
		return reading.Source{
			Name: name,
			Size: info.Size(),
			Open: func() (io.ReadCloser, error) { return os.Open(path) },
		}, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return reading.Source{}, err
	}
	defer func() { _ = f.Close() }() // it was only read
	return spooled(name, f)
}

// spooled copies a stream into a file that nobody else can find, and that goes
// with the program.
func spooled(name string, in io.Reader) (reading.Source, error) {
	f, err := os.CreateTemp("", "diorthos-stream-")
	if err != nil {
		return reading.Source{}, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return reading.Source{}, errors.Join(err, f.Close())
	}
	size, err := io.Copy(f, in)
	if err != nil {
		return reading.Source{}, errors.Join(fmt.Errorf("%s: %w", name, err), f.Close())
	}
	return reading.Source{Name: name, Size: size, Open: func() (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(f, 0, size)), nil
	}}, nil
}

// shown is a log's name below the folder that was asked for.
func shown(root, name string) string {
	if rel, err := filepath.Rel(root, name); err == nil && rel != "." {
		return rel
	}
	return filepath.Base(name)
}
