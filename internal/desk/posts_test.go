package desk_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/core/posting"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// hook is a program outside that changes are posted to.
type hook struct {
	mu     sync.Mutex
	broken bool
	secret string
	ids    []string // in the order in which they came
	keys   []string
	bad    int // that were not signed well
}

func (h *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	body, _ := io.ReadAll(r.Body)
	if h.broken {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	_, created, _ := strings.Cut(r.Header.Get("Signature-Input"), "created=")
	var at int64
	_, _ = fmt.Sscan(strings.Split(created, ";")[0], &at)
	for name, value := range posting.Sign("http://"+r.Host+r.URL.Path, body, "tell", h.secret, time.Unix(at, 0)) {
		if r.Method != http.MethodPost || r.Header.Get(name) != value {
			h.bad++
		}
	}
	var events []posting.Event
	if err := json.Unmarshal(body, &events); err != nil {
		h.bad++
	}
	for _, e := range events {
		h.ids, h.keys = append(h.ids, e.ID), append(h.keys, e.Subject)
	}
}

func (h *hook) has() (keys []string, bad int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.keys), h.bad
}

// What changes is posted in its order, signed, again when it did not arrive, from where it
// was paused; nothing of other accounts, and never to an address that is not allowed.
func TestPosts(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	c := fill(t, s, 1, func(int) string { return "before" })
	h := &hook{}
	there := httptest.NewServer(h)
	defer there.Close()
	p := newPerson(t, s)
	p.signIn()
	st, e := p.ask("POST", "/api/v1/journal/posts", map[string]any{"name": "tell", "url": there.URL + "/in",
		"bucket": "plates", "kinds": []string{"written"}})
	if st != 201 || e["secret"] == nil {
		t.Fatalf("%d %v", st, e)
	}
	h.mu.Lock()
	h.secret = e["secret"].(string)
	h.mu.Unlock()
	put := func(key string) {
		t.Helper()
		if _, err := c.Put(t.Context(), "plates", key, strings.NewReader("leaf"), 4, client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	want := []string{}
	for i := range 250 {
		put(fmt.Sprintf("a%03d", i))
		want = append(want, fmt.Sprintf("a%03d", i))
	}
	arrived := func(n int) {
		t.Helper()
		harness.Until(t, "they arrive", func() bool {
			keys, _ := h.has()
			return len(keys) >= n
		})
	}
	arrived(250)
	if keys, bad := h.has(); fmt.Sprint(keys) != fmt.Sprint(want) || bad != 0 {
		t.Errorf("%d came, %d badly signed, in the order %v", len(keys), bad, keys)
	}
	if st, e := p.ask("GET", "/api/v1/journal/posts/tell", nil); st != 200 || e["secret"] != nil {
		t.Errorf("the secret is shown again: %d %v", st, e)
	}
	h.mu.Lock()
	h.broken = true
	h.mu.Unlock()
	put("late")
	harness.Until(t, "it fails", func() bool {
		_, e = p.ask("GET", "/api/v1/journal/posts/tell", nil)
		return e["failed"] != nil
	})
	if !strings.Contains(fmt.Sprint(e["problem"]), "500") {
		t.Errorf("%v", e)
	}
	if st, e := p.ask("POST", "/api/v1/journal/posts/tell/try", nil); st < 400 || e["code"] != "post-refused" {
		t.Errorf("tried: %d %v", st, e)
	}
	h.mu.Lock()
	h.broken = false
	h.mu.Unlock()
	arrived(251)
	if st, e := p.ask("PATCH", "/api/v1/journal/posts/tell", map[string]any{"on": false}); st != 200 || e["on"] != false {
		t.Errorf("%d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/buckets/plates",
		map[string]any{"journal": map[string]any{"paused": true}}); st != 200 {
		t.Errorf("%d %v", st, e)
	}
	put("while paused") // the post, and the journal, which hides nothing from it
	if st, e := p.ask("PATCH", "/api/v1/journal/posts/tell", map[string]any{"on": true}); st != 200 {
		t.Errorf("%d %v", st, e)
	}
	arrived(252)
	if keys, _ := h.has(); keys[251] != "while paused" {
		t.Errorf("%v", keys[250:])
	}
	for _, bad := range []map[string]any{{"name": "x", "url": "https://h.example/"}, {"name": "tell", "url": there.URL},
		{"name": "other", "url": "file:///etc"},
		{"name": "other", "url": "https://h.example/", "bucket": "none"}, {"name": "other", "url": "https://h.example/",
			"kinds": []string{"eaten"}}} {
		if st, e := p.ask("POST", "/api/v1/journal/posts", bad); st < 400 {
			t.Errorf("%v: %d %v", bad, st, e)
		}
	}
	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("plates", "", "account:seed-lab", "read from")
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := v.ask("GET", "/api/v1/journal/posts/tell", nil); st != 404 {
		t.Errorf("%d %v", st, e)
	}
	if st, e := v.ask("POST", "/api/v1/journal/posts", map[string]any{"name": "theirs", "url": there.URL,
		"bucket": "plates"}); st != 404 {
		t.Errorf("changes of others: %d %v", st, e)
	}
	if st, _ := p.ask("DELETE", "/api/v1/journal/posts/tell", nil); st != 204 {
		t.Errorf("removed: %d", st)
	}
}

// Several processes post from one journal, each event once and in its order: whoever takes a
// post up starts where the one before stopped, not where it stood when they looked.
func TestPostsOfSeveralProcesses(t *testing.T) {
	var cfg service.Config
	often := func(c *service.Config) {
		c.Reach, c.Works.OrdersEvery = []string{"loopback"}, time.Millisecond
	}
	s := harness.Service(t, func(c *service.Config) { often(c); cfg = *c })
	for range 2 {
		harness.Service(t, func(c *service.Config) { *c = cfg; often(c) })
	}
	c := fill(t, s, 1, func(int) string { return "before" })
	h := &hook{}
	there := httptest.NewServer(h)
	defer there.Close()
	p := newPerson(t, s)
	p.signIn()
	st, e := p.ask("POST", "/api/v1/journal/posts", map[string]any{"name": "tell", "url": there.URL + "/in",
		"bucket": "plates", "kinds": []string{"written"}})
	if st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	h.mu.Lock()
	h.secret = e["secret"].(string)
	h.mu.Unlock()
	want := []string{}
	for i := range 300 {
		key := fmt.Sprintf("a%03d", i)
		if _, err := c.Put(t.Context(), "plates", key, strings.NewReader("leaf"), 4, client.Put{}); err != nil {
			t.Fatal(err)
		}
		want = append(want, key)
	}
	harness.Until(t, "all arrive", func() bool {
		keys, _ := h.has()
		return slices.Contains(keys, want[len(want)-1])
	})
	if keys, bad := h.has(); !slices.Equal(keys, want) || bad != 0 {
		t.Errorf("%d came, %d badly signed, in the order %v", len(keys), bad, keys)
	}
}

// A post to the machine's own network is refused where that is not allowed.
func TestPostsStayOutside(t *testing.T) {
	s := harness.Service(t, nil)
	h := &hook{}
	there := httptest.NewServer(h)
	defer there.Close()
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/journal/posts", map[string]any{"name": "tell", "url": there.URL}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/journal/posts/tell/try", nil); st < 400 || e["code"] != "address-refused" {
		t.Errorf("%d %v", st, e)
	}
}
