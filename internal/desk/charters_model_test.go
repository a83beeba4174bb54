package desk_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// modelThing is a thing as a plain map of its settings.
type modelThing map[string]any

// charterModel is what charters promise, without a service: what is there, what was declared
// last, and who changed which setting since.
type charterModel struct {
	there, declared map[string]modelThing // by kind and name
	changes         []modelChange
}

type modelChange struct{ thing, field, who string }

// modelKinds are the kinds that the model draws, with the settings that are drawn of them.
var modelKinds = map[string]struct {
	section, path string
	put           bool
	base          map[string]any // of each thing, in the calls that make it
	draw          map[string]func(*rand.Rand) any
}{
	"bucket": {"buckets", "/api/v1/buckets", false, map[string]any{"versioning": "off"}, map[string]func(*rand.Rand) any{
		"quota": drawn(1048576.0, 2097152.0), "versioning": drawn("on", "off"),
		"tags": func(r *rand.Rand) any {
			return map[string]any{"kind": drawn("a", "b")(r), drawn("x", "y")(r).(string): "1"}
		}}},
	"key": {"keys", "/api/v1/keys", false, map[string]any{"role": "reader"}, map[string]func(*rand.Rand) any{
		"role": drawn("reader", "writer"), "note": drawn("one", "two"), "rate": drawn(5.0, 6.0),
		"limits": drawn([]any{"standing"}, []any{"standing", "other/in/"})}},
	"grant": {"grants", "/api/v1/grants", false, map[string]any{"bucket": "standing", "to": "account:seed-lab",
		"for": "read from"},
		map[string]func(*rand.Rand) any{"for": drawn("read from", "write into"), "note": drawn("one", "two")}},
	"sync job": {"sync", "/api/v1/syncs", false, map[string]any{"from": "standing/from/", "mode": "accumulate"},
		map[string]func(*rand.Rand) any{"mode": drawn("accumulate", "mirror"), "note": drawn("one", "two"),
			"older": drawn(3600.0, 7200.0), "guardMost": drawn(5.0, 6.0), "bandwidth": drawn([]any{"1MiB"}, []any{"2MiB"})}},
	"census": {"census", "/api/v1/censuses", false, map[string]any{"from": "standing/from/", "on": false, "format": "csv"},
		map[string]func(*rand.Rand) any{"note": drawn("one", "two"), "format": drawn("csv", "json")}},
	"endpoint": {"endpoints", "/api/v1/endpoints", false, nil, map[string]func(*rand.Rand) any{
		"note": drawn("one", "two"), "bandwidth": drawn(1048576.0, 2097152.0)}},
	"tier": {"tiers", "/api/v1/tiers", false, nil, map[string]func(*rand.Rand) any{
		"note": drawn("one", "two"), "price": drawn(5.0, 6.0), "shortestStay": drawn(5.0, 6.0)}},
	"placement": {"placements", "/api/v1/placements", false, map[string]any{"tier": "main"},
		map[string]func(*rand.Rand) any{"note": drawn("one", "two"), "everyone": drawn(true, false)}},
	"replication rule": {"replication", "/api/v1/replications", false,
		map[string]any{"bucket": "standing", "on": true, "deleteMarkers": false, "priority": 1.0},
		map[string]func(*rand.Rand) any{
			"priority": drawn(5.0, 6.0), "on": drawn(true, false), "deleteMarkers": drawn(true, false),
			"lagTarget": drawn(map[string]any{"percent": 99.0, "seconds": 60.0}, map[string]any{"percent": 99.0,
				"seconds": 90.0})}},
	"question": {"finds", "/api/v1/find/saved", true, map[string]any{"expression": "size over 1 MiB"},
		map[string]func(*rand.Rand) any{"expression": drawn("size over 1 MiB", "size over 2 MiB"), "versions": drawn(true,
			false)}},
	"journal filter": {"journal-filters", "/api/v1/journal/saved", true, map[string]any{"kinds": []any{"deleted"}},
		map[string]func(*rand.Rand) any{"prefix": drawn("a", "b"), "who": drawn("c", "d")}},
}

func drawn[T any](of ...T) func(*rand.Rand) any {
	return func(r *rand.Rand) any { return of[r.IntN(len(of))] }
}

// modelDiffers names the settings of what is wanted that are otherwise.
func modelDiffers(want, have modelThing) (out []string) {
	for f, v := range want {
		a, _ := v.(map[string]any)
		b, _ := have[f].(map[string]any)
		if len(a) > 0 && len(b) > 0 {
			for name := range maps.Keys(joined(a, b)) {
				if a[name] != b[name] {
					out = append(out, f+"."+name)
				}
			}
		} else if v != false && !reflect.DeepEqual(v, have[f]) || v == false && have[f] == true {
			out = append(out, f)
		}
	}
	slices.Sort(out)
	return out
}

func joined(a, b map[string]any) map[string]any {
	out := map[string]any{}
	maps.Copy(out, a)
	maps.Copy(out, b)
	return out
}

// steps says what enacting files does.
func (m *charterModel) steps(want map[string]modelThing) (out []string) {
	for thing, fields := range want {
		if have := m.there[thing]; have == nil {
			out = append(out, "make "+thing)
		} else if d := modelDiffers(fields, have); len(d) > 0 {
			out = append(out, "change "+thing+": "+strings.Join(d, " "))
		}
	}
	for thing := range m.declared {
		if want[thing] == nil && m.there[thing] != nil {
			out = append(out, "remove "+thing)
		}
	}
	slices.Sort(out)
	return out
}

// by says who changed a setting of a thing last since the charter was enacted; "" when nobody did.
func (m *charterModel) by(thing, field string) string {
	top, _, _ := strings.Cut(field, ".")
	for _, c := range slices.Backward(m.changes) {
		if c.thing == thing && (c.field == "*" || c.field == field || c.field == top || field == top &&
			strings.HasPrefix(c.field, top+".")) {
			return c.who
		}
	}
	return ""
}

// drift says what is not as declared, and whose doing it is.
func (m *charterModel) drift() (out []string) {
	for thing, fields := range m.declared {
		if have := m.there[thing]; have == nil {
			out = append(out, thing+" is not there: "+m.by(thing, "gone"))
		} else {
			for _, f := range modelDiffers(fields, have) {
				out = append(out, thing+" "+f+": "+m.by(thing, f))
			}
		}
	}
	slices.Sort(out)
	return out
}

// set notes that somebody gave a thing's settings other values.
func (m *charterModel) set(thing, who string, fields modelThing) {
	was := m.there[thing]
	kind, _ := kindAndName(thing)
	if modelKinds[kind].put && was != nil { // written whole
		for f := range was {
			if _, stays := fields[f]; !stays {
				fields = modelThing(joined(fields, map[string]any{f: nil}))
			}
		}
	}
	m.there[thing] = modelThing(joined(was, fields))
	if was == nil {
		m.there[thing] = maps.Clone(fields)
		m.changes = append(m.changes, modelChange{thing, "*", who})
		return
	}
	for f, v := range fields {
		a, _ := v.(map[string]any)
		b, _ := was[f].(map[string]any)
		if f == "tags" {
			for name := range maps.Keys(joined(a, b)) {
				if a[name] != b[name] {
					m.changes = append(m.changes, modelChange{thing, "tags." + name, who})
				}
			}
		} else if !reflect.DeepEqual(was[f], v) && (v != nil || was[f] != false) {
			m.changes = append(m.changes, modelChange{thing, f, who})
		}
	}
}

// charterHouse drives a service and the model beside it.
type charterHouse struct {
	*charterModel
	t       *testing.T
	r       *rand.Rand
	s       *harness.Running
	people  map[string]*person
	target  string // an endpoint's address
	volumes string // the folder of tiers' volumes
}

func kindAndName(thing string) (kind, name string) {
	kind, name, _ = strings.Cut(thing, " | ")
	return kind, name
}

// drawThing draws a thing, and some of its settings.
func (h *charterHouse) drawThing() (thing string, fields modelThing) {
	kinds := slices.Sorted(maps.Keys(modelKinds))
	kind := kinds[h.r.IntN(len(kinds))]
	name := fmt.Sprintf("%s-%d", modelKinds[kind].section, h.r.IntN(2))
	if kind == "grant" {
		name = fmt.Sprintf("standing/%d/ to account:seed-lab", h.r.IntN(2))
	}
	fields = modelThing(joined(map[string]any{}, modelKinds[kind].base))
	draw := modelKinds[kind].draw
	for _, f := range slices.Sorted(maps.Keys(draw)) {
		if h.r.IntN(3) > 0 {
			fields[f] = draw[f](h.r)
		}
	}
	return kind + " | " + name, fields
}

// whole gives settings with those that a thing of the kind cannot be without.
func (h *charterHouse) whole(thing string, fields modelThing) map[string]any {
	kind, name := kindAndName(thing)
	out := joined(map[string]any{}, fields)
	switch kind {
	case "grant":
		out["prefix"] = strings.Split(name, "/")[1] + "/"
	case "sync job", "census":
		out["to"] = "standing/" + name + "/"
	case "endpoint":
		out["url"], out["key"], out["style"] = h.target, harness.StandinKey, "path"
	case "tier":
		out["volumes"] = []any{filepath.Join(h.volumes, name)}
	case "replication rule":
		out["targets"], out["existing"] = []any{map[string]any{"address": "other/" + name + "/"}}, "leave"
	}
	return out
}

// yaml writes things as a charter: JSON is YAML too.
func (h *charterHouse) yaml(want map[string]modelThing) string {
	doc := map[string]any{"charter": "model"}
	for thing, fields := range want {
		kind, name := kindAndName(thing)
		section := modelKinds[kind].section
		if doc[section] == nil {
			doc[section] = map[string]any{}
		}
		all := h.whole(thing, fields)
		if kind == "endpoint" {
			all["secret"] = map[string]any{"env": "FOREIGN"}
		}
		if kind == "grant" {
			name = strings.NewReplacer("/", "-", " ", "-", ":", "-").Replace(name)
		}
		doc[section].(map[string]any)[name] = all
	}
	b, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		h.t.Fatal(err)
	}
	return string(b)
}

// path gives the call of a thing.
func (h *charterHouse) path(thing string) string {
	kind, name := kindAndName(thing)
	list := modelKinds[kind].path
	if kind != "key" && kind != "grant" {
		return list + "/" + name
	}
	_, page := h.people[harness.Key].ask("GET", list, nil)
	for _, x := range page[modelKinds[kind].section].([]any) {
		m := x.(map[string]any)
		if kind == "key" && m["name"] == name || kind == "grant" && m["bucket"] == "standing" &&
			m["prefix"] == strings.Split(name, "/")[1]+"/" {
			return fmt.Sprint(list, "/", m["id"])
		}
	}
	h.t.Fatalf("%s is not listed", thing)
	return ""
}

func (h *charterHouse) must(who, method, path string, in any) {
	h.t.Helper()
	if st, e := h.people[who].ask(method, path, in); st > 299 {
		h.t.Fatalf("%s %s %v: %d %v", method, path, in, st, e)
	}
}

// quiet waits until no census runs: those that do are not removed.
func (h *charterHouse) quiet() {
	harness.Until(h.t, "no census runs", func() bool {
		_, page := h.people[harness.Key].ask("GET", "/api/v1/censuses", nil)
		text := fmt.Sprint(page)
		return !strings.Contains(text, "state:running") && !strings.Contains(text, "state:waiting")
	})
}

// change has somebody make a thing, change or remove it, by the desk's own calls.
func (h *charterHouse) change(who string) string {
	thing, fields := h.drawThing()
	kind, name := kindAndName(thing)
	k := modelKinds[kind]
	there := h.there[thing]
	switch {
	case there != nil && h.r.IntN(4) == 0 && kind != "tier":
		h.quiet()
		h.must(who, "DELETE", h.path(thing), nil)
		delete(h.there, thing)
		h.changes = append(h.changes, modelChange{thing, "*", who})
		return "remove " + thing
	case k.put:
		h.must(who, "PUT", h.path(thing), fields)
	case there == nil:
		body := h.whole(thing, fields)
		body["name"] = name
		if kind == "grant" {
			delete(body, "name")
		}
		if kind == "endpoint" {
			body["secret"] = harness.StandinSecret
		}
		h.must(who, "POST", k.path, body)
	default:
		for f := range k.base { // what the calls that change it take
			if k.draw[f] == nil {
				delete(fields, f)
			}
		}
		body := joined(map[string]any{}, fields)
		if tags, ok := body["tags"].(map[string]any); ok {
			body["tags"] = map[string]any{"set": tags}
			had, _ := there["tags"].(map[string]any)
			fields["tags"] = joined(had, tags)
			if had == nil {
				fields["tags"] = tags
			}
		}
		h.must(who, "PATCH", h.path(thing), body)
	}
	h.set(thing, who, fields)
	return fmt.Sprint("set ", thing, " ", fields)
}

// enact declares other things, and brings them about.
func (h *charterHouse) enact(who string) string {
	want := map[string]modelThing{}
	for range 2 + h.r.IntN(6) {
		thing, fields := h.drawThing()
		want[thing] = fields
	}
	for thing, fields := range h.declared { // a tier stays: the directory of one that is gone is no other's
		if kind, _ := kindAndName(thing); kind == "tier" && want[thing] == nil {
			want[thing] = fields
		}
	}
	h.quiet()
	text := h.yaml(want)
	c := charters{h.t, h.people[who]}
	if got, expect := planned(c.compare(false, text)), h.steps(want); !slices.Equal(got, expect) {
		h.t.Fatalf("enacting\n%s\nplans\n%s\nnot\n%s", text, strings.Join(got, "\n"), strings.Join(expect, "\n"))
	}
	if lines := c.enact(false, map[string]any{"secrets": map[string]string{"env FOREIGN": harness.StandinSecret}},
		text); !allDone(lines) {
		h.t.Fatalf("%v", lines[len(lines)-1])
	}
	h.changes = nil
	for thing := range h.declared {
		if want[thing] == nil {
			delete(h.there, thing)
		}
	}
	for thing, fields := range want {
		if there := h.there[thing]; there == nil {
			h.set(thing, who, fields)
		} else {
			changed := modelThing{}
			kind, _ := kindAndName(thing)
			differs := modelDiffers(fields, there)
			for _, f := range differs {
				top, _, _ := strings.Cut(f, ".")
				changed[top] = fields[top]
			}
			if modelKinds[kind].put && len(differs) > 0 {
				changed = fields
			}
			if len(differs) > 0 {
				h.set(thing, who, changed)
			}
		}
	}
	h.declared = want
	return "enact " + text
}

// planned words the steps of a plan as the model does.
func planned(plan map[string]any) (out []string) {
	for _, x := range plan["steps"].([]any) {
		s := x.(map[string]any)
		line := fmt.Sprint(s["do"], " ", s["kind"], " | ", s["name"])
		if s["do"] == "change" {
			var fields []string
			for _, c := range s["changes"].([]any) {
				fields = append(fields, c.(map[string]any)["field"].(string))
			}
			slices.Sort(fields)
			line += ": " + strings.Join(fields, " ")
		}
		out = append(out, line)
	}
	slices.Sort(out)
	return out
}

// drifted words what the service says of the charter as the model does.
func (h *charterHouse) drifted() (out []string) {
	st, d := h.people[harness.Key].ask("GET", "/api/v1/charters/model/drift", nil)
	if st != 200 {
		h.t.Fatalf("%d %v", st, d)
	}
	text := func(m any, name string) string {
		x, _ := m.(map[string]any)
		s, _ := x[name].(string)
		return s
	}
	for _, x := range d["differs"].([]any) {
		s := x.(map[string]any)
		thing := fmt.Sprint(s["kind"], " | ", s["name"])
		if s["do"] == "make" {
			out = append(out, thing+" is not there: "+text(s, "by"))
			continue
		}
		by, _ := s["fields"].(map[string]any)
		for _, c := range s["changes"].([]any) {
			f := c.(map[string]any)["field"].(string)
			out = append(out, thing+" "+f+": "+text(by[f], "by"))
		}
	}
	slices.Sort(out)
	return out
}

// TestChartersAgainstAModel draws things, has two people change them beside the charter and enact
// other ones, and compares each plan and each drift, with who did it, to a plain model.
func TestChartersAgainstAModel(t *testing.T) {
	for _, seed := range harness.Seeds(t, 2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { chartersAgainstModel(t, seed) })
	}
}

func chartersAgainstModel(t *testing.T, seed uint64) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	s.NewKey("seed-lab", "other", access.Administrator, nil)
	foreign, _ := harness.Standin(t, standin.Faults{})
	h := &charterHouse{charterModel: &charterModel{there: map[string]modelThing{}}, t: t,
		r: rand.New(rand.NewPCG(seed, seed)), s: s, people: map[string]*person{}, target: foreign.URL, volumes: t.TempDir()}
	clerk := s.NewKey("herbarium", "clerk", access.Administrator, nil)
	for _, in := range []map[string]string{{"key": harness.Key, "secret": harness.Secret}, {"key": clerk.ID,
		"secret": clerk.Secret}} {
		p := newPerson(t, s)
		p.signInAs(in)
		h.people[in["key"]] = p
	}
	h.must(harness.Key, "PATCH", "/api/v1/keys/"+clerk.ID, map[string]any{"operator": true})
	for _, name := range []string{"standing", "other"} {
		h.must(harness.Key, "POST", "/api/v1/buckets", map[string]any{"name": name, "versioning": "on"})
	}
	done := []string{h.enact(harness.Key)}
	for range 60 {
		who := []string{harness.Key, clerk.ID}[h.r.IntN(2)]
		if h.r.IntN(8) == 0 {
			done = append(done, who+" "+h.enact(who))
		} else {
			done = append(done, who+" "+h.change(who))
		}
		if got, want := h.drifted(), h.drift(); !slices.Equal(got, want) {
			t.Fatalf("after\n%s\nit says\n%s\nnot\n%s", strings.Join(done, "\n"), strings.Join(got, "\n"),
				strings.Join(want, "\n"))
		}
	}
}
