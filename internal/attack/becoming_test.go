package attack

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/keyring"
	"spindle/internal/wire/sign"
)

// TestOperatingIsGivenByOperators has administrators of the operating account try
// every way to a key or person that operates the service, at two processes.
func TestOperatingIsGivenByOperators(t *testing.T) {
	one, other := two(t)
	must(t, one, owner, "POST", "/api/v1/buckets", `{"name":"plates"}`)
	wire(t, one, owner, "PUT", "/plates/k", "content", 200)
	admin := one.NewKey("herbarium", "administers", access.Administrator, nil)
	tam := person(t, one, "Tam Ellery", "herons over the fen", "herbarium", access.Administrator)
	for _, s := range []*struct {
		name string
		ask  func(method, path, body string) (int, string, string)
	}{
		{"a key at one process", func(m, p, b string) (int, string, string) { return asks(t, one, admin, m, p, b) }},
		{"a key at the other", func(m, p, b string) (int, string, string) { return asks(t, other, admin, m, p, b) }},
		{"a person", func(m, p, b string) (int, string, string) {
			var in any
			if b != "" {
				in = json.RawMessage(b)
			}
			st, out := tam.ask(m, p, in)
			code, _ := out["code"].(string)
			return st, code, fmt.Sprint(out)
		}},
	} {
		try := func(what, want, method, path, body string) {
			t.Helper()
			st, code, b := s.ask(method, path, body)
			refused(t, s.name+": "+what, want, st, code, b)
		}
		try("makes a key that operates", "operator-only", "POST", "/api/v1/keys",
			`{"name":"x","role":"administrator","operator":true}`)
		try("has a key operate", "operator-only", "PATCH", "/api/v1/keys/"+admin.ID, `{"operator":true}`)
		try("replaces the operator's key", "operator-only", "POST", "/api/v1/keys/"+harness.Key+"/replace", `{"grace":"24h"}`)
		try("changes the operator's key", "operator-only", "PATCH", "/api/v1/keys/"+harness.Key, `{"note":"mine"}`)
		try("switches the operator's key off", "operator-only", "PATCH", "/api/v1/keys/"+harness.Key, `{"active":false}`)
		try("removes the operator's key", "operator-only", "DELETE", "/api/v1/keys/"+harness.Key, "")
		try("signs a link with the operator's key", "not-allowed", "POST", "/api/v1/buckets/plates/link",
			`{"key":"k","seconds":60,"with":"`+harness.Key+`"}`)
		try("makes a request as the operator's key", "not-allowed", "POST", "/api/v1/access/test",
			`{"key":"`+harness.Key+`","do":"read","bucket":"plates","objectKey":"k"}`)
		try("makes an operator of a person", "not-allowed", "POST", "/api/v1/people", `{"name":"Oda","operator":true}`)
		try("makes an account", "not-allowed", "POST", "/api/v1/accounts", `{"name":"more"}`)

		// A key that administers the account is one that administers, and no more.
		st, code, b := s.ask("POST", "/api/v1/keys", `{"name":"x","role":"administrator"}`)
		if st != 201 {
			st2, code2, b2 := s.ask("GET", "/api/v1/keys", "")
			t.Fatalf("%s makes a key: %d %s %s; %d %s %s", s.name, st, code, b, st2, code2, b2)
		}
		if strings.Contains(b, `"operator":true`) || strings.Contains(b, "operator:true") {
			t.Errorf("%s: the key operates: %s", s.name, b)
		}
	}
	reader := one.NewKey("herbarium", "reads", access.Reader, nil)
	must(t, one, admin, "PATCH", "/api/v1/keys/"+reader.ID, `{"role":"administrator"}`)
	time.Sleep(10 * time.Millisecond)
	var session struct{ Operator bool }
	if err := json.Unmarshal([]byte(must(t, one, reader, "GET", "/api/v1/session", "")), &session); err != nil ||
		session.Operator {
		t.Errorf("a reader's key that was made an administrator's operates: %v, %v", session, err)
	}
	// A key that operates is an administrator's, without limits: also the operator cannot make another.
	for _, body := range []string{`{"name":"x","role":"reader","operator":true}`,
		`{"name":"x","role":"administrator","operator":true,"limits":["plates"]}`} {
		st, code, b := asks(t, one, owner, "POST", "/api/v1/keys", body)
		refused(t, body, "operator-role", st, code, b)
	}
	if b := must(t, one, owner, "POST", "/api/v1/keys",
		`{"name":"second","role":"administrator","operator":true}`); !strings.Contains(b, `"operator":true`) {
		t.Errorf("an operator makes another: %s", b)
	}
}

// TestNothingOutlivesItsGiver has a key that expires give more than it has.
func TestNothingOutlivesItsGiver(t *testing.T) {
	s := harness.Service(t, nil)
	soon := time.Now().Add(time.Hour)
	brief := s.NewKey("herbarium", "brief", access.Administrator, func(k *catalog.AccessKey) { k.Expires = &soon })
	st, code, b := asks(t, s, brief, "POST", "/api/v1/keys", `{"name":"x","role":"administrator"}`)
	refused(t, "a key without an end", "key-outlives", st, code, b)
	st, code, b = asks(t, s, brief, "PATCH", "/api/v1/keys/"+brief.ID, `{"expires":""}`)
	refused(t, "its own end taken away", "key-outlives", st, code, b)
	must(t, s, brief, "POST", "/api/v1/keys", `{"name":"x","role":"administrator","expires":"30m"}`)
}

// TestNamesAreNoIdentity has people and keys take each other's names.
func TestNamesAreNoIdentity(t *testing.T) {
	s := harness.Service(t, nil)
	person(t, s, "Tam-Ellery", "herons over the fen", "herbarium", access.Reader)
	stranger := s.NewKey("seed-lab", "administers", access.Administrator, nil)
	secret := "a-secret-brought-along"
	harness.Secretly("a secret", secret)
	for id, want := range map[string]string{"Tam-Ellery": "name-taken", "tam-ellery": "name-taken", "anyone": "key-id",
		"ANYONE": "key-id", "operator": "key-id", "scrubber": "key-id"} {
		st, code, b := asks(t, s, stranger, "POST", "/api/v1/keys", `{"name":"x","id":"`+id+`","secret":"`+secret+`"}`)
		refused(t, "the id "+id, want, st, code, b)
	}
	st, code, b := asks(t, s, stranger, "POST", "/api/v1/keys", `{"name":"x","id":"SHORT1","secret":"only-15-letters"}`)
	refused(t, "a short secret", "key-secret", st, code, b)
	roles := `"roles":[{"account":"seed-lab","role":"reader"}]`
	for name, want := range map[string]string{harness.Key: "name-taken", strings.ToLower(harness.Key): "name-taken",
		"anyone": "person-name", "Tam\\u200bEllery": "person-name",
		"Tam\\u202eyrellE": "person-name", "Tam\\u009bEllery": "person-name", "Tam\\u00a0Ellery": "person-name",
		"Tam e\\u0301": "person-name", "T\\ufe0fam": "person-name"} {
		st, code, b := asks(t, s, owner, "POST", "/api/v1/people",
			`{"name":"`+name+`",`+strings.Replace(roles, "seed-lab", "herbarium", 1)+`}`)
		refused(t, "the name "+name, want, st, code, b)
	}
	for _, name := range []string{"a\\u200bb", "a\\u202eb", "a\\u009bb", "a\\nb"} {
		st, code, b := asks(t, s, owner, "POST", "/api/v1/keys", `{"name":"`+name+`"}`)
		refused(t, "an application named "+name, "title", st, code, b)
		st, code, b = asks(t, s, owner, "PATCH", "/api/v1/accounts/herbarium",
			`{"note":"`+strings.Replace(name, "\\n", "\\u0007", 1)+`"}`)
		refused(t, "a note "+name, "note", st, code, b)
	}
	// Records tell a person from a key.
	b = must(t, s, owner, "GET", "/api/v1/trail?kind=signed%20in", "")
	if !strings.Contains(b, `"who":"person Tam-Ellery"`) {
		t.Errorf("the trail: %s", b)
	}
}

// TestAnOrderEndsWithItsGiver takes away, in the middle of an order, what its giver
// was allowed; and has a bucket made again under the name of one that was removed.
func TestAnOrderEndsWithItsGiver(t *testing.T) {
	s := harness.Service(t, nil)
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates"}`)
	giver := s.NewKey("herbarium", "administers", access.Administrator, nil)
	wire(t, s, owner, "PUT", "/plates/a/k", "content", 200)
	var o struct {
		ID             int64
		State, Problem string
	}
	read := func(body string) {
		t.Helper()
		if err := json.Unmarshal([]byte(body), &o); err != nil {
			t.Fatal(err)
		}
	}
	read(must(t, s, giver, "POST", "/api/v1/orders",
		`{"kind":"rename","bucket":"plates","prefix":"none/","toBucket":"plates","toPrefix":"b/"}`))
	harness.Until(t, "the order is done", func() bool {
		read(must(t, s, giver, "GET", fmt.Sprint("/api/v1/orders/", o.ID), ""))
		return o.State == "done"
	})
	must(t, s, owner, "DELETE", "/api/v1/keys/"+giver.ID, "")
	// The order is set running again behind everybody's back, as after a crash.
	if _, err := s.Store.Catalog.TurnOrder(t.Context(), o.ID, catalog.OrderRunning, "", catalog.OrderDone); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the order fails", func() bool {
		read(must(t, s, owner, "GET", fmt.Sprint("/api/v1/orders/", o.ID), ""))
		return o.State == "failed"
	})
	if !strings.Contains(o.Problem, "may act here no more") {
		t.Errorf("the order ended with %q", o.Problem)
	}
}

// TestRemovedBucketsAreNobodysPast makes a bucket under the name of one that was
// removed by others, and looks for their past.
func TestRemovedBucketsAreNobodysPast(t *testing.T) {
	s := harness.Service(t, nil)
	theirs := s.NewKey("seed-lab", "administers", access.Administrator, nil)
	mine := s.NewKey("guest-curators", "administers", access.Administrator, nil)
	wire(t, s, theirs, "PUT", "/trials", "", 200)
	wire(t, s, theirs, "PUT", "/trials/unpublished.csv", "content", 200)
	var o struct{ ID int64 }
	if err := json.Unmarshal([]byte(must(t, s, theirs, "POST", "/api/v1/orders",
		`{"kind":"convert","bucket":"trials","prefix":""}`)), &o); err != nil {
		t.Fatal(err)
	}
	wire(t, s, theirs, "DELETE", "/trials/unpublished.csv", "", 204)
	wire(t, s, theirs, "DELETE", "/trials", "", 204)
	wire(t, s, mine, "PUT", "/trials", "", 200)
	wire(t, s, mine, "PUT", "/trials/mine.csv", "content", 200)
	for _, path := range []string{"/api/v1/journal?bucket=trials", "/api/v1/journal",
		"/api/v1/journal?bucket=trials&after=0.0", "/api/v1/overview", "/api/v1/orders", "/api/v1/trail", "/api/v1/uploads"} {
		if _, _, b := asks(t, s, mine, "GET", path, ""); strings.Contains(b, "unpublished") ||
			strings.Contains(b, theirs.ID) {
			t.Errorf("%s tells of others: %s", path, b)
		}
	}
	if _, _, b := asks(t, s, mine, "GET", "/api/v1/journal?bucket=trials", ""); !strings.Contains(b, "mine.csv") {
		t.Errorf("one's own is not there: %s", b)
	}
	st, code, b := asks(t, s, mine, "GET", fmt.Sprint("/api/v1/orders/", o.ID), "")
	refused(t, "an order on the bucket that was", "order-missing", st, code, b)
	if _, _, b := asks(t, s, owner, "GET", "/api/v1/journal?bucket=trials", ""); !strings.Contains(b, "unpublished") {
		t.Errorf("an operator does not see what was: %s", b)
	}
	// An account that takes the name of one that was removed.
	must(t, s, owner, "DELETE", "/api/v1/accounts/seed-lab", "")
	again := s.NewKey("seed-lab", "administers", access.Administrator, nil)
	for _, path := range []string{"/api/v1/trail?limit=1000", "/api/v1/journal"} {
		if _, _, b := asks(t, s, again, "GET", path, ""); strings.Contains(b, theirs.ID) ||
			strings.Contains(b, "unpublished") {
			t.Errorf("%s tells of an account that was removed: %s", path, b)
		}
	}
}

// TestSignInCannotBeHurried tries passwords many at once, at two processes.
func TestSignInCannotBeHurried(t *testing.T) {
	one, other := two(t)
	known := person(t, one, "Ines Varga", "dusk over the long dyke", "herbarium", access.Reader)
	guess := func(s *harness.Running, name, password string) string {
		_, e := newBrowser(t, s).signIn(name, password)
		code, _ := e["code"].(string)
		return code
	}
	for _, name := range []string{"Ines Varga", "Nobody Known"} {
		codes := make(chan string, 60)
		for i := range 60 {
			s := one
			if i%2 == 1 {
				s = other
			}
			go func() { codes <- guess(s, name, fmt.Sprint("wrong password ", i)) }()
		}
		tried := 0
		for range 60 {
			if c := <-codes; c == "sign-in" {
				tried++
			} else if c != "too-many-attempts" {
				t.Errorf("%s: %q", name, c)
			}
		}
		if tried > 6 {
			t.Errorf("%s: of 60 at once %d were tried", name, tried)
		}
	}
	// Whoever signed in from a device before is not held up there.
	begun := time.Now()
	if st, e := known.signIn("Ines Varga", "dusk over the long dyke"); st != 201 {
		t.Errorf("from a known device: %d %v", st, e)
	}
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("from a known device it takes %s", took)
	}
	if st, e := known.ask("POST", "/api/v1/session/password",
		map[string]string{"password": "dusk over the long dyke", "new": "dawn over the long dyke"}); st != 204 {
		t.Errorf("the password is changed while strangers try: %d %v", st, e)
	}
}

// TestWrongSignaturesAreMeasured sends many, and finds them in the trail; who has
// the secret is not held up at the same address.
func TestWrongSignaturesAreMeasured(t *testing.T) {
	s := harness.Service(t, nil)
	k := s.NewKey("herbarium", "field-kit", access.Reader, nil)
	fresh := s.NewKey("herbarium", "never used", access.Reader, nil)
	wire(t, s, k, "GET", "/", "", 200)
	_, secret := keyring.Generate()
	slowed := 0
	for range 100 {
		if st, _, _ := s.As(sign.Credential{ID: fresh.ID, Secret: secret}, "GET", "/", nil, ""); st == 503 {
			slowed++
		} else if st != 403 {
			t.Fatalf("a wrong signature: %d", st)
		}
	}
	if slowed < 80 {
		t.Errorf("of 100 wrong signatures %d had to wait", slowed)
	}
	for range 100 {
		s.As(sign.Credential{ID: k.ID, Secret: secret}, "GET", "/", nil, "")
	}
	wire(t, s, k, "GET", "/", "", 200)
	harness.Until(t, "the trail has them", func() bool {
		b := must(t, s, owner, "GET", "/api/v1/trail?kind=signature%20wrong", "")
		return strings.Contains(b, fresh.ID) && strings.Contains(b, k.ID)
	})
}

// TestFloodsLoseNothingOfOthers floods the trail without a key, while a key is
// refused now and then.
func TestFloodsLoseNothingOfOthers(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	k := s.NewKey("seed-lab", "field-kit", access.Reader, nil)
	for i := range 3000 {
		if i%150 == 0 {
			wire(t, s, k, "GET", fmt.Sprint("/plates/mine/", i), "", 403)
		}
		s.As(sign.Credential{}, "GET", fmt.Sprint("/plates/", i), nil, "")
	}
	harness.Until(t, "each refusal of the key is noted", func() bool {
		b := must(t, s, owner, "GET", "/api/v1/trail?limit=1000&kind=refused&who="+k.ID, "")
		return strings.Count(b, "mine/") >= 20
	})
	var flood struct{ Entries []struct{ Times int } }
	if err := json.Unmarshal([]byte(must(t, s, owner, "GET", "/api/v1/trail?limit=1000&kind=refused&who=anyone", "")),
		&flood); err != nil {
		t.Fatal(err)
	}
	if n := len(flood.Entries); n == 0 || n > 200 {
		t.Errorf("the flood takes %d rows", n)
	}
}
