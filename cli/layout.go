package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/host"
	"diorthos/platform/corbel"
	"diorthos/platform/debian"
)

func platforms() []host.Platform { return []host.Platform{debian.Adapter{}, corbel.Adapter{}} }

func sectorFlag() cli.Flag {
	return &cli.IntFlag{Name: "sector-size", Usage: "bytes of a sector of an image: 512 or 4096", Value: 512}
}

func layoutCommand() *cli.Command {
	return &cli.Command{
		Name: "layout", Usage: "look at, mend and change the partition tables of a disk or an image of one",
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "draw the disk and list its partitions", ArgsUsage: "IMAGE|DEVICE",
				Description: "Example:\n   diorthos layout show .demo/kestrel-office-3.img",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "decimal", Usage: "say sizes in powers of 1000 as well, as they are printed on disks"}, sectorFlag(), jsonFlag()},
				Action: func(_ context.Context, c *cli.Command) error {
					d, err := describe(c)
					if err != nil {
						return err
					}
					if done, err := put(c, d); done {
						return err
					}
					p := newPage(c)
					showDisk(p, *d)
					if c.Bool("decimal") {
						showDecimal(p, *d)
					}
					return nil
				},
			},
			{
				Name: "check", Usage: "say what is wrong with the tables, where, and who minds", ArgsUsage: "IMAGE|DEVICE",
				Description: "Exit status 1 if something is broken.\n\nExamples:\n   diorthos layout check .demo/kestrel-office-3.img\n   diorthos layout check --for debian-13 .demo/kestrel-office-3.img",
				Flags: []cli.Flag{&cli.StringFlag{Name: "firmware", Usage: "`MODE` that the machine starts by, uefi or bios, to check for what it needs"},
					&cli.StringFlag{Name: "for", Usage: "`RELEASE` that is to be installed, such as debian-13, to check for the sizes that it asks"}, sectorFlag(), jsonFlag()},
				Action: func(_ context.Context, c *cli.Command) error {
					d, err := describe(c)
					if err != nil {
						return err
					}
					if done, err := put(c, d.Problems); done {
						return foundBroken(d.Problems, err)
					}
					showProblems(newPage(c), *d)
					return foundBroken(d.Problems, nil)
				},
			},
			layoutMendCommand(), layoutVolumeCommand(), layoutRescueCommand(), layoutRestyleCommand(), layoutCarveCommand(),
		},
	}
}

func describe(c *cli.Command) (*bag.Disk, error) {
	a, err := args(c, "IMAGE")
	if err != nil {
		return nil, err
	}
	image, err := host.OpenDisk(a[0], c.Int("sector-size"), true)
	if err != nil {
		return nil, err
	}
	defer func() { _ = image.Close() }()
	needs := host.Needs{Firmware: c.String("firmware")}
	if needs.Firmware != "" && needs.Firmware != "uefi" && needs.Firmware != "bios" {
		return nil, usage(c, fmt.Errorf("--firmware %q: want uefi or bios", needs.Firmware))
	}
	if id := c.String("for"); id != "" {
		k, err := loadKnowledge()
		if err != nil {
			return nil, err
		}
		release, err := findRelease(k, id)
		if err != nil {
			return nil, err
		}
		needs.Sizes = release.Sizes()
	}
	d, _, err := host.DescribeDiskFor(image, "disk0", a[0], platforms(), needs)
	return d, err
}

func foundBroken(list []layout.Problem, err error) error {
	for _, p := range list {
		if err == nil && p.Weight == layout.Broken {
			return errFound
		}
	}
	return err
}

// showDecimal lists sizes by both powers, all in one unit.
func showDecimal(p *page, d bag.Disk) {
	rows := [][]string{{"disk", fmt.Sprintf("%.1f", float64(d.Size)/(1<<20)), fmt.Sprintf("%.1f", float64(d.Size)/1e6)}}
	for _, part := range d.Partitions {
		rows = append(rows, []string{fmt.Sprint(part.Number), fmt.Sprintf("%.1f", float64(part.Size)/(1<<20)), fmt.Sprintf("%.1f", float64(part.Size)/1e6)})
	}
	p.line("")
	p.table([]string{"", "MiB (1024²)", "MB (1000²)"}, rows, 1, 2)
}

func showDisk(p *page, d bag.Disk) {
	style := strings.ToUpper(d.Style)
	if d.Style == "none" {
		style = "no partition table"
	}
	p.line("%s  %s  %s  sectors of %d bytes", p.strong(d.Source), size(d.Size), style, d.SectorSize)
	p.line("")
	if d.Style != "none" {
		p.strip(d)
		p.line("")
	}
	p.partitions(d)
}

func showProblems(p *page, d bag.Disk) {
	if len(d.Problems) == 0 {
		p.line("%s %s: nothing wrong with its tables", p.good(markGood), d.Source)
		return
	}
	p.line("%s: %s", p.strong(d.Source), plural(len(d.Problems), "problem", "problems"))
	for _, pr := range d.Problems {
		mark := p.bad(markBroken + " broken")
		if pr.Weight == layout.Odd {
			mark = markOdd + " odd"
		}
		p.line("")
		p.hang(fmt.Sprintf("%s  ", mark), fmt.Sprintf("%s, LBA %d: %s", pr.Part, pr.LBA, pr.Text))
		if pr.Want != "" {
			p.line("            want %s, found %s", pr.Want, pr.Got)
		}
		p.line("            %s", p.faint(pr.ID+"; minded by "+strings.Join(pr.Minds, ", ")))
	}
}
