package harness

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver of the administration's connection

	"spindle/internal/bodies"
	"spindle/internal/catalog"
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
	err    error
	number atomic.Int64
}

// Main runs a package's tests and removes the cluster afterwards:
//
//	func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }
func Main(m *testing.M) int {
	code := m.Run()
	if cluster.server != nil {
		cluster.admin.Close()
		cluster.server.Stop()
		os.RemoveAll(cluster.dir)
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
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if cluster.server, err = postgres.Start(ctx, filepath.Join(cluster.dir, "postgres"), Silent()); err != nil {
			return err
		}
		if cluster.admin, err = sql.Open("pgx", cluster.server.URL("postgres")); err != nil {
			return err
		}
		if _, err := cluster.admin.Exec("create database spindle_template"); err != nil {
			return err
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
	if _, err := cluster.admin.Exec("create database " + name + " template " + template); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if _, err := cluster.admin.Exec("drop database " + name + " with (force)"); err != nil {
			t.Log(err)
		}
	})
	return cluster.server.URL(name)
}

// Silent gives a log that goes nowhere, or to stderr with SPINDLE_TEST_LOG.
func Silent() *slog.Logger {
	if os.Getenv("SPINDLE_TEST_LOG") != "" {
		return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	return slog.New(slog.NewTextHandler(io.Discard, nil))
}

// Context ends with the test, or after a minute.
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
	if err := c.FirstKey(Context(t), catalog.AccessKey{ID: Key, Account: "herbarium", Name: "owner", Role: 3, Active: true, Sealed: []byte{}}); err != nil {
		t.Fatal(err)
	}
	return store.New(c, v, "fenn")
}

// Running is a service under test.
type Running struct {
	*service.Service
	t testing.TB
}

// Service starts a service; change may alter its configuration first.
func Service(t testing.TB, change func(*service.Config)) *Running {
	t.Helper()
	cfg := service.Config{Data: t.TempDir(), Wire: "127.0.0.1:0", Desk: "127.0.0.1:0", Database: Database(t), Account: "herbarium", OwnerKey: Key, OwnerSecret: Secret,
		Works: works.Settings{RollUpEvery: 50 * time.Millisecond, DamageRefresh: 100 * time.Millisecond}}
	if change != nil {
		change(&cfg)
	}
	s, err := service.Start(Context(t), cfg, Silent())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
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

// Do sends a request to the wire, signed unless sign is nil, and gives status,
// header and body.
func (r *Running) Do(method, path string, header map[string]string, body string, signed bool) (int, http.Header, string) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.WireURL+path, strings.NewReader(body))
	if err != nil {
		r.t.Fatal(err)
	}
	for k, v := range header {
		req.Header.Set(k, v)
	}
	if signed {
		sign.Sign(req, sign.Credential{ID: Key, Secret: Secret}, "fenn", sign.Unsigned, time.Now())
	}
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
