package jobs

import (
	"context"
	"time"

	"spindle/internal/works/crew"
)

// schedule is how jobs of a kind run by a schedule.
type schedule[J any] struct {
	kind string
	name func(j *J) string
	due  func(ctx context.Context, limit int) ([]*J, error)                            // those whose time has come
	next func(j *J, now time.Time) (*time.Time, error)                                 // when a job is due next, nil for never
	put  func(_ context.Context, j *J, next *time.Time, run bool, now time.Time) error // that down, and asks for a run
}

// ask asks for the runs that are due. However many were missed, one is done.
func (s schedule[J]) ask(ctx context.Context, c *crew.Crew) error {
	due, err := s.due(ctx, 50)
	if err != nil {
		return err
	}
	now := c.Store.Catalog.Now()
	for _, j := range due {
		next, err := s.next(j, now)
		if err != nil { // a time zone that this machine does not know, say
			c.Log.Error("a schedule cannot be read", "kind", s.kind, "name", s.name(j), "error", err)
			next = nil
		}
		if err := s.put(ctx, j, next, err == nil, now); err != nil {
			return err
		}
	}
	return nil
}

// nextRun gives when a schedule is due next, nil when there is none or it is off.
func nextRun(on bool, text, zone string, now time.Time) (*time.Time, error) {
	if text == "" || !on {
		return nil, nil
	}
	s, err := crew.ParseSchedule(text, zone)
	if err != nil {
		return nil, err
	}
	next := s.Next(now).UTC()
	return &next, nil
}
