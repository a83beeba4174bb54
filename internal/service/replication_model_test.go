package service_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// ringModel is the plain model of two buckets that replicate to each other: of each key the
// state that was written last, wherever, is that of both in the end.
type ringModel map[string]*ringKey

type ringKey struct {
	body    string // "": removed
	tags    object.Tags
	anyBody bool // tags came last, onto whatever content was there
}

var nothingWaits = regexp.MustCompile(`Waiting +0 objects`)

// TestReplicationModel draws changes on both sides of a ring, whose first side is also copied
// to a store of another kind that fails at random; rules are paused and go on, the service is
// killed. When it is quiet both sides are what the model says, the store is what its source
// is, states agree, and a comparison of both sides finds nothing. SPINDLE_SEED chooses other
// changes.
func TestReplicationModel(t *testing.T) {
	bin := harness.Binary(t)
	for _, seed := range harness.Seeds(t, 2) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			replicateAtRandom(t, bin, seed)
		})
	}
}

func replicateAtRandom(t *testing.T, bin string, seed uint64) {
	p := &process{t: t, bin: bin, data: dataDir(t)}
	if err := p.start("--reach", "loopback"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	s, there := harness.Standin(t, standin.Faults{}, "mill")
	here := p.client()
	sides := []string{"plates", "copies"}
	versioned(t, here, sides...)
	p.command("endpoint", "add", "mill", "--url", s.URL, "--key", harness.StandinKey, "--secret-from",
		secretFile(t, harness.StandinSecret))
	rules := []string{"out", "back", "mill"}
	for i, to := range []string{"copies", "plates", "@mill/mill"} {
		from := sides[i%2]
		p.command("replication", "add", rules[i], "--from", from, "--to", to, "--existing", "leave", "--delete-markers", "on",
			"--removals", "on", "--onward", "on")
	}
	m := ringModel{}
	rnd := rand.New(rand.NewPCG(seed, 7))
	paused := map[string]bool{}
	for i := range 160 {
		key := fmt.Sprintf("k/%02d", rnd.IntN(12))
		side := sides[rnd.IntN(2)]
		switch n := rnd.IntN(20); {
		case n < 9:
			body := fmt.Sprint("content ", i, strings.Repeat(".", rnd.IntN(3000)))
			write(t, here, side, key, []byte(body), client.Put{Metadata: object.Metadata{"n": fmt.Sprint(i)}})
			m[key] = &ringKey{body: body}
		case n < 12:
			tags := object.Tags{"n": fmt.Sprint(i)}
			if err := here.SetTags(t.Context(), side, key, tags); err == nil {
				m[key] = &ringKey{tags: tags, anyBody: true}
			} else if fault.KindOf(err) != fault.NotFound {
				t.Fatal(err)
			}
		case n < 16:
			if _, err := here.Head(t.Context(), side, key); err == nil {
				if err := here.Remove(t.Context(), side, key); err != nil {
					t.Fatal(err)
				}
				m[key] = &ringKey{}
			}
		case n < 18:
			r := rules[rnd.IntN(3)]
			paused[r] = !paused[r]
			p.command("replication", "change", r, "--state", map[bool]string{true: "off", false: "on"}[paused[r]])
		case n == 18:
			if err := s.Set([]standin.Faults{{}, {Away: true}, {Errors: .2, Cut: .1, Throttle: .1},
				{Lacks: []string{"copy"}}}[rnd.IntN(4)]); err != nil {
				t.Fatal(err)
			}
		default:
			_ = p.cmd.Process.Kill()
			_ = p.cmd.Wait()
			if err := p.start("--reach", "loopback"); err != nil {
				t.Fatal(err)
			}
			here = p.client()
		}
		if rnd.IntN(8) == 0 {
			time.Sleep(time.Duration(rnd.IntN(400)) * time.Millisecond)
		}
	}
	if err := s.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	for _, r := range rules {
		p.command("replication", "change", r, "--state", "on")
	}
	last := ""
	defer func() {
		if t.Failed() {
			t.Logf("seed %d: %s", seed, last)
		}
	}()
	harness.Within(t, 2*time.Minute, "nothing waits",
		func() bool { // what a killed process had claimed is free after a minute
			quiet := 0
			last = ""
			for _, r := range rules {
				if out := p.command("replication", "show", r); nothingWaits.MatchString(out) &&
					strings.Contains(out, "keeps up") {
					quiet++
					continue
				}
				last += p.command("replication", "status", r)
				p.command("replication", "retry", r)
			}
			time.Sleep(300 * time.Millisecond)
			return quiet == len(rules)
		})
	m.agrees(t, here, sides)
	for key := range m {
		if diff := same(t.Context(), here, "plates", key, there, "mill", key); diff != "" {
			t.Errorf("seed %d: %s at the other store: %s", seed, key, diff)
		}
	}
	for _, r := range rules {
		out := p.command("replication", "verify", r, "--deep", "--check")
		if !strings.Contains(out, "all there as they are") || strings.Contains(out, "there alone") {
			t.Errorf("seed %d: both sides of %s: %s", seed, r, out)
		}
	}
}

// agrees compares both sides with the model.
func (m ringModel) agrees(t *testing.T, c *client.Client, sides []string) {
	t.Helper()
	for key, want := range m {
		if diff := same(t.Context(), c, sides[0], key, c, sides[1], key); diff != "" {
			t.Errorf("%s on both sides: %s", key, diff)
		}
		got, err := read(t.Context(), c, sides[0], key)
		gone := fault.KindOf(err) == fault.NotFound && err != nil
		switch {
		case err != nil && !gone:
			t.Fatal(err)
		case want.body == "" && !want.anyBody:
			if !gone {
				t.Errorf("%s was removed last, and %.20q is there", key, got.body)
			}
		case gone:
			t.Errorf("%s is gone; the model has %+v", key, want)
		case !want.anyBody && got.body != want.body || !maps.Equal(got.tags, want.tags) && (len(got.tags) > 0 ||
			len(want.tags) > 0):
			t.Errorf("%s is %.20q %v; want %.20q %v", key, got.body, got.tags, want.body, want.tags)
		}
	}
}
