package desk

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
)

// EndpointInfo is another store.
type EndpointInfo struct {
	ID        int64          `json:"id" doc:"By which the metrics name it"`
	Name      string         `json:"name"`
	URL       string         `json:"url"`
	Region    string         `json:"region"`
	Style     string         `json:"style" enum:"path,host" doc:"Of addresses"`
	Key       string         `json:"key" doc:"The id of our access key there"`
	Note      string         `json:"note,omitempty"`
	Bandwidth int64          `json:"bandwidth" doc:"Bytes a second at the most, from each process; 0: no limit"`
	Bucket    string         `json:"bucket,omitempty" doc:"That checks look at; absent: the first that the key sees"`
	Revision  int            `json:"revision"`
	Created   time.Time      `json:"created"`
	CreatedBy string         `json:"createdBy"`
	Health    EndpointHealth `json:"health"`
}

// EndpointHealth is how an endpoint stood at its last check.
type EndpointHealth struct {
	State     string        `json:"state" enum:"not checked,healthy,slow,failing,unreachable,refusing"`
	Since     time.Time     `json:"since" doc:"Of the state"`
	Checked   *time.Time    `json:"checked,omitempty"`
	Latency   float64       `json:"latency" doc:"Milliseconds of a plain request"`
	Field     string        `json:"field,omitempty" doc:"At fault, when something is wrong"`
	Says      string        `json:"says,omitempty"`
	Remedy    string        `json:"remedy,omitempty"`
	Abilities []AbilityInfo `json:"abilities"`
}

// AbilityInfo tells whether an endpoint can do something.
type AbilityInfo struct {
	Name string `json:"name"`
	Can  string `json:"can" enum:"yes,no,not known"`
}

func endpointInfo(e *endpoint.Endpoint) EndpointInfo {
	return EndpointInfo{ID: e.ID, Name: e.Name, URL: e.URL, Region: e.Region, Style: string(e.Style), Key: e.KeyID,
		Note:      e.Note,
		Bandwidth: e.Bandwidth, Bucket: e.Probe, Revision: e.Revision, Created: e.Created, CreatedBy: e.By,
		Health: endpointHealth(e.Health)}
}

func endpointHealth(h endpoint.Health) EndpointHealth {
	out := EndpointHealth{State: string(h.State), Since: h.Since, Latency: float64(h.Latency.Microseconds()) / 1000,
		Field: h.Field, Says: h.Says, Remedy: h.Remedy, Abilities: []AbilityInfo{}}
	if !h.Checked.IsZero() {
		out.Checked = &h.Checked
	}
	for _, a := range endpoint.AllAbilities {
		can := "not known"
		if there, known := h.Abilities[a]; known {
			can = map[bool]string{true: "yes", false: "no"}[there]
		}
		out.Abilities = append(out.Abilities, AbilityInfo{string(a), can})
	}
	return out
}

func (d *Desk) endpointCalls(to *calls) {
	mine := rule{admin: true}
	call(to, mine, "list-endpoints", "GET /endpoints", "endpoints", "List endpoints", d.listEndpoints)
	call(to, mine, "show-endpoint", "GET /endpoints/{endpoint}", "endpoints", "Show an endpoint", d.showEndpoint)
	call(to, mine, "add-endpoint", "POST /endpoints", "endpoints", "Add an endpoint, once it is checked", d.addEndpoint,
		answers(201), described("POST /endpoints/check does the same and tells of each step as it is done."))
	call(to, mine, "change-endpoint", "PATCH /endpoints/{endpoint}", "endpoints", "Change an endpoint, once it is checked",
		d.changeEndpoint)
	call(to, mine, "remove-endpoint", "DELETE /endpoints/{endpoint}", "endpoints", "Remove an endpoint that no rule names",
		d.removeEndpoint, answers(204))
	call(to, mine, "check-endpoint", "POST /endpoints/{endpoint}/check", "endpoints", "Check an endpoint now",
		d.checkEndpoint)
}

// EndpointPath names an endpoint of the account one acts in.
type EndpointPath struct {
	Endpoint string `path:"endpoint" maxLength:"63"`
}

type endpointPage struct {
	Body struct {
		Endpoints []EndpointInfo `json:"endpoints"`
		Next      string         `json:"next,omitempty"`
	}
}

func (d *Desk) listEndpoints(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"63"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*endpointPage, error) {
	all, err := d.store.Catalog.Endpoints(ctx, who(ctx).subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &endpointPage{}
	out.Body.Endpoints = []EndpointInfo{}
	for i, e := range all {
		if i == in.Limit {
			out.Body.Next = all[i-1].Name
			break
		}
		out.Body.Endpoints = append(out.Body.Endpoints, endpointInfo(e))
	}
	return out, nil
}

type endpointOut struct{ Body EndpointInfo }

func (d *Desk) myEndpoint(ctx context.Context, name string) (*endpoint.Endpoint, error) {
	return d.store.Catalog.Endpoint(ctx, who(ctx).subject.Account, name)
}

func (d *Desk) showEndpoint(ctx context.Context, in *EndpointPath) (*endpointOut, error) {
	e, err := d.myEndpoint(ctx, in.Endpoint)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

// EndpointChange is what can be said of an endpoint; what is not named stays as it is,
// or is found out.
type EndpointChange struct {
	URL       *string `json:"url,omitempty" maxLength:"300" doc:"Scheme and host, as https://HOST:PORT"`
	Region    *string `json:"region,omitempty" maxLength:"64" doc:"Found out when it is not given"`
	Style     *string `json:"style,omitempty" doc:"path or host; found out when it is not given"`
	Key       *string `json:"key,omitempty" maxLength:"128" doc:"The id of our access key there"`
	Secret    *string `json:"secret,omitempty" maxLength:"300" doc:"Of the key; never told again"`
	Note      *string `json:"note,omitempty" maxLength:"500"`
	Bandwidth *int64  `json:"bandwidth,omitempty" doc:"Bytes a second at the most, from each process; 0: no limit"`
	Bucket    *string `json:"bucket,omitempty" maxLength:"63" doc:"That checks look at"`
	Write     bool    `json:"write,omitempty" doc:"Also put, read and remove small objects in that bucket"`
	Anyway    bool    `json:"anyway,omitempty" doc:"Save it whatever the check says"`
}

// concerns reports whether a change is one of how the endpoint is reached.
func (c *EndpointChange) concerns() bool {
	return c.URL != nil || c.Region != nil || c.Style != nil || c.Key != nil || c.Secret != nil || c.Bucket != nil ||
		c.Write
}

// apply changes an endpoint; what was found for another address is to be found anew.
func (c *EndpointChange) apply(e *endpoint.Endpoint) error {
	if c.URL != nil {
		u, err := endpoint.ParseURL(*c.URL)
		if err != nil {
			return err
		}
		e.URL, e.Region, e.Style = u, "", ""
	}
	set(&e.Region, c.Region)
	if c.Style != nil {
		e.Style = endpoint.Style(*c.Style)
	}
	set(&e.KeyID, c.Key)
	set(&e.Note, c.Note)
	set(&e.Bandwidth, c.Bandwidth)
	set(&e.Probe, c.Bucket)
	return e.Check()
}

// NewEndpoint is what a new endpoint begins with.
type NewEndpoint struct {
	Name string `json:"name" maxLength:"63"`
	EndpointChange
}

// endpointNew checks and saves a new endpoint; step hears of the check.
func (d *Desk) endpointNew(ctx context.Context, in *NewEndpoint, step func(client.Finding)) (*endpoint.Endpoint,
	error) {
	e := &endpoint.Endpoint{Account: who(ctx).subject.Account, Name: in.Name}
	if in.URL == nil || in.Key == nil || in.Secret == nil || *in.Secret == "" {
		return nil, fault.New(fault.Invalid, "endpoint-needs", "an endpoint needs url, key and secret").In("url").
			Do("give all three; region and style are found out")
	}
	err := in.apply(e)
	if err == nil {
		_, err = d.store.Catalog.Endpoint(ctx, e.Account, e.Name)
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
	err = d.store.Catalog.AddEndpoint(ctx, e, author(ctx), func(name string) ([]byte, error) {
		return d.gate.Keys.SealSecret(name, *in.Secret)
	})
	if err != nil {
		return nil, err
	}
	d.store.Catalog.LookAgain()
	return d.myEndpoint(ctx, e.Name)
}

// tried checks an endpoint before it is saved. A check that is not good is an error,
// endpoint-check, with the field at fault, unless it is to be saved anyway.
func (d *Desk) tried(ctx context.Context, e *endpoint.Endpoint, secret string, c *EndpointChange,
	step func(client.Finding)) error {
	id := who(ctx)
	if err := d.mayCheck(id.subject.By()); err != nil {
		return err
	}
	d.gate.Note(catalog.TrailEntry{Kind: catalog.TrailChecked, Account: id.subject.Account, Who: id.subject.By(),
		Source: id.source, Subject: limited(e.URL), Detail: map[string]any{"write": c.Write}})
	r := d.endpoints.Check(ctx, e, secret, c.Write, step)
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

func (d *Desk) addEndpoint(ctx context.Context, in *struct{ Body NewEndpoint }) (*endpointOut, error) {
	e, err := d.endpointNew(ctx, &in.Body, nil)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

// endpointChanged checks and saves a change of an endpoint; step hears of the check.
func (d *Desk) endpointChanged(ctx context.Context, name string, ifRevision int, c *EndpointChange,
	step func(client.Finding)) (*endpoint.Endpoint, error) {
	e, err := d.myEndpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	if ifRevision != 0 && ifRevision != e.Revision {
		return nil, fault.New(fault.Precondition, "revision", "the endpoint is at revision %d now",
			e.Revision).In("revision").
			Do("read it again and repeat the change on what is there now")
	}
	if err := c.apply(e); err != nil {
		return nil, err
	}
	if c.URL != nil && c.Secret == nil {
		// Whoever moves an endpoint elsewhere must know its secret: else it would be shown to the new place.
		return nil, fault.New(fault.Invalid, "endpoint-secret", "a new address needs the key's secret again").In("secret").
			Do("give the secret of the key at the new address")
	}
	e.Health = endpoint.Health{}
	if c.concerns() {
		if err := d.reseal(ctx, e, c, step); err != nil {
			return nil, err
		}
	}
	if err := d.store.Catalog.ChangeEndpoint(ctx, e, author(ctx)); err != nil {
		return nil, err
	}
	d.store.Catalog.LookAgain()
	return d.myEndpoint(ctx, name)
}

// reseal checks an endpoint that is to be changed and seals its secret, the one that
// is there or a new one.
func (d *Desk) reseal(ctx context.Context, e *endpoint.Endpoint, c *EndpointChange, step func(client.Finding)) error {
	name := catalog.EndpointSecret(e.ID)
	secret, err := d.gate.Keys.OpenSecret(name, e.Sealed)
	if c.Secret != nil {
		secret, err = *c.Secret, nil
	}
	if err == nil {
		err = d.tried(ctx, e, secret, c, step)
	}
	if err == nil {
		e.Sealed, err = d.gate.Keys.SealSecret(name, secret)
	}
	return err
}

func (d *Desk) changeEndpoint(ctx context.Context, in *struct {
	EndpointPath
	Body struct {
		EndpointChange
		IfRevision int `json:"ifRevision,omitempty" minimum:"1"`
	}
}) (*endpointOut, error) {
	e, err := d.endpointChanged(ctx, in.Endpoint, in.Body.IfRevision, &in.Body.EndpointChange, nil)
	if err != nil {
		return nil, err
	}
	return &endpointOut{endpointInfo(e)}, nil
}

func (d *Desk) removeEndpoint(ctx context.Context, in *EndpointPath) (*struct{}, error) {
	err := d.store.Catalog.RemoveEndpoint(ctx, who(ctx).subject.Account, in.Endpoint, author(ctx))
	d.store.Catalog.LookAgain()
	return nil, err
}

type reportOut struct{ Body client.Report }

func (d *Desk) checkEndpoint(ctx context.Context, in *struct {
	EndpointPath
	Body struct {
		Bucket string `json:"bucket,omitempty" maxLength:"63" doc:"To look at, instead of the usual one"`
		Write  bool   `json:"write,omitempty" doc:"Also put, read and remove small objects in it"`
	}
}) (*reportOut, error) {
	r, err := d.endpointChecked(ctx, in.Endpoint, in.Body.Bucket, in.Body.Write, nil)
	return &reportOut{r}, err
}

// endpointChecked checks an endpoint that is there and keeps how it stands.
func (d *Desk) endpointChecked(ctx context.Context, name, bucket string, write bool,
	step func(client.Finding)) (client.Report, error) {
	e, err := d.myEndpoint(ctx, name)
	if err == nil {
		err = d.mayCheck(who(ctx).subject.By())
	}
	if err != nil {
		return client.Report{}, err
	}
	usual := bucket == "" || bucket == e.Probe
	if !usual {
		e.Probe = bucket
	}
	secret, err := d.gate.Keys.OpenSecret(catalog.EndpointSecret(e.ID), e.Sealed)
	if err != nil {
		return client.Report{}, err
	}
	r := d.endpoints.Check(ctx, e, secret, write, step)
	if !usual && !r.Good && r.Fault().Field == "bucket" {
		return r, nil // which says nothing of the endpoint
	}
	return r, d.store.Catalog.KeepHealth(ctx, e.ID, e.Health)
}
