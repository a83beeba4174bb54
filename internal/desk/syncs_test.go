package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
)

// Jobs are kept by account, checked field by field, and act with no more rights than their
// saver has; other accounts learn nothing of them.
func TestSyncJobs(t *testing.T) {
	root := t.TempDir()
	s := harness.Service(t, func(cfg *service.Config) { cfg.Works.Folders = []string{root} })
	c := s.Client()
	for _, b := range []string{"plates", "copies"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	p := newPerson(t, s)
	p.signIn()
	good := func() map[string]any {
		return map[string]any{"name": "nightly", "from": "plates", "to": "copies/plates", "mode": "mirror"}
	}
	for field, value := range map[string]any{"name": "Nightly!", "from": "/etc", "to": "plates/in", "mode": "wipe",
		"by":       "smell",
		"schedule": "whenever", "zone": "Nowhere/At-All", "parallel": 0, "links": "eat", "like": []string{"x\\"},
		"guardShare": 200} {
		body := good()
		body[field] = value
		want := map[string]string{"guardShare": "guard"}[field]
		if want == "" {
			want = field
		}
		if field == "zone" {
			body["schedule"] = "@daily"
		}
		if st, e := p.ask("POST", "/api/v1/syncs", body); st < 400 || e["field"] != want || e["remedy"] == "" {
			t.Errorf("with the %s %v: %d %v", field, value, st, e)
		}
	}
	body := good()
	body["schedule"], body["zone"] = "30 2 * * *", "Europe/Oslo"
	st, e := p.ask("POST", "/api/v1/syncs", body)
	if st != 201 || e["next"] == nil || !strings.Contains(fmt.Sprint(e["says"]), "is removed at the target") {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/syncs", body); st != 409 || e["code"] != "sync-exists" {
		t.Errorf("again: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/syncs/nightly", map[string]any{"schedule": "", "ifRevision": 1,
		"sizeFrom": 10}); st != 200 ||
		e["next"] != nil || e["sizeFrom"] != 10.0 || e["revision"] != 2.0 {
		t.Errorf("changed: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/syncs/nightly", map[string]any{"note": "x", "ifRevision": 1}); st != 412 {
		t.Errorf("at another revision: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/syncs/nightly/rehearse", map[string]any{}); st != 200 {
		t.Errorf("rehearsed: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/syncs/nightly/runs", map[string]any{}); st != 201 || e["state"] != "waiting" {
		t.Errorf("run: %d %v", st, e)
	}
	harness.Until(t, "the run is done", func() bool {
		_, e := p.ask("GET", "/api/v1/syncs/nightly/runs/1", nil)
		return e["state"] == "done"
	})
	if st, e := p.ask("POST", "/api/v1/syncs", map[string]any{"name": "from-disk", "from": root + "/drop",
		"to": "copies/drop"}); st != 201 {
		t.Errorf("a folder beneath a root: %d %v", st, e)
	}

	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if _, e := v.ask("GET", "/api/v1/syncs", nil); strings.Contains(fmt.Sprint(e), "nightly") {
		t.Errorf("another account sees %v", e)
	}
	for _, path := range []string{"/api/v1/syncs/nightly", "/api/v1/syncs/nightly/runs",
		"/api/v1/syncs/nightly/runs/1/outcomes"} {
		if st, e := v.ask("GET", path, nil); st != 404 || strings.Contains(fmt.Sprint(e), "plates") {
			t.Errorf("%s for another account: %d %v", path, st, e)
		}
	}
	if st, e := v.ask("POST", "/api/v1/buckets", map[string]any{"name": "trays"}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	for name, sides := range map[string][2]string{"source": {"plates", "trays"}, "target": {"trays", "copies"},
		"folder": {root + "/drop", "trays"}} {
		if st, e := v.ask("POST", "/api/v1/syncs", map[string]any{"name": name, "from": sides[0],
			"to": sides[1]}); st != 403 {
			t.Errorf("%s of another: %d %v", name, st, e)
		}
	}
	if st, e := p.ask("DELETE", "/api/v1/syncs/nightly", nil); st != 204 {
		t.Errorf("%d %v", st, e)
	}
}
