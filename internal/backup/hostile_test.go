package backup_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/postgres"
)

// What somebody put into a folder of backups is refused by its proof; and where the proof is
// waived, it still runs nothing: neither a function that the dump brings nor a statement in it.
func TestHostileBackup(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/k", nil, "content", true)
	folder := open(t)
	make := func() *backup.Manifest {
		t.Helper()
		m, err := (&backup.Making{Data: s.Config.Data, Database: s.Config.Database, Folder: folder, Passphrase: words,
			Log: harness.Silent()}).Make(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	m := make()
	dir := filepath.Join(folder, m.Name)
	marks, err := os.MkdirTemp("", "spindle-hostile-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(marks) })
	if err := os.Chmod(marks, 0o777); err != nil {
		t.Fatal(err)
	}
	check := func(unproved bool) error {
		_, err := (&backup.Checking{Folder: folder, Name: m.Name, Passphrase: words, Unproved: unproved,
			Log: harness.Silent()}).Check(t.Context())
		return err
	}
	if err := check(false); err != nil {
		t.Fatalf("untouched: %v", err)
	}
	whole := map[string][]byte{}
	for _, name := range []string{"manifest.json", "manifest.proof", "database.dump"} {
		if whole[name], err = os.ReadFile(filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	put := func(name string, b []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	// exchanged puts another dump in place, with a manifest to fit.
	exchanged := func(dump []byte) {
		t.Helper()
		put("database.dump", dump)
		var doc map[string]any
		if err := json.Unmarshal(whole["manifest.json"], &doc); err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(dump)
		doc["dump"], doc["size"] = hex.EncodeToString(sum[:]), len(dump)
		b, err := json.Marshal(doc)
		if err != nil {
			t.Fatal(err)
		}
		put("manifest.json", b)
	}
	ran := func(what string) {
		t.Helper()
		left, err := os.ReadDir(marks)
		if err != nil || len(left) > 0 {
			t.Fatalf("%s: the dump ran a program: %v, %v", what, left, err)
		}
	}
	for what, dump := range map[string][]byte{
		"a function in a check": withFunction(t, filepath.Join(dir, "database.dump"), marks),
		"a statement for data":  withStatement(t, whole["database.dump"], marks),
	} {
		exchanged(dump)
		if err := check(false); !fault.HasCode(err, "backup-unproved") {
			t.Errorf("%s: %v", what, err)
		}
		if _, err := (&backup.Restoring{Folder: folder, Data: filepath.Join(open(t), "x"), Passphrase: words,
			Log: harness.Silent()}).Restore(t.Context()); !fault.HasCode(err, "backup-unproved") {
			t.Errorf("%s, restored: %v", what, err)
		}
		ran(what)
		err := check(true)
		t.Logf("%s, unproved: %v", what, err)
		ran(what + ", unproved")
	}
	put("database.dump", whole["database.dump"])
	put("manifest.json", whole["manifest.json"])
	// Paths in a manifest, another backup's manifest, and none that proves.
	for what, change := range map[string]func(){
		"a marker that leads out": func() {
			put("manifest.json", bytes.Replace(whole["manifest.json"], []byte(`"marker": "`), []byte(`"marker": "../../`), 1))
		},
		"another moment": func() {
			put("manifest.json", bytes.Replace(whole["manifest.json"], []byte(m.Name), []byte("2020-01-01T00-00-00Z"), 1))
		},
		"no proof":       func() { _ = os.Remove(filepath.Join(dir, "manifest.proof")) },
		"an empty proof": func() { put("manifest.proof", nil) },
		"a manifest without end": func() {
			put("manifest.json", append(whole["manifest.json"], bytes.Repeat([]byte(" "), 9<<20)...))
		},
	} {
		change()
		if err := check(false); err == nil {
			t.Errorf("%s: taken", what)
		}
		put("manifest.json", whole["manifest.json"])
		put("manifest.proof", whole["manifest.proof"])
	}
	// A second backup's files in the first one's folder.
	later := make()
	for _, name := range []string{"manifest.json", "manifest.proof", "database.dump", "master.key.age", "bodies.gz"} {
		b, err := os.ReadFile(filepath.Join(folder, later.Name, name))
		if err != nil {
			t.Fatal(err)
		}
		put(name, b)
	}
	if err := check(false); !fault.HasCode(err, "backup-unproved") {
		t.Errorf("another backup's files: %v", err)
	}
}

// program runs one of the database's programs.
func program(t *testing.T, name string, args ...string) {
	t.Helper()
	bin, err := postgres.Programs()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(filepath.Join(bin, name), args...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", name, err, out)
	}
}

// withFunction gives a dump whose table checks its rows by a function that runs a program.
func withFunction(t *testing.T, dump, marks string) []byte {
	t.Helper()
	url := harness.EmptyDatabase(t)
	program(t, "pg_restore", "--no-owner", "--no-privileges", "--dbname="+url, dump)
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, q := range []string{
		fmt.Sprintf(`create function seems(n bigint) returns boolean language plpgsql as $f$ begin
			copy (select 1) to program 'touch %s/function'; return true; end $f$`, marks),
		`alter table buckets add constraint seems_so check (seems(id)) not valid`,
		`create trigger seems_too before insert on accounts for each row execute function suppress_redundant_updates_trigger()`,
	} {
		if _, err := db.ExecContext(context.Background(), q); err != nil && !strings.Contains(q, "trigger") {
			t.Fatal(err)
		}
	}
	out := filepath.Join(t.TempDir(), "dump")
	program(t, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--file="+out, url)
	b, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// withStatement gives a dump in which a program stands in place of the statement that a table's
// data are written by, as long as that was.
func withStatement(t *testing.T, dump []byte, marks string) []byte {
	t.Helper()
	from := bytes.Index(dump, []byte("COPY public.buckets ("))
	if from < 0 {
		t.Fatal("the dump has no statement for buckets")
	}
	to := from + bytes.Index(dump[from:], []byte(";"))
	says := fmt.Sprintf("COPY public.buckets FROM PROGRAM 'touch %s/statement'", marks)
	if len(says) > to-from {
		t.Fatalf("%q is longer than what was there", says)
	}
	out := bytes.Clone(dump)
	copy(out[from:to], says+strings.Repeat(" ", to-from-len(says)))
	return out
}
