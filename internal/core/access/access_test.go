package access

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
)

var now = time.Date(2026, 11, 20, 14, 0, 0, 0, time.UTC)

// TestDecisionsAsAFullMatrix asks every right for every subject, owner, limit,
// grant, scope and expiry, and compares with the rules written down again, as
// plainly as can be.
func TestDecisionsAsAFullMatrix(t *testing.T) {
	limits := [][]Scope{nil, {{Bucket: "plates"}}, {{Bucket: "plates", Prefix: "2019/"}}, {{Bucket: "loans"}}}
	tos := []Grantee{{ToAnyone, ""}, {ToAccount, "seed-lab"}, {ToAccount, "herbarium"}, {ToPerson, "Ines Varga"},
		{ToKey, "scanner-2"}, {ToKey, "other"}}
	asked := 0
	for _, kind := range []SubjectKind{Anyone, Key, Person} {
		for _, account := range []string{"herbarium", "seed-lab"} {
			for role := None; role <= Administrator; role++ {
				for _, operator := range []bool{false, true} {
					for _, limit := range limits {
						s := Subject{Kind: kind, Name: map[SubjectKind]string{Key: "scanner-2", Person: "Ines Varga"}[kind],
							Account: account, Role: role, Operator: operator, Limits: limit}
						if kind == Anyone {
							s = Subject{}
						}
						if kind != Key && limit != nil {
							continue
						}
						for _, to := range tos {
							for _, rights := range []Rights{0, List | Read, List | Write, Settings, All} {
								for _, prefix := range []string{"", "2019/"} {
									for _, expires := range []time.Time{{}, now.Add(time.Hour), now} {
										g := Grant{ID: 7, Scope: Scope{"plates", prefix}, To: to, Rights: rights, Expires: expires}
										book := NewBook([]Grant{g, {ID: 8, Scope: Scope{"loans", ""}, To: to, Rights: All}})
										for _, target := range []Target{{Bucket: "plates", Owner: "herbarium"},
											{Bucket: "plates", Owner: "herbarium", Key: "2019/x"}, {Bucket: "plates", Owner: "herbarium", Key: "2020/x"},
											{Bucket: "plates", Owner: "herbarium", Some: true}} {
											for _, do := range []Rights{List, Read, Write, Remove, Settings} {
												asked++
												d := Decide(s, do, target, book, now)
												if want := plainly(s, do, target, g); d.Allowed != want {
													t.Fatalf("%+v %s %+v with %+v: %+v, want %v", s, do, target, g, d, want)
												}
												if d.Why == "" || !d.Allowed && d.Remedy == "" {
													t.Fatalf("no reason: %+v", d)
												}
											}
										}
									}
								}
							}
						}
					}
				}
			}
		}
	}
	t.Logf("%d decisions", asked)
}

// plainly is the rules again.
func plainly(s Subject, do Rights, t Target, g Grant) bool {
	inside := func(sc Scope) bool {
		return sc.Bucket == t.Bucket && (t.Some || len(t.Key) >= len(sc.Prefix) && t.Key[:len(sc.Prefix)] == sc.Prefix)
	}
	holds := (g.Expires.IsZero() || g.Expires.After(now)) && inside(g.Scope) && g.Rights&do != 0
	if holds && g.To.Kind == ToAnyone {
		return true
	}
	if s.Kind == Anyone {
		return false
	}
	if len(s.Limits) > 0 && !inside(s.Limits[0]) {
		return false
	}
	byRole := map[Role]Rights{Reader: 3, Writer: 15, Administrator: 31}[s.Role]&do != 0
	switch {
	case s.Operator, s.Account == "herbarium" && byRole:
		return true
	case !holds:
		return false
	case g.To.Kind == ToAccount:
		return g.To.Name == s.Account && byRole
	}
	return g.To.Name == s.Name && (g.To.Kind == ToKey) == (s.Kind == Key)
}

func TestRefusalsNameWhatIsMissing(t *testing.T) {
	lab := Subject{Kind: Key, Name: "mill-writer", Account: "seed-lab", Role: Reader}
	plates := Target{Bucket: "plates", Owner: "herbarium", Key: "2019/x"}
	for name, c := range map[string]struct {
		s      Subject
		do     Rights
		grants []Grant
		says   string
		remedy string
		grant  int64
	}{
		"nothing granted": {lab, Read, nil,
			"no grant lets the key mill-writer read plates/2019/x, which belongs to another account",
			`grant "read from" on plates/2019/x to account seed-lab or key mill-writer`, 0},
		"too weak a role": {Subject{Kind: Key, Name: "k", Account: "herbarium", Role: Reader}, Write, nil,
			"is a reader in the account herbarium, which may not write", "whose role is writer", 0},
		"expired": {lab, Read, []Grant{{ID: 3, Scope: Scope{Bucket: "plates"}, To: Grantee{ToAccount, "seed-lab"},
			Rights: List | Read, Expires: now.Add(-time.Hour)}}, "grant 3 would allow it, and expired on 2026-11-20 13:00 UTC",
			"extend grant 3", 3},
		"another prefix": {lab, Read, []Grant{{ID: 4, Scope: Scope{"plates", "2020/"}, To: Grantee{ToKey, "mill-writer"},
			Rights: List | Read}}, "read from plates/2020/ only", "beneath plates/2020/", 4},
		"another right": {lab, Remove, []Grant{{ID: 5, Scope: Scope{Bucket: "plates"},
			To: Grantee{ToKey, "mill-writer"}, Rights: List | Write}},
			"grant 5 lets key mill-writer write into plates, which does not include remove", `grant "replicate into" as well`,
			5},
		"the role is less": {lab, Write, []Grant{{ID: 6, Scope: Scope{Bucket: "plates"},
			To: Grantee{ToAccount, "seed-lab"}, Rights: List | Write}}, "is only a reader there", "to key mill-writer itself",
			6},
		"beyond its limits": {Subject{Kind: Key, Name: "k", Account: "herbarium", Role: Administrator,
			Limits: []Scope{{"loans", ""}}}, Read, nil, "the key k is limited to loans", "add plates/2019/x to the key's limits",
			0},
		"signed by nobody": {Subject{}, Read, nil, "the request is not signed", "sign it", 0},
		"many limits, in few": {Subject{Kind: Key, Name: "k",
			Limits: []Scope{{"a", ""}, {"b", ""}, {"c", ""}, {"d", ""}, {"e", ""}}}, Read, nil, "a, b, c, 2 more", "", 0},
	} {
		d := Decide(c.s, c.do, plates, NewBook(c.grants), now)
		if d.Allowed || !strings.Contains(d.Why, c.says) || !strings.Contains(d.Remedy, c.remedy) || d.Grant != c.grant {
			t.Errorf("%s: %+v", name, d)
		}
		if f := fault.From(d.Refused()); f.Kind != fault.Refused || f.Code != "not-allowed" || f.Message != d.Why {
			t.Errorf("%s as an error: %+v", name, f)
		}
	}
}

func TestWordsOfAccess(t *testing.T) {
	for in, want := range map[string]Rights{"read from": 3, "read-from": 3, "write into": 5, "replicate-into": 15,
		"administer": 31, "list": 1, "list, remove": 9, "read,write": 6} {
		if got, err := ParseRights(in); err != nil || got != want {
			t.Errorf("%q: %s, %v", in, got, err)
		}
		if again, err := ParseRights(want.Purpose()); err != nil || again != want {
			t.Errorf("%q: %q came back as %s, %v", in, want.Purpose(), again, err)
		}
	}
	for _, bad := range []string{"", "reads", "read from,list", "list,,read", "everything"} {
		if _, err := ParseRights(bad); !fault.HasCode(err, "rights") {
			t.Errorf("%q: %v", bad, err)
		}
	}
	for in, want := range map[string]Role{"reader": Reader, "read": Reader, "read-and-write": Writer,
		"administer": Administrator, "administrator": Administrator} {
		if got, err := ParseRole(in); err != nil || got != want {
			t.Errorf("%q: %s, %v", in, got, err)
		}
	}
	if _, err := ParseRole("operator"); !fault.HasCode(err, "role") {
		t.Error(err)
	}
	for in, want := range map[string]Grantee{"anyone": {}, "account:seed-lab": {ToAccount, "seed-lab"},
		"person Ines Varga": {ToPerson, "Ines Varga"}, "key:K1": {ToKey, "K1"}} {
		if got, err := ParseGrantee(in); err != nil || got != want {
			t.Errorf("%q: %v, %v", in, got, err)
		}
	}
	for _, bad := range []string{"", "account:", "account", "anyone:x", "bucket:plates", ":x"} {
		if _, err := ParseGrantee(bad); !fault.HasCode(err, "grantee") {
			t.Errorf("%q: %v", bad, err)
		}
	}
	for code, g := range map[string]Grant{"rights": {}, "grant-anyone": {Rights: List | Write},
		"grant-settings": {Rights: All, To: Grantee{ToKey, "k"}, Scope: Scope{"plates", "2019/"}},
		"":               {Rights: List | Read}} {
		if err := g.Check(); code == "" && err != nil || code != "" && !fault.HasCode(err, code) {
			t.Errorf("%+v: %v, want %q", g, err, code)
		}
	}
}

func TestWhoAdministersAndSees(t *testing.T) {
	admin := Subject{Kind: Key, Name: "k", Account: "herbarium", Role: Administrator}
	limited, reader, operator := admin, admin, Subject{Kind: Person, Name: "Oda Brandvold", Operator: true}
	limited.Limits, reader.Role = []Scope{{"plates", ""}}, Reader
	for i, c := range []struct {
		s    Subject
		of   string
		want bool
	}{{admin, "herbarium", true}, {admin, "seed-lab", false}, {limited, "herbarium", false}, {reader, "herbarium", false},
		{operator, "seed-lab", true}, {Subject{}, "", false}} {
		if got := c.s.Administers(c.of); got != c.want {
			t.Errorf("%d: %v", i, got)
		}
	}
	var many []Grant
	for i := range 100 {
		many = append(many, Grant{ID: int64(i), Scope: Scope{Bucket: fmt.Sprintf("b%d", i%10)},
			To: Grantee{ToKey, fmt.Sprint(i)}, Rights: List})
	}
	many = append(many, Grant{ID: 100, Scope: Scope{Bucket: "b3"}, Rights: List},
		Grant{ID: 101, Scope: Scope{Bucket: "b4"}, To: Grantee{ToAccount, "herbarium"}, Rights: List},
		Grant{ID: 102, Scope: Scope{Bucket: "b5"}, To: Grantee{ToKey, "k"}, Rights: List, Expires: now})
	book := NewBook(many)
	if got := book.Buckets(admin, now); !slices.Equal(got, []string{"b4"}) {
		t.Errorf("sees %v", got)
	}
	on := book.On("b3")
	if len(on) != 11 || on[0].ID != 100 || on[1].ID != 3 || on[10].ID != 93 {
		t.Errorf("on b3: %v", on)
	}
}

func TestPlacesThatMayBeListed(t *testing.T) {
	k := Subject{Kind: Key, Name: "k", Account: "seed-lab", Role: Reader}
	limited := Subject{Kind: Key, Name: "l", Account: "herbarium", Role: Writer,
		Limits: []Scope{{"plates", "2025/"}, {"plates", "2024/x"}, {"loans", ""}}}
	book := NewBook([]Grant{
		{ID: 1, Scope: Scope{"plates", "2025/"}, To: Grantee{ToKey, "k"}, Rights: List},
		{ID: 2, Scope: Scope{"plates", "2025/moorland/"}, To: Grantee{ToAccount, "seed-lab"}, Rights: List},
		{ID: 3, Scope: Scope{"plates", "2023/"}, To: Grantee{ToAccount, "seed-lab"}, Rights: Write},
		{ID: 4, Scope: Scope{"plates", "open/"}, Rights: List | Read},
		{ID: 5, Scope: Scope{"plates", "2022/"}, To: Grantee{ToKey, "k"}, Rights: List, Expires: now},
	})
	for s, want := range map[*Subject][]string{&k: {"2025/", "open/"}, &limited: {"2024/x", "2025/", "open/"},
		{}: {"open/"}} {
		if got := Places(*s, "plates", "herbarium", book, now); !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", s, got, want)
		}
	}
}
