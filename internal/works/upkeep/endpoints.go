package upkeep

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/works/crew"
)

// keepUploads is how long an interrupted upload at an endpoint is kept for somebody to go on with.
const keepUploads = 24 * time.Hour

// checkEndpoints looks at the endpoints whose last check is long ago, some side by side.
// What changed is in the log too. Uploads there that nobody goes on with are given up.
func (c *Work) checkEndpoints(ctx context.Context, _ *crew.Lease) error {
	due, err := c.Store.Catalog.EndpointsUnchecked(ctx, c.Store.Catalog.Now().Add(-c.Settings.CheckEvery), 100)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(8)
	for _, e := range due {
		g.Go(func() error {
			before := e.Health.State
			if _, err := c.Settings.Remote.CheckKnown(ctx, e); err != nil {
				return err
			}
			if now := e.Health.State; now != before && (now.Bad() || before.Bad()) {
				c.Log.Warn("an endpoint's state changed", "endpoint", e.Name, "account", e.Account, "from", string(before), "to",
					string(now), "field", e.Health.Field, "says", e.Health.Says)
			}
			if e.Health.State.Bad() {
				return nil
			}
			if conn, err := c.Settings.Remote.Get(ctx, e.ID); err == nil && before.Bad() {
				conn.Circuit.Note(nil, c.Store.Catalog.Now()) // it is back: what waits is tried at once
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return c.Settings.Remote.GiveUpUploads(ctx, keepUploads, 100)
}
