package jobs

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/core/replication"
	"spindle/internal/desk/middle"
	"spindle/internal/works/replicate"
)

// VerifyReplication compares both sides of a rule, target by target, as long as who asks
// stays.
func (d *Desk) VerifyReplication(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	if err := d.Administers(ctx, middle.Who(ctx).Subject.Account, "Compare both sides of a replication rule"); err != nil {
		return err
	}
	var in api.VerifyAsk
	if err := middle.ReadDocument(w, r, &in); err != nil {
		return err
	}
	rule, err := d.myRule(ctx, chi.URLParam(r, "rule"))
	if err != nil {
		return err
	}
	tell := middle.Lines[api.VerifyStep](w)
	for i := range rule.Targets {
		t := &rule.Targets[i]
		at := t.Address()
		if in.Target != "" && in.Target != at {
			continue
		}
		v := &replicate.Verifying{Store: d.Store, Remote: d.Endpoints, Rule: rule, Target: t, Deep: in.Deep, Repair: in.Repair,
			After: in.After, Most: in.Most,
			Differs: func(x replication.Difference) error {
				tell(api.VerifyStep{Target: at, Difference: &x})
				return ctx.Err()
			},
			Tell: func(x replication.Verified) { tell(api.VerifyStep{Target: at, Progress: &x}) }}
		out, err := v.Run(ctx)
		if err != nil {
			tell(api.VerifyStep{Target: at, Problem: d.Problem(ctx, err)})
			continue
		}
		tell(api.VerifyStep{Target: at, Result: &out})
	}
	return nil
}
