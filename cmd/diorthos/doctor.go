package main

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	commands "diorthos/cli"
	"diorthos/core/knowledge"
	"diorthos/service/health"
)

func doctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "look whether Diorthos itself has what it needs here",
		Description: "Looks at the service's database, its store of bags, temporary files and knowledge, and at the\n" +
			"tools that single commands need; changes nothing. Exit status 1 if something is wrong.\n\n" +
			"Example:\n" +
			"   diorthos doctor --database … --bags /var/lib/diorthos/bags",
		Flags: append(storeFlags(), &cli.BoolFlag{Name: "json", Usage: "print JSON for programs"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			bags := c.String("bags")
			if !c.IsSet("bags") && c.String("database") == "" {
				bags = "" // no service is meant
			}
			return showHealth(c, health.Look(ctx, health.Wanted{
				Database:  c.String("database"),
				Bags:      bags,
				Temporary: os.TempDir(),
				Knowledge: func() (*knowledge.Knowledge, error) { return commands.LoadKnowledge(os.Getenv("DIORTHOS_KNOWLEDGE")) },
			}))
		},
	}
}

var healthMarks = map[health.Rating]string{
	health.Good: "✓", health.Doubtful: "◆", health.Bad: "▲", health.Unasked: "·",
}

func showHealth(c *cli.Command, list []health.Finding) error {
	done, err := commands.Put(c, list)
	if err != nil {
		return err
	}
	if !done {
		for _, f := range list {
			_, _ = fmt.Fprintf(c.Root().Writer, "%s %-18s %s\n", healthMarks[f.Rating], f.What, f.Saw)
			if f.Do != "" {
				_, _ = fmt.Fprintf(c.Root().Writer, "  %-18s → %s\n", "", f.Do)
			}
		}
	}
	if health.Worst(list) == health.Bad {
		return commands.ErrFound
	}
	return nil
}
