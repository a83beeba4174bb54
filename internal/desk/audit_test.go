package desk_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// The audit of an account finds what is so, says since when, lets be what somebody accepts,
// and forgets what was mended; other accounts have audits of their own.
func TestAudit(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	c := fill(t, s, 3, func(i int) string { return fmt.Sprint("k", i) })
	if err := c.CreateBucket(t.Context(), "empty"); err != nil {
		t.Fatal(err)
	}
	is, _ := harness.Standin(t, standin.Faults{}, "kept")
	s.StandinEndpoint("annex", is)
	p := newPerson(t, s)
	p.signIn()
	findings := func(p *person, method, path string) map[string]map[string]any {
		t.Helper()
		st, e := p.ask(method, path, map[string]any{})
		if st != 200 {
			t.Fatalf("%d %v", st, e)
		}
		out := map[string]map[string]any{}
		for _, f := range e["findings"].([]any) {
			x := f.(map[string]any)
			out[fmt.Sprint(x["check"], " ", x["subject"])] = x
		}
		return out
	}
	s.Grant("plates", "open/", "anyone", "read from")
	all := findings(p, "POST", "/api/v1/audit/run")
	for _, want := range []string{"no-versioning plates", "open-to-anyone plates/open/"} {
		if all[want] == nil {
			t.Errorf("%q is not found: %v", want, all)
		}
	}
	if all["no-versioning empty"] != nil {
		t.Error("an empty bucket is told of")
	}
	first := all["no-versioning plates"]["first"]
	accept := map[string]any{"check": "no-versioning", "subject": "plates", "until": "30d"}
	if st, e := p.ask("POST", "/api/v1/audit/accept", accept); st != 400 || e["field"] != "why" {
		t.Errorf("accepted without a reason: %d %v", st, e)
	}
	accept["why"] = "a mirror is planned"
	if st, e := p.ask("POST", "/api/v1/audit/accept", accept); st != 204 {
		t.Errorf("accepted: %d %v", st, e)
	}
	if x := findings(p, "POST", "/api/v1/audit/run")["no-versioning plates"]; x["accepted"] == nil || x["first"] != first {
		t.Errorf("found again: %v", x)
	}
	if st, _ := p.ask("POST", "/api/v1/audit/accept", map[string]any{"check": "no-versioning", "subject": "empty",
		"why":   "x",
		"until": "30d"}); st != 404 {
		t.Errorf("what was not found is accepted: %d", st)
	}
	if st, e := p.ask("GET", "/api/v1/overview", nil); st != 200 || !strings.Contains(fmt.Sprint(e["concerns"]),
		"the audit") {
		t.Errorf("the overview: %d %v", st, e["concerns"])
	}
	if err := c.SetVersioning(t.Context(), "plates", true); err != nil {
		t.Fatal(err)
	}
	if x := findings(p, "POST", "/api/v1/audit/run")["no-versioning plates"]; x != nil {
		t.Errorf("what was mended is found: %v", x)
	}
	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if got := fmt.Sprint(findings(v, "POST", "/api/v1/audit/run")); strings.Contains(got, "plates") ||
		strings.Contains(got, "annex") ||
		strings.Contains(got, harness.Key) {
		t.Errorf("another account sees %s", got)
	}
}

// TestAuditIsMended mends what was found by the call that the finding names, for those who may.
func TestAuditIsMended(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 3, func(i int) string { return fmt.Sprint("k", i) })
	s.Grant("plates", "open/", "anyone", "read from")
	p := newPerson(t, s)
	p.signIn()
	st, e := p.ask("POST", "/api/v1/audit/run", map[string]any{})
	for _, want := range []string{"no-versioning", "open-to-anyone"} {
		if st != 200 || !strings.Contains(fmt.Sprint(e), want) {
			t.Fatalf("%d %v", st, e)
		}
	}
	for _, f := range e["findings"].([]any) {
		x := f.(map[string]any)
		if x["mends"] == nil {
			continue
		}
		st, e := p.ask("POST", "/api/v1/audit/mend", map[string]any{"check": x["check"], "subject": x["subject"]})
		if st != 200 || strings.Contains(fmt.Sprint(e), fmt.Sprint(x["check"])) {
			t.Errorf("%v: %d %v", x, st, e)
		}
	}
	if _, b := p.ask("GET", "/api/v1/buckets/plates", nil); b["versioning"] != "on" || b["open"] == true {
		t.Errorf("%v", b)
	}
	if st, e := p.ask("POST", "/api/v1/audit/mend", map[string]any{"check": "no-versioning",
		"subject": "plates"}); st != 404 {
		t.Errorf("what is mended: %d %v", st, e)
	}
}

// TestAuditFindsConflicts has rules and a job work against each other.
func TestAuditFindsConflicts(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 3, func(i int) string { return fmt.Sprint("k", i) })
	for _, b := range []string{"copies", "other"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	p := newPerson(t, s)
	p.signIn()
	ok := func(method, path string, in any) {
		t.Helper()
		if st, e := p.ask(method, path, in); st >= 300 {
			t.Fatalf("%s %s: %d %v", method, path, st, e)
		}
	}
	rule := func(name, prefix string, days int) {
		t.Helper()
		ok("PUT", "/api/v1/buckets/plates/lifecycle/rules/"+name, map[string]any{"rule": map[string]any{"name": name,
			"scope": map[string]any{"prefix": prefix}, "actions": []any{map[string]any{"of": "current", "do": "remove",
				"days": days}}}})
	}
	rule("all", "", 30)
	rule("scans", "scans/", 90)
	rule("soon", "scans/", 9)
	for name, priority := range map[string]int{"first": 20, "second": 10} {
		ok("POST", "/api/v1/replications", map[string]any{"name": name, "bucket": "plates", "existing": "leave",
			"priority": priority,
			"mend":     true, "targets": []any{map[string]any{"address": "copies/"}}})
	}
	ok("POST", "/api/v1/syncs", map[string]any{"name": "mirror", "from": "other/", "to": "copies/", "mode": "mirror"})
	st, e := p.ask("POST", "/api/v1/audit/run", map[string]any{})
	if st != 200 {
		t.Fatal(e)
	}
	var found []string
	for _, f := range e["findings"].([]any) {
		if x := f.(map[string]any); x["check"] == "rules-conflict" {
			found = append(found, fmt.Sprint(x["subject"], ": ", x["says"]))
		}
	}
	slices.Sort(found)
	text := strings.Join(found, "\n")
	for _, want := range []string{"mirror: mirrors into copies/ and removes",
		"plates scans: \"remove the current version, 90 days",
		"the rule all says", "second to copies: never copies there"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not found:\n%s", want, text)
		}
	}
	if strings.Contains(text, "plates soon") || strings.Contains(text, "plates all") || strings.Contains(text, "first: ") {
		t.Errorf("too much is found:\n%s", text)
	}
}

// TestAuditInTheConsole looks, accepts a finding, and goes to what it is about.
func TestAuditInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 2, func(i int) string { return fmt.Sprint("k", i) })
	walk, _ := signedIn(t, s, "/audit")
	walk("looked", harness.Button("Look now"), harness.Appears("keeps no versions"), harness.Appears("--versioning on"))
	walk("accepted", harness.Button("Accept"), chromedp.WaitVisible(chromedp.CSS(".dialog input[name=why]")),
		chromedp.SendKeys(chromedp.CSS(".dialog input[name=why]"), "it is a trial"),
		harness.Script(`document.querySelector(".dialog button[type=submit]").click()`), harness.Appears("1 accepted"),
		harness.Appears("Nothing was found"))
	walk("to what it is about", harness.Button("accepted ones too"), harness.Appears("it is a trial"),
		harness.Script(`document.querySelector("td a").click()`), harness.Appears("Versioning"))
}
