package desk_test

import (
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/desk"
	"spindle/internal/harness"
)

// signInAs signs a key in.
func (p *person) signInAs(body map[string]string) (int, map[string]any) {
	p.t.Helper()
	p.forgery = ""
	st, s := p.ask("POST", "/api/v1/session", body)
	if st == 201 {
		p.forgery = s["forgery"].(string)
		harness.Secretly("a session's token against forgery", p.forgery)
	}
	return st, s
}

// calls has every call of the desk with what it needs of who makes it in the
// account herbarium, which owns the bucket plates.
//
//	anyone            no sign-in is needed
//	signed            any session will do; what comes back is what it may see
//	list, read, ...   that right on plates
//	wide              to see all of the account
//	administer        to administer the account
//	operate           to operate the service
var calls = map[string]struct {
	needs string
	path  string // with parameters filled in, when they are not plates and k
	body  any
}{
	"service": {needs: "anyone"}, "sign-in": {needs: "skip"}, // TestPeople and TestSessions try these two
	"check": {needs: "signed", body: map[string]any{"address": "http://127.0.0.1:1", "style": "path", "region": "fenn",
		"key": "NOBODY", "secret": "x"}},
	"session": {needs: "signed"}, "switch-account": {needs: "skip"},
	"change-password": {needs: "signed", body: map[string]any{"password": "x", "new": "a-new-password"}},
	"sign-out":        {needs: "skip"},
	"overview":        {needs: "wide"}, "list-journal": {needs: "wide"}, "list-orders": {needs: "wide"},
	"list-buckets": {needs: "signed"}, "create-bucket": {needs: "administer", body: map[string]any{"name": "Not-A-Name"}},
	"show-bucket": {needs: "list"}, "bucket-usage": {needs: "list"}, "prefix-usage": {needs: "list"},
	"list-objects": {needs: "list"}, "list-versions": {needs: "list"},
	"change-bucket": {needs: "settings", body: map[string]any{"versioning": "off"}}, "remove-bucket": {needs: "settings"},
	"show-object":    {needs: "read", path: "/api/v1/buckets/plates/object?key=k"},
	"object-history": {needs: "read", path: "/api/v1/buckets/plates/history?key=k"},
	"annotate-object": {needs: "write", path: "/api/v1/buckets/plates/object?key=k",
		body: map[string]any{"tags": map[string]any{"set": map[string]string{"a": "b"}}}},
	"copy-object": {needs: "read write", body: map[string]any{"fromBucket": "plates", "fromKey": "k",
		"key": "copied"}},
	"link-object":    {needs: "read", body: map[string]any{"key": "k", "seconds": 60}},
	"restore-object": {needs: "read write", body: map[string]any{"key": "k", "version": "null"}},
	"remove-objects": {needs: "remove", body: map[string]any{"keys": []string{"none"}}},
	"list-uploads":   {needs: "wide"}, "abandon-uploads": {needs: "write",
		body: map[string]any{"uploads": []map[string]string{{"bucket": "plates", "key": "k", "id": "none"}}}},
	"start-upload": {needs: "write", body: map[string]any{"key": "k", "size": 20 << 20}},
	"show-upload":  {needs: "write", path: "/api/v1/buckets/plates/uploads/none?key=k"},
	"complete-upload": {needs: "write", path: "/api/v1/buckets/plates/uploads/none/complete?key=k",
		body: map[string]any{"parts": []any{}}},
	"rehearse-order": {needs: "list read write remove",
		body: map[string]any{"kind": "rename", "bucket": "plates", "prefix": "none/", "toBucket": "plates",
			"toPrefix": "other/"}},
	"create-order": {needs: "settings", body: map[string]any{"kind": "convert", "bucket": "plates", "prefix": "none/"}},
	"show-order":   {needs: "ORDER", path: "/api/v1/orders/ORDER"},
	"stop-order":   {needs: "ORDER", path: "/api/v1/orders/ORDER/stop"},
	"resume-order": {needs: "ORDER", path: "/api/v1/orders/ORDER/resume"},

	"list-accounts": {needs: "signed"}, "show-account": {needs: "own", path: "/api/v1/accounts/herbarium"},
	"create-account": {needs: "operate", body: map[string]any{"name": "x"}},
	"change-account": {needs: "operate", path: "/api/v1/accounts/herbarium", body: map[string]any{"note": "changed"}},
	"remove-account": {needs: "operate", path: "/api/v1/accounts/herbarium"},
	"list-people":    {needs: "administer"}, "show-person": {needs: "administer", path: "/api/v1/people/Tam"},
	"create-person": {needs: "administer", body: map[string]any{"name": "x", "roles": []any{}}},
	"change-person": {needs: "administer", path: "/api/v1/people/Tam", body: map[string]any{"note": "changed"}},
	"reset-person":  {needs: "administer", path: "/api/v1/people/Tam/reset", body: map[string]any{"password": "short"}},
	"remove-person": {needs: "administer", path: "/api/v1/people/Nobody"},
	"list-keys":     {needs: "administer"}, "show-key": {needs: "administer", path: "/api/v1/keys/TESTOWNER"},
	"create-key":  {needs: "administer", body: map[string]any{"name": "x", "role": "none"}},
	"change-key":  {needs: "administer", path: "/api/v1/keys/TESTOWNER", body: map[string]any{"note": "changed"}},
	"replace-key": {needs: "administer", path: "/api/v1/keys/NOBODY/replace", body: map[string]any{}},
	"remove-key":  {needs: "administer", path: "/api/v1/keys/NOBODY"},
	"list-grants": {needs: "administer"}, "show-grant": {needs: "settings", path: "/api/v1/grants/GRANT"},
	"create-grant":  {needs: "settings", body: map[string]any{"bucket": "plates", "to": "nobody", "for": "read from"}},
	"change-grant":  {needs: "settings", path: "/api/v1/grants/GRANT", body: map[string]any{"note": "changed"}},
	"remove-grant":  {needs: "settings", path: "/api/v1/grants/GRANT"},
	"list-sessions": {needs: "signed"}, "end-session": {needs: "skip"}, "list-trail": {needs: "administer"},
	"access-matrix":   {needs: "administer"},
	"explain-access":  {needs: "signed", body: map[string]any{"do": "read", "bucket": "plates"}},
	"test-access":     {needs: "administer", body: map[string]any{"key": "NOBODY", "do": "list", "bucket": "plates"}},
	"show-master-key": {needs: "operate"}, "rotate-master-key": {needs: "operate"},

	"list-tiers": {needs: "signed"}, "show-tier": {needs: "signed", path: "/api/v1/tiers/main"},
	"add-tier":    {needs: "operate", body: map[string]any{"name": "x"}},
	"change-tier": {needs: "operate", path: "/api/v1/tiers/main", body: map[string]any{"note": "changed"}},
	"remove-tier": {needs: "operate", path: "/api/v1/tiers/main"},
	"show-clock":  {needs: "operate", path: "/api/v1/clock"}, "clock-right": {needs: "operate",
		path: "/api/v1/clock/jumps/1/right"},
	"repair-tier": {needs: "operate", path: "/api/v1/tiers/main/repair"},
	"this-region": {needs: "operate", path: "/api/v1/region"}, "this-region-buckets": {needs: "operate",
		path: "/api/v1/region/buckets"},
	"list-damage":  {needs: "signed", path: "/api/v1/damage"},
	"list-regions": {needs: "signed"}, "show-region": {needs: "signed", path: "/api/v1/regions/fenn"},
	"add-region":    {needs: "operate", body: map[string]any{"desk": "http://127.0.0.1:1", "key": "K", "secret": "s"}},
	"ask-region":    {needs: "operate", path: "/api/v1/regions/none/ask"},
	"remove-region": {needs: "operate", path: "/api/v1/regions/none"},
	"admit-account": {needs: "operate", path: "/api/v1/regions/fenn/accounts/none",
		body: map[string]any{"admitted": true}},
	"list-placements": {needs: "signed"}, "show-placement": {needs: "signed", path: "/api/v1/placements/none"},
	"add-placement":    {needs: "operate", body: map[string]any{"name": "safe", "tier": "main"}},
	"change-placement": {needs: "operate", path: "/api/v1/placements/none", body: map[string]any{"note": "x"}},
	"remove-placement": {needs: "operate", path: "/api/v1/placements/none"},
	"fetch-version":    {needs: "read", body: map[string]any{"key": "k"}},
	"show-rules":       {needs: "list"}, "list-past-rules": {needs: "list"}, "list-runs": {needs: "list"},
	"check-rules":    {needs: "list", body: map[string]any{"rules": []any{}}},
	"rehearse-rules": {needs: "list", body: map[string]any{}}, "show-ages": {needs: "list", body: map[string]any{}},
	"show-run":      {needs: "list", path: "/api/v1/buckets/plates/lifecycle/runs/1"},
	"list-outcomes": {needs: "list", path: "/api/v1/buckets/plates/lifecycle/runs/1/outcomes"},
	"save-rules":    {needs: "settings", body: map[string]any{"rules": []any{}}},
	"put-rules": {needs: "settings", path: "/api/v1/buckets/plates/lifecycle",
		body: map[string]any{"rules": []any{map[string]any{"name": "x", "actions": []any{}}}}},
	"put-rule": {needs: "settings", path: "/api/v1/buckets/plates/lifecycle/rules/x",
		body: map[string]any{"rule": map[string]any{"name": "x", "actions": []any{}}}},
	"remove-rule":    {needs: "settings", path: "/api/v1/buckets/plates/lifecycle/rules/x"},
	"put-back-rules": {needs: "settings", path: "/api/v1/buckets/plates/lifecycle/history/9", body: map[string]any{}},
	"start-run":      {needs: "settings"},
	"answer-run": {needs: "settings", path: "/api/v1/buckets/plates/lifecycle/runs/1/answer",
		body: map[string]any{"goOn": true}},
	"show-coming": {needs: "read", path: "/api/v1/buckets/plates/coming?key=k"},

	"list-endpoints": {needs: "administer"}, "show-endpoint": {needs: "administer", path: "/api/v1/endpoints/annex"},
	"add-endpoint": {needs: "administer", body: map[string]any{"name": "annex", "url": "http://127.0.0.1:9", "key": "K",
		"secret": "S"}},
	"change-endpoint": {needs: "administer", path: "/api/v1/endpoints/annex", body: map[string]any{"note": "changed"}},
	"remove-endpoint": {needs: "administer", path: "/api/v1/endpoints/annex"},
	"check-endpoint":  {needs: "administer", path: "/api/v1/endpoints/annex/check", body: map[string]any{}},

	"list-buckets-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets"},
	"create-bucket-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets",
		body: map[string]any{"name": "other"}},
	"show-bucket-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other"},
	"change-bucket-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other",
		body: map[string]any{"versioning": "on"}},
	"remove-bucket-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other"},
	"list-objects-there":  {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other/objects"},
	"show-object-there":   {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other/object?key=k"},
	"list-uploads-there":  {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other/uploads"},
	"abandon-uploads-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other/uploads/abandon",
		body: map[string]any{"olderThan": "7d"}},
	"remove-object-there": {needs: "administer", path: "/api/v1/endpoints/annex/buckets/other/object?key=k"},

	"list-replications": {needs: "administer"}, "show-replication": {needs: "administer",
		path: "/api/v1/replications/out"},
	"add-replication": {needs: "administer", body: map[string]any{"name": "out", "bucket": "none", "existing": "leave",
		"targets": []any{map[string]any{"address": "other"}}}},
	"review-replication": {needs: "administer", body: map[string]any{"name": "out", "bucket": "none",
		"existing": "leave"}},
	"change-replication": {needs: "administer", path: "/api/v1/replications/out", body: map[string]any{"on": false}},
	"list-syncs":         {needs: "administer"},
	"show-sync":          {needs: "administer", path: "/api/v1/syncs/nightly"},
	"add-sync": {needs: "administer", body: map[string]any{"name": "nightly", "from": "none-here",
		"to": "none-there"}},
	"change-sync":    {needs: "administer", path: "/api/v1/syncs/nightly", body: map[string]any{"on": false}},
	"remove-sync":    {needs: "administer", path: "/api/v1/syncs/nightly"},
	"rehearse-sync":  {needs: "administer", path: "/api/v1/syncs/nightly/rehearse", body: map[string]any{}},
	"list-sync-runs": {needs: "administer", path: "/api/v1/syncs/nightly/runs"},
	"show-sync-run":  {needs: "administer", path: "/api/v1/syncs/nightly/runs/1"},
	"run-sync":       {needs: "administer", path: "/api/v1/syncs/nightly/runs", body: map[string]any{}},
	"stop-sync-run":  {needs: "administer", path: "/api/v1/syncs/nightly/runs/1/stop", body: map[string]any{}},
	"rehearse-new-sync": {needs: "administer", path: "/api/v1/syncs/rehearse",
		body: map[string]any{"from": "none-here", "to": "none-there"}},
	"find":        {needs: "signed", path: "/api/v1/find", body: map[string]any{"expression": "current"}},
	"count-found": {needs: "signed", path: "/api/v1/find/count", body: map[string]any{"expression": "current"}},
	"group-found": {needs: "signed", path: "/api/v1/find/groups", body: map[string]any{"expression": "current",
		"by": "type"}},
	"find-words":         {needs: "signed"},
	"list-find-indexes":  {needs: "administer", path: "/api/v1/find/indexes"},
	"rebuild-find-index": {needs: "administer", path: "/api/v1/find/indexes/plates/rebuild", body: map[string]any{}},
	"list-censuses":      {needs: "administer"},
	"show-census":        {needs: "administer", path: "/api/v1/censuses/weekly"},
	"add-census":         {needs: "administer", body: map[string]any{"name": "weekly", "to": "none-there"}},
	"change-census":      {needs: "administer", path: "/api/v1/censuses/weekly", body: map[string]any{"on": false}},
	"remove-census":      {needs: "administer", path: "/api/v1/censuses/weekly"},
	"list-census-runs":   {needs: "administer", path: "/api/v1/censuses/weekly/runs"},
	"run-census":         {needs: "administer", path: "/api/v1/censuses/weekly/runs", body: map[string]any{}},
	"show-census-run":    {needs: "administer", path: "/api/v1/censuses/weekly/runs/1"},
	"stop-census-run":    {needs: "administer", path: "/api/v1/censuses/weekly/runs/1/stop", body: map[string]any{}},
	"read-census":        {needs: "administer", path: "/api/v1/censuses/weekly/runs/1/rows", body: map[string]any{}},
	"sum-census": {needs: "administer", path: "/api/v1/censuses/weekly/runs/1/totals",
		body: map[string]any{"by": "key"}},
	"compare-censuses": {needs: "administer", path: "/api/v1/censuses/weekly/runs/1/compare", body: map[string]any{}},
	"list-lacking":     {needs: "list read", path: "/api/v1/buckets/plates/lacking"},
	"mend-finding": {needs: "administer", path: "/api/v1/audit/mend", body: map[string]any{"check": "none",
		"subject": "none"}},
	"list-charters": {needs: "administer", path: "/api/v1/charters"},
	"compare-charter": {needs: "administer", path: "/api/v1/charters/compare",
		body: map[string]any{"files": []any{map[string]any{"name": "a", "text": "charter: x\n"}}}},
	"charter-history": {needs: "administer", path: "/api/v1/charters/none/history"},
	"charter-drift":   {needs: "administer", path: "/api/v1/charters/none/drift"},
	"export-charter":  {needs: "administer", path: "/api/v1/charters/export"},
	"enact-charter": {needs: "administer", path: "POST /api/v1/charters/enact",
		body: map[string]any{"files": []any{}}},
	"usage-accounts":     {needs: "operate", path: "/api/v1/usage/accounts"},
	"bucket-journal":     {needs: "settings", path: "/api/v1/buckets/plates/journal"},
	"list-saved-filters": {needs: "administer", path: "/api/v1/journal/saved"},
	"save-filter": {needs: "administer", path: "/api/v1/journal/saved/removals",
		body: map[string]any{"kinds": []string{"deleted"}}},
	"forget-filter":    {needs: "administer", path: "/api/v1/journal/saved/removals"},
	"list-saved-finds": {needs: "administer", path: "/api/v1/find/saved"},
	"save-find": {needs: "administer", path: "/api/v1/find/saved/large",
		body: map[string]any{"expression": "size over 1 GiB"}},
	"forget-find":   {needs: "administer", path: "/api/v1/find/saved/large"},
	"usage-report":  {needs: "administer", path: "/api/v1/usage"},
	"usage-traffic": {needs: "administer", path: "/api/v1/usage/traffic"},
	"list-posts":    {needs: "administer", path: "/api/v1/journal/posts"},
	"show-post":     {needs: "administer", path: "/api/v1/journal/posts/tell"},
	"add-post": {needs: "administer", path: "/api/v1/journal/posts",
		body: map[string]any{"name": "tell", "url": "https://h.example/"}},
	"turn-post":   {needs: "administer", path: "/api/v1/journal/posts/tell", body: map[string]any{"on": false}},
	"try-post":    {needs: "administer", path: "/api/v1/journal/posts/tell/try", body: map[string]any{}},
	"remove-post": {needs: "administer", path: "/api/v1/journal/posts/tell"},
	"list-audit":  {needs: "administer", path: "/api/v1/audit"},
	"run-audit":   {needs: "administer", path: "/api/v1/audit/run", body: map[string]any{}},
	"accept-finding": {needs: "administer", path: "/api/v1/audit/accept",
		body: map[string]any{"check": "x", "subject": "y"}},
	"restore-sync":          {needs: "administer", path: "/api/v1/syncs/nightly/restore", body: map[string]any{}},
	"sync-sheet":            {needs: "administer", path: "/api/v1/syncs/nightly/sheet"},
	"list-sync-outcomes":    {needs: "administer", path: "/api/v1/syncs/nightly/runs/1/outcomes"},
	"remove-replication":    {needs: "administer", path: "/api/v1/replications/out"},
	"list-replica-objects":  {needs: "administer", path: "/api/v1/replications/out/objects"},
	"list-waiting-replicas": {needs: "administer", path: "/api/v1/replications/out/waiting"},
	"list-replica-faults":   {needs: "administer", path: "/api/v1/replications/out/faults"},
	"show-replica-lags":     {needs: "administer", path: "/api/v1/replications/out/lags"},
	"retry-replicas":        {needs: "administer", path: "/api/v1/replications/out/retry", body: map[string]any{}},
	"backfill-replication":  {needs: "administer", path: "/api/v1/replications/out/backfill", body: map[string]any{}},
	"show-replicas":         {needs: "read own", path: "/api/v1/buckets/plates/replicas?key=k"},

	// Those that are not in the OpenAPI document.
	"download-there": {needs: "administer", path: "GET /api/v1/endpoints/annex/buckets/other/body?key=k"},
	"upload-there":   {needs: "administer", path: "PUT /api/v1/endpoints/annex/buckets/other/body?key=k"},
	"copy-between": {needs: "read write", path: "POST /api/v1/copies",
		body: map[string]any{"from": "plates/k", "to": "plates/copied"}},
	"rehearse-sync-list": {needs: "administer", path: "POST /api/v1/syncs/nightly/rehearse/list", body: map[string]any{}},
	"verify-replication": {needs: "administer", path: "POST /api/v1/replications/out/verify", body: map[string]any{}},
	"watch-endpoint": {needs: "administer", path: "POST /api/v1/endpoints/check",
		body: map[string]any{"name": "annex"}},
	"events":   {needs: "signed", path: "GET /api/v1/events"},
	"profile":  {needs: "operate", path: "GET /api/v1/profiles/goroutine"},
	"download": {needs: "read", path: "GET /api/v1/buckets/plates/body?key=k"},
	"upload":   {needs: "write", path: "PUT /api/v1/buckets/plates/body?key=new"},
	"put-part": {needs: "write", path: "PUT /api/v1/buckets/plates/uploads/none/parts/1?key=k"},
}

// route is a call with its method and path.
type route struct{ id, method, path string }

func routes(t *testing.T) (out []route) {
	b, err := desk.Document()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct {
			ID string `yaml:"operationId"`
		}
	}
	if err := yaml.Unmarshal(b, &doc); err != nil {
		t.Fatal(err)
	}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			c, ok := calls[op.ID]
			if !ok {
				t.Errorf("the call %s is tried by nobody who may not make it: add it to calls", op.ID)
				continue
			}
			if c.path != "" {
				path = c.path
			}
			out = append(out, route{op.ID, strings.ToUpper(method), strings.ReplaceAll(path, "{bucket}", "plates")})
		}
	}
	source, err := os.ReadFile("desk.go")
	if err != nil {
		t.Fatal(err)
	}
	raw := 0
	for id, c := range calls {
		if method, path, ok := strings.Cut(c.path, " "); ok {
			raw++
			out = append(out, route{id, method, path})
		}
	}
	if n := len(regexp.MustCompile(`r\.(Get|Put|Post|Delete)\("/api`).FindAll(source, -1)); n != raw {
		t.Errorf("desk.go has %d calls beside the document, and %d are tried", n, raw)
	}
	return out
}

// TestNobodyAsksMore makes every call as everybody who may not, and as those who
// just may.
func TestNobodyAsksMore(t *testing.T) {
	s := harness.Service(t, nil)
	owner := newPerson(t, s)
	owner.signIn()
	if st, e := owner.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates"}); st != 201 {
		t.Fatal(e)
	}
	s.Do("PUT", "/plates/k", nil, "content", true)
	if st, e := owner.ask("POST", "/api/v1/people", map[string]any{"name": "Tam", "password": "a good long password",
		"roles": []map[string]string{{"account": "herbarium", "role": "reader"}}}); st != 201 {
		t.Fatal(e)
	}
	harness.Secretly("a person's password", "a good long password")
	limit := func(bucket string) func(*catalog.AccessKey) {
		return func(k *catalog.AccessKey) { k.Limits = catalog.Limits{{Bucket: bucket}} }
	}
	type role struct {
		rights            access.Rights // on plates
		wide, admin, oper bool
		own               bool
	}
	who := map[string]role{"nobody": {}, "operator": {access.All, true, true, true, true}}
	keys := map[string]map[string]string{"operator": {"key": harness.Key, "secret": harness.Secret}}
	add := func(name, account string, r access.Role, change func(*catalog.AccessKey), is role) string {
		c := s.NewKey(account, name, r, change)
		who[name], keys[name] = is, map[string]string{"key": c.ID, "secret": c.Secret}
		return c.ID
	}
	add("reader", "herbarium", access.Reader, nil, role{rights: access.List | access.Read, wide: true, own: true})
	add("writer", "herbarium", access.Writer, nil, role{rights: access.List | access.Read | access.Write | access.Remove,
		wide: true, own: true})
	add("limited", "herbarium", access.Administrator, limit("elsewhere"), role{own: true})
	add("stranger", "seed-lab", access.Administrator, nil, role{wide: true, admin: true})
	for _, p := range append(access.PurposeNames(), "list", "write", "remove") {
		rights, _ := access.ParseRights(p)
		id := add("granted "+p, "seed-lab", access.Reader, nil, role{rights: rights, wide: true})
		s.Grant("plates", "", "key:"+id, p)
	}
	for name, is := range who {
		t.Run(name, func(t *testing.T) {
			// Each gets a grant and an order of its own to look at and take away.
			grant := fmt.Sprint(s.Grant("plates", "for/"+name, "person:Tam", "read"))
			st, o := owner.ask("POST", "/api/v1/orders", map[string]any{"kind": "convert", "bucket": "plates", "prefix": "for/" +
				name})
			if st != 201 {
				t.Fatal(o)
			}
			fill := strings.NewReplacer("GRANT", grant, "ORDER", fmt.Sprint(o["id"]))
			p := newPerson(t, s)
			if name != "nobody" {
				if st, e := p.signInAs(keys[name]); st != 201 {
					t.Fatalf("signing in: %d %v", st, e)
				}
			}
			list := routes(t)
			slices.SortFunc(list, func(x, y route) int { // what takes away goes last
				return strings.Compare(y.method+y.id, x.method+x.id)
			})
			slices.SortStableFunc(list, func(x, y route) int {
				return boolOf(x.method == "DELETE") - boolOf(y.method == "DELETE")
			})
			for _, r := range list {
				c := calls[r.id]
				allowed := true
				switch c.needs {
				case "skip":
					continue
				case "anyone":
				case "signed":
					allowed = name != "nobody"
				case "wide":
					allowed = is.wide
				case "own":
					allowed = is.own
				case "administer":
					allowed = is.admin
				case "operate":
					allowed = is.oper
				case "ORDER":
					allowed = is.rights&access.Settings != 0
				default:
					for w := range strings.FieldsSeq(c.needs) {
						if w == "own" {
							allowed = allowed && is.own
							continue
						}
						right, err := access.ParseRight(w)
						if err != nil {
							t.Fatal(err)
						}
						allowed = allowed && is.rights&right != 0
					}
				}
				if r.id == "events" {
					if name != "nobody" {
						continue // it goes on for ever
					}
				}
				if r.id == "remove-bucket" && allowed || r.id == "rotate-master-key" && allowed {
					continue
				}
				st, e := p.ask(r.method, fill.Replace(r.path), c.body)
				code, _ := e["code"].(string)
				refused := st == http.StatusUnauthorized || st == http.StatusForbidden && code != "sign-in" && code != "password" ||
					st == http.StatusNotFound && slices.Contains([]string{"order-missing", "key-missing", "person-missing",
						"grant-missing"}, code) && !is.admin
				// What belongs to another account is not there for its administrators either.
				if name == "stranger" && st == http.StatusNotFound &&
					slices.Contains([]string{"key-missing", "person-missing", "grant-missing", "order-missing"}, code) {
					continue
				}
				if (name == "stranger" || name == "nobody") && r.id != "list-grants" { // which has what was granted to it
					tellsNothing(t, r.id, fill.Replace(r.path)+fmt.Sprint(c.body), fmt.Sprint(e))
				}
				if refused == allowed {
					t.Errorf("%s %s %s: status %d %v, and it may: %v", r.id, r.method, fill.Replace(r.path), st, e, allowed)
				}
			}
		})
	}
}

// tellsNothing fails when an answer to somebody of another account has anything of
// this one that was not asked for by its name.
func tellsNothing(t *testing.T, call, asked, answer string) {
	t.Helper()
	for _, word := range []string{"herbarium", "plates", "Tam ", harness.Key, "operates the service"} {
		if strings.Contains(answer, word) && !strings.Contains(asked, word) {
			t.Errorf("%s tells of %q: %s", call, word, answer)
		}
	}
}

func boolOf(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestPeople makes, signs in, switches, locks and removes people.
func TestPeople(t *testing.T) {
	s := harness.Service(t, nil)
	owner := newPerson(t, s)
	owner.signIn()
	ok := func(method, path string, body any, status int) map[string]any {
		t.Helper()
		st, o := owner.ask(method, path, body)
		if st != status {
			t.Fatalf("%s %s: %d %v", method, path, st, o)
		}
		return o
	}
	ok("POST", "/api/v1/accounts", map[string]any{"name": "seed-lab", "quota": 1 << 40}, 201)
	ok("POST", "/api/v1/accounts", map[string]any{"name": "seed-lab"}, 409)
	made := ok("POST", "/api/v1/people", map[string]any{"name": "Ines Varga",
		"roles": []map[string]string{{"account": "herbarium", "role": "reader"},
			{"account": "seed-lab", "role": "administrator"}}}, 201)
	first, _ := made["password"].(string)
	if len(first) < 16 {
		t.Fatalf("the password that was made: %v", made)
	}
	harness.Secretly("a person's first password", first)
	ines := newPerson(t, s)
	as := func(password string) map[string]string {
		return map[string]string{"person": "Ines Varga", "password": password}
	}
	if st, i := ines.signInAs(as(first)); st != 201 || i["mustChange"] != true {
		t.Fatalf("the first sign-in: %d %v", st, i)
	}
	if st, e := ines.ask("GET", "/api/v1/buckets", nil); st != 403 || e["code"] != "password-change" {
		t.Errorf("before the password is changed: %d %v", st, e)
	}
	for pw, code := range map[string]string{"short": "password-weak", first: ""} {
		if code == "" {
			continue
		}
		if st, e := ines.ask("POST", "/api/v1/session/password", map[string]any{"password": first, "new": pw}); st != 422 &&
			st != 400 || e["code"] != code {
			t.Errorf("the new password %q: %d %v", pw, st, e)
		}
	}
	const own = "herons over the fen at dusk"
	harness.Secretly("a person's password", own)
	if st, e := ines.ask("POST", "/api/v1/session/password", map[string]any{"password": first, "new": own}); st != 204 {
		t.Fatalf("changing the password: %d %v", st, e)
	}
	if st, _ := ines.ask("GET", "/api/v1/session", nil); st != 401 {
		t.Errorf("the session goes on after the password was changed: %d", st)
	}
	if st, i := ines.signInAs(as(own)); st != 201 || i["account"] != "herbarium" || i["role"] != "reader" ||
		len(i["accounts"].([]any)) != 2 {
		t.Fatalf("signed in: %d %v", st, i)
	}

	// Fixation: a token that somebody planted is not taken up.
	planted, err := http.NewRequest("POST", s.DeskURL+"/api/v1/session",
		strings.NewReader(`{"person":"Ines Varga","password":"`+own+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	planted.Header.Set("Content-Type", "application/json")
	planted.AddCookie(&http.Cookie{Name: api.SessionCookie, Value: "planted"})
	resp, err := http.DefaultTransport.RoundTrip(planted)
	if err != nil || resp.StatusCode != 201 {
		t.Fatalf("%v %v", resp, err)
	}
	resp.Body.Close()
	for _, c := range resp.Cookies() {
		if c.Value == "planted" || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || len(c.Value) < 40 {
			t.Errorf("the cookie: %+v", c)
		}
	}

	// One person, two accounts.
	if st, e := ines.ask("POST", "/api/v1/buckets", map[string]any{"name": "germination"}); st != 403 {
		t.Errorf("a reader creates a bucket: %d %v", st, e)
	}
	if st, i := ines.ask("POST", "/api/v1/session/account", map[string]any{"account": "seed-lab"}); st != 200 ||
		i["role"] != "administrator" {
		t.Errorf("switching: %d %v", st, i)
	}
	if st, e := ines.ask("POST", "/api/v1/session/account", map[string]any{"account": "guest-curators"}); st != 403 {
		t.Errorf("switching to where there is no role: %d %v", st, e)
	}
	if st, e := ines.ask("POST", "/api/v1/buckets", map[string]any{"name": "germination"}); st != 201 ||
		e["account"] != "seed-lab" {
		t.Errorf("an administrator creates a bucket: %d %v", st, e)
	}
	// Two pages of one session act in two accounts: each in the one that it names.
	there := *ines
	there.account = "herbarium"
	if st, e := there.ask("POST", "/api/v1/buckets", map[string]any{"name": "in-the-wrong-one"}); st != 403 {
		t.Errorf("a reader's page creates a bucket: %d %v", st, e)
	}
	if st, i := there.ask("GET", "/api/v1/session", nil); st != 200 || i["account"] != "herbarium" ||
		i["role"] != "reader" {
		t.Errorf("the page of the one account: %d %v", st, i)
	}
	if st, i := ines.ask("GET", "/api/v1/session", nil); st != 200 || i["account"] != "seed-lab" {
		t.Errorf("the page of the other: %d %v", st, i)
	}
	there.account = "guest-curators"
	if st, e := there.ask("GET", "/api/v1/buckets", nil); st != 403 || e["code"] != "not-allowed" {
		t.Errorf("a page of an account without a role: %d %v", st, e)
	}
	if st, _ := ines.ask("GET", "/api/v1/session?in=guest-curators", nil); st != 403 {
		t.Errorf("an address of an account without a role: %d", st)
	}
	// Acting elsewhere, she is told where she has a role; nobody else is.
	ok("POST", "/api/v1/accounts", map[string]any{"name": "loan-desk"}, 201)
	ok("PATCH", "/api/v1/people/Ines%20Varga",
		map[string]any{"roles": []map[string]any{{"account": "loan-desk", "role": "reader"},
			{"account": "seed-lab", "role": "administrator"}, {"account": "herbarium", "role": "reader"}}}, 200)
	for account, want := range map[string]any{"loan-desk": "seed-lab", "herbarium": "seed-lab"} {
		if st, e := ines.ask("POST", "/api/v1/session/account", map[string]any{"account": account}); st != 200 {
			t.Fatalf("switching to %s: %d %v", account, st, e)
		}
		if st, e := ines.ask("GET", "/api/v1/buckets/germination", nil); st != 403 || e["switch"] != want ||
			!strings.Contains(fmt.Sprint(e["remedy"]), "switch to it") {
			t.Errorf("acting in %s: %d %v", account, st, e)
		}
	}
	// Of what is open to her there, the overview tells.
	ines.ask("POST", "/api/v1/session/account", map[string]any{"account": "loan-desk"})
	if st, o := ines.ask("GET", "/api/v1/overview", nil); st != 200 || o["open"] != nil {
		t.Errorf("nothing is open yet: %d %v", st, o["open"])
	}
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "germination", "to": "account:loan-desk", "for": "read from"},
		201)
	st, o := ines.ask("GET", "/api/v1/overview", nil)
	if list, _ := o["open"].([]any); st != 200 || len(list) != 1 || list[0].(map[string]any)["bucket"] != "germination" ||
		list[0].(map[string]any)["account"] != "seed-lab" {
		t.Errorf("what is open: %d %v", st, o["open"])
	}
	ines.ask("POST", "/api/v1/session/account", map[string]any{"account": "seed-lab"})
	ok("PATCH", "/api/v1/accounts/seed-lab", map[string]any{"maxBuckets": 1, "quota": 10}, 200)
	if st, e := ines.ask("POST", "/api/v1/buckets", map[string]any{"name": "germination-2"}); st != 507 && st != 409 {
		t.Errorf("a bucket too many: %d %v", st, e)
	}

	// Failures hold a name up for a while, whoever asks, known or not.
	other := newPerson(t, s)
	for _, name := range []string{"Ines Varga", "No Such Person"} {
		code := any(nil)
		for n := 0; code != "too-many-attempts"; n++ {
			_, e := other.signInAs(map[string]string{"person": name, "password": "guessed wrongly"})
			// Five fail; on a slow machine the first short pause may be over before the next one asks.
			if code = e["code"]; n > 9 || code == "too-many-attempts" && n < 5 {
				t.Fatalf("%s: after %d failures: %v", name, n, e)
			}
		}
		if name == "Ines Varga" {
			if _, e := other.signInAs(as(own)); e["code"] != "too-many-attempts" {
				t.Errorf("the right password meanwhile: %v", e)
			}
			// Where she signed in before, she is not held up by strangers.
			if st, e := ines.signInAs(as(own)); st != 201 {
				t.Errorf("from a device that is known: %d %v", st, e)
			}
		}
	}

	// Switched off, she is out at once.
	ok("PATCH", "/api/v1/people/Ines%20Varga", map[string]any{"active": false}, 200)
	if st, _ := ines.ask("GET", "/api/v1/session", nil); st != 401 {
		t.Errorf("a session of somebody who was switched off: %d", st)
	}
	// The last operator stays.
	if st, e := owner.ask("PATCH", "/api/v1/keys/"+harness.Key, map[string]any{"active": false}); st != 409 ||
		e["code"] != "last-operator" {
		t.Errorf("the last operator switches off: %d %v", st, e)
	}
	if st, e := owner.ask("DELETE", "/api/v1/keys/"+harness.Key, nil); st != 409 || e["code"] != "last-operator" {
		t.Errorf("the last operator goes: %d %v", st, e)
	}
	ok("POST", "/api/v1/people", map[string]any{"name": "Oda", "operator": true, "password": "a good long password"}, 201)
	ok("PATCH", "/api/v1/keys/"+harness.Key, map[string]any{"note": "the first"}, 200)

	trail := ok("GET", "/api/v1/trail?limit=1000", nil, 200)
	kinds := map[string]bool{}
	for _, e := range trail["entries"].([]any) {
		kinds[e.(map[string]any)["kind"].(string)] = true
	}
	time.Sleep(1200 * time.Millisecond) // what was refused is gathered for a second
	for _, e := range ok("GET", "/api/v1/trail?kind=refused&kind=sign-in%20failed", nil, 200)["entries"].([]any) {
		kinds[e.(map[string]any)["kind"].(string)] = true
	}
	for _, k := range []string{"account created", "account changed", "person created", "person changed",
		"password changed", "signed in", "sign-in failed", "refused", "key changed"} {
		if !kinds[k] {
			t.Errorf("the trail has no %q: %v", k, kinds)
		}
	}
}

// TestGrantsAndKeys opens, changes, explains and takes away.
func TestGrantsAndKeys(t *testing.T) {
	s := harness.Service(t, nil)
	owner := newPerson(t, s)
	owner.signIn()
	ok := func(method, path string, body any, status int) map[string]any {
		t.Helper()
		st, o := owner.ask(method, path, body)
		if st != status {
			t.Fatalf("%s %s: %d %v", method, path, st, o)
		}
		return o
	}
	ok("POST", "/api/v1/buckets", map[string]any{"name": "plates"}, 201)
	s.Do("PUT", "/plates/2025/a.tif", nil, "x", true)
	ok("POST", "/api/v1/accounts", map[string]any{"name": "guest-curators"}, 201)
	k := ok("POST", "/api/v1/keys", map[string]any{"name": "press-room", "account": "guest-curators"}, 201)
	id, secret := k["key"].(map[string]any)["id"].(string), k["secret"].(string)
	if k["key"].(map[string]any)["role"] != "reader" {
		t.Errorf("a key that asked for nothing: %v", k)
	}
	if again := ok("GET", "/api/v1/keys/"+id, nil, 200); again["secret"] != nil {
		t.Errorf("the secret is shown again: %v", again)
	}
	explain := func() map[string]any {
		return ok("POST", "/api/v1/access/explain", map[string]any{"subject": "key:" + id, "do": "read", "bucket": "plates",
			"key": "2025/a.tif"}, 200)
	}
	if e := explain(); e["allowed"] != false || !strings.Contains(e["remedy"].(string),
		`grant "read from" on plates/2025/a.tif`) {
		t.Errorf("before: %v", e)
	}
	test := func() map[string]any {
		return ok("POST", "/api/v1/access/test", map[string]any{"key": id, "do": "read", "bucket": "plates",
			"objectKey": "2025/a.tif"}, 200)
	}
	if r := test(); r["allowed"] != false || r["status"] != 403.0 {
		t.Errorf("tested before: %v", r)
	}
	g := ok("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "prefix": "2025/", "to": "account:guest-curators",
		"for": "read from"}, 201)
	path := fmt.Sprintf("/api/v1/grants/%v", g["id"])
	if e := explain(); e["allowed"] != true || e["by"] != "grant" || e["grant"] != g["id"] {
		t.Errorf("after: %v", e)
	}
	if r := test(); r["allowed"] != true {
		t.Errorf("tested after: %v", r)
	}
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "prefix": "2025/", "to": "account:guest-curators",
		"for": "write into"}, 409)
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": "anyone", "for": "write into"}, 400)
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "none", "to": "anyone", "for": "read from"}, 404)
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": "key:NOBODY", "for": "read from"}, 404)

	// A link is signed by a key, does not outlive it, and reaches no more.
	link := func(body map[string]any, status int, code string) {
		t.Helper()
		if e := ok("POST", "/api/v1/buckets/plates/link", body, status); code != "" && e["code"] != code {
			t.Errorf("a link with %v: %v", body, e)
		}
	}
	brief := ok("POST", "/api/v1/keys", map[string]any{"name": "brief", "expires": "30m"},
		201)["key"].(map[string]any)["id"]
	narrow := ok("POST", "/api/v1/keys", map[string]any{"name": "narrow", "limits": []string{"plates/2024/"}},
		201)["key"].(map[string]any)["id"]
	link(map[string]any{"key": "2025/a.tif", "seconds": 600, "with": brief}, 200, "")
	link(map[string]any{"key": "2025/a.tif", "seconds": 3600, "with": brief}, 400, "link-outlives")
	link(map[string]any{"key": "2025/a.tif", "seconds": 600, "with": narrow}, 403, "not-allowed")
	link(map[string]any{"key": "2025/a.tif", "seconds": 600, "with": "NOBODY"}, 404, "key-missing")

	// Two administrators change one grant: the second is told.
	ok("PATCH", path, map[string]any{"expires": "30d", "ifRevision": 1}, 200)
	if e := ok("PATCH", path, map[string]any{"for": "administer", "ifRevision": 1}, 409); e["code"] != "revision" {
		t.Errorf("the second change: %v", e)
	}
	// The new key takes over, with what the old one was granted.
	ok("POST", "/api/v1/grants", map[string]any{"bucket": "plates", "to": "key:" + id, "for": "list"}, 201)
	n := ok("POST", "/api/v1/keys/"+id+"/replace", map[string]any{"grace": "1h"}, 201)
	fresh := n["key"].(map[string]any)["id"].(string)
	if old := ok("GET", "/api/v1/keys/"+id, nil, 200); old["state"] != "replaced" || old["replacedBy"] != fresh ||
		old["expires"] == nil {
		t.Errorf("the old key: %v", old)
	}
	if e := ok("POST", "/api/v1/access/explain", map[string]any{"subject": "key:" + fresh, "do": "list",
		"bucket": "plates"}, 200); e["allowed"] != true {
		t.Errorf("the new key: %v", e)
	}
	// What only the secret's holder knows is not told by anything here.
	m := ok("GET", "/api/v1/access/matrix", nil, 200)
	if strings.Contains(fmt.Sprint(m), secret) || !strings.Contains(fmt.Sprint(m), "account guest-curators") {
		t.Errorf("the matrix: %v", m)
	}
	// A bucket takes its grants along; one of the same name has none of them.
	ok("POST", "/api/v1/buckets/plates/remove", map[string]any{"prefix": ""}, 200)
	ok("DELETE", "/api/v1/buckets/plates", nil, 204)
	ok("GET", path, nil, 404)
	ok("POST", "/api/v1/buckets", map[string]any{"name": "plates"}, 201)
	if e := explain(); e["allowed"] != false {
		t.Errorf("a bucket made again: %v", e)
	}
	before := ok("GET", "/api/v1/master-key", nil, 200)
	after := ok("POST", "/api/v1/master-key/rotate", nil, 200)
	if before["fingerprint"] == after["fingerprint"] || after["keys"] != 1.0 {
		t.Errorf("rotated: %v, then %v", before, after)
	}
	if r := ok("POST", "/api/v1/access/test", map[string]any{"key": fresh, "do": "list", "bucket": "plates"},
		200); r["status"] != 403.0 {
		t.Errorf("a key after the rotation: %v", r)
	}
}
