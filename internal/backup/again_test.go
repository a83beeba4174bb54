package backup_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// backedUp makes a service with some objects, each of 600,000 bytes, and a backup of it.
func backedUp(t *testing.T, objects int) (s *harness.Running, folder string) {
	t.Helper()
	s = harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	for i := range objects {
		b := content(uint64(i), 600_000)
		if _, err := c.Put(t.Context(), "plates", fmt.Sprint("k/", i), bytes.NewReader(b), int64(len(b)),
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	folder = filepath.Join(open(t), "backups")
	made(t, s, folder)
	return s, folder
}

func made(t *testing.T, s *harness.Running, folder string) *backup.Manifest {
	t.Helper()
	m, err := (&backup.Making{Data: s.Config.Data, Database: s.Config.Database, Folder: folder, Passphrase: words,
		Log: harness.Silent()}).Make(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// reads starts a service on restored data, and counts the objects that are what they were.
func reads(t *testing.T, data string, objects int) (good int) {
	t.Helper()
	c := kept(t, data, "").Client()
	for i := range objects {
		o, err := c.Get(t.Context(), "plates", fmt.Sprint("k/", i), "", 0, "")
		if err != nil {
			continue
		}
		var b bytes.Buffer
		_, err = b.ReadFrom(o.Body)
		o.Body.Close()
		if err == nil && bytes.Equal(b.Bytes(), content(uint64(i), 600_000)) {
			good++
		}
	}
	return good
}

// A restore that is stopped in the middle, or meets a full disk, is said again and ends well; until then the service
// does not start on it, and no other backup is restored over it.
func TestARestoreIsSaidAgain(t *testing.T) {
	t.Parallel()
	s, folder := backedUp(t, 40)
	time.Sleep(time.Second) // backups are known by their second
	last := made(t, s, folder)
	list, err := backup.List(folder)
	if err != nil || len(list) != 2 {
		t.Fatalf("%d backups, %v", len(list), err)
	}
	disk := open(t)
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=80m,mode=0711"); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	data := filepath.Join(disk, "data")
	restore := func(ctx context.Context, change func(*backup.Restoring)) error {
		in := &backup.Restoring{Folder: folder, Data: data, Passphrase: words, Log: harness.Silent()}
		if change != nil {
			change(in)
		}
		_, err := in.Restore(ctx)
		return err
	}
	unfinished := func(what string) {
		t.Helper()
		if err := backup.Begun(data); !fault.HasCode(err, "restore-unfinished") {
			t.Errorf("%s: %v", what, err)
		}
		cfg := s.Config
		cfg.Data, cfg.Database = data, ""
		if _, err := service.Start(t.Context(), cfg, harness.Silent()); !fault.HasCode(err, "restore-unfinished") {
			t.Errorf("%s: the service starts: %v", what, err)
		}
		if err := restore(t.Context(), func(r *backup.Restoring) { r.Name = list[1].Name }); !fault.HasCode(err,
			"restore-unfinished") {
			t.Errorf("%s: another backup is restored over it: %v", what, err)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	if err := restore(ctx, func(r *backup.Restoring) {
		r.Progress = func(what string, _ int64) {
			if what == "main" {
				stop()
			}
		}
	}); !errors.Is(err, context.Canceled) && fault.KindOf(err) != fault.Unavailable {
		t.Errorf("stopped while bodies are copied: %v", err)
	}
	unfinished("stopped while bodies are copied")
	fill := filepath.Join(disk, "of another program")
	if err := os.WriteFile(fill, make([]byte, 24<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := restore(t.Context(), nil); err == nil {
		t.Error("it is restored onto a disk that is full")
	}
	unfinished("on a full disk")
	if err := os.Remove(fill); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", unix.MS_REMOUNT, "size=200m"); err != nil {
		t.Fatal(err)
	}
	if err := restore(t.Context(), func(r *backup.Restoring) { r.Name = last.Name }); err != nil {
		t.Fatal(err)
	}
	if n := reads(t, data, 40); n != 40 {
		t.Errorf("%d of 40 objects are what they were", n)
	}
}

// A restore whose folder lacks bodies counts and names them before it copies any; with Anyway the rest comes back.
func TestARestoreTellsWhatIsMissing(t *testing.T) {
	t.Parallel()
	_, folder := backedUp(t, 10)
	some := wholes(t, filepath.Join(folder, "volumes"))
	if len(some) != 10 {
		t.Fatal(len(some))
	}
	for _, path := range some[:4] {
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
	in := &backup.Restoring{Folder: folder, Data: filepath.Join(open(t), "data"), Passphrase: words, Log: harness.Silent()}
	if _, err := in.Restore(t.Context()); !fault.HasCode(err, "backup-incomplete") ||
		!strings.Contains(err.Error(), "4 of 10 bodies") || !strings.Contains(err.Error(), "k/") {
		t.Errorf("%v", err)
	}
	if copied := wholes(t, in.Data); len(copied) > 0 {
		t.Errorf("%d bodies were copied all the same", len(copied))
	}
	in.Anyway = true
	r, err := in.Restore(t.Context())
	if err != nil || r.Lost != 4 {
		t.Fatalf("%+v, %v", r, err)
	}
	if n := reads(t, in.Data, 10); n != 6 {
		t.Errorf("%d of 10 objects are what they were", n)
	}
}

// A folder into which backups were made, and which is away, is not made anew in its place.
func TestTheFolderOfBackupsIsAway(t *testing.T) {
	t.Parallel()
	s, folder := backedUp(t, 1)
	in := &backup.Making{Data: s.Config.Data, Database: s.Config.Database, Folder: folder, Passphrase: words,
		Log: harness.Silent()}
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	if _, err := in.Make(t.Context()); !fault.HasCode(err, "backup-folder-away") {
		t.Errorf("away: %v", err)
	}
	if _, err := os.Stat(folder); err == nil {
		t.Error("it was made")
	}
	if err := os.Mkdir(folder, 0o700); err != nil { // where its disk is to be mounted
		t.Fatal(err)
	}
	if _, err := in.Make(t.Context()); !fault.HasCode(err, "backup-folder-away") {
		t.Errorf("an empty mount point: %v", err)
	}
	if list, err := os.ReadDir(folder); err != nil || len(list) > 0 {
		t.Errorf("in the mount point is %v, %v", list, err)
	}
	in.NewFolder = true
	if _, err := in.Make(t.Context()); err != nil {
		t.Errorf("anew: %v", err)
	}
	in.NewFolder = false
	time.Sleep(time.Second)
	if _, err := in.Make(t.Context()); err != nil {
		t.Errorf("into the new one: %v", err)
	}
}
