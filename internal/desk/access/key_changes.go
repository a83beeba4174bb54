package access

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/desk/middle"
	"spindle/internal/keyring"
)

func (d *Desk) changeKey(ctx context.Context, in *struct {
	KeyPath
	Body api.KeyChange
}) (*keyOut, error) {
	b := in.Body
	is, err := d.ofKey(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	err = d.Store.Catalog.ChangeKey(ctx, is.ID, b.IfRevision, middle.Author(ctx), func(k *catalog.AccessKey) (err error) {
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
	Body api.ReplaceKeyAsk
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
	sealed, err := d.Gate.Keys.Seal(id, secret)
	if err == nil {
		_, err = d.Store.Catalog.ReplaceKey(ctx, k.ID, id, sealed, end, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.Gate.Keys.Forget(k.ID)
	d.Gate.Changed()
	return d.keyShown(ctx, id, secret)
}

func (d *Desk) removeKey(ctx context.Context, in *KeyPath) (*struct{}, error) {
	k, err := d.ofKey(ctx, in.Key)
	if err == nil {
		err = d.Store.Catalog.RemoveKey(ctx, k.ID, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.Gate.Keys.Forget(k.ID)
	d.Gate.Changed()
	return nil, nil
}
