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
)

// grantInfo tells of a grant; who gave it is the business of the giving account.
func (d *Desk) grantInfo(ctx context.Context, r catalog.GrantRow) api.GrantInfo {
	g := r.Grant()
	return api.GrantInfo{ID: r.ID, Bucket: r.Bucket, Prefix: string(r.Prefix), Account: r.Account, To: g.To.String(),
		For: r.Rights.Purpose(), Rights: r.Rights.Names(), Expires: r.Expires, Expired: !g.Holds(time.Now()),
		Note: r.Note, Created: r.Created.UTC(), CreatedBy: d.VeilOf(ctx, r.Account).By(r.CreatedBy), Revision: r.Revision}
}

// GrantPath names a grant.
type GrantPath struct {
	ID int64 `path:"id" minimum:"1"`
}

type grantOut struct{ Body api.GrantInfo }

// ofGrant gives a grant on a bucket whose settings who asks may change.
func (d *Desk) ofGrant(ctx context.Context, id int64) (*catalog.GrantRow, error) {
	r, err := d.Store.Catalog.GrantOf(ctx, id)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(r.Bucket)
	if err != nil {
		return nil, err
	}
	err = d.MayAt(ctx, access.Settings, name, "")
	if s := middle.Who(ctx).Subject; fault.HasCode(err, "not-allowed") && s.Account != r.Account {
		return nil, catalog.GrantMissing(id) // which buckets others have is not told
	}
	return r, err
}

func (d *Desk) grantCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-grants", "GET /grants", "access",
		"List grants: of one bucket, or those one's account gave and got", d.listGrants)
	middle.Call(to, middle.Rule{}, "show-grant", "GET /grants/{id}", "access", "Show a grant", d.showGrant)
	middle.Call(to, middle.Rule{}, "create-grant", "POST /grants", "access",
		"Open a bucket or prefix to an account, a person, a key, or anyone", d.createGrantCall, middle.Answers(201))
	middle.Call(to, middle.Rule{}, "change-grant", "PATCH /grants/{id}", "access",
		"Change what a grant gives, and until when", d.changeGrant)
	middle.Call(to, middle.Rule{}, "remove-grant", "DELETE /grants/{id}", "access", "Take a grant away", d.removeGrant, middle.Answers(204))
}

func (d *Desk) grants(ctx context.Context, bucket, to, account string, after int64, limit int) ([]catalog.GrantRow,
	error) {
	s := middle.Who(ctx).Subject
	if !s.Operator {
		if account != "" && account != s.Account {
			return nil, middle.NotYours(ctx, account)
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
			err = d.MayAt(ctx, access.Settings, name, "")
		}
		if err != nil {
			return nil, err
		}
		account = ""
	} else if err := d.Administers(ctx, s.Account, "list grants"); err != nil {
		return nil, err
	}
	return d.Store.Catalog.Grants(ctx, account, bucket, g, after, limit)
}

func (d *Desk) createGrant(ctx context.Context, bucket, prefix, to, purpose, expires, note string) (*catalog.GrantRow,
	error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	if err := d.MayAt(ctx, access.Settings, name, ""); err != nil {
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
	if err := d.house.MayMiss(ctx); err != nil {
		return nil, err
	}
	id, err := d.Store.Catalog.CreateGrant(ctx, r, middle.Author(ctx))
	if fault.HasCode(err, "grantee-missing") {
		d.house.Missed(ctx, "grant to "+middle.Limited(to))
	}
	if err != nil {
		return nil, err
	}
	d.Gate.Changed()
	return d.Store.Catalog.GrantOf(ctx, id)
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
	list, out.Body.Next = middle.Cut(list, in.Limit, func(x catalog.GrantRow) int64 { return x.ID })
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
	err := d.Store.Catalog.ChangeGrant(ctx, in.ID, b.IfRevision, middle.Author(ctx), func(r *catalog.GrantRow) (err error) {
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
	d.Gate.Changed()
	r, err := d.Store.Catalog.GrantOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &grantOut{d.grantInfo(ctx, *r)}, nil
}

func (d *Desk) removeGrant(ctx context.Context, in *GrantPath) (*struct{}, error) {
	_, err := d.ofGrant(ctx, in.ID)
	if err == nil {
		err = d.Store.Catalog.RemoveGrant(ctx, in.ID, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.Gate.Changed()
	return nil, nil
}
