package attack

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/sign"
)

// declared is a thing that a charter declares, and the call that makes the same; NAME stands for what it
// is called.
type declared struct {
	what, text string
	path, body string
	list, in   string // where it is found, by an operator
	may        bool   // administrators of the account may
}

var declarables = []declared{
	{"a bucket", "buckets: {NAME: {versioning: 'on'}}", "/buckets", `{"name":"NAME","versioning":"on"}`, "/buckets",
		"buckets", true},
	{"a key", "keys: {NAME: {role: reader, note: NAME}}", "/keys", `{"name":"NAME","role":"reader"}`, "/keys", "keys",
		true},
	{"an operator's key", "keys: {NAME: {role: administrator, operator: true}}", "/keys",
		`{"name":"NAME","role":"administrator","operator":true}`, "/keys", "keys", false},
	{"an endpoint", "endpoints: {NAME: {url: 'THERE', key: KEY, secret: {env: S}}}", "/endpoints",
		`{"name":"NAME","url":"THERE","key":"KEY","secret":"SECRET"}`, "/endpoints", "endpoints", true},
	{"an endpoint in the service's network",
		"endpoints: {NAME: {url: 'http://169.254.169.254', key: KEY, secret: {env: S}}}",
		"/endpoints", `{"name":"NAME","url":"http://169.254.169.254","key":"K","secret":"words-of-a-secret"}`, "/endpoints",
		"endpoints", false},
	{"an account", "accounts: {NAME: {note: x}}", "/accounts", `{"name":"NAME"}`, "/accounts", "accounts", false},
	{"a placement", "placements: {NAME: {tier: main}}", "/placements", `{"name":"NAME","tier":"main"}`, "/placements",
		"placements",
		false},
	{"a tier", "tiers: {NAME: {volumes: [/tmp/NAME]}}", "/tiers", `{"name":"NAME","volumes":["/tmp/NAME"]}`, "/tiers",
		"tiers",
		false},
	{"a grant of a bucket of one's own", "grants: {g: {bucket: seeds, prefix: NAME/, to: 'account:herbarium', for: read from}}",
		"/grants", `{"bucket":"seeds","prefix":"NAME/","to":"account:herbarium","for":"read from"}`, "/grants", "grants",
		true},
	{"a grant of another's bucket", "grants: {g: {bucket: canary-bucket, prefix: NAME/, to: 'account:seed-lab', for: read from}}",
		"/grants", `{"bucket":"canary-bucket","prefix":"NAME/","to":"account:seed-lab","for":"read from"}`, "/grants",
		"grants", false},
	{"a grant to another's person", "grants: {g: {bucket: seeds, prefix: NAME/, to: 'person:Canary Person', for: read from}}",
		"/grants", `{"bucket":"seeds","prefix":"NAME/","to":"person:Canary Person","for":"read from"}`, "/grants", "grants",
		true},
	{"a rule of another's bucket", "replication: {NAME: {bucket: canary-bucket, targets: [{address: seeds/in/}]}}",
		"/replications",
		`{"name":"NAME","bucket":"canary-bucket","targets":[{"address":"seeds/in/"}],"existing":"leave"}`, "/replications",
		"replications", false},
	{"a rule into another's bucket", "replication: {NAME: {bucket: seeds, targets: [{address: canary-bucket/in/}]}}",
		"/replications",
		`{"name":"NAME","bucket":"seeds","targets":[{"address":"canary-bucket/in/"}],"existing":"leave"}`, "/replications",
		"replications", false},
	{"a rule through another's endpoint", "replication: {NAME: {bucket: seeds, targets: [{address: '@canary-endpoint/canary-bucket'}]}}",
		"/replications", `{"name":"NAME","bucket":"seeds","targets":[{"address":"@canary-endpoint/canary-bucket"}],"existing":"leave"}`,
		"/replications", "replications", false},
	{"a sync from another's bucket", "sync: {NAME: {from: canary-bucket, to: seeds/in/}}", "/syncs",
		`{"name":"NAME","from":"canary-bucket","to":"seeds/in/"}`, "/syncs", "syncs", false},
	{"a sync into another's bucket", "sync: {NAME: {from: seeds, to: canary-bucket/in/}}", "/syncs",
		`{"name":"NAME","from":"seeds","to":"canary-bucket/in/"}`, "/syncs", "syncs", false},
	{"a sync from a folder of the service", "sync: {NAME: {from: 'folder:/etc', to: seeds/in/}}", "/syncs",
		`{"name":"NAME","from":"folder:/etc","to":"seeds/in/"}`, "/syncs", "syncs", false},
	{"a census of another's bucket", "census: {NAME: {from: canary-bucket, to: seeds/lists/}}", "/censuses",
		`{"name":"NAME","from":"canary-bucket","to":"seeds/lists/"}`, "/censuses", "censuses", false},
	{"a census of a bucket of one's own", "census: {NAME: {from: seeds, to: seeds/lists/}}", "/censuses",
		`{"name":"NAME","from":"seeds","to":"seeds/lists/"}`, "/censuses", "censuses", true},
}

// TestChartersMayNoMoreThanCalls declares a thing of every kind in a charter, as each role, and makes it by its call:
// a charter makes nothing that the call may not, and tells nothing of another account.
func TestChartersMayNoMoreThanCalls(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	canaries(t, s)
	there, _ := harness.Standin(t, standin.Faults{})
	spoken := strings.NewReplacer("THERE", there.URL, "KEY", harness.StandinKey, "SECRET", harness.StandinSecret)
	for role, key := range chartering(t, s) {
		t.Run(role, func(t *testing.T) {
			for i, x := range declarables {
				byCall, byCharter := fmt.Sprintf("c%d-%s", i, role), fmt.Sprintf("f%d-%s", i, role)
				st, code, b := asks(t, s, key, "POST", "/api/v1"+x.path, strings.ReplaceAll(spoken.Replace(x.body), "NAME", byCall))
				ch, says := enacts(t, s, key, byCharter, strings.ReplaceAll(spoken.Replace(x.text), "NAME", byCharter))
				called, made := isThere(t, s, key, x, byCall), isThere(t, s, key, x, byCharter)
				if may := role == "administrator" && x.may; may != called && role != "administrator-limited" {
					t.Errorf("%s by its call: %d %s; is it there: %v\n%s", x.what, st, code, called, b)
				}
				if made && !called || called != made && role == "administrator" {
					t.Errorf("%s: by its call %v (%d %s), by a charter %v (%d)\n%s", x.what, called, st, code, made, ch, says)
				}
				for _, said := range []string{b, says} {
					for _, asked := range []string{"canary-bucket", "canary-endpoint", "Canary Person"} {
						said = strings.ReplaceAll(said, asked, "")
					}
					if strings.Contains(said, "anary") || strings.Contains(said, harness.Key) {
						t.Errorf("%s tells of others: %s", x.what, said)
					}
				}
			}
		})
	}
	t.Run("secrets stay with their addresses", func(t *testing.T) { secretsStay(t, s, spoken) })
}

// chartering makes the account seed-lab with a bucket, and its keys by what they may.
func chartering(t *testing.T, s *harness.Running) map[string]sign.Credential {
	keys := map[string]sign.Credential{"administrator": s.NewKey("seed-lab", "administers", access.Administrator, nil),
		"writer": s.NewKey("seed-lab", "writes", access.Writer, nil), "reader": s.NewKey("seed-lab", "reads", access.Reader,
			nil),
		"administrator-limited": s.NewKey("seed-lab", "part", access.Administrator, func(k *catalog.AccessKey) {
			k.Limits = catalog.Limits{{Bucket: "seeds"}}
		})}
	must(t, s, keys["administrator"], "POST", "/api/v1/buckets", `{"name":"seeds","versioning":"on"}`)
	return keys
}

// enacts compares a charter and enacts what is found; it gives the last status, and all that was said.
func enacts(t *testing.T, s *harness.Running, key sign.Credential, name, text string) (int, string) {
	t.Helper()
	files, err := json.Marshal([]map[string]string{{"name": "a.yaml", "text": "charter: " + strings.ToLower(name) + "\n" +
		text + "\n"}})
	if err != nil {
		t.Fatal(err)
	}
	st, _, said := asks(t, s, key, "POST", "/api/v1/charters/compare", `{"files":`+string(files)+`}`)
	var plan struct{ Plan string }
	_ = json.Unmarshal([]byte(said), &plan) // a refusal has no plan
	st2, _, more := asks(t, s, key, "POST", "/api/v1/charters/enact",
		fmt.Sprintf(`{"files":%s,"plan":%q,"secrets":{"env S":%q}}`, files, plan.Plan,
			harness.StandinSecret))
	return max(st, st2), said + more
}

// isThere looks for a thing by its name, among what a key's account has and what operators see.
func isThere(t *testing.T, s *harness.Running, key sign.Credential, x declared, name string) bool {
	t.Helper()
	for _, k := range []sign.Credential{key, owner} {
		if _, _, b := asks(t, s, k, "GET", "/api/v1"+x.list+"?limit=1000", ""); strings.Contains(b, `"`+name+`"`) ||
			strings.Contains(b, `"`+name+`/"`) {
			return true
		}
	}
	return false
}

// secretsStay changes where an endpoint's secret goes, by a charter without it.
func secretsStay(t *testing.T, s *harness.Running, spoken *strings.Replacer) {
	admin := s.NewKey("seed-lab", "moves-endpoints", access.Administrator, nil)
	must(t, s, admin, "POST", "/api/v1/endpoints",
		spoken.Replace(`{"name":"far","url":"THERE","key":"KEY","secret":"SECRET"}`))
	for what, text := range map[string]string{
		"no secret is named":   "endpoints: {far: {url: 'http://127.0.0.1:10', key: KEY}}",
		"another one is meant": "endpoints: {far: {url: 'http://127.0.0.1:10', key: KEY, secret: {env: OTHER}}}",
		"a file of the service": "endpoints: {far: {url: 'http://127.0.0.1:10', key: KEY, " +
			"secret: {file: /etc/hostname}}}",
	} {
		_, says := enacts(t, s, admin, "far-away", spoken.Replace(text))
		if got := must(t, s, admin, "GET", "/api/v1/endpoints/"+url.PathEscape("far"), ""); !strings.Contains(got,
			spoken.Replace("THERE")) {
			t.Errorf("%s: the address is another: %s\n%s", what, got, says)
		}
	}
}
