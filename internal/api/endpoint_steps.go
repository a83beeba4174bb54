package api

import "spindle/internal/core/endpoint"

// EndpointStep is a line of what a check that is watched answers with (JSON lines): a
// line of the check, in the end the endpoint that was saved or what is wrong.
type EndpointStep struct {
	Finding  *endpoint.Finding `json:"finding,omitempty"`
	Endpoint *EndpointInfo     `json:"endpoint,omitempty"`
	Problem  *Problem          `json:"problem,omitempty"`
}

// WatchedCheck is a check that is watched: of a new endpoint, which is saved when all is
// well; with Change set, of a change; with Check set, of one as it is.
type WatchedCheck struct {
	NewEndpoint
	Change     bool `json:"change,omitempty"`
	Check      bool `json:"check,omitempty"`
	IfRevision int  `json:"ifRevision,omitempty"`
}
