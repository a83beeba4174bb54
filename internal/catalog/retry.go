package catalog

import (
	"context"
	"time"

	"spindle/internal/core/fault"
)

// collisionTries is how often a change is tried that meets others.
const collisionTries = 6

// retry carries out f, and again after a pause while it fails because other changes
// were in its way. f learns how often it was tried before. A context that ends
// ends the pauses too.
func retry(ctx context.Context, f func(tried int) error) error {
	for tried := 0; ; tried++ {
		err := f(tried)
		if err == nil || tried == collisionTries-1 || !retryable(err) && !fault.HasCode(err, "database-collision") {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(time.Duration(tried+1) * 5 * time.Millisecond):
		}
	}
}
