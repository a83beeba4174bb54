package service_test

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// process is a real service in a process of its own, with a private database.
type process struct {
	t    *testing.T
	bin  string
	data string
	cmd  *exec.Cmd
	wire string
	desk string
	errs bytes.Buffer

	standin *standin.Standin // at which a tier is
	annex   *client.Client
}

func build(t *testing.T, flags ...string) string {
	t.Helper()
	bin := filepath.Join(t.TempDir(), "spindle")
	args := append([]string{"build", "-o", bin}, flags...)
	if out, err := exec.Command("go", append(args, "spindle/cmd/spindle")...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return bin
}

// dataDir gives a directory that the database's user may pass through.
func dataDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "spindle-service-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "data")
}

const (
	ownerKey    = "CRASHOWNER"
	ownerSecret = "survives-everything"
)

func (p *process) start(more ...string) error {
	args := append([]string{"serve", "--data", p.data, "--desk", "127.0.0.1:0", "--log-level", "error"}, more...)
	if !slices.Contains(more, "--wire") {
		args = append(args, "--wire", "127.0.0.1:0")
	}
	p.cmd = exec.Command(p.bin, args...)
	p.cmd.Env = append(os.Environ(), "SPINDLE_OWNER_KEY="+ownerKey, "SPINDLE_OWNER_SECRET="+ownerSecret)
	p.errs.Reset()
	p.cmd.Stderr = &p.errs
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := p.cmd.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	rest, ok := strings.CutPrefix(line, "ready: wire ")
	if err != nil || !ok {
		_ = p.cmd.Wait()
		return fmt.Errorf("not ready: %q, %v: %s", line, err, p.errs.String())
	}
	p.wire, p.desk, _ = strings.Cut(strings.TrimSpace(rest), ", desk ")
	return nil
}

func (p *process) client() *client.Client {
	c, err := client.New(p.wire, "fenn", sign.Credential{ID: ownerKey, Secret: ownerSecret})
	if err != nil {
		p.t.Fatal(err)
	}
	return c
}

// moving has a service look for what its rules would move all the time.
var moving = []string{"--lifecycle-every", "20ms", "--lifecycle-rate", "1000000", "--reach", "loopback"}

// keepMoving adds a tier of two copies, and rules that move whatever is written there at
// once, while it is replaced, removed, and everything is killed. What is written to the
// bucket kept goes to another store first.
func (p *process) keepMoving(buckets ...string) {
	p.t.Helper()
	s, c := harness.Standin(p.t, standin.Faults{})
	if err := c.CreateBucket(p.t.Context(), "bodies"); err != nil {
		p.t.Fatal(err)
	}
	p.annex, p.standin = c, s
	p.command("endpoint", "add", "annex", "--url", s.URL, "--key", harness.StandinKey, "--secret-from",
		secretFile(p.t, harness.StandinSecret))
	p.command("tier", "add", "annex", "--volume", "@annex/bodies")
	p.command("bucket", "change", "kept", "--tier", "annex")
	p.command("tier", "add", "cold", "--volume", filepath.Join(p.data, "cold-1"), "--volume",
		filepath.Join(p.data, "cold-2"),
		"--copies", "2", "--compression", "on")
	for _, b := range buckets {
		p.command("lifecycle", "add", b, "all", "--move", "cold=0", "--previous-move", "cold=0", "--grace", "none")
	}
}

// command runs the command line against the service.
func (p *process) command(args ...string) string {
	p.t.Helper()
	out, err := p.try(args...)
	if err != nil {
		p.t.Fatalf("%v: %v: %s", args, err, out)
	}
	return out
}

// try is command, and gives how it ended.
func (p *process) try(args ...string) (string, error) {
	cmd := exec.Command(p.bin, args...)
	cmd.Env = append(os.Environ(), "SPINDLE_URL="+p.desk, "SPINDLE_KEY="+ownerKey, "SPINDLE_SECRET="+ownerSecret)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// killDatabase kills the private database's first process.
func (p *process) killDatabase() {
	b, err := os.ReadFile(filepath.Join(p.data, "postgres", "cluster", "postmaster.pid"))
	if err != nil {
		return // it is just starting
	}
	first, _, _ := strings.Cut(string(b), "\n")
	if pid, err := strconv.Atoi(first); err == nil {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// entry is what a worker knows of a key of its own: the write that was
// acknowledged last (0: not there) and those that may or may not have happened.
type entry struct {
	acked int
	maybe []int
	kept  []keptVersion // acknowledged, where versions are kept
}

type keptVersion struct {
	version string
	n       int
}

func content(key string, n int) []byte {
	r := rand.New(rand.NewPCG(uint64(n), uint64(len(key))))
	size := []int{0, 40, 4096, 60_000, 200_000, 700_000}[n%6]
	b := make([]byte, size)
	for i := 0; i < len(b); i += 8 {
		v := r.Uint64()
		for j := i; j < min(i+8, len(b)); j++ {
			b[j] = byte(v)
			v >>= 8
		}
	}
	return append(b, fmt.Sprintf("%s %d", key, n)...)
}

func size(key string, n int) int64 { return int64(len(content(key, n))) }

// worker writes, replaces and removes its own keys until ctx ends.
func worker(ctx context.Context, c *client.Client, id int, seq *atomic.Int64, ledger map[string]*entry, r *rand.Rand,
	acks *atomic.Int64) {
	for ctx.Err() == nil {
		key := fmt.Sprintf("w%d/%02d", id, r.IntN(25))
		e := ledger[key]
		if e == nil {
			e = &entry{}
			ledger[key] = e
		}
		n := 0
		var err error
		var info client.Info
		if r.IntN(4) == 0 {
			err = c.Remove(ctx, bucketOf(key), key)
		} else {
			n = int(seq.Add(1))
			body := content(key, n)
			info, err = c.Put(ctx, bucketOf(key), key, bytes.NewReader(body), int64(len(body)), client.Put{})
		}
		if err != nil {
			e.maybe = append(e.maybe, n)
			time.Sleep(5 * time.Millisecond)
			continue
		}
		acks.Add(1)
		e.acked, e.maybe = n, nil
		if info.Version != "" {
			e.kept = append(e.kept, keptVersion{info.Version, n})
		}
	}
}

// bucketOf gives the bucket of a key: every other worker writes where versions
// are kept.
func bucketOf(key string) string {
	if key[1]%2 == 1 {
		return "kept"
	}
	return "ledger"
}

// check reads a key back: it must hold the write that was acknowledged last or
// one whose answer never came, whole.
func check(c *client.Client, key string, e *entry) error {
	o, err := c.Get(context.Background(), bucketOf(key), key, "", 0, "")
	for end := time.Now().Add(time.Minute); fault.KindOf(err) == fault.Unavailable && time.Now().Before(end); {
		time.Sleep(time.Second) // as whoever is told to come again does
		o, err = c.Get(context.Background(), bucketOf(key), key, "", 0, "")
	}
	found := -1
	switch {
	case fault.HasCode(err, "key-missing"):
		found = 0
	case err != nil:
		return fmt.Errorf("%s cannot be read: %w", key, err)
	default:
		b, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil {
			return fmt.Errorf("%s breaks off: %w", key, err)
		}
		text := string(b[max(0, len(b)-30):])
		if i := strings.LastIndex(text, key+" "); i >= 0 {
			if found, err = strconv.Atoi(text[i+len(key)+1:]); err != nil {
				return fmt.Errorf("%s holds something else: %q", key, text)
			}
		}
		if found <= 0 || !bytes.Equal(b, content(key, found)) {
			return fmt.Errorf("%s holds neither of its writes whole: %d bytes, %q", key, len(b), text)
		}
	}
	for _, n := range append(e.maybe, e.acked) {
		if n == found {
			e.acked, e.maybe = found, nil
			return nil
		}
	}
	return fmt.Errorf("%s holds write %d; acknowledged was %d, open were %v", key, found, e.acked, e.maybe)
}

// TestNothingAcknowledgedIsLost kills service and database at random moments
// under mixed load, takes the volume away, lets processes run whose clocks are wrong, and brings
// all back from a backup, again and again, and reads back every acknowledged object.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	rounds := 6 // one of each kind; 200 in make crash
	if s := os.Getenv("SPINDLE_CRASH_ROUNDS"); s != "" {
		var err error
		if rounds, err = strconv.Atoi(s); err != nil {
			t.Fatal(err)
		}
	}
	seed := uint64(time.Now().UnixNano())
	if s := os.Getenv("SPINDLE_CRASH_SEED"); s != "" {
		var err error
		if seed, err = strconv.ParseUint(s, 10, 64); err != nil {
			t.Fatal(err)
		}
	}
	t.Logf("SPINDLE_CRASH_SEED=%d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	p := &process{t: t, bin: build(t), data: dataDir(t)}
	if err := p.start(moving...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	for _, bucket := range []string{"ledger", "kept"} {
		if err := p.client().CreateBucket(t.Context(), bucket); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.client().SetVersioning(t.Context(), "kept", true); err != nil {
		t.Fatal(err)
	}
	if err := p.client().Seal(t.Context(), "kept"); err != nil { // its bodies are encrypted at rest
		t.Fatal(err)
	}
	p.keepMoving("ledger", "kept")
	right := p.bin
	wrong := []string{build(t, "-ldflags", "-X spindle/internal/catalog.builtApart=3h"),
		build(t, "-ldflags", "-X spindle/internal/catalog.builtApart=-3h")}
	const workers = 8
	var seq, acks atomic.Int64
	ledgers := make([]map[string]*entry, workers)
	for i := range ledgers {
		ledgers[i] = map[string]*entry{}
	}
	for round := range rounds {
		c := p.client()
		ctx, stop := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		for i := range ledgers {
			wr := rand.New(rand.NewPCG(r.Uint64(), uint64(i)))
			wg.Go(func() { worker(ctx, c, i, &seq, ledgers[i], wr, &acks) })
		}
		time.Sleep(time.Duration(50+r.IntN(500)) * time.Millisecond)
		how := round % 6
		switch how {
		case 3: // the volume, under load and over a start
			p.unmount()
			time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
			p.mount()
			before := acks.Load()
			harness.Until(t, "it goes on with its volume", func() bool { return acks.Load() > before+20 })
			p.unmount()
			_ = p.cmd.Process.Kill()
		case 4: // the service; the next one's clock is wrong
			_ = p.cmd.Process.Kill()
		case 5: // everything but a backup
			stop()
			wg.Wait()
			p.backUp(right)
			_ = p.cmd.Process.Kill()
		case 0: // the service
			_ = p.cmd.Process.Kill()
		case 1: // the database; the service must bring it back by itself
			p.killDatabase()
			before := acks.Load()
			for end := time.Now().Add(40 * time.Second); acks.Load() < before+20; time.Sleep(10 * time.Millisecond) {
				if time.Now().After(end) {
					t.Fatalf("round %d: the service did not recover from the loss of its database: %s", round, p.errs.String())
				}
			}
			_ = p.cmd.Process.Kill()
		case 2: // both, in either order
			if r.IntN(2) == 0 {
				p.killDatabase()
			}
			_ = p.cmd.Process.Kill()
			p.killDatabase()
		}
		_ = p.cmd.Wait()
		stop()
		wg.Wait()
		c.HTTP.CloseIdleConnections()
		if p.bin = right; how == 4 {
			p.bin = wrong[r.IntN(2)]
		}
		if how == 5 {
			p.restore(right)
		}
		if err := p.start(moving...); err != nil {
			t.Fatalf("round %d: after kill %d: %v", round, how, err)
		}
		if how == 3 {
			p.mount()
		}
		c = p.client()
		for _, ledger := range ledgers {
			for key, e := range ledger {
				if len(e.maybe) > 0 || round == rounds-1 || r.IntN(6) == 0 {
					if err := check(c, key, e); err != nil {
						t.Fatalf("round %d, after kill %d: %v", round, how, err)
					}
				}
			}
		}
	}
	t.Logf("%d rounds, %d acknowledged changes, all there", rounds, acks.Load())
	harness.Until(t, "rules have moved something", func() bool {
		return !strings.Contains(strings.ReplaceAll(p.command("--json", "tier", "show", "cold"), " ", ""), `"bytes":0,`)
	})
	p.agree(ledgers)
	if n := p.standin.Counts()["Put"]; n < 50 {
		t.Errorf("%d bodies went to the other store", n)
	}
}

// unmount takes the volume away: an empty mount point is left.
func (p *process) unmount() {
	p.t.Helper()
	disk := filepath.Join(p.data, "volumes", "main")
	if err := errors.Join(os.Rename(disk, disk+".aside"), os.Mkdir(disk, 0o700)); err != nil {
		p.t.Fatal(err)
	}
}

// mount brings it back. Nothing may have been written in its place.
func (p *process) mount() {
	p.t.Helper()
	disk := filepath.Join(p.data, "volumes", "main")
	if err := errors.Join(os.Remove(disk), os.Rename(disk+".aside", disk)); err != nil {
		p.t.Fatal(err)
	}
}

// backUp makes a backup while the service runs.
func (p *process) backUp(bin string) {
	p.t.Helper()
	phrase := secretFile(p.t, "a phrase for the crash test")
	if out, err := exec.Command(bin, "backup", "make", p.data+".backup", "--data", p.data, "--passphrase-from",
		phrase).CombinedOutput(); err != nil {
		p.t.Fatalf("backup: %v: %s", err, out)
	}
}

// restore brings a service back of which nothing is left.
func (p *process) restore(bin string) {
	p.t.Helper()
	phrase := secretFile(p.t, "a phrase for the crash test")
	p.killDatabase()
	harness.Until(p.t, "the old data is gone", func() bool { return os.RemoveAll(p.data) == nil })
	if out, err := exec.Command(bin, "restore", p.data+".backup", "--data", p.data, "--passphrase-from",
		phrase).CombinedOutput(); err != nil {
		p.t.Fatalf("restore: %v: %s", err, out)
	}
}

// agree compares catalog, usage and bodies with the ledgers.
func (p *process) agree(ledgers []map[string]*entry) {
	p.t.Helper()
	for _, bucket := range []string{"ledger", "kept"} {
		p.agreeOn(bucket, ledgers)
	}
	// Every version that was acknowledged is there, whole.
	c := p.client()
	n := 0
	for _, l := range ledgers {
		for key, e := range l {
			for _, k := range e.kept {
				o, err := c.Get(p.t.Context(), bucketOf(key), key, k.version, 0, "")
				if err != nil {
					p.t.Fatalf("version %s of %s: %v", k.version, key, err)
				}
				b, err := io.ReadAll(o.Body)
				o.Body.Close()
				if err != nil || !bytes.Equal(b, content(key, k.n)) {
					p.t.Fatalf("version %s of %s holds %d other bytes, %v", k.version, key, len(b), err)
				}
				n++
			}
		}
	}
	p.t.Logf("%d acknowledged versions, all there", n)
}

func (p *process) agreeOn(bucket string, ledgers []map[string]*entry) {
	p.t.Helper()
	c := p.client()
	want, bytes := 0, int64(0)
	for _, l := range ledgers {
		for key, e := range l {
			if e.acked > 0 && bucketOf(key) == bucket {
				want++
				bytes += size(key, e.acked)
			}
		}
	}
	listed := 0
	for next := ""; ; {
		page, err := c.List(p.t.Context(), bucket, "", "", next, 1000)
		if err != nil {
			p.t.Fatal(err)
		}
		listed += len(page.Objects)
		if next = page.Next; next == "" {
			break
		}
	}
	if listed != want {
		p.t.Errorf("%s: %d objects are listed, %d were acknowledged", bucket, listed, want)
	}
	r, err := http.NewRequest("GET", p.desk+"/api/v1/buckets/"+bucket, nil)
	if err != nil {
		p.t.Fatal(err)
	}
	sign.SignDesk(r, sign.Credential{ID: ownerKey, Secret: ownerSecret}, "fenn", sign.EmptyHash, time.Now())
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if usage := fmt.Sprintf(`"objects":%d,"bytes":%d`, want, bytes); err != nil || !strings.Contains(string(b), usage) {
		p.t.Errorf("usage is not %s: %s, %v", usage, b, err)
	}
}
