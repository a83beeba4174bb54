package desk_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// found gives an order and waits for its end.
func (p *person) found(t *testing.T, in map[string]any) map[string]any {
	t.Helper()
	in["kind"] = "found"
	st, e := p.ask("POST", "/api/v1/orders", in)
	if st != 201 {
		t.Fatalf("%v: %d %v", in, st, e)
	}
	path := fmt.Sprint("/api/v1/orders/", e["id"])
	harness.Until(t, "the order ends", func() bool {
		_, e = p.ask("GET", path, nil)
		return e["state"] != "running"
	})
	if e["state"] != "done" {
		t.Errorf("%v: %v", in, e)
	}
	return e
}

// Something is done with what is found: it is rehearsed, no more is removed than was agreed
// to, and what came later is left alone.
func TestActOnWhatIsFound(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	for _, b := range []string{"plates", "copies"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"versioning": "on"}); st != 200 {
		t.Fatal(st, e)
	}
	for i := range 60 {
		if _, err := c.Put(t.Context(), "plates", fmt.Sprintf("%02d", i), strings.NewReader("leaf"), 4, client.Put{
			Metadata: object.Metadata{"taxon": []string{"Carex", "Drosera", "Erica"}[i%3]}}); err != nil {
			t.Fatal(err)
		}
	}
	before := time.Now()
	count := func(bucket, expression string) int {
		t.Helper()
		st, e := p.ask("POST", "/api/v1/find/count", map[string]any{"expression": expression, "buckets": []string{bucket}})
		if st != 200 {
			t.Fatalf("%d %v", st, e)
		}
		return int(e["objects"].(float64))
	}
	drosera := map[string]any{"bucket": "plates", "where": "field taxon is Drosera", "act": "annotate",
		"metadata": map[string]any{"set": map[string]string{"checked": "yes"}},
		"tags":     map[string]any{"set": map[string]string{"seen": "1"}}}
	in := map[string]any{"kind": "found"}
	for k, v := range drosera {
		in[k] = v
	}
	if st, e := p.ask("POST", "/api/v1/orders/rehearse", in); st != 200 ||
		e["counts"].(map[string]any)["annotated"] != 20.0 || e["bytes"] != 80.0 {
		t.Errorf("%d %v", st, e)
	}
	if n := count("plates", "field checked is yes"); n != 0 {
		t.Errorf("a rehearsal changed %d", n)
	}
	p.found(t, drosera)
	if n := count("plates", "field checked is yes and tag seen is 1 and field taxon is Drosera"); n != 20 {
		t.Errorf("%d are annotated", n)
	}
	// Copies into the same bucket are not found again.
	p.found(t, map[string]any{"bucket": "plates", "where": "field taxon is Erica", "act": "copy", "toBucket": "plates",
		"toPrefix": "z/"})
	if n := count("plates", "field taxon is Erica"); n != 40 {
		t.Errorf("%d after copying", n)
	}
	remove := map[string]any{"kind": "found", "bucket": "plates", "where": "field taxon is Carex", "act": "remove"}
	if st, e := p.ask("POST", "/api/v1/orders", remove); st != 400 || e["code"] != "guard" {
		t.Errorf("a removal of nobody knows how many: %d %v", st, e)
	}
	remove["expect"] = 19
	if st, e := p.ask("POST", "/api/v1/orders", remove); st != 412 || e["code"] != "guard" {
		t.Errorf("more than was agreed to: %d %v", st, e)
	}
	remove["expect"] = 20
	p.found(t, remove)
	if n := count("plates", "field taxon is Carex"); n != 0 {
		t.Errorf("%d are left", n)
	}
	p.found(t, map[string]any{"bucket": "plates", "where": "field checked is yes", "act": "put-back",
		"asOf": before.UTC().Format(time.RFC3339Nano)})
	if n := count("plates", "has field checked"); n != 0 {
		t.Errorf("%d are annotated still", n)
	}
	for _, bad := range []map[string]any{{"where": "siz over 1", "act": "move", "tier": "main"},
		{"where": "current", "act": "move", "tier": "none"},
		{"where": "current", "act": "annotate"}, {"where": "current", "act": "copy", "toBucket": "nowhere"},
		{"where": "current", "act": "copy", "toBucket": "plates"}, {"where": "current"}} {
		bad["kind"], bad["bucket"] = "found", "plates"
		if st, e := p.ask("POST", "/api/v1/orders", bad); st < 400 {
			t.Errorf("%v: %d %v", bad, st, e)
		}
	}

	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("plates", "", "account:seed-lab", "read from")
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	for _, act := range []string{"annotate", "move", "remove", "put-back"} {
		if st, e := v.ask("POST", "/api/v1/orders/rehearse", map[string]any{"kind": "found", "bucket": "plates",
			"where": "current", "act": act,
			"tier": "main", "tags": map[string]any{"set": map[string]string{"a": "b"}},
			"asOf": before.UTC().Format(time.RFC3339)}); st != 403 {
			t.Errorf("%s by a reader: %d %v", act, st, e)
		}
	}
	if st, e := v.ask("POST", "/api/v1/orders/rehearse", map[string]any{"kind": "found", "bucket": "plates",
		"act":   "annotate",
		"where": "writer is " + harness.Key}); st < 400 || strings.Contains(fmt.Sprint(e["counts"]), "20") {
		t.Errorf("who wrote there: %d %v", st, e)
	}
}

// What was, and what is largest, is found too; a question is kept under a name.
func TestFindThenSortedAndSaved(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 5, func(i int) string { return fmt.Sprint("k", i) })
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"versioning": "on"}); st != 200 {
		t.Fatal(st, e)
	}
	for i := range 5 {
		if _, err := c.Put(t.Context(), "plates", fmt.Sprint("k", i), strings.NewReader(strings.Repeat("x", 10*i)),
			int64(10*i), client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	then := time.Now().UTC()
	time.Sleep(10 * time.Millisecond)
	for i := range 4 {
		if err := c.Remove(t.Context(), "plates", fmt.Sprint("k", i)); err != nil {
			t.Fatal(err)
		}
	}
	keys := func(in map[string]any) (out []string) {
		t.Helper()
		for {
			st, e := p.ask("POST", "/api/v1/find", in)
			if st != 200 {
				t.Fatalf("%v: %d %v", in, st, e)
			}
			for _, o := range e["objects"].([]any) {
				out = append(out, o.(map[string]any)["key"].(string))
			}
			if e["next"] == nil {
				return out
			}
			in["after"] = e["next"]
		}
	}
	if got := keys(map[string]any{"expression": "size at least 0"}); len(got) != 1 {
		t.Errorf("now: %q", got)
	}
	if got := keys(map[string]any{"expression": "size over 10", "asOf": then.Format(time.RFC3339Nano),
		"limit": 1}); fmt.Sprint(got) != "[k2 k3 k4]" {
		t.Errorf("then: %q", got)
	}
	if got := keys(map[string]any{"expression": "size at least 0", "asOf": then.Format(time.RFC3339Nano),
		"sort": "largest", "limit": 2}); fmt.Sprint(got) != "[k4 k3]" {
		t.Errorf("the largest: %q", got)
	}
	if st, e := p.ask("PUT", "/api/v1/find/saved/large", map[string]any{"expression": "size  over 1 KiB",
		"buckets": []string{"plates"}}); st != 204 {
		t.Errorf("%d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/find/saved", nil); st != 200 || !strings.Contains(fmt.Sprint(e),
		"size  over 1 KiB") {
		t.Errorf("%d %v", st, e)
	}
	if st, _ := p.ask("PUT", "/api/v1/find/saved/bad", map[string]any{"expression": "siz"}); st != 400 {
		t.Errorf("a mistake is kept: %d", st)
	}
	if st, _ := p.ask("DELETE", "/api/v1/find/saved/large", nil); st != 204 {
		t.Errorf("forgotten: %d", st)
	}
	if st, _ := p.ask("DELETE", "/api/v1/find/saved/large", nil); st != 404 {
		t.Errorf("forgotten twice: %d", st)
	}
}

// TestActInTheConsole tags what is found.
func TestActInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 3, func(i int) string { return []string{"a/one", "b/two", "b/three"}[i] })
	walk, _ := signedIn(t, s, "/find?q=key%20begins%20with%20b%2F")
	walk("rehearsed", harness.Button("Do something with these"), harness.Appears("in plates"),
		chromedp.SendKeys(chromedp.CSS(".dialog input[name=set]"), "seen=yes"), harness.Button("Rehearse it"),
		harness.Appears("2 objects"))
	walk("done", harness.Button("Do it"), harness.Appears("2 annotated"))
	walk("kept", chromedp.Navigate(s.DeskURL+"/find?q=tag%20seen%20is%20yes"), harness.Appears("b/three"),
		harness.Button("Keep it"),
		chromedp.SendKeys(chromedp.CSS(".dialog input[name=name]"), "seen"), harness.Button("Keep the question"),
		harness.Appears("is kept"),
		chromedp.Navigate(s.DeskURL+"/find"), harness.Appears("seen"), harness.Appears("tag seen is yes"))
}
