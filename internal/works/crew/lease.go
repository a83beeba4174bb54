package crew

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/backoff"
	"spindle/internal/core/fault"
)

// Lease is a piece of work while this process holds it. It is renewed beside the
// work, however long a step takes; when it is lost the work's context ends, and
// whatever it saves or commits after that fails.
type Lease struct {
	catalog.Lease
	crew  *Crew
	state []byte
	stop  context.CancelCauseFunc
	done  chan struct{}
	once  sync.Once
}

var errLost = errors.New("the lease was lost")

// Claim takes a piece of work that is due. Work under the context that comes back;
// give the lease up with finish or forget.
func (c *Crew) Claim(ctx context.Context, name string) (context.Context, *Lease, bool, error) {
	l, state, ok, err := c.Store.Catalog.Claim(ctx, name, c.Holder, c.Settings.Lease)
	if err != nil || !ok {
		return ctx, nil, false, err
	}
	under, stop := context.WithCancelCause(catalog.UnderLease(ctx, l))
	held := &Lease{Lease: l, crew: c, state: state, stop: stop, done: make(chan struct{})}
	go held.keep(under)
	return under, held, true, nil
}

// keep renews the lease until it is given up or lost. A process that was frozen
// finds out before it does anything more.
func (l *Lease) keep(ctx context.Context) {
	defer close(l.done)
	d := l.crew.Settings.Lease
	good := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(d / 3):
		}
		begun := time.Now()
		asking, cancel := context.WithTimeout(ctx, d/3)
		ok, err := l.crew.Store.Catalog.Renew(asking, l.Lease, d)
		cancel()
		switch {
		case ctx.Err() != nil:
			return
		case err == nil && ok:
			good = begun
		case err == nil, time.Since(good) > d-d/6:
			l.stop(errLost)
			return
		}
	}
}

// Lost reports whether somebody else may have the work.
func (l *Lease) Lost(ctx context.Context, err error) bool {
	return context.Cause(ctx) == errLost || fault.HasCode(err, "lease-lost")
}

// end stops renewing.
func (l *Lease) end() {
	l.once.Do(func() {
		l.stop(nil)
		<-l.done
	})
}

// Finish gives the work up; it is due again after a pause.
func (l *Lease) Finish(pause time.Duration) error {
	l.end()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return l.crew.Store.Catalog.Finish(ctx, l.Lease, pause)
}

// Load reads where the work stands into v.
func (l *Lease) Load(v any) error {
	if len(l.state) == 0 {
		return nil
	}
	return json.Unmarshal(l.state, v)
}

// Save keeps where the work stands. The error when another process took the work
// over has the code lease-lost.
func (l *Lease) Save(ctx context.Context, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := l.crew.Store.Catalog.SaveWork(ctx, l.Lease, b); err != nil {
		return err
	}
	l.state = b
	return nil
}

// pauses are those after failures.
var pauses = backoff.Growing{First: time.Second, Most: 5 * time.Minute}

// Pause gives how long to wait after so many failures: longer each time, and a
// little differently for each, so that what failed together does not come back
// together.
func Pause(attempts int) time.Duration {
	return pauses.Apart(attempts)
}
