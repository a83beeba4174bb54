package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// reaching lets a service reach stand-ins.
func reaching(cfg *service.Config) { cfg.Reach = []string{"loopback"} }

// versioned makes buckets that keep versions.
func versioned(t *testing.T, c *client.Client, buckets ...string) {
	t.Helper()
	for _, b := range buckets {
		if err := errors.Join(c.CreateBucket(t.Context(), b), c.SetVersioning(t.Context(), b, true)); err != nil {
			t.Fatal(err)
		}
	}
}

func write(t *testing.T, c *client.Client, bucket, key string, body []byte, p client.Put) {
	t.Helper()
	if _, err := c.Put(t.Context(), bucket, key, bytes.NewReader(body), int64(len(body)), p); err != nil {
		t.Fatalf("put %s: %v", key, err)
	}
}

// thing is an object as somebody sees it who compares.
type thing struct {
	body, kind string
	metadata   object.Metadata
	tags       object.Tags
}

func read(ctx context.Context, c *client.Client, bucket, key string) (thing, error) {
	o, err := c.Get(ctx, bucket, key, "", 0, "")
	if err != nil {
		return thing{}, err
	}
	defer o.Body.Close()
	b, err := io.ReadAll(o.Body)
	if err != nil {
		return thing{}, err
	}
	tags, err := c.Tags(ctx, bucket, key)
	return thing{string(b), o.ContentType, o.Metadata, tags}, err
}

// same says in what an object differs on two sides, "" when it does not.
func same(ctx context.Context, a *client.Client, bucket, key string, b *client.Client, bucketB, keyB string) string {
	x, xerr := read(ctx, a, bucket, key)
	y, yerr := read(ctx, b, bucketB, keyB)
	switch {
	case fault.KindOf(xerr) == fault.NotFound && fault.KindOf(yerr) == fault.NotFound && xerr != nil && yerr != nil:
		return ""
	case xerr != nil || yerr != nil:
		return fmt.Sprintf("here %v, there %v", xerr, yerr)
	case x.body != y.body:
		return fmt.Sprintf("%d bytes here, %d other ones there", len(x.body), len(y.body))
	case x.kind != y.kind || !maps.Equal(x.metadata, y.metadata) || !maps.Equal(x.tags, y.tags):
		return fmt.Sprintf("here %q %v %v, there %q %v %v", x.kind, x.metadata, x.tags, y.kind, y.metadata, y.tags)
	}
	return ""
}

// What is put, annotated and removed comes to be so at an endpoint and in another bucket
// here, with its metadata, and the state of the object says so.
func TestReplication(t *testing.T) {
	r := harness.Service(t, reaching)
	s, there := harness.Standin(t, standin.Faults{}, "plates")
	here := r.Client()
	versioned(t, here, "plates", "copies")
	e := r.StandinEndpoint("annex", s)
	r.Replicate(&replication.Rule{Name: "plates-out", Bucket: "plates", Prefix: "2026/", Markers: true,
		Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "annex", Bucket: "plates", Prefix: "from-fenn/"},
			{Bucket: "copies", Sealed: true}}})
	both := func(key string) string {
		return same(t.Context(), here, "plates", key, there, "plates", "from-fenn/"+key) +
			same(t.Context(), here, "plates", key, here, "copies", key)
	}
	key := "2026/moorland/a b+ü.tif"
	write(t, here, "plates", key, []byte("a sheet"), client.Put{ContentType: "image/tiff",
		Metadata: object.Metadata{"taxon": "Drosera"}, Tags: object.Tags{"kind": "scan"}})
	write(t, here, "plates", "2025/old.tif", []byte("not meant"), client.Put{})
	large := bytes.Repeat([]byte("0123456789abcdef"), 70<<20/16)
	write(t, here, "plates", "2026/large.tif", large, client.Put{})
	for _, k := range []string{key, "2026/large.tif"} {
		harness.Until(t, "a replica of "+k, func() bool { return both(k) == "" })
	}
	if n := s.Counts()["PutPart"]; n != 5 {
		t.Errorf("70 MiB went there in %d parts", n)
	}
	state := func(key string) (out []replication.State, why string) {
		a := catalog.Address{Bucket: object.MustBucketName("plates"), Key: object.MustKey(key)}
		v, err := r.Store.Find(t.Context(), a)
		if err != nil {
			t.Fatal(err)
		}
		f, err := r.Store.Bucket(t.Context(), a.Bucket)
		if err != nil {
			t.Fatal(err)
		}
		states, err := r.Store.ReplicaStates(t.Context(), f.ID, []*object.Version{v})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range states[0] {
			out, why = append(out, x.State), x.Why
		}
		return out, why
	}
	harness.Until(t, "completed", func() bool {
		is, _ := state(key)
		return is[0] == replication.Completed && is[1] == replication.Completed
	})
	if is, why := state("2025/old.tif"); is[0] != replication.Outside || why != "its key does not begin with 2026/" {
		t.Errorf("what is not in scope: %v, %s", is, why)
	}
	if _, h, _ := r.Do("HEAD", "/plates/2026/large.tif", nil, "", true); h.Get("x-amz-replication-status") != "COMPLETED" {
		t.Errorf("the header of its state: %q", h.Get("x-amz-replication-status"))
	}
	if _, h, _ := r.Do("HEAD", "/copies/2026/large.tif", nil, "", true); h.Get("x-amz-replication-status") != "REPLICA" {
		t.Errorf("the header of a replica's state: %q", h.Get("x-amz-replication-status"))
	}
	// Metadata alone travels without bytes.
	puts, in := s.Counts()["Put"], s.Counts()["in"]
	if err := here.SetTags(t.Context(), "plates", "2026/large.tif", object.Tags{"checked": "yes"}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the tags there", func() bool { return both("2026/large.tif") == "" })
	if c := s.Counts(); c["Put"] != puts || c["in"]-in > 1<<20 {
		t.Errorf("tags took %d puts and %d bytes", c["Put"]-puts, c["in"]-in)
	}
	// A delete marker goes along, and what was there is a version there too.
	if err := here.Remove(t.Context(), "plates", key); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the delete marker there", func() bool {
		_, err := there.Head(t.Context(), "plates", "from-fenn/"+key)
		return fault.KindOf(err) == fault.NotFound && both(key) == ""
	})
	if p, err := there.ListVersions(t.Context(), "plates", "from-fenn/"+key, client.VersionPlace{}, 10); err != nil ||
		len(p.Versions) != 2 || !p.Versions[1].Marker {
		t.Errorf("versions there: %+v, %v", p, err)
	}
}

// What is read from a restored copy only waits for one, which is no failure, and is copied.
func TestReplicationWaitsForRestoredCopies(t *testing.T) {
	r := harness.Service(t, func(c *service.Config) {
		reaching(c)
		c.Works.RestoreEvery = 20 * time.Millisecond
	})
	s, there := harness.Standin(t, standin.Faults{}, "plates")
	here, e := r.Client(), r.StandinEndpoint("annex", s)
	versioned(t, here, "plates")
	if err := r.Store.AddTier(t.Context(), &tier.Tier{Name: "cellar", Copies: 1,
		Restore: &tier.Restore{Delay: 3 * time.Second, Days: 1},
		Volumes: []tier.Volume{{Dir: filepath.Join(t.TempDir(), "cellar")}}},
		catalog.Author{At: time.Now(), Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	r.Replicate(&replication.Rule{Name: "out", Bucket: "plates",
		Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "annex",
			Bucket: "plates"}}})
	write(t, here, "plates", "cold", []byte("a sheet"), client.Put{Tier: "cellar"})
	book, err := r.Store.Replications(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	target := book.Rules[0].Targets[0].ID
	waited := false
	harness.Until(t, "a replica", func() bool {
		st, err := r.Store.Catalog.Standing(t.Context(), []int64{target}, time.Now().Add(-time.Hour))
		if err != nil || st[target].Failed != 0 {
			t.Fatalf("%+v, %v", st[target], err)
		}
		list, err := r.Store.Catalog.WaitingReplicas(t.Context(), target, false, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		waited = waited || len(list) == 1 && strings.Contains(list[0].Says, "a restored copy is made")
		return same(t.Context(), here, "plates", "cold", there, "plates", "cold") == "" && st[target].Waiting == 0
	})
	if !waited {
		t.Error("nothing said what was waited for")
	}
}

// Whatever goes wrong on the way, in the end the target holds what the source holds, and
// nothing else was acknowledged as copied.
func TestReplicationThroughFaults(t *testing.T) {
	r := harness.Service(t, reaching)
	s, there := harness.Standin(t, standin.Faults{Errors: .1, Burst: 2, Cut: .05, Wrong: .05, Throttle: .05,
		Latency: 1}, "plates")
	here := r.Client()
	versioned(t, here, "plates")
	e := r.StandinEndpoint("mill", s)
	rule := r.Replicate(&replication.Rule{Name: "to-mill", Bucket: "plates", Markers: true,
		Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "mill", Bucket: "plates"}}})
	rnd := rand.New(rand.NewPCG(11, 4))
	for i := range 250 {
		key := fmt.Sprintf("key-%02d", rnd.IntN(40))
		switch rnd.IntN(8) {
		case 0:
			if err := here.Remove(t.Context(), "plates", key); err != nil {
				t.Fatal(err)
			}
		case 1:
			err := here.SetTags(t.Context(), "plates", key, object.Tags{"n": fmt.Sprint(i)})
			if err != nil && fault.KindOf(err) != fault.NotFound {
				t.Fatal(err)
			}
		default:
			write(t, here, "plates", key, bytes.Repeat([]byte{byte(i)}, rnd.IntN(3000)),
				client.Put{Metadata: object.Metadata{"n": fmt.Sprint(i)}})
		}
		if i == 120 {
			if err := s.Set(standin.Faults{Away: true}); err != nil {
				t.Fatal(err)
			}
		}
	}
	time.Sleep(300 * time.Millisecond)
	// No row says that something is there while nothing could be.
	if err := s.Set(standin.Faults{Errors: .1, Burst: 3, Cut: .05, Wrong: .05, Lacks: []string{"copy"}}); err != nil {
		t.Fatal(err)
	}
	hurry(t, r, rule)
	settled(t, r, rule)
	if err := s.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	for i := range 40 {
		key := fmt.Sprintf("key-%02d", i)
		if diff := same(t.Context(), here, "plates", key, there, "plates", key); diff != "" {
			t.Errorf("%s: %s", key, diff)
		}
	}
}

// hurry has what failed be tried again and again, until the test ends.
func hurry(t *testing.T, r *harness.Running, rules ...*replication.Rule) {
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			for _, rule := range rules {
				for _, x := range rule.Targets {
					_, _ = r.Store.Catalog.RetryReplicas(ctx, x.ID, "") // the context ends it
				}
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
	t.Cleanup(func() { stop(); <-done })
}

// settled waits until nothing waits at the targets of a rule, and the journal is read.
func settled(t *testing.T, r *harness.Running, rules ...*replication.Rule) {
	t.Helper()
	quiet := 0
	harness.Until(t, "nothing waits", func() bool {
		for _, rule := range rules {
			for _, x := range rule.Targets {
				st, err := r.Store.Catalog.Standing(t.Context(), []int64{x.ID}, time.Now())
				if err != nil {
					t.Fatal(err)
				}
				if st[x.ID].Waiting > 0 || st[x.ID].Backfill == 1 {
					quiet = 0
					return false
				}
			}
		}
		quiet++
		return quiet > 25 // half a second
	})
}

// Three services that replicate in a ring, each sending on what it got, settle: each has
// every object, and none comes round again.
func TestRingOfThree(t *testing.T) {
	var rs [3]*harness.Running
	for i := range rs {
		rs[i] = harness.Service(t, reaching)
		versioned(t, rs[i].Client(), "plates")
	}
	var rules [3]*replication.Rule
	for i := range rs {
		next := rs[(i+1)%3]
		e := rs[i].Endpoint("herbarium", "next", next.WireURL, sign.Credential{ID: harness.Key, Secret: harness.Secret})
		rules[i] = rs[i].Replicate(&replication.Rule{Name: "round", Bucket: "plates", Markers: true, Onward: true,
			Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "next", Bucket: "plates"}}})
	}
	for i := range rs {
		write(t, rs[i].Client(), "plates", fmt.Sprintf("from-%d", i), []byte("x"), client.Put{})
	}
	for i := range rs {
		for k := range rs {
			harness.Until(t, "all everywhere", func() bool {
				_, err := rs[i].Client().Head(t.Context(), "plates", fmt.Sprintf("from-%d", k))
				return err == nil
			})
		}
	}
	for i := range rs {
		settled(t, rs[i], rules[i])
		p, err := rs[i].Client().ListVersions(t.Context(), "plates", "", client.VersionPlace{}, 100)
		if err != nil || len(p.Versions) != 3 {
			t.Errorf("service %d has %d versions, %v", i, len(p.Versions), err)
		}
	}
}

// What was written on both sides is not written over: the later stays, and the earlier
// says so.
func TestWrittenOnBothSides(t *testing.T) {
	r := harness.Service(t, reaching)
	here := r.Client()
	versioned(t, here, "plates", "copies")
	write(t, here, "plates", "sheet", []byte("earlier"), client.Put{})
	write(t, here, "copies", "sheet", []byte("later"), client.Put{})
	rule := r.Replicate(&replication.Rule{Name: "both", Bucket: "plates",
		Targets: []replication.Target{{Bucket: "copies"}}})
	if err := r.Store.Catalog.StartBackfill(t.Context(), rule.Targets[0].ID); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it says that something newer is there", func() bool {
		w, err := r.Store.Catalog.WaitingReplicas(t.Context(), rule.Targets[0].ID, true, "", 10)
		return err == nil && len(w) == 1 && w[0].Code == "newer-there"
	})
	if x, err := read(t.Context(), here, "copies", "sheet"); err != nil || x.body != "later" {
		t.Errorf("what was later: %+v, %v", x, err)
	}
	write(t, here, "plates", "sheet", []byte("latest"), client.Put{})
	harness.Until(t, "the latest goes over", func() bool {
		x, err := read(t.Context(), here, "copies", "sheet")
		return err == nil && x.body == "latest"
	})
}

// What stands against a target as a whole is said, what waits is kept, and it goes on by
// itself once it is put right.
func TestTargetsThatFail(t *testing.T) {
	r := harness.Service(t, reaching)
	s, there := harness.Standin(t, standin.Faults{}, "plates", "notes", "swapped")
	here := r.Client()
	versioned(t, here, "plates", "copies")
	lab := r.NewKey("seed-lab", "lab", access.Administrator, nil)
	lc := *here
	lc.Key = lab
	versioned(t, &lc, "lab-copies")
	e := r.StandinEndpoint("annex", s)
	at := func(bucket string) replication.Target {
		return replication.Target{EndpointID: e.ID, Endpoint: "annex", Bucket: bucket}
	}
	saver := r.NewKey("herbarium", "saver", access.Administrator, nil)
	rule := r.Replicate(&replication.Rule{Name: "many", Bucket: "plates", By: saver.ID,
		Targets: []replication.Target{at("plates"),
			at("notes"), at("swapped"), {Bucket: "copies"}, {Bucket: "lab-copies"}}})
	grant := r.Grant("lab-copies", "", "account herbarium", "replicate into")
	write(t, here, "plates", "one", []byte("1"), client.Put{})
	for i, c := range []*client.Client{there, there, there, here, &lc} {
		harness.Until(t, "one everywhere", func() bool {
			return same(t.Context(), here, "plates", "one", c, rule.Targets[i].Bucket, "one") == ""
		})
	}
	settled(t, r, rule)
	// One bucket goes, one is another by now, two keep no versions, one grant is taken away.
	if err := errors.Join(there.SetVersioning(t.Context(), "plates", false),
		here.SetVersioning(t.Context(), "copies", false),
		s.Hold.Drop("swapped")); err == nil {
		t.Fatal("a bucket with something in it was removed")
	}
	wipe(t, there, "notes")
	wipe(t, there, "swapped")
	time.Sleep(1100 * time.Millisecond) // of the time that a bucket was made there are whole seconds
	if err := errors.Join(there.CreateBucket(t.Context(), "swapped"), there.SetVersioning(t.Context(), "swapped", true),
		r.Store.Catalog.RemoveGrant(t.Context(), grant, catalog.Author{At: time.Now(), Who: harness.Key})); err != nil {
		t.Fatal(err)
	}
	r.Gate.Changed()
	r.Crew.Replicate.LookAtTargetsAgain()
	write(t, here, "plates", "two", []byte("2"), client.Put{})
	codes := []string{"target-versioning", "bucket-missing", "target-swapped", "target-versioning", "not-allowed"}
	for i, want := range codes {
		harness.Until(t, "the target "+rule.Targets[i].Address()+" says "+want, func() bool {
			st, err := r.Store.Catalog.Standing(t.Context(), []int64{rule.Targets[i].ID}, time.Now())
			return err == nil && st[rule.Targets[i].ID].Code == want && st[rule.Targets[i].ID].Waiting == 1
		})
	}
	if err := errors.Join(there.SetVersioning(t.Context(), "plates", true),
		here.SetVersioning(t.Context(), "copies", true),
		there.CreateBucket(t.Context(), "notes"), there.SetVersioning(t.Context(), "notes", true)); err != nil {
		t.Fatal(err)
	}
	for _, i := range []int{1, 2} {
		if err := r.Store.Catalog.AcceptTarget(t.Context(), rule.Targets[i].ID); err != nil {
			t.Fatal(err)
		}
	}
	r.Grant("lab-copies", "", "account herbarium", "replicate into")
	hurry(t, r, rule)
	settled(t, r, rule)
	for i, c := range []*client.Client{there, there, there, here, &lc} {
		if diff := same(t.Context(), here, "plates", "two", c, rule.Targets[i].Bucket, "two"); diff != "" {
			t.Errorf("%s: %s", rule.Targets[i].Address(), diff)
		}
	}
}

// wipe removes a bucket with all that is in it.
func wipe(t *testing.T, c *client.Client, bucket string) {
	t.Helper()
	p, err := c.ListVersions(t.Context(), bucket, "", client.VersionPlace{}, 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		if err := c.RemoveVersion(t.Context(), bucket, v.Key, v.Version); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.RemoveBucket(t.Context(), bucket); err != nil {
		t.Fatal(err)
	}
}

// A dead endpoint is asked now and then and costs the others nothing; it catches up by
// itself when it is back.
func TestDeadEndpoint(t *testing.T) {
	r := harness.Service(t, reaching)
	dead, deadClient := harness.Standin(t, standin.Faults{Away: true}, "plates")
	alive, aliveClient := harness.Standin(t, standin.Faults{}, "plates")
	here := r.Client()
	versioned(t, here, "plates")
	ed, ea := r.StandinEndpoint("dead", dead), r.StandinEndpoint("alive", alive)
	rule := r.Replicate(&replication.Rule{Name: "both", Bucket: "plates", Targets: []replication.Target{
		{EndpointID: ed.ID, Endpoint: "dead", Bucket: "plates"}, {EndpointID: ea.ID, Endpoint: "alive", Bucket: "plates"}}})
	for i := range 300 {
		write(t, here, "plates", fmt.Sprint(i), []byte("x"), client.Put{})
	}
	harness.Until(t, "all at the one that lives", func() bool {
		p, err := aliveClient.List(t.Context(), "plates", "", "", "", 1000)
		return err == nil && len(p.Objects) == 300
	})
	if n := dead.Counts()["away"]; n > 60 {
		t.Errorf("the dead one was asked %d times", n)
	}
	harness.Until(t, "the dead one is said to fail", func() bool {
		st, err := r.Store.Catalog.Standing(t.Context(), []int64{rule.Targets[0].ID}, time.Now())
		return err == nil && st[rule.Targets[0].ID].Code == "unreachable"
	})
	if err := dead.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it catches up", func() bool {
		p, err := deadClient.List(t.Context(), "plates", "", "", "", 1000)
		return err == nil && len(p.Objects) == 300
	})
}

// secretFile keeps a secret in a file for a command.
func secretFile(t *testing.T, secret string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(path, []byte(secret), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}
