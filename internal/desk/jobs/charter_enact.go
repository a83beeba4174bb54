package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

// maxCharterBody is what the files of a charter come in, in JSON.
const maxCharterBody = 8 << 20

// EnactCharter does what was agreed to, a line for each step.
func (d *Desk) EnactCharter(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	s := middle.Who(ctx).Subject
	if err := d.Administers(ctx, s.Account, "enact a charter"); err != nil {
		return err
	}
	var in api.CharterEnacting
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxCharterBody)).Decode(&in); err != nil {
		return fault.New(fault.Invalid, "body", "the body cannot be read: %s",
			err).In("body").Do("send a document of this call")
	}
	c, err := d.readCharter(ctx, &in.CharterFiles)
	if err != nil {
		return err
	}
	steps, p, err := d.agreed(ctx, c, &in)
	if err != nil {
		return err
	}
	if err := refusedPlan(p, in.WithObjects); err != nil {
		return err
	}
	for _, ref := range p.Secrets {
		if in.Secrets[ref] == "" {
			return fault.New(fault.Invalid, "charter-secret", "the secret of %s is not there", ref).In("secrets").
				Do("enact by the command line, where it is")
		}
	}
	var tell func(api.CharterProgress)
	return d.enact(ctx, func(at api.CharterProgress) {
		if tell == nil { // what fails before it has an answer of its own
			tell = middle.Lines[api.CharterProgress](w)
		}
		tell(at)
	}, c, p, steps, &in)
}

// agreed works out the steps, and refuses when they are not those that were agreed to.
func (d *Desk) agreed(ctx context.Context, c *declared, in *api.CharterEnacting) ([]charter.Step, *api.CharterPlan,
	error) {
	steps, err := d.steps(ctx, c, in.Retire)
	if err != nil {
		return nil, nil, err
	}
	p, err := d.plan(ctx, c, steps)
	if err == nil && p.Plan != in.Plan {
		err = fault.New(fault.Precondition, "charter-plan", "what would be done is not what was agreed to any more").
			In("plan").Do("compare again, and look at what it says now")
	}
	return steps, p, err
}

func (d *Desk) enact(ctx context.Context, tell func(api.CharterProgress), c *declared, p *api.CharterPlan,
	steps []charter.Step,
	in *api.CharterEnacting) error {
	ctx = context.WithoutCancel(ctx) // who asks may go away: what is begun is gone on with
	before, err := d.lastEnacted(ctx, c.name)
	if err != nil {
		return err
	}
	e := &catalog.Enactment{Account: p.Account, Name: c.name, Digest: c.digest, State: catalog.CharterEnacting,
		Steps:  len(steps),
		Things: joint(compared(c.things), before)}
	if in.Retire {
		e.State = catalog.CharterRetiring
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	if err := d.Store.Catalog.BeginCharter(ctx, e, by); err != nil {
		return err
	}
	if steps, p, err = d.agreed(ctx, c, in); err != nil { // now that nobody else of the account enacts
		e.State, e.Says, e.Things = catalog.CharterStopped, fault.All(err)[0].Message, before
		return errors.Join(err, d.Store.Catalog.EndCharter(ctx, e))
	}
	tell(api.CharterProgress{Steps: len(steps)})
	giver := middle.Who(ctx).Subject
	for i := range steps {
		// Whoever enacts may have been removed, or may less, since the step before.
		if err = d.StillThere(ctx, giver); err != nil {
			break
		}
		if err = d.Store.Catalog.CharterStep(ctx, e.ID, i); err != nil {
			break
		}
		at := api.CharterProgress{Step: i + 1, Steps: len(steps), Does: &p.Steps[i]}
		if err = d.carryOut(ctx, &steps[i], in, &at); err != nil {
			break
		}
		e.Done = i + 1
		tell(at)
	}
	switch {
	case err != nil:
		e.State, e.Says = catalog.CharterStopped, fault.All(err)[0].Message
	case in.Retire:
		e.State, e.Things = catalog.CharterRetired, nil
	default:
		err = d.named(ctx, c) // keys that were made
		e.State, e.Things = catalog.CharterEnacted, compared(c.things)
	}
	if ended := d.Store.Catalog.EndCharter(ctx, e); err == nil {
		err = ended
	}
	if err != nil {
		tell(api.CharterProgress{Step: e.Done, Steps: len(steps), Problem: d.Problem(ctx, err)})
		return nil
	}
	tell(api.CharterProgress{Step: e.Done, Steps: len(steps), Ended: true})
	return nil
}

// joint gives the things of two lists, of which the first goes before.
func joint(a, b []charter.Thing) []charter.Thing {
	out := slices.Clone(a)
	for _, t := range b {
		if !slices.ContainsFunc(a, func(x charter.Thing) bool { return x.Kind == t.Kind && x.Name == t.Name }) {
			out = append(out, t)
		}
	}
	return out
}

// carryOut makes the calls of a step.
func (d *Desk) carryOut(ctx context.Context, s *charter.Step, in *api.CharterEnacting, at *api.CharterProgress) error {
	ref, err := secretOf(s)
	if err != nil {
		return err
	}
	if s.Kind == "bucket" && s.Do == charter.Remove && in.WithObjects {
		if err := d.emptied(ctx, s.Name); err != nil {
			return err
		}
	}
	for _, c := range kindNamed(s.Kind).callsOf(s) {
		if body, ok := c.Body.(map[string]any); ok && s.Kind == "endpoint" {
			delete(body, "secret")
			if ref != "" {
				body["secret"] = in.Secrets[ref]
			}
		}
		var made struct {
			ID     string `json:"id"`
			Secret string `json:"secret"`
			Key    struct {
				ID string `json:"id"`
			} `json:"key"`
		}
		var out any
		if s.Kind == "key" && s.Do == charter.Make {
			out = &made
		}
		if err := d.Within(ctx, c, out); err != nil {
			return err
		}
		at.Key, at.Secret = made.Key.ID, made.Secret
	}
	return nil
}

// emptied removes all that is in a bucket, for good.
func (d *Desk) emptied(ctx context.Context, bucket string) error {
	all := ""
	for {
		var q api.Quantity
		if err := d.Within(ctx, middle.DeskCall{Method: "POST", Path: "/buckets/" + bucket + "/remove",
			Body: api.RemoveIn{Prefix: &all, WithVersions: true}}, &q); err != nil {
			return err
		}
		if !q.More {
			return nil
		}
	}
}
