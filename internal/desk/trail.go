package desk

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/keyring"
	"spindle/internal/wire/client"
)

// TrailLine is an entry of the trail with what it says in words.
type TrailLine struct {
	catalog.TrailEntry
	Says string `json:"says,omitempty" doc:"What the entry adds, for people"`
}

func (d *Desk) trailCalls(api huma.API) {
	type trail struct {
		Body struct {
			Entries []TrailLine `json:"entries"`
			Next    int64       `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "list-trail", Method: http.MethodGet, Path: "/api/v1/trail", Summary: "The audit trail, latest first: sign-ins, changes of access and settings, refusals", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			Account string   `query:"account" maxLength:"64" doc:"For operators: of this account only"`
			Kind    []string `query:"kind,explode" doc:"One or more kinds"`
			Who     string   `query:"who" maxLength:"128"`
			Subject string   `query:"subject" maxLength:"1024" doc:"What it begins with, for instance a bucket's name"`
			Since   string   `query:"since" maxLength:"64"`
			Until   string   `query:"until" maxLength:"64"`
			Before  int64    `query:"before" minimum:"0"`
			Limit   int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*trail, error) {
			s := who(ctx).subject
			if !s.Operator {
				if in.Account != "" && in.Account != s.Account {
					return nil, d.problem(notYours(ctx, in.Account))
				}
				in.Account = s.Account
			}
			q := catalog.TrailQuery{Before: in.Before, Account: in.Account, Kinds: in.Kind, Who: in.Who, Subject: in.Subject, Limit: in.Limit + 1}
			for s, into := range map[*string]*time.Time{&in.Since: &q.Since, &in.Until: &q.Until} {
				if *s != "" {
					t, err := moment(*s)
					if err != nil {
						return nil, d.problem(err)
					}
					*into = t
				}
			}
			list, err := d.store.Catalog.Trail(ctx, q)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &trail{}
			if len(list) > in.Limit {
				list = list[:in.Limit]
				out.Body.Next = list[in.Limit-1].ID
			}
			out.Body.Entries = []TrailLine{}
			for _, e := range list {
				out.Body.Entries = append(out.Body.Entries, TrailLine{e, trailSays(e)})
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "explain-access", Method: http.MethodPost, Path: "/api/v1/access/explain", Summary: "Say whether a key, a person or anyone may do something, and why", Tags: []string{"access"}},
		func(ctx context.Context, in *struct{ Body ExplainIn }) (*struct{ Body Explanation }, error) {
			e, err := d.explain(ctx, in.Body)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body Explanation }{*e}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "test-access", Method: http.MethodPost, Path: "/api/v1/access/test", Summary: "Make a real request on the wire as a key, which changes nothing", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			HostIn
			Body struct {
				Key       string `json:"key" maxLength:"64"`
				Do        string `json:"do" maxLength:"16" doc:"list, read, write, remove or settings"`
				Bucket    string `json:"bucket" maxLength:"64"`
				ObjectKey string `json:"objectKey,omitempty" doc:"An object's key, or the prefix of a listing"`
			}
		}) (*struct{ Body client.Trial }, error) {
			t, err := d.tryKey(ctx, in.Body.Key, in.Body.Do, in.Body.Bucket, in.Body.ObjectKey)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body client.Trial }{*t}, nil
		})
	type matrix struct {
		Body struct {
			Buckets []ReachOf `json:"buckets"`
			Next    string    `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "access-matrix", Method: http.MethodGet, Path: "/api/v1/access/matrix", Summary: "Who reaches which bucket of the account", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			Account string `query:"account" maxLength:"64" doc:"For operators; the session's otherwise"`
			After   string `query:"after" maxLength:"64"`
			Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"100"`
		}) (*matrix, error) {
			out := &matrix{}
			if in.Account == "" {
				in.Account = who(ctx).subject.Account
			}
			err := d.administers(ctx, in.Account, "see who reaches its buckets")
			if err == nil {
				out.Body.Buckets, out.Body.Next, err = d.matrix(ctx, in.Account, in.After, in.Limit)
			}
			if err != nil {
				return nil, d.problem(err)
			}
			return out, nil
		})
	type master struct{ Body keyring.Master }
	huma.Register(api, huma.Operation{OperationID: "show-master-key", Method: http.MethodGet, Path: "/api/v1/master-key", Summary: "Which master key seals secrets, without the key", Tags: []string{"access"}},
		func(ctx context.Context, _ *struct{}) (*master, error) {
			m, err := d.gate.Keys.Master(ctx)
			if err != nil {
				return nil, d.problem(err)
			}
			return &master{m}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "rotate-master-key", Method: http.MethodPost, Path: "/api/v1/master-key/rotate", Summary: "Make a new master key and seal all secrets under it", Tags: []string{"access"}},
		func(ctx context.Context, _ *struct{}) (*master, error) {
			n, err := d.gate.Keys.Rotate(ctx)
			if err != nil {
				return nil, d.problem(err)
			}
			m, err := d.gate.Keys.Master(ctx)
			if err == nil {
				by := author(ctx)
				err = d.store.Catalog.PutTrail(ctx, catalog.TrailEntry{At: by.At, Kind: catalog.TrailMasterKey, Account: who(ctx).subject.Account, Who: by.Who, Source: by.Source, Subject: m.Fingerprint, Detail: map[string]any{"sealed": n}})
			}
			if err != nil {
				return nil, d.problem(err)
			}
			return &master{m}, nil
		})
}

// matrixMost bounds how many keys and how many people a matrix shows.
const matrixMost = 200

// trailSays words what an entry of the trail adds to its kind and subject.
func trailSays(e catalog.TrailEntry) string {
	var parts []string
	text := func(k string) string { return said(e.Detail[k]) }
	switch {
	case text("why") != "":
		parts = append(parts, text("why"))
	case e.Kind == catalog.TrailKeyTested:
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
	case e.Kind == catalog.TrailSignedIn: // what signed in calls itself is long, and stands in the detail
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
