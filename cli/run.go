package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/client"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
)

// Version is what --version prints.
const Version = "0.1.0"

// errFound means that the command did its work and found something wrong.
var errFound = errors.New("found something wrong")

// ErrFound is what a command of another package returns in its place.
var ErrFound = errFound

// Run runs one command line and returns the exit status. more adds commands
// that do not belong here, such as the service.
func Run(ctx context.Context, args []string, in io.Reader, out, problems io.Writer, more ...*cli.Command) int {
	app := root(in, out, problems, more)
	switch err := app.Run(ctx, args); {
	case err == nil:
		return 0
	case errors.Is(err, errFound):
		return 1
	default:
		_, _ = fmt.Fprintln(problems, "diorthos:", oneLine(err))
		return 2
	}
}

// root is the program's own command, above all others.
func root(in io.Reader, out, problems io.Writer, more []*cli.Command) *cli.Command {
	app := &cli.Command{
		Name: "diorthos", Usage: "find out why an install, upgrade or update failed, and put it right", Version: Version,
		Description: "Local commands (read, code, gather, ready, layout, boot, store, upkeep, media, knowledge) need\n" +
			"no service. The others find it by --url and --token, by DIORTHOS_URL and DIORTHOS_TOKEN, or\n" +
			"by \"diorthos sign-in\".\n\n" +
			"Exit status: 0 fine, 1 found something wrong, 2 could not do it.",
		Reader: in, Writer: out, ErrWriter: problems,
		Commands: append([]*cli.Command{
			readCommand(),
			askCommand(),
			diagnoseCommand(),
			codeCommand(),
			gatherCommand(),
			readyCommand(),
			layoutCommand(),
			mediaCommand(),
			bootCommand(),
			storeCommand(),
			upkeepCommand(),
			submitCommand(),
			casesCommand(),
			caseCommand(),
			machinesCommand(),
			cohortsCommand(),
			outbreaksCommand(),
			wavesCommand(),
			agentCommand(),
			ladderCommand(),
			climbCommand(),
			rehearseCommand(),
			undoCommand(),
			signInCommand(),
			signOutCommand(),
			peopleCommand(),
			auditCommand(),
			knowledgeCommand(),
		}, more...),
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   func(_ context.Context, c *cli.Command, err error, _ bool) error { return usage(c, err) },
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return fmt.Errorf("there is no command %q: see \"diorthos --help\"", c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
	takeKeys(app.Commands)
	forbidUnknown(app.Commands)
	return app
}

// forbidUnknown makes groups of commands refuse a word that is none of them, and a command that takes no arguments
// those that it is given.
func forbidUnknown(list []*cli.Command) {
	for _, c := range list {
		c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error { return usage(c, err) }
		if len(c.Commands) == 0 {
			if do := c.Action; c.ArgsUsage == "" {
				c.Action = func(ctx context.Context, c *cli.Command) error {
					if _, err := args(c); err != nil {
						return err
					}
					return do(ctx, c)
				}
			}
			continue
		}
		forbidUnknown(c.Commands)
		if c.Action == nil {
			c.Action = func(_ context.Context, c *cli.Command) error {
				if c.Args().Present() {
					return usage(c, fmt.Errorf("there is no %q here", c.Args().First()))
				}
				return cli.ShowSubcommandHelp(c)
			}
		}
	}
}

func usage(c *cli.Command, err error) error {
	return fmt.Errorf("%w: see \"%s --help\"", err, c.FullName())
}

func oneLine(err error) string {
	text := sanitize(strings.Join(strings.Fields(strings.ReplaceAll(err.Error(), "\n", "; ")), " "))
	if errors.Is(err, client.ErrUnreachable) {
		text += ": is the service running? (\"make demo\" starts one)"
	}
	return text
}

// args takes exactly the named arguments, or says which are missing.
func args(c *cli.Command, names ...string) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < len(names) {
		return nil, usage(c, fmt.Errorf("%s is missing", names[len(got)]))
	}
	if len(got) > len(names) {
		return nil, usage(c, fmt.Errorf("%q is one argument too many", got[len(names)]))
	}
	return got, nil
}

func jsonFlag() cli.Flag {
	return &cli.BoolFlag{Name: "json", Usage: "print JSON for programs"}
}

// JSONFlag and Put are for commands of another package.
func JSONFlag() cli.Flag { return jsonFlag() }

// Put prints v as JSON if that was asked for; it reports whether it was.
func Put(c *cli.Command, v any) (bool, error) { return writeJSON(c, v) }

// writeJSON prints v as JSON if that was asked for; it reports whether it was.
func writeJSON(c *cli.Command, v any) (bool, error) {
	if !c.Bool("json") {
		return false, nil
	}
	e := json.NewEncoder(c.Root().Writer)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return true, e.Encode(v)
}

func serviceFlags() []cli.Flag {
	return []cli.Flag{
		urlFlag(),
		&cli.StringFlag{
			Name: "token", Usage: "your token at the service, instead of that of \"diorthos sign-in\"",
			Sources: cli.EnvVars("DIORTHOS_TOKEN"),
		},
	}
}

func urlFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "url",
		Usage:   "address of the service",
		Value:   "http://127.0.0.1:7420",
		Sources: cli.EnvVars("DIORTHOS_URL"),
	}
}

// ServiceFlags are for commands of another package that speak to a service.
func ServiceFlags() []cli.Flag { return serviceFlags() }

// service is the service that is meant, spoken to with the token that was given, or that a sign-in left.
func service(c *cli.Command) *client.Client { return client.New(c.String("url"), tokenOf(c)) }

func tokenOf(c *cli.Command) string {
	if token := c.String("token"); token != "" {
		return token
	}
	kept, _ := keptTokens() // a file that cannot be read is as none: the service says what to do
	return kept[place(c.String("url"))].Token
}

// loadKnowledge reads the shipped knowledge and the site's own, from the
// folders that DIORTHOS_KNOWLEDGE lists.
func loadKnowledge() (*knowledge.Knowledge, error) {
	return LoadKnowledge(os.Getenv("DIORTHOS_KNOWLEDGE"))
}

// LoadKnowledge reads the shipped knowledge and the site's own, from lists of
// folders.
func LoadKnowledge(lists ...string) (*knowledge.Knowledge, error) {
	var site []fs.FS
	for _, dir := range filepath.SplitList(strings.Join(lists, string(filepath.ListSeparator))) {
		if dir == "" {
			continue
		}
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("knowledge of the site: %s is not a folder", dir)
		}
		site = append(site, os.DirFS(dir))
	}
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // most of a short command's time would be spent on what stays
	return knowledge.Load(shipped.Files, site...)
}

// hostName is this computer's name, for the record of who did what where.
func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return "unknown"
	}
	return name
}
