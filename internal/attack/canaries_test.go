package attack

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/sign"
)

// TestNoCallTellsOfOthers has an account with a thing of every kind, each named a canary, and makes every call of
// the desk as those of other accounts and as nobody: no answer has a canary in it, whatever its status.
func TestNoCallTellsOfOthers(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	canaries(t, s)
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	if err := json.Unmarshal([]byte(must(t, s, owner, "GET", "/openapi.json", "")), &doc); err != nil {
		t.Fatal(err)
	}
	roles := map[string]sign.Credential{"nobody": {}}
	for role, name := range map[access.Role]string{access.Administrator: "administers", access.Writer: "writes",
		access.Reader: "reads"} {
		roles["somebody who "+name] = s.NewKey("seed-lab", name, role, nil)
	}
	part := regexp.MustCompile(`\{(\w+)\}`)
	n := 0
	for path, methods := range doc.Paths {
		if strings.Contains(path, "/session") && !strings.Contains(path, "/sessions") || strings.HasSuffix(path, "/events") {
			continue // signing in and out, and what never ends
		}
		for method := range methods {
			if method == "parameters" {
				continue
			}
			for who, k := range roles {
				at := part.ReplaceAllStringFunc(path, func(p string) string { return named(p[1 : len(p)-1]) })
				body := ""
				if method != "get" && method != "delete" {
					body = "{}"
				}
				c := newCall(t, s, strings.ToUpper(method), at+"?bucket=canary-bucket&prefix=&key=canary-key&account=herbarium",
					body)
				if k.ID != "" {
					c.signed(k)
				}
				st, _, b := c.send()
				n++
				// What is kept under a name whoever asks keeps, too.
				asked := []string{at, "canary-bucket", "canary-key", "Canary Person", named("name")}
				for _, p := range part.FindAllStringSubmatch(path, -1) {
					asked = append(asked, named(p[1]))
				}
				for _, said := range asked { // what was asked for may be said again
					b = strings.ReplaceAll(b, said, "")
				}
				for _, word := range []string{"anary", harness.Key} {
					if i := strings.Index(b, word); i >= 0 {
						t.Errorf("%s %s as %s (%d) tells: %.200s", method, at, who, st, b[max(0, i-80):])
					}
				}
			}
		}
	}
	if n < 500 {
		t.Errorf("only %d calls were made", n)
	}
}

// named gives the name of the canary of a kind, as a path has it.
func named(kind string) string {
	switch kind {
	case "person":
		return url.PathEscape("Canary Person")
	case "bucket", "there":
		return "canary-bucket"
	case "account":
		return "herbarium"
	case "revision", "run", "id":
		return "1"
	case "tier":
		return "main"
	}
	return "canary-" + kind
}

// canaries makes a thing of every kind in the account herbarium.
func canaries(t *testing.T, s *harness.Running) {
	t.Helper()
	there, c := harness.Standin(t, standin.Faults{})
	if err := c.CreateBucket(t.Context(), "canary-bucket"); err != nil {
		t.Fatal(err)
	}
	for _, x := range [][2]string{
		{"/buckets", `{"name":"canary-bucket","versioning":"on","tags":{"a":"canary-tag"}}`},
		{"/buckets", `{"name":"canary-other","versioning":"on"}`},
		{"/people", `{"name":"Canary Person","password":"herons over the fen","roles":[{"account":"herbarium","role":"reader"}]}`},
		{"/keys", `{"name":"canary-key","role":"reader","note":"canary-note"}`},
		{"/grants", `{"bucket":"canary-bucket","prefix":"canary-prefix/","to":"key:canary-key","for":"read from","note":"canary-note"}`},
		{"/endpoints", fmt.Sprintf(`{"name":"canary-endpoint","url":%q,"key":%q,"secret":%q,"note":"canary-note"}`, there.URL,
			harness.StandinKey, harness.StandinSecret)},
		{"/placements", `{"name":"canary-placement","tier":"main","note":"canary-note"}`},
		{"/replications", `{"name":"canary-rule","bucket":"canary-bucket","targets":[{"address":"canary-other/in/"}],"existing":"leave"}`},
		{"/syncs", `{"name":"canary-sync","from":"canary-bucket","to":"canary-other/there/","note":"canary-note"}`},
		{"/censuses", `{"name":"canary-census","from":"canary-bucket","to":"canary-other/lists/","note":"canary-note"}`},
		{"/journal/posts", `{"name":"canary-post","url":"https://canary.example/hook"}`},
	} {
		must(t, s, owner, "POST", "/api/v1"+x[0], x[1])
	}
	for path, body := range map[string]string{
		"/find/saved/canary-name":    `{"expression":"key contains canary"}`,
		"/journal/saved/canary-name": `{"bucket":"canary-bucket"}`,
		"/buckets/canary-bucket/lifecycle/rules/canary-rule": `{"rule":{"name":"canary-rule","scope":{"prefix":"canary/"},` +
			`"actions":[{"of":"current","do":"remove","days":400}]},"new":true}`,
	} {
		must(t, s, owner, "PUT", "/api/v1"+path, body)
	}
	wire(t, s, owner, "PUT", "/canary-bucket/canary-key", "content", 200)
	files := `"files":[{"name":"a.yaml","text":"charter: canary-charter\nfinds: {canary-find: {expression: size over 1 KiB}}\n"}]`
	var plan struct{ Plan string }
	if err := json.Unmarshal([]byte(must(t, s, owner, "POST", "/api/v1/charters/compare", "{"+files+"}")),
		&plan); err != nil {
		t.Fatal(err)
	}
	must(t, s, owner, "POST", "/api/v1/charters/enact", "{"+files+`,"plan":"`+plan.Plan+`"}`)
}
