package remote

import (
	"sync"
	"time"

	"spindle/internal/core/backoff"
	"spindle/internal/core/fault"
)

// Bounds of a circuit.
const (
	circuitAfter = 4                // failures in a row open it
	circuitTry   = 30 * time.Second // after which who was let through, and told nothing, holds up nobody
	circuitLook  = time.Second / 4  // after which others ask again while somebody tries
)

// circuitOpen is for how long it stays open.
var circuitOpen = backoff.Growing{First: time.Second, Most: 50 * time.Second}

// Circuit says whether an endpoint that failed is worth another try.
type Circuit struct {
	mu     sync.Mutex
	failed int       // in a row
	until  time.Time // open
	trying time.Time // until when somebody tries whether it is back
	why    string    // what failed last
}

// Wait says how long nobody should try; 0 to go on. When the pause is over one may go on
// and the others wait until it has come to something: tell of it with Note or Pass.
func (c *Circuit) Wait(now time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.failed < circuitAfter:
		return 0
	case now.Before(c.until):
		return c.until.Sub(now)
	case now.Before(c.trying):
		return circuitLook
	}
	c.trying = now.Add(circuitTry)
	return 0
}

// Note counts what something came to that was asked of the endpoint.
func (c *Circuit) Note(err error, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.trying = time.Time{}
	if !Away(err) {
		c.failed = 0
		return
	}
	c.why = fault.From(err).Message
	if c.failed++; c.failed < circuitAfter {
		return
	}
	c.until = now.Add(circuitOpen.Apart(c.failed - circuitAfter))
}

// Why tells what failed last.
func (c *Circuit) Why() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.why
}

// Pass says that somebody who was let through learned nothing.
func (c *Circuit) Pass() {
	c.mu.Lock()
	c.trying = time.Time{}
	c.mu.Unlock()
}

// Open reports whether it is open.
func (c *Circuit) Open(now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.failed >= circuitAfter && now.Before(c.until)
}

// Away reports whether an error says that the endpoint is not there, or has too much to
// do, which has nothing to do with what was asked of it.
func Away(err error) bool {
	if err == nil {
		return false
	}
	k := fault.KindOf(err)
	return k == fault.Unavailable || k == fault.Slow
}
