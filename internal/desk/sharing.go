package desk

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/keyring"
)

// linkKey gives the key that signs a link: the one that asks, or one of the
// account's that may read the object. The link cannot outlive it, nor reach more.
func (d *Desk) linkKey(ctx context.Context, a catalog.Address, with string, holds time.Duration) (*keyring.Key, error) {
	id := who(ctx)
	k := id.key
	if with != "" && (k == nil || with != k.ID) {
		if err := d.administers(ctx, id.subject.Account, "sign a link with a key"); err != nil {
			return nil, err
		}
		named, err := d.keyID(ctx, with)
		if err != nil {
			return nil, err
		}
		if k, err = d.gate.Keys.Find(ctx, named); err != nil {
			return nil, err
		}
		if k == nil || k.Account != id.subject.Account && !id.subject.Operator {
			return nil, fault.New(fault.NotFound, "key-missing", "the account %s has no key %q", id.subject.Account, with).
				In("with").Do("choose one of its keys")
		}
		if err := k.Works(time.Now()); err != nil {
			return nil, err
		}
		if err := d.mayUse(ctx, k.ID, k.Operator); err != nil {
			return nil, err
		}
		x, _, err := d.gate.Decide(ctx, gate.Ask{Subject: k.Subject(), Do: access.Read, Bucket: a.Bucket,
			Key: a.Key.String()})
		if err != nil {
			return nil, err
		}
		if !x.Allowed {
			return nil, x.Refused()
		}
	}
	if k == nil {
		return nil, fault.New(fault.Invalid, "link-key", "a link is signed by an access key, and a person has none").
			In("with").Do("choose a key of the account that may read the object")
	}
	if k.Expires != nil && time.Now().Add(holds).After(*k.Expires) {
		return nil, fault.New(fault.Invalid, "link-outlives", "the key %s expires on %s, before the link would", k.ID,
			k.Expires.UTC().Format("2006-01-02 15:04 MST")).In("seconds").Do("choose a shorter time")
	}
	return k, nil
}

// sharing gives what who asks may do in all of a bucket, and to whom it was
// opened, for those who may know.
func (d *Desk) sharing(ctx context.Context, b *catalog.Bucket) ([]string, []api.SharedWith, error) {
	book, err := d.gate.Book(ctx)
	if err != nil {
		return nil, nil, err
	}
	s, now := who(ctx).subject, time.Now()
	rights := access.Reach(s, access.Target{Bucket: b.Name.String(), Owner: b.Account}, book, now)
	names := rights.Names()
	if names == nil {
		names = []string{}
	}
	var shared []api.SharedWith
	inside := d.veilOf(ctx, b.Account).inside
	for _, g := range book.On(b.Name.String()) {
		if g.Holds(now) && (rights&access.Settings != 0 || inside || g.To.Kind == access.ToAnyone) {
			shared = append(shared, api.SharedWith{Grant: g.ID, To: g.To.String(), For: g.Rights.Purpose(), Prefix: g.Prefix})
		}
	}
	return names, shared, nil
}

// reach gives what who asks may do with a key, or beneath a prefix.
func (d *Desk) reach(ctx context.Context, bucket, key string) ([]string, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
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
	return orNone(access.Reach(who(ctx).subject, access.Target{Bucket: bucket, Owner: owner, Key: key}, book, time.Now())),
		nil
}
