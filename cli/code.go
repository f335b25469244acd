package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/codes"
)

func codeCommand() *cli.Command {
	return &cli.Command{
		Name: "code", Usage: "say what a code means in each family it can belong to", ArgsUsage: "VALUE",
		Description: "VALUE is decimal, hexadecimal (0x…) or negative. Exit status 1 if no family knows it.\n\nExamples:\n   diorthos code 28\n   diorthos code 0x80070070\n   diorthos code -- -28",
		Flags:       []cli.Flag{jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			a, err := args(c, "VALUE")
			if err != nil {
				return err
			}
			values, err := codes.Parse(a[0])
			if err != nil {
				return err
			}
			k, err := loadKnowledge()
			if err != nil {
				return err
			}
			list := map[string][]codes.Reading{}
			known := false
			for _, v := range values {
				list[v.String()] = append([]codes.Reading{}, k.Codes.Decode(v)...)
				known = known || len(list[v.String()]) > 0
			}
			if done, err := put(c, list); done {
				return unknownCode(known, err)
			}
			p := newPage(c)
			for _, v := range values {
				showCode(p, v, list[v.String()])
			}
			return unknownCode(known, nil)
		},
	}
}

func unknownCode(known bool, err error) error {
	if err == nil && !known {
		return errFound
	}
	return err
}

func showCode(p *page, v codes.Value, readings []codes.Reading) {
	p.line("%s  %s", p.strong(v.String()), p.faint("taken as "+string(v.Form)))
	if len(readings) == 0 {
		p.line("  %s no family knows it", markNone)
	}
	for _, r := range readings {
		p.line("  %s  %s", p.strong(strings.TrimSpace(r.Value+" "+r.Name)), p.faint(r.Title))
		p.para(4, r.Text)
		for _, part := range r.Parts {
			p.line("    %-10s %6d  %s", part.Name, part.Value, fmt.Sprintf("0x%04x  %s", part.Value, part.Meaning))
		}
	}
}
