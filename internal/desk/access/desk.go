package access

import (
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
)

// Desk answers the calls of this package.
type Desk struct {
	*middle.Middle
	house *house.Desk
}

// New makes what answers them.
func New(m *middle.Middle, h *house.Desk) *Desk {
	return &Desk{Middle: m, house: h}
}

// Register registers the calls of this package.
func (d *Desk) Register(to *middle.Calls) {
	d.accountCalls(to)
	d.grantCalls(to)
	d.keyCalls(to)
	d.peopleCalls(to)
	d.sessionCalls(to)
	d.sessionListCalls(to)
	d.trailCalls(to)
}
