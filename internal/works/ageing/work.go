package ageing

import (
	"context"
	"time"

	"spindle/internal/works/crew"
)

// Work is what a process does of this package.
type Work struct {
	*crew.Crew
}

// New makes the work of a crew; Begin begins it.
func New(c *crew.Crew) *Work { return &Work{Crew: c} }

// Begin begins the work; it ends with ctx.
func (w *Work) Begin(ctx context.Context) {
	w.Aged(ctx, "uploads", time.Hour, w.forgetUploads)
	w.Standing(ctx, "summer", w.Settings.SumEvery, w.sum)
	w.Aged(ctx, "lifecycle", w.Settings.AgeLook, w.age)
	w.Aged(ctx, "restorer", w.Settings.RestoreEvery, w.restoreCopies)
}
