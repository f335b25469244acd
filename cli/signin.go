package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/client"
)

func signInCommand() *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "sign in at the service, once for all commands of this account",
		Description: "Where the site has a provider of identities you are shown an address and a code: open the address\n" +
			"with any browser, on any computer, and type the code. That lasts for 12 hours. Elsewhere you are asked for the\n" +
			"token that you were given; --token-file reads it from a file, or from standard input (-).\n\n" +
			"Examples:\n" +
			"   diorthos sign-in --url https://diorthos.skerrow.example\n" +
			"   diorthos sign-in --token-file token.txt\n" +
			"   diorthos sign-out",
		Flags: []cli.Flag{
			urlFlag(),
			&cli.StringFlag{Name: "token-file", Usage: "sign in with the token in `FILE`"},
			jsonFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			at := c.String("url")
			token, until, err := obtained(ctx, c)
			if err != nil {
				return err
			}
			who, err := client.New(at, token).Who(ctx)
			if err != nil {
				return err
			}
			if err := keepToken(at, keptToken{token, until}); err != nil {
				return err
			}
			if done, err := writeJSON(c, struct {
				client.Someone
				Expires *time.Time `json:"expires,omitempty"`
			}{*who, until}); done {
				return err
			}
			p := newPage(c)
			p.line("Signed in at %s as %s, %s.", at, p.strong(who.Name), who.Role)
			if until != nil {
				p.line("Until %s; \"diorthos sign-out\" ends it.", when(*until))
			}
			return nil
		},
	}
}

func signOutCommand() *cli.Command {
	return &cli.Command{
		Name: "sign-out", Usage: "forget the token of sign-in, and end it at the service if it came from there",
		Description: "Example:\n   diorthos sign-out --url https://diorthos.skerrow.example",
		Flags:       []cli.Flag{urlFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			at := c.String("url")
			kept, err := keptTokens()
			if err != nil {
				return err
			}
			one, ok := kept[place(at)]
			if !ok {
				return fmt.Errorf("nobody is signed in at %s from this account", at)
			}
			ended := client.New(at, one.Token).SignOut(ctx)
			if err := keepToken(at, keptToken{}); err != nil {
				return err
			}
			if ended != nil {
				return fmt.Errorf("the token is forgotten here, and not ended at the service: %w", ended)
			}
			newPage(c).line("Signed out at %s.", at)
			return nil
		},
	}
}

// obtained is a token, by whichever way the service has; until nil means that its end is not known here.
func obtained(ctx context.Context, c *cli.Command) (token string, until *time.Time, err error) {
	in, tell := c.Root().Reader, c.Root().ErrWriter
	if name := c.String("token-file"); name != "" {
		if name != "-" {
			f, err := os.Open(name)
			if err != nil {
				return "", nil, err
			}
			defer func() { _ = f.Close() }()
			in = f
		}
		token, err = firstLine(in)
		return token, nil, err
	}
	at := client.New(c.String("url"), "")
	ways, err := at.Ways(ctx)
	if err != nil {
		return "", nil, err
	}
	if ways.SignOn {
		var refused *client.Problem
		token, until, err = byDevice(ctx, at, tell)
		if !errors.As(err, &refused) || refused.Status != 404 {
			return token, until, err
		}
	}
	terminal, ok := in.(*os.File)
	if !ok || !term.IsTerminal(int(terminal.Fd())) {
		return "", nil, usage(
			c,
			errors.New("this service lets people in by token, and here is no terminal to ask at: give it by --token-file"),
		)
	}
	_, _ = fmt.Fprint(tell, "Your token at the service: ")
	raw, err := term.ReadPassword(int(terminal.Fd()))
	_, _ = fmt.Fprintln(tell)
	return strings.TrimSpace(string(raw)), nil, err
}

func firstLine(in io.Reader) (string, error) {
	line, err := bufio.NewReader(io.LimitReader(in, 1<<10)).ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		if err == nil || errors.Is(err, io.EOF) {
			err = errors.New("there is no token in it")
		}
		return "", err
	}
	return line, nil
}

// byDevice has somebody agree at the provider, with a browser anywhere.
func byDevice(ctx context.Context, at *client.Client, tell io.Writer) (string, *time.Time, error) {
	d, err := at.BeginDevice(ctx)
	if err != nil {
		return "", nil, err
	}
	_, _ = fmt.Fprintf(tell, "Open %s with any browser and type %s\n", sanitize(d.Address), sanitize(d.Code))
	if d.Direct != "" {
		_, _ = fmt.Fprintf(tell, "or open %s\n", sanitize(d.Direct))
	}
	_, _ = fmt.Fprintln(tell, "Only agree if you began this yourself. Waiting…")
	for {
		t, err := at.FinishDevice(ctx, d.Secret)
		switch {
		case errors.Is(err, client.ErrUnreachable) && ctx.Err() == nil && time.Now().Before(d.Expires):
			time.Sleep(time.Second)
		case err != nil:
			return "", nil, err
		case !t.Waiting:
			return t.Token, &t.Expires, nil
		case time.Now().After(d.Expires):
			return "", nil, errors.New("nobody agreed in time: begin again")
		}
	}
}

// A keptToken is what a sign-in left for the commands that follow.
type keptToken struct {
	Token   string     `json:"token"`
	Expires *time.Time `json:"expires,omitempty"`
}

// tokenFile is where they are kept, for this account alone.
func tokenFile() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where to keep the token: %w", err)
	}
	return filepath.Join(folder, "diorthos", "tokens.json"), nil
}

// place is how a service's address is kept.
func place(url string) string { return strings.TrimRight(url, "/") }

func keptTokens() (map[string]keptToken, error) {
	kept := map[string]keptToken{}
	name, err := tokenFile()
	if err != nil {
		return kept, err
	}
	raw, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return kept, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &kept)
	}
	if err != nil {
		return kept, fmt.Errorf("the tokens of earlier sign-ins: %s: %w", name, err)
	}
	return kept, nil
}

// keepToken keeps a token for a service's address; an empty one forgets it. A file that cannot be read is replaced.
func keepToken(url string, t keptToken) error {
	kept, _ := keptTokens()
	if kept[place(url)] = t; t.Token == "" {
		delete(kept, place(url))
	}
	name, err := tokenFile()
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(kept, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return fmt.Errorf("keep the token: %w", err)
	}
	draft, err := os.CreateTemp(filepath.Dir(name), ".tokens-") // 0600 from its first byte
	if err != nil {
		return fmt.Errorf("keep the token: %w", err)
	}
	_, err = draft.Write(append(raw, '\n'))
	if err = errors.Join(err, draft.Sync(), draft.Close()); err == nil {
		err = os.Rename(draft.Name(), name)
	}
	if err != nil {
		_ = os.Remove(draft.Name())
		return fmt.Errorf("keep the token: %w", err)
	}
	return nil
}
