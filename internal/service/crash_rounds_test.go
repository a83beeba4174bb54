package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"spindle/internal/api"
	"spindle/internal/harness"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// crash is a service under load that is killed in round after round, with everything that it keeps objects in: a
// volume, a tier of two copies, one in pieces, one at another store, and a replica at a third.
type crash struct {
	*process
	r    *rand.Rand
	seq  atomic.Int64 // of writes
	acks atomic.Int64

	ledgers []map[string]*entry // of the workers
	jumps   string              // the file that says what the machine's clock is wrong by
	apart   string              // what the next process's clock is apart from the database's; "" for not
	annex   *standin.Standin
	mill    *standin.Standin
	there   *client.Client // of the mill
	disks   map[string][]string
	bought  int // disks so far

	quiet func() // ends the load
	live  func() // after the next start
}

// crashRound does something under load; the service is killed at its end. What live does comes after the
// next start, before all is compared.
type crashRound struct {
	name string
	run  func(c *crash)
}

var crashRounds = []crashRound{
	{"the service is killed", func(*crash) {}},
	{"the database is killed, and the service brings it back by itself", func(c *crash) {
		c.killDatabase()
		c.goesOn("its database was lost")
	}},
	{"both are killed", func(c *crash) {
		if c.r.IntN(2) == 0 {
			c.killDatabase()
		}
		_ = c.cmd.Process.Kill()
		c.killDatabase()
	}},
	{"the volume is away, under load and over a start", func(c *crash) {
		c.unmount()
		c.pause(300)
		c.mount()
		c.goesOn("its volume was away")
		c.unmount()
		c.live = c.mount
	}},
	{"the next process's clock is wrong", func(c *crash) {
		c.apart = []string{"3h", "-3h"}[c.r.IntN(2)]
	}},
	{"all but a backup is gone", func(c *crash) {
		c.quiet()
		c.backUp(c.bin)
		_ = c.cmd.Process.Kill()
		_ = c.cmd.Wait()
		c.restore(c.bin)
	}},
	{"a disk of a tier dies and is taken out", (*crash).loseDisk},
	{"other stores fail, and the process is frozen and thawed", func(c *crash) {
		for _, s := range []*standin.Standin{c.mill, c.annex} {
			c.set(s, []standin.Faults{{}, {Away: true}, {Errors: .2, Cut: .1, Throttle: .1}}[c.r.IntN(3)])
		}
		c.pause(400)
		_ = c.cmd.Process.Signal(syscall.SIGSTOP)
		c.pause(1500)
		_ = c.cmd.Process.Signal(syscall.SIGCONT)
		c.pause(300)
		c.live = func() { c.set(c.mill, standin.Faults{}); c.set(c.annex, standin.Faults{}) }
	}},
	{"the machine's clock jumps by days, and comes back", (*crash).jump},
}

// pause waits for up to some milliseconds.
func (c *crash) pause(most int) { time.Sleep(time.Duration(c.r.IntN(most)) * time.Millisecond) }

func (c *crash) set(s *standin.Standin, f standin.Faults) {
	c.t.Helper()
	if err := s.Set(f); err != nil {
		c.t.Fatal(err)
	}
}

// goesOn waits until writes are acknowledged again.
func (c *crash) goesOn(after string) {
	c.t.Helper()
	before := c.acks.Load()
	harness.Until(c.t, "it goes on after "+after, func() bool { return c.acks.Load() > before+20 })
}

// loseDisk has a disk of a tier that is whole die, or take no writes any more, and another one take its place while
// all goes on.
func (c *crash) loseDisk() {
	c.t.Helper()
	tier := []string{"cold", "press"}[c.r.IntN(2)]
	harness.Until(c.t, tier+" is whole", func() bool {
		x := c.tier(tier)
		return x.Owed == 0 && (x.Repair == nil || x.Repair.Finished != nil)
	})
	disks := c.disks[tier]
	n := c.r.IntN(len(disks))
	old := disks[n]
	if err := os.Rename(old, old+".dead"); err != nil {
		c.t.Fatal(err)
	}
	c.pause(400)
	c.bought++
	disks[n] = filepath.Join(c.data, fmt.Sprint("disk-", c.bought))
	c.command("tier", "change", tier, "--without", old, "--volume", disks[n])
	c.pause(400)
}

// jump has the machine's clock be wrong by days for a while, over a start; it comes back under load. What is a day old
// would be removed.
func (c *crash) jump() {
	c.t.Helper()
	wrong := []string{"72h", "-72h"}[c.r.IntN(2)]
	c.clock(wrong)
	harness.Until(c.t, "the jump is asked about", c.rulesWait)
	c.goesOn("the clock jumped by " + wrong)
	c.live = func() {
		c.clock("0s")
		harness.Until(c.t, "a clock that is right again is not asked about", func() bool { return !c.rulesWait() })
	}
}

// rulesWait reports whether rules of ages wait for somebody to say that the clock is right.
func (c *crash) rulesWait() bool {
	c.t.Helper()
	var x api.ClockInfo
	if err := json.Unmarshal([]byte(c.command("clock", "show", "--json")), &x); err != nil {
		c.t.Fatal(err)
	}
	return x.Waits
}

func (c *crash) clock(wrong string) {
	c.t.Helper()
	if err := os.WriteFile(c.jumps+".new", []byte(wrong), 0o600); err != nil {
		c.t.Fatal(err)
	}
	if err := os.Rename(c.jumps+".new", c.jumps); err != nil {
		c.t.Fatal(err)
	}
}

// moving has a service look for what its rules would move all the time.
var moving = []string{"--lifecycle-every", "20ms", "--lifecycle-rate", "1000000", "--reach", "loopback"}

// furnish makes the buckets of the load, the tiers and the rules that move whatever is written at once, while it is
// replaced, removed, and everything is killed. What is written to the bucket kept is encrypted at rest, goes to another
// store first, and is copied to a third. What is a day old is removed; nothing is, unless the clock is wrong.
func (c *crash) furnish() {
	c.t.Helper()
	for name, s := range map[string]*standin.Standin{"annex": c.annex, "mill": c.mill} {
		c.command("endpoint", "add", name, "--url", s.URL, "--key", harness.StandinKey, "--secret-from",
			secretFile(c.t, harness.StandinSecret))
	}
	c.command("tier", "add", "annex", "--volume", "@annex/bodies")
	c.addTier("cold", 2, "--copies", "2", "--compression", "on")
	c.addTier("press", 3, "--pieces", "2+1")
	c.command("bucket", "create", "ledger")
	c.command("bucket", "create", "kept", "--versioning", "on", "--sealing", "on", "--tier", "annex")
	c.command("replication", "add", "out", "--from", "kept", "--to", "@mill/replica", "--existing", "leave",
		"--delete-markers", "on")
	for bucket, tier := range map[string]string{"ledger": "cold", "kept": "press"} {
		c.command("lifecycle", "add", bucket, "all", "--move", tier+"=0", "--previous-move", tier+"=0", "--remove", "1",
			"--previous-remove", "1", "--dearer", "--grace", "none")
	}
}

func (c *crash) addTier(name string, disks int, kind ...string) {
	c.t.Helper()
	add := append([]string{"tier", "add", name}, kind...)
	for range disks {
		c.bought++
		disk := filepath.Join(c.data, fmt.Sprint("disk-", c.bought))
		c.disks[name] = append(c.disks[name], disk)
		add = append(add, "--volume", disk)
	}
	c.command(add...)
}

// roundsOf gives how many rounds there are, one of each kind or SPINDLE_CRASH_ROUNDS, and what they are drawn from.
func roundsOf(t *testing.T) (rounds int, seed uint64) {
	t.Helper()
	rounds, seed = len(crashRounds), uint64(time.Now().UnixNano())
	var err error
	if s := os.Getenv("SPINDLE_CRASH_ROUNDS"); s != "" {
		if rounds, err = strconv.Atoi(s); err != nil {
			t.Fatal(err)
		}
	}
	if s := os.Getenv("SPINDLE_CRASH_SEED"); s != "" {
		if seed, err = strconv.ParseUint(s, 10, 64); err != nil {
			t.Fatal(err)
		}
	}
	t.Logf("SPINDLE_CRASH_SEED=%d", seed)
	return rounds, seed
}

func newCrash(t *testing.T, seed uint64) *crash {
	t.Helper()
	c := &crash{r: rand.New(rand.NewPCG(seed, 0)), disks: map[string][]string{}, jumps: filepath.Join(t.TempDir(),
		"jumps")}
	for range 8 {
		c.ledgers = append(c.ledgers, map[string]*entry{})
	}
	c.process = &process{t: t, bin: harness.Binary(t, "-ldflags", "-X spindle/internal/catalog.builtForTests=yes"),
		data: dataDir(t)}
	var bodies *client.Client
	c.annex, bodies = harness.Standin(t, standin.Faults{})
	if err := bodies.CreateBucket(t.Context(), "bodies"); err != nil {
		t.Fatal(err)
	}
	c.mill, c.there = harness.Standin(t, standin.Faults{}, "replica")
	return c
}

// TestNothingAcknowledgedIsLost kills service and database at random moments under mixed load, with every fault of
// crashRounds, again and again, and reads back every acknowledged object, here and at the replica.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	t.Parallel()
	rounds, seed := roundsOf(t)
	c := newCrash(t, seed)
	c.env = []string{"SPINDLE_CLOCK_JUMPS=" + c.jumps}
	if err := c.start(moving...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if t.Failed() {
			c.tells()
		}
		_ = c.cmd.Process.Signal(syscall.SIGTERM)
		_ = c.cmd.Wait()
	})
	c.furnish()
	for n := range rounds {
		c.round(n, crashRounds[n%len(crashRounds)], n == rounds-1)
	}
	t.Logf("%d rounds, %d acknowledged changes, all there", rounds, c.acks.Load())
	for _, tier := range []string{"cold", "press"} {
		harness.Until(t, "rules have moved something to "+tier, func() bool {
			x := c.tier(tier)
			return x.Bytes != nil && *x.Bytes > 0
		})
	}
	c.agree(c.ledgers)
	c.replicaAgrees()
	if n := c.annex.Counts()["Put"]; n < 50 {
		t.Errorf("%d bodies went to the other store", n)
	}
}

// tells logs what the service says of itself.
func (c *crash) tells() {
	for _, what := range []string{"clock show", "tier show cold", "tier show press", "lifecycle run list ledger",
		"lifecycle run list kept",
		"object list ledger --limit 5", "replication show out"} {
		out, err := c.try(strings.Fields(what)...)
		c.t.Logf("%s: %v %s", what, err, out)
	}
	c.t.Logf("it wrote %.4000s", c.errs.String())
}

// round is load, a fault, the kill, the next start, and the comparison.
func (c *crash) round(n int, kind crashRound, last bool) {
	c.t.Helper()
	here := c.client()
	ctx, stop := context.WithCancel(c.t.Context())
	var wg sync.WaitGroup
	for i := range c.ledgers {
		r := rand.New(rand.NewPCG(c.r.Uint64(), uint64(i)))
		wg.Go(func() { worker(ctx, here, i, &c.seq, c.ledgers[i], r, &c.acks) })
	}
	c.quiet, c.live, c.apart = func() { stop(); wg.Wait() }, func() {}, ""
	time.Sleep(time.Duration(50+c.r.IntN(500)) * time.Millisecond)
	kind.run(c)
	_ = c.cmd.Process.Kill()
	_ = c.cmd.Wait()
	c.quiet()
	here.HTTP.CloseIdleConnections()
	c.env = []string{"SPINDLE_CLOCK_JUMPS=" + c.jumps, "SPINDLE_CLOCK_APART=" + c.apart}
	if err := c.start(moving...); err != nil {
		c.t.Fatalf("round %d, %s: %v", n, kind.name, err)
	}
	c.live()
	for _, bucket := range []string{"ledger", "kept"} { // those that failed would wait for minutes
		if c.apart == "" { // what judges ages is left to processes whose clock is right
			c.command("lifecycle", "run", "start", bucket)
		}
	}
	here = c.client()
	for _, ledger := range c.ledgers {
		for key, e := range ledger {
			if len(e.maybe) > 0 || last || c.r.IntN(6) == 0 {
				if err := check(here, key, e); err != nil {
					c.t.Fatalf("round %d, %s: %v", n, kind.name, err)
				}
			}
		}
	}
}

// replicaAgrees waits until all is copied, and compares.
func (c *crash) replicaAgrees() {
	c.t.Helper()
	harness.Until(c.t, "all is copied", func() bool {
		out := c.command("replication", "show", "out")
		if nothingWaits.MatchString(out) && strings.Contains(out, "keeps up") {
			return true
		}
		c.command("replication", "retry", "out")
		time.Sleep(300 * time.Millisecond)
		return false
	})
	n := 0
	for _, l := range c.ledgers {
		for key := range l {
			if bucketOf(key) == "kept" {
				n++
				if diff := same(c.t.Context(), c.client(), "kept", key, c.there, "replica", key); diff != "" {
					c.t.Errorf("%s at the replica: %s", key, diff)
				}
			}
		}
	}
	out := c.command("replication", "verify", "out", "--deep", "--check")
	if !strings.Contains(out, "all there as they are") || strings.Contains(out, "there alone") {
		c.t.Errorf("both sides: %s", out)
	}
	c.t.Logf("%d keys, the same at the replica", n)
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
