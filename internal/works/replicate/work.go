package replicate

import (
	"context"
	"time"

	"spindle/internal/works/crew"
)

// Work is what a process does of this package.
type Work struct {
	*crew.Crew
	replicas *replicas
}

// New makes the work of a crew; Begin begins it.
func New(c *crew.Crew) *Work { return &Work{Crew: c, replicas: newReplicas()} }

// Begin begins the work; it ends with ctx.
func (w *Work) Begin(ctx context.Context) {
	w.Standing(ctx, "replication", time.Second, w.followReplication)
	w.Every(ctx, "replicas", 200*time.Millisecond, w.dispatchReplicas)
}
