package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"diorthos/core/climb"
	"diorthos/core/upkeep"
	"diorthos/host"
	"diorthos/platform"
)

// backupCommand copies what is people's before anything disrupts or destroys.
func backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "copy the files of people to an archive, and read it back", ArgsUsage: "IMAGE|FOLDER",
		Description: "Of a system's volume everything is taken but what comes back by itself (packages, caches, logs), of\n" +
			"other volumes all. No mount is needed, and no system that starts: a disk whose system is gone is read as well.\n" +
			"What cannot be read is named, and the rest is taken (exit status 1). The archive is a tar with the sums at its\n" +
			"end (SHA256SUMS). The machine's record keeps where it lies: a climb names it before it disrupts anything.\n\n" +
			"Examples:\n" +
			"   diorthos upkeep backup .demo/jobs/06/kiosk --to kiosk.tar.zst\n" +
			"   diorthos upkeep backup /dev/sdb --to /media/stick/kestrel.tar.zst\n" +
			"   tar --zstd -xf kiosk.tar.zst && sha256sum -c SHA256SUMS",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:      "to",
				Usage:     "the `FILE` to make, .tar.zst or .tar.gz",
				TakesFile: true,
			}, sectorFlag(), jsonFlag(),
		},
		Action: backUp,
	}
}

// A backupReport is what became of a backup.
type backupReport struct {
	File string `json:"file"`
	*upkeep.Backup
	Missing []string `json:"missing"` // volumes that were not read
}

func backUp(ctx context.Context, c *cli.Command) error {
	a, err := args(c, "IMAGE")
	if err != nil {
		return err
	}
	pack, unpack, err := packings(c.String("to"))
	if err != nil {
		return usage(c, err)
	}
	keys, err := keysOf(c)
	if err != nil {
		return err
	}
	k, err := loadKnowledge()
	if err != nil {
		return err
	}
	found, err := host.FindPeopleFiles(
		a[0],
		c.Int("sector-size"),
		platform.All(),
		keys,
		func(family string) []upkeep.Owner {
			if f := k.Families[family]; f != nil {
				return f.Owners
			}
			return nil
		},
	)
	if err != nil {
		return err
	}
	defer func() { _ = found.Close() }() // it was only read
	report := backupReport{File: c.String("to"), Missing: append([]string{}, found.Unread...)}
	err = fetched(report.File, func(to io.Writer) error {
		w, err := pack(to)
		if err != nil {
			return err
		}
		taken := newBar(c, "copying", -1)
		report.Backup, err = upkeep.WriteBackup(ctx, w, found.Volumes, func(n int64) { _ = taken.Add64(n) })
		return errors.Join(err, w.Close(), taken.Close())
	}, func(from io.Reader) error {
		r, err := unpack(from)
		if err != nil {
			return err
		}
		files, err := upkeep.CheckBackup(ctx, r)
		if err == nil && files != report.Files {
			err = fmt.Errorf("%d files of %d are in it", files, report.Files)
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := noteBackup(c, a[0], report); err != nil {
		return err
	}
	return showBackup(c, a[0], report)
}

// noteBackup has the machine's record keep where the backup lies.
func noteBackup(c *cli.Command, path string, report backupReport) error {
	facts, err := lookFor(c, path, true)
	name := filepath.Base(path)
	if err == nil {
		name = facts.Machine.Name
	}
	m := &host.Machine{Path: path, Name: name, Adapters: platform.All(), Now: time.Now}
	if host.HoldsSystem(path) {
		m.Path, m.Root = "", path
	}
	record, err := climb.OpenRecord(m.Record(), name)
	if err != nil {
		return err
	}
	why := fmt.Sprintf("%s, %s, %s", absolute(report.File), plural(report.Files, "file", "files"), size(report.Bytes))
	if n := len(report.Unread) + len(report.Missing); n > 0 {
		why += fmt.Sprintf("; NOT in it: %s that could not be read", plural(n, "file or volume", "files or volumes"))
	}
	return errors.Join(record.Note(climb.Entry{At: time.Now().UTC(), Mark: climb.MarkBackedUp, Why: why}), record.Close())
}

func showBackup(c *cli.Command, path string, report backupReport) error {
	missing := append(append([]string{}, report.Missing...), report.Unread...)
	if done, err := writeJSON(c, report); done {
		if err == nil && len(missing) > 0 {
			err = errFound
		}
		return err
	}
	p := newPage(c)
	p.line("%s %s: %s, %s of %s; read back, every file has its sum", p.good(markGood), p.strong(report.File),
		plural(report.Files, "file", "files"), size(report.Bytes), path)
	for i, m := range missing {
		if i == 20 {
			p.line("  … %d more", len(missing)-i)
			break
		}
		p.hangingIndent("  "+p.bad(markBroken)+" not in it  ", m)
	}
	if len(missing) > 0 {
		return errFound
	}
	return nil
}

// packings are how an archive of a name is packed and unpacked.
func packings(name string) (
	pack func(io.Writer) (io.WriteCloser, error), unpack func(io.Reader) (io.Reader, error), err error,
) {
	switch {
	case strings.HasSuffix(name, ".tar.zst"):
		return func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) },
			func(r io.Reader) (io.Reader, error) { return zstd.NewReader(r) }, nil
	case strings.HasSuffix(name, ".tar.gz"):
		return func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
			func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }, nil
	case name == "":
		return nil, nil, errors.New("say which archive to make: --to FILE.tar.zst")
	}
	return nil, nil, fmt.Errorf("--to %s: want a name that ends in .tar.zst or .tar.gz", name)
}
