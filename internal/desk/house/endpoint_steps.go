package house

import (
	"context"
	"net/http"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/desk/middle"
)

// WatchEndpoint checks an endpoint and tells of each step as it is done.
func (d *Desk) WatchEndpoint(w http.ResponseWriter, r *http.Request) error {
	if err := d.Administers(r.Context(), middle.Who(r.Context()).Subject.Account, "Check an endpoint"); err != nil {
		return err
	}
	var in api.WatchedCheck
	if err := middle.ReadDocument(w, r, &in); err != nil {
		return err
	}
	tell := middle.Lines[api.EndpointStep](w)
	e, err := d.watched(r.Context(), &in, func(f endpoint.Finding) { tell(api.EndpointStep{Finding: &f}) })
	if err != nil {
		p := d.Problem(r.Context(), err)
		tell(api.EndpointStep{Problem: p})
		return nil
	}
	info := endpointInfo(e)
	tell(api.EndpointStep{Endpoint: &info})
	return nil
}

func (d *Desk) watched(ctx context.Context, in *api.WatchedCheck, step func(endpoint.Finding)) (*endpoint.Endpoint,
	error) {
	switch {
	case in.Check:
		bucket := ""
		middle.Set(&bucket, in.Bucket)
		if _, err := d.endpointChecked(ctx, in.Name, bucket, in.Write, step); err != nil {
			return nil, err
		}
		return d.MyEndpoint(ctx, in.Name)
	case in.Change:
		return d.endpointChanged(ctx, in.Name, in.IfRevision, &in.EndpointChange, step)
	}
	return d.endpointNew(ctx, &in.NewEndpoint, step)
}
