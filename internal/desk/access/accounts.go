package access

import (
	"context"
	"regexp"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

var validName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,62}$`)

func checkName(field, name string) error {
	if !validName.MatchString(name) {
		return fault.New(fault.Invalid, "name", "%q is no name: it has 2 to 63 small letters, digits and hyphens", name).
			In(field)
	}
	return nil
}

func (d *Desk) accountCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-accounts", "GET /accounts", "access",
		"List accounts: all for operators, else your own", d.listAccounts)
	middle.Call(to, middle.Rule{}, "show-account", "GET /accounts/{account}", "access", "Show an account", d.showAccount)
	middle.Call(to, middle.Rule{Oper: true}, "create-account", "POST /accounts", "access",
		"Create an account", d.createAccount, middle.Answers(201))
	middle.Call(to, middle.Rule{Oper: true}, "change-account", "PATCH /accounts/{account}", "access",
		"Change an account's note and quotas", d.changeAccount)
	middle.Call(to, middle.Rule{Oper: true}, "remove-account", "DELETE /accounts/{account}", "access",
		"Remove an account without buckets, with its keys and grants", d.removeAccount, middle.Answers(204))
}

type accounts struct{ Body api.AccountPage }

func (d *Desk) listAccounts(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"64"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*accounts, error) {
	out := &accounts{}
	var err error
	out.Body.Accounts, out.Body.Next, err = middle.Paged(in.After, in.Limit,
		func(after string, limit int) ([]catalog.Account, error) {
			return d.Store.Catalog.Accounts(ctx, after, limit)
		},
		func(a catalog.Account) string { return a.Name },
		func(a catalog.Account) (api.AccountInfo, bool, error) {
			return api.AccountInfo(a), d.Knows(ctx, a.Name), nil
		})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (d *Desk) showAccount(ctx context.Context, in *middle.AccountPath) (*middle.AccountOut, error) {
	return d.Account(ctx, in.Account)
}

func (d *Desk) createAccount(ctx context.Context, in *struct {
	Body api.NewAccount
}) (*middle.AccountOut, error) {
	a := catalog.Account{Name: in.Body.Name, Note: in.Body.Note, Quota: in.Body.Quota, MaxBuckets: in.Body.MaxBuckets}
	err := checkName("name", a.Name)
	if err == nil {
		err = access.CheckNote(a.Note)
	}
	if err == nil {
		err = d.Store.Catalog.CreateAccount(ctx, a, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return d.Account(ctx, a.Name)
}

func (d *Desk) changeAccount(ctx context.Context, in *struct {
	middle.AccountPath
	Body api.AccountChange
}) (*middle.AccountOut, error) {
	a, err := d.Store.Catalog.Account(ctx, in.Account)
	if err != nil {
		return nil, err
	}
	before := *a
	if in.Body.Note != nil {
		a.Note = *in.Body.Note
	}
	if in.Body.Quota.Given {
		a.Quota = in.Body.Quota.Value
	}
	if in.Body.MaxBuckets.Given {
		a.MaxBuckets = nil
		if v := in.Body.MaxBuckets.Value; v != nil {
			n := int(*v)
			a.MaxBuckets = &n
		}
	}
	if in.Body.Region != nil {
		if a.Region, err = d.house.BucketRegion(ctx, in.Account, *in.Body.Region); err != nil {
			return nil, err
		}
		if a.Region == d.Store.Region {
			a.Region = ""
		}
	}
	middle.Set(&a.Placement, in.Body.Placement)
	middle.Set(&a.Fixed, in.Body.Fixed)
	if a.Placement == "none" {
		a.Placement = ""
	}
	if in.Body.IfRevision != 0 {
		a.Revision = in.Body.IfRevision
	}
	if a.Quota != nil && *a.Quota < 1 || a.MaxBuckets != nil && *a.MaxBuckets < 0 {
		err = fault.New(fault.Invalid, "quota-value", "a quota is at least 1 byte, a number of buckets not below 0").
			In("quota")
	}
	if err == nil {
		err = access.CheckNote(a.Note)
	}
	if placed := a.Fixed != before.Fixed || a.Fixed && a.Placement != before.Placement; err == nil && placed &&
		!in.Body.Alone {
		err = d.house.FixPlacementEverywhere(ctx, a)
	}
	if err == nil {
		err = d.Store.Catalog.ChangeAccount(ctx, *a, d.Store.Now(middle.Author(ctx)))
	}
	if err != nil {
		return nil, err
	}
	return d.Account(ctx, in.Account)
}

func (d *Desk) removeAccount(ctx context.Context, in *middle.AccountPath) (*struct{}, error) {
	if err := d.Store.Catalog.RemoveAccount(ctx, in.Account, middle.Author(ctx)); err != nil {
		return nil, err
	}
	d.Gate.Changed()
	return nil, nil
}
