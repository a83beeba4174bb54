package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// What is found is of buckets that one may list and read, what was just acknowledged is in
// it, and of others' buckets nobody finds out who wrote there, or that they are there.
func TestFind(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	for _, b := range []string{"plates", "attic"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
		for i := range 30 {
			if _, err := c.Put(t.Context(), b, fmt.Sprintf("2026/FH-%02d.tif", i), strings.NewReader(strings.Repeat("x", i*100)),
				int64(i*100), client.Put{Metadata: object.Metadata{"taxon": []string{"Drosera", "Carex"}[i%2],
					"dpi": fmt.Sprint(i * 50)},
					Tags: object.Tags{"kind": "scan"}, ContentType: "image/tiff"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	p := newPerson(t, s)
	p.signIn()
	found := func(p *person, body map[string]any) []any {
		t.Helper()
		st, e := p.ask("POST", "/api/v1/find", body)
		if st != 200 {
			t.Fatalf("%v: %d %v", body, st, e)
		}
		return e["objects"].([]any)
	}
	if list := found(p, map[string]any{"expression": "field taxon is Drosera and field dpi over 1000"}); len(list) != 8 {
		t.Errorf("%d in all buckets: %v", len(list), list)
	}
	if list := found(p, map[string]any{"expression": "size over 2 KiB", "buckets": []string{"plates"}}); len(list) != 9 ||
		fmt.Sprint(list[0]) == "" || list[0].(map[string]any)["bucket"] != "plates" {
		t.Errorf("%d in one", len(list))
	}
	seen, after, pages := map[string]bool{}, "", 0
	for {
		st, e := p.ask("POST", "/api/v1/find", map[string]any{"expression": "current", "limit": 7, "after": after})
		if st != 200 {
			t.Fatalf("%d %v", st, e)
		}
		for _, o := range e["objects"].([]any) {
			x := o.(map[string]any)
			seen[fmt.Sprint(x["bucket"], "/", x["key"])] = true
		}
		pages++
		next, ok := e["next"].(string)
		if after = next; !ok {
			break
		}
	}
	if len(seen) != 60 || pages < 9 {
		t.Errorf("%d objects in %d pages", len(seen), pages)
	}
	if st, e := p.ask("POST", "/api/v1/find/count", map[string]any{"expression": "size at least 100"}); st != 200 ||
		e["objects"] != 58.0 {
		t.Errorf("counted: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/find", map[string]any{"expression": "siz over 1"}); st != 400 ||
		e["position"] != 0.0 ||
		!strings.Contains(fmt.Sprint(e["remedy"]), "size") {
		t.Errorf("a mistake: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/find", map[string]any{"expression": "current", "after": "!"}); st != 400 ||
		e["code"] != "place" {
		t.Errorf("no place: %d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/find/words?bucket=plates", nil); st != 200 ||
		!strings.Contains(fmt.Sprint(e), "field taxon") ||
		!strings.Contains(fmt.Sprint(e), "Carex") || !strings.Contains(fmt.Sprint(e), "tag kind") {
		t.Errorf("words: %d %v", st, e)
	}

	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("plates", "2026/FH-0", "account:seed-lab", "read from")
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if list := found(v, map[string]any{"expression": "current"}); len(list) != 0 {
		t.Errorf("a visitor finds %v", list)
	}
	if st, e := v.ask("POST", "/api/v1/find", map[string]any{"expression": "current",
		"buckets": []string{"attic"}}); st != 403 &&
		st != 404 || strings.Contains(fmt.Sprint(e), "FH-") {
		t.Errorf("a visitor asks in a bucket by name: %d %v", st, e)
	}
	list := found(v, map[string]any{"expression": `key begins with "2026/FH-0" and field taxon is Carex`})
	if len(list) != 5 || strings.Contains(fmt.Sprint(list), harness.Key) {
		t.Errorf("what is open to them: %v", list)
	}
	st, e := v.ask("POST", "/api/v1/find", map[string]any{"expression": `key begins with "2026/FH-0" and writer is ` +
		harness.Key})
	if st != 200 || len(e["objects"].([]any)) != 0 || !strings.Contains(fmt.Sprint(e["left"]), "plates") {
		t.Errorf("who wrote there: %d %v", st, e)
	}
}

// What is found is counted by values, and a name that nobody has is told, with the nearest.
func TestFindGroupsAndHints(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	c := s.Client()
	for _, b := range []string{"plates", "notes"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
		for i, taxon := range []string{"Drosera", "Drosera", "Erica", ""} {
			meta := map[string]string{"taxon": taxon}
			if taxon == "" {
				meta = nil
			}
			if _, err := c.Put(t.Context(), b, fmt.Sprint("k", i), strings.NewReader("12345"), 5,
				client.Put{Metadata: meta}); err != nil {
				t.Fatal(err)
			}
		}
	}
	st, e := p.ask("POST", "/api/v1/find/groups", map[string]any{"expression": "size over 1 B", "by": "field taxon",
		"limit": 2})
	if says := fmt.Sprint(e); st != 200 || !strings.Contains(says, "map[bytes:20 objects:4 value:Drosera]") ||
		!strings.Contains(says, "more:1") || !strings.Contains(says, "objects:8]") {
		t.Errorf("groups: %d %s", st, says)
	}
	for _, by := range []string{"", "field", "writer", "tier x", "month of may"} {
		if st, e := p.ask("POST", "/api/v1/find/groups", map[string]any{"expression": "current", "by": by}); st != 400 &&
			st != 422 {
			t.Errorf("by %q: %d %v", by, st, e)
		}
	}
	if _, e := p.ask("POST", "/api/v1/find", map[string]any{"expression": "field taxn is x"}); !strings.Contains(
		fmt.Sprint(e["hints"]), "did you mean field taxon?") {
		t.Errorf("hints: %v", e)
	}
	if _, e := p.ask("POST", "/api/v1/find", map[string]any{"expression": "field taxon is x"}); e["hints"] != nil {
		t.Errorf("hints for a field that is there: %v", e["hints"])
	}
	if _, e := p.ask("POST", "/api/v1/find",
		map[string]any{"expression": "field taxon is Drosera rotundifolia"}); !strings.Contains(
		fmt.Sprint(e["remedy"]), `"Drosera rotundifolia"`) {
		t.Errorf("a value with a blank: %v", e)
	}
	guest := newPerson(t, s)
	key := s.NewKey("guests", "GUEST", access.Administrator, nil)
	if st, e := guest.signInAs(map[string]string{"key": key.ID, "secret": key.Secret}); st != 201 {
		t.Fatal(e)
	}
	if _, b := guest.send("POST", "/api/v1/find/groups", map[string]any{"expression": "current",
		"by": "field taxon"}); strings.Contains(
		string(b), "Drosera") {
		t.Errorf("another account counts %s", b)
	}
}

// TestFindInTheConsole types a question with the help of what is offered, and goes to what
// is found.
func TestFindInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 2, func(i int) string { return []string{"a/one", "b/two"}[i] })
	if _, err := c.Put(t.Context(), "plates", "c/three", strings.NewReader("leaf"), 4, client.Put{
		Metadata: object.Metadata{"taxon": "Drosera rotundifolia"}}); err != nil {
		t.Fatal(err)
	}
	walk, _ := signedIn(t, s, "/find")
	walk("offered words", harness.Appears("lacks field collector"), harness.Button("field taxon"), harness.Button("is"),
		harness.Button(`"Drosera rotundifolia"`),
		harness.Script(`document.querySelector("form[role=search] button").click()`), harness.Appears("plates/c/three"),
		harness.Appears("1 object"),
		harness.Button("Count all"), harness.Appears("1 in all"))
	walk("a mistake is shown where it is", chromedp.Navigate(s.DeskURL+"/find?q=siz%20over%201"),
		harness.Appears("you mean size"),
		chromedp.WaitVisible(chromedp.CSS("mark")))
	walk("nothing", chromedp.Navigate(s.DeskURL+"/find?q=size%20over%201%20GiB"), harness.Appears("Nothing matches"))
	walk("to the object", chromedp.Navigate(s.DeskURL+"/find?q=key%20contains%20two"),
		chromedp.Click(chromedp.CSS("td a")),
		harness.Appears("b/two"), harness.Appears("Metadata and tags"))
}
