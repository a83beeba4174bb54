package desk_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

func regionService(t *testing.T, name string) (*harness.Running, *person) {
	t.Helper()
	s := harness.Service(t, func(c *service.Config) {
		c.Region, c.Reach, c.Works.RegionEvery = name, []string{"loopback"}, 100*time.Millisecond
	})
	p := newPerson(t, s)
	p.signIn()
	return s, p
}

// Two services of a house know one another: accounts are admitted, buckets made and found in
// either, copies made from one to the other, and one that is away said to be.
func TestRegions(t *testing.T) {
	fenn, p := regionService(t, "fenn")
	moor, there := regionService(t, "moor")
	add := map[string]any{"desk": moor.DeskURL, "key": harness.Key, "secret": harness.Secret}
	for what, x := range map[string]struct {
		field string
		value any
		want  string
	}{
		"itself":         {"desk", fenn.DeskURL, "is this one"},
		"another's name": {"name", "south", "moor, not south"},
		"a wrong secret": {"secret", "wrong", "does not fit the request"},
		"nobody":         {"desk", "http://127.0.0.1:9", "is away"},
		"no desk":        {"desk", moor.WireURL, "none of a desk"},
		"a path":         {"desk", moor.DeskURL + "/x", "no address"},
	} {
		bad := map[string]any{}
		for k, v := range add {
			bad[k] = v
		}
		bad[x.field] = x.value
		if st, e := p.ask("POST", "/api/v1/regions", bad); st < 400 || !strings.Contains(fmt.Sprint(e), x.want) {
			t.Errorf("%s as a sister: %d %v", what, st, e)
		}
	}
	if st, e := p.ask("POST", "/api/v1/regions", add); st != 201 || e["name"] != "moor" || e["state"] != "there" {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/regions", add); st != 409 {
		t.Errorf("twice: %d %v", st, e)
	}

	for _, a := range []string{"seed-lab", "guests"} {
		if st, e := p.ask("POST", "/api/v1/accounts", map[string]any{"name": a}); st != 201 {
			t.Fatal(e)
		}
	}
	tenant := newPerson(t, fenn)
	key := fenn.NewKey("seed-lab", "SEEDS", access.Administrator, nil)
	if st, e := tenant.signInAs(map[string]string{"key": key.ID, "secret": key.Secret}); st != 201 {
		t.Fatal(e)
	}
	seeds := map[string]any{"name": "seeds", "region": "moor", "versioning": "on"}
	if st, e := tenant.ask("POST", "/api/v1/buckets", seeds); st != 403 ||
		!strings.Contains(fmt.Sprint(e), "not admitted to the region moor") {
		t.Errorf("an account that is not admitted: %d %v", st, e)
	}
	if st, e := tenant.ask("PUT", "/api/v1/regions/moor/accounts/seed-lab", map[string]any{"admitted": true}); st != 403 {
		t.Errorf("a tenant admits itself: %d %v", st, e)
	}
	if st, e := p.ask("PUT", "/api/v1/regions/moor/accounts/seed-lab", map[string]any{"admitted": true}); st != 200 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := there.ask("GET", "/api/v1/accounts/seed-lab", nil); st != 200 || e["admitted"] != true {
		t.Errorf("the account there: %d %v", st, e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", seeds); st != 201 || e["region"] != "moor" {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates"}); st != 201 || e["region"] != "fenn" {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "seeds"}); st != 409 {
		t.Errorf("a name that a sister has: %d %v", st, e)
	}
	listed := func(p *person) string {
		_, e := p.ask("GET", "/api/v1/buckets?regions=all", nil)
		var out []string
		for _, b := range e["buckets"].([]any) {
			m := b.(map[string]any)
			out = append(out, fmt.Sprint(m["name"], "@", m["region"]))
		}
		return strings.Join(out, " ")
	}
	if got := listed(p); got != "plates@fenn seeds@moor" {
		t.Errorf("all buckets: %s", got)
	}
	if got := listed(tenant); got != "seeds@moor" {
		t.Errorf("the tenant's: %s", got)
	}
	guest := newPerson(t, fenn)
	other := fenn.NewKey("guests", "GUEST", access.Administrator, nil)
	if st, e := guest.signInAs(map[string]string{"key": other.ID, "secret": other.Secret}); st != 201 {
		t.Fatal(e)
	}
	if got := listed(guest); got != "" {
		t.Errorf("another account sees: %s", got)
	}
	if st, e := tenant.ask("GET", "/api/v1/buckets/seeds", nil); st != 404 || e["code"] != "bucket-in-region" ||
		!strings.Contains(fmt.Sprint(e), moor.DeskURL+"/buckets/seeds") {
		t.Errorf("the wrong service: %d %v", st, e)
	}
	if st, b := guest.send("GET", "/api/v1/buckets/seeds", nil); st != 404 || strings.Contains(string(b), "moor") {
		t.Errorf("another account is told: %d %s", st, b)
	}
	st, h, b := fenn.As(key, "GET", "/seeds/x", nil, "")
	if st != http.StatusMovedPermanently || h.Get("X-Amz-Bucket-Region") != "moor" ||
		h.Get("Location") != moor.WireURL+"/seeds/x" || !strings.Contains(b, "<Code>PermanentRedirect</Code>") {
		t.Errorf("on the wire: %d %v %s", st, h, b)
	}
	if st, _, b := fenn.As(other, "GET", "/seeds/x", nil, ""); st != 404 || strings.Contains(b, "moor") {
		t.Errorf("another account on the wire: %d %s", st, b)
	}

	if st, e := p.ask("PATCH", "/api/v1/accounts/seed-lab", map[string]any{"region": "moor"}); st != 200 {
		t.Fatal(e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "more-seeds"}); st != 201 ||
		e["region"] != "moor" {
		t.Errorf("the default region: %d %v", st, e)
	}
	if st, e := p.ask("PUT", "/api/v1/regions/fenn/accounts/seed-lab", map[string]any{"admitted": false}); st != 200 {
		t.Fatal(e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "x-seeds", "region": "fenn"}); st != 403 ||
		!strings.Contains(fmt.Sprint(e), "make the bucket in: moor") {
		t.Errorf("dismissed: %d %v", st, e)
	}
	c := fenn.Client()
	c.Key = key
	if err := c.CreateBucket(t.Context(), "wire-seeds"); err == nil || !strings.Contains(err.Error(), "not admitted") {
		t.Errorf("dismissed, on the wire: %v", err)
	}
	copyToRegion(t, fenn, moor, p, there)
	if err := moor.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the region is away", func() bool {
		_, e := p.ask("GET", "/api/v1/regions/moor", nil)
		return e["state"] == "away" && e["says"] != ""
	})
	if st, e := p.ask("GET", "/api/v1/overview", nil); st != 200 || !strings.Contains(fmt.Sprint(e["concerns"]),
		"region moor") {
		t.Errorf("the overview says nothing of a region that is away: %d %v", st, e["concerns"])
	}
	if got := listed(p); !strings.Contains(got, "seeds@moor") {
		t.Errorf("buckets of a region that is away: %s", got)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "late-seeds"}); st != 503 ||
		e["retryAfter"] == nil {
		t.Errorf("a bucket in a region that is away: %d %v", st, e)
	}
	walk, _ := signedIn(t, fenn, "/regions")
	asks := harness.Appears("Forget the region moor?")
	walk("think better of it", harness.Appears("moor"), harness.Button("Forget"), asks, harness.Button("Keep"))
	if got := listed(p); !strings.Contains(got, "seeds@moor") {
		t.Errorf("not forgotten, and listed no more: %s", got)
	}
	walk("forget it", harness.Button("Forget"), asks, harness.Appears("no longer listed"), harness.Button("Forget it"),
		harness.Appears("moor is forgotten"))
	if got := listed(p); strings.Contains(got, "moor") {
		t.Errorf("forgotten, and listed: %s", got)
	}
}

// A region that answers some questions, and not the next, is away: what is known of it stays as it was.
func TestARegionThatStopsInTheMiddle(t *testing.T) {
	fenn, p := regionService(t, "fenn")
	moor, _ := regionService(t, "moor")
	to, err := url.Parse(moor.DeskURL)
	if err != nil {
		t.Fatal(err)
	}
	var refused atomic.Value
	refused.Store("")
	pass := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to); r.Out.Host = r.In.Host }}
	between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == refused.Load() {
			http.Error(w, "it stops", http.StatusServiceUnavailable)
			return
		}
		pass.ServeHTTP(w, r)
	}))
	t.Cleanup(between.Close)
	add := map[string]any{"desk": between.URL, "key": harness.Key, "secret": harness.Secret}
	if st, e := p.ask("POST", "/api/v1/regions", add); st != 201 {
		t.Fatal(e)
	}
	if st, e := p.ask("POST", "/api/v1/accounts", map[string]any{"name": "seed-lab"}); st != 201 {
		t.Fatal(e)
	}
	if st, e := p.ask("PUT", "/api/v1/regions/moor/accounts/seed-lab", map[string]any{"admitted": true}); st != 200 {
		t.Fatal(e)
	}
	tenant := newPerson(t, fenn)
	key := fenn.NewKey("seed-lab", "SEEDS", access.Administrator, nil)
	if st, e := tenant.signInAs(map[string]string{"key": key.ID, "secret": key.Secret}); st != 201 {
		t.Fatal(e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "seeds", "region": "moor"}); st != 201 {
		t.Fatal(e)
	}
	state := func(is string) {
		t.Helper()
		harness.Until(t, "the region is "+is, func() bool {
			_, e := p.ask("GET", "/api/v1/regions/moor", nil)
			return e["state"] == is
		})
	}
	for _, path := range []string{"/region", "/region/buckets", "/placements", "/accounts"} {
		refused.Store("/api/v1" + path)
		state("away")
		// It still answers what makes a bucket: the account is admitted as it was.
		name := "late" + strings.ReplaceAll(path, "/", "-")
		if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": name, "region": "moor"}); st != 201 {
			t.Errorf("%s is not answered, and a bucket is asked for: %d %v", path, st, e)
		}
		if _, got := tenant.ask("GET", "/api/v1/buckets?regions=all", nil); !strings.Contains(fmt.Sprint(got), "seeds") {
			t.Errorf("%s is not answered, and its buckets are %v", path, got)
		}
		refused.Store("")
		state("there")
	}
}

// copyToRegion has a rule copy to a region, of which nobody made an endpoint.
func copyToRegion(t *testing.T, fenn, moor *harness.Running, p, there *person) {
	t.Helper()
	own := "/api/v1/regions/moor/accounts/" + "herbarium"
	if st, e := p.ask("PUT", own, map[string]any{"admitted": true}); st != 200 {
		t.Fatal(e)
	}
	if st, e := p.ask("PATCH", "/api/v1/buckets/plates", map[string]any{"versioning": "on"}); st != 200 {
		t.Fatal(e)
	}
	rule := func(to string, mend bool) map[string]any {
		return map[string]any{"name": "over", "bucket": "plates", "existing": "leave", "mend": mend,
			"targets": []any{map[string]any{"address": to}}}
	}
	for _, x := range []struct{ to, want string }{
		{"@moor/plates-fenn", "there is no bucket plates-fenn at moor"},
		{"@moor/seeds", "not this account's"},
		{"@moor/kept", "versioning is off at @moor/kept"},
	} {
		if x.to == "@moor/kept" {
			if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "kept", "region": "moor"}); st != 201 {
				t.Fatal(e)
			}
		}
		if st, e := p.ask("POST", "/api/v1/replications/review", rule(x.to, false)); st != 200 ||
			!strings.Contains(fmt.Sprint(e["lacks"]), x.want) {
			t.Errorf("a review of copies to %s: %d %v", x.to, st, e)
		}
		if st, e := p.ask("POST", "/api/v1/replications", rule(x.to, false)); st != 409 ||
			!strings.Contains(fmt.Sprint(e), x.want) {
			t.Errorf("copies to %s: %d %v", x.to, st, e)
		}
	}
	if _, b := there.send("GET", "/api/v1/keys?account=herbarium", nil); strings.Contains(string(b), "copies from") {
		t.Errorf("a review, or a rule that was refused, made a key: %s", b)
	}
	if st, e := p.ask("GET", "/api/v1/endpoints/moor", nil); st != 404 {
		t.Errorf("a review, or a rule that was refused, made an endpoint: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/replications", rule("@moor/plates-fenn", true)); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := there.ask("GET", "/api/v1/buckets/plates-fenn", nil); st != 200 || e["versioning"] != "on" {
		t.Errorf("the bucket there: %d %v", st, e)
	}
	if _, err := fenn.Client().Put(t.Context(), "plates", "leaf", strings.NewReader("leaf"), 4,
		client.Put{Metadata: object.Metadata{"taxon": "Carex"}}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the copy is there", func() bool {
		i, err := moor.Client().Head(t.Context(), "plates-fenn", "leaf")
		return err == nil && i.Metadata["taxon"] == "Carex"
	})
	if st, e := p.ask("GET", "/api/v1/endpoints/moor", nil); st != 200 || e["region"] != "moor" {
		t.Errorf("the endpoint of the region: %d %v", st, e)
	}
}

// A placement that is fixed for an account is fixed in each region that admits it, and a region
// without that placement does not get the account.
func TestFixedPlacementInRegions(t *testing.T) {
	fenn, p := regionService(t, "fenn")
	moor, there := regionService(t, "moor")
	for _, s := range []string{"/api/v1/accounts", "/api/v1/placements"} {
		body := map[string]any{"name": "seed-lab"}
		if s != "/api/v1/accounts" {
			body = map[string]any{"name": "safe", "tier": "main", "everyone": true}
		}
		if st, e := p.ask("POST", s, body); st != 201 {
			t.Fatal(st, e)
		}
	}
	if st, e := p.ask("POST", "/api/v1/regions", map[string]any{"desk": moor.DeskURL, "key": harness.Key,
		"secret": harness.Secret}); st != 201 {
		t.Fatal(st, e)
	}
	fixed := map[string]any{"placement": "safe", "placementFixed": true}
	admitted := map[string]any{"admitted": true}
	const account, admission = "/api/v1/accounts/seed-lab", "/api/v1/regions/moor/accounts/seed-lab"
	refused := func(what, method, path string, body map[string]any) {
		t.Helper()
		if st, e := p.ask(method, path, body); st != 403 || e["code"] != "placement-not-there" ||
			!strings.Contains(fmt.Sprint(e), "spindle placement add safe") {
			t.Errorf("%s: %d %v", what, st, e)
		}
	}
	if st, e := p.ask("PUT", admission, admitted); st != 200 {
		t.Fatal(st, e)
	}
	old := map[string]any{"name": "old-seeds", "account": "seed-lab"}
	if st, e := p.ask("POST", "/api/v1/buckets", old); st != 201 {
		t.Fatal(st, e)
	}
	refused("fixing what an admitting region does not have", "PATCH", account, fixed)
	if _, e := p.ask("GET", account, nil); e["placementFixed"] != nil {
		t.Errorf("refused, and fixed: %v", e)
	}
	for _, step := range []map[string]any{{"admitted": false}, fixed} {
		method, path := "PATCH", account
		if step["admitted"] != nil {
			method, path = "PUT", admission
		}
		if st, e := p.ask(method, path, step); st != 200 {
			t.Fatal(st, e)
		}
	}
	refused("admitting to a region without the placement", "PUT", admission, admitted)
	if st, e := there.ask("POST", "/api/v1/placements", map[string]any{"name": "safe", "tier": "main"}); st != 201 {
		t.Fatal(st, e)
	}
	for _, step := range []string{"/api/v1/regions/moor/ask", admission} {
		method := "PUT"
		if step != admission {
			method = "POST"
		}
		if st, e := p.ask(method, step, admitted); st != 200 {
			t.Fatal(st, e)
		}
	}
	if _, e := there.ask("GET", account, nil); e["placementFixed"] != true || e["placement"] != "safe" {
		t.Errorf("the account at the sister: %v", e)
	}
	tenant := newPerson(t, fenn)
	key := fenn.NewKey("seed-lab", "SEEDS", access.Administrator, nil)
	if st, e := tenant.signInAs(map[string]string{"key": key.ID, "secret": key.Secret}); st != 201 {
		t.Fatal(e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "seeds", "region": "moor"}); st != 201 {
		t.Errorf("%d %v", st, e)
	}
	if _, e := there.ask("GET", "/api/v1/buckets/seeds", nil); e["placement"] != "safe" {
		t.Errorf("a bucket at the sister: %v", e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "x-seeds", "region": "moor",
		"tier": "main"}); st != 403 || e["code"] != "placement-fixed" {
		t.Errorf("another place at the sister: %d %v", st, e)
	}
	if _, e := tenant.ask("GET", "/api/v1/buckets/old-seeds", nil); e["placement"] != nil || e["placementDue"] != "safe" {
		t.Errorf("a bucket from before: %v", e)
	}
	if st, e := p.ask("PATCH", account, map[string]any{"placementFixed": false}); st != 200 {
		t.Fatal(st, e)
	}
	if _, e := there.ask("GET", account, nil); e["placementFixed"] != nil {
		t.Errorf("freed here, fixed there: %v", e)
	}
}
