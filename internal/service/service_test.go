package service_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/postgres"
	"spindle/internal/service"
	"spindle/internal/wire/client"
	"spindle/internal/works"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// TestServeAsAProcess starts, refuses a second, drains on SIGTERM, and finds
// its data again.
func TestServeAsAProcess(t *testing.T) {
	t.Parallel()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	c := p.client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "k", strings.NewReader("kept"), 4, client.Put{}); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/metrics": 200, "/openapi.yaml": 200} {
		resp, err := http.Get(p.desk + path)
		if err != nil || resp.StatusCode != want {
			t.Errorf("%s: %v, %v", path, resp, err)
			continue
		}
		resp.Body.Close()
	}
	second := &process{t: t, bin: p.bin, data: p.data}
	if err := second.start(); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("process %d", p.cmd.Process.Pid)) {
		t.Errorf("a second service on the same data: %v", err)
	}
	third := &process{t: t, bin: p.bin, data: dataDir(t)}
	if err := third.start("--wire", strings.TrimPrefix(p.wire, "http://")); err == nil ||
		!strings.Contains(err.Error(), "--wire") {
		t.Errorf("a service on a taken port: %v", err)
	}
	// A put under way is finished before the end.
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	put := make(chan error, 1)
	go func() {
		_, err := c.Put(context.Background(), "plates", "slow", r, 10, client.Put{})
		put <- err
	}()
	if _, err := w.Write([]byte("01234")); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	if err := p.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	time.Sleep(200 * time.Millisecond)
	if _, err := w.Write([]byte("56789")); err != nil {
		t.Fatal(err)
	}
	if err := <-put; err != nil {
		t.Errorf("the put under way: %v", err)
	}
	if err := p.cmd.Wait(); err != nil {
		t.Errorf("SIGTERM ends with %v: %s", err, p.errs.String())
	}
	if out, _ := exec.Command("pgrep", "-f", p.data).Output(); len(bytes.TrimSpace(out)) > 0 {
		t.Errorf("left running: processes %s", out)
	}
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{"k", "slow"} {
		if _, err := p.client().Head(t.Context(), "plates", key); err != nil {
			t.Errorf("%s after a restart: %v", key, err)
		}
	}
	if err := p.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_ = p.cmd.Wait()
	if err := os.Rename(filepath.Join(p.data, "master.key"), filepath.Join(p.data, "away")); err != nil {
		t.Fatal(err)
	}
	if err := p.start(); err == nil || !strings.Contains(err.Error(), "master key") {
		t.Errorf("a start without its master key: %v", err)
	}
}

func TestConfigurationIsRefusedClearly(t *testing.T) {
	for name, c := range map[string]struct {
		cfg  service.Config
		code string
	}{
		"no data":          {service.Config{}, "data-missing"},
		"beyond loopback":  {service.Config{Data: t.TempDir(), Wire: "0.0.0.0:0"}, "plain-http"},
		"half of TLS":      {service.Config{Data: t.TempDir(), TLSCert: "x"}, "tls-half"},
		"half of an owner": {service.Config{Data: t.TempDir(), OwnerKey: "x"}, "owner-half"},
		"no port":          {service.Config{Data: t.TempDir(), Desk: "localhost"}, "address"},
		"no database there": {service.Config{Data: t.TempDir(), Wire: "127.0.0.1:0", Desk: "127.0.0.1:0",
			Database: "postgres://x@127.0.0.1:1/x"}, "database-unreachable"},
		"an unreadable address": {service.Config{Data: t.TempDir(), Wire: "127.0.0.1:0", Desk: "127.0.0.1:0",
			Database: "postgres://%zz"}, "database-url"},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		_, err := service.Start(ctx, c.cfg, harness.Silent())
		cancel()
		if !fault.HasCode(err, c.code) {
			t.Errorf("%s: %v, want code %q", name, err, c.code)
		}
	}
}

func TestTLS(t *testing.T) {
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "fenn"}, NotBefore: time.Now().
		Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	pk, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	cert, priv := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	if err := errors.Join(os.WriteFile(cert, certPEM, 0o600),
		os.WriteFile(priv, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pk}), 0o600)); err != nil {
		t.Fatal(err)
	}
	s := harness.Service(t, func(c *service.Config) { c.TLSCert, c.TLSKey = cert, priv })
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err == nil {
		t.Error("a certificate that nobody trusts was accepted")
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(certPEM)
	c.HTTP.Transport.(*http.Transport).TLSClientConfig = &tls.Config{RootCAs: pool}
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Error(err)
	}
	// What cannot be read is answered as it is without TLS; who speaks without it is told.
	host := strings.TrimPrefix(s.WireURL, "https://")
	secure, err := tls.Dial("tcp", host, &tls.Config{RootCAs: pool})
	if err != nil {
		t.Fatal(err)
	}
	plain, err := net.Dial("tcp", host)
	if err != nil {
		t.Fatal(err)
	}
	for conn, want := range map[net.Conn]string{secure: "<Code>BadRequest</Code>", plain: "This port speaks TLS"} {
		_, werr := io.WriteString(conn, "GET /%zz HTTP/1.1\r\nHost: x\r\n\r\n")
		b, rerr := io.ReadAll(conn)
		if !strings.Contains(string(b), want) {
			t.Errorf("%q is not in %q (%v)", want, b, errors.Join(werr, rerr))
		}
		conn.Close()
	}
	for address, field := range map[string]string{s.WireURL: "certificate",
		strings.Replace(s.WireURL, "https", "http", 1): "protocol"} {
		r := client.Check(t.Context(), client.Settings{Address: address, Style: "path", Region: "fenn", Key: c.Key})
		for _, f := range r.Findings {
			if f.Result == endpoint.Wrong && f.Field != field {
				t.Errorf("%s: %s is said to be wrong (%s), want %s", address, f.Field, f.Seen, field)
			}
		}
		if r.Good {
			t.Errorf("%s: found good", address)
		}
	}
}

// TestFullDisk fills a small volume: writes are refused in the dialect, what is
// there stays readable, and after removals writes work again, long before the grace
// period of what was removed ends.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("mounting a small disk needs root")
	}
	data := t.TempDir()
	disk := filepath.Join(data, "volumes")
	if err := os.Mkdir(disk, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=6m"); err != nil {
		t.Skipf("mounting a small disk is not allowed here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	s := harness.Service(t, func(c *service.Config) {
		c.Data = data
		c.Works = works.Settings{CollectGrace: time.Hour, CollectEvery: time.Hour, SweepEvery: time.Hour}
	})
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	small := bytes.Repeat([]byte("s"), 100_000)
	if _, err := c.Put(t.Context(), "plates", "first", bytes.NewReader(small), int64(len(small)),
		client.Put{}); err != nil {
		t.Fatal(err)
	}
	big := bytes.Repeat([]byte("b"), 900_000)
	n := 0
	var err error
	for ; n < 20; n++ {
		if _, err = c.Put(t.Context(), "plates", fmt.Sprint("big", n), bytes.NewReader(big), int64(len(big)),
			client.Put{}); err != nil {
			break
		}
	}
	if !fault.HasCode(err, "disk-full") || n < 3 {
		t.Fatalf("after %d large bodies: %v", n, err)
	}
	for i := range 40 {
		if _, err = c.Put(t.Context(), "plates", fmt.Sprint("small", i), bytes.NewReader(small), int64(len(small)),
			client.Put{}); err != nil {
			break
		}
	}
	if !fault.HasCode(err, "disk-full") {
		t.Fatalf("small bodies on a full disk: %v", err)
	}
	st, _, b := s.Do("PUT", "/plates/raw", nil, string(big), true)
	if st != http.StatusInsufficientStorage || !strings.Contains(b, "InsufficientStorage") {
		t.Errorf("in the dialect: %d %s", st, b)
	}
	for i := range n {
		if _, err := c.Head(t.Context(), "plates", fmt.Sprint("big", i)); err != nil {
			t.Errorf("big%d, which was acknowledged: %v", i, err)
		}
		if i > 0 {
			if err := c.Remove(t.Context(), "plates", fmt.Sprint("big", i)); err != nil {
				t.Error(err)
			}
		}
	}
	// The collector makes room for both kinds, one after the other.
	for key, body := range map[string][]byte{"again": big, "small again": small} {
		for end := time.Now().Add(2 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
			_, err := c.Put(t.Context(), "plates", key, bytes.NewReader(body), int64(len(body)), client.Put{})
			if err == nil {
				break
			}
			if !fault.HasCode(err, "disk-full") || time.Now().After(end) {
				t.Fatalf("%s, after removals: %v", key, err)
			}
		}
	}
}

// TestDatabaseStoppedUnderLoad stops the database while clients write: requests
// fail clearly, nothing acknowledged is lost, and the service comes back by itself.
func TestDatabaseStoppedUnderLoad(t *testing.T) {
	dir := filepath.Join(filepath.Dir(dataDir(t)), "pg")
	pg, err := postgres.Start(t.Context(), dir, harness.Silent())
	if err != nil {
		t.Fatal(err)
	}
	s := harness.Service(t, func(c *service.Config) { c.Database = pg.URL("postgres") })
	t.Cleanup(func() { pg.Stop() })
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	var acked sync.Map
	var good, bad atomic.Int64
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				key := fmt.Sprintf("w%d/%d", w, i)
				_, err := c.Put(t.Context(), "plates", key, strings.NewReader(key), int64(len(key)), client.Put{})
				switch fault.KindOf(err) {
				case fault.Unavailable:
					bad.Add(1)
					time.Sleep(20 * time.Millisecond)
				default:
					if err != nil {
						t.Errorf("%s: %v", key, err)
					}
					acked.Store(key, true)
					good.Add(1)
				}
			}
		})
	}
	for range 2 {
		before := good.Load()
		harness.Until(t, "writes work", func() bool { return good.Load() > before+100 })
		pg.Stop()
		failed := bad.Load()
		harness.Until(t, "requests fail clearly", func() bool { return bad.Load() > failed+8 })
		if resp, err := http.Get(s.DeskURL + "/readyz"); err != nil || resp.StatusCode != http.StatusServiceUnavailable {
			t.Errorf("readyz without a database: %v, %v", resp, err)
		}
		if pg, err = postgres.Start(t.Context(), dir, harness.Silent()); err != nil {
			t.Fatal(err)
		}
	}
	before := good.Load()
	harness.Until(t, "writes work again", func() bool { return good.Load() > before+100 })
	stop()
	wg.Wait()
	acked.Range(func(k, _ any) bool {
		if _, err := c.Head(t.Context(), "plates", k.(string)); err != nil {
			t.Errorf("%s was acknowledged: %v", k, err)
		}
		return true
	})
}

// TestTwoProcessesShareADatabase lets two services with one database and one
// volume work side by side.
func TestTwoProcessesShareADatabase(t *testing.T) {
	url, data := harness.Database(t), t.TempDir()
	share := func(c *service.Config) { c.Database, c.Data = url, data }
	one, two := harness.Service(t, share), harness.Service(t, share)
	a, b := one.Client(), two.Client()
	if err := a.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for i := range 60 {
		wg.Go(func() {
			c := a
			if i%2 == 1 {
				c = b
			}
			key := fmt.Sprint("k", i%20)
			if _, err := c.Put(t.Context(), "plates", key, strings.NewReader(key), int64(len(key)), client.Put{}); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	for _, c := range []*client.Client{a, b} {
		p, err := c.List(t.Context(), "plates", "", "", "", 100)
		if err != nil || len(p.Objects) != 20 {
			t.Errorf("%d objects, %v", len(p.Objects), err)
		}
		for _, o := range p.Objects {
			if i, err := c.Head(t.Context(), "plates", o.Key); err != nil || i.Size != int64(len(o.Key)) {
				t.Errorf("%s: %+v, %v", o.Key, i, err)
			}
		}
	}
}

// Readiness is a write that was made: a volume that is away, while the database answers, is not
// ready, and is again once it is back.
func TestReadinessIsAWrite(t *testing.T) {
	s := harness.Service(t, nil)
	ready := func() (int, string) {
		resp, err := http.Get(s.DeskURL + "/readyz")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	if st, says := ready(); st != 200 {
		t.Fatalf("%d %s", st, says)
	}
	dir := filepath.Join(s.Config.Data, "volumes", "main")
	if err := os.Rename(dir, dir+".away"); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it is not ready", func() bool {
		st, says := ready()
		return st == http.StatusServiceUnavailable && strings.Contains(says, "is away") && strings.Contains(says, "mount")
	})
	if err := os.Rename(dir+".away", dir); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it is ready again", func() bool { st, _ := ready(); return st == 200 })
	if list, err := filepath.Glob(filepath.Join(dir, ".try-*")); err != nil || len(list) != 0 {
		t.Errorf("trying leaves %v, %v", list, err)
	}
}
