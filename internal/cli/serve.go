package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	"spindle/internal/desk"
	"spindle/internal/service"
)

// settingsFile is the YAML file of serve; flags and environment go before it.
type settingsFile struct {
	Data           string        `yaml:"data"`
	Wire           string        `yaml:"wire"`
	Desk           string        `yaml:"desk"`
	Database       string        `yaml:"database"`
	Region         string        `yaml:"region"`
	Account        string        `yaml:"account"`
	Domains        []string      `yaml:"domain"`
	Origins        []string      `yaml:"origin"`
	Reach          []string      `yaml:"reach"`
	KeepLog        string        `yaml:"keep-log"`
	FolderRoots    []string      `yaml:"folder-root"`
	StrictRegion   bool          `yaml:"strict-region"`
	WireURL        string        `yaml:"wire-url"`
	TLSCert        string        `yaml:"tls-cert"`
	TLSKey         string        `yaml:"tls-key"`
	PlainHTTP      bool          `yaml:"plain-http"`
	LogLevel       string        `yaml:"log-level"`
	CollectGrace   time.Duration `yaml:"collect-grace"`
	ScrubRate      string        `yaml:"scrub-rate"`
	ScrubEvery     time.Duration `yaml:"scrub-every"`
	ScrubElsewhere bool          `yaml:"scrub-elsewhere"`
	LifecycleEvery time.Duration `yaml:"lifecycle-every"`
	LifecycleRate  int           `yaml:"lifecycle-rate"`
	Guard          int           `yaml:"guard"`
	SlowAfter      time.Duration `yaml:"slow-after"`
	TrailDays      int           `yaml:"trail-days"`
	JournalDays    int           `yaml:"journal-days"`
	Connections    int           `yaml:"connections"`
	FromOne        int           `yaml:"connections-from-one"`
}

func serveFlags() []cli.Flag {
	env := func(s string) cli.ValueSourceChain { return cli.EnvVars("SPINDLE_" + s) }
	return []cli.Flag{
		&cli.StringFlag{Name: "data", Usage: "`DIR` that holds everything: bodies, master key, private database",
			Sources: env("DATA")},
		&cli.StringFlag{Name: "wire", Usage: "`ADDR` of the wire", DefaultText: service.DefaultWire, Sources: env("WIRE")},
		&cli.StringFlag{Name: "desk", Usage: "`ADDR` of the desk and console", DefaultText: service.DefaultDesk,
			Sources: env("DESK")},
		&cli.StringFlag{Name: "database", Usage: "`URL` of a PostgreSQL; without it a private one is kept under DIR",
			Sources: env("DATABASE")},
		&cli.StringFlag{Name: "keep-log",
			Usage:   "keep the private database's log in the `FOLDER` of backups, so that any moment between two can be restored",
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
			Usage:       "endpoints may be there too: loopback, private, or a `NETWORK` such as 10.4.0.0/16; may be repeated",
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
		&cli.StringFlag{Name: "log-level", Usage: "debug, info, warn or error", DefaultText: "info",
			Sources: env("LOG_LEVEL")},
		&cli.DurationFlag{Name: "collect-grace", Usage: "how long bytes that nothing refers to are kept", DefaultText: "1h",
			Sources: env("COLLECT_GRACE")},
		&cli.StringFlag{Name: "scrub-rate", Usage: "bytes a second that the scrubber reads", DefaultText: "20MiB",
			Sources: env("SCRUB_RATE")},
		&cli.BoolFlag{Name: "scrub-elsewhere",
			Usage:   "read bodies of tiers at endpoints too, at the price of what leaves them, instead of asking whether they are there",
			Sources: cli.EnvVars("SPINDLE_SCRUB_ELSEWHERE")},
		&cli.DurationFlag{Name: "scrub-every", Usage: "how often every body is read", DefaultText: "168h",
			Sources: env("SCRUB_EVERY")},
		&cli.DurationFlag{Name: "lifecycle-every", Usage: "how often rules look for what has come to be due",
			DefaultText: "10m",
			Sources:     env("LIFECYCLE_EVERY")},
		&cli.IntFlag{Name: "lifecycle-rate", Usage: "versions a second that rules act on at the most", DefaultText: "2000",
			Sources: env("LIFECYCLE_RATE")},
		&cli.IntFlag{Name: "guard", Usage: "`PERCENT` of a bucket that rules may remove in a run without asking",
			DefaultText: "20",
			Sources:     env("GUARD")},
		&cli.BoolFlag{Name: "accept-volume",
			Usage: "take the volume of the tier main as it is, once, although its marker file is missing"},
		&cli.IntFlag{Name: "trail-days", Usage: "how many `DAYS` the audit trail is kept", DefaultText: "400",
			Sources: env("TRAIL_DAYS")},
		&cli.DurationFlag{Name: "slow-after", Usage: "how long a client may be silent", DefaultText: "30s",
			Sources: env("SLOW_AFTER")},
		&cli.IntFlag{Name: "journal-days", Usage: "how many `DAYS` the journal is kept, by whole months; 0 for ever",
			DefaultText: "0", Sources: env("JOURNAL_DAYS")},
		&cli.IntFlag{Name: "connections", Usage: "how `MANY` the wire holds at a time; the desk a quarter of that",
			DefaultText: "what the process may open, at most 8192", Sources: env("CONNECTIONS")},
		&cli.IntFlag{Name: "connections-from-one", Usage: "how `MANY` of them from one address", DefaultText: "half of them",
			Sources: env("CONNECTIONS_FROM_ONE")},
	}
}

// config reads flags and environment, then the file, then the defaults.
func (a *app) config(c *cli.Command) (cfg service.Config, log *slog.Logger, err error) {
	var f settingsFile
	if path := c.String("config"); path != "" {
		b, err := os.ReadFile(path)
		if err != nil {
			return cfg, nil, fault.New(fault.Invalid, "config", "the settings file cannot be read").In("config").Because(err)
		}
		if err := yaml.UnmarshalWithOptions(b, &f, yaml.Strict()); err != nil {
			return cfg, nil, fault.New(fault.Invalid, "config", "the settings file is wrong:\n%s",
				yaml.FormatError(err, false, true)).In("config").Do("see docs/reference.md for the settings")
		}
	}
	str := func(name, file string) string {
		if c.IsSet(name) {
			return c.String(name)
		}
		return file
	}
	list := func(name string, file []string) []string {
		if c.IsSet(name) {
			return c.StringSlice(name)
		}
		return file
	}
	yes := func(name string, file bool) bool {
		if c.IsSet(name) {
			return c.Bool(name)
		}
		return file
	}
	span := func(name string, file time.Duration) time.Duration {
		if c.IsSet(name) {
			return c.Duration(name)
		}
		return file
	}
	whole := func(name string, file int) int {
		if c.IsSet(name) {
			return c.Int(name)
		}
		return file
	}
	cfg = service.Config{Data: str("data", f.Data), Wire: str("wire", f.Wire), Desk: str("desk", f.Desk),
		Database: str("database", f.Database), Region: str("region", f.Region),
		Account: str("account", f.Account), Domains: list("domain", f.Domains), Origins: list("origin", f.Origins),
		StrictRegion: yes("strict-region", f.StrictRegion), Reach: list("reach", f.Reach),
		WireURL: str("wire-url", f.WireURL), TLSCert: str("tls-cert", f.TLSCert), TLSKey: str("tls-key", f.TLSKey),
		PlainHTTP: yes("plain-http", f.PlainHTTP),
		OwnerKey:  a.Getenv("SPINDLE_OWNER_KEY"), OwnerSecret: a.Getenv("SPINDLE_OWNER_SECRET"),
		MasterKey: a.Getenv("SPINDLE_MASTER_KEY"), SlowAfter: span("slow-after", f.SlowAfter)}
	if folder := str("keep-log", f.KeepLog); folder != "" {
		cfg.KeepLog = backup.LogFolder(folder)
	}
	cfg.Works.Folders = list("folder-root", f.FolderRoots)
	cfg.Works.CollectGrace = span("collect-grace", f.CollectGrace)
	cfg.Works.ReadElsewhere = yes("scrub-elsewhere", f.ScrubElsewhere)
	cfg.Works.ScrubEvery = span("scrub-every", f.ScrubEvery)
	kept := f.JournalDays
	if c.IsSet("journal-days") {
		kept = c.Int("journal-days")
	}
	if kept < 0 || kept > 36500 {
		return cfg, nil, fault.New(fault.Invalid, "journal-days", "the journal is kept 0 (for ever) to 36500 days, not %d",
			kept).In("journal-days")
	}
	cfg.Works.KeepJournal = time.Duration(kept) * 24 * time.Hour
	cfg.Connections, cfg.ConnectionsEach = f.Connections, f.FromOne
	for name, into := range map[string]*int{"connections": &cfg.Connections,
		"connections-from-one": &cfg.ConnectionsEach} {
		if c.IsSet(name) {
			*into = c.Int(name)
		}
	}
	days := f.TrailDays
	if c.IsSet("trail-days") {
		days = c.Int("trail-days")
	}
	if days < 0 || days == 0 && c.IsSet("trail-days") || days > 36500 {
		return cfg, nil, fault.New(fault.Invalid, "trail-days", "the trail is kept 1 to 36500 days, not %d", days).
			In("trail-days")
	}
	cfg.Works.KeepTrail = time.Duration(days) * 24 * time.Hour
	cfg.Works.AgeEvery = span("lifecycle-every", f.LifecycleEvery)
	cfg.AcceptVolume = c.Bool("accept-volume")
	cfg.Works.AgeRate = whole("lifecycle-rate", f.LifecycleRate)
	guard := whole("guard", f.Guard)
	if cfg.Works.AgeRate < 0 || guard < 0 || guard > 100 {
		return cfg, nil, fault.New(fault.Invalid, "guard", "the guard is from 0 to 100 percent, and the rate is not below 0").
			In("guard").Do("leave both out for 20 percent and 2,000 versions a second")
	}
	cfg.Works.GuardShare = float64(guard) / 100
	if s := str("scrub-rate", f.ScrubRate); s != "" {
		n, err := parseSize("scrub-rate", s)
		if err != nil || n == nil || *n < 1<<16 {
			return cfg, nil, fault.New(fault.Invalid, "size", "the scrub rate %q is no size of at least 64KiB", s).
				In("scrub-rate")
		}
		cfg.Works.ScrubRate = *n
	}
	level := str("log-level", f.LogLevel)
	if level == "" {
		level = "info"
	}
	log, err = a.logger(level)
	return cfg, log, err
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
				debug.SetGCPercent(400) // the heap is small and short-lived
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
	b, err := desk.Document()
	if err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}
