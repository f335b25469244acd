package cli

import (
	"archive/tar"
	"bufio"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/client"
)

func peopleCommand() *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "who may use the service, and what they may do",
		Description: "Roles: see (look), work (hand in, climb, close), approve (agree to what disrupts), administer\n" +
			"(people, tokens, audit); each may what those before it may. For those who administer.\n\n" +
			"Examples:\n" +
			"   diorthos people\n" +
			"   diorthos people set \"Joren Vik\" --role work --site Lerrick --site \"MV Kestrel\"\n" +
			"   diorthos people token \"Joren Vik\" --name laptop --days 90\n" +
			"   diorthos people end \"Joren Vik\"",
		Flags: append(serviceFlags(), jsonFlag()),
		Commands: []*cli.Command{
			{
				Name: "set", Usage: "make a person, or change role and sites", ArgsUsage: "NAME",
				Description: "Example:\n   diorthos people set \"Joren Vik\" --role work --site Lerrick",
				Flags: append(serviceFlags(),
					&cli.StringFlag{Name: "role", Usage: "`ROLE`: see, work, approve or administer; work for somebody new"},
					&cli.StringSliceFlag{Name: "site", Usage: "limit to machines of a `SITE`; once more for each further one"},
					&cli.BoolFlag{Name: "all-sites", Usage: "no limit"}, jsonFlag()),
				Action: setPerson,
			},
			personEnding("end", "end a person: all tokens and sessions with it", true),
			personEnding("let-in", "let a person in again who was ended; tokens have to be given anew", false),
			{
				Name: "token", Usage: "give a person a further token; it is printed once", ArgsUsage: "NAME",
				Description: "Example:\n   diorthos people token \"Joren Vik\" --name laptop --days 90",
				Flags: append(serviceFlags(),
					&cli.StringFlag{Name: "name", Usage: "what it is for, such as a computer", Value: "token"},
					&cli.IntFlag{Name: "days", Usage: "until it expires; 0 for never", Value: 365}, jsonFlag()),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "NAME")
					if err != nil {
						return err
					}
					t, err := service(c).AddToken(ctx, a[0], client.TokenWish{Name: c.String("name"), Days: c.Int("days")})
					if err != nil {
						return err
					}
					if done, err := writeJSON(c, t); done {
						return err
					}
					_, err = fmt.Fprintln(c.Root().Writer, t.Secret)
					return err
				},
			},
			{
				Name: "export", Usage: "save everything that is kept of a person to a new file", ArgsUsage: "NAME FILE",
				Description: "A packed tar archive with lines of JSON for each table: who they are, how they signed in, and\n" +
					"every record in which they are named. It is noted in the audit.\n\n" +
					"Example:\n   diorthos people export \"Joren Vik\" joren-vik.tar.gz",
				Flags: append(serviceFlags(), jsonFlag()),
				Action: func(ctx context.Context, c *cli.Command) error {
					a, err := args(c, "NAME", "FILE")
					if err != nil {
						return err
					}
					return saveExport(c, a[0], a[1], func(to io.Writer) error { return service(c).ExportPerson(ctx, a[0], to) })
				},
			},
			ending(
				"revoke",
				"end a token, and the sessions begun with it",
				func(ctx context.Context, c *client.Client, id int64) error {
					return c.EndToken(ctx, id)
				},
			),
			ending("sign-out", "sign a browser out", func(ctx context.Context, c *client.Client, id int64) error {
				return c.EndSession(ctx, id)
			}),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage(c, fmt.Errorf("there is no %q here", c.Args().First()))
			}
			list, err := service(c).People(ctx)
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, list); done {
				return err
			}
			showPeople(newPage(c), list)
			return nil
		},
	}
}

// saveExport saves what is kept of a person or a machine, and says what is in it.
func saveExport(c *cli.Command, name, file string, fetch func(io.Writer) error) error {
	saved := struct {
		File string         `json:"file"`
		Of   string         `json:"of"`
		Rows map[string]int `json:"rows"` // by table
		Bags int            `json:"bags"`
	}{file, name, map[string]int{}, 0}
	err := fetched(file, fetch, func(from io.Reader) error {
		unpacked, err := gzip.NewReader(from)
		if err != nil {
			return err
		}
		for r := tar.NewReader(unpacked); ; {
			h, err := r.Next()
			if errors.Is(err, io.EOF) {
				_, err = io.Copy(io.Discard, unpacked) // its sum is behind it
				return err
			}
			if err != nil {
				return err
			}
			table, ok := strings.CutSuffix(h.Name, ".jsonl")
			if !ok {
				saved.Bags++
				continue
			}
			table, _, _ = strings.Cut(table, "-")
			for lines := bufio.NewReader(r); ; saved.Rows[table]++ {
				if _, err := lines.ReadSlice('\n'); errors.Is(err, bufio.ErrBufferFull) {
					saved.Rows[table]--
				} else if errors.Is(err, io.EOF) {
					break
				} else if err != nil {
					return err
				}
			}
		}
	})
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, saved); done {
		return err
	}
	p := newPage(c)
	p.line("%s: everything that is kept of %s; verified", file, p.strong(name))
	for _, table := range slices.Sorted(maps.Keys(saved.Rows)) {
		p.line("  %4d %s", saved.Rows[table], table)
	}
	if saved.Bags > 0 {
		p.line("  %4d bags", saved.Bags)
	}
	return nil
}

func showPeople(p *page, list []client.Person) {
	for i, one := range list {
		if i > 0 {
			p.line("")
		}
		state := ""
		if one.Ended != nil {
			state = ", ended " + when(*one.Ended)
		}
		sites := "all sites"
		if len(one.Sites) > 0 {
			sites = strings.Join(one.Sites, ", ")
		}
		p.line("%s  %s, %s%s", p.strong(one.Name), one.Role, sites, state)
		for _, t := range one.Tokens {
			p.hangingIndent(fmt.Sprintf("  token %-4d", t.ID), t.Name+", "+tokenState(t))
		}
		for _, s := range one.Signed {
			p.hangingIndent(
				fmt.Sprintf("  browser %-2d", s.ID),
				fmt.Sprintf("from %s since %s, until %s", s.Address, when(s.Created),
					when(s.Expires)),
			)
		}
	}
}

func tokenState(t client.Token) string {
	switch {
	case t.Ended != nil:
		return "ended " + when(*t.Ended)
	case t.Expires != nil && t.Expires.Before(time.Now()):
		return "expired " + when(*t.Expires)
	}
	text := "never used"
	if t.Used != nil {
		text = "used last " + when(*t.Used)
	}
	if t.Expires != nil {
		text += ", expires " + when(*t.Expires)
	}
	return text
}

func setPerson(ctx context.Context, c *cli.Command) error {
	a, err := args(c, "NAME")
	if err != nil {
		return err
	}
	change := client.PersonChange{Role: client.Role(c.String("role"))}
	switch sites := c.StringSlice("site"); {
	case c.Bool("all-sites") && len(sites) > 0:
		return usage(c, errors.New("--site and --all-sites contradict each other"))
	case c.Bool("all-sites"):
		change.Sites = &[]string{}
	case len(sites) > 0:
		change.Sites = &sites
	}
	return changed(ctx, c, a[0], change)
}

func changed(ctx context.Context, c *cli.Command, name string, change client.PersonChange) error {
	one, err := service(c).SetPerson(ctx, name, change)
	if err != nil {
		return err
	}
	if done, err := writeJSON(c, one); done {
		return err
	}
	showPeople(newPage(c), []client.Person{*one})
	return nil
}

func personEnding(name, says string, ended bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: says, ArgsUsage: "NAME",
		Description: fmt.Sprintf("Example:\n   diorthos people %s \"Joren Vik\"", name),
		Flags:       append(serviceFlags(), jsonFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "NAME")
			if err != nil {
				return err
			}
			return changed(ctx, c, a[0], client.PersonChange{Ended: &ended})
		},
	}
}

func ending(name, says string, end func(context.Context, *client.Client, int64) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: says, ArgsUsage: "NUMBER",
		Description: fmt.Sprintf(
			"The number stands in the list that \"diorthos people\" shows.\n\nExample:\n   diorthos people %s 3",
			name,
		),
		Flags: serviceFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			a, err := args(c, "NUMBER")
			if err != nil {
				return err
			}
			id, err := strconv.ParseInt(a[0], 10, 64)
			if err != nil || id < 1 {
				return usage(c, fmt.Errorf("NUMBER %q: want a number, such as 3", a[0]))
			}
			if err := end(ctx, service(c), id); err != nil {
				return err
			}
			newPage(c).line("%s ended", newPage(c).good(markGood))
			return nil
		},
	}
}

func auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "who did what to which machine, when, from where, by which token",
		Description: "Refusals are in it too. Entries are added and never changed; each holds the hash of the one\n" +
			"before it. For those who administer.\n\n" +
			"Examples:\n" +
			"   diorthos audit\n" +
			"   diorthos audit verify\n" +
			"   diorthos audit export > audit.jsonl",
		Flags: append(serviceFlags(),
			&cli.IntFlag{Name: "limit", Usage: "how many, the newest first", Value: 30}, jsonFlag()),
		Commands: []*cli.Command{
			{
				Name: "verify", Usage: "hold every entry against the one before it; exit status 1 if one does not fit",
				Description: "Example:\n   diorthos audit verify",
				Flags:       append(serviceFlags(), jsonFlag()),
				Action: func(ctx context.Context, c *cli.Command) error {
					check, err := service(c).VerifyAudit(ctx)
					if err != nil {
						return err
					}
					done, err := writeJSON(c, check)
					if p := newPage(c); !done && check.Problem != "" {
						p.line("%s %s", p.bad(markBroken), check.Problem)
					} else if !done {
						entries := plural(int(check.Entries), "entry", "entries")
						p.line("%s %s, each follows from the one before it", p.good(markGood), entries)
					}
					if check.Problem != "" {
						return errors.Join(err, errFound)
					}
					return err
				},
			},
			{
				Name: "export", Usage: "write all entries as lines of JSON, the newest first",
				Description: "Example:\n   diorthos audit export > audit.jsonl",
				Flags:       serviceFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					out := json.NewEncoder(c.Root().Writer)
					for before := int64(0); ; {
						page, err := service(c).Audit(ctx, before, 1000)
						if err != nil {
							return err
						}
						for _, e := range page.Entries {
							if err := out.Encode(e); err != nil {
								return err
							}
						}
						if before = page.Next; before == 0 {
							return nil
						}
					}
				},
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage(c, fmt.Errorf("there is no %q here", c.Args().First()))
			}
			page, err := service(c).Audit(ctx, 0, c.Int("limit"))
			if err != nil {
				return err
			}
			if done, err := writeJSON(c, page); done {
				return err
			}
			p := newPage(c)
			var rows [][]string
			for _, e := range page.Entries {
				rows = append(rows, []string{
					strconv.FormatInt(e.Number, 10), when(e.At), e.Who, string(e.Outcome), e.Action, e.Object, e.Detail, e.Address,
				})
			}
			if len(rows) == 0 {
				p.line("nothing has been done yet")
				return nil
			}
			p.table([]string{"", "WHEN", "WHO", "", "WHAT", "TO", "", "FROM"}, rows)
			return nil
		},
	}
}
