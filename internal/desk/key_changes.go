package desk

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/keyring"
)

func (d *Desk) changeKey(ctx context.Context, in *struct {
	KeyPath
	Body struct {
		Name       *string   `json:"name,omitempty" minLength:"1" maxLength:"64"`
		Note       *string   `json:"note,omitempty"`
		Role       *string   `json:"role,omitempty"`
		Operator   *bool     `json:"operator,omitempty" doc:"Only an operator gives it, takes it, or changes a key that has it"`
		Limits     *[]string `json:"limits,omitempty" maxItems:"100" doc:"Replaces the current ones; none removes them"`
		Rate       *int      `json:"rate,omitempty" minimum:"0" maximum:"1000000"`
		Expires    *string   `json:"expires,omitempty" maxLength:"64" doc:"Empty for never"`
		Active     *bool     `json:"active,omitempty"`
		IfRevision int       `json:"ifRevision,omitempty" minimum:"1"`
	}
}) (*keyOut, error) {
	b := in.Body
	is, err := d.ofKey(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	err = d.store.Catalog.ChangeKey(ctx, is.ID, b.IfRevision, author(ctx), func(k *catalog.AccessKey) (err error) {
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
		return nil, err
	}
	out, err := d.keyShown(ctx, is.ID, "")
	if err != nil {
		return nil, err
	}
	return &keyOut{out.Body.Key}, nil
}

func (d *Desk) replaceKey(ctx context.Context, in *struct {
	KeyPath
	Body struct {
		Grace string `json:"grace,omitempty" maxLength:"64" default:"24h" doc:"How long the old one works: a time such as 24h or 7d, or 0"`
	}
}) (*keySecretOut, error) {
	k, err := d.ofKey(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	end := time.Now().UTC().Truncate(time.Second)
	if in.Body.Grace != "0" {
		t, err := until("grace", in.Body.Grace)
		if err != nil {
			return nil, err
		}
		end = *t
	}
	id, secret := keyring.Generate()
	sealed, err := d.gate.Keys.Seal(id, secret)
	if err == nil {
		_, err = d.store.Catalog.ReplaceKey(ctx, k.ID, id, sealed, end, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.gate.Keys.Forget(k.ID)
	d.gate.Changed()
	return d.keyShown(ctx, id, secret)
}

func (d *Desk) removeKey(ctx context.Context, in *KeyPath) (*struct{}, error) {
	k, err := d.ofKey(ctx, in.Key)
	if err == nil {
		err = d.store.Catalog.RemoveKey(ctx, k.ID, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.gate.Keys.Forget(k.ID)
	d.gate.Changed()
	return nil, nil
}
