package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	commands "diorthos/cli"
	"diorthos/core/units"
	"diorthos/service/backup"
	"diorthos/service/bags"
)

func storeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name: "database", Usage: "PostgreSQL connection string", Sources: cli.EnvVars("DIORTHOS_DATABASE"),
		},
		&cli.StringFlag{
			Name: "bags", Usage: "folder where bags are kept", Value: "bags", Sources: cli.EnvVars("DIORTHOS_BAGS"),
		},
		bagKeysFlag(), bagsFromFlag(),
	}
}

func bagsFromFlag() cli.Flag {
	return &cli.StringFlag{
		Name: "bags-from", Usage: "where bags are being moved from: they are read there too (see move-bags)",
		Sources: cli.EnvVars("DIORTHOS_BAGS_FROM"),
	}
}

func bagKeysFlag() cli.Flag {
	return &cli.StringFlag{
		Name: "bag-keys", Usage: "`FILE` with the keys by which bags are encrypted where they lie (see serve make-bag-keys)",
		Sources: cli.EnvVars("DIORTHOS_BAG_KEYS"),
	}
}

// openBags opens the store that the flags name.
func openBags(ctx context.Context, c *cli.Command) (*bags.Store, error) {
	var keys *bags.Keys
	if path := c.String("bag-keys"); path != "" {
		var err error
		if keys, err = bags.LoadKeys(path); err != nil {
			return nil, err
		}
	}
	return bags.OpenBeside(ctx, c.String("bags"), c.String("bags-from"), keys)
}

func moveBagsCommand() *cli.Command {
	return &cli.Command{
		Name: "move-bags", Usage: "move all bags from one store to another, while the service runs",
		Description: "A folder or a store of objects (s3://…), in either direction. First have every process of the\n" +
			"service started with --bags NEW --bags-from OLD: new bags are kept in NEW, and each is read where it lies.\n" +
			"Then run this once, with the same two. Each bag is copied, read back and compared, and only then removed from OLD. Cut\n" +
			"off, it goes on where it was when it is run again. When it says that nothing is left, --bags-from can go.\n\n" +
			"Example:\n" +
			"   diorthos move-bags --bags 's3://bags?region=harbour&endpoint=https://objects.skerrow.example' \\\n" +
			"     --bags-from /var/lib/diorthos/bags",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name: "bags", Usage: "where bags are to lie", Required: true, Sources: cli.EnvVars("DIORTHOS_BAGS"),
			},
			bagsFromFlag(), bagKeysFlag(),
			&cli.DurationFlag{
				Name: "age", Usage: "leave what is younger: it may still be written", Value: 10 * time.Minute,
			},
			commands.JSONFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			from := c.String("bags-from")
			switch {
			case c.Args().Present():
				return fmt.Errorf("%q is one argument too many: see \"diorthos move-bags --help\"", c.Args().First())
			case from == "" || from == c.String("bags"):
				return errors.New("--bags-from is missing, or the same as --bags: see \"diorthos move-bags --help\"")
			}
			store, err := openBags(ctx, c)
			if err != nil {
				return err
			}
			defer func() { _ = store.Close() }()
			told := time.Now()
			m, err := store.Move(ctx, c.Duration("age"), func(m bags.Moved) {
				if time.Since(told) > time.Second {
					told = time.Now()
					_, _ = fmt.Fprintf(c.Root().ErrWriter, "%d bags, %s moved\n", m.Bags, units.FormatBytes(m.Bytes))
				}
			})
			if err != nil {
				return fmt.Errorf("%d bags are moved; then: %w", m.Bags, err)
			}
			if done, err := commands.Put(c, m); done {
				return err
			}
			if m.Bags > 0 {
				_, _ = fmt.Fprintf(c.Root().Writer, "✓ %d bags, %s: moved, and read back\n", m.Bags, units.FormatBytes(m.Bytes))
			}
			if m.Left > 0 {
				_, _ = fmt.Fprintf(
					c.Root().Writer,
					"%d are younger than %s: run this again after that\n",
					m.Left,
					c.Duration("age"),
				)
			} else {
				_, _ = fmt.Fprintln(c.Root().Writer, "Nothing is left there: --bags-from can go.")
			}
			return nil
		},
	}
}

func backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "write all that the service keeps into one file", ArgsUsage: "FILE",
		Description: "Records and bags as they stand at one moment, while the service runs; checked before it counts. " +
			"Bags that are\nencrypted where they lie are not so in the file.\n" +
			"The file holds evidence and the hashes of tokens: it is readable by its owner alone.\n\n" +
			"Examples:\n" +
			"   diorthos backup --database … --bags /var/lib/diorthos/bags diorthos-2026-11-25.backup\n" +
			"   diorthos restore --check diorthos-2026-11-25.backup",
		Flags: storeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			path, err := oneFile(c, true)
			if err != nil {
				return err
			}
			store, err := openBags(ctx, c)
			if err != nil {
				return err
			}
			defer func() { _ = store.Close() }()
			sum, err := writeBackup(ctx, c, store, path)
			if err != nil {
				return err
			}
			tell(c.Root().Writer, "✓ "+path+" was written and checked", sum)
			return nil
		},
	}
}

// oneFile is the file that is named, with a database where one is needed.
func oneFile(c *cli.Command, database bool) (string, error) {
	if c.Args().Len() != 1 {
		return "", fmt.Errorf("FILE is missing: see \"diorthos %s --help\"", c.Name)
	}
	if database && c.String("database") == "" {
		return "", errors.New("--database is missing, and DIORTHOS_DATABASE is not set")
	}
	return c.Args().First(), nil
}

// writeBackup writes beside the file, reads it once more, and only then gives it its name.
func writeBackup(ctx context.Context, c *cli.Command, store *bags.Store, path string) (sum backup.Summary, err error) {
	if _, err := os.Lstat(path); err == nil {
		return sum, fmt.Errorf("%s is there already: name a file that is not", path)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".diorthos-backup-*") // readable by its owner alone
	if err != nil {
		return sum, err
	}
	defer func() {
		if err != nil {
			_, _ = f.Close(), os.Remove(f.Name())
		}
	}()
	if sum, err = backup.Write(ctx, c.String("database"), store, f, progress(c.Root().ErrWriter, "written")); err != nil {
		return sum, err
	}
	if err = f.Sync(); err != nil {
		return sum, err
	}
	if _, err = f.Seek(0, io.SeekStart); err != nil {
		return sum, err
	}
	if _, err = backup.Check(f); err != nil {
		return sum, err
	}
	if err = f.Close(); err != nil {
		return sum, err
	}
	return sum, os.Rename(f.Name(), path)
}

func restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "make a service's records and bags of a backup", ArgsUsage: "FILE",
		Description: "The database has to be empty. A file that is damaged or cut off restores nothing. With --check it\n" +
			"is only read and held against its sums.\n\n" +
			"Examples:\n" +
			"   diorthos restore --check diorthos-2026-11-25.backup\n" +
			"   diorthos restore --database postgres:///diorthos2 --bags /var/lib/diorthos/bags2 diorthos-2026-11-25.backup",
		Flags: append(storeFlags(), &cli.BoolFlag{Name: "check", Usage: "read and check the file, and change nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			path, err := oneFile(c, !c.Bool("check"))
			if err != nil {
				return err
			}
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			defer func() { _ = f.Close() }()
			if c.Bool("check") {
				sum, err := backup.Check(f)
				if err != nil {
					return err
				}
				tell(c.Root().Writer, "✓ "+path+" is as it was written", sum)
				return nil
			}
			store, err := openBags(ctx, c)
			if err != nil {
				return err
			}
			defer func() { _ = store.Close() }()
			sum, err := backup.Restore(ctx, c.String("database"), store, f, progress(c.Root().ErrWriter, "restored"))
			if err != nil {
				return err
			}
			tell(c.Root().Writer, "✓ restored; \"diorthos serve\" with this database and these bags goes on from there", sum)
			return nil
		},
	}
}

// progress tells every two seconds how far it came.
func progress(out io.Writer, what string) backup.Progress {
	last := time.Now()
	return func(done, total int64) {
		if time.Since(last) > 2*time.Second {
			last = time.Now()
			_, _ = fmt.Fprintf(out, "%s of %s %s\n", units.FormatBytes(done), units.FormatBytes(total), what)
		}
	}
}

func tell(out io.Writer, head string, s backup.Summary) {
	_, _ = fmt.Fprintf(
		out,
		"%s\n  as of %s: %d machines, %d cases, %d climbs, %d people, %d audit entries, %d bags of %s\n",
		head,
		s.Made.Format("2006-01-02 15:04:05 UTC"),
		s.Rows["machines"],
		s.Rows["cases"],
		s.Rows["climbs"],
		s.Rows["people"],
		s.Rows["audit"],
		s.Bags,
		units.FormatBytes(s.BagBytes),
	)
}
