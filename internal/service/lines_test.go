package service_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// heldBy names the tests that hold each line of "When something is wrong" in docs/operations.md: those that do what the
// line says to a real service, disk or database, and see what it promises.
var heldBy = map[string]string{
	"requests answer 503, `/readyz` too":                                         "TestTheDatabaseDies TestReadinessIsAWrite",
	"writes take 20 seconds and succeed, or end in 503":                          "TestFrozenConnections",
	"503 \"outcome-unknown\"":                                                    "TestALostAnswerIsLookedUp TestALostBatch",
	"503 \"database-busy\"":                                                      "TestConnectionsAreTaken",
	"\"a volume is away\"":                                                       "TestStartsWithoutItsVolume",
	"507 InsufficientStorage":                                                    "TestAFullDiskIsEmptied TestFullDisk",
	"\"the volume's disk takes no writes: it is mounted read-only\"":             "TestStartsOnADiskThatTakesNoWrites",
	"\"no more files can be opened\"":                                            "TestNoMoreFiles",
	"\"the volume's disk reports an error\"":                                     "TestFaultsOfADiskAreTold TestShelvesOnFaultyDisks",
	"somebody removed or overwrote what has no versions":                         "TestRestoreAsOf",
	"\"the database's log is not kept\"":                                         "TestLogWhoseFolderIsAway",
	"the machine is gone, all but the backup":                                    "TestNothingAcknowledgedIsLost TestOrderOutlivesACluster",
	"\"the database's schema is number N; this version of the service knows M\"": "TestAnOlderProgramIsRefused",
	"`spindle object verify` says *unreadable*":                                  "TestDamageIsFoundAndMended",
	"an object is damaged, or its disk was mended":                               "TestDamageIsFoundAndMended",
	"a disk of a tier in pieces or copies is dead":                               "TestADeadVolumeIsTakenOut",
	"a tier says that bodies lack pieces":                                        "TestADiskThatTakesNoWrites TestADeadVolumeIsTakenOut",
	"the overview says an object is damaged":                                     "TestDamageIsFoundAndMended",
	"\"another service holds the data directory\"":                               "TestAnotherServiceHoldsIt",
	"nobody can sign in as operator any more":                                    "TestALostPassword",
	"SlowDown, \"too many signatures with this key were wrong\"":                 "TestWrongSignaturesAreMeasured",
	"connections are closed at once":                                             "TestConnectionsLeaveRoom",
	"SlowDown, \"too many large answers or documents are under way\"":            "TestListingsNobodyReads TestDocumentsCostWhatTheyMay",
	"the overview says the database's clock jumped":                              "TestTheClockJumps TestNothingAcknowledgedIsLost",
	"the overview says the clock is ahead of, or behind, the database":           "TestNothingAcknowledgedIsLost",
	"an order fails with \"may act here no more\"":                               "TestAnOrderEndsWithItsGiver",
	"the master key is missing or wrong":                                         "TestTheMasterKeyIsMissing",
}

// Each line of the table has a test that is there; a new line needs one.
func TestEveryLineIsHeld(t *testing.T) {
	b, err := os.ReadFile("../../docs/operations.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(b), "## When something is wrong\n")
	table, _, _ = strings.Cut(table, "\n## ")
	var tests strings.Builder
	files, err := filepath.Glob("../*/*_test.go")
	deeper, derr := filepath.Glob("../*/*/*_test.go")
	if err != nil || derr != nil {
		t.Fatal(err, derr)
	}
	for _, f := range append(files, deeper...) {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		tests.Write(b)
	}
	lines := regexp.MustCompile(`(?m)^\| (.+?) \| `).FindAllStringSubmatch(table, -1)
	n := 0
	for _, l := range lines {
		if l[1] == "what you see" || l[1] == "---" {
			continue
		}
		held := ""
		for begins, by := range heldBy {
			if strings.HasPrefix(l[1], begins) {
				held = by
				n++
			}
		}
		if held == "" {
			t.Errorf("no test holds the line %q", l[1])
		}
		for _, name := range strings.Fields(held) {
			if !strings.Contains(tests.String(), "func "+name+"(t *testing.T)") {
				t.Errorf("%q is held by %s, which is not there", l[1], name)
			}
		}
	}
	if n != len(heldBy) || n < 20 {
		t.Errorf("%d lines, and tests for %d", n, len(heldBy))
	}
}

// running starts a service of its own with a bucket.
func running(t *testing.T, flags ...string) *process {
	t.Helper()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	if err := p.start(flags...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	p.command("bucket", "create", "plates")
	return p
}

// The private database dies: readiness says so while it lasts, and all goes on by itself.
func TestTheDatabaseDies(t *testing.T) {
	t.Parallel()
	p := running(t)
	putMany(t, p.client(), 0, 5)
	p.killDatabase()
	harness.Until(t, "it is ready again", func() bool {
		st, said := p.readiness()
		if st != http.StatusOK && (st != http.StatusServiceUnavailable || !strings.Contains(said, "database")) {
			t.Fatalf("readiness: %d %s", st, said)
		}
		return st == http.StatusOK
	})
	c := p.client()
	harness.Until(t, "all is read, and written", func() bool { // it may have been asked before it noticed
		for i := range 5 {
			o, err := c.Get(t.Context(), "plates", fmt.Sprintf("k/%04d", i), "", 0, "")
			if err == nil {
				_, err = io.Copy(io.Discard, o.Body)
				o.Body.Close()
			}
			if err != nil && fault.KindOf(err) != fault.Unavailable {
				t.Fatalf("object %d: %v", i, err)
			}
			if err != nil {
				return false
			}
		}
		_, err := c.Put(t.Context(), "plates", "new", strings.NewReader("x"), 1, client.Put{})
		return err == nil
	})
}

// The process may open no more files: it says so, with what to do, and goes on once it may.
func TestNoMoreFiles(t *testing.T) {
	t.Parallel()
	p := running(t)
	c := p.client()
	putMany(t, c, 0, 3)
	limit := func(n string) {
		t.Helper()
		pid := strings.TrimSpace(regexp.MustCompile(`\d+`).FindString(pidOf(p)))
		if out, err := exec.Command("prlimit", "--pid", pid, "--nofile="+n+":").CombinedOutput(); err != nil {
			t.Skipf("limits cannot be set here: %v %s", err, out)
		}
	}
	open, err := os.ReadDir(filepath.Join("/proc", pidOf(p), "fd"))
	if err != nil {
		t.Fatal(err)
	}
	limit(strconv.Itoa(len(open) - 1))
	big := bytes.Repeat([]byte("x"), 4<<20) // a file of its own
	_, err = c.Put(t.Context(), "plates", "big", bytes.NewReader(big), int64(len(big)), client.Put{})
	if err == nil || !strings.Contains(err.Error(), "no more files") && !strings.Contains(err.Error(), "database") {
		t.Errorf("a put: %v", err)
	}
	limit("1024")
	harness.Until(t, "it goes on", func() bool {
		_, err := c.Put(t.Context(), "plates", "big", bytes.NewReader(big), int64(len(big)), client.Put{})
		return err == nil
	})
}

func pidOf(p *process) string { return strconv.Itoa(p.cmd.Process.Pid) }

// A file of bodies is gone, one has another byte: verify says unreadable, the scrubber finds them and says what could
// mend them, the overview tells; when the disk is as it was the marks go.
func TestDamageIsFoundAndMended(t *testing.T) {
	t.Parallel()
	p := running(t)
	c := p.client()
	body := bytes.Repeat([]byte("damaged "), 1<<19)
	for _, key := range []string{"gone", "changed"} {
		if _, err := c.Put(t.Context(), "plates", key, bytes.NewReader(body), int64(len(body)), client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	files, err := filepath.Glob(filepath.Join(p.data, "volumes", "main", "whole", "*", "*.body"))
	if err != nil || len(files) != 2 {
		t.Fatalf("%d files of bodies, %v", len(files), err)
	}
	was, err := os.ReadFile(files[1])
	if err != nil {
		t.Fatal(err)
	}
	other := bytes.Clone(was)
	other[len(other)/2] ^= 1
	aside := filepath.Join(t.TempDir(), "aside")
	content, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{os.WriteFile(aside, content, 0o600), os.Remove(files[0]), os.WriteFile(files[1], other,
		0o600)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if out, err := p.try("scrub", "run", "plates"); err == nil || !strings.Contains(out, "0 sound, 2 damaged") {
		t.Errorf("the scrubber: %v %s", err, out)
	}
	for _, key := range []string{"gone", "changed"} {
		local := filepath.Join(t.TempDir(), key)
		if err := os.WriteFile(local, body, 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := p.try("object", "verify", local, "plates/"+key)
		if err == nil || !strings.Contains(out, "what is stored cannot be read") {
			t.Errorf("verify %s: %v %s", key, err, out)
		}
		if out := p.command("scrub", "show"); !strings.Contains(out, "plates/"+key) {
			t.Errorf("the scrubber does not tell of %s: %s", key, out)
		}
		if _, err := c.Get(t.Context(), "plates", key, "", 0, ""); err == nil {
			t.Errorf("%s is served", key)
		}
	}
	if out := p.overview(); strings.Count(out, "is damaged") != 2 {
		t.Errorf("the overview: %s", out)
	}
	for _, err := range []error{os.WriteFile(files[0], content, 0o600), os.WriteFile(files[1], was, 0o600)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	p.command("scrub", "run", "plates")
	if out := p.command("scrub", "show"); strings.Contains(out, "plates/") {
		t.Errorf("marks stay: %s", out)
	}
	for _, key := range []string{"gone", "changed"} {
		o, err := c.Get(t.Context(), "plates", key, "", 0, "")
		if err != nil {
			t.Fatalf("%s: %v", key, err)
		}
		got, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil || !bytes.Equal(got, body) {
			t.Errorf("%s: %v", key, err)
		}
	}
}

// overview asks the desk for the overview.
func (p *process) overview() string {
	p.t.Helper()
	r, err := http.NewRequest("GET", p.desk+"/api/v1/overview", nil)
	if err != nil {
		p.t.Fatal(err)
	}
	sign.SignDesk(r, sign.Credential{ID: ownerKey, Secret: ownerSecret}, "fenn", sign.EmptyHash, time.Now())
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return string(b)
}

// A second service on the same directory is refused, with who has it.
func TestAnotherServiceHoldsIt(t *testing.T) {
	t.Parallel()
	p := running(t)
	second := &process{t: t, bin: p.bin, data: p.data}
	err := second.start()
	if err == nil || !strings.Contains(err.Error(), "another service, process "+pidOf(p)) ||
		!strings.Contains(err.Error(), strings.TrimPrefix(p.desk, "http://")) {
		t.Errorf("a second one: %v", err)
	}
}

// A database that a newer program brought up to date is left alone by an older one.
func TestAnOlderProgramIsRefused(t *testing.T) {
	t.Parallel()
	url := harness.Database(t)
	p := running(t, "--database", url)
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	_ = p.cmd.Wait()
	db, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(t.Context(), `insert into goose_db_version (version_id, is_applied) values (99001, true)`); err != nil {
		t.Fatal(err)
	}
	err = p.start("--database", url)
	if err == nil || !strings.Contains(err.Error(), "number 99001; this version of the service knows") {
		t.Errorf("an older program: %v", err)
	}
}

// Without its master key, or with another one, a service does not start, and makes none.
func TestTheMasterKeyIsMissing(t *testing.T) {
	t.Parallel()
	p := running(t)
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	_ = p.cmd.Wait()
	path := filepath.Join(p.data, "master.key")
	was, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"missing": nil, "another": bytes.Repeat([]byte("b"), len(was))} {
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
		if content != nil {
			if err := os.WriteFile(path, content, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := p.start(); err == nil || !strings.Contains(err.Error(), "master key") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := os.Stat(path); content == nil && err == nil {
			t.Errorf("%s: a new one was made", name)
		}
		if err := os.WriteFile(path, was, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.start(); err != nil {
		t.Fatalf("with its key back: %v", err)
	}
}
