package desk_test

import (
	"fmt"
	"strings"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// Who else exists is not found out by granting to them: misses are few, and stand in the trail;
// whoever got a grant is not told which key gave it, and a limited key sees no grants beside it.
func TestGrantsTellNothingOfOthers(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	for _, b := range []map[string]any{{"name": "plates"}, {"name": "notes"}} {
		if st, e := p.ask("POST", "/api/v1/buckets", b); st != 201 {
			t.Fatal(st, e)
		}
	}
	if st, e := p.ask("POST", "/api/v1/accounts", map[string]any{"name": "seed-lab"}); st != 201 {
		t.Fatal(st, e)
	}
	as := func(k sign.Credential) *person {
		q := newPerson(t, s)
		if st, e := q.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
			t.Fatal(st, e)
		}
		return q
	}
	grant := map[string]any{"bucket": "plates", "to": "account:seed-lab", "for": "read from"}
	if st, e := p.ask("POST", "/api/v1/grants", grant); st != 201 || e["createdBy"] == "" {
		t.Fatal(st, e)
	}
	if st, e := p.ask("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "prefix": "x/",
		"to":  "account:seed-lab",
		"for": "write into"}); st != 201 {
		t.Fatal(st, e)
	}
	got := as(s.NewKey("seed-lab", "SEEDS", access.Administrator, nil))
	if _, b := got.send("GET", "/api/v1/grants", nil); !strings.Contains(string(b), `"bucket":"plates"`) ||
		strings.Contains(string(b), harness.Key) {
		t.Errorf("the grantee is told %s", b)
	}
	limited := as(s.NewKey("herbarium", "PARTLY", access.Reader, func(k *catalog.AccessKey) {
		k.Limits = []access.Scope{{Bucket: "plates", Prefix: "open/"}}
	}))
	if _, b := limited.send("GET", "/api/v1/buckets/plates", nil); strings.Contains(string(b), "seed-lab") {
		t.Errorf("a limited key is told %s", b)
	}
	codes := map[any]int{}
	for i := range 30 {
		_, e := p.ask("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": fmt.Sprintf("key:GUESS%d", i),
			"for": "read from"})
		codes[e["code"]]++
	}
	if codes["grantee-missing"] > 15 || codes["check-rate"] < 15 {
		t.Errorf("answers to 30 guesses: %v", codes)
	}
	harness.Until(t, "the trail has the misses", func() bool {
		_, b := p.send("GET", "/api/v1/trail?kind=refused", nil)
		return strings.Contains(string(b), "grant to key:GUESS")
	})
}

// The owner of a bucket asks why a foreign key is refused, and is told no more of it than that.
func TestForeignKeysExplained(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates"}); st != 201 {
		t.Fatal(st, e)
	}
	owner := newPerson(t, s) // no operator
	mine := s.NewKey("herbarium", "OWNER", access.Administrator, nil)
	foreign := s.NewKey("seed-lab", "SEEDS", access.Writer, nil)
	if st, e := owner.signInAs(map[string]string{"key": mine.ID, "secret": mine.Secret}); st != 201 {
		t.Fatal(st, e)
	}
	why := func(q *person, key string) string {
		t.Helper()
		_, b := q.send("POST", "/api/v1/access/explain", map[string]any{"subject": "key:" + key, "do": "write",
			"bucket": "plates"})
		return string(b)
	}
	none, there := why(owner, "NOSUCHKEY"), why(owner, foreign.ID)
	if strings.ReplaceAll(there, foreign.ID, "NOSUCHKEY") != none || !strings.Contains(there,
		"--for \\\"write into\\\"") ||
		strings.Contains(there, "seed-lab") {
		t.Errorf("a foreign key: %s\none that is none: %s", there, none)
	}
	if st, e := owner.ask("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": "account:seed-lab",
		"for": "write into"}); st != 201 {
		t.Fatal(st, e)
	}
	harness.Until(t, "the grant holds", func() bool { return strings.Contains(why(owner, foreign.ID), `"allowed":true`) })
	other := newPerson(t, s)
	guest := s.NewKey("guests", "GUEST", access.Administrator, nil)
	if st, e := other.signInAs(map[string]string{"key": guest.ID, "secret": guest.Secret}); st != 201 {
		t.Fatal(st, e)
	}
	if b := why(other, foreign.ID); !strings.Contains(b, "key-missing") {
		t.Errorf("a stranger is told %s", b)
	}
	// What a sync job needs is proposed as one purpose.
	if st, e := other.ask("POST", "/api/v1/buckets", map[string]any{"name": "trays"}); st != 201 {
		t.Fatal(st, e)
	}
	_, e := other.ask("POST", "/api/v1/syncs", map[string]any{"name": "in", "from": "trays", "to": "plates",
		"mode": "mirror"})
	_, purpose, _ := strings.Cut(fmt.Sprint(e["remedy"]), `grant "`)
	purpose, _, _ = strings.Cut(purpose, `"`)
	if st, e := owner.ask("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": "account:guests",
		"for": purpose}); st != 201 {
		t.Fatalf("the refused sync proposed %q: %d %v", purpose, st, e)
	}
	harness.Until(t, "the sync is taken with what was proposed", func() bool {
		st, _ := other.ask("POST", "/api/v1/syncs", map[string]any{"name": "in", "from": "trays", "to": "plates",
			"mode": "mirror"})
		return st == 201
	})
}
