package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"spindle/internal/core/access"
	"spindle/internal/harness"
)

// A key is named by its id or its name wherever one names keys; one of another account with the
// account before it, and no more is told of those than of ids.
func TestKeysByTheirNames(t *testing.T) {
	s := harness.Service(t, nil)
	foreign := s.NewKey("seed-lab", "mill", access.Writer, nil)
	admin := s.NewKey("herbarium", "clerk", access.Administrator, nil)
	reader := s.NewKey("herbarium", "desk-reader", access.Reader, nil)
	for range 2 {
		s.NewKey("herbarium", "twice", access.Reader, nil)
		s.NewKey("seed-lab", "double", access.Reader, nil)
	}
	p := newPerson(t, s)
	p.signInAs(map[string]string{"key": admin.ID, "secret": admin.Secret})
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates"}); st != 201 {
		t.Fatal(e)
	}
	grant := func(to string) map[string]any {
		return map[string]any{"bucket": "plates", "prefix": to + "/", "to": to, "for": "read from"}
	}
	for _, c := range []struct {
		method, path string
		in           any
		status       int
		says         string
	}{
		{"GET", "/keys/desk-reader", nil, 200, reader.ID},
		{"PATCH", "/keys/desk-reader", map[string]any{"note": "by its name"}, 200, "by its name"},
		{"POST", "/grants", grant("key:desk-reader"), 201, "key " + reader.ID},
		{"POST", "/grants", grant("key:seed-lab/mill"), 201, "key " + foreign.ID},
		{"GET", "/grants?to=key:seed-lab%2Fmill", nil, 200, "key " + foreign.ID},
		{"POST", "/grants", grant("key:seed-lab/nobody"), 404, "there is no key seed-lab/nobody"},
		{"POST", "/grants", grant("key:seed-lab/double"), 404, "there is no key seed-lab/double"},
		{"POST", "/grants", grant("key:twice"), 409, "several keys of the account herbarium"},
		{"GET", "/keys/seed-lab%2Fmill", nil, 404, "key-missing"},
		{"GET", "/keys/mill", nil, 404, "key-missing"},
		{"DELETE", "/keys/twice", nil, 409, "key-ambiguous"},
		{"GET", "/journal?who=clerk", nil, 200, admin.ID},
		{"GET", "/trail?who=clerk", nil, 200, admin.ID},
		{"POST", "/find", map[string]any{"expression": "writer is one of clerk, desk-reader or not writer is mill"}, 200,
			"writer is one of " + admin.ID + ", " + reader.ID + " or not writer is mill"},
		{"POST", "/find", map[string]any{"expression": "writer is twice"}, 409, "expression"},
		{"POST", "/keys/desk-reader/replace", map[string]any{"grace": "1h"}, 201, "secret"},
		{"GET", "/keys/desk-reader", nil, 200, "desk-reader"},
		{"DELETE", "/keys/desk-reader", nil, 204, ""},
		{"GET", "/keys/desk-reader", nil, 404, "key-missing"},
	} {
		st, e := p.ask(c.method, "/api/v1"+c.path, c.in)
		if text := fmt.Sprint(e); st != c.status || !strings.Contains(text, c.says) ||
			st >= 400 && strings.Contains(text, foreign.ID) {
			t.Errorf("%s %s: %d %s", c.method, c.path, st, text)
		}
	}
	for name, allowed := range map[string]bool{"seed-lab/mill": true, "seed-lab/nobody": false} {
		st, e := p.ask("POST", "/api/v1/access/explain", map[string]any{"bucket": "plates", "do": "read",
			"key": "key:seed-lab/mill/x", "subject": "key:" + name})
		if st != 200 || e["allowed"] != allowed || e["subject"] != "key "+name {
			t.Errorf("explained of %s: %d %v", name, st, e)
		}
	}
}
