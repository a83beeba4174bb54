package remote

import (
	"context"
	"fmt"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

func reachError(name string) error {
	return fault.New(fault.Invalid, "reach", "%q is neither loopback, private, nor a network", name).In("reach").
		Do("say --reach loopback, --reach private, or a network such as --reach 10.4.0.0/16")
}

// Check looks at an endpoint for real, with a secret for its key, and fills in what it
// found: region and style that were not given, how it stands, and what it can do. With
// write it puts and removes small objects in the probed bucket. step hears of each line
// as it is known; it may be nil.
func (p *Pool) Check(ctx context.Context, e *endpoint.Endpoint, secret string, write bool,
	step func(endpoint.Finding)) endpoint.Report {
	r := client.Check(ctx, client.Settings{Address: e.URL, Style: string(e.Style), Region: e.Region,
		Key: sign.Credential{ID: e.KeyID, Secret: secret}, Bucket: e.Probe, Write: write, Find: true, Dial: p.Dial,
		Step: step})
	e.Region, e.Style = r.Region, endpoint.Style(r.Style)
	if e.Style == "" {
		e.Style = endpoint.Path
	}
	e.Health = health(&r)
	return r
}

// Alone connects to an endpoint that no catalog knows, for a program that has neither
// service nor database. What is not given is found out. The error is the first line of the
// check that is wrong.
func Alone(ctx context.Context, e endpoint.Endpoint, secret string) (*Conn, error) {
	reach, err := ParseReach([]string{"0.0.0.0/0", "::/0"})
	if err != nil {
		return nil, err
	}
	p := &Pool{reach: reach}
	r := p.Check(ctx, &e, secret, false, nil)
	if f := r.Fault(); f != nil {
		return nil, fault.New(fault.Unavailable, "endpoint-check", "the store's %s is wrong: %s", f.Field,
			f.Seen).In(f.Field).
			Do("%s", f.Remedy)
	}
	return p.open(&e, secret), nil
}

// health says how an endpoint stands by a report of it.
func health(r *endpoint.Report) endpoint.Health {
	h := endpoint.Health{State: endpoint.Healthy, Since: r.At, Checked: r.At, Abilities: r.Abilities,
		Latency: time.Duration(r.Latency * float64(time.Millisecond))}
	f := r.Fault()
	switch {
	case f == nil && h.Latency > endpoint.SlowAfter:
		h.State = endpoint.Slow
		h.Says = fmt.Sprintf("a plain request takes %.1f s", h.Latency.Seconds())
	case f == nil:
	default:
		h.State, h.Field, h.Says, h.Remedy = endpoint.Refusing, f.Field, f.Seen, f.Remedy
		switch {
		case f.Fails:
			h.State = endpoint.Failing
		case slices.Contains([]string{"address", "port", "protocol", "certificate"}, f.Field):
			h.State = endpoint.Unreachable
		}
	}
	return h
}

// CheckKnown looks at an endpoint that is registered, without writing, and keeps how it
// stands.
func (p *Pool) CheckKnown(ctx context.Context, e *endpoint.Endpoint) (endpoint.Report, error) {
	secret, err := p.secrets.OpenSecret(catalog.EndpointSecret(e.ID), e.Sealed)
	if err != nil {
		return endpoint.Report{}, err
	}
	looked := *e
	r := p.Check(ctx, &looked, secret, false, nil)
	if looked.Health.State == endpoint.Failing { // one error is not a state yet
		looked = *e
		r = p.Check(ctx, &looked, secret, false, nil)
	}
	e.Health = looked.Health
	return r, p.catalog.KeepHealth(ctx, e.ID, looked.Health)
}
