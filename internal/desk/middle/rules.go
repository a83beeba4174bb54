package middle

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/gate"
	"spindle/internal/remote"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

// LooksAt reports whether an expression asks for a field of that name.
func LooksAt(x query.Expr, names ...string) (yes bool) {
	query.Each(x, func(t *query.Test) { yes = yes || slices.Contains(names, t.Field.Name) })
	return yes
}

// Question reads an expression, in which writers that are named by the names of keys become their ids.
func (d *Middle) Question(ctx context.Context, expression string, now time.Time) (query.Expr, error) {
	x, err := query.Parse(expression, now)
	if err != nil {
		return nil, err
	}
	var tests []*query.Test
	query.Each(x, func(t *query.Test) { tests = append(tests, t) })
	for _, t := range tests {
		if t.Field.Name != "writer" || t.Op != query.Is && t.Op != query.OneOf {
			continue
		}
		for i, named := range t.Texts {
			if t.Texts[i], err = d.KeyID(ctx, named); err != nil {
				return nil, fault.From(err).In("expression")
			}
		}
	}
	return x, nil
}

// inRegion says of a bucket that is not here in which region it is, to those who may know.
func (d *Middle) inRegion(ctx context.Context, name object.BucketName, missing error) error {
	if !fault.HasCode(missing, "bucket-missing") {
		return missing
	}
	r, b, err := d.Store.Catalog.RegionOf(ctx, name)
	if err != nil || r == nil || !d.Knows(ctx, b.Account) {
		return missing
	}
	return fault.New(fault.NotFound, "bucket-in-region", "the bucket %q is in the region %s", name, r.Name).In("bucket").
		Do("ask the service there: %s/buckets/%s", r.Desk, name)
}

// Rule says what a call needs before it is looked at closer.
type Rule struct {
	Do    access.Rights // on the bucket of the path
	On    place
	Admin bool // who asks administers the account it acts in, or is told more by the call
	Oper  bool // who asks operates the service
}

type place uint8

const (
	nowhere  place = iota // signed in is enough; the call itself decides or filters
	OnKey                 // on the key of the query
	OnPrefix              // on what is beneath the prefix of the query
	OnBucket              // on some part of the bucket; the call looks closer
	OnWhole               // on all of the bucket
)

// Ruled refuses calls that break their rule.
func (d *Middle) Ruled(ctx huma.Context, next func(huma.Context)) {
	if err := d.check(ctx); err != nil {
		p := d.Problem(ctx.Context(), err)
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(p) // the client may be gone
		return
	}
	next(ctx)
}

func (d *Middle) check(h huma.Context) error {
	r, ok := d.Rules[h.Operation().OperationID]
	if !ok {
		return fault.New(fault.Internal, "no-rule", "the call %s has no rule who may make it", h.Operation().OperationID)
	}
	ctx := h.Context()
	if r == (Rule{}) {
		return nil
	}
	s := Who(ctx).Subject
	switch {
	case r.Oper && !s.Operator:
		return d.Refused(ctx, "", h.Operation().Summary, fmt.Sprintf("%s does not operate the service", s),
			"ask somebody who does")
	case r.Oper:
		return nil
	case r.Admin:
		return d.Administers(ctx, s.Account, h.Operation().Summary)
	}
	name, err := object.ParseBucketName(h.Param("bucket"))
	if err != nil {
		return err
	}
	a := gate.Ask{Subject: s, Source: Who(ctx).Source, Do: r.Do, Bucket: name}
	switch r.On {
	case OnKey:
		a.Key = h.Query("key")
	case OnPrefix:
		a.Key = h.Query("prefix")
	case OnBucket:
		a.Some = true
	}
	return d.inRegion(ctx, name, d.orElsewhere(ctx, name, d.Gate.May(ctx, a)))
}

// elsewhere is a refusal to somebody who has a role in the account of what was asked
// for, and acts in another.
type elsewhere struct {
	refusal *fault.Error
	account string
}

func (e *elsewhere) Error() string { return e.refusal.Error() }

func (e *elsewhere) Unwrap() error { return e.refusal }

// orElsewhere says of a refusal that switching the account may help, when it may.
func (d *Middle) orElsewhere(ctx context.Context, bucket object.BucketName, err error) error {
	id := Who(ctx)
	if !fault.HasCode(err, "not-allowed") || id.Session == nil || id.Person == nil {
		return err
	}
	owner, oerr := d.Store.Owner(ctx, bucket)
	if oerr != nil || owner == id.Subject.Account {
		return err
	}
	for _, m := range id.Person.Members {
		if m.Account == owner {
			f := *fault.From(err)
			f.Remedy = fmt.Sprintf("the bucket is of the account %s, in which you are %s: switch to it", owner, m.Role.A())
			return &elsewhere{&f, owner}
		}
	}
	return err
}

// Refused notes a refusal that no bucket decided.
func (d *Middle) Refused(ctx context.Context, subject, do, why, remedy string) error {
	id := Who(ctx)
	d.Gate.Refused(id.Subject, id.Source, id.Subject.Account, subject, do, why)
	return access.Decision{Why: why, Remedy: remedy}.Refused()
}

// Administers refuses who does not administer an account.
func (d *Middle) Administers(ctx context.Context, account, do string) error {
	s := Who(ctx).Subject
	if s.Administers(account) {
		return nil
	}
	why := fmt.Sprintf("%s is %s in the account %s, and does not administer %s", s, s.Role.A(), s.Account, account)
	if s.Account == account {
		why = fmt.Sprintf("%s is %s in the account %s, and does not administer it", s, s.Role.A(), account)
	}
	if len(s.Limits) > 0 && s.Role == access.Administrator {
		why = fmt.Sprintf("%s is limited to some buckets, and administers no account", s)
	}
	return d.Refused(ctx, account, do, why, "have an administrator of "+account+" do it")
}

// NotYours refuses what is of an account that one does not act in.
func NotYours(ctx context.Context, account string) error {
	s := Who(ctx).Subject
	return access.Decision{Why: fmt.Sprintf("%s acts in the account %s, not in %s", s, s.Account, account),
		Remedy: "switch to that account, if you have a role there"}.Refused()
}

// May refuses what who asks may not do at an address: each of several rights is
// needed.
func (d *Middle) May(ctx context.Context, do access.Rights, a catalog.Address) error {
	return d.MayAt(ctx, do, a.Bucket, a.Key.String())
}

// MayAt is may for a key or what is beneath a prefix.
func (d *Middle) MayAt(ctx context.Context, do access.Rights, bucket object.BucketName, key string) error {
	id := Who(ctx)
	for _, one := range do.Each() {
		if err := d.Gate.May(ctx, gate.Ask{Subject: id.Subject, Source: id.Source, Do: one, Bucket: bucket,
			Key: key, Needs: do}); err != nil {
			return err
		}
	}
	return nil
}

// asNow gives the context of a call with who asks as they are now: of a call that lasts, rights may end meanwhile.
func (d *Middle) asNow(ctx context.Context) (context.Context, error) {
	id := *Who(ctx)
	if id.Session == nil {
		k, err := d.Gate.KeyNow(ctx, id.Key.ID)
		if err != nil {
			return nil, err
		}
		id.Key, id.Subject = k, k.Subject()
		if id.Subject.Operator {
			id.Subject.Account = Who(ctx).Subject.Account
		}
		return context.WithValue(ctx, IdentityKey{}, &id), nil
	}
	s, err := d.Store.Catalog.FindSession(ctx, id.Session.Token, time.Now())
	if err == nil && s == nil {
		err = SessionEnded()
	}
	if err != nil {
		return nil, err
	}
	s.Account = id.Session.Account
	id.Session = s
	return context.WithValue(ctx, IdentityKey{}, &id), d.Holder(ctx, &id)
}

// Again asks anew while a transfer goes on.
func (d *Middle) Again(ctx context.Context, do access.Rights, a catalog.Address) func() error {
	next := time.Now().Add(time.Second)
	return func() error {
		if time.Now().Before(next) {
			return nil
		}
		next = time.Now().Add(time.Second)
		now, err := d.asNow(ctx)
		if err != nil {
			return err
		}
		return d.MayAt(now, do, a.Bucket, a.Key.String())
	}
}

// StillMay gives a context for a call that lasts, which ends when who asks may not go on: may is asked each
// second, as they are then. crew.RefusedOf tells of it.
func (d *Middle) StillMay(ctx context.Context, may func(context.Context) error) (context.Context, context.CancelFunc) {
	return crew.Still(ctx, func(ctx context.Context) error {
		now, err := d.asNow(ctx)
		if err != nil {
			return err
		}
		return may(now)
	})
}

// HideMissing is hide for errors that say something is not there.
func (d *Middle) HideMissing(ctx context.Context, a catalog.Address, err error) error {
	if err == nil || fault.KindOf(err) != fault.NotFound || fault.HasCode(err, "bucket-missing") {
		return err
	}
	return d.hide(ctx, a, err)
}

// MayAskOf refuses conditions on what is at an address to those who may neither
// list nor read it: the answer would tell them what is there.
func (d *Middle) MayAskOf(ctx context.Context, a catalog.Address) error {
	id := Who(ctx)
	for _, do := range []access.Rights{access.List, access.Read} {
		x, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: id.Subject, Source: id.Source, Do: do, Bucket: a.Bucket,
			Key: a.Key.String()})
		if err != nil || x.Allowed {
			return err
		}
	}
	return access.Decision{Why: id.Subject.String() +
		" may neither list nor read what is there, which a condition would tell",
		Remedy: "ask without a condition, or have listing granted as well"}.Refused()
}

// hide turns what is not there into a refusal for those who may not list it.
func (d *Middle) hide(ctx context.Context, a catalog.Address, err error) error {
	s := Who(ctx).Subject
	x, _, derr := d.Gate.Decide(ctx, gate.Ask{Subject: s, Do: access.List, Bucket: a.Bucket, Key: a.Key.String()})
	switch {
	case derr != nil:
		return derr
	case x.Allowed:
		return err
	}
	return access.Decision{Why: "there may be no such object, and " + s.String() + " may not list what there is",
		Remedy: "check the key, or have listing granted as well"}.Refused()
}

// Wide gives the account whose buckets who asks sees as a whole, for figures over
// all of them; "" for every account. Who is limited to parts sees no such figures.
func (d *Middle) Wide(ctx context.Context) (string, error) {
	s := Who(ctx).Subject
	switch {
	case s.Operator:
		return "", nil
	case s.Role == access.None || len(s.Limits) > 0:
		return "", d.Refused(ctx, s.Account, "list", fmt.Sprintf("%s sees only some buckets of the account %s", s, s.Account),
			"ask for one bucket")
	}
	return s.Account, nil
}

// JournalOf gives the account to which a look at changes is bound, once it is
// allowed: "" when it is of one bucket.
func (d *Middle) JournalOf(ctx context.Context, bucket, prefix string) (string, error) {
	if bucket == "" {
		return d.Wide(ctx)
	}
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return "", err
	}
	err = d.MayAt(ctx, access.List, name, prefix)
	if fault.HasCode(err, "bucket-missing") && Who(ctx).Subject.Operator {
		return "", nil // what a removed bucket left in the journal
	}
	return "", err
}

// MayOrder refuses an order that does what who asks may not. One of a bucket that
// was removed is the operators' affair.
func (d *Middle) MayOrder(ctx context.Context, o *catalog.Order) error {
	if o.Gone {
		if Who(ctx).Subject.Operator {
			return nil
		}
		return catalog.OrderMissing(o.ID)
	}
	needs, err := orders.Needs(o)
	if err != nil {
		return err
	}
	for _, n := range needs {
		if err := d.MayAt(ctx, n.Do, n.Bucket, n.Prefix); err != nil {
			return err
		}
	}
	return d.mayAskAbout(ctx, o)
}

// mayAskAbout reads the expression of an order, and refuses one that asks what is not told of buckets of
// others.
func (d *Middle) mayAskAbout(ctx context.Context, o *catalog.Order) error {
	if o.What.Found == nil {
		return nil
	}
	x, err := d.Question(ctx, o.What.Found.Where, d.Store.Catalog.Now())
	if err != nil {
		return fault.From(err).In("where")
	}
	if LooksAt(x, "writer") {
		o.What.Found.Where = x.String() // keys have other names later
	}
	seen, err := d.VeilFor(ctx, o.Bucket)
	if err == nil && !seen.Inside && LooksAt(x, "writer", "replication") {
		err = fault.New(fault.Refused, "not-allowed",
			"who wrote there, and what is copied, is not told of buckets of others").In("where").
			Do("ask for something else")
	}
	return err
}

// Conn gives the connection to an endpoint of the account that one acts in.
func (d *Middle) Conn(ctx context.Context, name string) (*remote.Conn, error) {
	return d.Endpoints.OfAccount(ctx, Who(ctx).Subject.Account, name)
}
