package backoff

import (
	"math/rand/v2"
	"time"
)

// Growing are pauses of which each is twice the one before.
type Growing struct {
	First time.Duration // after the first failure
	Most  time.Duration // and no longer than this, which is not 0
}

// After gives the pause after so many failures beyond the first (0: after the first; less counts as 0).
func (g Growing) After(more int) time.Duration {
	d := g.First
	for range min(more, 64) {
		if d >= g.Most/2 {
			return g.Most
		}
		d *= 2
	}
	return min(d, g.Most)
}

// Apart gives the pause a little differently each time, from three quarters of it to five: what
// failed together does not come back together.
func (g Growing) Apart(more int) time.Duration {
	d := g.After(more)
	return d - d/4 + rand.N(d/2+1)
}
