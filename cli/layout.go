package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/core/system"
)

func sectorFlag() cli.Flag {
	return &cli.IntFlag{Name: sectorSizeFlag, Usage: "bytes of a sector of an image: 512 or 4096", Value: 512}
}

func layoutCommand() *cli.Command {
	return &cli.Command{
		Name: "layout", Usage: "look at, mend and change the partition tables of a disk or an image of one",
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "draw the disk and list its partitions", ArgsUsage: "IMAGE|DEVICE",
				Description: "Example:\n   diorthos layout show .demo/kestrel-office-3.img",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "decimal", Usage: "say sizes in powers of 1000 as well, as they are printed on disks"},
					sectorFlag(), jsonFlag(),
				},
				Action: func(_ context.Context, c *cli.Command) error {
					d, err := describe(c)
					if err != nil {
						return err
					}
					if done, err := writeJSON(c, d); done {
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
				Name: "check", Usage: "say what is wrong with the tables, where, and what it affects", ArgsUsage: "IMAGE|DEVICE",
				Description: "Exit status 1 if something is broken.\n\n" +
					"Examples:\n" +
					"   diorthos layout check .demo/kestrel-office-3.img\n" +
					"   diorthos layout check --for debian-13 .demo/kestrel-office-3.img",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "firmware",
						Usage: "`MODE` that the machine starts by, uefi or bios, to check for what it needs",
					},
					&cli.StringFlag{
						Name:  "for",
						Usage: "`RELEASE` that is to be installed, such as debian-13, to check for the sizes that it asks",
					},
					sectorFlag(),
					jsonFlag(),
				},
				Action: func(_ context.Context, c *cli.Command) error {
					d, err := describe(c)
					if err != nil {
						return err
					}
					if done, err := writeJSON(c, d.Problems); done {
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
	mode, err := firmwareFlag(c)
	if err != nil {
		return nil, err
	}
	needs := system.Needs{Firmware: mode}
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
	return describedDisk(c, onDisk(a[0]), needs)
}

func foundBroken(list []layout.Problem, err error) error {
	for _, p := range list {
		if err == nil && p.Severity == layout.Broken {
			return errFound
		}
	}
	return err
}

// showDecimal lists sizes by both powers, all in one unit.
func showDecimal(p *page, d bag.Disk) {
	rows := [][]string{{"disk", fmt.Sprintf("%.1f", float64(d.Size)/(1<<20)), fmt.Sprintf("%.1f", float64(d.Size)/1e6)}}
	for _, part := range d.Partitions {
		rows = append(rows, []string{
			fmt.Sprint(part.Number), fmt.Sprintf("%.1f", float64(part.Size)/(1<<20)),
			fmt.Sprintf("%.1f", float64(part.Size)/1e6),
		})
	}
	p.line("")
	p.table([]string{"", "MiB (1024²)", "MB (1000²)"}, rows, 1, 2)
}

func showDisk(p *page, d bag.Disk) {
	style := strings.ToUpper(string(d.Style))
	if d.Style == "none" {
		style = "no partition table"
	}
	p.line("%s  %s  %s  sectors of %d bytes", p.strong(d.Source), size(d.Size), style, d.SectorSize)
	p.line("")
	if d.Style != "none" {
		p.diskMap(d)
		p.line("")
	}
	p.partitions(d)
	p.innerVolumes(d)
}

// tableLooked says what "nothing wrong" was said of.
func tableLooked(d bag.Disk) string {
	parts := plural(len(d.Partitions), "partition", "partitions")
	switch d.Style {
	case layout.StyleGPT:
		return "GPT, both copies and the protective MBR, " + parts
	case layout.StyleMBR:
		return "MBR, " + parts
	}
	return "it has none; a file system lies on the whole disk"
}

func showProblems(p *page, d bag.Disk) {
	if len(d.Problems) == 0 {
		p.line("%s %s: nothing wrong with its table: %s", p.good(markGood), d.Source, tableLooked(d))
		return
	}
	p.line("%s: %s", p.strong(d.Source), plural(len(d.Problems), "problem", "problems"))
	for _, pr := range d.Problems {
		mark := p.bad(markBroken + " broken")
		if pr.Severity == layout.Odd {
			mark = markOdd + " odd"
		}
		p.line("")
		p.hangingIndent(fmt.Sprintf("%s  ", mark), fmt.Sprintf("%s, LBA %d: %s", pr.Part, pr.LBA, pr.Text))
		if pr.Want != "" {
			p.line("            want %s, found %s", pr.Want, pr.Got)
		}
		if pr.ID == "table-missing" {
			p.line("            look for lost partitions: diorthos layout rescue %s", d.Source)
		}
		p.line("            %s", p.faint(string(pr.ID)+"; affects "+strings.Join(pr.Affects, ", ")))
	}
}
