package jobs

import (
	"context"
	"time"

	"spindle/internal/works/crew"
)

// Work is what a process does of this package.
type Work struct {
	*crew.Crew

	indexed, enrolled time.Time // when the indexes of find read the journal, and were looked for
}

// New makes the work of a crew; Begin begins it.
func New(c *crew.Crew) *Work { return &Work{Crew: c} }

// Begin begins the work; it ends with ctx.
func (w *Work) Begin(ctx context.Context) {
	w.Aged(ctx, "audit", time.Hour, w.audit)
	w.Every(ctx, "syncs", w.Settings.OrdersEvery, w.syncs)
	w.Every(ctx, "censuses", w.Settings.OrdersEvery, w.censuses)
	w.Standing(ctx, "find", w.Settings.IndexEvery, w.indexFind)
	if w.Settings.Remote == nil {
		return
	}
	w.Every(ctx, "posts", w.Settings.OrdersEvery, w.posts)
}
