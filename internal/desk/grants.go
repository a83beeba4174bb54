package desk

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// grantInfo tells of a grant; who gave it is the business of the giving account.
func (d *Desk) grantInfo(ctx context.Context, r catalog.GrantRow) api.GrantInfo {
	g := r.Grant()
	return api.GrantInfo{ID: r.ID, Bucket: r.Bucket, Prefix: string(r.Prefix), Account: r.Account, To: g.To.String(),
		For: r.Rights.Purpose(), Rights: r.Rights.Names(), Expires: r.Expires, Expired: !g.Holds(time.Now()),
		Note: r.Note, Created: r.Created.UTC(), CreatedBy: d.veilOf(ctx, r.Account).by(r.CreatedBy), Revision: r.Revision}
}

// GrantPath names a grant.
type GrantPath struct {
	ID int64 `path:"id" minimum:"1"`
}

type grantOut struct{ Body api.GrantInfo }

// ofGrant gives a grant on a bucket whose settings who asks may change.
func (d *Desk) ofGrant(ctx context.Context, id int64) (*catalog.GrantRow, error) {
	r, err := d.store.Catalog.GrantOf(ctx, id)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(r.Bucket)
	if err != nil {
		return nil, err
	}
	err = d.mayAt(ctx, access.Settings, name, "")
	if s := who(ctx).subject; fault.HasCode(err, "not-allowed") && s.Account != r.Account {
		return nil, catalog.GrantMissing(id) // which buckets others have is not told
	}
	return r, err
}

func (d *Desk) grantCalls(to *calls) {
	call(to, rule{}, "list-grants", "GET /grants", "access",
		"List grants: of one bucket, or those one's account gave and got", d.listGrants)
	call(to, rule{}, "show-grant", "GET /grants/{id}", "access", "Show a grant", d.showGrant)
	call(to, rule{}, "create-grant", "POST /grants", "access",
		"Open a bucket or prefix to an account, a person, a key, or anyone", d.createGrantCall, answers(201))
	call(to, rule{}, "change-grant", "PATCH /grants/{id}", "access",
		"Change what a grant gives, and until when", d.changeGrant)
	call(to, rule{}, "remove-grant", "DELETE /grants/{id}", "access", "Take a grant away", d.removeGrant, answers(204))
}

func (d *Desk) grants(ctx context.Context, bucket, to, account string, after int64, limit int) ([]catalog.GrantRow,
	error) {
	s := who(ctx).subject
	if !s.Operator {
		if account != "" && account != s.Account {
			return nil, notYours(ctx, account)
		}
		account = s.Account
	}
	var g access.Grantee
	if to != "" {
		var err error
		if g, err = d.grantee(ctx, to); err != nil {
			return nil, err
		}
	}
	if bucket != "" {
		name, err := object.ParseBucketName(bucket)
		if err == nil {
			err = d.mayAt(ctx, access.Settings, name, "")
		}
		if err != nil {
			return nil, err
		}
		account = ""
	} else if err := d.administers(ctx, s.Account, "list grants"); err != nil {
		return nil, err
	}
	return d.store.Catalog.Grants(ctx, account, bucket, g, after, limit)
}

func (d *Desk) createGrant(ctx context.Context, bucket, prefix, to, purpose, expires, note string) (*catalog.GrantRow,
	error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	if err := d.mayAt(ctx, access.Settings, name, ""); err != nil {
		return nil, err
	}
	if err := object.CheckText("prefix", prefix); err != nil {
		return nil, err
	}
	if err := access.CheckNote(note); err != nil {
		return nil, err
	}
	r := catalog.GrantRow{Bucket: bucket, Prefix: []byte(prefix), Note: note}
	g, err := d.grantee(ctx, to)
	if err != nil {
		return nil, err
	}
	r.ToKind, r.ToName = g.Kind, g.Name
	if r.Rights, err = access.ParseRights(purpose); err != nil {
		return nil, err
	}
	if r.Expires, err = until("expires", expires); err != nil {
		return nil, err
	}
	if err := r.Grant().Check(); err != nil {
		return nil, err
	}
	if err := d.mayMiss(ctx); err != nil {
		return nil, err
	}
	id, err := d.store.Catalog.CreateGrant(ctx, r, author(ctx))
	if fault.HasCode(err, "grantee-missing") {
		d.missed(ctx, "grant to "+limited(to))
	}
	if err != nil {
		return nil, err
	}
	d.gate.Changed()
	return d.store.Catalog.GrantOf(ctx, id)
}

type grants struct{ Body api.GrantPage }

func (d *Desk) listGrants(ctx context.Context, in *struct {
	Bucket  string `query:"bucket" maxLength:"64"`
	To      string `query:"to" maxLength:"128" doc:"account:NAME, person:NAME or key:ID"`
	Account string `query:"account" maxLength:"64" doc:"For operators: given or got by this account"`
	After   int64  `query:"after" minimum:"0"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*grants, error) {
	list, err := d.grants(ctx, in.Bucket, in.To, in.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &grants{}
	list, out.Body.Next = cut(list, in.Limit, func(x catalog.GrantRow) int64 { return x.ID })
	out.Body.Grants = []api.GrantInfo{}
	for _, r := range list {
		out.Body.Grants = append(out.Body.Grants, d.grantInfo(ctx, r))
	}
	return out, nil
}

func (d *Desk) showGrant(ctx context.Context, in *GrantPath) (*grantOut, error) {
	r, err := d.ofGrant(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &grantOut{d.grantInfo(ctx, *r)}, nil
}

func (d *Desk) createGrantCall(ctx context.Context, in *struct {
	Body api.NewGrant
}) (*grantOut, error) {
	r, err := d.createGrant(ctx, in.Body.Bucket, in.Body.Prefix, in.Body.To, in.Body.For, in.Body.Expires, in.Body.Note)
	if err != nil {
		return nil, err
	}
	return &grantOut{d.grantInfo(ctx, *r)}, nil
}

func (d *Desk) changeGrant(ctx context.Context, in *struct {
	GrantPath
	Body api.GrantChange
}) (*grantOut, error) {
	if _, err := d.ofGrant(ctx, in.ID); err != nil {
		return nil, err
	}
	b := in.Body
	err := d.store.Catalog.ChangeGrant(ctx, in.ID, b.IfRevision, author(ctx), func(r *catalog.GrantRow) (err error) {
		if b.For != nil {
			if r.Rights, err = access.ParseRights(*b.For); err != nil {
				return err
			}
		}
		if b.Expires != nil {
			if r.Expires, err = until("expires", *b.Expires); err != nil {
				return err
			}
		}
		if b.Note != nil {
			if err := access.CheckNote(*b.Note); err != nil {
				return err
			}
			r.Note = *b.Note
		}
		return r.Grant().Check()
	})
	if err != nil {
		return nil, err
	}
	d.gate.Changed()
	r, err := d.store.Catalog.GrantOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &grantOut{d.grantInfo(ctx, *r)}, nil
}

func (d *Desk) removeGrant(ctx context.Context, in *GrantPath) (*struct{}, error) {
	_, err := d.ofGrant(ctx, in.ID)
	if err == nil {
		err = d.store.Catalog.RemoveGrant(ctx, in.ID, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.gate.Changed()
	return nil, nil
}
