package backup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/postgres"
)

// openKey opens the copy of the master key. The errors have the codes backup-key and
// passphrase.
func openKey(folder string, m *Manifest, passphrase string) (string, error) {
	sealed, err := os.ReadFile(filepath.Join(folder, m.Name, keyFile))
	if errors.Is(err, fs.ErrNotExist) {
		return "", fault.New(fault.NotFound, "backup-key", "the backup %s has no copy of the master key", m.Name).
			In("backup").Do("give the key as SPINDLE_MASTER_KEY")
	}
	if err != nil {
		return "", err
	}
	id, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return "", wrongPassphrase(err)
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), id)
	if err != nil {
		return "", wrongPassphrase(err)
	}
	key, err := io.ReadAll(io.LimitReader(r, 64<<10))
	return strings.TrimSpace(string(key)), err
}

func wrongPassphrase(err error) error {
	return fault.New(fault.Invalid, "passphrase", "the passphrase does not open the copy of the master key").
		In("passphrase").Do("give the one that the backup was made with").Because(err)
}

// Restoring says what is restored, and where.
type Restoring struct {
	Folder     string
	Name       string // of the backup; "" for the latest
	Data       string // an empty directory, or one that is not there yet
	Database   string // an empty database; "" for a private one under Data
	MasterKey  string // instead of the backup's copy
	Passphrase string // of the copy
	Volumes    map[string]string
	Unproved   bool      // a backup is taken that nothing proves; see proved
	AsOf       time.Time // a moment between backups whose database's log was kept; zero for none

	Anyway bool // bodies that the folder lacks are lost

	Log      *slog.Logger
	Progress func(what string, bytes int64)

	begun *begun
	held  *os.File
}

// Restored is what a restore did.
type Restored struct {
	*Manifest
	Put   map[string]string `json:"put"`             // volumes that lie elsewhere than they did, by where they were
	AsOf  *time.Time        `json:"asOf,omitempty"`  // the moment that was come to, when one was asked for
	Lost  int64             `json:"lost,omitempty"`  // bodies that the folder lacks
	First []string          `json:"first,omitempty"` // the first of them
}

// Restore brings a service back: its catalog, its bodies and its master key. Nothing that is
// there is overwritten. One that was stopped goes on when it is said again. The error when bodies are missing in the
// folder has the code backup-incomplete, unless Anyway is said.
func (in *Restoring) Restore(ctx context.Context) (*Restored, error) {
	base, m, err := in.choose()
	if err != nil {
		return nil, err
	}
	folder, err := reading(in.Folder)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	key, err := in.keys(base, m)
	if err != nil {
		return nil, err
	}
	for _, b := range []*Manifest{base, m} {
		if b != nil && !in.Unproved {
			if err := proved(in.Folder, b, key); err != nil {
				return nil, err
			}
		}
	}
	defer in.letGo()
	if err := in.begin(m); err != nil {
		return nil, err
	}
	url, stop, err := in.database(ctx, base, m)
	if err != nil {
		return nil, err
	}
	defer stop()
	cat, err := catalog.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	defer cat.Close()
	out := &Restored{Manifest: m, Put: map[string]string{}}
	if base != nil {
		out.AsOf = &in.AsOf
	}
	if err := in.complete(ctx, cat, m, key, out); err != nil {
		return nil, err
	}
	for _, v := range m.Volumes {
		if err := in.putBack(ctx, cat, v, out); err != nil {
			return nil, err
		}
	}
	if err := cat.Restored(ctx); err != nil {
		return nil, err
	}
	if err := writeLast(filepath.Join(in.Data, "master.key"), []byte(strings.ReplaceAll(key, ",",
		"\n")+"\n")); err != nil {
		return nil, err
	}
	return out, in.ended()
}

// complete looks whether the folder has all bodies that the catalog refers to, before any is copied.
func (in *Restoring) complete(ctx context.Context, cat *catalog.Catalog, m *Manifest, key string, out *Restored) error {
	in.tell("looking for bodies", 0)
	found, err := in.lost(ctx, cat, m, key)
	if err != nil {
		return err
	}
	out.Lost, out.First = found.Wrong, found.First
	if found.Wrong == 0 || in.Anyway {
		return nil
	}
	what := strings.Join(found.First[:min(len(found.First), 5)], "\n")
	if in.AsOf.IsZero() {
		return fault.New(fault.Damaged, "backup-incomplete",
			"%d of %d bodies are missing in the folder, or not what they were\n%s", found.Wrong, found.Bodies,
			what).In("backup").
			Do("bring them back from where the folder was copied to, or take an earlier backup; " +
				"to restore the rest, say --anyway")
	}
	return fault.New(fault.Damaged, "backup-incomplete",
		"%d of %d bodies of that moment were removed for good before the next backup was made\n%s", found.Wrong, found.Bodies,
		what).In("as-of").Do("choose another moment; to restore the rest, say --anyway. " +
		"A longer --collect-grace keeps them until a backup is made")
}

// choose finds the backup that is restored; for a moment also the one whose database leads there.
func (in *Restoring) choose() (base, m *Manifest, err error) {
	if in.AsOf.IsZero() {
		m, err = Find(in.Folder, in.Name)
		return nil, m, err
	}
	if in.Database != "" || in.Name != "" {
		return nil, nil, fault.New(fault.Invalid, "moment-alone",
			"a moment is come to by a private database, and the backup is found by it").In("as-of").
			Do("leave out --database and --backup; with a database of your own see docs/operations.md")
	}
	if base, m, err = towards(in.Folder, in.AsOf); err == nil {
		m.Volumes = ofBoth(base, m)
	}
	return base, m, err
}

// keys gives the master key: of a moment between two backups also the one that was in use before.
func (in *Restoring) keys(base, m *Manifest) (string, error) {
	if in.MasterKey != "" {
		return in.MasterKey, nil
	}
	key, err := openKey(in.Folder, m, in.Passphrase)
	if err != nil || base == nil || base.Name == m.Name {
		return key, err
	}
	was, err := openKey(in.Folder, base, in.Passphrase)
	if err == nil && was != key {
		key += "\n" + was
	}
	return strings.ReplaceAll(key, "\n", ","), err
}

// putBack copies a volume to where it comes to lie.
func (in *Restoring) putBack(ctx context.Context, cat *catalog.Catalog, v Volume, out *Restored) error {
	to := in.begun.Volumes[v.Marker]
	if to == "" {
		var err error
		if to, err = in.place(v); err != nil {
			return err
		}
		in.begun.Volumes[v.Marker] = to
		if err := in.note(); err != nil {
			return err
		}
	}
	c := &copying{ctx: ctx, from: filepath.Join(in.Folder, volumesDir, v.Marker), to: to,
		told: func(n int64) { in.tell(v.Tier, n) }}
	if err := c.all(); err != nil {
		return err
	}
	if err := folders(to); err != nil {
		return err
	}
	if v.Tier != tier.MainName && to != v.Dir {
		if err := cat.PutVolume(ctx, v.Marker, to); err != nil {
			return err
		}
		out.Put[v.Dir] = to
	}
	return nil
}

func (in *Restoring) tell(what string, n int64) {
	if in.Progress != nil {
		in.Progress(what, n)
	}
}

// empty refuses a directory in which there is something.
func (in *Restoring) empty() error {
	list, err := os.ReadDir(in.Data)
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.Name() != restoreLock {
			return fault.New(fault.Conflict, "data-not-empty", "the directory %s is not empty: %s is in it", in.Data, e.Name()).
				In("data").Do("give one that is empty, or not there yet")
		}
	}
	return nil
}

// database gives the database with what is restored in it: a private one unless another was given.
func (in *Restoring) database(ctx context.Context, base, m *Manifest) (url string, stop func(), err error) {
	if base != nil {
		s, err := in.comeTo(ctx, base, m)
		if err != nil {
			return "", nil, err
		}
		return s.URL("postgres"), s.Stop, nil
	}
	if in.Database != "" {
		return in.Database, func() {}, load(ctx, in.Folder, m, in.Database)
	}
	s, err := postgres.Start(ctx, filepath.Join(in.Data, "postgres"), in.Log)
	if err != nil {
		return "", nil, err
	}
	if err := fill(ctx, in.Folder, m, s.URL("postgres")); err != nil {
		s.Stop()
		return "", nil, err
	}
	return s.URL("postgres"), s.Stop, nil
}

// place gives the directory in which a volume comes to lie: where it was, when nothing is
// there, or beneath the data directory.
func (in *Restoring) place(v Volume) (string, error) {
	if v.Tier == tier.MainName {
		return filepath.Join(in.Data, "volumes", "main"), nil
	}
	to := v.Dir
	if named := in.Volumes[v.Dir]; named != "" {
		to = named
	}
	if list, err := os.ReadDir(to); err == nil && len(list) > 0 || in.Volumes[v.Dir] == "" && !parent(to) {
		if in.Volumes[v.Dir] != "" {
			return "", fault.New(fault.Conflict, "volume-not-empty", "the directory %s is not empty", to).In("volume").
				Do("give an empty one")
		}
		to = filepath.Join(in.Data, "volumes", fmt.Sprintf("%s-%.8s", v.Tier, v.Marker))
	}
	return to, nil
}

// parent reports whether a directory's parent is there.
func parent(dir string) bool {
	st, err := os.Stat(filepath.Dir(dir))
	return err == nil && st.IsDir()
}

// folders makes what folders a volume has that were empty.
func folders(dir string) error {
	for i := range 256 {
		if err := os.MkdirAll(filepath.Join(dir, "whole", fmt.Sprintf("%02x", i)), 0o700); err != nil {
			return err
		}
	}
	return os.MkdirAll(filepath.Join(dir, "segments"), 0o700)
}
