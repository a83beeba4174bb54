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
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/keyring"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// Explanation says whether somebody may do something, and why.
type Explanation struct {
	Subject string `json:"subject" doc:"Who was asked about"`
	Account string `json:"account,omitempty" doc:"In which it acts"`
	Role    string `json:"role,omitempty"`
	Do      string `json:"do"`
	Target  string `json:"target"`
	Owner   string `json:"owner,omitempty" doc:"The account that owns the bucket, for those who act in it"`
	Allowed bool   `json:"allowed"`
	By      string `json:"by" doc:"What decided: operator, role, grant, limit, or nothing"`
	Grant   int64  `json:"grant,omitempty" doc:"The grant that decided or came nearest"`
	Why     string `json:"why"`
	Remedy  string `json:"remedy,omitempty" doc:"What would change it"`
}

// ExplainIn asks who may do what.
type ExplainIn struct {
	Subject string `json:"subject,omitempty" maxLength:"128" doc:"key:ID, person:NAME or anyone; who asks otherwise"`
	Account string `json:"account,omitempty" maxLength:"64" doc:"In which the person acts; the first otherwise"`
	Do      string `json:"do" maxLength:"16" doc:"list, read, write, remove or settings"`
	Bucket  string `json:"bucket" maxLength:"64"`
	Key     string `json:"key,omitempty" doc:"A key, or the prefix of a listing; empty for the bucket"`
}

// TrailLine is an entry of the trail with what it says in words.
type TrailLine struct {
	catalog.TrailEntry
	Says string `json:"says,omitempty" doc:"What the entry adds, for people"`
}

// Reach is what somebody may do in a bucket.
type Reach struct {
	Who    string   `json:"who" doc:"key ID, person NAME, account NAME or anyone"`
	Name   string   `json:"name,omitempty" doc:"Of a key"`
	Rights []string `json:"rights" doc:"In the whole bucket"`
	Some   []string `json:"some" doc:"Further, in parts of it"`
}

// ReachOf says who reaches a bucket.
type ReachOf struct {
	Bucket  string  `json:"bucket"`
	Account string  `json:"account"`
	Reach   []Reach `json:"reach" doc:"In the order of subjects"`
	More    bool    `json:"more,omitempty" doc:"There are more than 200 keys or people: the rest is not shown"`
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

// subject finds a subject that who asks may ask about.
func (d *Desk) subject(ctx context.Context, name, account string) (access.Subject, error) {
	me := who(ctx).subject
	if name == "" {
		return me, nil
	}
	g, err := access.ParseGrantee(name)
	if err != nil {
		return me, fault.From(err).In("subject")
	}
	switch g.Kind {
	case access.ToKey:
		k, err := d.gate.Keys.Find(ctx, g.Name)
		if err != nil {
			return me, err
		}
		if k == nil || !me.Administers(k.Account) && k.ID != me.Name {
			return me, fault.New(fault.NotFound, "key-missing", "the account %s has no key with the id %q", me.Account, g.Name).In("subject").Do("check the id")
		}
		return k.Subject(), nil
	case access.ToPerson:
		p, err := d.person(ctx, g.Name)
		if err != nil {
			return me, err
		}
		s := access.Subject{Kind: access.Person, Name: p.Name, Operator: p.Operator}
		self := me.Kind == access.Person && me.Name == p.Name
		if !me.Operator && !self { // what somebody is elsewhere is no affair of this account
			if account != "" && account != me.Account {
				return me, notYours(ctx, account)
			}
			account = me.Account
		}
		for i, m := range p.Members {
			if m.Account == account || account == "" && i == 0 {
				s.Account, s.Role = m.Account, m.Role
			}
		}
		return s, nil
	case access.ToAccount:
		return me, fault.New(fault.Invalid, "grantee", "an account does nothing itself: its keys and people do").In("subject").Do("name a key or a person")
	}
	return access.Subject{}, nil
}

func (d *Desk) explain(ctx context.Context, in ExplainIn) (*Explanation, error) {
	do, err := access.ParseRight(in.Do)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	if err := object.CheckText("key", in.Key); err != nil {
		return nil, err
	}
	s, err := d.subject(ctx, in.Subject, in.Account)
	if err != nil {
		return nil, err
	}
	if err := d.mayExplain(ctx, s); err != nil {
		return nil, err
	}
	owner, err := d.store.Owner(ctx, name)
	if err != nil {
		return nil, err
	}
	book, err := d.gate.Book(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	t := access.Target{Bucket: in.Bucket, Owner: owner, Key: in.Key}
	x := access.Decide(s, do, t, book, now)
	e := &Explanation{Subject: s.String(), Account: s.Account, Do: in.Do, Target: strings.TrimSuffix(in.Bucket+"/"+in.Key, "/"), Owner: owner, Allowed: x.Allowed, By: x.By, Grant: x.Grant, Why: x.Why, Remedy: x.Remedy}
	if s.Kind != access.Anyone {
		e.Role = s.Role.String()
	}
	if me := who(ctx).subject; !me.Operator && me.Account != owner { // whose it is, is told there
		e.Owner = ""
	}
	if s.Kind == access.Key {
		k, err := d.gate.Keys.Find(ctx, s.Name)
		if err == nil && k != nil {
			err = k.Works(now)
		}
		if err != nil { // whatever it may do, it does not work
			f := fault.From(err)
			e.Allowed, e.By, e.Why, e.Remedy = false, "key", f.Message, f.Remedy
		}
	}
	return e, nil
}

// mayExplain refuses questions about others to who administers nothing.
func (d *Desk) mayExplain(ctx context.Context, s access.Subject) error {
	me := who(ctx).subject
	if s.Kind == access.Anyone || s.Kind == me.Kind && s.Name == me.Name {
		return nil
	}
	return d.administers(ctx, me.Account, "ask about the access of others")
}

func (d *Desk) tryKey(ctx context.Context, key, do, bucket, objectKey string) (*client.Trial, error) {
	if _, err := access.ParseRight(do); err != nil {
		return nil, err
	}
	if _, err := object.ParseBucketName(bucket); err != nil {
		return nil, err
	}
	if do != "list" && do != "settings" {
		if _, err := object.ParseKey(objectKey); err != nil {
			return nil, fault.From(err).In("objectKey")
		}
	}
	k, err := d.ofKey(ctx, key)
	if err != nil {
		return nil, err
	}
	if err := d.mayUse(ctx, k.ID, k.Operator); err != nil {
		return nil, err
	}
	open, err := d.gate.Keys.Find(ctx, k.ID)
	if err != nil || open == nil {
		return nil, err
	}
	scheme := "http"
	if d.settings.WireTLS {
		scheme = "https"
	}
	c, err := client.New(scheme+"://"+d.settings.WireAddress().String(), d.store.Region, sign.Credential{ID: open.ID, Secret: open.Secret})
	if err != nil {
		return nil, err
	}
	defer c.HTTP.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	t, err := c.Try(ctx, do, bucket, objectKey)
	if err != nil {
		return nil, err
	}
	by := author(ctx)
	return &t, d.store.Catalog.PutTrail(ctx, catalog.TrailEntry{At: by.At, Kind: catalog.TrailKeyTested, Account: k.Account, Who: by.Who, Source: by.Source, Subject: k.ID,
		Detail: map[string]any{"do": do, "bucket": bucket, "allowed": t.Allowed}})
}

// matrixMost bounds how many keys and how many people a matrix shows.
const matrixMost = 200

func (d *Desk) matrix(ctx context.Context, account, after string, limit int) (out []ReachOf, next string, err error) {
	c := d.store.Catalog
	buckets, err := c.Buckets(ctx, account, nil, after, limit+1)
	if err != nil {
		return nil, "", err
	}
	if len(buckets) > limit {
		buckets = buckets[:limit]
		next = buckets[limit-1].Name.String()
	}
	keys, err := c.AccessKeys(ctx, account, "", matrixMost+1)
	if err != nil {
		return nil, "", err
	}
	people, err := c.People(ctx, account, "", matrixMost+1)
	if err != nil {
		return nil, "", err
	}
	more := len(keys) > matrixMost || len(people) > matrixMost
	book, err := d.gate.Book(ctx)
	if err != nil {
		return nil, "", err
	}
	now := time.Now()
	out = []ReachOf{}
	for _, b := range buckets {
		r := ReachOf{Bucket: b.Name.String(), Account: b.Account, Reach: []Reach{}, More: more}
		add := func(who, name string, whole, some access.Rights) {
			r.Reach = append(r.Reach, Reach{Who: who, Name: name, Rights: orNone(whole), Some: orNone(some &^ whole)})
		}
		ask := func(s access.Subject, name string) {
			t := access.Target{Bucket: b.Name.String(), Owner: b.Account}
			part := t
			part.Some = true
			add(s.Grantee().String(), name, access.Reach(s, t, book, now), access.Reach(s, part, book, now))
		}
		for _, p := range people[:min(len(people), matrixMost)] {
			s := access.Subject{Kind: access.Person, Name: p.Name, Account: account, Operator: p.Operator}
			for _, m := range p.Members {
				if m.Account == account {
					s.Role = m.Role
				}
			}
			if p.Active {
				ask(s, "")
			}
		}
		for _, k := range keys[:min(len(keys), matrixMost)] {
			if k.Active && (k.Expires == nil || k.Expires.After(now)) {
				ask((&keyring.Key{ID: k.ID, Account: k.Account, Operator: k.Operator, Role: k.Role, Limits: k.Limits}).Subject(), k.Name)
			}
		}
		// Those of others, by what they were granted.
		known := map[access.Grantee]int{}
		for _, g := range book.On(b.Name.String()) {
			if !g.Holds(now) || slices.ContainsFunc(r.Reach, func(x Reach) bool { return x.Who == g.To.String() }) && known[g.To] == 0 {
				continue
			}
			whole, some := g.Rights, access.Rights(0)
			if g.Prefix != "" {
				whole, some = 0, g.Rights
			}
			if i := known[g.To]; i > 0 {
				e := &r.Reach[i-1]
				for _, n := range orNone(whole) {
					if !slices.Contains(e.Rights, n) {
						e.Rights = append(e.Rights, n)
					}
				}
				for _, n := range orNone(some) {
					if !slices.Contains(e.Rights, n) && !slices.Contains(e.Some, n) {
						e.Some = append(e.Some, n)
					}
				}
				continue
			}
			add(g.To.String(), "", whole, some)
			known[g.To] = len(r.Reach)
		}
		out = append(out, r)
	}
	return out, next, nil
}

func orNone(r access.Rights) []string {
	if r == 0 {
		return []string{}
	}
	return r.Names()
}

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
