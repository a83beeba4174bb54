package objects

import (
	"spindle/internal/desk/access"
	"spindle/internal/desk/house"
	"spindle/internal/desk/jobs"
	"spindle/internal/desk/middle"
)

// Desk answers the calls of this package.
type Desk struct {
	*middle.Middle
	house  *house.Desk
	access *access.Desk
	jobs   *jobs.Desk
}

// New makes what answers them.
func New(m *middle.Middle, h *house.Desk, a *access.Desk, j *jobs.Desk) *Desk {
	return &Desk{Middle: m, house: h, access: a, jobs: j}
}

// Register registers the calls of this package.
func (d *Desk) Register(to *middle.Calls) {
	d.bucketCalls(to)
	d.findCalls(to)
	d.journalCalls(to)
	d.lifecycleCalls(to)
	d.objectCalls(to)
	d.thereCalls(to)
	d.uploadCalls(to)
	d.versionCalls(to)
}
