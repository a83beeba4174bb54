package access

import (
	"context"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/keyring"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// subject finds a subject that who asks may ask about.
func (d *Desk) subject(ctx context.Context, name, account string) (access.Subject, error) {
	me := middle.Who(ctx).Subject
	if name == "" {
		return me, nil
	}
	g, err := access.ParseGrantee(name)
	if err != nil {
		return me, fault.From(err).In("subject")
	}
	switch g.Kind {
	case access.ToKey:
		id, err := d.KeyID(ctx, g.Name)
		if err != nil {
			return me, err
		}
		k, err := d.Gate.Keys.Find(ctx, id)
		if err != nil {
			return me, err
		}
		if k == nil || !me.Administers(k.Account) && k.ID != me.Name {
			return me, fault.New(fault.NotFound, "key-missing", "the account %s has no key with the id or name %q",
				me.Account, g.Name).In("subject").Do("spindle access key list names them")
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
				return me, middle.NotYours(ctx, account)
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
		return me, fault.New(fault.Invalid, "grantee", "an account does nothing itself: its keys and people do").
			In("subject").Do("name a key or a person")
	}
	return access.Subject{}, nil
}

func (d *Desk) explain(ctx context.Context, in api.ExplainIn) (*api.Explanation, error) {
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
	if fault.HasCode(err, "key-missing") {
		if e, ferr := d.explainForeign(ctx, in, do, name); e != nil || ferr != nil {
			return e, ferr
		}
	}
	if err != nil {
		return nil, err
	}
	if err := d.mayExplain(ctx, s); err != nil {
		return nil, err
	}
	owner, err := d.Store.Owner(ctx, name)
	if err != nil {
		return nil, err
	}
	book, err := d.Gate.Book(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	t := access.Target{Bucket: in.Bucket, Owner: owner, Key: in.Key}
	x := access.Decide(s, do, t, book, now)
	e := &api.Explanation{Subject: s.String(), Account: s.Account, Do: in.Do,
		Target: strings.TrimSuffix(in.Bucket+"/"+in.Key, "/"), Owner: owner, Allowed: x.Allowed, By: x.By, Grant: x.Grant,
		Why: x.Why, Remedy: x.Remedy}
	if s.Kind != access.Anyone {
		e.Role = s.Role.String()
	}
	if me := middle.Who(ctx).Subject; !me.Operator && me.Account != owner { // whose it is, is told there
		e.Owner = ""
	}
	if s.Kind == access.Key {
		k, err := d.Gate.Keys.Find(ctx, s.Name)
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

// explainForeign says to who may change a bucket's settings whether a key of another account may do
// something there. Of a key that may not nothing is told but that: not whether there is one.
func (d *Desk) explainForeign(ctx context.Context, in api.ExplainIn, do access.Rights,
	bucket object.BucketName) (*api.Explanation,
	error) {
	g, err := access.ParseGrantee(in.Subject)
	if err != nil || d.MayAt(ctx, access.Settings, bucket, "") != nil {
		return nil, err
	}
	owner, err := d.Store.Owner(ctx, bucket)
	if err != nil {
		return nil, err
	}
	id, err := d.AnyKeyID(ctx, g.Name)
	if err != nil {
		return nil, err
	}
	k, err := d.Gate.Keys.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	t := access.Target{Bucket: in.Bucket, Owner: owner, Key: in.Key}
	where := strings.TrimSuffix(in.Bucket+"/"+in.Key, "/")
	e := &api.Explanation{Subject: "key " + g.Name, Do: in.Do, Target: where, Owner: owner, By: "nothing"}
	if k != nil && k.Works(time.Now()) == nil {
		book, err := d.Gate.Book(ctx)
		if err != nil {
			return nil, err
		}
		if x := access.Decide(k.Subject(), do, t, book, time.Now()); x.Allowed {
			e.Allowed, e.By, e.Grant = true, x.By, x.Grant
			e.Why = "what the bucket was opened to covers it"
			return e, nil
		}
	}
	e.Why = "nothing that " + in.Bucket + " was opened to lets it do that; what there is of the key, its own account can ask"
	e.Remedy = "grant it: spindle access grant create " + in.Bucket + " --to key:" + g.Name + " --for \"" +
		access.PurposeFor(do) + "\""
	return e, nil
}

// mayExplain refuses questions about others to who administers nothing.
func (d *Desk) mayExplain(ctx context.Context, s access.Subject) error {
	me := middle.Who(ctx).Subject
	if s.Kind == access.Anyone || s.Kind == me.Kind && s.Name == me.Name {
		return nil
	}
	return d.Administers(ctx, me.Account, "ask about the access of others")
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
	open, err := d.Gate.Keys.Find(ctx, k.ID)
	if err != nil || open == nil {
		return nil, err
	}
	scheme := "http"
	if d.Settings.WireTLS {
		scheme = "https"
	}
	c, err := client.New(scheme+"://"+d.Settings.WireAddress().String(), d.Store.Region,
		sign.Credential{ID: open.ID, Secret: open.Secret})
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
	by := middle.Author(ctx)
	return &t, d.Store.Catalog.PutTrail(ctx, catalog.TrailEntry{At: by.At, Kind: access.TrailKeyTested,
		Account: k.Account, Who: by.Who, Source: by.Source, Subject: k.ID,
		Detail: map[string]any{"do": do, "bucket": bucket, "allowed": t.Allowed}})
}

func (d *Desk) matrix(ctx context.Context, account, after string, limit int) (out []api.ReachOf, next string,
	err error) {
	c := d.Store.Catalog
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
	book, err := d.Gate.Book(ctx)
	if err != nil {
		return nil, "", err
	}
	now := time.Now()
	own := append(ownPeople(people[:min(len(people), matrixMost)], account),
		ownKeys(keys[:min(len(keys), matrixMost)], now)...)
	out = []api.ReachOf{}
	for _, b := range buckets {
		r := api.ReachOf{Bucket: b.Name.String(), Account: b.Account, Reach: []api.Reach{}, More: more}
		whole := access.Target{Bucket: b.Name.String(), Owner: b.Account}
		part := whole
		part.Some = true
		for _, o := range own {
			addReach(&r, o.Grantee(), o.called, access.Reach(o.Subject, whole, book, now), access.Reach(o.Subject, part, book,
				now))
		}
		addGranted(&r, book.On(b.Name.String()), now)
		out = append(out, r)
	}
	return out, next, nil
}

// asking is somebody of an account, with the name of a key.
type asking struct {
	access.Subject
	called string
}

func ownPeople(people []catalog.PersonRow, account string) (out []asking) {
	for _, p := range people {
		s := access.Subject{Kind: access.Person, Name: p.Name, Account: account, Operator: p.Operator}
		for _, m := range p.Members {
			if m.Account == account {
				s.Role = m.Role
			}
		}
		if p.Active {
			out = append(out, asking{s, ""})
		}
	}
	return out
}

func ownKeys(keys []catalog.AccessKey, now time.Time) (out []asking) {
	for _, k := range keys {
		if k.Active && (k.Expires == nil || k.Expires.After(now)) {
			key := keyring.Key{ID: k.ID, Account: k.Account, Operator: k.Operator, Role: k.Role, Limits: k.Limits}
			out = append(out, asking{key.Subject(), k.Name})
		}
	}
	return out
}

func addReach(r *api.ReachOf, who access.Grantee, name string, whole, some access.Rights) {
	r.Reach = append(r.Reach, api.Reach{Who: who.String(), Name: name, Rights: orNone(whole), Some: orNone(some &^ whole)})
}

// addGranted adds those of others, by all that each was granted.
func addGranted(r *api.ReachOf, grants []access.Grant, now time.Time) {
	type rights struct{ whole, some access.Rights }
	of := map[access.Grantee]rights{}
	var others []access.Grantee
	for _, g := range grants {
		if !g.Holds(now) || slices.ContainsFunc(r.Reach, func(x api.Reach) bool { return x.Who == g.To.String() }) {
			continue
		}
		has, known := of[g.To]
		if !known {
			others = append(others, g.To)
		}
		if g.Prefix == "" {
			has.whole |= g.Rights
		} else {
			has.some |= g.Rights
		}
		of[g.To] = has
	}
	for _, to := range others {
		addReach(r, to, "", of[to].whole, of[to].some)
	}
}

func orNone(r access.Rights) []string {
	if r == 0 {
		return []string{}
	}
	return r.Names()
}
