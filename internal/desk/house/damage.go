package house

import (
	"context"
	"fmt"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/gate"
)

// damageTold is how much damage is listed.
const damageTold = 500

func (d *Desk) damageCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-damage", "GET /damage", "objects",
		"List what is damaged, latest first, with what could mend it", d.listDamage,
		middle.Described("At most 500. What is damaged is marked by reading it, and the mark goes when it is read and found sound: an order of the kind check reads it now."))
}

func (d *Desk) listDamage(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Damage []api.DamageInfo `json:"damage"`
		More   bool             `json:"more,omitempty" doc:"There is more than that"`
	}
}, error) {
	s := middle.Who(ctx).Subject
	account := s.Account
	if s.Operator {
		account = ""
	}
	list, err := d.Store.Catalog.Damaged(ctx, account, damageTold+1)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Damage []api.DamageInfo `json:"damage"`
			More   bool             `json:"more,omitempty" doc:"There is more than that"`
		}
	}{}
	out.Body.Damage = []api.DamageInfo{}
	if len(list) > damageTold {
		list, out.Body.More = list[:damageTold], true
	}
	for _, x := range list {
		name, err := object.ParseBucketName(x.Bucket)
		if err != nil {
			continue // its bucket was removed
		}
		may, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: s, Source: middle.Who(ctx).Source, Do: access.List, Bucket: name,
			Key: x.Key})
		if err != nil || !may.Allowed {
			continue // who asks may not list it
		}
		m, err := d.Store.Catalog.Mends(ctx, x)
		if err != nil {
			return nil, err
		}
		info := api.DamageInfo{Bucket: x.Bucket, Key: x.Key, Found: x.Found, Problem: x.Problem, Mends: []string{}}
		for _, r := range m.Replicas {
			info.Mends = append(info.Mends, "the copy at "+r)
		}
		if m.Versions > 0 {
			info.Mends = append(info.Mends, fmt.Sprintf("another version of it: there are %d", m.Versions))
		}
		out.Body.Damage = append(out.Body.Damage, info)
	}
	return out, nil
}
