package harness

import (
	"bytes"
	"context"
	"crypto/cipher"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver of the administration's connection
	"golang.org/x/sys/unix"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/seal"
	"spindle/internal/keyring"
	"spindle/internal/postgres"
	"spindle/internal/service"
	"spindle/internal/store"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
	"spindle/internal/works"
)

// Fixed credentials of services under test.
const (
	Key    = "TESTOWNER"
	Secret = "a-secret-for-tests"
)

var cluster struct {
	once   sync.Once
	dir    string
	server *postgres.Server
	admin  *sql.DB
	copied string // how a template is copied
	err    error
	number atomic.Int64

	dropping sync.WaitGroup
}

// Main runs a package's tests, removes the cluster afterwards, and fails when a
// secret that the run used is in what was logged:
//
//	func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }
func Main(m *testing.M) int {
	code := m.Run()
	if cluster.server != nil {
		cluster.dropping.Wait()
		cluster.admin.Close()
		cluster.server.Stop()
		os.RemoveAll(cluster.dir)
	}
	removeBinaries()
	closeBrowser()
	for _, l := range leaks() {
		fmt.Println("FAIL:", l)
		code = 1
	}
	return code
}

func start() {
	cluster.err = func() error {
		var err error
		if cluster.dir, err = os.MkdirTemp("", "spindle-test-"); err != nil {
			return err
		}
		if err := os.Chmod(cluster.dir, 0o711); err != nil { // the database's user passes through
			return err
		}
		var disk unix.Statfs_t
		if err := unix.Statfs(cluster.dir, &disk); err != nil {
			return err
		}
		if disk.Type == unix.TMPFS_MAGIC { // on a disk, writing it to the log is quicker than making 900 files
			cluster.copied = " strategy file_copy"
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if cluster.server, err = postgres.Start(ctx, filepath.Join(cluster.dir, "postgres"), Silent()); err != nil {
			return err
		}
		if cluster.admin, err = sql.Open("pgx", cluster.server.URL("postgres")); err != nil {
			return err
		}
		// Processes are killed in tests, the machine is not: what the kernel has taken is
		// there. So a slow disk delays nobody.
		for _, do := range []string{"alter system set fsync = off", "alter system set max_wal_size = '256MB'",
			"select pg_reload_conf()", "create database spindle_template"} {
			if _, err := cluster.admin.Exec(do); err != nil {
				return err
			}
		}
		c, err := catalog.Open(ctx, cluster.server.URL("spindle_template"))
		if err != nil {
			return err
		}
		return c.Close()
	}()
}

// Database makes a fresh database with the schema and gives its address.
func Database(t testing.TB) string {
	t.Helper()
	return database(t, "spindle_template")
}

// EmptyDatabase makes a fresh database without a schema.
func EmptyDatabase(t testing.TB) string {
	t.Helper()
	return database(t, "template0")
}

func database(t testing.TB, template string) string {
	t.Helper()
	cluster.once.Do(start)
	if cluster.err != nil {
		t.Fatalf("the test database: %v", cluster.err)
	}
	name := fmt.Sprintf("t%d", cluster.number.Add(1))
	if _, err := cluster.admin.Exec("create database " + name + " template " + template + cluster.copied); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cluster.dropping.Go(func() {
			if _, err := cluster.admin.Exec("drop database " + name + " with (force)"); err != nil {
				fmt.Println("a database of a test stays:", err)
			}
		})
	})
	address, err := url.Parse(cluster.server.URL(name))
	if err != nil {
		t.Fatal(err)
	}
	q := address.Query()
	q.Set("connect_timeout", "60") // seconds: machines of tests may be slow
	address.RawQuery = q.Encode()
	return address.String()
}

// kept is what all services of a test run log, and the secrets that must not be
// in it.
var kept struct {
	once    sync.Once
	file    *os.File
	mu      sync.Mutex
	secrets map[string]string // by what they are
}

// Silent gives a log that nobody sees, unless with SPINDLE_TEST_LOG; Main looks
// through it for secrets at the end of the run.
func Silent() *slog.Logger {
	kept.once.Do(func() {
		f, err := os.CreateTemp("", "spindle-test-log-")
		if err != nil {
			panic(err)
		}
		kept.file = f
	})
	var w io.Writer = kept.file
	if os.Getenv("SPINDLE_TEST_LOG") != "" {
		w = io.MultiWriter(os.Stderr, kept.file)
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: slog.LevelDebug}))
}

// Secretly has Main fail when a secret of this run is found in the logs.
func Secretly(what, secret string) {
	if len(secret) < 8 {
		return
	}
	kept.mu.Lock()
	defer kept.mu.Unlock()
	if kept.secrets == nil {
		kept.secrets = map[string]string{}
	}
	kept.secrets[secret] = what
}

// secretsOf gathers what a service keeps to itself.
func secretsOf(s *service.Service) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	keys, err := s.Store.Catalog.AccessKeys(ctx, "", "", 1000)
	if err != nil {
		return // the test took the database away
	}
	for _, k := range keys {
		if open, err := s.Keys.Find(ctx, k.ID); err == nil && open != nil {
			Secretly("the secret of the key "+k.ID, open.Secret)
		}
	}
	sessions, err := s.Store.Catalog.Sessions(ctx, "", 0, 1000)
	if err == nil {
		for _, x := range sessions {
			Secretly("a session's token against forgery", x.Forgery)
		}
	}
	if b, err := os.ReadFile(filepath.Join(s.Config.Data, "master.key")); err == nil {
		for line := range strings.FieldsSeq(string(b)) {
			Secretly("the master key", line)
		}
	}
}

// leaks looks for secrets in all that was logged.
func leaks() (found []string) {
	if kept.file == nil {
		return nil
	}
	defer os.Remove(kept.file.Name())
	b, err := os.ReadFile(kept.file.Name())
	if err != nil {
		return []string{err.Error()}
	}
	Secretly("the owner's secret", Secret)
	for secret, what := range kept.secrets {
		if at := bytes.Index(b, []byte(secret)); at >= 0 {
			line := b[bytes.LastIndexByte(b[:at], '\n')+1 : at]
			found = append(found, fmt.Sprintf("%s is in the logs, after: %s", what, line))
		}
	}
	return found
}

// Until waits for something to come true, 40 seconds at the most.
func Until(t testing.TB, what string, ok func() bool) {
	t.Helper()
	Within(t, 40*time.Second, what, ok)
}

// Within waits for something that takes as long as patience.
func Within(t testing.TB, patience time.Duration, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); !ok(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

// Context ends with the test, or after two minutes.
func Context(t testing.TB) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	t.Cleanup(cancel)
	return ctx
}

// Store gives a store with a database and a volume of its own.
func Store(t testing.TB) *store.Store {
	t.Helper()
	c, err := catalog.Open(Context(t), Database(t))
	if err != nil {
		t.Fatal(err)
	}
	v, err := bodies.Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { v.Close(); c.Close() })
	if err := c.FirstKey(Context(t), catalog.AccessKey{ID: Key, Account: "herbarium", Name: "owner", Role: 3, Active: true,
		Sealed: []byte{}}); err != nil {
		t.Fatal(err)
	}
	key, err := seal.NewKey(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	v.SealWith(oneKey{key})
	s := store.New(c, bodies.NewSpaces(v), "fenn")
	s.Sealer = oneKey{key}
	return s
}

// oneKey stands for a keyring's keys of bodies.
type oneKey struct{ key cipher.AEAD }

func (k oneKey) SealingKey() (uint16, cipher.AEAD, error) { return 1, k.key, nil }
func (k oneKey) OpeningKey(uint16) (cipher.AEAD, error)   { return k.key, nil }

// Running is a service under test.
type Running struct {
	*service.Service
	t testing.TB
}

// Service starts a service; change may alter its configuration first.
func Service(t testing.TB, change func(*service.Config)) *Running {
	t.Helper()
	cfg := service.Config{Data: t.TempDir(), Wire: "127.0.0.1:0", Desk: "127.0.0.1:0", Database: Database(t),
		Account: "herbarium", OwnerKey: Key, OwnerSecret: Secret,
		Works: works.Settings{RollUpEvery: 50 * time.Millisecond, DamageRefresh: 100 * time.Millisecond}}
	if change != nil {
		change(&cfg)
	}
	s, err := service.Start(Context(t), cfg, Silent())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		secretsOf(s)
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := s.Stop(ctx); err != nil {
			t.Log(err)
		}
	})
	return &Running{s, t}
}

// Client gives a client of the service's wire.
func (r *Running) Client() *client.Client {
	c, err := client.New(r.WireURL, "fenn", sign.Credential{ID: Key, Secret: Secret})
	if err != nil {
		r.t.Fatal(err)
	}
	r.t.Cleanup(c.HTTP.CloseIdleConnections)
	return c
}

// Do sends a request to the wire, signed by the owner's key or not at all, and
// gives status, header and body.
func (r *Running) Do(method, path string, header map[string]string, body string, signed bool) (int, http.Header,
	string) {
	r.t.Helper()
	if !signed {
		return r.As(sign.Credential{}, method, path, header, body)
	}
	return r.As(sign.Credential{ID: Key, Secret: Secret}, method, path, header, body)
}

// As is Do with any key; one without an id leaves the request unsigned.
func (r *Running) As(key sign.Credential, method, path string, header map[string]string, body string) (int, http.Header,
	string) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.WireURL+path, strings.NewReader(body))
	if err != nil {
		r.t.Fatal(err)
	}
	for k, v := range header {
		req.Header.Set(k, v)
	}
	if key.ID != "" {
		sign.Sign(req, key, "fenn", sign.Unsigned, time.Now())
	}
	return r.answer(req)
}

// answer sends a request as it is.
func (r *Running) answer(req *http.Request) (int, http.Header, string) {
	r.t.Helper()
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		r.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		r.t.Fatal(err)
	}
	return resp.StatusCode, resp.Header, string(b)
}

// Ask makes a call of the desk that only reads, as the owner.
func (r *Running) Ask(path string) string {
	r.t.Helper()
	req, err := http.NewRequest(http.MethodGet, r.DeskURL+path, nil)
	if err != nil {
		r.t.Fatal(err)
	}
	none := sha256.Sum256(nil)
	sign.SignDesk(req, sign.Credential{ID: Key, Secret: Secret}, "fenn", hex.EncodeToString(none[:]), time.Now())
	_, _, text := r.answer(req)
	return text
}

// NewKey makes a key of an account; the account is made when it is missing.
func (r *Running) NewKey(account, name string, role access.Role, change func(*catalog.AccessKey)) sign.Credential {
	r.t.Helper()
	ctx := Context(r.t)
	by := catalog.Author{At: time.Now(), Who: access.Machine}
	if err := r.Store.Catalog.CreateAccount(ctx, catalog.Account{Name: account}, by); err != nil &&
		!fault.HasCode(err, "account-exists") {
		r.t.Fatal(err)
	}
	id, secret := keyring.Generate()
	sealed, err := r.Keys.Seal(id, secret)
	if err != nil {
		r.t.Fatal(err)
	}
	k := catalog.AccessKey{ID: id, Account: account, Name: name, Role: role, Sealed: sealed, Active: true}
	if change != nil {
		change(&k)
	}
	if err := r.Store.Catalog.CreateKey(ctx, k, by); err != nil {
		r.t.Fatal(err)
	}
	return sign.Credential{ID: id, Secret: secret}
}

// Grant opens a bucket or prefix; the service knows of it at once.
func (r *Running) Grant(bucket, prefix, to, purpose string) int64 {
	r.t.Helper()
	g, err := access.ParseGrantee(to)
	if err != nil {
		r.t.Fatal(err)
	}
	rights, err := access.ParseRights(purpose)
	if err != nil {
		r.t.Fatal(err)
	}
	id, err := r.Store.Catalog.CreateGrant(Context(r.t),
		catalog.GrantRow{Bucket: bucket, Prefix: []byte(prefix), ToKind: g.Kind, ToName: g.Name, Rights: rights},
		catalog.Author{At: time.Now(), Who: access.Machine})
	if err != nil {
		r.t.Fatal(err)
	}
	r.Gate.Changed()
	return id
}

// Volume gives the first volume of a store, to reach into.
func Volume(s *store.Store) *bodies.Volume { return s.Spaces.First().(*bodies.Volume) }
