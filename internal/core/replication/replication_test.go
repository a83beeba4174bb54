package replication

import (
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
)

func scope(s string) query.Scope {
	w, err := query.ParseScope(s, time.Now(), query.Lasting)
	if err != nil {
		panic(err)
	}
	return w
}

func version(key string, number int64, revision int, tags object.Tags) *object.Version {
	return &object.Version{Key: object.MustKey(key), Number: number, Revision: revision, Tags: tags}
}

// What must be done at a target for a key as it is, by what is there.
func TestDecide(t *testing.T) {
	const here, there = "service-one/plates", "service-two/copies"
	came := Origin{Key: "a/k", Version: "1", Through: []string{there}}
	far := Origin{Key: "a/k", Version: "1", Through: []string{"service-six/plates"}}
	marker := &object.Version{Key: object.MustKey("a/k"), Number: 9, Marker: true}
	above := []*Rule{{Name: "first", Prefix: "a/", Tags: object.Tags{"kind": "scan"}}}
	for _, x := range []struct {
		name string
		rule Rule
		now  Now
		have Have
		want Deed
		why  string
	}{
		{"new", Rule{}, Now{Version: version("a/k", 7, 1, nil)}, Have{}, Copy, ""},
		{"there as it is", Rule{}, Now{Version: version("a/k", 7, 1, nil)}, Have{Number: 7, Revision: 1}, Nothing, ""},
		{"newer", Rule{}, Now{Version: version("a/k", 8, 1, nil)}, Have{Number: 7, Revision: 1}, Copy, ""},
		{"metadata", Rule{}, Now{Version: version("a/k", 7, 2, nil)}, Have{Number: 7, Revision: 1}, Annotate, ""},
		{"removed there, written again", Rule{}, Now{Version: version("a/k", 7, 1, nil)},
			Have{Number: 7, Revision: 1, Gone: true}, Copy, ""},
		{"another prefix", Rule{Prefix: "b/"}, Now{Version: version("a/k", 7, 1, nil)}, Have{}, Nothing, "begin with b/"},
		{"no tag", Rule{Tags: object.Tags{"kind": "scan"}}, Now{Version: version("a/k", 7, 1, nil)}, Have{}, Nothing,
			"no tag kind"},
		{"another tag", Rule{Tags: object.Tags{"kind": "scan"}}, Now{Version: version("a/k", 7, 1,
			object.Tags{"kind": "map"})},
			Have{}, Nothing, `is "map", not "scan"`},
		{"an expression", Rule{Where: scope("lacks tag kind")},
			Now{Version: version("a/k", 7, 1, object.Tags{"kind": "map"})},
			Have{}, Nothing, "not so that lacks tag kind"},
		{"an expression that holds", Rule{Where: scope("lacks tag kind")}, Now{Version: version("a/k", 7, 1, nil)}, Have{},
			Copy, ""},
		{"a rule goes before", Rule{Prefix: "a/"}, Now{Version: version("a/k", 7, 1, object.Tags{"kind": "scan"})}, Have{},
			Nothing, "the rule first"},
		{"a replica", Rule{}, Now{Version: version("a/k", 7, 1, nil), Origin: far}, Have{}, Nothing, "sends none on"},
		{"a replica travels on", Rule{Onward: true}, Now{Version: version("a/k", 7, 1, nil), Origin: far}, Have{}, Copy, ""},
		{"it came from there", Rule{Onward: true}, Now{Version: version("a/k", 7, 1, nil), Origin: came}, Have{}, Nothing,
			"came from there"},
		{"delete marker", Rule{Markers: true}, Now{Version: marker}, Have{Number: 7}, Remove, ""},
		{"delete marker, not along", Rule{Removals: true}, Now{Version: marker}, Have{Number: 7}, Nothing,
			"no delete markers"},
		{"removed", Rule{Removals: true}, Now{}, Have{Number: 7}, Remove, ""},
		{"removed, not along", Rule{Markers: true}, Now{}, Have{Number: 7}, Nothing, "no removals"},
		{"removed, and what is there is not known", Rule{Removals: true}, Now{}, Have{}, Remove, ""},
		{"delete marker over nothing", Rule{Markers: true}, Now{Version: marker}, Have{}, Nothing, "nothing to remove"},
		{"delete marker, a copy may be there", Rule{Markers: true}, Now{Version: marker, Before: version("a/k", 7, 1, nil)},
			Have{}, Remove, ""},
		{"delete marker over what was not meant", Rule{Markers: true, Prefix: "b/"},
			Now{Version: marker, Before: version("a/k", 7, 1, nil)}, Have{}, Nothing, "begin with b/"},
		{"delete marker that came from there", Rule{Markers: true}, Now{Version: marker, Origin: came}, Have{Number: 7},
			Nothing, "came from there"},
		{"accepted", Rule{}, Now{Version: version("a/k", 7, 1, nil)}, Have{Accepted: 7}, Nothing, "was accepted"},
		{"newer than what was accepted", Rule{}, Now{Version: version("a/k", 8, 1, nil)}, Have{Accepted: 7}, Copy, ""},
		{"removed there too", Rule{Removals: true}, Now{}, Have{Number: 7, Gone: true}, Nothing, ""},
	} {
		got := Decide(&x.rule, above, x.now, x.have, there)
		if got.Deed != x.want || !strings.Contains(got.Why, x.why) || x.why == "" && got.Why != "" {
			t.Errorf("%s: %+v; want %d, %q", x.name, got, x.want, x.why)
		}
	}
	full := Origin{Through: make([]string, maxThrough)}
	if got := Decide(&Rule{Onward: true}, nil, Now{Version: version("k", 1, 1, nil), Origin: full}, Have{},
		here); got.Deed != Nothing {
		t.Error("what came through many places goes on for ever")
	}
}

// The state that is told agrees with what would be done.
func TestStateOf(t *testing.T) {
	r := &Rule{First: 5, Prefix: "a/"}
	now := func(n int64) Now { return Now{Version: version("a/k", n, 1, nil)} }
	for _, x := range []struct {
		name string
		now  Now
		have Have
		w    Waiting
		want State
	}{
		{"waits", now(7), Have{}, Waiting{Is: true}, Pending},
		{"failed", now(7), Have{}, Waiting{Is: true, Attempts: 2}, Failed},
		{"done", now(7), Have{Number: 7, Revision: 1}, Waiting{}, Completed},
		{"not read yet", now(7), Have{}, Waiting{}, Pending},
		{"older than the rule", now(4), Have{}, Waiting{}, Outside},
		{"older, and copied", now(4), Have{Number: 4, Revision: 1}, Waiting{}, Completed},
		{"not meant", Now{Version: version("b/k", 7, 1, nil)}, Have{}, Waiting{}, Outside},
	} {
		if got, _ := StateOf(r, nil, x.now, x.have, x.w, ""); got != x.want {
			t.Errorf("%s: %s, want %s", x.name, got, x.want)
		}
	}
}

// Origins come back as they were, whatever keys have in them; what is none gives none.
func TestOrigins(t *testing.T) {
	v := &object.Version{Number: 0x51f, Created: time.Date(2026, 3, 1, 9, 0, 0, 123456000, time.UTC)}
	o := Origin{}.Onward("service-one/plates", "a;b,c/ü%", v)
	two := o.Onward("service-two/copies", "elsewhere", &object.Version{Number: 1})
	back := ParseOrigin(two.String())
	if back.Key != "a;b,c/ü%" || back.Version != v.ID().String() || !back.Written.Equal(v.Created) ||
		!back.Passed("service-one/plates") ||
		!back.Passed("service-two/copies") || back.Passed("service-two/plates") {
		t.Errorf("%q came back as %+v", two, back)
	}
	for _, s := range []string{"", ";;", "x;y;z", "service-one/plates", "service-one/plates;a", "service-one/pl ates;a;b",
		"service-one/plates;%zz;b", strings.Repeat("service-one/plates,", maxThrough) + "service-one/plates;a;b",
		strings.Repeat("x", 9000)} {
		if o := ParseOrigin(s); !o.IsZero() {
			t.Errorf("%.40q is an origin: %+v", s, o)
		}
	}
	if (Origin{}).String() != "" {
		t.Error("no origin has a text")
	}
}

func TestLags(t *testing.T) {
	var l Lags
	if l.Percentile(.99) != 0 || l.Within(time.Second) != 1 {
		t.Error("no lags have some")
	}
	for range 98 {
		l.Add(3 * time.Millisecond)
	}
	l.Add(2 * time.Second)
	l.Add(time.Hour)
	if p := l.Percentile(.5); p != 4*time.Millisecond {
		t.Errorf("half below %s", p)
	}
	if p := l.Percentile(.99); p != 2048*time.Millisecond {
		t.Errorf("99 percent below %s", p)
	}
	if p := l.Percentile(1); p < time.Hour || p > 2*time.Hour {
		t.Errorf("all below %s", p)
	}
	if w := l.Within(4 * time.Millisecond); w != .98 {
		t.Errorf("within 4 ms: %v", w)
	}
	l.Add(-time.Second) // a clock that goes back
	l.Add(1000 * 24 * time.Hour)
	if l.All() != 102 {
		t.Errorf("%d were counted", l.All())
	}
}

// All that is wrong with a rule is said at once, each by its field.
func TestCheck(t *testing.T) {
	good := Rule{Name: "out", Bucket: "plates", Priority: 1, Targets: []Target{{Bucket: "copies"}}}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	bad := Rule{Name: "No", Bucket: "plates", Prefix: "a*", Lag: Lag{Share: 2}, Tags: object.Tags{"": "x"},
		Targets: []Target{
			{Bucket: "plates"}, {Bucket: "x"}, {Bucket: "copies"}, {Bucket: "copies"}, {Endpoint: "annex", Bucket: "copies",
				Sealed: true}}}
	got := map[string]bool{}
	for _, f := range fault.All(bad.Check()) {
		got[f.Code] = true
		if f.Field == "" {
			t.Errorf("%s names no field", f.Code)
		}
	}
	for _, code := range []string{"rule-name", "rule-priority", "prefix-wildcard", "lag-target", "tag-name",
		"target-source",
		"bucket-name", "target-twice", "target-sealing"} {
		if !got[code] {
			t.Errorf("%s is not said", code)
		}
	}
	words := (&Rule{Bucket: "plates", Prefix: "2026/", Tags: object.Tags{"kind": "scan"}, Markers: true, Targets: []Target{
		{Bucket: "copies", Class: "cold"}, {Bucket: "notes", Endpoint: "annex", Prefix: "fenn/"}}}).Words()
	if words != "New and changed objects of plates beneath 2026/ with the tags kind=scan are copied to copies in the tier cold "+
		"and notes beneath fenn/ at annex. Delete markers go along; removals that leave nothing do not. What came here as a "+
		"replica stays here." {
		t.Errorf("in words: %s", words)
	}
}

// Of two states of a key the one that was written later stays, wherever they meet.
func TestJudge(t *testing.T) {
	const here, there = "service-one/plates", "service-two/copies"
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	late := at.Add(24 * time.Hour) // arrived
	from := func(place string, written time.Time) string {
		return Origin{Key: "k", Version: "1", Through: []string{place}, Written: written}.String()
	}
	comes := ParseOrigin(from(here, at))
	for _, x := range []struct {
		name          string
		there, before *object.Version
		want          Verdict
	}{
		{"nothing", nil, nil, Absent},
		{"written before", &object.Version{Created: at.Add(-time.Second)}, nil, Older},
		{"written after", &object.Version{Created: at.Add(time.Second)}, nil, Newer},
		{"its metadata changed after", &object.Version{Created: at.Add(-time.Second), Changed: at.Add(time.Second)}, nil,
			Newer},
		{"at the same moment, by one that sorts later", &object.Version{Created: at}, nil, Newer},
		{"ours", &object.Version{Created: late, Origin: from(here, at.Add(time.Hour))}, nil, Own},
		{"a replica of something later", &object.Version{Created: late, Origin: from("service-six/plates", at.Add(1))}, nil,
			Newer},
		{"a replica of something earlier", &object.Version{Created: late, Origin: from("service-six/plates", at.Add(-1))},
			nil,
			Older},
		{"it claims the year 2999", &object.Version{Created: at.Add(-time.Second),
			Origin: from("service-six/plates", at.AddDate(973, 0, 0))}, nil, Older},
		{"removed after", &object.Version{Marker: true, Created: at.Add(time.Second)}, &object.Version{}, Newer},
		{"removed before", &object.Version{Marker: true, Created: at.Add(-time.Second)}, &object.Version{}, Older},
		{"nothing was removed", &object.Version{Marker: true, Created: at.Add(time.Second)}, nil, Absent},
	} {
		if got := Judge(comes, there, x.there, x.before); got != x.want {
			t.Errorf("%s: %s, want %s", x.name, got, x.want)
		}
	}
}
