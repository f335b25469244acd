package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/urfave/cli/v3"

	"diorthos/core/readfs"
	"diorthos/core/system"
	"diorthos/core/upkeep"
	"diorthos/host"
	"diorthos/platform"
)

func roomCommand() *cli.Command {
	return &cli.Command{
		Name: "room", Usage: "say what fills the volume of a system, and whose it is", ArgsUsage: "[IMAGE|FOLDER]",
		Description: "Adds up the files of the system's volume by whose they are, the largest first, with what can be\n" +
			"done about them. Nothing is changed. Other volumes that are mounted below a folder are not counted.\n\n" +
			"Examples:\n" +
			"   diorthos upkeep room .demo/jobs/06/kiosk\n" +
			"   diorthos upkeep room --live",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "live", Usage: "the running machine"},
			&cli.IntFlag{Name: "most", Usage: "list so many at most; 0 for all", Value: 15}, sectorFlag(), jsonFlag(),
		},
		Action: room,
	}
}

// A roomReport is what fills a volume.
type roomReport struct {
	System string `json:"system"`
	*upkeep.Usage
}

func room(ctx context.Context, c *cli.Command) error {
	path, err := oneMachine(c)
	if err != nil {
		return err
	}
	k, err := loadKnowledge()
	if err != nil {
		return err
	}
	a, volume, err := systemAt(c, path)
	if err != nil {
		return err
	}
	if closer, ok := volume.(interface{ Close() error }); ok {
		defer func() { _ = closer.Close() }() // it was only read
	}
	var owners []upkeep.Owner
	if f := k.Families[a.Family()]; f != nil {
		owners = f.Owners
	}
	u, err := upkeep.Shares(ctx, volume, owners, host.OnVolume(path))
	if err != nil {
		return err
	}
	is, _ := a.Find(volume)
	if done, err := writeJSON(c, roomReport{is.Name, u}); done {
		return err
	}
	p := newPage(c)
	p.line("%s: %s in %s", p.strong(is.Name), size(u.Bytes), plural(u.Files, "file", "files"))
	shown := u.Shares
	if most := c.Int("most"); most > 0 {
		shown = shown[:min(most, len(shown))]
	}
	var rows [][]string
	for _, s := range shown {
		rows = append(rows, []string{"  " + size(s.Bytes), fmt.Sprint(s.Files), s.Path, s.Of})
	}
	p.table([]string{"  SIZE", "FILES", "WHERE", "WHOSE, AND WHAT CAN BE DONE"}, rows, 0, 1)
	if left := len(u.Shares) - len(shown); left > 0 {
		p.line("  and %s: --most 0 lists all", plural(left, "smaller one", "smaller ones"))
	}
	if u.Unread > 0 {
		unread := plural(u.Unread, "folder", "folders")
		p.line("%s %s could not be read: what they hold is not counted", p.bad(markBroken), unread)
	}
	return nil
}

// oneMachine is the machine that an argument names, or this one with --live.
func oneMachine(c *cli.Command) (string, error) {
	if !c.Bool("live") {
		a, err := args(c, "IMAGE")
		if err != nil {
			return "", err
		}
		return a[0], nil
	}
	if c.Args().Present() {
		return "", usage(c, errors.New("--live is this machine: name no other"))
	}
	return "/", nil
}

// holdsFiles reports whether a path is a folder with the files of a system, and no machine's folder with disks.
func holdsFiles(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir() && host.Locate(path).Disk == path
}

// systemAt opens the system in a folder, or on the first volume of a disk that holds one.
func systemAt(c *cli.Command, path string) (system.Adapter, fs.FS, error) {
	var volume fs.FS
	if holdsFiles(path) {
		root, err := os.OpenRoot(path)
		if err != nil {
			return nil, nil, err
		}
		volume = readfs.Within(root)
	} else {
		keys, err := keysOf(c)
		if err != nil {
			return nil, nil, err
		}
		if volume, err = host.SystemVolume(host.Locate(path).Disk, platform.All(), keys); err != nil {
			return nil, nil, err
		}
	}
	a, _, ok := system.FindOn(platform.All(), volume)
	if !ok {
		return nil, nil, fmt.Errorf("%s: no system that is known lies there", path)
	}
	return a, volume, nil
}
