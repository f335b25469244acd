package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/codes"
)

func codeCommand() *cli.Command {
	return &cli.Command{
		Name: "code", Usage: "say what a code means in each family it can belong to", ArgsUsage: "VALUE…",
		Description: "VALUE is decimal, hexadecimal, negative, SCSI sense as 3/11/00, read aloud, or a sentence with\n" +
			"codes in it. What no family knows is taken for mistyped or misheard, and suggestions are made.\n" +
			"Exit status 1 if no family knows it.\n\n" +
			"Examples:\n" +
			"   diorthos code 0x80070070\n" +
			"   diorthos code -- -28\n" +
			"   diorthos code \"set-up ended with 0x8007007O\"\n" +
			"   diorthos code eight double oh seven double oh seven oh",
		Flags: []cli.Flag{jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return usage(c, errors.New("VALUE is missing"))
			}
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			asked := strings.Join(c.Args().Slice(), " ")
			e := k.Codes.Explain(asked)
			if len(e.Taken)+len(e.Words)+len(e.Perhaps) == 0 {
				return fmt.Errorf("%q holds no code: want a number such as 28, -5, 0x80070070 or 3/11/00", asked)
			}
			if done, err := writeJSON(c, e); done {
				return unknownCode(e, err)
			}
			showCode(newPage(c), e)
			return unknownCode(e, nil)
		},
	}
}

func unknownCode(e codes.Explanation, err error) error {
	if err == nil && !e.Known() {
		return errFound
	}
	return err
}

func showCode(p *page, e codes.Explanation) {
	for _, w := range e.Words {
		p.line("%s  %s", p.strong(strings.TrimSpace(w.Value+" "+w.Name)), p.faint(w.Title))
		p.para(4, w.Text)
	}
	for _, t := range e.Taken {
		p.line("%s  %s", p.strong(t.Value), p.faint("taken as "+string(t.Form)))
		if len(t.Readings) == 0 {
			p.line("  %s no family knows it", markNone)
		}
		for _, r := range t.Readings {
			showReading(p, r)
		}
	}
	if len(e.Perhaps) == 0 {
		return
	}
	p.line("%s", p.strong("Perhaps meant"))
	var rows [][]string
	for _, s := range e.Perhaps {
		rows = append(rows, []string{
			"  " + s.Value, percent(s.Share), s.Title, strings.TrimSpace(s.Name + " " + s.Text), s.Slip,
		})
	}
	p.table([]string{"  code", "likely", "family", "meaning", "if"}, rows, 2)
}

func showReading(p *page, r codes.Reading) {
	p.line("  %s  %s", p.strong(strings.TrimSpace(r.Value+" "+r.Name)), p.faint(r.Title))
	p.para(4, r.Text)
	for _, part := range r.Parts {
		p.line(
			"    %-10s %6d  %s", part.Name, part.Value, strings.TrimSpace(fmt.Sprintf("0x%04x  %s", part.Value, part.Meaning)),
		)
	}
}
