package house

import (
	"sync"

	"golang.org/x/time/rate"

	"spindle/internal/desk/middle"
)

// Desk answers the calls of this package.
type Desk struct {
	*middle.Middle

	checking sync.Mutex
	checks   map[string]*rate.Limiter // of settings, by who asks for them
}

// New makes what answers them.
func New(m *middle.Middle) *Desk {
	return &Desk{Middle: m, checks: map[string]*rate.Limiter{}}
}

// Register registers the calls of this package.
func (d *Desk) Register(to *middle.Calls) {
	d.clockCalls(to)
	d.damageCalls(to)
	d.endpointCalls(to)
	d.placementCalls(to)
	d.regionCalls(to)
	d.tierCalls(to)
}
