package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// What a bucket asks of metadata is told or refused, on the wire, at the desk, for puts,
// copies, changes and uploads in parts; what lacks it is found and counted.
func TestRequiredMetadata(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	put := func(key string, m object.Metadata) (client.Info, error) {
		return c.Put(t.Context(), "plates", key, strings.NewReader("leaf"), 4, client.Put{Metadata: m})
	}
	for i := range 5 {
		if _, err := put(fmt.Sprint("old/", i), object.Metadata{"taxon": []string{"Carex", ""}[i%2]}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := put("bare", nil); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s)
	p.signIn()
	ask := func(refuse bool) {
		t.Helper()
		if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"required": []any{
			map[string]any{"field": "taxon", "kind": "text", "like": "?*", "refuse": refuse},
			map[string]any{"field": "dpi", "kind": "number", "optional": true}}}); st != 200 || len(e["required"].([]any)) != 2 {
			t.Fatalf("%d %v", st, e)
		}
	}
	ask(false)
	if i, err := put("told", object.Metadata{"dpi": "many"}); err != nil ||
		i.Lacks != "dpi is no number; taxon is missing" {
		t.Errorf("%+v, %v", i, err)
	}
	st, e := p.ask("GET", "/api/v1/buckets/plates/lacking", nil)
	if list := e["objects"].([]any); st != 200 || len(list) != 4 || e["looked"] != 7.0 {
		t.Errorf("%d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/buckets/plates/object?key=bare", nil); st != 200 ||
		!strings.Contains(fmt.Sprint(e["lacks"]), "taxon") {
		t.Errorf("%d %v", st, e)
	}
	ask(true)
	if _, err := put("refused", nil); err == nil || !strings.Contains(err.Error(), "taxon is missing") {
		t.Errorf("a put without: %v", err)
	}
	if i, err := put("good", object.Metadata{"taxon": "Carex"}); err != nil || i.Lacks != "" {
		t.Errorf("%+v, %v", i, err)
	}
	if _, err := c.StartUpload(t.Context(), "plates", "parts", client.Put{}); err == nil ||
		!strings.Contains(err.Error(), "taxon is missing") {
		t.Errorf("an upload without: %v", err)
	}
	if st, e := p.ask("POST", "/api/v1/buckets/plates/copy", map[string]any{"fromBucket": "plates", "fromKey": "bare",
		"key": "copied"}); st != 400 ||
		e["code"] != "metadata-required" {
		t.Errorf("a copy without: %d %v", st, e)
	}
	// What lacked it before may be changed for the better, or stay as it was; not for the worse.
	change := func(key string, set map[string]string, unset ...string) (int, map[string]any) {
		return p.ask("PATCH", "/api/v1/buckets/plates/object?key="+key,
			map[string]any{"metadata": map[string]any{"set": set, "unset": unset}})
	}
	if st, e := change("bare", map[string]string{"note": "x"}); st != 200 {
		t.Errorf("a change that leaves it as it was: %d %v", st, e)
	}
	if st, e := change("good", nil, "taxon"); st != 400 || e["code"] != "metadata-required" ||
		e["field"] != "metadata.taxon" {
		t.Errorf("a change for the worse: %d %v", st, e)
	}
	if st, e := change("bare", map[string]string{"taxon": "Carex"}); st != 200 || e["lacks"] != nil {
		t.Errorf("a change for the better: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/audit/run", map[string]any{}); st > 299 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/audit", nil); st != 200 || !strings.Contains(fmt.Sprint(e), "lacks-metadata") {
		t.Errorf("the audit does not say so: %d %v", st, e)
	}
	for _, bad := range []any{map[string]any{"field": "", "kind": "text"}, map[string]any{"field": "a", "kind": "shoe"}} {
		if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"required": []any{bad}}); st < 400 {
			t.Errorf("%v: %d %v", bad, st, e)
		}
	}
}

// TestRequiredInTheConsole asks for a field on a bucket's page, sees what an object lacks,
// and asks no more.
func TestRequiredInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 1, func(int) string { return "a" })
	walk, _ := signedIn(t, s, "/buckets/plates/settings")
	walk("ask", harness.Appears("Objects may have any metadata"), harness.Button("Ask for a field"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=field]")),
		chromedp.SendKeys(chromedp.CSS(".dialog input[name=field]"), "taxon"),
		harness.Button("Ask for it"), harness.Appears("must be there"))
	walk("it lacks", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=a"), harness.Appears("taxon is missing"))
	walk("no more", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"), harness.Button("Take away"),
		harness.Appears("Objects may have any metadata"))
}
