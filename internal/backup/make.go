package backup

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"golang.org/x/sys/unix"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/postgres"
)

// holdFor is for how long the collector is held at a time.
const holdFor = 2 * time.Minute

// Making says of what a backup is made, and where.
type Making struct {
	Data       string // the service's directory
	Database   string // address of its database; "" for the private one
	MasterKey  string // "": the file in its directory
	Folder     string
	Passphrase string // of the master key's copy; "": the key is not copied
	NewFolder  bool   // the folder is gone for good, and another one is in its place

	Log      *slog.Logger
	Progress func(what string, bytes int64) // nil for none
}

// database gives the address of the service's database, which is started when it does not run.
func (in *Making) database(ctx context.Context) (url string, stop func(), err error) {
	if in.Database != "" {
		return in.Database, func() {}, nil
	}
	dir := filepath.Join(in.Data, "postgres")
	if _, err := os.Stat(dir); err != nil {
		return "", nil, fault.New(fault.NotFound, "data-empty",
			"%s is no data directory of a service with a database of its own",
			in.Data).In("data").Do("give the one that spindle serve has, and --database if it has one")
	}
	if url, running := postgres.Running(dir, "postgres"); running {
		return url, func() {}, nil
	}
	s, err := postgres.Start(ctx, dir, in.Log)
	if err != nil {
		return "", nil, err
	}
	return s.URL("postgres"), s.Stop, nil
}

// Make makes a backup of a service, which may be running.
func (in *Making) Make(ctx context.Context) (m *Manifest, err error) {
	url, stopDatabase, err := in.database(ctx)
	if err != nil {
		return nil, err
	}
	defer stopDatabase()
	cat, err := catalog.OpenAsIs(ctx, url)
	if err != nil {
		return nil, err
	}
	defer cat.Close()
	m = &Manifest{Format: 1, Made: cat.Now().UTC().Truncate(time.Second)}
	m.Name = m.Made.Format(moment)
	m.Is = m.Name
	key, err := in.masterKey()
	if err != nil {
		return nil, err
	}
	if m.Service, err = cat.ServiceID(ctx); err != nil {
		return nil, err
	}
	if err := in.there(); err != nil {
		return nil, err
	}
	folder, err := alone(in.Folder)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if err := in.markFolder(); err != nil {
		return nil, err
	}
	dir := filepath.Join(in.Folder, m.Name)
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, folderFault(dir, err)
	}
	finished := false
	defer func() {
		if !finished { // the bodies that were copied stay for the next
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	hold, err := cat.HoldBodies(ctx, holdFor)
	if err != nil {
		return nil, err
	}
	defer func() {
		after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		err = errors.Join(err, cat.LetBodies(after, hold))
	}()
	if err := in.fill(ctx, cat, hold, url, dir, key, m); err != nil {
		return nil, err
	}
	if finished = true; m.Base == nil {
		return m, nil
	}
	return m, forgetLog(in.Folder, m.Base.Cluster)
}

// fill writes what a backup consists of into its folder, the manifest last, while bodies are held.
func (in *Making) fill(ctx context.Context, cat *catalog.Catalog, hold int64, url, dir string, key string,
	m *Manifest) error {
	held, stop := in.holdOn(ctx, cat, hold)
	defer stop()
	if err := in.dump(held, url, dir, m); err != nil {
		return cause(held, err)
	}
	if err := in.base(held, cat, url, dir, m); err != nil {
		return cause(held, err)
	}
	if err := in.keepKey(dir, key); err != nil {
		return err
	}
	if err := in.copyVolumes(held, cat, dir, m); err != nil {
		return cause(held, err)
	}
	if err := cat.HoldOn(ctx, hold, holdFor); err != nil {
		return err
	}
	if m.Base != nil { // with the log of the copy itself, which is later than its moment
		if err := cat.HandOnLog(ctx, logWithin); err != nil {
			return err
		}
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	text = append(text, '\n')
	if err := prove(dir, key, text); err != nil {
		return err
	}
	return writeLast(filepath.Join(dir, manifestFile), text)
}

// cause gives why a context ended, when that is why something failed.
func cause(ctx context.Context, err error) error {
	if why := context.Cause(ctx); why != nil {
		return why
	}
	return err
}

// holdOn renews a hold beside the work; the context ends when that fails.
func (in *Making) holdOn(ctx context.Context, cat *catalog.Catalog, hold int64) (context.Context, func()) {
	held, cancel := context.WithCancelCause(ctx)
	go func() {
		for {
			select {
			case <-held.Done():
				return
			case <-time.After(holdFor / 8):
			}
			if err := cat.HoldOn(held, hold, holdFor); err != nil && fault.HasCode(err, "backup-late") {
				cancel(err)
			}
		}
	}()
	return held, func() { cancel(nil) }
}

func (in *Making) tell(what string, n int64) {
	if in.Progress != nil {
		in.Progress(what, n)
	}
}

// program gives a command of the database's own programs.
func program(ctx context.Context, name string, args ...string) (*exec.Cmd, error) {
	bin, err := postgres.Programs()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, name), args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C", "TZ=UTC")
	return cmd, nil
}

// ran runs a program, and tells what it says when it fails.
func ran(cmd *exec.Cmd) error {
	var says bytes.Buffer
	cmd.Stderr = &says
	if err := cmd.Run(); err != nil {
		lines := strings.Split(strings.TrimSpace(says.String()), "\n")
		return fault.New(fault.Unavailable, "database-program", "%s failed: %s", filepath.Base(cmd.Path), lines[0]).
			In("database").Because(err)
	}
	return nil
}

// dump has the database's own program write the catalog down, in one snapshot.
func (in *Making) dump(ctx context.Context, url, dir string, m *Manifest) error {
	path := filepath.Join(dir, dumpFile)
	cmd, err := program(ctx, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--file="+path, url)
	if err != nil {
		return err
	}
	in.tell("the catalog", 0)
	if err := ran(cmd); err != nil {
		return err
	}
	m.Dump, m.Size, err = digestOf(path)
	return err
}

func digestOf(path string) (sum string, size int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), size, errors.Join(err, f.Sync())
}

// masterKey gives the service's master key, and those before it.
func (in *Making) masterKey() (string, error) {
	if in.MasterKey != "" {
		return strings.ReplaceAll(in.MasterKey, ",", "\n"), nil
	}
	key, err := os.ReadFile(filepath.Join(in.Data, "master.key"))
	if err != nil {
		return "", fault.New(fault.Unavailable, "master-key-missing", "the master key cannot be read").In("master-key").
			Do("give the service's data directory, or its key as SPINDLE_MASTER_KEY").Because(err)
	}
	return string(key), nil
}

// keepKey seals the master key under the passphrase.
func (in *Making) keepKey(dir, key string) error {
	if in.Passphrase == "" {
		return nil
	}
	to, err := age.NewScryptRecipient(in.Passphrase)
	if err != nil {
		return err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to)
	if err != nil {
		return err
	}
	if _, err := io.WriteString(w, key); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return writeLast(filepath.Join(dir, keyFile), sealed.Bytes())
}

// copyVolumes copies what is new of every volume, and writes down what the backup has.
func (in *Making) copyVolumes(ctx context.Context, cat *catalog.Catalog, dir string, m *Manifest) (err error) {
	has, err := newHas(dir)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, has.close()); err == nil {
			m.Has, _, err = digestOf(filepath.Join(dir, hasFile))
		}
	}()
	tiers, err := cat.Tiers(ctx)
	if err != nil {
		return err
	}
	for _, t := range tiers {
		for _, v := range t.Volumes {
			if v.Place != nil {
				m.Missing = append(m.Missing, t.Name+" at "+v.String())
				continue
			}
			if err := in.copyVolume(ctx, m, has, Volume{Marker: v.Marker, Tier: t.Name, Dir: v.Dir}); err != nil {
				return err
			}
		}
	}
	main := filepath.Join(in.Data, "volumes", "main")
	marker, err := cat.MainMarker(ctx, "")
	if err != nil {
		return err
	}
	return in.copyVolume(ctx, m, has, Volume{Marker: marker, Tier: tier.MainName, Dir: main})
}

func (in *Making) copyVolume(ctx context.Context, m *Manifest, has *has, v Volume) error {
	if there, err := bodies.ReadMarker(v.Dir); err != nil || there != v.Marker {
		if v.Tier == tier.MainName {
			return bodies.Away(v.Dir, "it has not the marker that the catalog knows").Because(err)
		}
		m.Missing = append(m.Missing, v.Tier+" on "+v.Dir+", which is away")
		return has.all(v.Marker) // of earlier backups, which it may refer to
	}
	if err := in.outside(v.Dir); err != nil {
		return err
	}
	c := &copying{ctx: ctx, from: v.Dir, to: filepath.Join(in.Folder, volumesDir, v.Marker),
		has: func(rel string) error { return has.file(v.Marker, rel) }, told: func(n int64) { in.tell(v.Tier, n) }}
	if err := c.all(); err != nil {
		return err
	}
	v.Bytes, v.Files = c.bytes, c.files
	m.Volumes, m.Copied, m.Files = append(m.Volumes, v), m.Copied+c.newBytes, m.Files+c.newFiles
	return nil
}

// outside refuses a folder of backups that lies in a volume: it would be copied into itself.
func (in *Making) outside(volume string) error {
	folder, err := filepath.EvalSymlinks(in.Folder)
	if err != nil {
		return err
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return err
	}
	if volume, err = filepath.EvalSymlinks(volume); err != nil {
		return err
	}
	if folder == volume || strings.HasPrefix(folder, volume+"/") {
		return fault.New(fault.Invalid, "backup-inside", "the folder %s lies in the volume %s", in.Folder, volume).
			In("folder").Do("give one elsewhere, on another disk if it can be")
	}
	return nil
}

// copying copies a volume into another folder.
type copying struct {
	ctx      context.Context
	from, to string
	has      func(rel string) error // is told of each file; nil for none
	told     func(int64)
	buf      []byte
	pending  []string // copied, and without their names yet

	bytes, files, newBytes, newFiles int64
}

// all copies all bodies and the marker that are not there in their length yet.
func (c *copying) all() error {
	c.buf = make([]byte, 1<<20)
	if err := os.MkdirAll(c.to, 0o700); err != nil {
		return copyFault(err)
	}
	dirs := map[string]bool{}
	err := filepath.WalkDir(c.from+"/", func(path string, d fs.DirEntry, err error) error { // "/": it may be a link
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // removed meanwhile: the snapshot does not refer to it
		case err != nil:
			return err
		case c.ctx.Err() != nil:
			return c.ctx.Err()
		case d.Type()&fs.ModeSymlink != 0: // what is behind it would be missing
			return fault.New(fault.Invalid, "volume-link", "%s is a link within a volume", path).In("volume").
				Do("put what it leads to in its place; the volume's own directory may be a link")
		}
		rel, err := filepath.Rel(c.from, path)
		if err != nil || d.IsDir() || !kept(d.Name()) {
			return err
		}
		to := filepath.Join(c.to, rel)
		if dir := filepath.Dir(to); !dirs[dir] {
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
			dirs[dir] = true
		}
		if c.has != nil {
			if err := c.has(rel); err != nil {
				return err
			}
		}
		return c.one(path, to)
	})
	// What was copied, then its names; also of what came before a failure.
	return copyFault(errors.Join(err, c.settle(), c.settle()))
}

// settleMost is how many files are made to last together.
const settleMost = 1000

// settle has what was copied be on the disk, and only then have its name: a file that has its
// name is whole.
func (c *copying) settle() error {
	d, err := os.Open(c.to)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := unix.Syncfs(int(d.Fd())); err != nil {
		return err
	}
	for _, path := range c.pending {
		if err := os.Rename(path+".part", path); err != nil {
			return err
		}
	}
	c.pending = c.pending[:0]
	return nil
}

func copyFault(err error) error {
	if err == nil {
		return nil
	}
	var f *fault.Error
	if errors.As(err, &f) || errors.Is(err, context.Canceled) {
		return err
	}
	return fault.New(fault.Full, "backup-copy", "bodies cannot be copied: %s", err).In("folder").
		Do("see that there is room, and make it again: what was copied is not copied again").Because(err)
}

// kept reports whether a file of a volume belongs to it.
func kept(name string) bool {
	return strings.HasSuffix(name, ".body") || strings.HasSuffix(name, ".seg") || name == "volume.json"
}

func (c *copying) one(from, to string) error {
	in, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return err
	}
	c.bytes, c.files = c.bytes+st.Size(), c.files+1
	if is, err := os.Stat(to); err == nil && is.Size() == st.Size() {
		return nil
	}
	tmp := to + ".part"
	out, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	// A segment may grow meanwhile: what is in it after the snapshot nobody refers to.
	n, err := io.CopyBuffer(struct{ io.Writer }{out}, io.LimitReader(in, st.Size()), c.buf)
	if err = errors.Join(err, out.Close()); err == nil {
		err = os.Chtimes(tmp, time.Now(), st.ModTime())
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp))
	}
	c.newBytes, c.newFiles = c.newBytes+n, c.newFiles+1
	c.told(n)
	if c.pending = append(c.pending, to); len(c.pending) == settleMost {
		return c.settle()
	}
	return nil
}
