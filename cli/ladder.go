package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/climb"
)

func ladderCommand() *cli.Command {
	return &cli.Command{
		Name:      "ladder",
		Usage:     "show a case's ladder, what is borrowed, or print the sheet to take along",
		ArgsUsage: "[NUMBER]",
		Description: "With --sheet a Markdown file and a page to print are written: exact for this machine, for\n" +
			"somebody without network. Without NUMBER the ladder is that of what \"diorthos diagnose\" found\n" +
			"with the same --image, --root or --live.\n\n" +
			"Examples:\n" +
			"   diorthos ladder 1\n" +
			"   diorthos ladder 1 --sheet .",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "sheet", Usage: "write the sheet into `FOLDER`"},
			&cli.StringFlag{Name: "image", Usage: "the image beside which the record of the machine's climbs lies"},
			&cli.StringFlag{Name: "root", Usage: "`FOLDER` with the files of the machine's system"},
			&cli.BoolFlag{Name: "live", Usage: "the running machine"},
			sectorFlag(), jsonFlag()),
		Action: showLadder,
	}
}

func showLadder(ctx context.Context, c *cli.Command) error {
	d, err := theCase(ctx, c)
	if err != nil {
		return err
	}
	if d.Docket == nil {
		return fmt.Errorf("case %d has not been read yet", d.Number)
	}
	if folder := c.String("sheet"); folder != "" {
		return writeSheets(c, d, folder)
	}
	if done, err := writeJSON(c, d.Docket.ToDo); done {
		return err
	}
	p := newPage(c)
	showToDo(p, d, true)
	m, err := machineOf(c, d)
	if err != nil {
		return err
	}
	r, err := climb.ReadRecord(m.Record(), d.Machine)
	if err != nil {
		return err
	}
	showOwed(p, r)
	return nil
}

// showOwed lists what the machine's record says is owed.
func showOwed(p *page, r *climb.Record) {
	for _, debt := range r.Owed() {
		p.hangingIndent(
			"  "+p.bad(markBroken)+" ",
			fmt.Sprintf("borrowed by rung %d and not given back: %s. %s", debt.Rung, debt.What, debt.Back),
		)
	}
	if owed := r.OwedRestart(); owed != nil {
		p.line("  %s rung %d owes a restart", p.bad(markBroken), owed.Rung)
	}
	if e := r.Unfinished(); e != nil {
		p.hangingIndent(
			"  "+p.bad(markBroken)+" ",
			fmt.Sprintf("rung %d was cut off: go on with --resume %s, or take it back with \"diorthos undo %s\"",
				e.Rung, relative(e.Journal), relative(e.Journal)),
		)
	}
}

func writeSheets(c *cli.Command, d *client.CaseDetail, folder string) error {
	base := filepath.Join(folder, strings.ReplaceAll(caseName(d), " ", "-"))
	if d.Number > 0 {
		base += "-" + d.Machine
	}
	sheet := sheetOf(d)
	var names []string
	for name, write := range map[string]func(*os.File) error{
		base + ".md":   func(f *os.File) error { return sheet.Markdown(f) },
		base + ".html": func(f *os.File) error { return sheet.HTML(f) },
	} {
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		if err := errors.Join(write(f), f.Sync(), f.Close()); err != nil {
			return err
		}
		names = append(names, name)
	}
	sort.Strings(names)
	if done, err := writeJSON(c, names); done {
		return err
	}
	p := newPage(c)
	for _, n := range names {
		p.line("%s %s", p.good(markGood), n)
	}
	return nil
}
