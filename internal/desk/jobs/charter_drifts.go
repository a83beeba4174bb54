package jobs

import (
	"context"
	"strings"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/audit"
	"spindle/internal/core/charter"
	"spindle/internal/desk/middle"
)

// Drifts says what is not as the charters of an account declare, for the audit.
func (d *Desk) Drifts(ctx context.Context, account string) (out []audit.Drift, err error) {
	list, err := d.Store.Catalog.Charters(ctx, account)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	operates, err := d.Store.Catalog.Operates(ctx, account)
	if err != nil {
		return nil, err
	}
	ctx = context.WithValue(ctx, middle.IdentityKey{}, &middle.Identity{Source: "127.0.0.1",
		Subject: access.Subject{Kind: access.Key, Name: "audit",
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

// drift says what is not as a charter declares it, and who changed it since.
func (d *Desk) drift(ctx context.Context, e *catalog.Enactment) ([]api.CharterDrift, error) {
	asked := map[string]bool{}
	for _, t := range e.Things {
		asked[t.Kind] = true
	}
	oper := middle.Who(ctx).Subject.Operator
	there, err := d.there(ctx, func(k *charterKind) bool { return asked[k.kind] && (oper || !k.oper) })
	if err != nil {
		return nil, err
	}
	out := []api.CharterDrift{}
	var things []catalog.TrailOf
	for _, s := range charter.Compare(charterOrder, compared(e.Things), nil, there, nil) {
		if !oper && kindNamed(s.Kind).oper {
			continue
		}
		out = append(out, api.CharterDrift{CharterStep: api.CharterStep{Do: string(s.Do), Kind: s.Kind, Name: s.Name,
			Changes: s.Changes}})
		things = append(things, trailOf(e.Account, s.Kind, s.Name))
	}
	marks, err := d.Store.Catalog.TrailLast(ctx, things, e.At)
	if err != nil {
		return nil, err
	}
	for i := range out {
		tellWho(&out[i], things[i], marks)
	}
	return out, nil
}

// tellWho notes who changed the thing, and each field that differs.
func tellWho(x *api.CharterDrift, thing catalog.TrailOf, marks []catalog.TrailMark) {
	for _, m := range marks {
		if m.TrailOf != thing {
			continue
		}
		at := m.At.UTC()
		by := api.Drifted{By: &m.Who, At: &at}
		if m.Setting == "" {
			x.Drifted = by
		}
		for _, c := range x.Changes {
			if m.Setting == "" || x.Do == string(charter.Make) || !concerns(m.Setting, c.Field) {
				continue
			}
			if last := x.Fields[c.Field]; last.At == nil || last.At.Before(at) {
				if x.Fields == nil {
					x.Fields = map[string]api.Drifted{}
				}
				x.Fields[c.Field] = by
			}
		}
	}
}

// concerns reports whether one of two fields is the other, or in it, or a is all of them.
func concerns(a, b string) bool {
	return a == catalog.TrailMade || a == b || strings.HasPrefix(a, b+".") || strings.HasPrefix(b, a+".")
}

// trailOf gives what the trail calls a thing of an account.
func trailOf(account, kind, name string) catalog.TrailOf {
	switch kind {
	case "replication rule":
		return catalog.TrailOf{Account: account, Subject: "replication " + name}
	case "sync job":
		return catalog.TrailOf{Account: account, Subject: "sync " + name}
	case "census", "endpoint", "key":
		return catalog.TrailOf{Account: account, Subject: kind + " " + name}
	case "grant": // BUCKET/PREFIX to KIND:NAME; the trail leaves the slash away when there is no prefix
		i := strings.LastIndex(name, " to ")
		scope, to := name[:i], strings.Replace(name[i+len(" to "):], ":", " ", 1)
		if bucket, prefix, _ := strings.Cut(scope, "/"); prefix == "" {
			scope = bucket
		}
		return catalog.TrailOf{Account: account, Subject: "grant " + scope + " " + to}
	case "question":
		return catalog.TrailOf{Account: account, Subject: "find " + name}
	case "journal filter":
		return catalog.TrailOf{Account: account, Subject: "journal " + name}
	case "tier", "placement": // no account's
		return catalog.TrailOf{Subject: kind + " " + name}
	case "account", "account's placement":
		return catalog.TrailOf{Account: name, Subject: name}
	}
	return catalog.TrailOf{Account: account, Subject: name}
}
