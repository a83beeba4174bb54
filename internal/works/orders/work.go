package orders

import (
	"context"

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
	w.Every(ctx, "orders", w.Settings.OrdersEvery, w.orders)
}
