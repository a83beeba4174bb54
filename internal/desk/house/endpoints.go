package house

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func endpointInfo(e *endpoint.Endpoint) api.EndpointInfo {
	return api.EndpointInfo{ID: e.ID, Name: e.Name, URL: e.URL, Region: e.Region, Style: string(e.Style), Key: e.KeyID,
		Note:      e.Note,
		Bandwidth: e.Bandwidth, Bucket: e.Probe, Revision: e.Revision, Created: e.Created, CreatedBy: e.By,
		Health: endpointHealth(e.Health)}
}

func endpointHealth(h endpoint.Health) api.EndpointHealth {
	out := api.EndpointHealth{State: string(h.State), Since: h.Since, Latency: float64(h.Latency.Microseconds()) / 1000,
		Field: h.Field, Says: h.Says, Remedy: h.Remedy, Abilities: []api.AbilityInfo{}}
	if !h.Checked.IsZero() {
		out.Checked = &h.Checked
	}
	for _, a := range endpoint.AllAbilities {
		can := "not known"
		if there, known := h.Abilities[a]; known {
			can = map[bool]string{true: "yes", false: "no"}[there]
		}
		out.Abilities = append(out.Abilities, api.AbilityInfo{Name: string(a), Can: can})
	}
	return out
}

func (d *Desk) endpointCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	middle.Call(to, mine, "list-endpoints", "GET /endpoints", "endpoints", "List endpoints", d.listEndpoints)
	middle.Call(to, mine, "show-endpoint", "GET /endpoints/{endpoint}", "endpoints", "Show an endpoint", d.showEndpoint)
	middle.Call(to, mine, "add-endpoint", "POST /endpoints", "endpoints", "Add an endpoint, once it is checked", d.addEndpoint,
		middle.Answers(201), middle.Described("POST /endpoints/check does the same and tells of each step as it is done."))
	middle.Call(to, mine, "change-endpoint", "PATCH /endpoints/{endpoint}", "endpoints", "Change an endpoint, once it is checked",
		d.changeEndpoint)
	middle.Call(to, mine, "remove-endpoint", "DELETE /endpoints/{endpoint}", "endpoints", "Remove an endpoint that no rule names",
		d.removeEndpoint, middle.Answers(204))
	middle.Call(to, mine, "check-endpoint", "POST /endpoints/{endpoint}/check", "endpoints", "Check an endpoint now",
		d.checkEndpoint)
}

type endpointPage struct {
	Body struct {
		Endpoints []api.EndpointInfo `json:"endpoints"`
		Next      string             `json:"next,omitempty"`
	}
}

func (d *Desk) listEndpoints(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"63"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*endpointPage, error) {
	all, err := d.Store.Catalog.Endpoints(ctx, middle.Who(ctx).Subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &endpointPage{}
	out.Body.Endpoints = []api.EndpointInfo{}
	for i, e := range all {
		if i == in.Limit {
			out.Body.Next = all[i-1].Name
			break
		}
		out.Body.Endpoints = append(out.Body.Endpoints, endpointInfo(e))
	}
	return out, nil
}

type endpointOut struct{ Body api.EndpointInfo }

// MyEndpoint gives an endpoint of the account that one acts in.
func (d *Desk) MyEndpoint(ctx context.Context, name string) (*endpoint.Endpoint, error) {
	return d.Store.Catalog.Endpoint(ctx, middle.Who(ctx).Subject.Account, name)
}

func (d *Desk) showEndpoint(ctx context.Context, in *middle.EndpointPath) (*endpointOut, error) {
	e, err := d.MyEndpoint(ctx, in.Endpoint)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

// concernsConnection reports whether a change is one of how the endpoint is reached.
func concernsConnection(c *api.EndpointChange) bool {
	return c.URL != nil || c.Region != nil || c.Style != nil || c.Key != nil || c.Secret != nil || c.Bucket != nil ||
		c.Write
}

// applyEndpoint changes an endpoint; what was found for another address is to be found anew.
func applyEndpoint(c *api.EndpointChange, e *endpoint.Endpoint) error {
	if c.URL != nil {
		u, err := endpoint.ParseURL(*c.URL)
		if err != nil {
			return err
		}
		e.URL, e.Region, e.Style = u, "", ""
	}
	middle.Set(&e.Region, c.Region)
	if c.Style != nil {
		e.Style = endpoint.Style(*c.Style)
	}
	middle.Set(&e.KeyID, c.Key)
	middle.Set(&e.Note, c.Note)
	middle.Set(&e.Bandwidth, c.Bandwidth)
	middle.Set(&e.Probe, c.Bucket)
	return e.Check()
}

// endpointNew checks and saves a new endpoint; step hears of the check.
func (d *Desk) endpointNew(ctx context.Context, in *api.NewEndpoint, step func(endpoint.Finding)) (*endpoint.Endpoint,
	error) {
	e := &endpoint.Endpoint{Account: middle.Who(ctx).Subject.Account, Name: in.Name}
	if in.URL == nil || in.Key == nil || in.Secret == nil || *in.Secret == "" {
		return nil, fault.New(fault.Invalid, "endpoint-needs", "an endpoint needs url, key and secret").In("url").
			Do("give all three; region and style are found out")
	}
	err := applyEndpoint(&in.EndpointChange, e)
	if err == nil {
		_, err = d.Store.Catalog.Endpoint(ctx, e.Account, e.Name)
		if err == nil {
			return nil, fault.New(fault.Conflict, "endpoint-exists", "there is an endpoint named %q already", e.Name).In("name").
				Do("choose another name, or change it: spindle endpoint change %s", e.Name)
		}
		if fault.HasCode(err, "endpoint-missing") {
			err = d.tried(ctx, e, *in.Secret, &in.EndpointChange, step)
		}
	}
	if err != nil {
		return nil, err
	}
	err = d.Store.Catalog.AddEndpoint(ctx, e, middle.Author(ctx), func(name string) ([]byte, error) {
		return d.Gate.Keys.SealSecret(name, *in.Secret)
	})
	if err != nil {
		return nil, err
	}
	d.Store.Catalog.LookAgain()
	return d.MyEndpoint(ctx, e.Name)
}

// tried checks an endpoint before it is saved. A check that is not good is an error,
// endpoint-check, with the field at fault, unless it is to be saved anyway.
func (d *Desk) tried(ctx context.Context, e *endpoint.Endpoint, secret string, c *api.EndpointChange,
	step func(endpoint.Finding)) error {
	id := middle.Who(ctx)
	if err := d.MayCheck(id.Subject.By()); err != nil {
		return err
	}
	d.Gate.Note(catalog.TrailEntry{Kind: access.TrailChecked, Account: id.Subject.Account, Who: id.Subject.By(),
		Source: id.Source, Subject: middle.Limited(e.URL), Detail: map[string]any{"write": c.Write}})
	r := d.Endpoints.Check(ctx, e, secret, c.Write, step)
	f := r.Fault()
	if f == nil || c.Anyway {
		return nil
	}
	field := f.Field
	if field == "address" || field == "port" || field == "protocol" || field == "certificate" {
		field = "url"
	}
	return fault.New(fault.Conflict, "endpoint-check", "the endpoint is not saved, the check found its %s wrong: %s",
		f.Field,
		f.Seen).In(field).Do("%s", f.Remedy)
}

func (d *Desk) addEndpoint(ctx context.Context, in *struct{ Body api.NewEndpoint }) (*endpointOut, error) {
	e, err := d.endpointNew(ctx, &in.Body, nil)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

// endpointChanged checks and saves a change of an endpoint; step hears of the check.
func (d *Desk) endpointChanged(ctx context.Context, name string, ifRevision int, c *api.EndpointChange,
	step func(endpoint.Finding)) (*endpoint.Endpoint, error) {
	e, err := d.MyEndpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := fault.Revision("the endpoint", e.Revision, ifRevision); err != nil {
		return nil, err
	}
	if err := applyEndpoint(c, e); err != nil {
		return nil, err
	}
	if c.URL != nil && c.Secret == nil {
		// Whoever moves an endpoint elsewhere must know its secret: else it would be shown to the new place.
		return nil, fault.New(fault.Invalid, "endpoint-secret", "a new address needs the key's secret again").In("secret").
			Do("give the secret of the key at the new address")
	}
	e.Health = endpoint.Health{}
	if concernsConnection(c) {
		if err := d.reseal(ctx, e, c, step); err != nil {
			return nil, err
		}
	}
	if err := d.Store.Catalog.ChangeEndpoint(ctx, e, middle.Author(ctx)); err != nil {
		return nil, err
	}
	d.Store.Catalog.LookAgain()
	return d.MyEndpoint(ctx, name)
}

// reseal checks an endpoint that is to be changed and seals its secret, the one that
// is there or a new one.
func (d *Desk) reseal(ctx context.Context, e *endpoint.Endpoint, c *api.EndpointChange,
	step func(endpoint.Finding)) error {
	name := catalog.EndpointSecret(e.ID)
	secret, err := d.Gate.Keys.OpenSecret(name, e.Sealed)
	if c.Secret != nil {
		secret, err = *c.Secret, nil
	}
	if err == nil {
		err = d.tried(ctx, e, secret, c, step)
	}
	if err == nil {
		e.Sealed, err = d.Gate.Keys.SealSecret(name, secret)
	}
	return err
}

func (d *Desk) changeEndpoint(ctx context.Context, in *struct {
	middle.EndpointPath
	Body api.EndpointUpdate
}) (*endpointOut, error) {
	e, err := d.endpointChanged(ctx, in.Endpoint, in.Body.IfRevision, &in.Body.EndpointChange, nil)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

func (d *Desk) removeEndpoint(ctx context.Context, in *middle.EndpointPath) (*struct{}, error) {
	err := d.Store.Catalog.RemoveEndpoint(ctx, middle.Who(ctx).Subject.Account, in.Endpoint, middle.Author(ctx))
	d.Store.Catalog.LookAgain()
	return nil, err
}

type reportOut struct{ Body endpoint.Report }

func (d *Desk) checkEndpoint(ctx context.Context, in *struct {
	middle.EndpointPath
	Body api.EndpointCheckAsk
}) (*reportOut, error) {
	r, err := d.endpointChecked(ctx, in.Endpoint, in.Body.Bucket, in.Body.Write, nil)
	return &reportOut{r}, err
}

// endpointChecked checks an endpoint that is there and keeps how it stands.
func (d *Desk) endpointChecked(ctx context.Context, name, bucket string, write bool,
	step func(endpoint.Finding)) (endpoint.Report, error) {
	e, err := d.MyEndpoint(ctx, name)
	if err == nil {
		err = d.MayCheck(middle.Who(ctx).Subject.By())
	}
	if err != nil {
		return endpoint.Report{}, err
	}
	usual := bucket == "" || bucket == e.Probe
	if !usual {
		e.Probe = bucket
	}
	secret, err := d.Gate.Keys.OpenSecret(catalog.EndpointSecret(e.ID), e.Sealed)
	if err != nil {
		return endpoint.Report{}, err
	}
	r := d.Endpoints.Check(ctx, e, secret, write, step)
	if !usual && !r.Good && r.Fault().Field == "bucket" {
		return r, nil // which says nothing of the endpoint
	}
	return r, d.Store.Catalog.KeepHealth(ctx, e.ID, e.Health)
}
