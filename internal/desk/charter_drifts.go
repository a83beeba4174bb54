package desk

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/audit"
)

// Drifts says what is not as the charters of an account declare, for the audit.
func (d *Desk) Drifts(ctx context.Context, account string) (out []audit.Drift, err error) {
	list, err := d.store.Catalog.Charters(ctx, account)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	operates, err := d.store.Catalog.Operates(ctx, account)
	if err != nil {
		return nil, err
	}
	ctx = context.WithValue(ctx, identityKey{}, &identity{source: "127.0.0.1",
		subject: access.Subject{Kind: access.Key, Name: "audit",
			Account: account, Role: access.Administrator, Operator: operates}})
	for _, e := range list {
		if e.State == catalog.CharterRetired {
			continue
		}
		drift, err := d.drift(ctx, e)
		if err != nil {
			return nil, err
		}
		if len(drift) > 0 {
			out = append(out, audit.Drift{Charter: e.Name, Things: len(drift), Such: drift[0].Kind + " " + drift[0].Name})
		}
	}
	return out, nil
}
