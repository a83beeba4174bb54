package catalog_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/harness"
	"spindle/internal/store"
)

// The index answers as the objects are, at any moment: while it is built, while runs are
// put together, and of what it has not read yet.
func TestFindIndexAgrees(t *testing.T) {
	catalog.SmallIndex(t, 64, 16)
	s := harness.Store(t)
	cat := s.Catalog
	r := rand.New(rand.NewPCG(8, uint64(time.Now().UnixNano())))
	name := object.MustBucketName("plates")
	by := catalog.Author{At: time.Now(), Who: "scanner-1"}
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: name, Account: "herbarium"}, by); err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	tiers, err := s.Tiers(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	words := []string{"Drosera", "Drosera rotundifolia", "Carex", "100", "7", "", strings.Repeat("x", 300)}
	model := map[string]query.Object{}
	change := func() {
		t.Helper()
		key := fmt.Sprintf("%02d/%03d", r.IntN(5), r.IntN(120))
		a := catalog.Address{Bucket: name, Key: object.MustKey(key)}
		if _, is := model[key]; is && r.IntN(4) == 0 {
			if _, err := s.Remove(t.Context(), a, nil, catalog.Author{At: cat.Now(), Who: "scanner-1"}); err != nil {
				t.Fatal(err)
			}
			delete(model, key)
			return
		}
		meta := object.Metadata{}
		for range r.IntN(3) {
			meta[fmt.Sprintf("f%d", r.IntN(3))] = words[r.IntN(len(words))]
		}
		body := strings.Repeat("x", r.IntN(50))
		if _, err := s.Put(t.Context(), store.Put{Address: a, Author: catalog.Author{At: cat.Now(), Who: "scanner-1"},
			Metadata: meta,
			Body:     strings.NewReader(body), Size: int64(len(body)),
			Tags: object.Tags{"kind": words[r.IntN(3)]}}); err != nil {
			t.Fatal(err)
		}
		model[key] = query.Object{Bucket: "plates", Key: key, Size: int64(len(body)), Metadata: meta,
			Tags: map[string]string{}, Current: true,
			Tier: "main", Writer: "scanner-1"}
	}
	expressions := []string{"field f0 is Drosera", "field f1 begins with Dro and size over 10", "lacks field f2",
		"has field f2 or size under 5",
		"not field f0 contains ro", "field f1 over 50", "size between 10 and 20 and not key begins with 03/",
		"key begins with 02/", "key is 01/001",
		"field f0 is " + words[6], "tier is main", "tier is cellar",
		"field f0 is one of Carex, Drosera and writer is scanner-1",
		"key like *7 or field f2 is 7", "sealed", "not (size at least 0)"}
	byIndex := 0
	compare := func(round int) {
		t.Helper()
		text := expressions[r.IntN(len(expressions))]
		now := cat.Now()
		x, err := query.Parse(text, now)
		if err != nil {
			t.Fatal(err)
		}
		var want []string
		var bytes int64
		for _, key := range slices.Sorted(maps.Keys(model)) {
			if query.Holds(x, model[key], now) {
				want = append(want, key)
				bytes += model[key].Size
			}
		}
		f := catalog.Find{Bucket: facts.ID, Name: "plates", Expr: x, Now: now, Tiers: tiers, Limit: 1 + r.IntN(80),
			Budget: 1 + r.IntN(300)}
		var got []string
		for {
			p, err := cat.Find(t.Context(), f)
			if err != nil {
				t.Fatal(text, err)
			}
			if p.Index {
				byIndex++
			}
			for _, v := range p.Found {
				got = append(got, v.Key.String())
			}
			if f.After = p.Next; f.After.Key == "" {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Fatalf("round %d: %s finds %d %q, want %d %q", round, text, len(got), got, len(want), want)
		}
		n, sum, err := cat.CountFound(t.Context(), f)
		if err != nil || n != int64(len(want)) || sum != bytes {
			t.Fatalf("round %d: %s counts %d, %d bytes, want %d, %d: %v", round, text, n, sum, len(want), bytes, err)
		}
	}
	for range 200 {
		change()
	}
	harness.Until(t, "usage is known", func() bool {
		if _, err := cat.RollUp(t.Context(), 10_000); err != nil {
			t.Fatal(err)
		}
		if err := cat.EnrolFind(t.Context(), 10); err != nil {
			t.Fatal(err)
		}
		list, err := cat.FindIndexes(t.Context(), "")
		return err == nil && len(list) == 1
	})
	merged := false
	for round := range 250 {
		switch r.IntN(6) {
		case 0:
			if _, err := cat.WorkOnFind(t.Context(), tiers); err != nil {
				t.Fatal(err)
			}
		case 1, 2:
			if _, err := cat.FollowFind(t.Context(), tiers, 1+r.IntN(40)); err != nil {
				t.Fatal(err)
			}
		}
		change()
		compare(round)
		list, err := cat.FindIndexes(t.Context(), "herbarium")
		if err != nil {
			t.Fatal(err)
		}
		merged = merged || list[0].Merging
	}
	list, err := cat.FindIndexes(t.Context(), "herbarium")
	if err != nil || !list[0].Ready || list[0].Segments == 0 || !merged {
		t.Errorf("the index was never whole, or nothing was put together: %+v, %v", list, err)
	}
	if byIndex < 100 {
		t.Errorf("only %d pages came by the index", byIndex)
	}
	if err := cat.RebuildFind(t.Context(), facts.ID); err != nil {
		t.Fatal(err)
	}
	for did := true; did; {
		compare(-1)
		if did, err = cat.WorkOnFind(t.Context(), tiers); err != nil {
			t.Fatal(err)
		}
	}
	for range 30 {
		compare(-2)
	}
}
