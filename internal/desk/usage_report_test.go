package desk_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// Usage is told with what it costs and how it grew, requests by who made them; nothing of
// another account.
func TestUsageReport(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Works.TrafficEvery = 50 * time.Millisecond })
	c := fill(t, s, 4, func(i int) string { return fmt.Sprint("k", i) })
	if _, err := c.Put(t.Context(), "plates", "large", strings.NewReader(strings.Repeat("x", 5000)), 5000,
		client.Put{}); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("PATCH", "/api/v1/tiers/main", map[string]any{"price": 1000}); st != 200 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"quota": 1 << 20}); st != 200 {
		t.Fatalf("%d %v", st, e)
	}
	var e map[string]any
	var st int
	harness.Until(t, "usage is counted", func() bool {
		st, e = p.ask("GET", "/api/v1/usage", nil)
		return st == 200 && e["buckets"].([]any)[0].(map[string]any)["written"] == 5.0
	})
	b := e["buckets"].([]any)[0].(map[string]any)
	used := b["now"].(map[string]any)["bytes"].(float64)
	if cost := b["cost"].(float64); used < 5000 || cost < used/(1<<30)*999 || b["added"] != used || e["disk"] == nil ||
		len(e["days"].([]any)) == 0 {
		t.Errorf("%v", e)
	}
	harness.Until(t, "requests are counted", func() bool {
		st, e = p.ask("GET", "/api/v1/usage/traffic?by=who", nil)
		return st == 200 && len(e["traffic"].([]any)) == 1 &&
			e["traffic"].([]any)[0].(map[string]any)["writes"].(float64) >= 5
	})
	if x := e["traffic"].([]any)[0].(map[string]any); x["of"] != harness.Key || x["in"].(float64) < 5000 {
		t.Errorf("%v", x)
	}
	for _, bad := range []string{"?from=yesterday", "?from=2026-11-20&to=2026-11-01", "?bucket=none"} {
		if st, e := p.ask("GET", "/api/v1/usage"+bad, nil); st < 400 {
			t.Errorf("%s: %d %v", bad, st, e)
		}
	}
	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("plates", "", "account:seed-lab", "read from")
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	for _, path := range []string{"/api/v1/usage", "/api/v1/usage/traffic", "/api/v1/usage/traffic?by=who&bucket=plates"} {
		if st, e := v.ask("GET", path, nil); st != 200 || strings.Contains(fmt.Sprint(e), "plates") ||
			strings.Contains(fmt.Sprint(e), harness.Key) ||
			e["disk"] != nil {
			t.Errorf("%s of another account: %d %v", path, st, e)
		}
	}
}

// TestUsageInTheConsole looks at usage, and walks into the map of prefixes.
func TestUsageInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 4, func(i int) string { return fmt.Sprintf("a/%d/x", i) })
	walk, _ := signedIn(t, s, "/usage")
	walk("all", harness.Appears("By bucket"), harness.Appears("plates"), harness.Appears("Over time"))
	walk("the map", harness.Button("plates"), harness.Appears("Map of prefixes"),
		harness.Script(`document.querySelector('g[role=button][aria-label^="a/"]').dispatchEvent(new MouseEvent("click", {bubbles: true}))`),
		harness.Script(`new Promise((r) => setTimeout(r, 500))`), harness.Appears("plates/a"))
}
