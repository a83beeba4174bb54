package access

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/gate"
	"spindle/internal/keyring"
)

// LinkKey gives the key that signs a link: the one that asks, or one of the
// account's that may read the object. The link cannot outlive it, nor reach more.
func (d *Desk) LinkKey(ctx context.Context, a catalog.Address, with string, holds time.Duration) (*keyring.Key, error) {
	id := middle.Who(ctx)
	k := id.Key
	if with != "" && (k == nil || with != k.ID) {
		if err := d.Administers(ctx, id.Subject.Account, "sign a link with a key"); err != nil {
			return nil, err
		}
		named, err := d.KeyID(ctx, with)
		if err != nil {
			return nil, err
		}
		if k, err = d.Gate.Keys.Find(ctx, named); err != nil {
			return nil, err
		}
		if k == nil || k.Account != id.Subject.Account && !id.Subject.Operator {
			return nil, fault.New(fault.NotFound, "key-missing", "the account %s has no key %q", id.Subject.Account, with).
				In("with").Do("choose one of its keys")
		}
		if err := k.Works(time.Now()); err != nil {
			return nil, err
		}
		if err := d.mayUse(ctx, k.ID, k.Operator); err != nil {
			return nil, err
		}
		x, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: k.Subject(), Do: access.Read, Bucket: a.Bucket,
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

// Sharing gives what who asks may do in all of a bucket, and to whom it was
// opened, for those who may know.
func (d *Desk) Sharing(ctx context.Context, b *catalog.Bucket) ([]string, []api.SharedWith, error) {
	book, err := d.Gate.Book(ctx)
	if err != nil {
		return nil, nil, err
	}
	s, now := middle.Who(ctx).Subject, time.Now()
	rights := access.Reach(s, access.Target{Bucket: b.Name.String(), Owner: b.Account}, book, now)
	names := rights.Names()
	if names == nil {
		names = []string{}
	}
	var shared []api.SharedWith
	inside := d.VeilOf(ctx, b.Account).Inside
	for _, g := range book.On(b.Name.String()) {
		if g.Holds(now) && (rights&access.Settings != 0 || inside || g.To.Kind == access.ToAnyone) {
			shared = append(shared, api.SharedWith{Grant: g.ID, To: g.To.String(), For: g.Rights.Purpose(), Prefix: g.Prefix})
		}
	}
	return names, shared, nil
}

// Reach gives what who asks may do with a key, or beneath a prefix.
func (d *Desk) Reach(ctx context.Context, bucket, key string) ([]string, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
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
	return orNone(access.Reach(middle.Who(ctx).Subject, access.Target{Bucket: bucket, Owner: owner, Key: key}, book, time.Now())),
		nil
}
