package lifecycle

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
)

var tiers = tier.Set{{ID: 0, Name: "main", Price: 20_000}, {ID: 1, Name: "drying-room", Price: 8_000},
	{ID: 2, Name: "cellar", Price: 1_000}, {ID: 3, Name: "ice", Price: 90_000}}

func days(n int) *int { return &n }

func complaintsOf(err error) (out []string) {
	if err == nil {
		return nil
	}
	for _, e := range err.(interface{ Unwrap() []error }).Unwrap() {
		f := fault.From(e)
		out = append(out, f.Field+" "+f.Code)
	}
	return out
}

// TestAllComplaintsAtOnce wants each fault of a rule with its field.
func TestAllComplaintsAtOnce(t *testing.T) {
	size := func(n int64) *int64 { return &n }
	for _, x := range []struct {
		form Form
		want string
	}{
		{Form{}, "name rule-name; actions actions-none"},
		{Form{Name: "old/plates", Actions: []ActionForm{{Of: "current", Do: "remove"}}},
			"name rule-name; actions[0].days action-when"},
		{Form{Name: "a", Scope: ScopeForm{Prefix: "plates/*", Like: []string{"", `x\`}, Tags: map[string]string{"": "x"},
			SizeFrom: size(-1), SizeTo: size(-2)}, Actions: []ActionForm{{Of: "all", Do: "remove", Days: days(1)}}},
			"scope.prefix prefix-wildcard; scope.like[0] pattern; scope.like[1] pattern; scope.tags tag-name; " +
				"scope.sizeFrom size; scope.sizeTo size; scope.sizeTo size; actions[0].of action-of"},
		{Form{Name: "a", Actions: []ActionForm{{Of: "current", Do: "move", To: "attic", Days: days(1), Date: "2027-01-01"},
			{Of: "uploads", Do: "move", To: "cellar", Days: days(0)}, {Of: "current", Do: "burn", Date: "tomorrow", Keep: 3},
			{Of: "previous", Do: "remove", To: "cellar", Days: days(-1), Keep: -1}}},
			"actions[0].to tier-missing; actions[0].days action-when; actions[1].do action-do; actions[1].days action-days; " +
				"actions[2].do action-do; actions[2].date action-date; actions[2].keep action-keep; actions[3].to action-to; " +
				"actions[3].days action-days; actions[3].keep action-keep"},
		{Form{Name: "a", Actions: []ActionForm{{Of: "current", Do: "move", To: "cellar", Days: days(730)},
			{Of: "current", Do: "remove", Days: days(600)}, {Of: "current", Do: "remove", Date: "2030-01-01"}}},
			"actions[1].days remove-before-move; actions[2].do action-twice"},
		{Form{Name: "a", Actions: []ActionForm{{Of: "current", Do: "move", To: "cellar", Days: days(30)},
			{Of: "current", Do: "move", To: "drying-room", Days: days(60)}, {Of: "current", Do: "move", To: "ice",
				Days: days(60)}}},
			"actions[1].to move-dearer; actions[2].to move-dearer; actions[2].days move-at-once; actions[2].to move-dearer"},
		{Form{Name: "a", Scope: ScopeForm{SizeFrom: size(1)}, Actions: []ActionForm{{Of: "markers", Do: "remove",
			Days: days(0)},
			{Of: "uploads", Do: "remove", Days: days(7)}}}, "actions[0].of scope-content; actions[1].of scope-content"},
		{Form{Name: "a", Scope: ScopeForm{Prefix: "x*", Literal: true}, Actions: []ActionForm{
			{Of: "current", Do: "move", To: "ice", Days: days(1), Dearer: true}, {Of: "uploads", Do: "remove", Days: days(7)},
			{Of: "previous", Do: "remove", Days: days(0), Keep: 2}, {Of: "markers", Do: "remove", Days: days(0)}}}, ""},
	} {
		_, err := Parse(x.form, tiers)
		if got := strings.Join(complaintsOf(err), "; "); got != x.want {
			t.Errorf("%+v:\n got %s\nwant %s", x.form, got, x.want)
		}
	}
}

func set(t *testing.T, forms ...Form) *Set {
	t.Helper()
	s, err := NewSet(forms, tiers)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func ago(n int) time.Time { return noon.Add(time.Duration(-n) * Day) }

// TestWhichRuleWins goes through the table of doc.go.
func TestWhichRuleWins(t *testing.T) {
	move := func(to string, n int) ActionForm { return ActionForm{Of: "current", Do: "move", To: to, Days: days(n)} }
	remove := func(n int) ActionForm { return ActionForm{Of: "current", Do: "remove", Days: days(n)} }
	rule := func(name string, a ...ActionForm) Form { return Form{Name: name, Actions: a} }
	up := move("main", 10)
	date := ActionForm{Of: "current", Do: "remove", Date: "2026-11-21"} // half a day before ago(5)
	up.Dearer = true
	for _, x := range []struct {
		name  string
		rules []Form
		age   int
		tier  int16
		want  string
	}{
		{"nothing due", []Form{rule("a", remove(10))}, 9, 0, ""},
		{"due to the moment", []Form{rule("a", remove(10))}, 10, 0, "a remove"},
		{"a removal before any move", []Form{rule("a", move("cellar", 1)), rule("b", remove(9))}, 20, 0, "b remove"},
		{"the earlier removal", []Form{rule("a", remove(9)), rule("b", remove(5))}, 20, 0, "b remove"},
		{"of the same day the name", []Form{rule("b", date), rule("a", remove(15))}, 20, 0, "a remove"},
		{"a date of an earlier day", []Form{rule("b", date), rule("a", remove(16))}, 20, 0, "b remove"},
		{"a rule's own course", []Form{rule("a", move("drying-room", 1), move("cellar", 9))}, 20, 0, "a cellar"},
		{"not back", []Form{rule("a", move("drying-room", 1), move("cellar", 9))}, 20, 2, ""},
		{"the cheaper tier", []Form{rule("a", move("drying-room", 1)), rule("b", move("cellar", 9))}, 20, 1, "b cellar"},
		{"of two to one tier the earlier", []Form{rule("a", move("cellar", 9)), rule("b", move("cellar", 1))}, 20, 0,
			"b cellar"},
		{"then the name", []Form{rule("b", move("cellar", 1)), rule("a", move("cellar", 1))}, 20, 0, "a cellar"},
		{"never up", []Form{rule("a", move("drying-room", 1))}, 20, 2, ""},
		{"up when it says so", []Form{rule("a", up)}, 20, 2, "a main"},
		{"what is off does nothing", []Form{{Name: "a", Off: true, Actions: []ActionForm{remove(1)}}}, 20, 0, ""},
	} {
		s := set(t, x.rules...)
		got := ""
		if d := s.Due(Item{Mask: s.Mask(query.Object{Key: "k", Size: 1}), Since: ago(x.age), Tier: x.tier}, noon); d != nil {
			got = d.Rule.Name() + " remove"
			if d.Action.Move {
				got = d.Rule.Name() + " " + tiers.Name(d.Action.To)
			}
		}
		if got != x.want {
			t.Errorf("%s: %q, not %q", x.name, got, x.want)
		}
	}
}

// TestAKeyIsPlayed follows a key through a chain: removed, kept as a previous version,
// removed for good, and its marker after it.
func TestAKeyIsPlayed(t *testing.T) {
	s := set(t, Form{Name: "a", Actions: []ActionForm{{Of: "current", Do: "move", To: "cellar", Days: days(10)},
		{Of: "current", Do: "remove", Days: days(20)}, {Of: "previous", Do: "remove", Days: days(5), Keep: 1},
		{Of: "markers", Do: "remove", Days: days(0)}}},
		Form{Name: "b", Actions: []ActionForm{{Of: "previous", Do: "remove", Days: days(30)}}})
	m := s.Mask(query.Object{Key: "k", Size: 1})
	k := Key{Mask: s.KeyMask("k"), Versions: []Version{{Number: 3, Created: ago(8), Mask: m},
		{Number: 2, Created: ago(90), Replaced: ago(8), Mask: m}, {Number: 1, Created: ago(99), Replaced: ago(90), Mask: m}}}
	var got []string
	s.Play(k, object.On, noon, 90, func(o Outcome) {
		got = append(got, fmt.Sprint(o.Day, " ", o.Version.Number, " ", o.Due.Rule.Name(), " ", o.Due.Action.Of))
	})
	want := []string{"0 1 a previous", "2 3 a current", "12 3 a current", "12 2 a previous", "42 3 b previous",
		"42 0 a markers"}
	// On the day of its removal version 3 becomes the newest previous one, and 2 is no longer kept.
	if !reflect.DeepEqual(got, want) {
		t.Errorf("played: %q", got)
	}
	got, k.Versions = nil, k.Versions[:1]
	s.Play(k, object.Off, noon, 15, func(o Outcome) { got = append(got, fmt.Sprint(o.Day, " ", o.Version.Number)) })
	if len(got) != 2 {
		t.Errorf("without versioning: %q", got)
	}
	if list := s.Coming(Item{Mask: m, Since: ago(8)},
		noon); len(list) != 2 || list[0].At != ago(-2) || list[1].At != ago(-12) {
		t.Errorf("to come: %v", list)
	}
}

func TestSetsOfRules(t *testing.T) {
	one := Form{Name: "a", Actions: []ActionForm{{Of: "current", Do: "remove", Days: days(1)}}}
	_, err := NewSet([]Form{one, one, {Name: "b"}}, tiers)
	if !fault.HasCode(err, "rule-twice") || !errors.Is(err, fault.New(fault.Invalid, "actions-none", "")) {
		t.Errorf("%v", err)
	}
	if _, err := NewSet(make([]Form, MaxRules+1), tiers); !fault.HasCode(err, "rules-many") {
		t.Errorf("too many: %v", err)
	}
}
