package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/ladder"
	"diorthos/core/store"
	"diorthos/host"
	"diorthos/platform/corbel"
)

func sourceFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "source", Usage: "where missing components may come from: a `MEDIUM` (file), a healthy twin (machine's folder or disk), or the vendor's service (address); once more for each further one"}
}

// componentSources opens what --source names. Which of them are of the right build is
// for the repair to say.
func componentSources(names []string, build int) (list []store.Source, err error) {
	for _, name := range names {
		s, err := source(name, build)
		if err != nil {
			return nil, fmt.Errorf("--source %s: %w", name, err)
		}
		list = append(list, s)
	}
	return list, nil
}

func source(name string, build int) (store.Source, error) {
	if strings.HasPrefix(name, "http://") || strings.HasPrefix(name, "https://") {
		return corbel.VendorSource(name, build), nil
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if filepath.Ext(name) == ".pack" {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		return corbel.PackSource(filepath.Base(name), raw)
	}
	if info.IsDir() && host.Locate(name).Plate == "" {
		return corbel.TwinSource(filepath.Base(name), os.DirFS(name))
	}
	volume, err := host.SystemVolume(host.Locate(name).Disk, platforms())
	if err != nil {
		return nil, err
	}
	return corbel.TwinSource("the twin "+filepath.Base(name), volume)
}

// bench is what the rungs of a case need besides the disk.
func bench(c *cli.Command, d *client.CaseDetail) (ladder.Bench, error) {
	facts := &bag.Facts{}
	if d.Docket != nil {
		facts.Disks, facts.Firmware, facts.State = d.Docket.Disks, d.Docket.Firmware, d.Docket.State
	}
	build := 0
	if facts.State != nil && facts.State.Store != nil {
		build = facts.State.Store.Build
	}
	list, err := componentSources(c.StringSlice("source"), build)
	return host.Bench(platforms(), facts, list, time.Now), err
}
