package access

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/desk/middle"
)

func (d *Desk) trailCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Admin: true}, "list-trail", "GET /trail", "access",
		"The audit trail, latest first: sign-ins, changes of access and settings, refusals", d.listTrail)
	middle.Call(to, middle.Rule{}, "explain-access", "POST /access/explain", "access",
		"Say whether a key, a person or anyone may do something, and why", d.explainAccess)
	middle.Call(to, middle.Rule{Admin: true}, "test-access", "POST /access/test", "access",
		"Make a real request on the wire as a key, which changes nothing", d.testAccess)
	middle.Call(to, middle.Rule{Admin: true}, "access-matrix", "GET /access/matrix", "access",
		"Who reaches which bucket of the account", d.accessMatrix)
	middle.Call(to, middle.Rule{Oper: true}, "show-master-key", "GET /master-key", "access",
		"Which master key seals secrets, without the key", d.showMasterKey)
	middle.Call(to, middle.Rule{Oper: true}, "rotate-master-key", "POST /master-key/rotate", "access",
		"Make a new master key and seal all secrets under it", d.rotateMasterKey)
}

// matrixMost bounds how many keys and how many people a matrix shows.
const matrixMost = 200

func trailLine(e catalog.TrailEntry) api.TrailLine {
	return api.TrailLine{ID: e.ID, At: e.At, Kind: e.Kind, Account: e.Account, Who: e.Who, Source: e.Source,
		Subject: e.Subject,
		Times:   e.Times, Detail: e.Detail, Says: trailSays(e)}
}

// trailSays words what an entry of the trail adds to its kind and subject.
func trailSays(e catalog.TrailEntry) string {
	var parts []string
	text := func(k string) string { return said(e.Detail[k]) }
	switch {
	case text("why") != "":
		parts = append(parts, text("why"))
	case e.Kind == access.TrailKeyTested:
		answer := "refused"
		if e.Detail["allowed"] == true {
			answer = "allowed"
		}
		parts = append(parts, fmt.Sprintf("%s %s: %s", text("do"), text("bucket"), answer))
	case strings.HasPrefix(e.Kind, "grant "):
		parts = append(parts, fmt.Sprintf("grant %s lets %s %s it", text("grant"), text("to"), text("for")))
		if t := text("expires"); t != "" {
			parts = append(parts, "until "+t)
		}
	case e.Kind == access.TrailSignedIn: // what signed in calls itself is long, and stands in the detail
	default:
		for _, k := range slices.Sorted(maps.Keys(e.Detail)) {
			if v := said(e.Detail[k]); v != "" {
				parts = append(parts, k+" "+v)
			}
		}
	}
	s := strings.Join(parts, ", ")
	if e.Times > 1 {
		s = strings.TrimSpace(fmt.Sprintf("%d times; %s", e.Times, s))
	}
	return s
}

// said words a value of an entry's detail; "" when it says nothing.
func said(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case string:
		if t, err := time.Parse(time.RFC3339, v); err == nil {
			return t.Format("2006-01-02 15:04 MST")
		}
		return v
	case []any:
		var parts []string
		for _, x := range v {
			parts = append(parts, said(x))
		}
		return strings.Join(parts, " ")
	case map[string]any:
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(v)) {
			if t := said(v[k]); t != "" {
				parts = append(parts, strings.TrimSpace(k+" "+t))
			}
		}
		return strings.Join(parts, ", ")
	}
	return fmt.Sprint(v)
}

type trail struct{ Body api.TrailPage }

type matrix struct{ Body api.ReachPage }

type masterOut struct{ Body api.MasterInfo }

func (d *Desk) listTrail(ctx context.Context, in *struct {
	Account string   `query:"account" maxLength:"64" doc:"For operators: of this account only"`
	Kind    []string `query:"kind,explode" doc:"One or more kinds"`
	Who     string   `query:"who" maxLength:"128"`
	Subject string   `query:"subject" maxLength:"1024" doc:"What it begins with, for instance a bucket's name"`
	Since   string   `query:"since" maxLength:"64"`
	Until   string   `query:"until" maxLength:"64"`
	Before  int64    `query:"before" minimum:"0"`
	Limit   int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*trail, error) {
	s := middle.Who(ctx).Subject
	if !s.Operator {
		if in.Account != "" && in.Account != s.Account {
			return nil, middle.NotYours(ctx, in.Account)
		}
		in.Account = s.Account
	}
	q := catalog.TrailQuery{Before: in.Before, Account: in.Account, Kinds: in.Kind, Who: in.Who, Subject: in.Subject,
		Limit: in.Limit + 1}
	for s, into := range map[*string]*time.Time{&in.Since: &q.Since, &in.Until: &q.Until} {
		if *s != "" {
			t, err := middle.Moment(*s)
			if err != nil {
				return nil, err
			}
			*into = t
		}
	}
	var err error
	if q.Who, err = d.WhoNamed(ctx, in.Who); err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.Trail(ctx, q)
	if err != nil {
		return nil, err
	}
	out := &trail{}
	list, out.Body.Next = middle.Cut(list, in.Limit, func(x catalog.TrailEntry) int64 { return x.ID })
	out.Body.Entries = []api.TrailLine{}
	for _, e := range list {
		out.Body.Entries = append(out.Body.Entries, trailLine(e))
	}
	return out, nil
}

func (d *Desk) explainAccess(ctx context.Context, in *struct{ Body api.ExplainIn }) (*struct{ Body api.Explanation },
	error) {
	e, err := d.explain(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.Explanation }{*e}, nil
}

func (d *Desk) testAccess(ctx context.Context, in *struct {
	middle.HostIn
	Body api.TestAccessAsk
}) (*struct{ Body api.Trial }, error) {
	t, err := d.tryKey(ctx, in.Body.Key, in.Body.Do, in.Body.Bucket, in.Body.ObjectKey)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.Trial }{api.Trial(*t)}, nil
}

func (d *Desk) accessMatrix(ctx context.Context, in *struct {
	Account string `query:"account" maxLength:"64" doc:"For operators; the session's otherwise"`
	After   string `query:"after" maxLength:"64"`
	Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"100"`
}) (*matrix, error) {
	out := &matrix{}
	if in.Account == "" {
		in.Account = middle.Who(ctx).Subject.Account
	}
	err := d.Administers(ctx, in.Account, "see who reaches its buckets")
	if err == nil {
		out.Body.Buckets, out.Body.Next, err = d.matrix(ctx, in.Account, in.After, in.Limit)
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (d *Desk) showMasterKey(ctx context.Context, _ *struct{}) (*masterOut, error) {
	m, err := d.Gate.Keys.Master(ctx)
	if err != nil {
		return nil, err
	}
	return &masterOut{api.MasterInfo(m)}, nil
}

func (d *Desk) rotateMasterKey(ctx context.Context, _ *struct{}) (*masterOut, error) {
	n, err := d.Gate.Keys.Rotate(ctx)
	if err != nil {
		return nil, err
	}
	m, err := d.Gate.Keys.Master(ctx)
	if err == nil {
		by := middle.Author(ctx)
		err = d.Store.Catalog.PutTrail(ctx, catalog.TrailEntry{At: by.At, Kind: access.TrailMasterKey, Account: middle.Who(ctx).
			Subject.Account, Who: by.Who, Source: by.Source, Subject: m.Fingerprint, Detail: map[string]any{"sealed": n}})
	}
	if err != nil {
		return nil, err
	}
	return &masterOut{api.MasterInfo(m)}, nil
}
