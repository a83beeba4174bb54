package service_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// TestBackfillThroughKills kills the service 20 times while it copies 5,000 objects that
// were there before their rule: in the end both sides are equal, and what was sent twice
// was under way, or not written down yet, when it died.
func TestBackfillThroughKills(t *testing.T) {
	t.Parallel()
	const objects, kills = 5000, 20
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	reach := []string{"--reach", "loopback"}
	if err := p.start(reach...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	here := p.client()
	versioned(t, here, "plates")
	var wg sync.WaitGroup
	var next atomic.Int64
	for range 16 {
		wg.Go(func() {
			for n := next.Add(1); n <= objects; n = next.Add(1) {
				write(t, here, "plates", fmt.Sprintf("sheet-%04d", n), []byte(fmt.Sprint("content ", n)), client.Put{})
			}
		})
	}
	wg.Wait()
	s, there := harness.Standin(t, standin.Faults{Latency: 8}, "plates")
	p.command("endpoint", "add", "annex", "--url", s.URL, "--key", harness.StandinKey, "--secret-from",
		secretFile(t, harness.StandinSecret))
	p.command("replication", "add", "out", "--from", "plates", "--to", "@annex/plates", "--existing", "backfill")
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for kill := range kills {
		before := s.Counts()["Put"]
		harness.Until(t, fmt.Sprintf("something is copied before kill %d", kill), func() bool {
			n := s.Counts()["Put"]
			return n >= before+30 || n >= objects
		})
		time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
		if err := p.start(reach...); err != nil {
			t.Fatal(err)
		}
	}
	for end := time.Now().Add(3 * time.Minute); ; time.Sleep(300 * time.Millisecond) {
		out := p.command("replication", "show", "out")
		if strings.Contains(out, "Waiting   0 objects") && strings.Contains(out, "keeps up") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("it never ended: %s", out)
		}
	}
	p.verifyWithoutDatabase("out")
	if out := p.command("replication", "verify", "out", "--deep", "--check"); !strings.Contains(out,
		"5,000 objects compared") || !strings.Contains(out, "all there as they are") {
		t.Errorf("both sides: %s", out)
	}
	if p, err := there.List(t.Context(), "plates", "sheet-4999", "", "", 10); err != nil || len(p.Objects) != 1 {
		t.Errorf("the last but one: %+v, %v", p, err)
	}
	puts := s.Counts()["Put"]
	if most := int64(objects + kills*(32+32+32)); puts > most {
		t.Errorf("%d puts for %d objects and %d kills; at most %d were under way", puts, objects, kills, most)
	}
	t.Logf("%d puts for %d objects through %d kills", puts, objects, kills)
}

// verifyWithoutDatabase kills the database in the middle of a verify: it ends with all
// compared or with what is wrong, and never says that objects are missing.
func (p *process) verifyWithoutDatabase(rule string) {
	p.t.Helper()
	type end struct {
		out string
		err error
	}
	ended := make(chan end, 1)
	go func() {
		out, err := p.try("replication", "verify", rule, "--deep")
		ended <- end{out, err}
	}()
	time.Sleep(700 * time.Millisecond)
	p.killDatabase()
	select {
	case e := <-ended:
		whole := strings.Contains(e.out, "5,000 objects compared") && strings.Contains(e.out, "all there as they are")
		if strings.Contains(e.out, "missing") || e.err == nil && !whole {
			p.t.Errorf("a verify without a database: %s, %v", e.out, e.err)
		}
		p.t.Logf("the verify ended with %s, %v", e.out, e.err)
	case <-time.After(2 * time.Minute):
		p.t.Fatal("a verify without a database never ends")
	}
	harness.Until(p.t, "the database is back", func() bool {
		_, err := p.try("replication", "show", rule)
		return err == nil
	})
}
