package attack

import (
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// TestAPartIsAllOneSees opens a prefix to somebody and looks for keys, people and
// addresses beyond it.
func TestAPartIsAllOneSees(t *testing.T) {
	s := harness.Service(t, nil)
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates","versioning":"on","tags":{"cost":"secret-centre"}}`)
	writer := s.NewKey("herbarium", "scanner", access.Writer, nil)
	must(t, s, writer, "PUT", "/api/v1/buckets/plates/body?key=hidden/origin.tif", `"x"`)
	must(t, s, writer, "POST", "/api/v1/buckets/plates/copy",
		`{"fromBucket":"plates","fromKey":"hidden/origin.tif","key":"open/came.tif"}`)
	must(t, s, writer, "POST", "/api/v1/buckets/plates/copy",
		`{"fromBucket":"plates","fromKey":"hidden/origin.tif","key":"open/went.tif"}`)
	must(t, s, writer, "POST", "/api/v1/buckets/plates/copy",
		`{"fromBucket":"plates","fromKey":"open/went.tif","key":"hidden/target.tif","move":true}`)
	must(t, s, writer, "PATCH", "/api/v1/buckets/plates/object?key=open/came.tif", `{"tags":{"set":{"a":"b"}}}`)
	must(t, s, writer, "POST", "/api/v1/buckets/plates/remove", `{"keys":["open/went.tif"]}`)
	guest := s.NewKey("guest-curators", "looks", access.Administrator, nil)
	s.Grant("plates", "open/", "key:"+guest.ID, "read from")
	limited := s.NewKey("herbarium", "limited", access.Reader, limitedTo("plates", "open/"))
	secrets := []string{"hidden/", writer.ID, harness.Key, "127.0.0.1", "secret-centre"}
	for who, k := range map[string]sign.Credential{"a guest": guest, "a limited key": limited} {
		for _, path := range []string{
			"/api/v1/journal?bucket=plates&prefix=open/", "/api/v1/buckets/plates/history?key=open/came.tif&followRenames=true",
			"/api/v1/buckets/plates/history?key=open/went.tif&followRenames=true",
			"/api/v1/buckets/plates/object?key=open/came.tif", "/api/v1/buckets/plates/objects?prefix=open/",
			"/api/v1/buckets/plates/versions?prefix=open/", "/api/v1/buckets/plates", "/api/v1/buckets",
			"/api/v1/buckets/plates/object?key=open/went.tif", "/api/v1/buckets/plates/object?key=hidden/origin.tif",
			"/api/v1/journal?bucket=plates", "/api/v1/buckets/plates/objects", "/api/v1/grants?bucket=plates",
		} {
			st, _, b := asks(t, s, k, "GET", path, "")
			b = strings.ReplaceAll(b, "plates/hidden/origin.tif", "") // what was asked for
			for _, secret := range secrets {
				if strings.Contains(b, secret) {
					t.Errorf("%s, %s (%d): %q is told: %s", who, path, st, secret, b)
				}
			}
		}
		st, code, b := asks(t, s, k, "GET", "/api/v1/journal?bucket=plates&prefix=open/&who="+writer.ID, "")
		refused(t, who+" looks for what somebody did", "not-allowed", st, code, b)
		for _, path := range []string{"/plates?prefix=open/", "/plates?prefix=open/&versions=", "/plates/open/went.tif",
			"/plates/open/came.tif", "/plates/open/came.tif?acl=", "/plates?tagging=", "/plates?acl="} {
			_, h, b := s.As(k, "GET", path, nil, "")
			text := fmt.Sprint(h, b)
			for _, secret := range append(secrets, "<DisplayName>herbarium") {
				if who == "a limited key" && strings.HasPrefix(secret, "<") {
					continue // it is of the account
				}
				if strings.Contains(text, secret) {
					t.Errorf("%s, wire %s: %q is told: %s", who, path, secret, text)
				}
			}
		}
	}
	// Unsigned, a part is open and the bucket's tags are not.
	s.Grant("plates", "open/", "anyone", "read from")
	for _, path := range []string{"/plates?tagging=", "/plates?prefix=open/",
		"/plates?prefix=open/&list-type=2&fetch-owner=true", "/plates?acl=", "/plates?policyStatus="} {
		if _, _, b := s.Do("GET", path, nil, "", false); strings.Contains(b, "secret-centre") ||
			strings.Contains(b, "herbarium") {
			t.Errorf("unsigned %s: %s", path, b)
		}
	}
	// Whoever belongs there sees it all.
	if b := must(t, s, owner, "GET", "/api/v1/buckets/plates/history?key=open/came.tif", ""); !strings.Contains(b,
		"hidden/origin.tif") || !strings.Contains(b, writer.ID) {
		t.Errorf("the owner: %s", b)
	}
}

// TestThereOrNot asks in every way whether a key is there, as those who may not
// list: the answer is the same for one that is and one that is not.
func TestThereOrNot(t *testing.T) {
	s := harness.Service(t, nil)
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates","versioning":"on"}`)
	wire(t, s, owner, "PUT", "/mine", "", 200)
	body := "content"
	wire(t, s, owner, "PUT", "/plates/sheet-one", body, 200)
	grant := func(purpose string) sign.Credential {
		k := s.NewKey("seed-lab", purpose, access.Writer, nil)
		s.Grant("plates", "", "key:"+k.ID, purpose)
		s.Grant("mine", "", "key:"+k.ID, "administer")
		return k
	}
	writes, removes, reads := grant("write"), grant("remove"), grant("read,write")
	same := func(what string, ask func(key string) string) {
		t.Helper()
		there, not := ask("sheet-one"), ask("sheet-two")
		if there = strings.ReplaceAll(there, "sheet-one", "KEY"); there != strings.ReplaceAll(not, "sheet-two", "KEY") {
			t.Errorf("%s:\nthere     %s\nnot there %s", what, there, not)
		}
	}
	onWire := func(k sign.Credential, method, path string, h map[string]string, body string) func(string) string {
		return func(key string) string {
			st, _, b := s.As(k, method, strings.ReplaceAll(path, "KEY", key), h, strings.ReplaceAll(body, "KEY", key))
			if at := strings.Index(b, "<RequestId>"); at >= 0 {
				b = b[:at]
			}
			return fmt.Sprint(st, " ", b)
		}
	}
	onDesk := func(k sign.Credential, method, path, body string) func(string) string {
		return func(key string) string {
			st, code, _ := asks(t, s, k, method, strings.ReplaceAll(path, "KEY", key), strings.ReplaceAll(body, "KEY", key))
			return fmt.Sprint(st, " ", code)
		}
	}
	etag := map[string]string{"If-Match": `"9a0364b9e99bb480dd25e1f0284c8555"`}
	same("a put if nothing is there", onWire(writes, "PUT", "/plates/KEY", map[string]string{"If-None-Match": "*"}, ""))
	same("a put if something is there", onWire(writes, "PUT", "/plates/KEY", etag, ""))
	same("a copy if nothing is there", onWire(writes, "PUT", "/plates/KEY",
		map[string]string{"If-None-Match": "*", "x-amz-copy-source": "/mine/none"}, ""))
	same("a removal if something is there", onWire(removes, "DELETE", "/plates/KEY", etag, ""))
	same("a get without listing", onWire(writes, "GET", "/plates/KEY", nil, ""))
	same("the source of a copy that may not be read",
		onWire(writes, "PUT", "/mine/copy", map[string]string{"x-amz-copy-source": "/plates/KEY"}, ""))
	for what, ask := range map[string]func(string) string{
		"a copy of what is not there": onWire(reads, "PUT", "/mine/copy",
			map[string]string{"x-amz-copy-source": "/plates/nowhere"}, ""),
		"tags of what is not there": onWire(reads, "GET", "/plates/nowhere?tagging=", nil, ""),
		"set on what is not there": onWire(writes, "PUT", "/plates/nowhere?tagging=", nil,
			"<Tagging><TagSet></TagSet></Tagging>"),
	} {
		if got := ask(""); !strings.HasPrefix(got, "403") {
			t.Errorf("%s: %s", what, got)
		}
	}
	same("an upload if nothing is there, desk", onDesk(writes, "PUT", "/api/v1/buckets/plates/body?key=KEY&ifAbsent=true",
		`"x"`))
	same("a rehearsal of a removal, desk", onDesk(removes, "POST", "/api/v1/buckets/plates/remove",
		`{"keys":["KEY"],"rehearse":true}`))
	same("a restore, desk", onDesk(writes, "POST", "/api/v1/buckets/plates/restore", `{"key":"KEY","version":"null"}`))
	same("a rename away, desk", onDesk(removes, "POST", "/api/v1/buckets/mine/copy",
		`{"fromBucket":"plates","fromKey":"KEY","key":"k","move":true}`))
	same("a removal, desk", func(key string) string {
		_, _, b := asks(t, s, removes, "POST", "/api/v1/buckets/plates/remove", `{"keys":["`+key+`"]}`)
		return b
	})
}

// TestExplanationsTellNothingOfOthers asks about others' buckets and roles.
func TestExplanationsTellNothingOfOthers(t *testing.T) {
	s := harness.Service(t, nil)
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates"}`)
	s.NewKey("seed-lab", "x", access.Reader, nil)
	must(t, s, owner, "POST", "/api/v1/people",
		`{"name":"Ines Varga","password":"herons over the fen","roles":[{"account":"seed-lab","role":"reader"},{"account":"herbarium","role":"administrator"}]}`)
	reader, admin := s.NewKey("seed-lab", "reads", access.Reader, nil),
		s.NewKey("seed-lab", "administers", access.Administrator, nil)
	for _, k := range []sign.Credential{reader, admin} {
		_, _, b := asks(t, s, k, "POST", "/api/v1/access/explain", `{"do":"read","bucket":"plates"}`)
		if strings.Contains(b, "herbarium") {
			t.Errorf("whose a bucket is, is told: %s", b)
		}
		if _, _, b := s.As(k, "GET", "/plates/k", nil, ""); strings.Contains(b, "herbarium") {
			t.Errorf("on the wire: %s", b)
		}
	}
	st, code, b := asks(t, s, reader, "POST", "/api/v1/access/explain",
		`{"subject":"person:Ines Varga","do":"read","bucket":"plates"}`)
	if st < 400 {
		t.Errorf("a reader asks about somebody: %d %s %s", st, code, b)
	}
	for _, body := range []string{`{"subject":"person:Ines Varga","do":"read","bucket":"plates"}`,
		`{"subject":"person:Ines Varga","account":"herbarium","do":"read","bucket":"plates"}`} {
		if _, _, b := asks(t, s, admin, "POST", "/api/v1/access/explain",
			body); strings.Contains(strings.ReplaceAll(b, "not in herbarium", ""), "herbarium") ||
			strings.Contains(b, "administrator in") || strings.Contains(b, `"allowed":true`) {
			t.Errorf("roles elsewhere are told: %s", b)
		}
	}
	for _, path := range []string{"/api/v1/people", "/api/v1/people/Ines%20Varga"} {
		if _, _, b := asks(t, s, admin, "GET", path, ""); !strings.Contains(b, "Ines") || strings.Contains(b, "herbarium") {
			t.Errorf("%s: %s", path, b)
		}
	}
}

// TestFiguresOfTheServiceAreTheOperators looks for them as people of accounts.
func TestFiguresOfTheServiceAreTheOperators(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	wire(t, s, owner, "PUT", "/plates/scrubbed-key", "content", 200)
	k := s.NewKey("seed-lab", "administers", access.Administrator, nil)
	b := must(t, s, k, "GET", "/api/v1/overview", "")
	for _, word := range []string{`"scrubbed"`, `"collected"`, `"free"`, "scrubbed-key", "plates", "c2NydWJi"} {
		if strings.Contains(b, word) {
			t.Errorf("the overview tells %s: %s", word, b)
		}
	}
	if b := must(t, s, owner, "GET", "/api/v1/overview", ""); !strings.Contains(b, `"scrubbed"`) ||
		strings.Contains(b, "c2NydWJi") {
		t.Errorf("the operator's: %s", b)
	}
	// Pages are cut after they were filtered: neither length nor next tells of others.
	for i := range 5 {
		must(t, s, owner, "POST", "/api/v1/accounts", fmt.Sprintf(`{"name":"account-%d"}`, i))
		wire(t, s, owner, "PUT", fmt.Sprintf("/bucket-%d", i), "", 200)
		wire(t, s, k, "PUT", fmt.Sprintf("/mine-%d", i), "", 200)
	}
	for path, want := range map[string]string{"/api/v1/accounts": "seed-lab", "/api/v1/buckets": "mine-"} {
		for after, n := "", 0; ; n++ {
			b := must(t, s, k, "GET", path+"?limit=1&after="+after, "")
			if strings.Contains(b, "account-") || strings.Contains(b, "bucket-") || strings.Contains(b, "plates") ||
				strings.Contains(b, "herbarium") {
				t.Errorf("%s after %q: %s", path, after, b)
			}
			if !strings.Contains(b, want) {
				t.Errorf("%s after %q is empty: %s", path, after, b)
			}
			_, next, more := strings.Cut(b, `"next":"`)
			if !more || n > 10 {
				break
			}
			after, _, _ = strings.Cut(next, `"`)
		}
	}
	limited := s.NewKey("seed-lab", "limited", access.Administrator, limitedTo("mine-3", ""))
	if b := must(t, s, limited, "GET", "/api/v1/buckets?limit=1", ""); !strings.Contains(b, "mine-3") ||
		strings.Contains(b, "next") {
		t.Errorf("a limited key: %s", b)
	}
}

// TestChecksConnectToNothingElse has the check of settings look at other ports and
// machines.
func TestChecksConnectToNothingElse(t *testing.T) {
	s := harness.Service(t, nil)
	reader := s.NewKey("herbarium", "reads", access.Reader, nil)
	var came atomic.Int32
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	foreign := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Amz-Request-Id", "1")
		w.WriteHeader(403)
		_, _ = w.Write([]byte("<Error><Code>Odd</Code><Message>foreign words</Message></Error>"))
	}), ConnState: func(_ net.Conn, st http.ConnState) {
		if st == http.StateNew {
			came.Add(1)
		}
	}}
	go func() { _ = foreign.Serve(l) }()
	t.Cleanup(func() { foreign.Close() })
	check := func(k sign.Credential, address string) (int, string, string) {
		return asks(t, s, k, "POST", "/api/v1/check",
			`{"address":"`+address+`","style":"path","region":"fenn","key":"K","secret":"a-secret-of-sixteen","bucket":"plates","write":true}`)
	}
	for _, address := range []string{"http://" + l.Addr().String(), "http://localhost:" +
		fmt.Sprint(l.Addr().(*net.TCPAddr).Port), "http://plates.localhost:" + fmt.Sprint(l.Addr().(*net.TCPAddr).Port),
		"http://169.254.10.10:80", "http://[::ffff:127.0.0.1]:" + fmt.Sprint(l.Addr().(*net.TCPAddr).Port)} {
		if st, _, b := check(reader, address); st != 200 || strings.Contains(b, "foreign words") ||
			strings.Contains(b, `"good":true`) {
			t.Errorf("%s: %d %s", address, st, b)
		}
	}
	if n := came.Load(); n > 0 {
		t.Errorf("%d connections were made for a reader", n)
	}
	if _, _, b := check(owner, "http://"+l.Addr().String()); came.Load() == 0 || strings.Contains(b, "foreign") {
		t.Errorf("for an operator: %d connections, %s", came.Load(), b)
	}
	begun := time.Now()
	if _, _, b := check(owner, "http://169.254.10.10:80"); !strings.Contains(b, "does not connect") ||
		time.Since(begun) > 2*time.Second {
		t.Errorf("a link-local address: %s", b)
	}
	// One's own wire, also when the host's header lies.
	if _, _, b := check(reader, s.WireURL); !strings.Contains(b, `no key \"K\"`) {
		t.Errorf("the own wire: %s", b)
	}
	c := newCall(t, s, "POST", "/api/v1/check", `{"address":"http://fen.invalid:`+fmt.Sprint(l.Addr().(*net.TCPAddr).
		Port)+`","style":"path","region":"fenn","key":"K"}`)
	c.r.Host = "fen.invalid"
	before := came.Load()
	if st, _, b := c.signed(reader).send(); st != 200 || came.Load() != before {
		t.Errorf("with another host's name: %d %s", st, b)
	}
	limited := 0
	for range 20 {
		if st, code, _ := check(reader, "http://x"); st == 503 && code == "check-rate" {
			limited++
		}
	}
	if limited < 8 {
		t.Errorf("of 20 checks %d were too many", limited)
	}
	harness.Until(t, "the trail has them", func() bool {
		return strings.Contains(must(t, s, owner, "GET", "/api/v1/trail?kind=settings%20checked", ""), "169.254.10.10")
	})
}

// TestNoAnswerTellsOfOthers holds that what a role may not see is in
// none of the answers of any call, whatever their status.
func TestNoAnswerTellsOfOthers(t *testing.T) {
	s := harness.Service(t, nil)
	by := catalog.Author{At: time.Now(), Who: access.Machine}
	if err := s.Store.Catalog.ChangeAccount(t.Context(), catalog.Account{Name: "herbarium", Note: "canary-note"},
		by); err != nil {
		t.Fatal(err)
	}
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"canary-bucket","versioning":"on","tags":{"a":"canary-tag"}}`)
	wire(t, s, owner, "PUT", "/canary-bucket/canary-key", "content", 200)
	must(t, s, owner, "POST", "/api/v1/people",
		`{"name":"Canary Person","password":"herons over the fen","roles":[{"account":"herbarium","role":"reader"}]}`)
	inside := s.NewKey("herbarium", "canary-application", access.Reader, nil)
	s.Grant("canary-bucket", "canary-prefix/", "key:"+inside.ID, "read from")
	stranger := s.NewKey("seed-lab", "administers", access.Administrator, nil)
	for _, path := range []string{"/overview", "/journal", "/buckets", "/orders", "/accounts", "/accounts/herbarium",
		"/people", "/people/Canary%20Person", "/keys", "/keys/" + inside.ID, "/grants", "/grants/1", "/sessions",
		"/trail", "/access/matrix", "/uploads", "/service", "/session", "/buckets/canary-bucket",
		"/buckets/canary-bucket/objects", "/buckets/canary-bucket/object?key=canary-key", "/buckets/canary-bucket/usage",
		"/journal?bucket=canary-bucket", "/access/matrix?account=herbarium", "/trail?account=herbarium",
		"/keys?account=herbarium", "/people?account=herbarium", "/grants?account=herbarium", "/buckets?account=herbarium",
		"/master-key"} {
		for _, k := range []sign.Credential{stranger, {}} {
			c := newCall(t, s, "GET", "/api/v1"+path, "")
			if k.ID != "" {
				c.signed(k)
			}
			st, _, b := c.send()
			// What was asked for may be said again.
			for _, asked := range strings.FieldsFunc(strings.ReplaceAll(path, "%20", " "),
				func(r rune) bool { return strings.ContainsRune("/?=&", r) }) {
				if strings.Contains(strings.ToLower(asked), "canary") || asked == inside.ID || asked == "herbarium" {
					b = strings.ReplaceAll(b, asked, "")
				}
			}
			for _, word := range []string{"anary", inside.ID, harness.Key, "herbarium"} {
				if strings.Contains(b, word) {
					t.Errorf("%s (%d) tells %s: %s", path, st, word, b)
				}
			}
		}
	}
}
