package store_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/harness"
	"spindle/internal/store"
)

// objectOf gives what query sees of a version.
func objectOf(v *object.Version, tiers func(int16) string, current bool) query.Object {
	o := query.Of(v)
	o.Bucket, o.Tier, o.Current = "plates", tiers(v.Body.Tier), current
	return o
}

// TestFindAgrees puts random objects and asks random questions: the catalog finds what the
// pure answer says, page by page, whatever the pages and budgets are.
func TestFindAgrees(t *testing.T) {
	s := harness.Store(t)
	r := rand.New(rand.NewPCG(15, uint64(time.Now().UnixNano())))
	plates := object.MustBucketName("plates")
	by := catalog.Author{At: time.Now(), Who: "scanner-1"}
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, by); err != nil {
		t.Fatal(err)
	}
	if err := s.ChangeBucket(t.Context(), plates, 0, by, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC().Truncate(time.Microsecond)
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	values := []string{"12", "-3.5", "007", "1e9", "12px", "", "Drosera", "drosera r%_", `back\slash`, "ö?*", "Ödmark",
		"O\u0308dmark", "\u2126\u03a9 x", "日本語 \U0001F33F",
		"99999999999999999999999999999999", "0.1"}
	for i := range 120 {
		p := store.Put{Address: catalog.Address{Bucket: plates,
			Key: object.MustKey(fmt.Sprintf("%s/%s %d.%s", pick("a", "ab", "b", "ö"),
				pick("x_", "y%", "z"), r.IntN(50), pick("tif", "txt")))},
			Author: catalog.Author{At: now.Add(-time.Duration(r.IntN(100*86400)) *
				time.Second), Who: pick("scanner-1", "scanner-2", "press")},
			Headers: object.Headers{ContentType: pick("", "image/tiff", "text/plain")},
			Seal:    r.IntN(4) == 0, Metadata: object.Metadata{}, Tags: object.Tags{}}
		body := strings.Repeat("x", r.IntN(3000))
		p.Body, p.Size = strings.NewReader(body), int64(len(body))
		for _, f := range []string{"taxon", "dpi", "and"} {
			if r.IntN(3) > 0 {
				p.Metadata[f] = pick(values...)
			}
		}
		if r.IntN(2) == 0 {
			p.Tags[pick("kind", "Kind")] = pick("scan", "print", "")
		}
		if _, err := s.Put(t.Context(), p); err != nil && i > 0 && !fault.HasCode(err, "older") {
			t.Fatal(err)
		}
	}
	tiers, err := s.Tiers(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), plates)
	if err != nil {
		t.Fatal(err)
	}
	all := catalog.Find{Bucket: facts.ID, Name: "plates", Tiers: tiers, Now: now, Previous: true, Limit: 1000,
		Budget: 1000}
	everything, err := query.Parse("size at least 0", now)
	if err != nil {
		t.Fatal(err)
	}
	all.Expr = everything
	page, err := s.Catalog.Find(t.Context(), all)
	if err != nil || len(page.Found) != 120 || page.Next.Key != "" {
		t.Fatalf("%d versions, %+v, %v", len(page.Found), page.Next, err)
	}
	name := func(id int16) string { return tiers.Name(id) }
	for range 300 {
		text := question(r, 3)
		x, err := query.Parse(text, now)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		f := all
		f.Expr, f.Previous, f.Limit, f.Budget = x, r.IntN(2) == 0, 1+r.IntN(40), 1+r.IntN(200)
		want, got := []string{}, []string{}
		var bytes int64
		for _, v := range page.Found {
			if (v.Current || f.Previous) && query.Holds(x, objectOf(v.Version, name, v.Current), now) {
				want = append(want, fmt.Sprint(v.Key, " ", v.Number))
				bytes += v.Size
			}
		}
		for rounds := 0; ; rounds++ {
			p, err := s.Catalog.Find(t.Context(), f)
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
			for _, v := range p.Found {
				got = append(got, fmt.Sprint(v.Key, " ", v.Number))
			}
			if f.After = p.Next; p.Next.Key == "" || rounds > 300 {
				break
			}
		}
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Fatalf("%s\n(previous %v, pages of %d, budget %d)\n got %q\nwant %q", x, f.Previous, f.Limit, f.Budget, got, want)
		}
		f.After = catalog.FindPlace{}
		if n, sum, err := s.Catalog.CountFound(t.Context(), f); err != nil || n != int64(len(want)) || sum != bytes {
			t.Errorf("%s: counted %d, %d bytes, %v", x, n, sum, err)
		}
		groupsAgree(t, s, f, page.Found, name, now, r)
	}
}

// groupsAgree compares what is found, put together by something, with a plain count.
func groupsAgree(t *testing.T, s *store.Store, f catalog.Find, all []catalog.FoundVersion, name func(int16) string,
	now time.Time, r *rand.Rand) {
	t.Helper()
	by := []catalog.Grouping{{Kind: "field", Name: "taxon"}, {Kind: "tag", Name: "Kind"}, {Kind: "type"}, {Kind: "tier"},
		{Kind: "year"}, {Kind: "month"}, {Kind: "day"}}[r.IntN(7)]
	type sum struct{ objects, bytes int64 }
	want := map[string]sum{}
	for _, v := range all {
		if !v.Current && !f.Previous || !query.Holds(f.Expr, objectOf(v.Version, name, v.Current), now) {
			continue
		}
		value, has := "", true
		switch by.Kind {
		case "field":
			value, has = v.Metadata[by.Name]
		case "tag":
			value, has = v.Tags[by.Name]
		case "type":
			value = v.Headers.ContentType
		case "tier":
			value = fmt.Sprint(v.Body.Tier)
		case "year":
			value = v.Created.UTC().Format("2006")
		case "month":
			value = v.Created.UTC().Format("2006-01")
		case "day":
			value = v.Created.UTC().Format(time.DateOnly)
		}
		if has {
			value = "=" + value
		}
		x := want[value]
		want[value] = sum{x.objects + 1, x.bytes + v.Size}
	}
	groups, more, err := s.Catalog.GroupFound(t.Context(), f, by)
	if err != nil || more {
		t.Fatalf("%s by %+v: %v, %v", f.Expr, by, more, err)
	}
	got := map[string]sum{}
	for i, g := range groups {
		if i > 0 && groups[i-1].Objects < g.Objects {
			t.Errorf("%s by %+v: not those with most objects first", f.Expr, by)
		}
		value := ""
		if g.Value != nil {
			value = "=" + *g.Value
		}
		got[value] = sum{g.Objects, g.Bytes}
	}
	if !maps.Equal(got, want) {
		t.Errorf("%s by %+v:\n got %v\nwant %v", f.Expr, by, got, want)
	}
}

// question makes a random one.
func question(r *rand.Rand, depth int) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	if depth > 0 && r.IntN(3) > 0 {
		switch r.IntN(4) {
		case 0:
			return "not (" + question(r, depth-1) + ")"
		case 1:
			return "(" + question(r, depth-1) + " or " + question(r, depth-1) + ")"
		}
		return question(r, depth-1) + " and (" + question(r, depth-1) + ")"
	}
	word := pick(`Drosera`, `"drosera r%_"`, `"back\\slash"`, `"ö?*"`, `12px`, `""`, `007`, `"%"`, `"_"`)
	ops := pick("is "+word, "is not "+word, "is one of "+word+", 12", "begins with "+word, "ends with "+word,
		"contains "+word,
		`like "*r*"`, `like "?????*"`, `not like "*_"`)
	open := pick("field taxon", "field dpi", `field "and"`, "field none", "tag kind", "tag Kind")
	return pick("size "+pick("over 500", "under 1 KiB", "between 100 and 2000", "at most 0", "is 7"),
		"age "+pick("over 30 days", "under 2h", "at least 50d", "between 10d and 60d"),
		"changed "+pick("before 40d ago", "after 2026-10-20", "on 2026-11-01", "between 2026-09-01 and 2026-10-15"),
		"key "+pick(`begins with a`, `begins with "a/"`, `like "*/?_ *"`, `ends with .tif`, `contains "y%"`, `is "a/z 3.tif"`,
			`like "ö*"`),
		"writer is scanner-1", `type begins with image`, `type is ""`, "tier is main", "tier is not one of main, cold",
		"sealed", "current",
		"bucket is plates", "bucket ends with x", "replication is pending", "md5 begins with d4", "crc64 contains 00",
		"version is null",
		open+" "+ops, open+" "+pick("over 1", "between -5 and 12", "under 0", "at least 7"), "has "+open, "lacks "+open)
}
