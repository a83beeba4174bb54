package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

// charterKind is a kind of thing that charters declare, and how the desk's calls read and
// change it.
type charterKind struct {
	kind    string                                  // for people, in one word or two
	section string                                  // of a charter
	oper    bool                                    // only operators see and change it; no charter claims the whole of it
	list    string                                  // the call that lists it
	in      string                                  // where in its answer
	fields  []string                                // of what is listed, those that can be declared
	put     bool                                    // it is written whole, under its name
	once    []string                                // fields that are said when a thing is made, and not compared
	drop    func(s *charter.Step) []middle.DeskCall // what takes it away; nil: DELETE
	blank   string                                  // field without which what is listed is not there
	of      string                                  // field with the account that owns it; "": the list has one's own only

	name  func(map[string]any) string                                    // of what is listed or declared; nil: its name
	ref   string                                                         // field by which calls know it; "": by its name
	more  func(d *Desk, ctx context.Context, list []charter.Thing) error // reads what the list does not tell
	calls func(s *charter.Step, fields map[string]any) []middle.DeskCall // what makes or changes it; nil: POST and PATCH
}

// charterKinds are all of them, in an order in which they can be made.
var charterKinds = []charterKind{
	{kind: "account", section: "accounts", oper: true, list: "/accounts", in: "accounts",
		fields: []string{"note", "quota", "maxBuckets"}},
	{kind: "endpoint", section: "endpoints", list: "/endpoints", in: "endpoints", once: []string{"secret"},
		fields: []string{"url", "region", "style", "key", "note", "bandwidth", "bucket"}},
	{kind: "tier", section: "tiers", oper: true, list: "/tiers", in: "tiers",
		fields: []string{"note", "volumes", "copies", "pieces", "packed", "sealed", "price", "requests", "shortestStay",
			"restore"}},
	{kind: "placement", section: "placements", oper: true, list: "/placements", in: "placements",
		fields: []string{"tier", "sealing", "everyone", "accounts", "note"}},
	{kind: "account's placement", section: "account-placements", oper: true, list: "/accounts", in: "accounts",
		blank: "placement", fields: []string{"placement", "placementFixed"}, calls: accountPlaced,
		drop: func(s *charter.Step) []middle.DeskCall {
			return accountPlaced(s, map[string]any{"placement": "none", "placementFixed": false})
		}},
	{kind: "bucket", section: "buckets", list: "/buckets", in: "buckets", of: "account", more: bucketMore,
		calls:  bucketCalls,
		fields: []string{"versioning", "quota", "tags", "placement", "sealing", "tier", "required", "journal"}},
	{kind: "key", section: "keys", list: "/keys", in: "keys", of: "account", ref: "id",
		fields: []string{"note", "role", "operator", "limits", "rate", "expires", "active"}, calls: keyCalls},
	{kind: "grant", section: "grants", list: "/grants", in: "grants", of: "account", ref: "id", name: grantName,
		fields: []string{"bucket", "prefix", "to", "for", "expires", "note"}, calls: grantCalls},
	{kind: "replication rule", section: "replication", list: "/replications", in: "replications",
		once: []string{"existing", "mend"},
		fields: []string{"bucket", "prefix", "on", "priority", "tags", "where", "deleteMarkers", "removals", "onward",
			"lagTarget", "targets"},
		calls: replicationCalls},
	{kind: "sync job", section: "sync", list: "/syncs", in: "syncs", fields: []string{"on", "from", "to", "mode", "note",
		"by", "like", "leaveOut",
		"sizeFrom", "sizeTo", "older", "newer", "links", "class", "sealed", "parallel", "guardShare", "guardMost", "schedule",
		"zone", "tags",
		"where", "bandwidth"}},
	{kind: "census", section: "census", list: "/censuses", in: "censuses",
		fields: []string{"on", "from", "to", "where", "columns", "format", "versions", "schedule", "zone", "note"}},
	{kind: "question", section: "finds", list: "/find/saved", in: "finds",
		fields: []string{"expression", "buckets", "versions"}, put: true},
	{kind: "journal filter", section: "journal-filters", list: "/journal/saved", in: "filters",
		fields: []string{"bucket", "prefix", "kinds", "who"}, put: true},
}

// charterOrder are the kinds, in an order in which they can be made.
var charterOrder = func() (out []string) {
	for _, k := range charterKinds {
		out = append(out, k.kind)
	}
	return out
}()

func kindNamed(kind string) *charterKind {
	i := slices.IndexFunc(charterKinds, func(k charterKind) bool { return k.kind == kind })
	return &charterKinds[i]
}

// things gives what there is of a kind in the account that one acts in.
func (k *charterKind) things(ctx context.Context, d *Desk) (out []charter.Thing, err error) {
	account := middle.Who(ctx).Subject.Account
	names := map[string]bool{}
	for after := ""; ; {
		q := url.Values{"limit": {"1000"}}
		if k.put { // those lists have one page
			q = url.Values{}
		} else if after != "" {
			q.Set("after", after)
		}
		var page map[string]any
		if err := d.Within(ctx, middle.DeskCall{Method: "GET", Path: k.list, Query: q}, &page); err != nil {
			return nil, err
		}
		list, _ := page[k.in].([]any)
		for _, x := range list {
			m, _ := x.(map[string]any)
			if m == nil || k.of != "" && m[k.of] != account || m["state"] == "replaced" {
				continue
			}
			t := k.thing(m)
			if k.blank != "" && t.Fields[k.blank] == nil {
				continue
			}
			if names[t.Name] { // an older one of the same name
				continue
			}
			names[t.Name] = true
			out = append(out, t)
		}
		if after, _ = page["next"].(string); after == "" {
			return out, nil
		}
	}
}

// thing reads one as it is listed.
func (k *charterKind) thing(m map[string]any) charter.Thing {
	t := charter.Thing{Kind: k.kind, Fields: map[string]any{}}
	t.Name, _ = m["name"].(string)
	if k.ref != "" {
		t.Ref = plainText(m[k.ref])
	}
	for _, f := range k.fields {
		if v, ok := m[f]; ok {
			t.Fields[f] = v
		}
	}
	if list, ok := t.Fields["volumes"].([]any); ok { // of a tier: they are told with the room they have
		for i, v := range list {
			dir, _ := v.(map[string]any)
			list[i] = dir["dir"]
		}
	}
	if k.kind == "grant" {
		t.Fields["to"] = strings.Replace(plainText(m["to"]), " ", ":", 1)
	}
	settleAll(k.kind, t.Fields, nil)
	if k.name != nil {
		t.Name = k.name(t.Fields)
	}
	return t
}

// plainText writes a text or a number as it stands in a path.
func plainText(v any) string {
	if f, ok := v.(float64); ok {
		return fmt.Sprintf("%.0f", f)
	}
	s, _ := v.(string)
	return s
}

// callsOf gives the calls that carry out a step.
func (k *charterKind) callsOf(s *charter.Step) []middle.DeskCall {
	one := k.list + "/" + url.PathEscape(s.Name)
	if s.There != nil && s.There.Ref != "" {
		one = k.list + "/" + url.PathEscape(s.There.Ref)
	}
	switch {
	case s.Do == charter.Remove && k.drop != nil:
		return k.drop(s)
	case s.Do == charter.Remove:
		return []middle.DeskCall{{Method: "DELETE", Path: one}}
	}
	if k.put {
		return []middle.DeskCall{{Method: "PUT", Path: one, Body: s.Want.Fields}}
	}
	fields := maps.Clone(s.Want.Fields)
	if s.Do == charter.Change {
		fields = changedOf(s)
		for _, f := range k.once {
			delete(fields, f)
		}
		volumesToAdd(s, fields)
	}
	if k.calls != nil {
		return k.calls(s, fields)
	}
	if s.Do == charter.Make {
		fields["name"] = s.Name
		return []middle.DeskCall{{Method: "POST", Path: k.list, Body: fields}}
	}
	return []middle.DeskCall{{Method: "PATCH", Path: one, Body: fields}}
}

// changedOf gives the declared fields in which something differs.
func changedOf(s *charter.Step) map[string]any {
	fields := map[string]any{}
	for _, c := range s.Changes {
		top, _, _ := strings.Cut(c.Field, ".")
		fields[top] = s.Want.Fields[top]
	}
	return fields
}

// bucketMore reads the lifecycle rules of buckets, which are of the account that one acts in and
// administers.
func bucketMore(d *Desk, ctx context.Context, list []charter.Thing) error {
	rules, err := d.Store.Catalog.RulesOfAccount(ctx, middle.Who(ctx).Subject.Account)
	if err != nil {
		return err
	}
	for i := range list {
		t := &list[i]
		here := []any{}
		if text := rules[t.Name]; text != nil {
			if err := json.Unmarshal(text, &here); err != nil {
				return err
			}
		}
		t.Fields["rules"] = here
		if t.Fields["journal"] == nil {
			t.Fields["journal"] = map[string]any{"days": 0.0, "paused": false}
		}
		settleAll(t.Kind, t.Fields, nil)
	}
	return nil
}

func bucketCalls(s *charter.Step, fields map[string]any) (calls []middle.DeskCall) {
	path := "/buckets/" + url.PathEscape(s.Name)
	rules, ruled := fields["rules"]
	delete(fields, "rules")
	if s.Do == charter.Make {
		first := map[string]any{"name": s.Name}
		for _, f := range []string{"quota", "versioning", "tags", "placement", "sealing", "tier"} {
			if v, ok := fields[f]; ok && v != nil {
				first[f] = v
			}
			delete(fields, f)
		}
		calls = append(calls, middle.DeskCall{Method: "POST", Path: "/buckets", Body: first})
	} else if want, ok := fields["tags"].(map[string]any); ok {
		have, _ := s.There.Fields["tags"].(map[string]any)
		unset := []string{}
		for name := range have {
			if _, stays := want[name]; !stays {
				unset = append(unset, name)
			}
		}
		fields["tags"] = map[string]any{"set": want, "unset": unset}
	}
	if len(fields) > 0 {
		calls = append(calls, middle.DeskCall{Method: "PATCH", Path: path, Body: fields})
	}
	if list, _ := rules.([]any); ruled && (s.Do != charter.Make || len(list) > 0) {
		calls = append(calls, middle.DeskCall{Method: "PUT", Path: path + "/lifecycle",
			Body: map[string]any{"rules": append([]any{}, list...)}})
	}
	return calls
}

func keyCalls(s *charter.Step, fields map[string]any) []middle.DeskCall {
	if s.Do == charter.Change {
		return []middle.DeskCall{{Method: "PATCH", Path: "/keys/" + url.PathEscape(s.There.Ref), Body: fields}}
	}
	fields["name"] = s.Name
	delete(fields, "active")
	return []middle.DeskCall{{Method: "POST", Path: "/keys", Body: fields}}
}

// accountPlaced says what buckets of an account have.
func accountPlaced(s *charter.Step, fields map[string]any) []middle.DeskCall {
	return []middle.DeskCall{{Method: "PATCH", Path: "/accounts/" + url.PathEscape(s.Name), Body: fields}}
}

// grantName names a grant by what it opens, and to whom.
func grantName(f map[string]any) string {
	return fmt.Sprintf("%s/%s to %s", plainText(f["bucket"]), plainText(f["prefix"]), plainText(f["to"]))
}

func grantCalls(s *charter.Step, fields map[string]any) []middle.DeskCall {
	if s.Do == charter.Make {
		return []middle.DeskCall{{Method: "POST", Path: "/grants", Body: fields}}
	}
	return []middle.DeskCall{{Method: "PATCH", Path: "/grants/" + s.There.Ref, Body: fields}}
}

func replicationCalls(s *charter.Step, fields map[string]any) []middle.DeskCall {
	if s.Do == charter.Make {
		fields["name"] = s.Name
		if fields["existing"] == nil {
			fields["existing"] = "leave"
		}
		return []middle.DeskCall{{Method: "POST", Path: "/replications", Body: fields}}
	}
	if v, ok := fields["lagTarget"]; ok && v == nil {
		delete(fields, "lagTarget")
		fields["noLagTarget"] = true
	}
	return []middle.DeskCall{{Method: "PATCH", Path: "/replications/" + url.PathEscape(s.Name), Body: fields}}
}

// cannot says why a step cannot be done, whatever one agrees to; "" when it can.
func cannot(ctx context.Context, s *charter.Step) string {
	switch {
	case s.Kind == "tier" && s.Do == charter.Change:
		want, _ := s.Want.Fields["volumes"].([]any)
		have, _ := s.There.Fields["volumes"].([]any)
		for _, v := range have {
			if s.Want.Fields["volumes"] != nil && !slices.Contains(want, v) {
				return "volumes are never taken away from a tier: declare " + plainText(v) + " too"
			}
		}
	case s.Kind == "placement" && s.Do == charter.Change && slices.ContainsFunc(s.Changes,
		func(c charter.FieldChange) bool { return c.Field == "tier" || c.Field == "sealing" }):
		return "what a placement is stays as it is, since buckets have it: give the other one another name"
	case s.Kind == "replication rule" && s.Do == charter.Change && slices.ContainsFunc(s.Changes,
		func(c charter.FieldChange) bool {
			return c.Field == "bucket"
		}):
		return "a rule stays with its bucket: give the other one another name"
	case s.Kind == "key" && s.Do == charter.Remove && s.There.Ref == middle.Who(ctx).Subject.Name:
		return "it is the key that you enact with"
	}
	return ""
}

// removable reports whether a charter may take a thing away at all.
func removable(s *charter.Step) bool {
	return s.Do != charter.Remove || s.Kind != "tier" || s.Name != "main"
}

// volumesToAdd leaves of a tier's declared volumes those that it does not have.
func volumesToAdd(s *charter.Step, fields map[string]any) {
	want, ok := fields["volumes"].([]any)
	if !ok || s.There == nil {
		return
	}
	have, _ := s.There.Fields["volumes"].([]any)
	fields["volumes"] = slices.DeleteFunc(slices.Clone(want), func(v any) bool { return slices.Contains(have, v) })
}

// secretsOf names where the secrets are that steps need; a charter that names none is told.
func secretOf(s *charter.Step) (ref string, err error) {
	if s.Kind != "endpoint" || s.Do == charter.Remove {
		return "", nil
	}
	asks := s.Do == charter.Make
	for _, c := range s.Changes {
		asks = asks || c.Field == "key" || c.Field == "url"
	}
	if !asks {
		return "", nil
	}
	m, _ := s.Want.Fields["secret"].(map[string]any)
	switch {
	case m["env"] != nil:
		return "env " + plainText(m["env"]), nil
	case m["file"] != nil:
		return "file " + plainText(m["file"]), nil
	}
	return "", fault.New(fault.Invalid, "charter-secret", "the endpoint %s needs the secret of its key",
		s.Name).In("endpoints." + s.Name).
		Do("say where it is: secret: {env: NAME}, or {file: PATH}")
}
