package backup

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/keyring"
	"spindle/internal/postgres"
)

// logWithin is how long a backup waits for the database to hand on its log.
const logWithin = 2 * time.Minute

// base copies the database's own files, when its log is kept in this folder: a private one's,
// since of others the programs here know neither files nor place.
func (in *Making) base(ctx context.Context, cat *catalog.Catalog, url, dir string, m *Manifest) error {
	if in.Database != "" {
		return nil
	}
	state, err := cat.Log(ctx)
	if err != nil || !state.On {
		return err
	}
	cluster, from, err := cat.LogPlace(ctx)
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(LogFolder(in.Folder), cluster)); err != nil {
		return nil // it is kept elsewhere
	}
	if err := cat.HandOnLog(ctx, logWithin); err != nil { // or the copy would wait for ever
		return err
	}
	cmd, err := program(ctx, "pg_basebackup", "--pgdata="+filepath.Dir(filepath.Join(dir, baseFile)), "--format=tar",
		"--compress=1", "--wal-method=none",
		"--checkpoint=fast", "--dbname="+url)
	if err != nil {
		return err
	}
	in.tell("the database's files", 0)
	if err := ran(cmd); err != nil {
		return err
	}
	_, to, err := cat.LogPlace(ctx)
	if err != nil {
		return err
	}
	m.Base = &Base{Cluster: cluster, From: from, To: to, Ready: cat.Now().UTC().Truncate(time.Second).Add(time.Second)}
	m.Base.Digest, m.Base.Size, err = digestOf(filepath.Join(dir, baseFile))
	return err
}

// placeInLog gives where a file of the log stands in it: its name less the line of time, of which
// a restore begins another.
func placeInLog(file string) string {
	name := strings.TrimSuffix(file, ".gz")
	const line, all = 8, 24
	if len(name) < all || strings.HasSuffix(name, ".history") {
		return "" // what tells of lines of time is needed always
	}
	return name[line:all]
}

// forgetLog removes what of a cluster's log is older than its oldest base in the folder.
func forgetLog(folder, cluster string) error {
	list, err := List(folder)
	if err != nil {
		return err
	}
	oldest := ""
	for _, m := range list {
		if m.Base != nil && m.Base.Cluster == cluster {
			oldest = placeInLog(m.Base.From)
		}
	}
	dir := filepath.Join(LogFolder(folder), cluster)
	files, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, f := range files {
		if at := placeInLog(f.Name()); at != "" && at < oldest {
			if err := os.Remove(filepath.Join(dir, f.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// Moments gives from when to when a folder's backups lead to any moment; ok is false when they
// do not. The error is that of List, or has the code backup-log.
func Moments(folder string) (from, to time.Time, ok bool, err error) {
	led, err := leading(folder)
	if err != nil || len(led) == 0 {
		return from, to, false, err
	}
	from, to = led[len(led)-1].Base.Ready, led[0].Made
	return from, to, from.Before(to), nil
}

// leading gives the backups with a base that are of the line of the latest one, that first.
func leading(folder string) (led []*Manifest, err error) {
	list, err := List(folder)
	if err != nil {
		return nil, err
	}
	var l *line
	for _, m := range list {
		if m.Base != nil && l == nil {
			if l, err = lineOf(folder, m.Base); err != nil {
				return nil, err
			}
		}
		if m.Base != nil && l.has(m.Base) {
			led = append(led, m)
		}
	}
	return led, nil
}

// towards finds the backup whose database leads to a moment, and the latest, which has the bodies of
// then. The errors have the codes moment-early, moment-late and backup-log.
func towards(folder string, to time.Time) (base, latest *Manifest, err error) {
	led, err := leading(folder)
	if err != nil {
		return nil, nil, err
	}
	for _, m := range led {
		if latest == nil {
			latest = m
		}
		if !m.Base.Ready.After(to) {
			base = m
			break
		}
	}
	switch at := to.UTC().Format(time.RFC3339); {
	case base == nil:
		return nil, nil, fault.New(fault.NotFound, "moment-early", "no backup in %s leads to %s", folder, at).In("as-of").
			Do("take a moment after a backup that was made while the service ran with --keep-log %s, or one of the "+
				"backups as it is: spindle backup list %s", folder, folder)
	case to.After(latest.Made):
		return nil, nil, fault.New(fault.Invalid, "moment-late", "%s is after the latest backup, of %s", at,
			latest.Made.Format(time.RFC3339)).In("as-of").
			Do("bodies that came later are not in the folder: take a moment before it, or make another backup first")
	}
	return base, latest, nil
}

// comeTo has a private database come to the moment by a base and the log after it, on the line of the
// latest backup.
func (in *Restoring) comeTo(ctx context.Context, base, latest *Manifest) (*postgres.Server, error) {
	dir := filepath.Join(in.Data, "postgres")
	file := filepath.Join(in.Folder, base.Name, baseFile)
	sum, size, err := digestOf(file)
	if err != nil || sum != base.Base.Digest || size != base.Base.Size {
		return nil, fault.New(fault.Damaged, "backup-base", "the database's files in the backup %s are not what they were",
			base.Name).In("backup").Do("bring them back from where the folder was copied to").Because(err)
	}
	in.tell("the database's files", size)
	if err := postgres.Unpack(dir, file); err != nil {
		return nil, err
	}
	// The server's user reads the log: from a copy of its own, since another machine's may not.
	log := filepath.Join(dir, logDir)
	if err := in.copyLog(base.Base, log); err != nil {
		return nil, copyFault(err)
	}
	defer os.RemoveAll(log)
	number, err := lineNumber(latest.Base.From)
	if err != nil {
		return nil, err
	}
	in.tell("the database's log", 0)
	return postgres.StartWith(ctx, dir, in.Log, postgres.Settings{Recover: &postgres.Recovery{Log: log, Line: number,
		To: in.AsOf}})
}

func (in *Restoring) copyLog(base *Base, to string) error {
	from := filepath.Join(LogFolder(in.Folder), base.Cluster)
	files, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, f := range files {
		if at := placeInLog(f.Name()); !strings.HasSuffix(f.Name(), ".gz") || at != "" && at < placeInLog(base.From) {
			continue
		}
		if err := copyFile(filepath.Join(from, f.Name()), filepath.Join(to, f.Name())); err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// lost counts what the catalog of the moment refers to and no backup has: what was removed, and
// its bytes with it, before the next backup was made.
func (in *Restoring) lost(ctx context.Context, cat *catalog.Catalog, m *Manifest, key string) (*Checked, error) {
	keys, err := keyring.Open(ctx, cat, "", key)
	if err != nil {
		return nil, err
	}
	look := &Checking{Folder: in.Folder, look: true}
	spaces, err := look.spaces(ctx, cat, m, keys)
	if err != nil {
		return nil, err
	}
	defer spaces.Each(func(s bodies.Space) error { return s.Close() })
	out := &Checked{Manifest: m}
	return out, look.walk(ctx, cat, spaces, out)
}

// ofBoth gives the volumes of two backups, of one that is in both the latter's.
func ofBoth(a, b *Manifest) []Volume {
	out := append([]Volume(nil), b.Volumes...)
	for _, v := range a.Volumes {
		there := false
		for _, w := range b.Volumes {
			there = there || w.Marker == v.Marker || w.Tier == tier.MainName && v.Tier == tier.MainName
		}
		if !there {
			out = append(out, v)
		}
	}
	return out
}
