package upkeep

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
	w.Aged(ctx, "collector", w.Settings.CollectEvery, w.collect)
	w.Every(ctx, "room", roomEvery, w.makeRoom)
	w.Standing(ctx, "repair", w.Settings.RepairEvery, w.repair)
	w.Aged(ctx, "scrubber", min(time.Minute, w.Settings.ScrubEvery), w.scrub)
	if w.Settings.Remote == nil {
		return
	}
	w.Standing(ctx, "endpoints", min(5*time.Second, w.Settings.CheckEvery), w.checkEndpoints)
	w.Standing(ctx, "regions", w.Settings.RegionEvery, w.hearRegions)
}
