package crew

import (
	"context"
	"time"

	"spindle/internal/core/fault"
)

// stillEvery is how often who something is done for is looked at.
const stillEvery = time.Second

// Still gives a context that ends when whoever something is done for may not have it done any
// more: may is asked at once and each second. Its cause is then the refusal, which the error of
// RefusedOf is. What may cannot tell, since the database is away, ends nothing. The other result
// ends the asking.
func Still(ctx context.Context, may func(context.Context) error) (context.Context, context.CancelFunc) {
	under, end := context.WithCancelCause(ctx)
	if may == nil {
		return under, func() { end(nil) }
	}
	go func() {
		for {
			if err := may(under); fault.KindOf(err) == fault.Refused || fault.KindOf(err) == fault.Unsigned {
				end(err)
				return
			}
			select {
			case <-under.Done():
				return
			case <-time.After(stillEvery):
			}
		}
	}()
	return under, func() { end(nil) }
}

// RefusedOf gives the refusal by which a context of Still ended, nil when it did not so.
func RefusedOf(ctx context.Context) error {
	if err := context.Cause(ctx); fault.KindOf(err) == fault.Refused || fault.KindOf(err) == fault.Unsigned {
		return err
	}
	return nil
}
