package backup_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/backup"
	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/postgres"
	"spindle/internal/service"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

const words = "moss and lichen on the roof"

func content(seed uint64, n int) []byte {
	r, b := rand.New(rand.NewPCG(seed, 9)), make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// written is what was acknowledged.
type written struct {
	mu   sync.Mutex
	seed map[string]uint64 // by key
}

func size(seed uint64) int { return int(1 + seed*7919%300_000) }

// write puts objects until it is told to stop, and notes what was acknowledged.
func (w *written) write(ctx context.Context, c *client.Client, from uint64) {
	for i := from; ctx.Err() == nil; i++ {
		key := fmt.Sprint("k/", i)
		b := content(i, size(i))
		if _, err := c.Put(ctx, "plates", key, bytes.NewReader(b), int64(len(b)), client.Put{}); err == nil {
			w.mu.Lock()
			w.seed[key] = i
			w.mu.Unlock()
		}
	}
}

func (w *written) copy() map[string]uint64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := map[string]uint64{}
	for k, v := range w.seed {
		out[k] = v
	}
	return out
}

// A service is copied while it is written to, brought back on an empty machine with a database
// of its own, and goes on: what was acknowledged before is there, usage is exact, quotas hold,
// the journal follows.
func TestBackupUnderLoadAndRestore(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) {
		c.Works.CollectGrace, c.Works.CollectEvery = time.Millisecond, 20*time.Millisecond
	})
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	w := &written{seed: map[string]uint64{}}
	var work sync.WaitGroup
	for i := range uint64(4) {
		work.Go(func() { w.write(ctx, c, i*1_000_000) })
	}
	work.Go(func() { // what is removed lets go of bodies, which the collector would take
		for ctx.Err() == nil {
			for key := range w.copy() {
				if !strings.HasSuffix(key, "7") || ctx.Err() != nil {
					continue
				}
				w.mu.Lock()
				delete(w.seed, key)
				w.mu.Unlock()
				_ = c.Remove(ctx, "plates", key) // which the end may cut off
			}
		}
	})
	harness.Until(t, "something is there", func() bool { return len(w.copy()) > 60 })
	folder := t.TempDir()
	before := w.copy()
	making := &backup.Making{Data: s.Config.Data, Database: s.Config.Database, Folder: folder, Passphrase: words,
		Log: harness.Silent()}
	first, err := making.Make(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if time.Now().Truncate(time.Second).Equal(first.Made) {
		time.Sleep(time.Second) // backups are known by their second
	}
	second, err := making.Make(t.Context())
	if err != nil || second.Copied > second.Volumes[0].Bytes-first.Copied/2 {
		t.Fatalf("the second copied %d bytes of %+v, the first %d: %v", second.Copied, second.Volumes, first.Copied, err)
	}
	stop()
	work.Wait()

	for _, m := range []*backup.Manifest{first, second} {
		r, err := (&backup.Checking{Folder: folder, Name: m.Name, All: true, Passphrase: words, Log: harness.Silent()}).
			Check(t.Context())
		if err != nil || r.Wrong > 0 || r.Bodies < 50 {
			t.Errorf("%s: %+v, %v", m.Name, r, err)
		}
	}
	data := filepath.Join(t.TempDir(), "data")
	if err := os.Chmod(filepath.Dir(filepath.Dir(data)), 0o711); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Dir(data), 0o711); err != nil {
		t.Fatal(err)
	}
	if _, err := (&backup.Restoring{Folder: folder, Name: first.Name, Data: data, Passphrase: words,
		Log: harness.Silent()}).Restore(t.Context()); err != nil {
		t.Fatal(err)
	}
	restored(t, data, before, w.copy())
	refusals(t, folder, data)
}

// restored starts what was restored, and goes on with it.
func restored(t *testing.T, data string, before, still map[string]uint64) {
	t.Helper()
	r, err := service.Start(t.Context(), service.Config{Data: data, Wire: "127.0.0.1:0", Desk: "127.0.0.1:0",
		Account: "herbarium"}, harness.Silent())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = r.Stop(context.WithoutCancel(t.Context())) }()
	c, err := client.New(r.WireURL, "fenn", sign.Credential{ID: harness.Key, Secret: harness.Secret})
	if err != nil {
		t.Fatal(err)
	}
	for key, seed := range before {
		if _, there := still[key]; !there {
			continue // it was removed afterwards, perhaps before the snapshot
		}
		o, err := c.Get(t.Context(), "plates", key, "", 0, "")
		if err != nil {
			t.Fatalf("%s, acknowledged before the backup: %v", key, err)
		}
		var b bytes.Buffer
		_, err = b.ReadFrom(o.Body)
		o.Body.Close()
		if err != nil || !bytes.Equal(b.Bytes(), content(seed, size(seed))) {
			t.Fatalf("%s is not what was acknowledged: %v", key, err)
		}
	}
	usage := func() catalog.Usage {
		b, err := r.Store.Catalog.Bucket(t.Context(), object.MustBucketName("plates"))
		if err != nil {
			t.Fatal(err)
		}
		return b.Usage
	}
	at := usage()
	for i := range 30 {
		if _, err := c.Put(t.Context(), "plates", fmt.Sprint("after/", i), strings.NewReader("leaf"), 4,
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	harness.Until(t, "the journal is read on", func() bool {
		page, err := r.Store.Catalog.Journal(t.Context(), catalog.JournalQuery{After: "0.0", Bucket: "plates",
			Prefix: "after/", Limit: 100})
		return err == nil && len(page.Entries) == 30 && page.UpTo.After(time.Now().Add(-time.Minute))
	})
	if now := usage(); now.Objects != at.Objects+30 || now.Bytes != at.Bytes+120 {
		t.Errorf("usage was %+v, is %+v", at, now)
	}
	db, err := sql.Open("pgx", "postgres://spindle@/postgres?sslmode=disable&host="+filepath.Join(data, "postgres", "run"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	harness.Until(t, "usage that was rolled up is what a recount says", func() bool {
		var objects, bytes, rolled, sum int64
		err := db.QueryRowContext(t.Context(), `select count(*), sum(h.size), u.objects, u.bytes from heads h
			join buckets b on b.id = h.bucket join usage_now u on u.bucket = b.id where b.name = 'plates' and not h.marker
			group by u.objects, u.bytes`).Scan(&objects, &bytes, &rolled, &sum)
		return err == nil && objects == rolled && bytes == sum && objects == usage().Objects
	})
	quota := usage().Bytes + 10
	if err := r.Store.ChangeBucket(t.Context(), object.MustBucketName("plates"), 0, catalog.Author{Who: "test"},
		bucket.Quota(&quota)); err != nil {
		t.Fatal(err)
	}
	for i, want := range []bool{true, true, false} {
		_, err := c.Put(t.Context(), "plates", fmt.Sprint("quota/", i), strings.NewReader("leaf!"), 5, client.Put{})
		if (err == nil) != want {
			t.Errorf("put %d under a quota: %v", i, err)
		}
	}
}

// wholes gives the bodies beneath a folder that are files of their own.
func wholes(t *testing.T, dir string) (some []string) {
	t.Helper()
	if err := filepath.WalkDir(dir+"/", func(path string, _ fs.DirEntry, err error) error {
		if strings.HasSuffix(path, ".body") {
			some = append(some, path)
		}
		if errors.Is(err, fs.ErrNotExist) { // the collector is at work
			return nil
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return some
}

// refusals tries what must not be done.
func refusals(t *testing.T, folder, data string) {
	t.Helper()
	restore := func(change func(*backup.Restoring)) error {
		in := &backup.Restoring{Folder: folder, Data: filepath.Join(t.TempDir(), "x"), Passphrase: words,
			Log: harness.Silent()}
		change(in)
		_, err := in.Restore(t.Context())
		return err
	}
	for code, change := range map[string]func(*backup.Restoring){
		"passphrase":     func(r *backup.Restoring) { r.Passphrase = "wrong" },
		"data-not-empty": func(r *backup.Restoring) { r.Data = data },
		"backup-missing": func(r *backup.Restoring) { r.Name = "2020-01-01T00-00-00Z" },
		"backup-folder":  func(r *backup.Restoring) { r.Folder = filepath.Join(folder, "none") },
	} {
		if err := restore(change); !fault.HasCode(err, code) {
			t.Errorf("%s: %v", code, err)
		}
	}
	list, err := backup.List(folder)
	if err != nil || len(list) != 2 {
		t.Fatalf("%d backups: %v", len(list), err)
	}
	// A body that is gone, and one that is not what it was, are found; a dump that is cut, too.
	some := wholes(t, filepath.Join(folder, "volumes"))
	if len(some) < 3 {
		t.Fatal(len(some))
	}
	for i, path := range some {
		if i%2 == 0 {
			err = errors.Join(err, os.Remove(path))
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	r, err := (&backup.Checking{Folder: folder, Passphrase: words, Log: harness.Silent()}).Check(t.Context())
	if err != nil || r.Wrong == 0 || len(r.First) == 0 {
		t.Errorf("bodies are gone: %+v, %v", r, err)
	}
	dump := filepath.Join(folder, list[0].Name, "database.dump")
	if err := os.Truncate(dump, 1000); err != nil {
		t.Fatal(err)
	}
	if err := restore(func(*backup.Restoring) {}); !fault.HasCode(err, "backup-dump") {
		t.Errorf("a catalog that was cut: %v", err)
	}
}

// kept is a service with a database of its own, whose log is kept in the folder of backups.
func kept(t *testing.T, data, folder string) *harness.Running {
	return harness.Service(t, func(c *service.Config) {
		c.Data, c.Database = data, ""
		if folder != "" {
			c.KeepLog = backup.LogFolder(folder)
		}
	})
}

// open is a folder that the database's user may pass through.
func open(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, d := range []string{filepath.Dir(dir), dir} {
		if err := os.Chmod(d, 0o711); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// A service whose database's log is kept comes back as it was at a moment between two backups:
// what was put, replaced and removed later is as if it had not been.
func TestRestoreAsOf(t *testing.T) {
	folder, data := open(t), filepath.Join(open(t), "it's 50% full")
	s := kept(t, data, folder)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	put := func(key string, seed uint64) {
		t.Helper()
		b := content(seed, size(seed))
		if _, err := c.Put(t.Context(), "plates", key, bytes.NewReader(b), int64(len(b)), client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	early := time.Now()
	put("before", 1)
	making := &backup.Making{Data: data, Folder: folder, Passphrase: words, Log: harness.Silent()}
	first, err := making.Make(t.Context())
	if err != nil || first.Base == nil {
		t.Fatalf("%+v, %v", first, err)
	}
	harness.Until(t, "moments can be come to", func() bool { return time.Now().After(first.Base.Ready) })
	for i := range uint64(300) {
		put(fmt.Sprint("between/", i), 10+i)
	}
	at := s.Store.Catalog.Now()
	put("before", 2)
	put("after", 3)
	givenUp := s.Store.Catalog.Now()
	if err := c.Remove(t.Context(), "plates", "between/7"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second) // backups are known by their second
	if _, err := making.Make(t.Context()); err != nil {
		t.Fatal(err)
	}
	late := time.Now().Add(time.Second)
	if from, to, ok, err := backup.Moments(folder); !ok || err != nil || from.After(at) || to.Before(at) {
		t.Errorf("moments from %s to %s, %v, and %s is not one of them", from, to, ok, at)
	}
	if err := s.Stop(t.Context()); err != nil { // the machine is gone
		t.Fatal(err)
	}
	restore := func(to time.Time, change func(*backup.Restoring)) (*backup.Restored, string, error) {
		in := &backup.Restoring{Folder: folder, Data: filepath.Join(open(t), "it's 5% full"), Passphrase: words, AsOf: to,
			Log: harness.Silent()}
		change(in)
		r, err := in.Restore(t.Context())
		return r, in.Data, err
	}
	nothing := func(*backup.Restoring) {}
	for code, try := range map[string]struct {
		to     time.Time
		change func(*backup.Restoring)
	}{
		"moment-early": {early, nothing},
		"moment-late":  {late, nothing},
		"moment-alone": {at, func(r *backup.Restoring) { r.Name = first.Name }},
	} {
		if _, _, err := restore(try.to, try.change); !fault.HasCode(err, code) {
			t.Errorf("%s: %v", code, err)
		}
	}
	spoiledLog(t, folder, first, func() error { _, _, err := restore(at, nothing); return err })
	r, restoredTo, err := restore(at, nothing)
	if err != nil || r.Lost != 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	s = kept(t, restoredTo, folder)
	c = s.Client()
	is := func(key string, seed uint64) {
		t.Helper()
		o, err := c.Get(t.Context(), "plates", key, "", 0, "")
		if err != nil {
			t.Fatalf("%s: %v", key, err)
		}
		defer o.Body.Close()
		var b bytes.Buffer
		if _, err := b.ReadFrom(o.Body); err != nil || !bytes.Equal(b.Bytes(), content(seed, size(seed))) {
			t.Errorf("%s is not what it was at the moment: %v", key, err)
		}
	}
	is("before", 1)
	for i := range uint64(300) {
		is(fmt.Sprint("between/", i), 10+i)
	}
	if _, err := c.Get(t.Context(), "plates", "after", "", 0, ""); fault.KindOf(err) != fault.NotFound {
		t.Errorf("what came later: %v", err)
	}
	put("after the restore", 4)
	is("after the restore", 4)

	// The database lives on beside what it was after the moment, until the next backup.
	if err := s.Store.Catalog.HandOnLog(t.Context(), time.Minute); err != nil {
		t.Fatal(err)
	}
	_, restoredTo, err = restore(givenUp, nothing)
	if err != nil {
		t.Fatal(err)
	}
	on := s.Store.Catalog.Now()
	c = kept(t, restoredTo, "").Client()
	is("before", 2)
	is("after", 3)
	time.Sleep(time.Second)
	if _, err := (&backup.Making{Data: s.Config.Data, Folder: folder, Passphrase: words, Log: harness.Silent()}).Make(
		t.Context()); err != nil {
		t.Fatal(err)
	}
	_, restoredTo, err = restore(on, nothing)
	if err != nil {
		t.Fatal(err)
	}
	c = kept(t, restoredTo, "").Client()
	is("before", 1)
	is("after the restore", 4)
	if _, err := c.Get(t.Context(), "plates", "after", "", 0, ""); fault.KindOf(err) != fault.NotFound {
		t.Errorf("what was given up: %v", err)
	}

	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	logs, _ := filepath.Glob(filepath.Join(backup.LogFolder(folder), "*", "*.history.gz"))
	if len(logs) != 1 {
		t.Fatalf("where lines branched off is kept in %q", logs)
	}
	if err := os.WriteFile(logs[0], []byte("another's"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := backup.Moments(folder); !fault.HasCode(err, "backup-log") {
		t.Errorf("a log that cannot be read: %v", err)
	}
	if _, err := postgres.StartWith(t.Context(), filepath.Join(s.Config.Data, "postgres"), harness.Silent(),
		postgres.Settings{KeepLog: backup.LogFolder(folder)}); !fault.HasCode(err, "log-folder") {
		t.Errorf("a log kept where another database's is: %v", err)
	}
}

// spoiledLog has a restore fail, rather than bring back less, when files of the log are exchanged, cut or gone.
func spoiledLog(t *testing.T, folder string, base *backup.Manifest, restore func() error) {
	t.Helper()
	dir := filepath.Join(backup.LogFolder(folder), base.Base.Cluster)
	first, next := filepath.Join(dir, base.Base.To+".gz"), ""
	files, err := filepath.Glob(filepath.Join(dir, "*.gz"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if f > first && next == "" && len(filepath.Base(f)) == len(filepath.Base(first)) {
			next = f
		}
	}
	was := map[string][]byte{}
	for _, f := range []string{first, next} {
		if was[f], err = os.ReadFile(f); err != nil {
			t.Fatal(err)
		}
	}
	for what, lies := range map[string][2][]byte{"exchanged": {was[next], was[first]}, "cut": {was[first],
		was[next][:1000]}} {
		for i, f := range []string{first, next} {
			if err := os.WriteFile(f, lies[i], 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := restore(); err == nil {
			t.Errorf("files of the log are %s, and it is restored all the same", what)
		}
	}
	for f, b := range was {
		if err := os.WriteFile(f, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// A backup for which the disk has no room leaves nothing but bodies that were copied whole, which
// the next one need not copy.
func TestBackupOnAFullDiskAndTwoAtOnce(t *testing.T) {
	disk := t.TempDir()
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=3m"); err != nil {
		t.Skipf("no small disk can be made: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	data := filepath.Join(open(t), "data")
	c := kept(t, data, "").Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	for i := range uint64(5) {
		if _, err := c.Put(t.Context(), "plates", fmt.Sprint("k/", i), bytes.NewReader(content(i, 900_000)), 900_000,
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	making := &backup.Making{Data: data, Folder: disk, Passphrase: words, Log: harness.Silent()}
	if _, err := making.Make(t.Context()); err == nil || !strings.Contains(err.Error(), "no space left") {
		t.Errorf("a backup on a full disk: %v", err)
	}
	if left, err := filepath.Glob(filepath.Join(disk, "2*")); err != nil || len(left) != 0 {
		t.Errorf("half a backup is left: %q, %v", left, err)
	}
	if err := os.Mkdir(filepath.Join(disk, "2026-01-01T00-00-00Z"), 0o700); err != nil { // as a kill leaves it
		t.Fatal(err)
	}
	if left, err := backup.Unfinished(disk); err != nil || len(left) != 1 {
		t.Errorf("not finished: %q, %v", left, err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", unix.MS_REMOUNT, "size=30m"); err != nil {
		t.Fatal(err)
	}
	var second error
	making.Progress = func(string, int64) { // while one is made, no other is into the same folder
		_, second = (&backup.Making{Data: data, Folder: disk, Passphrase: words, Log: harness.Silent()}).Make(t.Context())
	}
	m, err := making.Make(t.Context())
	if !fault.HasCode(second, "backup-under-way") {
		t.Errorf("a second one at once: %v", second)
	}
	if err != nil || m.Copied >= 5*900_000 {
		t.Fatalf("once there is room: %+v, %v", m, err)
	}
	r, err := (&backup.Checking{Folder: disk, All: true, Passphrase: words, Log: harness.Silent()}).Check(t.Context())
	if err != nil || r.Wrong != 0 || r.Bodies != 5 {
		t.Errorf("%+v, %v", r, err)
	}
}

// A log whose folder is away is told of, and stops no writes; a backup does not wait for it for
// ever, nothing is made where the folder should be, and it is kept on once that is back.
func TestLogWhoseFolderIsAway(t *testing.T) {
	folder, data := open(t), filepath.Join(open(t), "data")
	s := kept(t, data, folder)
	logs := backup.LogFolder(folder)
	if err := os.Rename(logs, logs+".aside"); err != nil {
		t.Fatal(err)
	}
	away := func(s *harness.Running) {
		t.Helper()
		if err := s.Store.Catalog.HandOnLog(t.Context(), 2*time.Second); !fault.HasCode(err, "log-late") {
			t.Errorf("the folder of the log is away: %v", err)
		}
		harness.Until(t, "the overview tells of it", func() bool {
			return strings.Contains(s.Ask("/api/v1/overview"), `"is not kept"`)
		})
		if err := s.Client().CreateBucket(t.Context(), fmt.Sprint("plates-", time.Now().UnixNano())); err != nil {
			t.Errorf("writes go on: %v", err)
		}
	}
	away(s)
	if err := s.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	s = kept(t, data, folder)
	away(s)
	if _, err := os.Stat(logs); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("something was made where the folder should be: %v", err)
	}
	if err := os.Rename(logs+".aside", logs); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it is kept on", func() bool {
		return s.Store.Catalog.HandOnLog(t.Context(), 2*time.Second) == nil &&
			!strings.Contains(s.Ask("/api/v1/overview"), `"is not kept"`)
	})
}
