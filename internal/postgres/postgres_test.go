package postgres_test

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"

	"spindle/internal/core/fault"
	"spindle/internal/postgres"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "spindle-pg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return dir
}

func start(t *testing.T, dir string) *postgres.Server {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	s, err := postgres.Start(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func query(t *testing.T, s *postgres.Server, q string) string {
	t.Helper()
	db, err := sql.Open("pgx", s.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var out string
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if err = db.QueryRow(q).Scan(&out); err == nil || err == sql.ErrNoRows {
			return out
		}
		if time.Now().After(end) {
			t.Fatalf("%s: %v", q, err)
		}
	}
}

func TestAServerKeepsItsDataAndComesBack(t *testing.T) {
	dir := filepath.Join(folder(t), "postgres")
	s := start(t, dir)
	db, err := sql.Open("pgx", s.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("create table kept as select 'yes'::text as v"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if got := query(t, s,
		"select current_setting('listen_addresses') || current_setting('fsync') || current_setting('synchronous_commit')"); got != "onon" {
		t.Errorf("settings: %q", got)
	}
	// Killed, it is started again.
	pid := s.PID()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); s.PID() == pid || s.PID() == 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it is not started again")
		}
	}
	query(t, s, "select 1::text")
	s.Stop()
	if s.PID() != 0 {
		t.Error("it runs on after Stop")
	}
	s = start(t, dir)
	defer s.Stop()
	if got := query(t, s, "select v from kept"); got != "yes" {
		t.Errorf("after kill and restart: %q", got)
	}
}

func TestOneLeftByACrashIsStopped(t *testing.T) {
	dir := filepath.Join(folder(t), "postgres")
	left := start(t, dir)
	pid := left.PID()
	s := start(t, dir) // as after a crash: the first is still there
	defer s.Stop()
	defer left.Stop()
	b, err := os.ReadFile(filepath.Join(dir, "cluster", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	first, _, _ := strings.Cut(string(b), "\n")
	if now, err := strconv.Atoi(first); err != nil || now == pid {
		t.Errorf("process %d still has the cluster, %v", now, err)
	}
}

func TestALongPathFindsAPlaceForItsSocket(t *testing.T) {
	dir := filepath.Join(folder(t), strings.Repeat("long/", 25), "postgres")
	for d := dir; len(d) > 5; d = filepath.Dir(d) { // passable for the database's user
		if err := os.MkdirAll(d, 0o711); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(d, "spindle-pg-") {
			if err := os.Chmod(d, 0o711); err != nil {
				t.Fatal(err)
			}
		}
	}
	s := start(t, dir)
	defer s.Stop()
	if query(t, s, "select 'there'") != "there" {
		t.Error("no answer")
	}
	s.Stop()
	// What is in the place of the socket's folder meanwhile, as a planted link, is not taken.
	at, err := os.ReadFile(filepath.Join(dir, "run.at"))
	if err != nil {
		t.Fatal(err)
	}
	run := strings.TrimSpace(string(at))
	target := t.TempDir()
	before, err := os.Stat(target)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.RemoveAll(run), os.Symlink(target, run)); err != nil {
		t.Fatal(err)
	}
	defer os.Remove(run)
	again := start(t, dir)
	defer again.Stop()
	if query(t, again, "select 'there'") != "there" {
		t.Error("no answer")
	}
	after, err := os.Stat(target)
	if err != nil || before.Sys().(*syscall.Stat_t).Uid != after.Sys().(*syscall.Stat_t).Uid {
		t.Errorf("what a planted link leads to was given away: %v", err)
	}
	if now, err := os.ReadFile(filepath.Join(dir, "run.at")); err != nil || strings.TrimSpace(string(now)) == run {
		t.Errorf("the planted link is used: %s, %v", now, err)
	}
}

func TestAFolderThatMayNotBePassedIsNamed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root hands the database to another user")
	}
	closed := filepath.Join(folder(t), "closed")
	if err := os.Mkdir(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	_, err := postgres.Start(t.Context(), filepath.Join(closed, "postgres"), slog.New(slog.DiscardHandler))
	if !fault.HasCode(err, "data-directory") || !strings.Contains(err.Error(), closed) {
		t.Errorf("got %v", err)
	}
}

// A log that is kept is handed on within the time that was asked for from the start on, as the folder shows, and again
// after the server died; with the folder away the server says soon that it fails.
func TestTheLogIsHandedOnInTime(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	keep := filepath.Join(dir, "log")
	s, err := postgres.StartWith(t.Context(), filepath.Join(dir, "postgres"), slog.New(slog.DiscardHandler),
		postgres.Settings{KeepLog: keep, KeepEvery: 3 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	write := func() { query(t, s, "select pg_create_restore_point('x')::text") }
	files := func() int {
		list, err := filepath.Glob(filepath.Join(keep, "*", "*.gz"))
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	more := func(what string) {
		t.Helper()
		for was, end := files(), time.Now().Add(30*time.Second); files() <= was; time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s: nothing is handed on", what)
			}
		}
	}
	write()
	more("from the start on")
	write()
	more("again")
	if err := os.Rename(keep, keep+".away"); err != nil {
		t.Fatal(err)
	}
	write()
	failed := func() bool { return query(t, s, "select failed_count::text from pg_stat_archiver") != "0" }
	for end := time.Now().Add(30 * time.Second); !failed(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the folder is away, and nothing fails")
		}
	}
}
