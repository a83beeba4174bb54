package access

import (
	"context"
	"strings"

	"spindle/internal/core/access"
)

// WhoNamed gives what records call somebody who is named: a person as they are, a key by its id.
func (d *Desk) WhoNamed(ctx context.Context, named string) (string, error) {
	p, err := d.Store.Catalog.FindPerson(ctx, strings.TrimPrefix(named, "person "))
	if err != nil || p != nil {
		return named, err
	}
	return d.KeyID(ctx, named)
}

// grantee reads whom a grant is for; a key by its id or name.
func (d *Desk) grantee(ctx context.Context, to string) (access.Grantee, error) {
	g, err := access.ParseGrantee(to)
	if err == nil && g.Kind == access.ToKey {
		g.Name, err = d.AnyKeyID(ctx, g.Name)
	}
	return g, err
}
