package cli

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// onMachine are the flags of commands that work on the service's machine, beside it.
func onMachine() []cli.Flag {
	return []cli.Flag{&cli.StringFlag{Name: "data", Usage: "the service's data `DIRECTORY`", Required: true},
		&cli.StringFlag{Name: "database", Usage: "`URL` of its PostgreSQL, if it is not the private one"}}
}

func passphraseFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "passphrase-from",
		Usage: "read the passphrase " + what + " from this `FILE`, - for standard input; default: you are asked"}
}

func unprovedFlag() cli.Flag {
	return &cli.BoolFlag{Name: "unproved",
		Usage: "accept a backup of an older version, which carries no proof; only from a folder that nobody else " +
			"could write to"}
}

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{Name: "backup", Usage: "copies of the whole service, made while it runs",
		Commands: []*cli.Command{
			{Name: "make", Usage: "make a backup in a folder, on the service's machine", ArgsUsage: "FOLDER",
				Description: "The catalog in one snapshot, the master key sealed under a passphrase, and all " +
					"bodies that the snapshot refers to. The service keeps running; bodies that are in the " +
					"folder already are not copied again. Keep the passphrase elsewhere: without it, or the " +
					"master key, nobody can read a backup.\n\n" +
					examples("spindle backup make /mnt/backup --data /var/lib/spindle --passphrase-from /root/backup.phrase",
						"spindle backup make /mnt/backup --data /srv/spindle --database postgres://spindle@db/spindle"),
				Flags: append(onMachine(), passphraseFlag("that seals the master key"), &cli.BoolFlag{Name: "new-folder",
					Usage: "the earlier folder is lost for good; start over in this one"}), Action: a.backupMake},
			{Name: "list", Usage: "list the backups in a folder", ArgsUsage: "FOLDER",
				Description: examples("spindle backup list /mnt/backup", "spindle backup list /mnt/backup --json"),
				Action:      a.backupList},
			{Name: "check", Usage: "check that everything a backup refers to is there", ArgsUsage: "FOLDER",
				Description: "The catalog is loaded into a temporary database. Every body is looked up; small " +
					"ones are read, and one in fifty of the large ones, or all with --all. Exits with code 1 " +
					"if something is wrong.\n\n" +
					examples("spindle backup check /mnt/backup --passphrase-from /root/backup.phrase",
						"spindle backup check /mnt/backup --backup 2026-11-27T09-30-00Z --all"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "backup", Usage: "backup `NAME`; default: the latest"},
					&cli.BoolFlag{Name: "all", Usage: "read every body and compare its digest"},
					unprovedFlag(), passphraseFlag("of the backup")}, Action: a.backupCheck},
			{Name: "remove", Usage: "remove backups, and the bodies that no other backup uses", ArgsUsage: "FOLDER [NAME ...]",
				Description: "Removes the backups you name, or all but the latest; at least one stays. You see " +
					"what would be removed, and confirm. Moments before the oldest remaining backup can no " +
					"longer be restored.\n\n" +
					examples("spindle backup remove /mnt/backup --keep 14 --yes",
						"spindle backup remove /mnt/backup 2026-11-27T09-30-00Z"),
				Flags: []cli.Flag{&cli.IntFlag{Name: "keep", Usage: "remove all but the latest `N`, and unfinished ones"},
					yesFlag()}, Action: a.backupRemove},
		}}
}

func (a *app) restoreServiceCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "restore a service from a backup, on an empty machine",
		ArgsUsage: "FOLDER",
		Description: "Nothing is overwritten: the data directory must be empty or missing. Volumes are restored " +
			"where they were, or beneath the data directory if that is impossible. Do not run the old " +
			"service beside the new one: to others they are the same.\n\n" +
			examples("spindle restore /mnt/backup --data /var/lib/spindle --passphrase-from /root/backup.phrase",
				"spindle restore /mnt/backup --data /srv/new --volume /mnt/slow1/spindle=/mnt/other/spindle",
				"spindle restore /mnt/backup --data /srv/new --as-of '2026-11-20 14:00'"),
		Flags: append(onMachine(), &cli.StringFlag{Name: "backup", Usage: "backup `NAME`; default: the latest"},
			&cli.StringFlag{Name: "as-of",
				Usage: "restore the state at a `MOMENT` between two backups; the service must have run with --keep-log"},
			&cli.StringSliceFlag{Name: "volume", Usage: "put the volume that was in one directory into another, as `WAS=IS`; may be repeated"},
			&cli.BoolFlag{Name: "anyway", Usage: "restore what is there, even if bodies are missing in the folder"},
			unprovedFlag(), passphraseFlag("of the backup")),
		Action: a.restoreService}
}

// quietly is a log of what matters alone.
func (a *app) quietly() *slog.Logger {
	return slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: slog.LevelError}))
}

// moved gives what tells how many bytes were moved, now and then.
func (a *app) moved() func(string, int64) {
	var n int64
	last := time.Now()
	return func(what string, more int64) {
		if n += more; time.Since(last) > 2*time.Second {
			a.note("%s: %s", what, size(n))
			last = time.Now()
		}
	}
}

func (a *app) backupMake(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	words, err := a.passphrase(c.String("passphrase-from"), true)
	if err != nil {
		return err
	}
	data, err := filepath.Abs(c.String("data"))
	if err != nil {
		return err
	}
	m := &backup.Making{Data: data, Database: c.String("database"), Folder: in[0], Passphrase: words,
		MasterKey: a.Getenv("SPINDLE_MASTER_KEY"), NewFolder: c.Bool("new-folder"), Log: a.quietly(), Progress: a.moved()}
	b, err := m.Make(ctx)
	if err != nil {
		return err
	}
	return a.print(b, func() error {
		for _, x := range b.Missing {
			a.note("not in it: %s", x)
		}
		_, err := fmt.Fprintf(a.Out, "Backup %s: the catalog, %s; %s new, %s.\n", b.Name, size(b.Size),
			things(b.Files, "file", "files"), size(b.Copied))
		return err
	})
}

func (a *app) backupList(_ context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	list, err := backup.List(in[0])
	if err != nil {
		return err
	}
	unfinished, err := backup.Unfinished(in[0])
	if err != nil {
		return err
	}
	return a.print(list, func() error {
		for _, name := range unfinished {
			a.note("%s is not finished: it is being made, or broke off; one that broke off can be removed: spindle backup remove %s %s",
				name, in[0], name)
		}
		if len(list) == 0 {
			a.note("There is no finished backup: spindle backup make %s", in[0])
			return nil
		}
		var rows [][]string
		for _, b := range list {
			var bodies int64
			for _, v := range b.Volumes {
				bodies += v.Bytes
			}
			rows = append(rows, []string{b.Name, size(b.Size), size(bodies), size(b.Copied), strings.Join(b.Missing, ", ")})
		}
		if err := a.table([]column{{"BACKUP", false}, {"CATALOG", true}, {"BODIES", true}, {"NEW", true},
			{"NOT IN IT", false}}, rows); err != nil {
			return err
		}
		from, to, ok, err := backup.Moments(in[0])
		if ok {
			a.note("Any moment from %s to %s can be restored: spindle restore %s --as-of MOMENT",
				from.Local().Format(time.DateTime),
				to.Local().Format(time.DateTime), in[0])
		}
		return err
	})
}

func (a *app) backupCheck(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	check := &backup.Checking{Folder: in[0], Name: c.String("backup"), All: c.Bool("all"), Unproved: c.Bool("unproved"),
		MasterKey: a.Getenv("SPINDLE_MASTER_KEY"), Log: a.quietly(), Progress: a.moved()}
	if check.MasterKey == "" {
		if check.Passphrase, err = a.passphrase(c.String("passphrase-from"), false); err != nil {
			return err
		}
	}
	r, err := check.Check(ctx)
	if err != nil {
		return err
	}
	if err := a.print(r, func() error {
		for _, w := range r.First {
			fmt.Fprintln(a.Out, w)
		}
		_, err := fmt.Fprintf(a.Out, "Backup %s: %s looked at, %s read, %s wrong.\n", r.Name,
			things(r.Bodies, "body", "bodies"), size(r.Read), count(r.Wrong))
		return err
	}); err != nil || r.Wrong == 0 {
		return err
	}
	return fault.New(fault.Damaged, "backup-wrong", "%s of the backup are missing or not what they were",
		things(r.Wrong, "body", "bodies")).In("backup").
		Do("make another backup; where the service's own bodies are damaged, mend them first")
}

func (a *app) backupRemove(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, -1)
	if err != nil {
		return err
	}
	r := &backup.Removing{Folder: in[0], Names: in[1:], Keep: c.Int("keep")}
	if len(r.Names) > 0 == c.IsSet("keep") || c.IsSet("keep") && r.Keep < 1 {
		return wrongUsage("name the backups that go, or say by --keep how many of the latest stay, one at least")
	}
	would, err := r.Rehearse(ctx)
	if err != nil {
		return err
	}
	if len(would.Backups) == 0 && would.Files == 0 {
		return a.print(would, func() error {
			a.note("Nothing goes: there are %s.", things(int64(len(would.Kept)), "backup", "backups"))
			return nil
		})
	}
	if err := a.confirm(c, goes(would), "remove"); err != nil {
		return err
	}
	did, err := r.Remove(ctx)
	if err != nil {
		return err
	}
	return a.print(did, func() error {
		if len(did.Unknown) > 0 {
			a.note("bodies stay until %s are removed, too: made by an earlier version, they do not say which they have",
				strings.Join(did.Unknown, ", "))
		}
		_, err := fmt.Fprintf(a.Out, "Removed %s; %s of bodies, %s.\n", things(int64(len(did.Backups)), "backup", "backups"),
			things(did.Files, "file", "files"), size(did.Bytes))
		return err
	})
}

// goes says what a removal would do.
func goes(r *backup.Removed) string {
	what := fmt.Sprintf("%s of bodies, %s, that no backup has", things(r.Files, "file", "files"), size(r.Bytes))
	if len(r.Backups) > 0 {
		what = fmt.Sprintf("%s; with %s that stays", strings.Join(r.Backups, ", "), what)
	}
	return fmt.Sprintf("These go for good: %s. %s, the latest %s.", what,
		things(int64(len(r.Kept)), "backup stays", "backups stay"), r.Kept[0])
}

func (a *app) restoreService(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	data, err := filepath.Abs(c.String("data"))
	if err != nil {
		return err
	}
	r := &backup.Restoring{Folder: in[0], Name: c.String("backup"), Data: data, Database: c.String("database"),
		Unproved: c.Bool("unproved"), Anyway: c.Bool("anyway"),
		MasterKey: a.Getenv("SPINDLE_MASTER_KEY"), Volumes: map[string]string{}, Log: a.quietly(), Progress: a.moved()}
	if r.MasterKey == "" {
		if r.Passphrase, err = a.passphrase(c.String("passphrase-from"), false); err != nil {
			return err
		}
	}
	if at := c.String("as-of"); at != "" {
		if r.AsOf, err = object.ParseMoment(at, time.Now()); err != nil {
			return err
		}
	}
	for _, v := range c.StringSlice("volume") {
		was, is, ok := strings.Cut(v, "=")
		if !ok || was == "" || !filepath.IsAbs(is) {
			return wrongUsage("--volume is WAS=IS, with whole paths, not %q", v)
		}
		r.Volumes[was] = is
	}
	done, err := r.Restore(ctx)
	if err != nil {
		return err
	}
	return a.print(done, func() error {
		for _, was := range sortedKeys(done.Put) {
			a.note("the volume that was %s is %s", was, done.Put[was])
		}
		for _, x := range done.Missing {
			a.note("not in the backup: %s", x)
		}
		what := done.Name
		if done.AsOf != nil {
			what = "the service as of " + done.AsOf.Local().Format(time.DateTime)
		}
		for _, lost := range done.First {
			a.note("%s", lost)
		}
		if done.Lost > 0 {
			a.note("%s could not be brought back: the others are as they were.", things(done.Lost, "body", "bodies"))
		}
		_, err := fmt.Fprintf(a.Out, "Restored %s into %s. Start it with the settings it had: spindle serve --data %s\n",
			what, data, data)
		return err
	})
}
