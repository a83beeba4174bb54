package desk

import (
	"context"
	"fmt"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/region"
	"spindle/internal/core/replication"
	"spindle/internal/desk/middle"
)

// elsewhereConcerns finds endpoints that are away or refuse, and rules whose copies fail
// or are late: told to who administers the account that one acts in.
func (d *Desk) elsewhereConcerns(ctx context.Context, o *api.Overview) error {
	s := middle.Who(ctx).Subject
	if !s.Administers(s.Account) {
		return nil
	}
	endpoints, err := d.Store.Catalog.Endpoints(ctx, s.Account, "", 1000)
	if err != nil {
		return err
	}
	for _, e := range endpoints {
		if h := e.Health; h.State.Bad() {
			o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "endpoint " + e.Name,
				Says:   "is " + string(h.State),
				Detail: sentence(h.Says), Since: h.Since.Format(time.RFC3339), Page: "endpoints"})
		}
	}
	if err := d.regionConcerns(ctx, o); err != nil {
		return err
	}
	mine, err := d.jobs.MyRules(ctx)
	if err != nil {
		return err
	}
	infos, err := d.jobs.ReplicationInfos(ctx, mine)
	if err != nil {
		return err
	}
	for _, r := range infos {
		for _, t := range r.Targets {
			if c, wrong := replicationConcern(r, t); wrong {
				o.Concerns = append(o.Concerns, c)
			}
		}
	}
	return nil
}

// regionConcerns finds regions that are away, for operators.
func (d *Desk) regionConcerns(ctx context.Context, o *api.Overview) error {
	if !middle.Who(ctx).Subject.Operator {
		return nil
	}
	list, err := d.Store.Catalog.Regions(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		if r.State == region.Away {
			o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "region " + r.Name, Says: "is away",
				Detail: sentence(r.Says), Since: r.Since.Format(time.RFC3339), Page: "regions"})
		}
	}
	return nil
}

func replicationConcern(r api.ReplicationInfo, t api.TargetInfo) (api.Concern, bool) {
	c := api.Concern{State: "wrong", Subject: r.Name, Page: "replication", Bytes: t.Bytes}
	if t.Oldest != nil {
		c.Since = t.Oldest.UTC().Format(time.RFC3339)
	}
	waits := fmt.Sprintf("What waits, %d in number, is kept and copied by itself once that is over.", t.Waiting)
	switch replication.Standing(t.State) {
	case replication.Failing:
		c.Says, c.Detail = "cannot copy to "+t.Address, sentence(t.Why)+" "+waits
	case replication.Stopped:
		c.Says, c.Detail = "stands still: it cannot copy to "+t.Address, sentence(t.Why)+" What waits is kept."
	case replication.SomeFail:
		c.State, c.Says = "attention", fmt.Sprintf("has %d objects that cannot be copied", t.Failed)
		c.Detail = "Each is tried again, less and less often; its page says why."
	case replication.Late:
		c.State, c.Says, c.Detail = "attention", "is late", sentence(t.Why)+" "+waits
	case replication.Missed:
		c.State, c.Says, c.Detail = "attention", "missed its lag target", sentence(t.Why)
	default:
		return c, false
	}
	return c, true
}
