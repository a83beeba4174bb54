package desk_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// Endpoints are saved when a check is good, and otherwise say which field is wrong; their
// secret is told to nobody, nor is their being there to other accounts.
func TestEndpoints(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, _ := harness.Standin(t, standin.Faults{}, "plates")
	p := newPerson(t, s)
	p.signIn()
	good := func() map[string]any {
		return map[string]any{"name": "annex", "url": is.URL, "key": harness.StandinKey, "secret": harness.StandinSecret,
			"bucket": "plates", "write": true}
	}
	for field, change := range map[string][2]string{"url": {"url", "http://127.0.0.1:9"}, "secret": {"secret", ""},
		"name": {"name", "The Annex"}, "key": {"key", "NOBODY"}, "bucket": {"bucket", "none"}, "style": {"style", "odd"}} {
		body := good()
		body[change[0]] = change[1]
		st, e := p.ask("POST", "/api/v1/endpoints", body)
		if st < 400 || e["field"] != field && !(field == "secret" && e["field"] == "url") {
			t.Errorf("with another %s: %d %v", field, st, e)
		}
	}
	body := good()
	body["secret"] = "another secret than that"
	if st, e := p.ask("POST", "/api/v1/endpoints", body); st != 409 || e["field"] != "key" {
		t.Errorf("with another secret: %d %v", st, e)
	}
	st, e := p.ask("POST", "/api/v1/endpoints", good())
	if st != 201 || e["region"] == "" || e["style"] != "path" {
		t.Fatalf("a good one: %d %v", st, e)
	}
	health := fmt.Sprint(e["health"])
	if !strings.Contains(health, "state:healthy") || !strings.Contains(health, "can:yes name:conditional writes") {
		t.Errorf("how it stands: %s", health)
	}
	if is.Counts()["Put"] == 0 {
		t.Error("nothing was tried there")
	}
	if strings.Contains(fmt.Sprint(e), harness.StandinSecret) {
		t.Error("the secret was told")
	}
	if st, e := p.ask("PATCH", "/api/v1/endpoints/annex", map[string]any{"url": is.URL}); st != 422 && st != 400 ||
		e["field"] != "secret" {
		t.Errorf("a new address without the secret: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/endpoints/annex", map[string]any{"note": "n", "ifRevision": 9}); st != 412 {
		t.Errorf("at another revision: %d %v", st, e)
	}
	if err := is.Set(standin.Faults{Refuse: []string{"*"}}); err != nil {
		t.Fatal(err)
	}
	if st, e := p.ask("POST", "/api/v1/endpoints/annex/check", map[string]any{}); st != 200 || e["good"] != false {
		t.Errorf("a check when the key is refused: %d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/overview", nil); st != 200 || !strings.Contains(fmt.Sprint(e["concerns"]),
		"endpoint annex") {
		t.Errorf("the overview: %d %v", st, e["concerns"])
	}
	other := newPerson(t, s)
	lab := s.NewKey("seed-lab", "lab", access.Administrator, nil)
	if st, e := other.signInAs(map[string]string{"key": lab.ID, "secret": lab.Secret}); st != 201 {
		t.Fatal(e)
	}
	for _, path := range []string{"/api/v1/endpoints", "/api/v1/endpoints/annex", "/api/v1/overview"} {
		if _, e := other.ask("GET", path, nil); strings.Contains(fmt.Sprint(e), is.URL) ||
			strings.Contains(fmt.Sprint(e), "endpoint annex") {
			t.Errorf("%s tells another account: %v", path, e)
		}
	}
	if st, e := p.ask("DELETE", "/api/v1/endpoints/annex", nil); st != 204 {
		t.Errorf("removing it: %d %v", st, e)
	}
}

// A rule says what it does and lacks before it is saved; what is there already is counted.
func TestReplicationRules(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	for _, b := range []string{"plates", "copies"} {
		if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": b}); st != 201 {
			t.Fatal(e)
		}
	}
	s.Do("PUT", "/plates/2026/k", nil, "content", true)
	rule := map[string]any{"name": "out", "bucket": "plates", "prefix": "2026/", "existing": "backfill",
		"targets": []any{map[string]any{"address": "copies/from/"}}}
	st, e := p.ask("POST", "/api/v1/replications/review", rule)
	says := fmt.Sprint(e)
	if st != 200 || !strings.Contains(says, "source-versioning") || !strings.Contains(says, "target-versioning") ||
		!strings.Contains(says, "objects:1") || !strings.Contains(says, "beneath 2026/ are copied to copies beneath from/") {
		t.Errorf("the review: %d %s", st, says)
	}
	if st, e := p.ask("POST", "/api/v1/replications", rule); st != 409 {
		t.Errorf("saved although it lacks something: %d %v", st, e)
	}
	rule["mend"] = true
	if st, e := p.ask("POST", "/api/v1/replications", rule); st != 201 {
		t.Fatalf("saved with mending: %d %v", st, e)
	}
	harness.Until(t, "the copy", func() bool {
		st, _, b := s.Do("GET", "/copies/from/2026/k", nil, "", true)
		return st == 200 && b == "content"
	})
	harness.Until(t, "its state", func() bool {
		_, e := p.ask("GET", "/api/v1/buckets/plates/replicas?key=2026/k", nil)
		return strings.Contains(fmt.Sprint(e["replicas"]), "state:completed")
	})
	if _, e := p.ask("GET", "/api/v1/buckets/copies/replicas?key=from/2026/k", nil); !strings.Contains(
		fmt.Sprint(e["replicaOf"]), "bucket:plates") {
		t.Errorf("what it is a replica of: %v", e)
	}
	for field, change := range map[string]map[string]any{
		"targets": {"targets": []any{map[string]any{"address": "plates"}}},
		"prefix":  {"prefix": "2026/*"}, "name": {"name": "No Name"},
		"lag": {"lagTarget": map[string]any{"percent": 99, "seconds": 3e6}}} {
		body := map[string]any{"name": "second", "bucket": "plates", "existing": "leave", "targets": rule["targets"]}
		for k, v := range change {
			body[k] = v
		}
		if st, e := p.ask("POST", "/api/v1/replications", body); st < 400 {
			t.Errorf("%s: %d %v", field, st, e)
		}
	}
	// A target that stays takes what is new of it; what was said comes back as it was.
	st, e = p.ask("PATCH", "/api/v1/replications/out", map[string]any{"lagTarget": map[string]any{"percent": 57,
		"seconds": 9},
		"targets": []any{map[string]any{"address": "copies/from/", "class": "main", "sealed": true}}})
	if says := fmt.Sprint(e["targets"], e["lagTarget"]); st != 200 || !strings.Contains(says, "class:main") ||
		!strings.Contains(says, "sealed:true") || !strings.Contains(says, "percent:57 ") {
		t.Errorf("changed: %d %s", st, says)
	}
	if st, e := p.ask("PATCH", "/api/v1/replications/out", map[string]any{"targets": []any{map[string]any{
		"address": "copies/from/", "class": "no-such-tier"}}}); st != 404 || e["field"] != "targets" {
		t.Errorf("a tier that is not there: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/replications/out", map[string]any{"on": false}); st != 200 ||
		e["state"] != "paused" {
		t.Errorf("switched off: %d %v", st, e)
	}
	// An object says how it stands at each target; so does a key that was removed.
	if _, e := p.ask("GET", "/api/v1/buckets/plates/object?key=2026/k", nil); !strings.Contains(fmt.Sprint(e["replicas"]),
		"rule:out state:") {
		t.Errorf("the object's copies: %v", e["replicas"])
	}
	s.Do("DELETE", "/plates/2026/k", nil, "", true)
	harness.Until(t, "the removal waits", func() bool {
		_, e := p.ask("GET", "/api/v1/replications/out/objects?state=pending", nil)
		return strings.Contains(fmt.Sprint(e["objects"]), "key:2026/k removed:true state:pending")
	})
	if _, e := p.ask("GET", "/api/v1/buckets/plates/replicas?key=2026/k", nil); e["removed"] != true ||
		!strings.Contains(fmt.Sprint(e["replicas"]), "state:pending") {
		t.Errorf("a removed key's copies: %v", e)
	}
	if st, _ := p.ask("DELETE", "/api/v1/replications/out", nil); st != 204 {
		t.Errorf("removed: %d", st)
	}
}

// A tier may be a bucket at an endpoint: it is sealed unless that is switched off, says to
// operators where it is and to others that it is elsewhere, and keeps the endpoint from
// being removed. What cannot be a place is refused with the field.
func TestTiersElsewhere(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, there := harness.Standin(t, standin.Faults{}, "keeps")
	s.StandinEndpoint("annex", is)
	if err := there.CreateBucket(t.Context(), "bodies"); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s)
	p.signIn()
	tier := func(name string, more map[string]any, volumes ...string) (int, map[string]any) {
		in := map[string]any{"name": name, "volumes": volumes}
		maps.Copy(in, more)
		return p.ask("POST", "/api/v1/tiers", in)
	}
	for at, code := range map[string]string{"@annex/none": "volume", "@annex/keeps": "volume-keeps",
		"@annex":         "volume-place",
		"@nobody/bodies": "endpoint-missing", "@annex/Bodies!": "bucket-name", "@annex/bodies/" +
			strings.Repeat("x", 600): "volume-place"} {
		if st, e := tier("far", nil, at); st < 400 || e["code"] != code || e["field"] != "volumes" || e["remedy"] == "" {
			t.Errorf("%.40s: %d %v", at, st, e)
		}
	}
	if st, e := tier("far", nil, "@annex/bodies", t.TempDir()); st != 400 || e["code"] != "tier-elsewhere" {
		t.Errorf("a directory beside a bucket: %d %v", st, e)
	}
	st, e := tier("far", nil, "@annex/bodies/deep")
	if st != 201 || e["sealed"] != true || e["elsewhere"] != true || !strings.Contains(fmt.Sprint(e["volumes"]),
		"@annex/bodies/deep/") {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := tier("again", nil, "@annex/bodies/deep/"); st != 409 || e["code"] != "volume-taken" {
		t.Errorf("the same place: %d %v", st, e)
	}
	if st, e := tier("plain", map[string]any{"sealed": false}, "@annex/bodies/plain"); st != 201 || e["sealed"] != false {
		t.Errorf("one that is not sealed: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/tiers/far", map[string]any{"copies": 2}); st != 400 ||
		e["code"] != "tier-elsewhere" {
		t.Errorf("two copies: %d %v", st, e)
	}
	if st, e := p.ask("DELETE", "/api/v1/endpoints/annex", nil); st != 409 || e["code"] != "endpoint-used" {
		t.Errorf("the endpoint is removed: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "moss", "tier": "far"}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if _, e := p.ask("GET", "/api/v1/buckets/moss", nil); e["elsewhere"] != "@annex/bodies/deep/" ||
		e["tierSeals"] != true {
		t.Errorf("where its bytes are: %v", e)
	}
	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("moss", "", "account:seed-lab", "read from")
	visitor := newPerson(t, s)
	if st, e := visitor.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	for _, path := range []string{"/api/v1/tiers", "/api/v1/tiers/far", "/api/v1/buckets/moss"} {
		st, e := visitor.ask("GET", path, nil)
		if text := fmt.Sprint(e); st != 200 || strings.Contains(text, "annex") || !strings.Contains(text, "elsewhere:") {
			t.Errorf("%s as a visitor: %d %s", path, st, text)
		}
	}
	if st, e := p.ask("DELETE", "/api/v1/buckets/moss", nil); st != 204 {
		t.Fatalf("%d %v", st, e)
	}
	for _, name := range []string{"far", "plain"} {
		if st, e := p.ask("DELETE", "/api/v1/tiers/"+name, nil); st != 204 {
			t.Fatalf("%d %v", st, e)
		}
	}
	if st, e := p.ask("DELETE", "/api/v1/endpoints/annex", nil); st != 204 {
		t.Errorf("%d %v", st, e)
	}
}
