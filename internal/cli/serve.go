package cli

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	costs "spindle/internal/core/usage"
	"spindle/internal/service"
	"spindle/internal/works"
)

// env names the variable of the environment that a flag of the service is also read from.
func env(s string) cli.ValueSourceChain { return cli.EnvVars("SPINDLE_" + s) }

func serveFlags() []cli.Flag { return append(placeFlags(), paceFlags()...) }

// placeFlags say what a service is, where it keeps things and who reaches it.
func placeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "data", Usage: "`DIR` that holds everything: bodies, master key, private database",
			Sources: env("DATA")},
		&cli.StringFlag{Name: "wire", Usage: "`ADDR` of the wire", DefaultText: service.DefaultWire, Sources: env("WIRE")},
		&cli.StringFlag{Name: "desk", Usage: "`ADDR` of the desk and console", DefaultText: service.DefaultDesk,
			Sources: env("DESK")},
		&cli.StringFlag{Name: "database", Usage: "`URL` of a PostgreSQL; default: a private one under DIR",
			Sources: env("DATABASE")},
		&cli.StringFlag{Name: "keep-log",
			Usage: "keep the private database's log in this `FOLDER` of backups, so that any moment between two " +
				"backups can be restored",
			Sources: env("KEEP_LOG")},
		&cli.StringFlag{Name: "config", Usage: "YAML `FILE` of settings, named as these flags", Sources: env("CONFIG")},
		&cli.StringFlag{Name: "region", Usage: "`NAME` of the region", DefaultText: "fenn", Sources: env("REGION")},
		&cli.StringFlag{Name: "account", Usage: "`NAME` of the owner's account, at first start", DefaultText: "owner",
			Sources: env("ACCOUNT")},
		&cli.StringSliceFlag{Name: "domain", Usage: "`DOMAIN` of host style, BUCKET.DOMAIN; may be repeated",
			DefaultText: "localhost", Sources: env("DOMAIN")},
		&cli.StringSliceFlag{Name: "origin", Usage: "`ORIGIN` of pages that may call the wire; may be repeated",
			DefaultText: "*", Sources: env("ORIGIN")},
		&cli.StringSliceFlag{Name: "reach",
			Usage: "also allow endpoints there: loopback, private, or a `NETWORK` such as 10.4.0.0/16; may be " +
				"repeated",
			DefaultText: "public addresses alone", Sources: env("REACH")},
		&cli.BoolFlag{Name: "strict-region", Usage: "refuse requests signed for another region",
			Sources: env("STRICT_REGION")},
		&cli.StringSliceFlag{Name: "folder-root",
			Usage:   "`FOLDER` of this machine beneath which sync jobs of operators may read and write; may be repeated",
			Sources: env("FOLDER_ROOT")},
		&cli.StringFlag{Name: "wire-url", Usage: "`URL` by which clients reach the wire",
			DefaultText: "the desk's host and the wire's port", Sources: env("WIRE_URL")},
		&cli.StringFlag{Name: "tls-cert", Usage: "PEM `FILE` with the certificate", Sources: env("TLS_CERT")},
		&cli.StringFlag{Name: "tls-key", Usage: "PEM `FILE` with its key", Sources: env("TLS_KEY")},
		&cli.BoolFlag{Name: "plain-http", Usage: "listen beyond this machine without TLS", Sources: env("PLAIN_HTTP")},
	}
}

// paceFlags say how a service works: how often, how fast, how much.
func paceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "log-level", Usage: "debug, info, warn or error", DefaultText: "info",
			Sources: env("LOG_LEVEL")},
		&cli.DurationFlag{Name: "collect-grace", Usage: "how long unreferenced bytes are kept", DefaultText: "1h",
			Sources: env("COLLECT_GRACE")},
		&cli.StringFlag{Name: "scrub-rate", Usage: "bytes per second that the scrubber reads", DefaultText: "20MiB",
			Sources: env("SCRUB_RATE")},
		&cli.BoolFlag{Name: "scrub-elsewhere",
			Usage: "also read bodies of tiers at endpoints, which costs traffic there, instead of asking whether " +
				"they exist",
			Sources: cli.EnvVars("SPINDLE_SCRUB_ELSEWHERE")},
		&cli.DurationFlag{Name: "scrub-every", Usage: "how often every body is read", DefaultText: "168h",
			Sources: env("SCRUB_EVERY")},
		&cli.DurationFlag{Name: "lifecycle-every", Usage: "how often rules look for due versions",
			DefaultText: "10m",
			Sources:     env("LIFECYCLE_EVERY")},
		&cli.IntFlag{Name: "lifecycle-rate", Usage: "maximum versions per second that rules act on", DefaultText: "2000",
			Sources: env("LIFECYCLE_RATE")},
		&cli.IntFlag{Name: "guard", Usage: "`PERCENT` of a bucket that rules may remove in a run without asking",
			DefaultText: "20",
			Sources:     env("GUARD")},
		&cli.BoolFlag{Name: "accept-volume",
			Usage: "accept the volume of the tier main once, although its marker file is missing"},
		&cli.IntFlag{Name: "trail-days", Usage: "how many `DAYS` the audit trail is kept", DefaultText: "400",
			Sources: env("TRAIL_DAYS")},
		&cli.DurationFlag{Name: "slow-after", Usage: "how long a client may stay silent", DefaultText: "30s",
			Sources: env("SLOW_AFTER")},
		&cli.IntFlag{Name: "journal-days", Usage: "how many `DAYS` the journal is kept, by whole months; 0 for ever",
			DefaultText: "0", Sources: env("JOURNAL_DAYS")},
		&cli.StringFlag{Name: "currency", Usage: "`CODE` of the currency of prices, such as EUR (ISO 4217)",
			Sources: env("CURRENCY")},
		&cli.IntFlag{Name: "currency-digits", Usage: "how `MANY` decimal digits sums have", DefaultText: "2",
			Sources: env("CURRENCY_DIGITS")},
		&cli.IntFlag{Name: "connections", Usage: "how `MANY` connections the wire holds; the desk holds a quarter " +
			"of that",
			DefaultText: "what the process may open, at most 8192", Sources: env("CONNECTIONS")},
		&cli.IntFlag{Name: "connections-from-one", Usage: "how `MANY` connections from one address",
			DefaultText: "half of them",
			Sources:     env("CONNECTIONS_FROM_ONE")},
	}
}

// config reads the settings of a service: flags, then the environment, then the file.
func (a *app) config(c *cli.Command) (cfg service.Config, log *slog.Logger, err error) {
	if path := c.String("config"); path != "" {
		if err := settingsFrom(c, path); err != nil {
			return cfg, nil, err
		}
	}
	cfg = service.Config{Data: c.String("data"), Wire: c.String("wire"), Desk: c.String("desk"),
		Database: c.String("database"), Region: c.String("region"), Account: c.String("account"),
		StrictRegion: c.Bool("strict-region"), WireURL: c.String("wire-url"), TLSCert: c.String("tls-cert"),
		TLSKey: c.String("tls-key"), PlainHTTP: c.Bool("plain-http"), AcceptVolume: c.Bool("accept-volume"),
		OwnerKey: a.Getenv("SPINDLE_OWNER_KEY"), OwnerSecret: a.Getenv("SPINDLE_OWNER_SECRET"),
		MasterKey: a.Getenv("SPINDLE_MASTER_KEY"), SlowAfter: c.Duration("slow-after"),
		Connections: c.Int("connections"), ConnectionsEach: c.Int("connections-from-one")}
	cfg.Domains, cfg.Origins, cfg.Reach = listOf(c, "domain"), listOf(c, "origin"), listOf(c, "reach")
	if folder := c.String("keep-log"); folder != "" {
		cfg.KeepLog = backup.LogFolder(folder)
	}
	cfg.Money = costs.Money{Currency: c.String("currency"), Digits: 2}
	if c.IsSet("currency-digits") {
		cfg.Money.Digits = c.Int("currency-digits")
	}
	if err := cfg.Money.Check(); err != nil {
		return cfg, nil, err
	}
	if cfg.Works, err = worksSettings(c); err != nil {
		return cfg, nil, err
	}
	level := c.String("log-level")
	if level == "" {
		level = "info"
	}
	log, err = a.logger(level)
	return cfg, log, err
}

// listOf gives a list, nil when it was not given: then a setting has its own default.
func listOf(c *cli.Command, name string) []string {
	if !c.IsSet(name) {
		return nil
	}
	return c.StringSlice(name)
}

// worksSettings reads the settings of what the service does by itself.
func worksSettings(c *cli.Command) (in works.Settings, err error) {
	const day = 24 * time.Hour
	in = works.Settings{Folders: listOf(c, "folder-root"), CollectGrace: c.Duration("collect-grace"),
		ReadElsewhere: c.Bool("scrub-elsewhere"), ScrubEvery: c.Duration("scrub-every"),
		AgeEvery: c.Duration("lifecycle-every"), AgeRate: c.Int("lifecycle-rate"),
		KeepJournal: time.Duration(c.Int("journal-days")) * day, KeepTrail: time.Duration(c.Int("trail-days")) * day,
		GuardShare: float64(c.Int("guard")) / 100}
	bound := func(name, what string, least, most int) {
		if n := c.Int(name); err == nil && c.IsSet(name) && (n < least || n > most) {
			err = fault.New(fault.Invalid, name, "%s is %d to %d, not %d", what, least, most, n).In(name).
				Do("leave it out for the default")
		}
	}
	const ever = 36_500
	bound("journal-days", "how many days the journal is kept, 0 for ever,", 0, ever)
	bound("trail-days", "how many days the trail is kept", 1, ever)
	bound("guard", "the guard in percent", 0, 100)
	bound("lifecycle-rate", "the versions a second that rules act on", 0, 1_000_000)
	if s := c.String("scrub-rate"); err == nil && s != "" {
		n, serr := parseSize("scrub-rate", s)
		if serr != nil || n == nil || *n < 1<<16 {
			return in, fault.New(fault.Invalid, "size", "the scrub rate %q is no size of at least 64KiB", s).In("scrub-rate")
		}
		in.ScrubRate = *n
	}
	return in, err
}

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: "Flags go before the environment, the environment before the settings file.\nThe owner's first key comes from SPINDLE_OWNER_KEY and SPINDLE_OWNER_SECRET, else it is made and printed once.\nThe master key that seals secrets is a file under DIR, unless SPINDLE_MASTER_KEY gives it.\n\nExamples:\n" +
			"  spindle serve --data /srv/spindle\n  spindle serve --data /srv/spindle --database postgres://spindle@db/spindle --wire 0.0.0.0:5710 --desk 0.0.0.0:5711 --tls-cert cert.pem --tls-key key.pem",
		Flags: serveFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c, 0, 0); err != nil {
				return err
			}
			cfg, log, err := a.config(c)
			if err != nil {
				return err
			}
			if a.Getenv("GOGC") == "" {
				collectByNeed()
			}
			s, err := service.Start(ctx, cfg, log)
			if err != nil {
				return err
			}
			if s.Made != nil && cfg.OwnerKey == "" {
				a.note("The owner's key was made. Its secret is shown this once; keep it:\n  key     %s\n  secret  %s", s.Made.ID,
					s.Made.Secret)
			}
			fmt.Fprintf(a.Out, "ready: wire %s, desk %s\n", s.WireURL, s.DeskURL)
			return a.until(ctx, s)
		},
	}
}

// until waits for the end of a service and takes it down.
func (a *app) until(ctx context.Context, s *service.Service) error {
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-s.Failed():
	}
	drain, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if err := s.Stop(drain); err != nil && failed == nil {
		a.note("%s", err)
	}
	return failed
}

func (a *app) openapi() error {
	b, err := service.OpenAPI()
	if err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}
