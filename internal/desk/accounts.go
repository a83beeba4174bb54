package desk

import (
	"context"
	"regexp"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// AccountPath names an account.
type AccountPath struct {
	Account string `path:"account" maxLength:"64"`
}

var validName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,62}$`)

func checkName(field, name string) error {
	if !validName.MatchString(name) {
		return fault.New(fault.Invalid, "name", "%q is no name: it has 2 to 63 small letters, digits and hyphens", name).
			In(field)
	}
	return nil
}

type accountOut struct{ Body api.AccountInfo }

// sees reports whether who asks may know of an account.
func (d *Desk) knows(ctx context.Context, account string) bool {
	s := who(ctx).subject
	return s.Operator || s.Account == account
}

func (d *Desk) accountCalls(to *calls) {
	call(to, rule{}, "list-accounts", "GET /accounts", "access",
		"List accounts: all for operators, else your own", d.listAccounts)
	call(to, rule{}, "show-account", "GET /accounts/{account}", "access", "Show an account", d.showAccount)
	call(to, rule{oper: true}, "create-account", "POST /accounts", "access",
		"Create an account", d.createAccount, answers(201))
	call(to, rule{oper: true}, "change-account", "PATCH /accounts/{account}", "access",
		"Change an account's note and quotas", d.changeAccount)
	call(to, rule{oper: true}, "remove-account", "DELETE /accounts/{account}", "access",
		"Remove an account without buckets, with its keys and grants", d.removeAccount, answers(204))
	d.peopleCalls(to)
	d.sessionListCalls(to)
}

func (d *Desk) account(ctx context.Context, name string) (*accountOut, error) {
	if !d.knows(ctx, name) {
		return nil, notYours(ctx, name)
	}
	a, err := d.store.Catalog.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	return &accountOut{api.AccountInfo(*a)}, nil
}

type accounts struct{ Body api.AccountPage }

func (d *Desk) listAccounts(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"64"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*accounts, error) {
	out := &accounts{}
	var err error
	out.Body.Accounts, out.Body.Next, err = paged(in.After, in.Limit,
		func(after string, limit int) ([]catalog.Account, error) {
			return d.store.Catalog.Accounts(ctx, after, limit)
		},
		func(a catalog.Account) string { return a.Name },
		func(a catalog.Account) (api.AccountInfo, bool, error) {
			return api.AccountInfo(a), d.knows(ctx, a.Name), nil
		})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (d *Desk) showAccount(ctx context.Context, in *AccountPath) (*accountOut, error) {
	return d.account(ctx, in.Account)
}

func (d *Desk) createAccount(ctx context.Context, in *struct {
	Body api.NewAccount
}) (*accountOut, error) {
	a := catalog.Account{Name: in.Body.Name, Note: in.Body.Note, Quota: in.Body.Quota, MaxBuckets: in.Body.MaxBuckets}
	err := checkName("name", a.Name)
	if err == nil {
		err = access.CheckNote(a.Note)
	}
	if err == nil {
		err = d.store.Catalog.CreateAccount(ctx, a, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return d.account(ctx, a.Name)
}

func (d *Desk) changeAccount(ctx context.Context, in *struct {
	AccountPath
	Body api.AccountChange
}) (*accountOut, error) {
	a, err := d.store.Catalog.Account(ctx, in.Account)
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
		if a.Region, err = d.bucketRegion(ctx, in.Account, *in.Body.Region); err != nil {
			return nil, err
		}
		if a.Region == d.store.Region {
			a.Region = ""
		}
	}
	set(&a.Placement, in.Body.Placement)
	set(&a.Fixed, in.Body.Fixed)
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
		err = d.fixPlacementEverywhere(ctx, a)
	}
	if err == nil {
		err = d.store.Catalog.ChangeAccount(ctx, *a, d.store.Now(author(ctx)))
	}
	if err != nil {
		return nil, err
	}
	return d.account(ctx, in.Account)
}

func (d *Desk) removeAccount(ctx context.Context, in *AccountPath) (*struct{}, error) {
	if err := d.store.Catalog.RemoveAccount(ctx, in.Account, author(ctx)); err != nil {
		return nil, err
	}
	d.gate.Changed()
	return nil, nil
}
