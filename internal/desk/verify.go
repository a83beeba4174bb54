package desk

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/core/replication"
	"spindle/internal/works"
)

// verifyReplication compares both sides of a rule, target by target, as long as who asks
// stays.
func (d *Desk) verifyReplication(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	if err := d.administers(ctx, who(ctx).subject.Account, "Compare both sides of a replication rule"); err != nil {
		return err
	}
	var in api.VerifyAsk
	if err := readDocument(w, r, &in); err != nil {
		return err
	}
	rule, err := d.myRule(ctx, chi.URLParam(r, "rule"))
	if err != nil {
		return err
	}
	tell := lines[api.VerifyStep](w)
	for i := range rule.Targets {
		t := &rule.Targets[i]
		at := t.Address()
		if in.Target != "" && in.Target != at {
			continue
		}
		v := &works.Verifying{Store: d.store, Remote: d.endpoints, Rule: rule, Target: t, Deep: in.Deep, Repair: in.Repair,
			After: in.After, Most: in.Most,
			Differs: func(x replication.Difference) error {
				tell(api.VerifyStep{Target: at, Difference: &x})
				return ctx.Err()
			},
			Tell: func(x replication.Verified) { tell(api.VerifyStep{Target: at, Progress: &x}) }}
		out, err := v.Run(ctx)
		if err != nil {
			tell(api.VerifyStep{Target: at, Problem: d.problem(ctx, err)})
			continue
		}
		tell(api.VerifyStep{Target: at, Result: &out})
	}
	return nil
}
