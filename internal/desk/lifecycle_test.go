package desk_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/store"
)

// ageing gives a service with a cheaper tier, and a bucket plates of twenty objects, ten
// days between each and the next.
func ageing(t *testing.T, change func(*service.Config)) *harness.Running {
	t.Helper()
	s := harness.Service(t, func(c *service.Config) {
		c.Works.AgeLook = 20 * time.Millisecond
		if change != nil {
			change(c)
		}
	})
	by := catalog.Author{Who: harness.Key}
	if err := s.Store.AddTier(t.Context(), &tier.Tier{Name: "cellar", Copies: 1, Price: 1000,
		Volumes: []tier.Volume{{Dir: filepath.Join(t.TempDir(), "cellar")}}}, by); err != nil {
		t.Fatal(err)
	}
	if err := s.Store.ChangeTier(t.Context(), "main", 0, by,
		func(x *tier.Tier) error { x.Price = 20_000; return nil }); err != nil {
		t.Fatal(err)
	}
	if st, _, b := s.Do("PUT", "/plates", nil, "", true); st != 200 {
		t.Fatal(st, b)
	}
	for i := range 20 {
		if _, err := s.Store.Put(t.Context(), store.Put{Address: catalog.Address{Bucket: object.MustBucketName("plates"),
			Key: object.MustKey(fmt.Sprintf("sheet-%02d.tif", i))}, Author: catalog.Author{Who: harness.Key,
			At: time.Now().AddDate(0, 0, -10*i).Add(-time.Hour)}, Body: strings.NewReader("plate"), Size: 5}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// TestRulesAtTheDesk saves, checks, rehearses, answers and puts back rules by calls.
func TestRulesAtTheDesk(t *testing.T) {
	s := ageing(t, func(c *service.Config) { c.Works.GuardLeast, c.Works.GuardShare = 5, 0.1 })
	p := newPerson(t, s)
	p.signIn()
	const api = "/api/v1/buckets/plates/lifecycle"
	rule := func(name string, actions ...map[string]any) map[string]any {
		return map[string]any{"name": name, "actions": actions}
	}
	remove := map[string]any{"of": "current", "do": "remove", "days": 95}
	move := map[string]any{"of": "current", "do": "move", "to": "cellar", "days": 45}
	if st, b := p.ask("POST", api+"/check", map[string]any{"rules": []any{rule("", map[string]any{"of": "uploads",
		"do": "move",
		"to": "attic", "days": 0})}}); st != 200 || len(b["complaints"].([]any)) != 4 {
		t.Errorf("checked: %d %v", st, b)
	}
	if st, b := p.ask("PUT", api+"/rules/a", map[string]any{"rule": rule("a", map[string]any{"of": "current",
		"do": "burn"}),
		"graceSeconds": 0}); st != 400 || len(b["complaints"].([]any)) != 2 ||
		dig(b, "complaints", 0, "field") != "actions[0].do" {
		t.Errorf("all that is wrong: %d %v", st, b)
	}
	st, f := p.ask("POST", api+"/rehearse", map[string]any{"rules": []any{rule("a", remove, move)}, "days": 30})
	if st != 200 || dig(f, "actions", 0, "objects") != 10.0 || dig(f, "actions", 1, "objects") != 5.0 ||
		dig(f, "actions", 1, "ahead") != 3.0 || dig(f, "share") != 0.5 {
		t.Errorf("rehearsed: %d %v", st, f)
	}
	if st, b := p.ask("PUT", api, map[string]any{"rules": []any{rule("a", remove, move)}, "ifRevision": -1}); st != 200 ||
		b["acts"] == nil {
		t.Errorf("saved: %d %v", st, b)
	}
	if st, b := p.ask("PUT", api, map[string]any{"rules": []any{}, "ifRevision": 7}); st != 412 {
		t.Errorf("at another revision: %d %v", st, b)
	}
	if st, b := p.ask("POST", api+"/runs", nil); st != 201 {
		t.Fatalf("started: %d %v", st, b)
	}
	state := func() (string, map[string]any) {
		_, b := p.ask("GET", api+"/runs?limit=1", nil)
		r := dig(b, "runs", 0).(map[string]any)
		return r["state"].(string), r
	}
	harness.Until(t, "the run asks", func() bool { s, _ := state(); return s == "asks" })
	if st, b := p.ask("GET", "/api/v1/overview", nil); st != 200 || dig(b, "concerns", 0, "says") != "has rules that ask" {
		t.Errorf("the overview of a run that asks: %d %v", st, b["concerns"])
	}
	if st, b := p.ask("POST", api+"/runs", nil); st != 409 || b["code"] != "run-open" {
		t.Errorf("a second one: %d %v", st, b)
	}
	if st, b := p.ask("POST", api+"/runs/1/answer", map[string]any{"goOn": true}); st != 200 {
		t.Errorf("answered: %d %v", st, b)
	}
	harness.Until(t, "the run is done", func() bool { s, _ := state(); return s == "done" })
	if st, b := p.ask("GET", api+"/runs/1/outcomes?limit=6",
		nil); st != 200 || len(b["outcomes"].([]any)) != 6 || b["next"] == nil {
		t.Errorf("outcomes: %d %v", st, b)
	}
	if st, b := p.ask("GET", "/api/v1/buckets/plates/object?key=sheet-06.tif", nil); st != 200 || b["tier"] != "cellar" {
		t.Errorf("moved: %d %v", st, b)
	}
	if st, b := p.ask("GET", "/api/v1/buckets/plates/coming?key=sheet-06.tif", nil); st != 200 ||
		dig(b, "coming", 0, "do") != "remove" || dig(b, "coming", 0, "rule") != "a" {
		t.Errorf("to come: %d %v", st, b)
	}
	if st, b := p.ask("POST", api+"/ages", map[string]any{}); st != 200 || len(b["bars"].([]any)) != 10 {
		t.Errorf("ages: %d %v", st, b)
	}
	if st, b := p.ask("DELETE", api+"/rules/a", nil); st != 200 || len(b["rules"].([]any)) != 0 {
		t.Errorf("removed: %d %v", st, b)
	}
	if st, b := p.ask("GET", "/api/v1/buckets/plates/coming?key=sheet-06.tif", nil); st != 200 || b["none"] == nil {
		t.Errorf("why nothing is to come: %d %v", st, b)
	}
	if st, b := p.ask("POST", api+"/history/1", map[string]any{}); st != 200 || b["revision"] != 3.0 {
		t.Errorf("put back: %d %v", st, b)
	}
}

// TestRulesInTheConsole writes a rule on its page, moves a post, saves, has it act and
// looks at the record.
func TestRulesInTheConsole(t *testing.T) {
	s := ageing(t, nil)
	walk, _ := signedIn(t, s, "/buckets/plates/lifecycle")
	turn := func(text string) chromedp.Action[chromedp.Void] {
		return harness.Script(fmt.Sprintf(`[...document.querySelectorAll("[role=switch]")].find((b) => b.textContent.includes(%q)).click()`, text))
	}
	walk("no rules", harness.Appears("No rules yet"), harness.Button("Add a rule"), harness.Appears("Age ruler"),
		harness.Appears("20 objects"))
	walk("a prefix like a pattern", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of the rule"]`), "old"),
		chromedp.SendKeys(chromedp.CSS(`input[name=prefix]`), "sheet*"), harness.Appears("taken byte by byte"))
	walk("mended",
		harness.Script(`{const i = document.querySelector("input[name=prefix]"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "sheet-"); i.dispatchEvent(new Event("input", {bubbles: true}))}`),
		turn("cellar"), harness.Appears("cellar at 180 d"), harness.Appears("2 objects, 10 B at once"))
	walk("a post moved", harness.Script(`document.querySelector("[role=slider]").focus()`),
		harness.Script(`document.activeElement.dispatchEvent(new KeyboardEvent("keydown", {key: "PageDown", bubbles: true}))`),
		harness.Appears("cellar at 150 d"), harness.Appears("5 objects, 25 B at once"))
	walk("removed too early", turn("Remove"),
		harness.Script(`{const i = document.querySelector('input[aria-label="Remove: days of age, or a date"]'); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "100"); i.dispatchEvent(new Event("input", {bubbles: true}))}`),
		harness.Appears("before the move to cellar"), harness.Appears("1 fault"))
	walk("not removed", turn("Remove"), harness.Button("Save rule"), harness.Appears("What is new waits"),
		harness.Appears("to cellar at 150 d"))
	walk("act now", harness.Button("Act now"), harness.Appears("done"), harness.Button("Record"),
		harness.Appears("move to cellar"),
		harness.Appears("sheet-19.tif"), harness.Button("Close"))
	walk("earlier forms", harness.Button("Earlier forms"), harness.Appears("+ old"), harness.Button("Close"))
	walk("an object's life", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=sheet-02.tif"),
		harness.Appears("Moves to cellar in 130 days"))
	walk("tiers", chromedp.Navigate(s.DeskURL+"/tiers"), harness.Appears("each is known by its marker file"),
		harness.Button("Add a tier"), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "attic"),
		chromedp.SendKeys(chromedp.CSS(`input[name=volumes]`), filepath.Join(t.TempDir(), "attic")), harness.Button("Add it"),
		harness.Appears("The tier attic is saved"))
}
