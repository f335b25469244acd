package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/reading"
)

func readCommand() *cli.Command {
	return &cli.Command{
		Name: "read", Usage: "read logs: what was tried, where it broke, why", ArgsUsage: "PATH…",
		Description: "Reads files and folders; compressed ones too; \"-\" is standard input. Needs no service.\n" +
			"Exit status 1 if an attempt failed.\n\nExample:\n   diorthos read .demo/logs",
		Flags: []cli.Flag{jsonFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return usage(c, fmt.Errorf("PATH is missing"))
			}
			logs, err := sources(c)
			if err != nil {
				return err
			}
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			d, err := docket.Draw(ctx, &bag.Facts{}, logs, k, nil)
			if err != nil {
				return err
			}
			if done, err := put(c, d); done {
				return failedAttempt(d, err)
			}
			p := newPage(c)
			showTried(p, d)
			showBroke(p, d)
			showWhy(p, d)
			showFiles(p, d)
			return failedAttempt(d, nil)
		},
	}
}

func failedAttempt(d *docket.Docket, err error) error {
	if err == nil && d.Broke != nil {
		return errFound
	}
	return err
}

// sources lists the logs at the paths given, folders with all they hold.
func sources(c *cli.Command) ([]reading.Source, error) {
	var list []reading.Source
	for _, path := range c.Args().Slice() {
		if path == "-" {
			list = append(list, reading.Source{Name: "standard input", Size: -1, Open: func() (io.ReadCloser, error) { return io.NopCloser(c.Root().Reader), nil }})
			continue
		}
		err := filepath.WalkDir(path, func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				list = append(list, reading.Source{Name: shown(path, name), Open: func() (io.ReadCloser, error) { return os.Open(name) }})
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("no files in %s", strings.Join(c.Args().Slice(), ", "))
	}
	return list, nil
}

// shown is a log's name below the folder that was asked for.
func shown(root, name string) string {
	if rel, err := filepath.Rel(root, name); err == nil && rel != "." {
		return rel
	}
	return filepath.Base(name)
}
