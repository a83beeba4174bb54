package works

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"
)

// keepUploads is how long an interrupted upload at an endpoint is kept for somebody to go on with.
const keepUploads = 24 * time.Hour

// checkEndpoints looks at the endpoints whose last check is long ago, some side by side.
// What changed is in the log too. Uploads there that nobody goes on with are given up.
func (c *Crew) checkEndpoints(ctx context.Context, _ *lease) error {
	due, err := c.store.Catalog.EndpointsUnchecked(ctx, c.store.Catalog.Now().Add(-c.settings.CheckEvery), 100)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(8)
	for _, e := range due {
		g.Go(func() error {
			before := e.Health.State
			if _, err := c.settings.Remote.CheckKnown(ctx, e); err != nil {
				return err
			}
			if now := e.Health.State; now != before && (now.Bad() || before.Bad()) {
				c.log.Warn("an endpoint's state changed", "endpoint", e.Name, "account", e.Account, "from", string(before), "to",
					string(now), "field", e.Health.Field, "says", e.Health.Says)
			}
			if e.Health.State.Bad() {
				return nil
			}
			if conn, err := c.settings.Remote.Get(ctx, e.ID); err == nil && before.Bad() {
				conn.Circuit.Note(nil, c.store.Catalog.Now()) // it is back: what waits is tried at once
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return c.settings.Remote.GiveUpUploads(ctx, keepUploads, 100)
}
