package desk

import (
	"context"
	"net/http"
	"regexp"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
)

// AccountPath names an account.
type AccountPath struct {
	Account string `path:"account" maxLength:"64"`
}

var validName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,62}$`)

func checkName(field, name string) error {
	if !validName.MatchString(name) {
		return fault.New(fault.Invalid, "name", "%q is no name: it has 2 to 63 small letters, digits and hyphens", name).In(field)
	}
	return nil
}

// AccountInfo is an account with what it holds.
type AccountInfo = catalog.Account

// MasterInfo says which master key is in force.
type MasterInfo = keyring.Master

// TrailKinds are the kinds of entries of the audit trail.
var TrailKinds = catalog.TrailKinds

type accountOut struct{ Body catalog.Account }

// sees reports whether who asks may know of an account.
func (d *Desk) knows(ctx context.Context, account string) bool {
	s := who(ctx).subject
	return s.Operator || s.Account == account
}

func (d *Desk) accountCalls(api huma.API) {
	type accounts struct {
		Body struct {
			Accounts []catalog.Account `json:"accounts"`
			Next     string            `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "list-accounts", Method: http.MethodGet, Path: "/api/v1/accounts", Summary: "List accounts: all for operators, one's own otherwise", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
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
				func(a catalog.Account) (catalog.Account, bool, error) { return a, d.knows(ctx, a.Name), nil })
			if err != nil {
				return nil, d.problem(err)
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "show-account", Method: http.MethodGet, Path: "/api/v1/accounts/{account}", Summary: "Show an account", Tags: []string{"access"}},
		func(ctx context.Context, in *AccountPath) (*accountOut, error) { return d.account(ctx, in.Account) })
	huma.Register(api, huma.Operation{OperationID: "create-account", Method: http.MethodPost, Path: "/api/v1/accounts", Summary: "Create an account", Tags: []string{"access"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Name       string `json:"name" maxLength:"256"`
				Note       string `json:"note,omitempty"`
				Quota      *int64 `json:"quota,omitempty" minimum:"1" doc:"Bytes of all its buckets"`
				MaxBuckets *int   `json:"maxBuckets,omitempty" minimum:"0"`
			}
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
				return nil, d.problem(err)
			}
			return d.account(ctx, a.Name)
		})
	huma.Register(api, huma.Operation{OperationID: "change-account", Method: http.MethodPatch, Path: "/api/v1/accounts/{account}", Summary: "Change an account's note and quotas", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			AccountPath
			Body struct {
				Note       *string       `json:"note,omitempty"`
				Quota      optionalQuota `json:"quota,omitempty" required:"false"`
				MaxBuckets optionalQuota `json:"maxBuckets,omitempty" required:"false"`
				IfRevision int           `json:"ifRevision,omitempty" minimum:"1"`
			}
		}) (*accountOut, error) {
			a, err := d.store.Catalog.Account(ctx, in.Account)
			if err != nil {
				return nil, d.problem(err)
			}
			if in.Body.Note != nil {
				a.Note = *in.Body.Note
			}
			if in.Body.Quota.given {
				a.Quota = in.Body.Quota.value
			}
			if in.Body.MaxBuckets.given {
				a.MaxBuckets = nil
				if v := in.Body.MaxBuckets.value; v != nil {
					n := int(*v)
					a.MaxBuckets = &n
				}
			}
			if in.Body.IfRevision != 0 {
				a.Revision = in.Body.IfRevision
			}
			if a.Quota != nil && *a.Quota < 1 || a.MaxBuckets != nil && *a.MaxBuckets < 0 {
				err = fault.New(fault.Invalid, "quota-value", "a quota is at least 1 byte, a number of buckets not below 0").In("quota")
			}
			if err == nil {
				err = access.CheckNote(a.Note)
			}
			if err == nil {
				err = d.store.Catalog.ChangeAccount(ctx, *a, author(ctx))
			}
			if err != nil {
				return nil, d.problem(err)
			}
			return d.account(ctx, in.Account)
		})
	huma.Register(api, huma.Operation{OperationID: "remove-account", Method: http.MethodDelete, Path: "/api/v1/accounts/{account}", Summary: "Remove an account without buckets, with its keys and grants", Tags: []string{"access"}, DefaultStatus: 204},
		func(ctx context.Context, in *AccountPath) (*struct{}, error) {
			if err := d.store.Catalog.RemoveAccount(ctx, in.Account, author(ctx)); err != nil {
				return nil, d.problem(err)
			}
			d.gate.Changed()
			return nil, nil
		})
	d.peopleCalls(api)
	d.sessionListCalls(api)
}

func (d *Desk) account(ctx context.Context, name string) (*accountOut, error) {
	if !d.knows(ctx, name) {
		return nil, d.problem(notYours(ctx, name))
	}
	a, err := d.store.Catalog.Account(ctx, name)
	if err != nil {
		return nil, d.problem(err)
	}
	return &accountOut{*a}, nil
}
