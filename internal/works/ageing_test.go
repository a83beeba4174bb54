package works_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
	"spindle/internal/works/ageing"
)

// ager is a crew that acts by rules only when it is told to.
func ager(t *testing.T, s *store.Store, change func(*works.Settings)) *works.Crew {
	t.Helper()
	settings := works.Settings{AgeLook: time.Hour, AgeEvery: -1, AgeRate: 1_000_000, GuardShare: 2,
		CollectEvery: time.Hour}
	if change != nil {
		change(&settings)
	}
	c := works.Start(s, settings, quiet())
	t.Cleanup(c.Stop)
	return c
}

// coldTiers adds two cheaper tiers.
func coldTiers(t *testing.T, s *store.Store) {
	t.Helper()
	for name, price := range map[string]int64{"drying-room": 8_000, "cellar": 1_000} {
		if err := s.AddTier(t.Context(), &tier.Tier{Name: name, Copies: 1, Price: price,
			Volumes: []tier.Volume{{Dir: filepath.Join(t.TempDir(), name)}}}, me); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.ChangeTier(t.Context(), "main", 0, me,
		func(x *tier.Tier) error { x.Price = 20_000; return nil }); err != nil {
		t.Fatal(err)
	}
}

// rules saves rules that act at once.
func rules(t *testing.T, s *store.Store, forms ...lifecycle.Form) {
	t.Helper()
	now := time.Duration(0)
	if _, err := s.ChangeRules(t.Context(), plates, store.RulesChange{Grace: &now,
		Edit: func([]lifecycle.Form) ([]lifecycle.Form, error) { return forms, nil }}, me); err != nil {
		t.Fatal(err)
	}
}

// settle acts at a moment until nothing more is due, and says what was done.
func settle(t *testing.T, s *store.Store, c *works.Crew, now time.Time) map[string]int64 {
	t.Helper()
	ctx := harness.Context(t)
	did := map[string]int64{}
	for {
		all, err := s.Catalog.RuledBuckets(ctx, 0, 10)
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		// Readers of the journal wait for whoever writes anywhere in the cluster.
		harness.Until(t, "the journal is read to its end", func() bool {
			end, err := s.Catalog.JournalEnd(ctx)
			last, jerr := s.Catalog.Journal(ctx, catalog.JournalQuery{Limit: 1})
			if err != nil || jerr != nil {
				t.Fatal(err, jerr)
			}
			return last.Entries[0].Position() == fmt.Sprintf("%s.%d", end.XID, end.Seq)
		})
		before, err := s.Catalog.Runs(ctx, all[0].Bucket, 0, 1)
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Ageing.AgeBucket(ctx, all[0], now); err != nil {
			t.Fatal(err)
		}
		after, err := s.Catalog.Runs(ctx, all[0].Bucket, 0, 1)
		if err != nil {
			t.Fatal(err)
		}
		if len(after) == 0 || len(before) > 0 && before[0].ID == after[0].ID {
			return did
		}
		if after[0].State != catalog.RunDone {
			t.Fatalf("the run %+v", after[0])
		}
		for _, n := range after[0].Counts {
			did[n.Rule+" "+n.Of+" "+n.Do+" "+n.To] += n.Objects
		}
	}
}

func days(n int) *int { return &n }

// TestForecastsComeTrue makes random buckets with random rules, and lets the clock go on
// from day to day: what the runner does on a day is what the forecast said.
func TestForecastsComeTrue(t *testing.T) {
	seeds, told := harness.Seeds(t, 6), 0
	defer func() {
		if 2*told < len(seeds) && len(seeds) > 3 {
			t.Errorf("%d of %d forecasts say enough to be a test", told, len(seeds))
		}
	}()
	for _, seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 12))
			s := newStore(t)
			coldTiers(t, s)
			c := ager(t, s, nil)
			now := s.Catalog.Now().UTC().Truncate(time.Second)
			versioning := object.Versioning(seed % 3)
			if versioning != object.Off {
				if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(object.On)); err != nil {
					t.Fatal(err)
				}
			}
			fill(t, s, r, now, versioning)
			forms := randomRules(r)
			rules(t, s, forms...)
			now = s.Catalog.Now().UTC().Truncate(time.Second).Add(time.Minute) // what is done is done at that moment
			const ahead = 40
			facts, err := s.Facts(t.Context(), plates)
			if err != nil {
				t.Fatal(err)
			}
			set, err := s.RuleSet(t.Context(), forms)
			if err != nil {
				t.Fatal(err)
			}
			f, err := ageing.NewForecast(t.Context(), s, facts, set, now, ahead)
			if err != nil {
				t.Fatal(err)
			}
			want := map[int]map[string]int64{}
			for _, l := range f.Lines {
				a := l.Rule.Form().Actions[l.Action]
				for _, d := range l.ByDay {
					if want[d.Day] == nil {
						want[d.Day] = map[string]int64{}
					}
					want[d.Day][l.Rule.Name()+" "+a.Of+" "+a.Do+" "+a.To] += d.Objects
				}
			}
			if len(want) < 3 {
				t.Logf("the forecast says too little to be a test: %v", want)
			} else {
				told++
			}
			for day := range ahead + 1 {
				did := settle(t, s, c, now.Add(time.Duration(day)*lifecycle.Day))
				if len(did)+len(want[day]) > 0 && !reflect.DeepEqual(did, want[day]) {
					t.Fatalf("day %d, by %+v:\n did %v\nwant %v", day, forms, did, want[day])
				}
			}
		})
	}
}

// fill writes, rewrites, deletes and annotates over the last hundred days.
func fill(t *testing.T, s *store.Store, r *rand.Rand, now time.Time, versioning object.Versioning) {
	t.Helper()
	for i := range 120 {
		at := now.Add(-time.Duration(100-i*100/120)*lifecycle.Day - time.Duration(r.IntN(86_000))*time.Second)
		by := catalog.Author{At: at, Who: harness.Key}
		key := fmt.Sprintf("%s/%d.%s", []string{"plates", "notes"}[r.IntN(2)], r.IntN(25), []string{"tif", "txt"}[r.IntN(2)])
		a := catalog.Address{Bucket: plates, Key: object.MustKey(key)}
		if i == 80 && versioning == object.Paused {
			if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(object.Paused)); err != nil {
				t.Fatal(err)
			}
		}
		if r.IntN(6) == 0 {
			if _, err := s.Remove(t.Context(), a, nil, by); err != nil {
				t.Fatal(err)
			}
			continue
		}
		body := strings.Repeat("x", r.IntN(300))
		p := store.Put{Address: a, Author: by, Body: strings.NewReader(body), Size: int64(len(body))}
		if r.IntN(3) == 0 {
			p.Tags = object.Tags{"checked": "yes"}
		}
		if _, err := s.Put(t.Context(), p); err != nil {
			t.Fatal(err)
		}
	}
}

func randomRules(r *rand.Rand) []lifecycle.Form {
	from := int64(100)
	scopes := []lifecycle.ScopeForm{{}, {Prefix: "plates/"}, {Like: []string{"*.tif", "notes/1?.*"}},
		{LeaveOut: []string{"*.txt"}},
		{Tags: map[string]string{"checked": "yes"}}, {SizeFrom: &from}}
	n := func() *int { return days(r.IntN(110)) }
	actions := []func() []lifecycle.ActionForm{
		func() []lifecycle.ActionForm {
			first := r.IntN(60)
			return []lifecycle.ActionForm{{Of: "current", Do: "move", To: "drying-room", Days: &first},
				{Of: "current", Do: "move", To: "cellar", Days: days(first + 1 + r.IntN(60))}}
		},
		func() []lifecycle.ActionForm { return []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: n()}} },
		func() []lifecycle.ActionForm {
			return []lifecycle.ActionForm{{Of: "previous", Do: "remove", Days: n(), Keep: r.IntN(3)}}
		},
		func() []lifecycle.ActionForm {
			return []lifecycle.ActionForm{{Of: "previous", Do: "move", To: "cellar", Days: n()}}
		},
		func() []lifecycle.ActionForm {
			return []lifecycle.ActionForm{{Of: "current", Do: "remove", Date: time.Now().AddDate(0, 0,
				20).Format(time.DateOnly)}}
		},
	}
	out := []lifecycle.Form{{Name: "markers", Actions: []lifecycle.ActionForm{{Of: "markers", Do: "remove",
		Days: days(r.IntN(5))}}}}
	for i := range 4 {
		out = append(out, lifecycle.Form{Name: fmt.Sprintf("r%d", i), Scope: scopes[r.IntN(len(scopes))],
			Actions: actions[r.IntN(len(actions))]()})
	}
	return out
}

// TestRunsAskStopAndGoOn goes through the life of runs: the grace, the guard and its
// answers, a rule that changes, and a worker that comes back.
func TestRunsAskStopAndGoOn(t *testing.T) {
	s := newStore(t)
	c := ager(t, s, func(x *works.Settings) { x.GuardShare, x.GuardLeast = 0.2, 10 })
	ctx := t.Context()
	now := s.Catalog.Now().UTC()
	for i := range 40 {
		a := catalog.Address{Bucket: plates, Key: object.MustKey(fmt.Sprintf("k%02d", i))}
		if _, err := s.Put(ctx, store.Put{Address: a, Author: catalog.Author{At: now.Add(-time.Duration(i) * lifecycle.Day),
			Who: harness.Key}, Body: strings.NewReader("x"), Size: 1}); err != nil {
			t.Fatal(err)
		}
	}
	old := lifecycle.Form{Name: "old", Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: days(20)}}}
	l, err := s.ChangeRules(ctx, plates, store.RulesChange{Edit: store.PutRule(old)}, me)
	if err != nil || l.Acts.Sub(l.Saved) != store.Grace {
		t.Fatalf("%+v, %v", l, err)
	}
	one := func(now time.Time) *catalog.Run {
		t.Helper()
		all, err := s.Catalog.RuledBuckets(ctx, 0, 10)
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		if err := c.Ageing.AgeBucket(ctx, all[0], now); err != nil {
			t.Fatal(err)
		}
		runs, err := s.Catalog.Runs(ctx, all[0].Bucket, 0, 1)
		if err != nil || len(runs) == 0 {
			return nil
		}
		return runs[0]
	}
	if r := one(now.Add(time.Minute)); r != nil {
		t.Errorf("in its grace: %+v", r)
	}
	r := one(now.Add(11 * time.Minute))
	if r == nil || r.State != catalog.RunAsks || !strings.Contains(r.Says, "50 %") {
		t.Fatalf("half of the bucket: %+v", r)
	}
	if again := one(now.Add(time.Hour)); again.ID != r.ID || again.State != catalog.RunAsks {
		t.Errorf("not answered: %+v", again)
	}
	if err := s.Catalog.AnswerRun(ctx, l.Bucket, r.ID, false, me); err != nil {
		t.Fatal(err)
	}
	if err := s.Catalog.AnswerRun(ctx, l.Bucket, r.ID, true, me); err == nil {
		t.Error("a run that was stopped was let go on")
	}
	r = one(now.Add(time.Hour))
	if r.State != catalog.RunAsks {
		t.Fatalf("asked anew: %+v", r)
	}
	by := me
	by.At = now
	if err := s.Catalog.AnswerRun(ctx, l.Bucket, r.ID, true, by); err != nil {
		t.Fatal(err)
	}
	// The rule changes before the run goes on: it ends without doing anything.
	old.Actions[0].Days = days(30)
	rules(t, s, old)
	if r = one(now.Add(time.Hour)); r.State != catalog.RunStopped || r.Says != "the rules were changed meanwhile" {
		t.Errorf("rules changed: %+v", r)
	}
	if r = one(now.Add(time.Hour)); r.State != catalog.RunAsks {
		t.Fatalf("a quarter of the bucket: %+v", r)
	}
	if err := s.Catalog.AnswerRun(ctx, l.Bucket, r.ID, true, by); err != nil {
		t.Fatal(err)
	}
	if r = one(now.Add(time.Hour)); r.State != catalog.RunDone || r.Counts[0].Objects != 10 || r.Allowed != harness.Key {
		t.Errorf("let go on: %+v", r)
	}
	list, err := s.Catalog.Outcomes(ctx, r.ID, 0, false, 100)
	if err != nil || len(list) != 10 || list[0].Did != "remove current" || list[0].Rule != "old" {
		t.Errorf("outcomes: %+v, %v", list, err)
	}
	past, err := s.Catalog.PastRules(ctx, l.Bucket, 0, 10)
	if err != nil || len(past) != 3 || past[2].Revision != 0 || *past[0].Rules[0].Actions[0].Days != 30 {
		t.Errorf("history: %+v, %v", past, err)
	}
	// The bytes of the journal name the rule and the run.
	page, err := s.Catalog.Journal(ctx, catalog.JournalQuery{Bucket: "plates",
		Kinds: []catalog.EntryKind{catalog.ObjectRemoved}, Limit: 1})
	if err != nil || page.Entries[0].Who != ageing.Ager || page.Entries[0].Detail["rule"] != "old" {
		t.Errorf("journal: %+v, %v", page, err)
	}
}

// TestScopesAreTheSameInSQL compares what a scope holds in the database with what it
// holds in Go, for keys and patterns with every sign that means something to either.
func TestScopesAreTheSameInSQL(t *testing.T) {
	s := newStore(t)
	for _, key := range []string{"a%b", "a_b", "aXb", `a\b`, "a*b", "a?b", "aéb", "é", "日本/語.tif", "a\x00b",
		"plates/x.tif",
		"Plates/x.tif", "plates", "plate", "a/b/c", "a//b", " a", "a\nb", "'a'", `"a"`, "a;b--", "🌿"} {
		put(t, s, key, []byte(key))
	}
	var forms []lifecycle.Form
	add := func(scope lifecycle.ScopeForm) {
		forms = append(forms, lifecycle.Form{Name: fmt.Sprintf("r%02d", len(forms)), Scope: scope,
			Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: days(9)}}})
	}
	for _, p := range []string{"a%b", "a_b", "a?b", `a\*b`, `a\?b`, `a\\b`, "*", "?", "??", "*?", "é*", "*.tif",
		"*/?.tif", "*'*",
		"a\nb", "*本*", "a*b", "* *", "?a"} {
		add(lifecycle.ScopeForm{Like: []string{p}})
		add(lifecycle.ScopeForm{LeaveOut: []string{p}})
	}
	for _, p := range []string{"a", "a%", "a?", "plate", "é", "日", "\x00", "🌿"} {
		add(lifecycle.ScopeForm{Prefix: p, Literal: true})
	}
	for _, w := range []string{`key contains "'"`, "size over 3", "not field taxon is Drosera", "lacks tag 'checked'",
		"type is one of application/octet-stream, text/csv and changed after 7d ago", `key like "*é*" or key is plate`} {
		add(lifecycle.ScopeForm{Where: w})
	}
	facts, err := s.Facts(t.Context(), plates)
	if err != nil {
		t.Fatal(err)
	}
	set, err := s.RuleSet(t.Context(), forms)
	if err != nil {
		t.Fatal(err)
	}
	f, err := ageing.NewForecast(t.Context(), s, facts, set, s.Catalog.Now().UTC(), 30)
	if err != nil {
		t.Fatal(err)
	}
	page, _, err := s.List(t.Context(), plates, catalog.Listing{Max: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for i, r := range set.Rules {
		var want int64
		for _, e := range page {
			if set.Mask(query.Of(e.Version))&(1<<i) != 0 {
				want++
			}
		}
		if got := f.Matched[r.Name()].Objects; got != want {
			t.Errorf("%+v holds %d keys in the database, %d here", r.Form().Scope, got, want)
		}
	}
}

// TestATierThatIsAwayEndsARun takes the tier away that a rule moves to: the run says so,
// nothing is lost or called moved, and it goes on when the tier is back.
func TestATierThatIsAwayEndsARun(t *testing.T) {
	s := newStore(t)
	c := ager(t, s, nil)
	dir := filepath.Join(t.TempDir(), "cellar")
	if err := s.AddTier(t.Context(), &tier.Tier{Name: "cellar", Copies: 1, Volumes: []tier.Volume{{Dir: dir}}},
		me); err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		put(t, s, fmt.Sprint("k", i), []byte(strings.Repeat("x", 200_000)))
	}
	rules(t, s, lifecycle.Form{Name: "down", Actions: []lifecycle.ActionForm{{Of: "current", Do: "move", To: "cellar",
		Days: days(0)}}})
	if err := os.Rename(dir, dir+" away"); err != nil {
		t.Fatal(err)
	}
	now := s.Catalog.Now().UTC().Add(time.Second)
	one := func(now time.Time) *catalog.Run {
		t.Helper()
		all, err := s.Catalog.RuledBuckets(t.Context(), 0, 10)
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		_ = c.Ageing.AgeBucket(t.Context(), all[0], now) // what came of it stands in the run
		runs, err := s.Catalog.Runs(t.Context(), all[0].Bucket, 0, 1)
		if err != nil || len(runs) == 0 {
			t.Fatal(runs, err)
		}
		return runs[0]
	}
	if r := one(now); r.State != catalog.RunFailed || !strings.Contains(r.Says, "is away") {
		t.Errorf("away: %+v", r)
	}
	if r := one(now.Add(time.Minute)); r.ID != 1 {
		t.Errorf("begun again at once: %+v", r)
	}
	for i := range 20 {
		if err := body(s, t, fmt.Sprint("k", i)); err != nil {
			t.Errorf("k%d: %v", i, err)
		}
	}
	if err := os.Rename(dir+" away", dir); err != nil {
		t.Fatal(err)
	}
	if r := one(now.Add(10 * time.Minute)); r.State != catalog.RunDone || r.Counts[0].Objects != 20 {
		t.Errorf("back: %+v", r)
	}
}

// TestTheScrubberMendsCopies spoils one of two copies: the scrubber makes it anew from the
// good one, and the journal says so.
func TestTheScrubberMendsCopies(t *testing.T) {
	s := newStore(t)
	dirs := []string{filepath.Join(t.TempDir(), "north"), filepath.Join(t.TempDir(), "south")}
	if err := s.AddTier(t.Context(), &tier.Tier{Name: "cellar", Copies: 2,
		Volumes: []tier.Volume{{Dir: dirs[0]}, {Dir: dirs[1]}}}, me); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Put(t.Context(), store.Put{Address: at("k"), Author: me, Body: strings.NewReader("kept twice"),
		Size: 10,
		Tier: "cellar"}); err != nil {
		t.Fatal(err)
	}
	copies, err := filepath.Glob(filepath.Join(dirs[0], "whole", "*", "*.body"))
	if err != nil || len(copies) != 1 {
		t.Fatal(copies, err)
	}
	if err := os.WriteFile(copies[0], []byte("spoiled"), 0o600); err != nil {
		t.Fatal(err)
	}
	crew := works.Start(s, works.Settings{ScrubEvery: 20 * time.Millisecond}, quiet())
	defer crew.Stop()
	harness.Until(t, "the journal tells of a mended copy", func() bool {
		page, err := s.Catalog.Journal(t.Context(), catalog.JournalQuery{Kinds: []catalog.EntryKind{catalog.CopyMended},
			Limit: 1})
		return err == nil && len(page.Entries) == 1 && page.Entries[0].Key == "k"
	})
	if b, err := os.ReadFile(copies[0]); err != nil || string(b) == "spoiled" {
		t.Errorf("the copy is %q, %v", b, err)
	}
	if damaged, err := s.Catalog.Damaged(t.Context(), "", 10); err != nil || len(damaged) != 0 {
		t.Errorf("it is called damage: %v, %v", damaged, err)
	}
}
