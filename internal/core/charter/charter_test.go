package charter

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

var order = []string{"bucket", "rule", "job"}

func thing(kind, name, fields string) Thing {
	t := Thing{Kind: kind, Name: name}
	if err := json.Unmarshal([]byte(fields), &t.Fields); err != nil {
		panic(err)
	}
	return t
}

func words(steps []Step) string {
	var out []string
	for _, s := range steps {
		w := s.Words()
		for _, c := range s.Changes {
			if s.Do == Change {
				w += fmt.Sprintf(" %s %v>%v", c.Field, c.From, c.To)
			}
		}
		out = append(out, w)
	}
	return strings.Join(out, "; ")
}

func TestCompare(t *testing.T) {
	plates := thing("bucket", "plates", `{"versioning":"on","tags":{"kind":"scan"}}`)
	out := thing("rule", "out", `{"from":"plates"}`)
	nightly := thing("job", "nightly", `{"from":"plates"}`)
	there := func(list ...Thing) []Thing { return list }
	for _, x := range []struct {
		name                    string
		declared, before, there []Thing
		whole                   []string
		want                    string
	}{
		{"all is new, in the order of kinds", there(nightly, out, plates), nil, nil, nil,
			"make the bucket plates; make the rule out; make the job nightly"},
		{"all is as declared", there(plates), there(plates), there(plates), nil, ""},
		{"what is not declared of a thing is left alone", there(plates), nil,
			there(thing("bucket", "plates", `{"versioning":"on","tags":{"kind":"scan"},"quota":7}`)), nil, ""},
		{"what is declared is all of it", there(plates), nil,
			there(thing("bucket", "plates", `{"versioning":"off","tags":{"kind":"map","old":"yes"}}`)), nil,
			"change the bucket plates tags.kind map>scan tags.old yes><nil> versioning off>on"},
		{"others are left alone", there(plates), nil, there(plates, out), nil, ""},
		{"what was declared before goes", there(plates), there(plates, out), there(plates, out), nil, "remove the rule out"},
		{"what was declared and went is gone", there(plates), there(plates, out), there(plates), nil, ""},
		{"the whole is claimed", there(plates), nil, there(plates, out, nightly, thing("bucket", "loans", `{}`)),
			[]string{"bucket", "job"},
			"remove the job nightly; remove the bucket loans"},
		{"empty is absent", there(thing("job", "nightly", `{"like":[],"note":"","on":false,"n":0}`)), nil,
			there(thing("job", "nightly", `{}`)), nil, ""},
	} {
		if got := words(Compare(order, x.declared, x.before, x.there, x.whole)); got != x.want {
			t.Errorf("%s: %q, not %q", x.name, got, x.want)
		}
	}
	if got := words(Retire(order, there(plates, out), there(nightly, plates,
		out))); got != "remove the rule out; remove the bucket plates" {
		t.Errorf("retired: %q", got)
	}
}

// Lists of things with names differ by name, others as a whole.
func TestDifferences(t *testing.T) {
	want := thing("", "", `{"rules":[{"name":"a","days":9},{"name":"b"}],"like":["x","y"]}`).Fields
	have := thing("", "", `{"rules":[{"name":"b"},{"name":"a","days":8},{"name":"c"}],"like":["y","x"]}`).Fields
	got := fmt.Sprint(Differences(want, have))
	if got != "[{like [y x] [x y]} {rules.a.days 8 9} {rules.c map[name:c] <nil>}]" {
		t.Errorf("%s", got)
	}
	if d := Differences(want, want); len(d) != 0 {
		t.Errorf("from itself: %v", d)
	}
}
