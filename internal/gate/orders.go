package gate

import (
	"context"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// SubjectOf finds who did something before a moment, as they are now: by is what
// records keep of them, account the one they acted in. The error for who is gone, or
// has no part in the account any more, has the code giver-gone.
func (g *Gate) SubjectOf(ctx context.Context, by, account string, before time.Time) (access.Subject, error) {
	gone := fault.New(fault.Refused, "giver-gone", "%s, who ordered it, may act here no more", by).In("order").
		Do("have somebody who may give the order again")
	kind, name := access.ParseBy(by)
	switch kind {
	case access.Key:
		k, err := g.Keys.Find(ctx, name)
		if err != nil {
			return access.Subject{}, err
		}
		if k == nil || k.Works(time.Now()) != nil {
			return access.Subject{}, gone
		}
		return k.Subject(), nil
	case access.Person:
		p, err := g.catalog.FindPerson(ctx, name)
		if err != nil {
			return access.Subject{}, err
		}
		if p == nil || !p.Active || p.Created.After(before) {
			return access.Subject{}, gone
		}
		s := access.Subject{Kind: access.Person, Name: p.Name, Account: account, Operator: p.Operator}
		for _, m := range p.Members {
			if m.Account == account {
				s.Role = m.Role
			}
		}
		return s, nil
	}
	return access.Subject{}, gone
}
