package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"spindle/internal/harness"
)

func TestChecksAndPages(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	for i := range 5 {
		if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": fmt.Sprint("plates-", i)}); st != 201 {
			t.Fatal(e)
		}
	}
	st, info := p.ask("GET", "/api/v1/service", nil)
	wire := info["wire"].(map[string]any)
	if st != 200 || wire["url"] != s.WireURL || info["region"] != "fenn" {
		t.Errorf("service: %d %v", st, info)
	}
	settings := map[string]any{"address": s.WireURL, "style": "path", "region": "fenn", "key": harness.Key,
		"bucket": "plates-0", "write": true}
	if st, r := p.ask("POST", "/api/v1/check", settings); st != 200 || r["good"] != true {
		t.Errorf("the own key needs no secret: %d %v", st, r)
	}
	settings["key"] = "SOMEBODY"
	if st, r := p.ask("POST", "/api/v1/check", settings); st != 200 || r["good"] != false {
		t.Errorf("another key without a secret: %d %v", st, r)
	}
	settings["address"], settings["key"] = s.DeskURL, harness.Key
	_, r := p.ask("POST", "/api/v1/check", settings)
	if text := fmt.Sprint(r["findings"]); !strings.Contains(text, "console's port") || !strings.Contains(text, s.WireURL) {
		t.Errorf("the desk's address: %v", r)
	}
	if st, e := p.ask("POST", "/api/v1/check", map[string]any{"address": "x", "style": "sideways", "region": "",
		"key": ""}); st != 422 || e["field"] != "body.style" {
		t.Errorf("an unknown style: %d %v", st, e)
	}
	names := ""
	for after := ""; ; {
		_, page := p.ask("GET", "/api/v1/buckets?limit=2&after="+after, nil)
		for _, b := range page["buckets"].([]any) {
			names += b.(map[string]any)["name"].(string) + " "
		}
		next, more := page["next"].(string)
		if !more {
			break
		}
		after = next
	}
	if names != "plates-0 plates-1 plates-2 plates-3 plates-4 " {
		t.Errorf("pages of buckets: %s", names)
	}
	for i := range 5 {
		s.Do("PUT", fmt.Sprint("/plates-0/d/k", i), map[string]string{"x-amz-meta-taxon": "=?utf-8?b?w6k=?="}, "x", true)
	}
	keys := ""
	for after := ""; ; {
		_, page := p.ask("GET", "/api/v1/buckets/plates-0/objects?metadata=true&limit=2&prefix=d/&after="+after, nil)
		for _, o := range page["objects"].([]any) {
			m := o.(map[string]any)
			keys += m["key"].(string) + " "
			if m["metadata"].(map[string]any)["taxon"] != "é" {
				t.Errorf("metadata %v", m["metadata"])
			}
		}
		next, more := page["next"].(string)
		if !more {
			break
		}
		after = next
	}
	if keys != "d/k0 d/k1 d/k2 d/k3 d/k4 " {
		t.Errorf("pages of objects: %s", keys)
	}
	for _, bad := range []string{"/api/v1/buckets/plates-0/objects?prefix=%ff", "/api/v1/buckets/UP/objects",
		"/api/v1/buckets/plates-0/object?key=", "/api/v1/journal?before=x", "/api/v1/buckets?limit=0",
		"/api/v1/overview?days=1000"} {
		if st, e := p.ask("GET", bad, nil); st < 400 || st >= 500 || e["detail"] == "" || e["code"] == "" {
			t.Errorf("%s: %d %v", bad, st, e)
		}
	}
	st, u := p.ask("GET", "/api/v1/buckets/plates-0/usage", nil)
	if points := u["points"].([]any); st != 200 || points[len(points)-1].(map[string]any)["current"] != 5.0 {
		t.Errorf("usage: %d %v", st, u)
	}
}
