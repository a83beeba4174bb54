package middle

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// Calls is where the calls of the API are registered.
type Calls struct {
	desk *Middle
	api  huma.API
}

// NewCalls gives where calls are registered that work with m.
func NewCalls(m *Middle, doc huma.API) *Calls { return &Calls{m, doc} }

// Call registers a call of the API: who may make it, its name, its method and path
// beneath /api/v1, its topic, what it does in a sentence, and what does it. The
// errors of f are faults, which callers get as problems. A call without a name of its
// own panics: at the start, that is.
func Call[In, Out any](to *Calls, needs Rule, name, route, topic, summary string,
	f func(context.Context, *In) (*Out, error), more ...func(*huma.Operation)) {
	d := to.desk
	if _, twice := d.Rules[name]; twice || name == "" {
		panic("desk: the call " + name + " has no name of its own")
	}
	d.Rules[name] = needs
	method, path, _ := strings.Cut(route, " ")
	// How long a body may take to come is the door's to say: a deadline of its own would end
	// the call, too, that takes longer than it.
	op := huma.Operation{OperationID: name, Method: method, Path: "/api/v1" + path, Summary: summary,
		Tags: []string{topic}, BodyReadTimeout: -1}
	for _, set := range more {
		set(&op)
	}
	huma.Register(to.api, op, func(ctx context.Context, in *In) (*Out, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, d.Problem(ctx, err)
		}
		return out, nil
	})
}

// Answers sets the status of a call that is done, when that is not 200.
func Answers(status int) func(*huma.Operation) {
	return func(op *huma.Operation) { op.DefaultStatus = status }
}

// Described adds what callers should know beside the summary.
func Described(text string) func(*huma.Operation) {
	return func(op *huma.Operation) { op.Description = text }
}
