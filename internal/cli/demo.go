package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/demo"
	"spindle/internal/service"
)

// demoMark is a file that says a directory is the demo's, and whether it is whole.
const demoMark = "demo"

func (a *app) demoData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/spindle-demo" // the database's user may pass there
	}
	if d := a.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "spindle-demo")
	}
	return filepath.Join(a.Getenv("HOME"), ".local", "share", "spindle-demo")
}

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run the service with sample data: the Fennmoor Herbarium",
		Description: "The credentials are fixed and printed. A second run keeps the data. Ctrl-C stops " +
			"everything.\nIf a default port is taken, another one is chosen.\n\n" +
			examples("spindle demo", "spindle demo --fresh --data /srv/demo"),
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "fresh", Usage: "start over: remove the demo's data first"}},
			serveFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c, 0, 0); err != nil {
				return err
			}
			cfg, log, err := a.config(c)
			if err != nil {
				return err
			}
			if cfg.Data == "" {
				cfg.Data = a.demoData()
			}
			cfg.OwnerKey, cfg.OwnerSecret, cfg.Account, cfg.Region = demo.OwnerKey, demo.OwnerSecret, demo.Account, demo.Region
			if cfg.Works.ScrubEvery == 0 {
				cfg.Works.ScrubEvery = 10 * time.Minute // something to see
			}
			whole, err := prepareDemo(cfg.Data, c.Bool("fresh"))
			if err != nil {
				return err
			}
			drop := filepath.Join(cfg.Data, "drop")
			if err := demo.Drop(drop); err != nil {
				return err
			}
			cfg.Works.Folders = append(cfg.Works.Folders, drop)
			var standins demo.Standins
			cfg.Reach = append(cfg.Reach, "loopback")
			if cfg.Money.Currency == "" {
				cfg.Money.Currency = "EUR"
			}
			if err := service.CheckFree(cfg.Data); err == nil {
				others, err := demo.StartStandins(filepath.Join(cfg.Data, "standins"))
				if err != nil {
					return err
				}
				defer others.Stop()
				standins = others
			}
			s, err := a.startDemo(ctx, cfg, log)
			if f := fault.From(err); err != nil && f.Code == "data-busy" && !c.Bool("fresh") {
				a.note("It runs already: %s.\n  key      %s\n  secret   %s", f.Message, demo.OwnerKey, demo.OwnerSecret)
				return nil
			}
			if err != nil {
				return err
			}
			if !whole {
				a.note("Making the sample data.")
				bar := a.bar("sample", 1) // how many is said with the first
				err := demo.Load(ctx, s.Store, s.Keys, filepath.Join(cfg.Data, "volumes"), time.Now(), func(done, all int) {
					if bar.b != nil {
						bar.b.SetTotal(int64(all), false)
					}
					bar.at(int64(done))
				})
				bar.stop()
				if err == nil {
					err = os.WriteFile(filepath.Join(cfg.Data, demoMark), []byte("whole\n"), 0o600)
				}
				if err != nil {
					stop, cancel := context.WithTimeout(context.Background(), 10*time.Second)
					defer cancel()
					return errors.Join(err, s.Stop(stop))
				}
			}
			if err := standins.Register(ctx, s.Store, s.Keys); err != nil {
				return err
			}
			if err := demo.Census(ctx, s.Store); err != nil {
				return err
			}
			if err := standins.Sync(ctx, s.Store, s.Keys, drop); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "ready: wire %s, desk %s\n\n  console  %s\n  key      %s\n  secret   %s\n\n"+
				"%s%s\n"+
				"From another terminal:\n  export SPINDLE_URL=%s SPINDLE_KEY=%s SPINDLE_SECRET=%s\n  %s bucket list\n\nCtrl-C stops it.\n",
				s.WireURL, s.DeskURL, s.DeskURL, demo.OwnerKey, demo.OwnerSecret, signIns(), standins, s.DeskURL, demo.OwnerKey,
				demo.OwnerSecret, os.Args[0])
			return a.until(ctx, s)
		},
	}
}

// signIns lists who else can sign in to the sample data.
func signIns() string {
	var b strings.Builder
	for _, p := range demo.People {
		fmt.Fprintf(&b, "  person   %-14s %-24s %s\n", p.Name, p.Password, p.What)
	}
	for _, k := range demo.Keys {
		fmt.Fprintf(&b, "  key      %-14s %-24s %s\n", k.Name, k.Password, k.What)
	}
	return b.String()
}

// startDemo starts the service; a port that is taken and was not asked for is
// replaced by a free one.
func (a *app) startDemo(ctx context.Context, cfg service.Config, log *slog.Logger) (*service.Service, error) {
	for {
		s, err := service.Start(ctx, cfg, log)
		if !fault.HasCode(err, "port-taken") {
			return s, err
		}
		switch f := fault.From(err); {
		case f.Field == "wire" && cfg.Wire == "":
			cfg.Wire = "127.0.0.1:0"
		case f.Field == "desk" && cfg.Desk == "":
			cfg.Desk = "127.0.0.1:0"
		default:
			return nil, err
		}
		a.note("The usual port is taken; another one is chosen.")
	}
}

// prepareDemo makes the demo's directory, starting over when asked. It never
// touches a directory that is not the demo's.
func prepareDemo(dir string, fresh bool) (whole bool, err error) {
	mark := filepath.Join(dir, demoMark)
	b, err := os.ReadFile(mark)
	if errors.Is(err, fs.ErrNotExist) {
		entries, derr := os.ReadDir(dir)
		if derr != nil && !errors.Is(derr, fs.ErrNotExist) {
			return false, derr
		}
		if len(entries) > 0 {
			return false, fault.New(fault.Conflict, "not-the-demo", "%s is not empty and was not made by the demo", dir).
				In("data").Do("choose another directory")
		}
	} else if err != nil {
		return false, err
	}
	if fresh {
		if err := service.CheckFree(dir); err != nil {
			return false, err
		}
		if err := os.RemoveAll(dir); err != nil {
			return false, err
		}
		b = nil
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return false, fault.New(fault.Invalid, "data-directory", "the demo's directory cannot be made").In("data").
			Do("give another one with --data DIR").Because(err)
	}
	if string(b) == "whole\n" {
		return true, nil
	}
	return false, os.WriteFile(mark, []byte("being made\n"), 0o600)
}
