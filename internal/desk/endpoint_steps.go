package desk

import (
	"context"
	"encoding/json"
	"net/http"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
)

// watchEndpoint checks an endpoint and tells of each step as it is done.
func (d *Desk) watchEndpoint(w http.ResponseWriter, r *http.Request) error {
	if err := d.administers(r.Context(), who(r.Context()).subject.Account, "Check an endpoint"); err != nil {
		return err
	}
	var in api.WatchedCheck
	if err := readDocument(w, r, &in); err != nil {
		return err
	}
	tell := lines[api.EndpointStep](w)
	e, err := d.watched(r.Context(), &in, func(f endpoint.Finding) { tell(api.EndpointStep{Finding: &f}) })
	if err != nil {
		p := d.problem(r.Context(), err)
		tell(api.EndpointStep{Problem: p})
		return nil
	}
	info := endpointInfo(e)
	tell(api.EndpointStep{Endpoint: &info})
	return nil
}

// readDocument reads the JSON document of a call that answers by itself.
func readDocument(w http.ResponseWriter, r *http.Request, into any) error {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fault.New(fault.Invalid, "body", "the body cannot be read: %s", err).In("body").
			Do("send a document of this call")
	}
	return nil
}

// lines begins an answer of JSON lines, each of which is sent at once.
func lines[T any](w http.ResponseWriter) func(T) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	return func(line T) {
		if json.NewEncoder(w).Encode(line) == nil { // who went away hears nothing
			_ = flush.Flush()
		}
	}
}

func (d *Desk) watched(ctx context.Context, in *api.WatchedCheck, step func(endpoint.Finding)) (*endpoint.Endpoint,
	error) {
	switch {
	case in.Check:
		bucket := ""
		set(&bucket, in.Bucket)
		if _, err := d.endpointChecked(ctx, in.Name, bucket, in.Write, step); err != nil {
			return nil, err
		}
		return d.myEndpoint(ctx, in.Name)
	case in.Change:
		return d.endpointChanged(ctx, in.Name, in.IfRevision, &in.EndpointChange, step)
	}
	return d.endpointNew(ctx, &in.NewEndpoint, step)
}
