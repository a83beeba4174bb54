package desk

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/keyring"
)

// KeyInfo is an access key, without its secret.
type KeyInfo struct {
	ID         string     `json:"id"`
	Account    string     `json:"account"`
	Name       string     `json:"name" doc:"The application that uses it"`
	Note       string     `json:"note,omitempty" doc:"What it is for"`
	Role       string     `json:"role" enum:"reader,writer,administrator"`
	Operator   bool       `json:"operator,omitempty" doc:"It operates the service"`
	Limits     []string   `json:"limits" doc:"Buckets and bucket/prefix that it is limited to; none: all of the account's"`
	Rate       int        `json:"rate,omitempty" doc:"Requests a second that it may make; absent for any number"`
	State      string     `json:"state" enum:"active,off,expired,replaced" doc:"A replaced one works until it expires"`
	Active     bool       `json:"active"`
	Expires    *time.Time `json:"expires"`
	Used       *time.Time `json:"used" doc:"Last, to some seconds"`
	UsedFrom   string     `json:"usedFrom,omitempty"`
	ReplacedBy string     `json:"replacedBy,omitempty"`
	Created    time.Time  `json:"created"`
	CreatedBy  string     `json:"createdBy"`
	Revision   int        `json:"revision"`
}

func keyInfo(k *catalog.AccessKey) KeyInfo {
	out := KeyInfo{ID: k.ID, Account: k.Account, Name: k.Name, Note: k.Note, Role: k.Role.String(), Operator: k.Operator, Limits: []string{}, Rate: k.Rate, State: "active", Active: k.Active, Expires: k.Expires, Used: k.Used, UsedFrom: k.UsedFrom,
		Created: k.Created.UTC(), CreatedBy: k.CreatedBy, Revision: k.Revision}
	for _, l := range k.Limits {
		out.Limits = append(out.Limits, l.String())
	}
	if k.Replaced != nil {
		out.ReplacedBy, out.State = *k.Replaced, "replaced"
	}
	switch {
	case !k.Active:
		out.State = "off"
	case k.Expires != nil && !k.Expires.After(time.Now()):
		out.State = "expired"
	}
	return out
}

// KeySecret is a key with its secret, shown once.
type KeySecret struct {
	Key    KeyInfo `json:"key"`
	Secret string  `json:"secret,omitempty" doc:"Shown once; empty when it was brought along"`
}

// KeyPath names a key.
type KeyPath struct {
	Key string `path:"key" maxLength:"64"`
}

type keyOut struct{ Body KeyInfo }

type keySecretOut struct{ Body KeySecret }

// parseLimits reads buckets and bucket/prefix.
func parseLimits(in []string) (catalog.Limits, error) {
	var out catalog.Limits
	for _, s := range in {
		bucket, prefix, _ := strings.Cut(s, "/")
		if _, err := object.ParseBucketName(bucket); err != nil {
			return nil, fault.From(err).In("limits")
		}
		if err := object.CheckText("limits", prefix); err != nil {
			return nil, err
		}
		out = append(out, access.Scope{Bucket: bucket, Prefix: prefix})
	}
	return out, nil
}

// until reads a moment to come, or a time from now such as 90d; "" for never.
func until(field, s string) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	t, err := object.ParseMomentToCome(s, time.Now().UTC())
	if err != nil {
		return nil, fault.From(err).In(field)
	}
	t = t.Truncate(time.Second)
	return &t, nil
}

// notBeyond refuses that a key which expires gives something that lasts longer.
func (d *Desk) notBeyond(ctx context.Context, expires *time.Time) error {
	k := who(ctx).key
	if k == nil || k.Expires == nil || expires != nil && !expires.After(*k.Expires) {
		return nil
	}
	return fault.New(fault.Refused, "key-outlives", "the key that asks expires on %s, and what it makes cannot last longer", k.Expires.UTC().Format("2006-01-02 15:04 MST")).In("expires").
		Do("choose an earlier end, or have a person or another key do it")
}

// mayUse refuses to act with a key that operates the service for who does not.
func (d *Desk) mayUse(ctx context.Context, id string, operator bool) error {
	if !operator || who(ctx).subject.Operator {
		return nil
	}
	return d.refused(ctx, id, "act with a key that operates the service", "the key "+id+" operates the service", "choose another key, or ask an operator")
}

// ofKey gives a key that who asks may administer.
func (d *Desk) ofKey(ctx context.Context, id string) (*catalog.AccessKey, error) {
	k, err := d.store.Catalog.Key(ctx, id)
	if err != nil {
		return nil, err
	}
	if k == nil || !who(ctx).subject.Administers(k.Account) {
		return nil, fault.New(fault.NotFound, "key-missing", "the account %s has no key with the id %q", who(ctx).subject.Account, id).In("key").Do("check the id")
	}
	return k, nil
}

func (d *Desk) keyShown(ctx context.Context, id, secret string) (*keySecretOut, error) {
	d.gate.Keys.Forget(id)
	k, err := d.ofKey(ctx, id)
	if err != nil {
		return nil, d.problem(err)
	}
	return &keySecretOut{KeySecret{keyInfo(k), secret}}, nil
}

func (d *Desk) keyCalls(api huma.API) {
	type keys struct {
		Body struct {
			Keys []KeyInfo `json:"keys"`
			Next string    `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "list-keys", Method: http.MethodGet, Path: "/api/v1/keys", Summary: "List access keys: all for operators, those of one's account otherwise", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			Account string `query:"account" maxLength:"64"`
			After   string `query:"after" maxLength:"64"`
			Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*keys, error) {
			s := who(ctx).subject
			if !s.Operator {
				if in.Account != "" && in.Account != s.Account {
					return nil, d.problem(notYours(ctx, in.Account))
				}
				in.Account = s.Account
			}
			list, err := d.store.Catalog.AccessKeys(ctx, in.Account, in.After, in.Limit+1)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &keys{}
			if len(list) > in.Limit {
				list = list[:in.Limit]
				out.Body.Next = list[in.Limit-1].ID
			}
			out.Body.Keys = []KeyInfo{}
			for _, k := range list {
				out.Body.Keys = append(out.Body.Keys, keyInfo(&k))
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "show-key", Method: http.MethodGet, Path: "/api/v1/keys/{key}", Summary: "Show an access key", Tags: []string{"access"}},
		func(ctx context.Context, in *KeyPath) (*keyOut, error) {
			k, err := d.ofKey(ctx, in.Key)
			if err != nil {
				return nil, d.problem(err)
			}
			return &keyOut{keyInfo(k)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "create-key", Method: http.MethodPost, Path: "/api/v1/keys", Summary: "Create an access key", Description: "It reads only, unless more is asked for. Its secret is in the answer, and nowhere after.", Tags: []string{"access"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Account  string   `json:"account,omitempty" maxLength:"64" doc:"The one that asks otherwise"`
				Name     string   `json:"name" minLength:"1" maxLength:"64" doc:"The application that uses it"`
				Note     string   `json:"note,omitempty"`
				Role     string   `json:"role,omitempty" default:"reader" doc:"reader, writer or administrator"`
				Operator bool     `json:"operator,omitempty" doc:"It operates the service: only an operator gives that"`
				Limits   []string `json:"limits,omitempty" maxItems:"100" doc:"Buckets, or bucket/prefix"`
				Rate     int      `json:"rate,omitempty" minimum:"0" maximum:"1000000"`
				Expires  string   `json:"expires,omitempty" maxLength:"64" doc:"A moment, or a time from now such as 90d"`
				ID       string   `json:"id,omitempty" maxLength:"64" doc:"Brought along; made otherwise"`
				Secret   string   `json:"secret,omitempty" maxLength:"128" doc:"Brought along, with the id"`
			}
		}) (*keySecretOut, error) {
			out, err := d.createKey(ctx, in.Body.Account, catalog.AccessKey{ID: in.Body.ID, Name: in.Body.Name, Note: in.Body.Note, Rate: in.Body.Rate, Operator: in.Body.Operator, Active: true}, in.Body.Role, in.Body.Limits, in.Body.Expires, in.Body.Secret)
			if err != nil {
				return nil, d.problem(err)
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "change-key", Method: http.MethodPatch, Path: "/api/v1/keys/{key}", Summary: "Change what an access key may do, or switch it off and on", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			KeyPath
			Body struct {
				Name       *string   `json:"name,omitempty" minLength:"1" maxLength:"64"`
				Note       *string   `json:"note,omitempty"`
				Role       *string   `json:"role,omitempty"`
				Operator   *bool     `json:"operator,omitempty" doc:"Only an operator gives it, takes it, or changes a key that has it"`
				Limits     *[]string `json:"limits,omitempty" maxItems:"100" doc:"In place of those there are; none takes them away"`
				Rate       *int      `json:"rate,omitempty" minimum:"0" maximum:"1000000"`
				Expires    *string   `json:"expires,omitempty" maxLength:"64" doc:"Empty for never"`
				Active     *bool     `json:"active,omitempty"`
				IfRevision int       `json:"ifRevision,omitempty" minimum:"1"`
			}
		}) (*keyOut, error) {
			b := in.Body
			if _, err := d.ofKey(ctx, in.Key); err != nil {
				return nil, d.problem(err)
			}
			err := d.store.Catalog.ChangeKey(ctx, in.Key, b.IfRevision, author(ctx), func(k *catalog.AccessKey) (err error) {
				if b.Name != nil {
					if err := access.CheckTitle("name", *b.Name); err != nil {
						return err
					}
					k.Name = *b.Name
				}
				if b.Operator != nil {
					k.Operator = *b.Operator
				}
				if b.Note != nil {
					if err := access.CheckNote(*b.Note); err != nil {
						return err
					}
					k.Note = *b.Note
				}
				if b.Role != nil {
					if k.Role, err = access.ParseRole(*b.Role); err != nil {
						return err
					}
				}
				if b.Limits != nil {
					if k.Limits, err = parseLimits(*b.Limits); err != nil {
						return err
					}
				}
				if b.Rate != nil {
					k.Rate = *b.Rate
				}
				if b.Expires != nil {
					if k.Expires, err = until("expires", *b.Expires); err != nil {
						return err
					}
					if err := d.notBeyond(ctx, k.Expires); err != nil {
						return err
					}
				}
				if b.Active != nil {
					k.Active = *b.Active
				}
				return nil
			})
			if err != nil {
				return nil, d.problem(err)
			}
			out, err := d.keyShown(ctx, in.Key, "")
			if err != nil {
				return nil, err
			}
			return &keyOut{out.Body.Key}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "replace-key", Method: http.MethodPost, Path: "/api/v1/keys/{key}/replace", Summary: "Replace an access key by a new one with its role, limits and grants; the old one works for a while", Tags: []string{"access"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			KeyPath
			Body struct {
				Grace string `json:"grace,omitempty" maxLength:"64" default:"24h" doc:"How long the old one works: a time such as 24h or 7d, or 0"`
			}
		}) (*keySecretOut, error) {
			if _, err := d.ofKey(ctx, in.Key); err != nil {
				return nil, d.problem(err)
			}
			end := time.Now().UTC().Truncate(time.Second)
			if in.Body.Grace != "0" {
				t, err := until("grace", in.Body.Grace)
				if err != nil {
					return nil, d.problem(err)
				}
				end = *t
			}
			id, secret := keyring.Generate()
			sealed, err := d.gate.Keys.Seal(id, secret)
			if err == nil {
				_, err = d.store.Catalog.ReplaceKey(ctx, in.Key, id, sealed, end, author(ctx))
			}
			if err != nil {
				return nil, d.problem(err)
			}
			d.gate.Keys.Forget(in.Key)
			d.gate.Changed()
			return d.keyShown(ctx, id, secret)
		})
	huma.Register(api, huma.Operation{OperationID: "remove-key", Method: http.MethodDelete, Path: "/api/v1/keys/{key}", Summary: "Remove an access key, with its grants; what it signed works no more", Tags: []string{"access"}, DefaultStatus: 204},
		func(ctx context.Context, in *KeyPath) (*struct{}, error) {
			_, err := d.ofKey(ctx, in.Key)
			if err == nil {
				err = d.store.Catalog.RemoveKey(ctx, in.Key, author(ctx))
			}
			if err != nil {
				return nil, d.problem(err)
			}
			d.gate.Keys.Forget(in.Key)
			d.gate.Changed()
			return nil, nil
		})
}

func (d *Desk) createKey(ctx context.Context, account string, k catalog.AccessKey, role string, limits []string, expires, secret string) (out *keySecretOut, err error) {
	if k.Account = account; account == "" {
		k.Account = who(ctx).subject.Account
	}
	if err := d.administers(ctx, k.Account, "create a key"); err != nil {
		return nil, err
	}
	if k.Role, err = access.ParseRole(role); err != nil {
		return nil, err
	}
	if k.Limits, err = parseLimits(limits); err != nil {
		return nil, err
	}
	if k.Expires, err = until("expires", expires); err != nil {
		return nil, err
	}
	if err := access.CheckNote(k.Note); err != nil {
		return nil, err
	}
	if err := access.CheckTitle("name", k.Name); err != nil {
		return nil, err
	}
	if err := d.notBeyond(ctx, k.Expires); err != nil {
		return nil, err
	}
	brought := k.ID != "" || secret != ""
	switch {
	case brought && (k.ID == "" || secret == ""):
		return nil, fault.New(fault.Invalid, "key-half", "an id and a secret are brought along together").In("secret").Do("give both, or neither")
	case !brought:
		k.ID, secret = keyring.Generate()
	}
	if k.Sealed, err = d.gate.Keys.Seal(k.ID, secret); err != nil {
		return nil, err
	}
	if err := d.store.Catalog.CreateKey(ctx, k, author(ctx)); err != nil {
		return nil, err
	}
	if brought {
		secret = ""
	}
	return d.keyShown(ctx, k.ID, secret)
}
