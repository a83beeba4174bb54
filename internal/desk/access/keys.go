package access

import (
	"context"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/keyring"
)

func keyInfo(k *catalog.AccessKey) api.KeyInfo {
	out := api.KeyInfo{ID: k.ID, Account: k.Account, Name: k.Name, Note: k.Note, Role: k.Role.String(),
		Operator: k.Operator,
		Limits:   []string{}, Rate: k.Rate, State: "active", Active: k.Active, Expires: k.Expires, Used: k.Used,
		UsedFrom: k.UsedFrom,
		Created:  k.Created.UTC(), CreatedBy: k.CreatedBy, Revision: k.Revision}
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

// KeyPath names a key.
type KeyPath struct {
	Key string `path:"key" maxLength:"64"`
}

type keyOut struct{ Body api.KeyInfo }

type keySecretOut struct{ Body api.KeySecret }

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
	k := middle.Who(ctx).Key
	if k == nil || k.Expires == nil || expires != nil && !expires.After(*k.Expires) {
		return nil
	}
	return fault.New(fault.Refused, "key-outlives",
		"the key that asks expires on %s, and what it makes cannot last longer", k.Expires.UTC().
			Format("2006-01-02 15:04 MST")).In("expires").
		Do("choose an earlier end, or have a person or another key do it")
}

// mayUse refuses to act with a key that operates the service for who does not.
func (d *Desk) mayUse(ctx context.Context, id string, operator bool) error {
	if !operator || middle.Who(ctx).Subject.Operator {
		return nil
	}
	return d.Refused(ctx, id, "act with a key that operates the service", "the key "+id+" operates the service",
		"choose another key, or ask an operator")
}

// ofKey gives a key that who asks may administer, by its id or as keyID finds it.
func (d *Desk) ofKey(ctx context.Context, named string) (*catalog.AccessKey, error) {
	id, err := d.KeyID(ctx, named)
	if err != nil {
		return nil, err
	}
	k, err := d.Store.Catalog.Key(ctx, id)
	if err != nil {
		return nil, err
	}
	if k == nil || !middle.Who(ctx).Subject.Administers(k.Account) {
		return nil, fault.New(fault.NotFound, "key-missing", "the account %s has no key with the id or name %q",
			middle.Who(ctx).Subject.Account, named).In("key").Do("spindle access key list names them")
	}
	return k, nil
}

func (d *Desk) keyShown(ctx context.Context, id, secret string) (*keySecretOut, error) {
	d.Gate.Keys.Forget(id)
	k, err := d.ofKey(ctx, id)
	if err != nil {
		return nil, err
	}
	return &keySecretOut{api.KeySecret{Key: keyInfo(k), Secret: secret}}, nil
}

func (d *Desk) keyCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Admin: true}, "list-keys", "GET /keys", "access",
		"List access keys: all for operators, those of one's account otherwise", d.listKeys)
	middle.Call(to, middle.Rule{Admin: true}, "show-key", "GET /keys/{key}", "access", "Show an access key", d.showKey)
	middle.Call(to, middle.Rule{Admin: true}, "create-key", "POST /keys", "access",
		"Create an access key",
		d.createKeyCall, middle.Answers(201),
		middle.Described("It reads only, unless more is asked for. Its secret is in the answer, and nowhere after."))
	middle.Call(to, middle.Rule{Admin: true}, "change-key", "PATCH /keys/{key}", "access",
		"Change what an access key may do, or switch it off and on", d.changeKey)
	middle.Call(to, middle.Rule{Admin: true}, "replace-key", "POST /keys/{key}/replace", "access",
		"Replace an access key by a new one with its role, limits and grants; the old one works for a while",
		d.replaceKey, middle.Answers(201))
	middle.Call(to, middle.Rule{Admin: true}, "remove-key", "DELETE /keys/{key}", "access",
		"Remove an access key, with its grants; what it signed no longer works", d.removeKey, middle.Answers(204))
}

func (d *Desk) createKey(ctx context.Context, account string, k catalog.AccessKey, role string, limits []string,
	expires, secret string) (out *keySecretOut, err error) {
	if k.Account = account; account == "" {
		k.Account = middle.Who(ctx).Subject.Account
	}
	if err := d.Administers(ctx, k.Account, "create a key"); err != nil {
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
		return nil, fault.New(fault.Invalid, "key-half", "an id and a secret are brought along together").In("secret").
			Do("give both, or neither")
	case !brought:
		k.ID, secret = keyring.Generate()
	}
	if k.Sealed, err = d.Gate.Keys.Seal(k.ID, secret); err != nil {
		return nil, err
	}
	if err := d.Store.Catalog.CreateKey(ctx, k, middle.Author(ctx)); err != nil {
		return nil, err
	}
	if brought {
		secret = ""
	}
	return d.keyShown(ctx, k.ID, secret)
}

type keys struct{ Body api.KeyPage }

func (d *Desk) listKeys(ctx context.Context, in *struct {
	Account string `query:"account" maxLength:"64"`
	After   string `query:"after" maxLength:"64"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*keys, error) {
	s := middle.Who(ctx).Subject
	if !s.Operator {
		if in.Account != "" && in.Account != s.Account {
			return nil, middle.NotYours(ctx, in.Account)
		}
		in.Account = s.Account
	}
	list, err := d.Store.Catalog.AccessKeys(ctx, in.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &keys{}
	list, out.Body.Next = middle.Cut(list, in.Limit, func(x catalog.AccessKey) string { return x.ID })
	out.Body.Keys = []api.KeyInfo{}
	for _, k := range list {
		out.Body.Keys = append(out.Body.Keys, keyInfo(&k))
	}
	return out, nil
}

func (d *Desk) showKey(ctx context.Context, in *KeyPath) (*keyOut, error) {
	k, err := d.ofKey(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	return &keyOut{keyInfo(k)}, nil
}

func (d *Desk) createKeyCall(ctx context.Context, in *struct {
	Body api.NewKey
}) (*keySecretOut, error) {
	out, err := d.createKey(ctx, in.Body.Account, catalog.AccessKey{ID: in.Body.ID, Name: in.Body.Name, Note: in.Body.Note,
		Rate: in.Body.Rate, Operator: in.Body.Operator, Active: true}, in.Body.Role, in.Body.Limits, in.Body.Expires,
		in.Body.Secret)
	if err != nil {
		return nil, err
	}
	return out, nil
}
