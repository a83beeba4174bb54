package desk_test

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
)

const house = `charter: house
variables: {days: 30}
buckets:
  drawers:
    versioning: on
    quota: 1GiB
    tags: {kind: x}
    journal: {days: 400}
    required: [{field: taxon, kind: text}]
    rules:
    - {name: old, scope: {where: size over 1 KiB}, actions: [{of: previous, do: remove, days: '${days}'}]}
  copies: {versioning: on}
keys:
  visitor: {role: reader, limits: [drawers], expires: 2099-01-31}
grants:
  open: {bucket: drawers, prefix: open/, to: "account:seed-lab", for: read from}
replication:
  out: {bucket: drawers, targets: [{address: copies/in/}], lagTarget: {percent: 99, seconds: 60}, onward: true}
sync:
  nightly: {from: drawers, to: copies/there, schedule: "@daily", older: 2d, bandwidth: [1MiB]}
census:
  list: {from: drawers, to: copies/census/, on: false}
finds:
  big: {expression: size over 20 MiB}
journal-filters:
  gone: {kinds: [deleted]}
`

// charters asks the desk about files, as somebody.
type charters struct {
	t *testing.T
	p *person
}

func files(texts ...string) []any {
	var out []any
	for i, s := range texts {
		out = append(out, map[string]any{"name": fmt.Sprintf("%c.yaml", 'a'+i), "text": s})
	}
	return out
}

func (c charters) compare(retire bool, texts ...string) map[string]any {
	c.t.Helper()
	st, e := c.p.ask("POST", "/api/v1/charters/compare", map[string]any{"files": files(texts...), "retire": retire})
	if st != 200 {
		c.t.Fatalf("%d %v", st, e)
	}
	return e
}

func words(plan map[string]any) string {
	var out []string
	for _, x := range plan["steps"].([]any) {
		s := x.(map[string]any)
		out = append(out, fmt.Sprint(s["do"], " ", s["kind"], " ", s["name"]))
	}
	return strings.Join(out, "; ")
}

// enact does what a comparison says, and gives the lines that were told.
func (c charters) enact(retire bool, more map[string]any, texts ...string) (lines []map[string]any) {
	c.t.Helper()
	in := map[string]any{"files": files(texts...), "retire": retire, "plan": c.compare(retire, texts...)["plan"]}
	for k, v := range more {
		in[k] = v
	}
	st, body := c.p.send("POST", "/api/v1/charters/enact", in)
	if st != 200 {
		return []map[string]any{{"status": st, "problem": string(body)}}
	}
	for _, line := range strings.Split(strings.TrimSpace(string(body)), "\n") {
		var m map[string]any
		if err := json.Unmarshal([]byte(line), &m); err != nil {
			c.t.Fatalf("%q: %v", line, err)
		}
		lines = append(lines, m)
	}
	return lines
}

func allDone(lines []map[string]any) bool { return lines[len(lines)-1]["ended"] == true }

// A charter stops in the middle when whoever enacts it is removed: nothing more is made, and no
// secret is told.
func TestACharterStopsWithItsGiver(t *testing.T) {
	s := harness.Service(t, nil)
	key := s.NewKey("herbarium", "giver", access.Administrator, nil)
	giver := newPerson(t, s)
	st, in := giver.ask("POST", "/api/v1/session", map[string]string{"key": key.ID, "secret": key.Secret})
	if st != 201 {
		t.Fatal(in)
	}
	giver.forgery = in["forgery"].(string)
	const buckets = 300
	var text strings.Builder
	text.WriteString("charter: many\nbuckets:\n")
	for i := range buckets {
		fmt.Fprintf(&text, "  drawer-%03d: {versioning: on}\n", i)
	}
	text.WriteString("keys:\n  zz-last: {role: administrator}\n")
	c := charters{t, giver}
	made := func() int {
		list, err := s.Store.Catalog.Buckets(t.Context(), "herbarium", nil, "", 1000)
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	var lines []map[string]any
	done := make(chan struct{})
	go func() {
		defer close(done)
		lines = c.enact(false, nil, text.String())
	}()
	harness.Until(t, "some of it is made", func() bool { return made() > 3 })
	by := catalog.Author{At: time.Now(), Who: harness.Key}
	if err := s.Store.Catalog.RemoveKey(t.Context(), key.ID, by); err != nil {
		t.Fatal(err)
	}
	s.Gate.Changed()
	<-done
	if n := made(); n >= buckets {
		t.Errorf("all %d buckets were made", n)
	}
	last := lines[len(lines)-1]
	if last["ended"] == true || last["problem"] == nil || strings.Contains(fmt.Sprint(lines), "secret:") {
		t.Errorf("the end is %v", last)
	}
}

// TestCharters writes a house down, brings it about, lets it drift, brings it back, changes
// it and takes it down.
func TestCharters(t *testing.T) {
	s := harness.Service(t, nil)
	s.NewKey("seed-lab", "other", access.Administrator, nil)
	p := newPerson(t, s)
	p.signIn()
	c := charters{t, p}
	want := "make bucket copies; make bucket drawers; make key visitor; make grant drawers/open/ to account:seed-lab; make replication rule out; " +
		"make sync job nightly; make census list; make question big; make journal filter gone"
	if got := words(c.compare(false, house)); got != want {
		t.Fatalf("%s", got)
	}
	lines := c.enact(false, nil, house)
	if !allDone(lines) || len(lines) != 11 || lines[3]["secret"] == nil {
		t.Fatalf("%v", lines)
	}
	harness.Secretly("a key of a charter", lines[3]["secret"].(string))
	if got := words(c.compare(false, house)); got != "" {
		t.Errorf("after it was enacted: %s", got)
	}
	st, exported := p.ask("GET", "/api/v1/charters/export", nil)
	if text, _ := exported["text"].(string); st != 200 || words(c.compare(false, text)) != "" ||
		!strings.Contains(text, "size over 1 KiB") {
		t.Errorf("what is exported differs: %s\n%s", words(c.compare(false, text)), text)
	}

	for path, body := range map[string]any{"/api/v1/buckets/drawers": map[string]any{"quota": 5 << 20,
		"tags": map[string]any{"set": map[string]string{"more": "y"}}},
		"/api/v1/syncs/nightly": map[string]any{"mode": "mirror", "note": "this is not declared"}} {
		if st, e := p.ask("PATCH", path, body); st != 200 {
			t.Fatalf("%d %v", st, e)
		}
	}
	if st, e := p.ask("DELETE", "/api/v1/find/saved/big", nil); st != 204 {
		t.Fatalf("%d %v", st, e)
	}
	_, drift := p.ask("GET", "/api/v1/charters/house/drift", nil)
	b, _ := json.Marshal(drift["differs"])
	for _, want := range []string{`{"field":"quota","from":5242880,"to":1073741824}`,
		`{"field":"tags.more","from":"y","to":null}`,
		`"name":"big"`, `"by":"` + harness.Key + `"`, `"fields":{"quota":{"at":"`} {
		if !strings.Contains(string(b), want) {
			t.Errorf("%s is not told: %s", want, b)
		}
	}
	if strings.Contains(string(b), "nightly") { // its mode is not declared
		t.Errorf("%s", b)
	}
	_, audit := p.ask("POST", "/api/v1/audit/run", map[string]any{})
	if !strings.Contains(fmt.Sprint(audit), "charter-drift") {
		t.Error("the audit does not tell of it")
	}

	changed := strings.NewReplacer("  copies: {versioning: on}\n", "", "address: copies/in/", "address: spare", "copies/",
		"spare/",
		"onward: true", "onward: true", "role: reader", "role: writer").Replace(house) + "\n"
	more := "buckets:\n  spare: {versioning: on}\n"
	want = "change bucket drawers; make bucket spare; change key visitor; change replication rule out; change sync job nightly; change census list; " +
		"make question big; remove bucket copies"
	if got := words(c.compare(false, changed, more)); got != want {
		t.Errorf("%s", got)
	}
	s.Do("PUT", "/copies/k", nil, "content", true)
	if got := c.enact(false, nil, changed, more); got[0]["status"] != 409 ||
		!strings.Contains(fmt.Sprint(got), "the bucket copies holds ") {
		t.Errorf("a bucket that holds something: %v", got)
	}
	if got := c.enact(false, map[string]any{"plan": "another"}, changed, more); got[0]["status"] != 412 {
		t.Errorf("what was not agreed to: %v", got)
	}
	if got := c.enact(false, map[string]any{"withObjects": true}, changed, more); !allDone(got) {
		t.Errorf("%v", got)
	}
	if got := words(c.compare(false, changed, more)); got != "" {
		t.Errorf("after it was enacted: %s", got)
	}
	if got := c.enact(true, map[string]any{"withObjects": true}, changed, more); !allDone(got) {
		t.Errorf("taken down: %v", got)
	}
	_, hist := p.ask("GET", "/api/v1/charters/house/history", nil)
	var states []string
	for _, x := range hist["enactments"].([]any) {
		states = append(states, x.(map[string]any)["state"].(string))
	}
	if !slices.Equal(states, []string{"retired", "enacted", "enacted"}) {
		t.Errorf("%v", states)
	}
	if st, e := p.ask("GET", "/api/v1/buckets", nil); st != 200 || len(e["buckets"].([]any)) != 0 {
		t.Errorf("left: %v", e)
	}
}

// TestChartersStopAndGoOn has a step fail, and others wait; a charter that claims the whole
// takes away what it does not name, but not the key that enacts it.
func TestChartersStopAndGoOn(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	c := charters{t, p}
	text := "charter: two\nbuckets:\n  drawers: {versioning: on}\nreplication:\n  out: {bucket: drawers, targets: [{address: nowhere-here}]}\n"
	if st, e := p.ask("POST", "/api/v1/buckets",
		map[string]any{"name": "nowhere-here"}); st != 201 { // which keeps no versions
		t.Fatal(st, e)
	}
	lines := c.enact(false, nil, text)
	last := lines[len(lines)-1]
	if last["problem"] == nil || last["step"] != 1.0 {
		t.Fatalf("%v", lines)
	}
	if st, e := p.ask("GET", "/api/v1/charters", nil); st != 200 || !strings.Contains(fmt.Sprint(e), "stopped") {
		t.Errorf("%d %v", st, e)
	}
	text = strings.Replace(text, "nowhere-here", "other", 1) + "charter: two\n"
	text = strings.Replace(text, "charter: two\n", "", 1) + "\n"
	if lines = c.enact(false, nil, text, "buckets:\n  other: {versioning: on}\n"); !allDone(lines) || len(lines) != 4 {
		t.Errorf("gone on: %v", lines)
	}
	whole := "charter: all\nwhole: true\nbuckets: {drawers: {}}\n"
	plan := c.compare(false, whole)
	if got := words(plan); !strings.Contains(got, "remove bucket other") ||
		!strings.Contains(got, "remove replication rule out") ||
		!strings.Contains(fmt.Sprint(plan), "it is the key that you enact with") || strings.Contains(got, "tier") ||
		strings.Contains(got, "account") {
		t.Errorf("%v", plan)
	}

	var wg sync.WaitGroup
	var mu sync.Mutex
	results := map[string]int{}
	same := "charter: %d\nbuckets:\n"
	for i := range 40 {
		same += fmt.Sprintf("  drawer-%02d: {versioning: on}\n", i)
	}
	for i := range 4 {
		wg.Go(func() {
			got := c.enact(false, nil, strings.Replace(same, "%d", fmt.Sprintf("c%d", i), 1))
			mu.Lock()
			defer mu.Unlock()
			switch {
			case allDone(got):
				results["done"]++
			case strings.Contains(fmt.Sprint(got), "is enacting the charter"), strings.Contains(fmt.Sprint(got), "charter-plan"):
				results["told"]++
			default:
				t.Errorf("%v", got[len(got)-1])
			}
		})
	}
	wg.Wait()
	if results["done"] == 0 || results["done"]+results["told"] != 4 {
		t.Errorf("at a time: %v", results)
	}

	seed := newPerson(t, s)
	k := s.NewKey("seed-lab", "administrator", access.Administrator, nil)
	seed.signInAs(map[string]string{"key": k.ID, "secret": k.Secret})
	other := charters{t, seed}
	if st, e := seed.ask("GET", "/api/v1/charters/two/drift", nil); st != 404 ||
		strings.Contains(fmt.Sprint(e), "drawers") {
		t.Errorf("of another account: %d %v", st, e)
	}
	plan = other.compare(false, "charter: x\nbuckets: {drawers: {versioning: off}}\naccounts: {mine: {}}\n")
	if text := fmt.Sprint(plan); !strings.Contains(text, "only operators do that") || strings.Contains(text, "herbarium") {
		t.Errorf("%v", plan)
	}
	if st, e := seed.ask("POST", "/api/v1/charters/compare",
		map[string]any{"files": files("charter: x\naccount: herbarium\n")}); st != 409 ||
		e["code"] != "charter-account" {
		t.Errorf("in another account: %d %v", st, e)
	}
	st, e := p.ask("POST", "/api/v1/charters/compare",
		map[string]any{"files": files("charter: x\nbuckets:\n  Bad_: {versionin: on}\n  b: {quota: -1}\nsync: {x: {from: 7}}\n")})
	if b, _ := json.Marshal(e); st != 400 || !strings.Contains(string(b), `"a.yaml:3:10"`) ||
		!strings.Contains(string(b), "a.yaml:5:12") || !strings.Contains(string(b), "such as 400GiB") {
		t.Errorf("what is wrong: %d %s", st, b)
	}
}

// TestChartersInTheConsole compares a file, enacts it, and looks at what drifted.
func TestChartersInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	walk, _ := signedIn(t, s, "/charters")
	text := func(s string) chromedp.Action[chromedp.Void] {
		return harness.Script(fmt.Sprintf(`{const a = document.querySelector("textarea");
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(a, %q);
			a.dispatchEvent(new Event("input", {bubbles: true}))}`, s))
	}
	compare := harness.Script(`{const b = [...document.querySelectorAll(".dialog button")].find((b) => b.textContent === "Compare"); if (b.disabled) throw 1; b.click()}`)
	walk("a mistake is told where it is", harness.Appears("No charter was enacted"), harness.Button("Compare and enact"),
		text("charter: desk\nbuckets: {drawers: {quotas: 1}}\n"), compare, harness.Appears("charter.yaml:2:"))
	walk("what it would do", text("charter: desk\nbuckets: {drawers: {quota: 2GiB}}\n"), compare,
		harness.Appears("make bucket"), harness.Appears("2.0 GiB"))
	walk("enact", harness.Button("Enact: 1 step"), harness.Appears("Done, 1 step"), harness.Button("Close"),
		harness.Appears("as declared"))
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("PATCH", "/api/v1/buckets/drawers", map[string]any{"quota": 1 << 30}); st != 200 {
		t.Fatal(e)
	}
	walk("drift", chromedp.Navigate(s.DeskURL+"/charters"), harness.Appears("1 thing drifted"), harness.Button("desk"),
		harness.Appears("is otherwise"), harness.Appears("1.0 GiB"), harness.Appears("1 of 1"))
}

// The house of the sample data, as the docs declare it, is understood whole.
func TestTheHouseInTheDocs(t *testing.T) {
	text, err := os.ReadFile("../../docs/herbarium.yaml")
	if err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, harness.Service(t, nil))
	p.signIn()
	got := words(charters{t, p}.compare(false, string(text)))
	for _, want := range []string{"make bucket plates", "make bucket attic", "make tier cellar", "make endpoint old-mill",
		"make account seed-lab", "make sync job nightly-attic"} {
		if !strings.Contains(got, want) {
			t.Errorf("nothing would %s: %s", want, got)
		}
	}
}

// What a charter refers to is there or declared, or compare says so with what was perhaps meant,
// before anything is made; keys are named as they are declared, and switches said in one way.
func TestCharterReferences(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	p := newPerson(t, s)
	p.signIn()
	c := charters{t, p}
	bad := c.compare(false, `charter: refs
buckets: {drawers: {versioning: true, sealing: on}, trays: {sealing: off}}
grants:
  a: {bucket: drawer, to: anyone, for: read from}
  b: {bucket: drawers, to: "account:nobody", for: read from}
  c: {bucket: drawers, to: "key:ap-1", for: read from}
  d: {bucket: drawers, to: "person:none", for: read from}
keys: {app-1: {role: writer}}
replication: {out: {bucket: drawers, existing: leave, targets: [{address: "@nowhere/plates"}]}}
sync: {nightly: {from: drawers, to: tray/x, mode: mirror}}
`)
	says := fmt.Sprint(bad["steps"])
	for _, want := range []string{`there is no bucket "drawer", and the charter declares none; did you mean drawers?`,
		"there is no account:nobody", "there is no key:ap-1, and the charter declares none; did you mean app-1?",
		"there is no person:none", `there is no endpoint "nowhere"`, "did you mean trays?"} {
		if !strings.Contains(says, want) {
			t.Errorf("compare does not say %q:\n%s", want, says)
		}
	}
	const good = `charter: refs
buckets: {drawers: {versioning: on, sealing: on}}
keys: {app-1: {role: writer}}
grants: {c: {bucket: drawers, prefix: in/, to: "key:app-1", for: write into}}
`
	if plan := c.compare(false, good); strings.Contains(fmt.Sprint(plan), "cannot") {
		t.Fatalf("what is declared is not found: %v", plan)
	}
	lines := c.enact(false, nil, good)
	if !allDone(lines) {
		t.Fatalf("enacted: %v", lines)
	}
	_, g := p.ask("GET", "/api/v1/grants?bucket=drawers", nil)
	_, b := p.ask("GET", "/api/v1/buckets/drawers", nil)
	if says := fmt.Sprint(g); !strings.Contains(says, "to:key ") || strings.Contains(says, "key app-1") ||
		b["sealing"] != true {
		t.Errorf("grants %s, sealing %v", says, b["sealing"])
	}
	for _, again := range []string{good, strings.Replace(good, "sealing: on", "sealing: true", 1)} {
		if plan := c.compare(false, again); len(plan["steps"].([]any)) != 0 {
			t.Errorf("what was enacted differs: %v", plan["steps"])
		}
	}
}
