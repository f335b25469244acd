package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	commands "diorthos/cli"
	"diorthos/console"
	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/service"
	"diorthos/service/bags"
	"diorthos/service/health"
	"diorthos/service/notices"
	"diorthos/service/signon"
)

func serveCommand() *cli.Command {
	database := &cli.StringFlag{
		Name: "database", Usage: "PostgreSQL connection string", Sources: cli.EnvVars("DIORTHOS_DATABASE"),
	}
	return &cli.Command{
		Name: "serve", Usage: "run the service: API, console and workers",
		Description: "Brings the database up to date, then serves until it is told to stop. On SIGHUP the knowledge is\n" +
			"loaded anew. Several processes may share one database and one store of bags.\n\n" +
			"Every option can stand in a file of YAML, by its name without the dashes; what is given on the\n" +
			"command line or in the environment counts more.\n\n" +
			"Examples:\n" +
			"   diorthos serve --database postgres://diorthos@db.skerrow.example/diorthos --bags /var/lib/diorthos/bags\n" +
			"   diorthos serve --config /etc/diorthos.yaml --check",
		Flags: []cli.Flag{
			database,
			&cli.StringFlag{Name: "config", Usage: "`FILE` with these options, YAML", Sources: cli.EnvVars("DIORTHOS_CONFIG")},
			&cli.BoolFlag{Name: "check", Usage: "look whether all that is needed is there and well, and stop"},
			&cli.StringFlag{
				Name:    "listen",
				Usage:   "address and port",
				Value:   "127.0.0.1:7420",
				Sources: cli.EnvVars("DIORTHOS_LISTEN"),
			},
			&cli.StringFlag{
				Name:    "bags",
				Usage:   "folder where bags are kept",
				Value:   "bags",
				Sources: cli.EnvVars("DIORTHOS_BAGS"),
			},
			&cli.StringSliceFlag{
				Name:    "knowledge",
				Usage:   "`FOLDER` with the site's own knowledge, beside what is shipped; once more for each further one",
				Sources: cli.EnvVars("DIORTHOS_KNOWLEDGE"),
			},
			bagKeysFlag(),
			bagsFromFlag(),
			&cli.StringFlag{
				Name: "tls-cert", Usage: "`FILE` with the certificate and those above it, PEM; read anew when it changes",
				Sources: cli.EnvVars("DIORTHOS_TLS_CERT"),
			},
			&cli.StringFlag{
				Name: "tls-key", Usage: "`FILE` with its key, PEM", Sources: cli.EnvVars("DIORTHOS_TLS_KEY"),
			},
			&cli.BoolFlag{
				Name:  "plain-http",
				Usage: "listen beyond this computer without TLS: tokens and evidence cross the network in the clear",
			},
			&cli.StringFlag{
				Name: "metrics", Usage: "`ADDRESS` and port at which the metrics alone are served, without sign-in",
				Sources: cli.EnvVars("DIORTHOS_METRICS"),
			},
			&cli.StringFlag{
				Name:    "traces",
				Usage:   "`ADDRESS` of a collector of traces (OpenTelemetry, OTLP over HTTP), such as http://127.0.0.1:4318",
				Sources: cli.EnvVars("DIORTHOS_TRACES"),
			},
			&cli.FloatFlag{
				Name: "traces-share", Usage: "share of the traces that are kept, 0 to 1", Value: 0.1,
				Sources: cli.EnvVars("DIORTHOS_TRACES_SHARE"),
			},
			&cli.StringSliceFlag{
				Name: "forwarder", Usage: "`ADDRESS` or network of a proxy whose X-Forwarded-For is believed; once more for each",
				Sources: cli.EnvVars("DIORTHOS_FORWARDERS"),
			},
			&cli.StringFlag{
				Name: "sign-on", Usage: "`ADDRESS` of the site's provider of identities (OpenID Connect), for single sign-on",
				Sources: cli.EnvVars("DIORTHOS_SIGN_ON"),
			},
			&cli.StringFlag{
				Name: "sign-on-client", Usage: "`NAME` of this service there", Value: "diorthos",
				Sources: cli.EnvVars("DIORTHOS_SIGN_ON_CLIENT"),
			},
			&cli.StringFlag{
				Name: "sign-on-secret", Usage: "`FILE` with the secret that it was given there",
				Sources: cli.EnvVars("DIORTHOS_SIGN_ON_SECRET"),
			},
			&cli.StringSliceFlag{
				Name: "sign-on-group", Usage: "`GROUP=ROLE[@SITE+SITE]` that may do something here; once more for each",
				Sources: cli.EnvVars("DIORTHOS_SIGN_ON_GROUPS"),
			},
			&cli.StringFlag{
				Name: "public", Usage: "`ADDRESS` at which browsers reach this service, such as https://diorthos.skerrow.example",
				Sources: cli.EnvVars("DIORTHOS_PUBLIC"),
			},
			&cli.IntFlag{
				Name: "keep-bags", Usage: "remove a bag `DAYS` after its case ended; its docket stays (default: keep it for ever)",
				Sources: cli.EnvVars("DIORTHOS_KEEP_BAGS"),
				Validator: func(days int) error {
					if days < 0 {
						return errors.New("--keep-bags counts days, 1 or more; 0 keeps them for ever")
					}
					return nil
				},
			},
			&cli.StringFlag{
				Name: "webhook", Usage: "`ADDRESS` that is told of outbreaks and holds, as CloudEvents",
				Sources: cli.EnvVars("DIORTHOS_WEBHOOK"),
			},
			&cli.StringFlag{
				Name: "webhook-key", Usage: "`FILE` with the key by which the webhook's body is signed (HMAC-SHA256)",
				Sources: cli.EnvVars("DIORTHOS_WEBHOOK_KEY"),
			},
			&cli.StringFlag{
				Name: "mail", Usage: "SMTP server that takes mail about outbreaks and holds, `HOST:PORT`",
				Sources: cli.EnvVars("DIORTHOS_MAIL"),
			},
			&cli.StringFlag{
				Name: "mail-from", Usage: "`ADDRESS` of the sender", Sources: cli.EnvVars("DIORTHOS_MAIL_FROM"),
			},
			&cli.StringSliceFlag{
				Name: "mail-to", Usage: "`ADDRESS` that gets it; once more for each", Sources: cli.EnvVars("DIORTHOS_MAIL_TO"),
			},
			&cli.BoolFlag{
				Name:  "take-only",
				Usage: "answer requests and take bags in; leave their reading to other processes on the same database",
			},
		},
		Commands: []*cli.Command{{
			Name: "make-bag-keys", Usage: "make a key by which bags are encrypted where they lie", ArgsUsage: "FILE",
			Description: "To use another one from now on, put it above the old one in the same file: bags are written with\n" +
				"the first, and read with any. Without the file they cannot be read: keep a copy elsewhere.\n\n" +
				"Example:\n" +
				"   diorthos serve make-bag-keys /etc/diorthos/bag-keys",
			Action: func(_ context.Context, c *cli.Command) error {
				path, err := oneFile(c, false)
				if err != nil {
					return err
				}
				if err := bags.MakeKeys(path, time.Now()); err != nil {
					return err
				}
				_, err = fmt.Fprintf(c.Root().Writer, "✓ %s; serve --bag-keys %s\n", path, path)
				return err
			},
		}, {
			Name: "token", Usage: "give a person a token, in place of an earlier one", ArgsUsage: "NAME",
			Description: "Prints the token once; only its hash is kept.\n\n" +
				"Example:\n" +
				"   diorthos serve token --database … \"Ragna Holm\"",
			Flags: []cli.Flag{database},
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.Args().Len() != 1 {
					return errors.New("NAME is missing: see \"diorthos serve token --help\"")
				}
				if c.String("database") == "" {
					return errNoDatabase
				}
				token := newToken()
				if err := service.SetToken(ctx, c.String("database"), c.Args().First(), token); err != nil {
					return err
				}
				_, err := fmt.Fprintln(c.Root().Writer, token)
				return err
			},
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return fmt.Errorf("there is no %q here: see \"diorthos serve --help\"", c.Args().First())
			}
			if err := fromFile(c, c.String("config")); err != nil {
				return err
			}
			if c.String("database") == "" {
				return errNoDatabase
			}
			if c.Bool("check") {
				return checkServe(ctx, c)
			}
			listener, err := service.Listen(c.String("listen"))
			if err != nil {
				return err
			}
			conf := config(c.String("database"), c.String("bags"), c.StringSlice("knowledge"), c.Root().ErrWriter)
			again := make(chan os.Signal, 1)
			signal.Notify(again, syscall.SIGHUP)
			defer signal.Stop(again)
			conf.Reload = again
			conf.TakeOnly, conf.BagKeys, conf.BagsFrom = c.Bool("take-only"), c.String("bag-keys"), c.String("bags-from")
			conf.KeepBags = time.Duration(c.Int("keep-bags")) * 24 * time.Hour
			conf.Traces, conf.TracesShare = c.String("traces"), c.Float("traces-share")
			conf.Metrics, conf.Plain = c.String("metrics"), c.Bool("plain-http")
			if conf.Forwarders, err = networks(c.StringSlice("forwarder")); err != nil {
				return err
			}
			if conf.Notices, err = told(c); err != nil {
				return err
			}
			if conf.SignOn, err = signOnOf(c); err != nil {
				return err
			}
			switch cert, key := c.String("tls-cert"), c.String("tls-key"); {
			case cert != "" && key != "":
				conf.TLS = &service.Certificate{File: cert, Key: key}
			case cert != key:
				return errors.New("--tls-cert and --tls-key go together")
			}
			return service.Run(ctx, listener, conf)
		},
	}
}

var errNoDatabase = errors.New("--database is missing, and DIORTHOS_DATABASE is not set")

// checkServe looks at what the service needs with these options.
func checkServe(ctx context.Context, c *cli.Command) error {
	if _, err := networks(c.StringSlice("forwarder")); err != nil {
		return err
	}
	list := health.Look(ctx, health.Wanted{
		Database:  c.String("database"),
		Bags:      c.String("bags"),
		Temporary: os.TempDir(),
		Knowledge: func() (*knowledge.Knowledge, error) { return commands.LoadKnowledge(c.StringSlice("knowledge")...) },
	})
	if path := c.String("bag-keys"); path != "" {
		f := health.Finding{What: "keys of bags", Rating: health.Good, Saw: path}
		if _, err := bags.LoadKeys(path); err != nil {
			f.Rating, f.Saw, f.Do = health.Bad, err.Error(), "diorthos serve make-bag-keys FILE makes one"
		}
		list = append(list, f)
	}
	return showHealth(c, append(list, health.Certificate(c.String("tls-cert"), c.String("tls-key"), time.Now())))
}

// fromFile sets the options that stand in a file and were not given otherwise.
func fromFile(c *cli.Command, path string) error {
	if path == "" {
		return nil
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var options map[string]any
	if err := yaml.Unmarshal(raw, &options); err != nil {
		return fmt.Errorf("%s: %s", path, yaml.FormatError(err, false, false))
	}
	for name, value := range options {
		i := slices.IndexFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
		if i < 0 || name == "config" || name == "check" || name == "help" {
			return fmt.Errorf("%s: serve has no option %q: see \"diorthos serve --help\"", path, name)
		}
		if c.IsSet(name) {
			continue
		}
		values, several := value.([]any)
		if !several {
			values = []any{value}
		}
		for _, v := range values {
			if err := c.Set(name, fmt.Sprint(v)); err != nil {
				return fmt.Errorf("%s: %s: %w", path, name, err)
			}
		}
	}
	return nil
}

// networks reads addresses and networks.
func networks(list []string) (out []netip.Prefix, err error) {
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); single == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("--forwarder %q: want an address, such as 10.7.0.2, or a network, such as 10.7.0.0/24", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// signOnOf is where people sign in besides by token; nil for nowhere.
func signOnOf(c *cli.Command) (*signon.Config, error) {
	if c.String("sign-on") == "" {
		return nil, nil
	}
	conf := &signon.Config{
		Issuer: c.String("sign-on"), Client: c.String("sign-on-client"), SecretFile: c.String("sign-on-secret"),
		Public: c.String("public"),
	}
	for _, text := range c.StringSlice("sign-on-group") {
		rule, err := signon.ParseRule(text)
		if err != nil {
			return nil, fmt.Errorf("--sign-on-group %w", err)
		}
		conf.Groups = append(conf.Groups, rule)
	}
	if _, err := signon.New(*conf); err != nil {
		return nil, fmt.Errorf("%w: --sign-on, --sign-on-group and --public go together", err)
	}
	return conf, nil
}

func newToken() string { return "dt-" + rand.Text() }

func config(database, folder string, site []string, log io.Writer) service.Config {
	return service.Config{
		Database:  database,
		Bags:      folder,
		Knowledge: func() (*knowledge.Knowledge, error) { return commands.LoadKnowledge(site...) },
		Console:   console.Files(),
		Limits:    bag.DefaultLimits,
		Log:       slog.New(slog.NewJSONHandler(log, nil)),
	}
}

// told says who is told of what the fleet does.
func told(c *cli.Command) (n notices.Sender, err error) {
	n.Webhook, n.Mail, n.From, n.To = c.String(
		"webhook",
	), c.String(
		"mail",
	), c.String(
		"mail-from",
	), c.StringSlice(
		"mail-to",
	)
	if n.Webhook != "" {
		if c.String("webhook-key") == "" {
			return n, errors.New("--webhook needs --webhook-key: who gets the notices has to know that they are ours")
		}
		if n.Key, err = os.ReadFile(c.String("webhook-key")); err != nil {
			return n, fmt.Errorf("--webhook-key: %w", err)
		}
		if n.Key = bytes.TrimSpace(n.Key); len(n.Key) < 16 {
			return n, errors.New("--webhook-key: want at least 16 bytes")
		}
	}
	if n.Mail != "" && (n.From == "" || len(n.To) == 0) {
		return n, errors.New("--mail needs --mail-from and --mail-to")
	}
	return n, nil
}
