package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/works"
)

// rule says what a call needs before it is looked at closer.
type rule struct {
	do    access.Rights // on the bucket of the path
	on    place
	admin bool // who asks administers the account it acts in, or is told more by the call
	oper  bool // who asks operates the service
}

type place uint8

const (
	nowhere  place = iota // signed in is enough; the call itself decides or filters
	onKey                 // on the key of the query
	onPrefix              // on what is beneath the prefix of the query
	onBucket              // on some part of the bucket; the call looks closer
	onWhole               // on all of the bucket
)

// ruled refuses calls that break their rule.
func (d *Desk) ruled(ctx huma.Context, next func(huma.Context)) {
	if err := d.check(ctx); err != nil {
		p := d.problem(ctx.Context(), err)
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(p) // the client may be gone
		return
	}
	next(ctx)
}

func (d *Desk) check(h huma.Context) error {
	r, ok := d.rules[h.Operation().OperationID]
	if !ok {
		return fault.New(fault.Internal, "no-rule", "the call %s has no rule who may make it", h.Operation().OperationID)
	}
	ctx := h.Context()
	if r == (rule{}) {
		return nil
	}
	s := who(ctx).subject
	switch {
	case r.oper && !s.Operator:
		return d.refused(ctx, "", h.Operation().Summary, fmt.Sprintf("%s does not operate the service", s),
			"ask somebody who does")
	case r.oper:
		return nil
	case r.admin:
		return d.administers(ctx, s.Account, h.Operation().Summary)
	}
	name, err := object.ParseBucketName(h.Param("bucket"))
	if err != nil {
		return err
	}
	a := gate.Ask{Subject: s, Source: who(ctx).source, Do: r.do, Bucket: name}
	switch r.on {
	case onKey:
		a.Key = h.Query("key")
	case onPrefix:
		a.Key = h.Query("prefix")
	case onBucket:
		a.Some = true
	}
	return d.inRegion(ctx, name, d.orElsewhere(ctx, name, d.gate.May(ctx, a)))
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
func (d *Desk) orElsewhere(ctx context.Context, bucket object.BucketName, err error) error {
	id := who(ctx)
	if !fault.HasCode(err, "not-allowed") || id.session == nil || id.person == nil {
		return err
	}
	owner, oerr := d.store.Owner(ctx, bucket)
	if oerr != nil || owner == id.subject.Account {
		return err
	}
	for _, m := range id.person.Members {
		if m.Account == owner {
			f := *fault.From(err)
			f.Remedy = fmt.Sprintf("the bucket is of the account %s, in which you are %s: switch to it", owner, m.Role.A())
			return &elsewhere{&f, owner}
		}
	}
	return err
}

// refused notes a refusal that no bucket decided.
func (d *Desk) refused(ctx context.Context, subject, do, why, remedy string) error {
	id := who(ctx)
	d.gate.Refused(id.subject, id.source, id.subject.Account, subject, do, why)
	return access.Decision{Why: why, Remedy: remedy}.Refused()
}

// administers refuses who does not administer an account.
func (d *Desk) administers(ctx context.Context, account, do string) error {
	s := who(ctx).subject
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
	return d.refused(ctx, account, do, why, "have an administrator of "+account+" do it")
}

func notYours(ctx context.Context, account string) error {
	s := who(ctx).subject
	return access.Decision{Why: fmt.Sprintf("%s acts in the account %s, not in %s", s, s.Account, account),
		Remedy: "switch to that account, if you have a role there"}.Refused()
}

// may refuses what who asks may not do at an address: each of several rights is
// needed.
func (d *Desk) may(ctx context.Context, do access.Rights, a catalog.Address) error {
	return d.mayAt(ctx, do, a.Bucket, a.Key.String())
}

// mayAt is may for a key or what is beneath a prefix.
func (d *Desk) mayAt(ctx context.Context, do access.Rights, bucket object.BucketName, key string) error {
	id := who(ctx)
	for _, one := range do.Each() {
		if err := d.gate.May(ctx, gate.Ask{Subject: id.subject, Source: id.source, Do: one, Bucket: bucket,
			Key: key, Needs: do}); err != nil {
			return err
		}
	}
	return nil
}

// asNow gives the context of a call with who asks as they are now: of a call that lasts, rights may end meanwhile.
func (d *Desk) asNow(ctx context.Context) (context.Context, error) {
	id := *who(ctx)
	if id.session == nil {
		k, err := d.gate.KeyNow(ctx, id.key.ID)
		if err != nil {
			return nil, err
		}
		id.key, id.subject = k, k.Subject()
		if id.subject.Operator {
			id.subject.Account = who(ctx).subject.Account
		}
		return context.WithValue(ctx, identityKey{}, &id), nil
	}
	s, err := d.store.Catalog.FindSession(ctx, id.session.Token, time.Now())
	if err == nil && s == nil {
		err = sessionEnded()
	}
	if err != nil {
		return nil, err
	}
	s.Account = id.session.Account
	id.session = s
	return context.WithValue(ctx, identityKey{}, &id), d.holder(ctx, &id)
}

// again asks anew while a transfer goes on.
func (d *Desk) again(ctx context.Context, do access.Rights, a catalog.Address) func() error {
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
		return d.mayAt(now, do, a.Bucket, a.Key.String())
	}
}

// stillMay gives a context for a call that lasts, which ends when who asks may not go on: may is asked each
// second, as they are then. works.RefusedOf tells of it.
func (d *Desk) stillMay(ctx context.Context, may func(context.Context) error) (context.Context, context.CancelFunc) {
	return works.Still(ctx, func(ctx context.Context) error {
		now, err := d.asNow(ctx)
		if err != nil {
			return err
		}
		return may(now)
	})
}

// hideMissing is hide for errors that say something is not there.
func (d *Desk) hideMissing(ctx context.Context, a catalog.Address, err error) error {
	if err == nil || fault.KindOf(err) != fault.NotFound || fault.HasCode(err, "bucket-missing") {
		return err
	}
	return d.hide(ctx, a, err)
}

// mayAskOf refuses conditions on what is at an address to those who may neither
// list nor read it: the answer would tell them what is there.
func (d *Desk) mayAskOf(ctx context.Context, a catalog.Address) error {
	id := who(ctx)
	for _, do := range []access.Rights{access.List, access.Read} {
		x, _, err := d.gate.Decide(ctx, gate.Ask{Subject: id.subject, Source: id.source, Do: do, Bucket: a.Bucket,
			Key: a.Key.String()})
		if err != nil || x.Allowed {
			return err
		}
	}
	return access.Decision{Why: id.subject.String() +
		" may neither list nor read what is there, which a condition would tell",
		Remedy: "ask without a condition, or have listing granted as well"}.Refused()
}

// hide turns what is not there into a refusal for those who may not list it.
func (d *Desk) hide(ctx context.Context, a catalog.Address, err error) error {
	s := who(ctx).subject
	x, _, derr := d.gate.Decide(ctx, gate.Ask{Subject: s, Do: access.List, Bucket: a.Bucket, Key: a.Key.String()})
	switch {
	case derr != nil:
		return derr
	case x.Allowed:
		return err
	}
	return access.Decision{Why: "there may be no such object, and " + s.String() + " may not list what there is",
		Remedy: "check the key, or have listing granted as well"}.Refused()
}

// wide gives the account whose buckets who asks sees as a whole, for figures over
// all of them; "" for every account. Who is limited to parts sees no such figures.
func (d *Desk) wide(ctx context.Context) (string, error) {
	s := who(ctx).subject
	switch {
	case s.Operator:
		return "", nil
	case s.Role == access.None || len(s.Limits) > 0:
		return "", d.refused(ctx, s.Account, "list", fmt.Sprintf("%s sees only some buckets of the account %s", s, s.Account),
			"ask for one bucket")
	}
	return s.Account, nil
}

// journalOf gives the account to which a look at changes is bound, once it is
// allowed: "" when it is of one bucket.
func (d *Desk) journalOf(ctx context.Context, bucket, prefix string) (string, error) {
	if bucket == "" {
		return d.wide(ctx)
	}
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return "", err
	}
	err = d.mayAt(ctx, access.List, name, prefix)
	if fault.HasCode(err, "bucket-missing") && who(ctx).subject.Operator {
		return "", nil // what a removed bucket left in the journal
	}
	return "", err
}

// mayOrder refuses an order that does what who asks may not. One of a bucket that
// was removed is the operators' affair.
func (d *Desk) mayOrder(ctx context.Context, o *catalog.Order) error {
	if o.Gone {
		if who(ctx).subject.Operator {
			return nil
		}
		return catalog.OrderMissing(o.ID)
	}
	needs, err := works.Needs(o)
	if err != nil {
		return err
	}
	for _, n := range needs {
		if err := d.mayAt(ctx, n.Do, n.Bucket, n.Prefix); err != nil {
			return err
		}
	}
	return d.mayAskAbout(ctx, o)
}

// mayAskAbout reads the expression of an order, and refuses one that asks what is not told of buckets of
// others.
func (d *Desk) mayAskAbout(ctx context.Context, o *catalog.Order) error {
	if o.What.Found == nil {
		return nil
	}
	x, err := d.question(ctx, o.What.Found.Where, d.store.Catalog.Now())
	if err != nil {
		return fault.From(err).In("where")
	}
	if looksAt(x, "writer") {
		o.What.Found.Where = x.String() // keys have other names later
	}
	seen, err := d.veilFor(ctx, o.Bucket)
	if err == nil && !seen.inside && looksAt(x, "writer", "replication") {
		err = fault.New(fault.Refused, "not-allowed",
			"who wrote there, and what is copied, is not told of buckets of others").In("where").
			Do("ask for something else")
	}
	return err
}
