package jobs

import (
	"spindle/internal/desk/access"
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
)

// Desk answers the calls of this package.
type Desk struct {
	*middle.Middle
	house  *house.Desk
	access *access.Desk
}

// New makes what answers them.
func New(m *middle.Middle, h *house.Desk, a *access.Desk) *Desk {
	return &Desk{Middle: m, house: h, access: a}
}

// Register registers the calls of this package.
func (d *Desk) Register(to *middle.Calls) {
	d.censusCalls(to)
	d.charterCalls(to)
	d.orderCalls(to)
	d.postCalls(to)
	d.replicationCalls(to)
	d.syncCalls(to)
}
