package desk_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"spindle/internal/api"
	"spindle/internal/desk"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// person is somebody with a browser.
type person struct {
	t       *testing.T
	base    string
	hc      *http.Client
	forgery string
	account string // that requests name; "": none
}

func newPerson(t *testing.T, s *harness.Running) *person {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &person{t: t, base: s.DeskURL, hc: &http.Client{Jar: jar}}
}

// ask sends a request with the session's token and gives status and document.
func (p *person) ask(method, path string, in any) (int, map[string]any) {
	p.t.Helper()
	st, b := p.send(method, path, in)
	out := map[string]any{}
	if len(b) > 0 && b[0] == '{' {
		if err := json.Unmarshal(b, &out); err != nil {
			p.t.Fatalf("%s: %v", b, err)
		}
	}
	return st, out
}

// send makes a call, and gives the answer as it is.
func (p *person) send(method, path string, in any) (int, []byte) {
	p.t.Helper()
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			p.t.Fatal(err)
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequest(method, p.base+path, body)
	if err != nil {
		p.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(api.ForgeryHeader, p.forgery)
	if p.account != "" {
		r.Header.Set(api.AccountHeader, p.account)
	}
	resp, err := p.hc.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return resp.StatusCode, b
}

func (p *person) signIn() {
	p.t.Helper()
	st, s := p.ask("POST", "/api/v1/session", map[string]string{"key": harness.Key, "secret": harness.Secret})
	if st != 201 {
		p.t.Fatalf("signing in: %d %v", st, s)
	}
	p.forgery = s["forgery"].(string)
}

func TestSessions(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	if st, e := p.ask("POST", "/api/v1/session", map[string]string{"key": harness.Key, "secret": "guessed"}); st != 403 ||
		e["code"] != "sign-in" {
		t.Errorf("a wrong secret: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/session", map[string]string{"key": "NOBODY", "secret": "guessed"}); st != 403 ||
		e["code"] != "sign-in" {
		t.Errorf("an unknown key: %d %v", st, e)
	}
	p.signIn()
	if st, e := p.ask("GET", "/api/v1/session", nil); st != 200 || e["account"] != "herbarium" {
		t.Errorf("who is signed in: %d %v", st, e)
	}
	token := p.forgery
	p.forgery = "made up"
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]string{"name": "plates"}); st != 403 ||
		e["code"] != "forgery" {
		t.Errorf("a change with a forged token: %d %v", st, e)
	}
	p.forgery = token
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]string{"name": "plates"}); st != 201 {
		t.Errorf("a change: %d %v", st, e)
	}
	if st, _ := p.ask("DELETE", "/api/v1/session", nil); st != 204 {
		t.Errorf("signing out: %d", st)
	}
	if st, e := p.ask("GET", "/api/v1/buckets", nil); st != 401 {
		t.Errorf("after signing out: %d %v", st, e)
	}
	// Guessing slows down, for the key too.
	for range 6 {
		p.ask("POST", "/api/v1/session", map[string]string{"key": harness.Key, "secret": "guessed"})
	}
	if st, e := p.ask("POST", "/api/v1/session", map[string]string{"key": harness.Key,
		"secret": harness.Secret}); st != 403 || e["code"] != "too-many-attempts" {
		t.Errorf("after many guesses: %d %v", st, e)
	}
}

// TestEveryCallNeedsSomebody asks every call of the OpenAPI document without a
// signature or session; a new call is found here by itself.
var inPath = regexp.MustCompile(`\{\w+\}`)

// TestProblemsNameTheirRequest looks for the id of a request in its header and its problem.
func TestProblemsNameTheirRequest(t *testing.T) {
	s := harness.Service(t, nil)
	seen := map[string]bool{}
	for _, path := range []string{"/api/v1/buckets", "/api/v1/nothing", "/api/v1/buckets?limit=x"} {
		resp, err := http.Get(s.DeskURL + path)
		if err != nil {
			t.Fatal(err)
		}
		var p struct{ Request string }
		err = json.NewDecoder(resp.Body).Decode(&p)
		resp.Body.Close()
		id := resp.Header.Get("Spindle-Request")
		if err != nil || len(id) != 20 || p.Request != id || seen[id] {
			t.Errorf("%s: the header has %q, the problem %q, %v", path, id, p.Request, err)
		}
		seen[id] = true
	}
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"nam": "x"}); st != 422 ||
		len(e["request"].(string)) != 20 {
		t.Errorf("what the document refuses: %d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/profiles/nothing", nil); st != 404 || e["code"] != "profile" {
		t.Errorf("no such profile: %d %v", st, e)
	}
}

func TestEveryCallNeedsSomebody(t *testing.T) {
	s := harness.Service(t, nil)
	doc, err := desk.Document()
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		Paths map[string]map[string]any `yaml:"paths"`
	}
	if err := yaml.Unmarshal(doc, &d); err != nil {
		t.Fatal(err)
	}
	open := map[string]bool{"get /api/v1/service": true, "post /api/v1/session": true}
	calls := 0
	ask := func(method, path string) {
		calls++
		p := newPerson(t, s)
		st, e := p.ask(strings.ToUpper(method), inPath.ReplaceAllString(path, "1"), nil)
		if open[method+" "+path] {
			if st == 401 {
				t.Errorf("%s %s: %d %v", method, path, st, e)
			}
			return
		}
		if st != 401 || e["code"] != "signed-out" {
			t.Errorf("%s %s without a session: %d %v", method, path, st, e)
		}
	}
	for path, methods := range d.Paths {
		for method := range methods {
			ask(method, path)
		}
	}
	ask("get", "/api/v1/events")
	ask("get", "/api/v1/buckets/{bucket}/body")
	ask("put", "/api/v1/buckets/{bucket}/body")
	ask("put", "/api/v1/buckets/{bucket}/uploads/{id}/parts/{number}")
	if calls < 66+4 {
		t.Errorf("only %d calls were tried", calls)
	}
}

func TestBucketsAndObjects(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	for name, want := range map[string]string{"No": "bucket-name", "plates": ""} {
		st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": name, "quota": 1000})
		if want == "" && st != 201 || want != "" && (e["code"] != want || e["field"] != "bucket" || e["remedy"] == "") {
			t.Errorf("creating %q: %d %v", name, st, e)
		}
	}
	put := func(key, body string) int {
		r, err := http.NewRequest("PUT", s.DeskURL+"/api/v1/buckets/plates/body?key="+sign.Escape(key, true),
			strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set(api.ForgeryHeader, p.forgery)
		r.Header.Set("Content-Type", "text/html")
		resp, err := p.hc.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	key := "a/<script>alert(1)</script>\n\x00.html"
	if st := put(key, "<script>evil()</script>"); st != 201 {
		t.Fatalf("putting: %d", st)
	}
	if st := put("big", strings.Repeat("x", 2000)); st != 409 {
		t.Errorf("over quota: %d", st)
	}
	st, o := p.ask("GET", "/api/v1/buckets/plates/object?key="+sign.Escape(key, true), nil)
	if st != 200 || o["key"] != key || o["size"] != 23.0 {
		t.Errorf("showing: %d %v", st, o)
	}
	if st, e := p.ask("GET", "/api/v1/buckets/plates/object?key=a", nil); st != 404 || e["code"] != "key-is-prefix" {
		t.Errorf("a prefix asked for as an object: %d %v", st, e)
	}
	resp, err := p.hc.Get(s.DeskURL + "/api/v1/buckets/plates/body?key=" + sign.Escape(key, true))
	if err != nil {
		t.Fatal(err)
	}
	b, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if h := resp.Header; string(b) != "<script>evil()</script>" || h.Get("Content-Type") != "application/octet-stream" ||
		!strings.HasPrefix(h.Get("Content-Disposition"), "attachment") ||
		h.Get("X-Content-Type-Options") != "nosniff" || strings.ContainsAny(h.Get("Content-Disposition"), "<>\n\x00") &&
		strings.Contains(h.Get("Content-Disposition"), "\n") {
		t.Errorf("download: %q %v", b, h)
	}
	_, l := p.ask("POST", "/api/v1/buckets/plates/link", map[string]any{"key": key, "seconds": 60})
	resp, err = http.Get(l["url"].(string))
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != 200 {
		t.Errorf("the link %s: %d", l["url"], resp.StatusCode)
	}
	st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"quota": 10})
	if st != 409 || e["field"] != "quota" || !strings.Contains(e["remedy"].(string), "23") {
		t.Errorf("a quota below use: %d %v", st, e)
	}
	if st, o = p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"quota": nil}); st != 200 || o["quota"] != nil {
		t.Errorf("taking the quota away: %d %v", st, o)
	}
	if st, o = p.ask("POST", "/api/v1/buckets/plates/copy",
		map[string]any{"fromBucket": "plates", "fromKey": key, "key": "b", "move": true}); st != 200 || o["key"] != "b" {
		t.Errorf("renaming: %d %v", st, o)
	}
	for i := range 5 {
		put(fmt.Sprint("c/", i), "x")
	}
	all := ""
	if st, q := p.ask("POST", "/api/v1/buckets/plates/remove",
		map[string]any{"prefix": all, "rehearse": true}); st != 200 || q["objects"] != 6.0 || q["bytes"] != 28.0 {
		t.Errorf("rehearsal: %d %v", st, q)
	}
	if st, e := p.ask("DELETE", "/api/v1/buckets/plates", nil); st != 409 || e["code"] != "bucket-not-empty" {
		t.Errorf("removing what is not empty: %d %v", st, e)
	}
	if st, q := p.ask("POST", "/api/v1/buckets/plates/remove", map[string]any{"prefix": all}); st != 200 ||
		q["objects"] != 6.0 || q["more"] != nil {
		t.Errorf("removal: %d %v", st, q)
	}
	if st, e := p.ask("GET", "/api/v1/buckets/plates/objects?limit=5000", nil); st != 422 ||
		e["code"] != "request-invalid" {
		t.Errorf("a page that is too long: %d %v", st, e)
	}
	if st, _ := p.ask("DELETE", "/api/v1/buckets/plates", nil); st != 204 {
		t.Errorf("removing the bucket: %d", st)
	}
	st, j := p.ask("GET", "/api/v1/journal?bucket=plates&limit=3", nil)
	if entries, _ := j["entries"].([]any); st != 200 || len(entries) != 3 ||
		entries[0].(map[string]any)["kind"] != "bucket removed" {
		t.Errorf("journal: %d %v", st, j)
	}
}

func TestOverviewAndLiveUpdates(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates", "quota": 10})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", s.DeskURL+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := p.hc.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	events := bufio.NewScanner(resp.Body)
	next := func() (e struct {
		Topics       []string
		All          bool
		CompleteUpTo string
	}) {
		for events.Scan() {
			if data, ok := strings.CutPrefix(events.Text(), "data: "); ok {
				if err := json.Unmarshal([]byte(data), &e); err != nil {
					t.Fatal(err)
				}
				return e
			}
		}
		t.Fatalf("no more events: %v", events.Err())
		return e
	}
	if first := next(); !first.All {
		t.Errorf("the first event: %+v", first)
	}
	next() // from here on changes are told apart
	s.Do("PUT", "/plates/k", nil, "0123456789", true)
	e := next()
	for len(e.Topics) == 0 {
		if e = next(); e.All {
			t.Fatalf("one change is told as %+v", e)
		}
	}
	if !slices.Equal(e.Topics, []string{"plates"}) {
		t.Errorf("what changed: %+v", e)
	}
	st, o := p.ask("GET", "/api/v1/overview", nil)
	concerns, _ := o["concerns"].([]any)
	if st != 200 || o["objects"] != 1.0 || o["bytes"] != 10.0 || len(concerns) != 1 ||
		concerns[0].(map[string]any)["says"] != "is full" {
		t.Errorf("overview: %d %v", st, o)
	}
}

// TestAWrongClockIsOnTheOverview has the process's clock go wrong, and right again.
func TestAWrongClockIsOnTheOverview(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	for ahead, says := range map[time.Duration]string{
		6 * time.Second:        "is ahead of the database's",
		-8 * time.Hour:         "is behind the database's",
		400 * time.Millisecond: "",
	} {
		s.Store.Catalog.OwnClock(func() time.Time { return time.Now().Add(ahead) })
		if err := s.Store.Catalog.LookAtClock(t.Context()); err != nil {
			t.Fatal(err)
		}
		st, o := p.ask("GET", "/api/v1/overview", nil)
		concerns, _ := o["concerns"].([]any)
		if (says == "") != (len(concerns) == 0) || says != "" && concerns[0].(map[string]any)["says"] != says {
			t.Errorf("a clock %s ahead: %d %v", ahead, st, concerns)
		}
	}
}

func TestPagesOfTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	for _, path := range []string{"/", "/buckets/plates?prefix=a%2F", "/connect"} {
		resp, err := http.Get(s.DeskURL + path)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != 200 || !strings.Contains(string(b), `<div id="root">`) {
			t.Fatalf("%s: %d; is the console built (make build)?", path, resp.StatusCode)
		}
		if csp := resp.Header.Get("Content-Security-Policy"); !strings.Contains(csp, "script-src 'self'") ||
			!strings.Contains(csp, "frame-ancestors 'none'") {
			t.Errorf("%s: content policy %q", path, csp)
		}
	}
	resp, err := http.Get(s.DeskURL + "/api/v1/nothing")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != 401 {
		t.Errorf("a call that is not there, unsigned: %d", resp.StatusCode)
	}
}
