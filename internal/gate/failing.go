package gate

import (
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/door"
)

// failing slows down whoever sends wrong signatures: by key and address, by
// address, and by key. A key that was used well from an address lately, or has not
// failed there, is not held up there, so that strangers keep nobody out, also where
// many share an address.
type failing struct {
	some atomic.Bool // anything failed lately: requests need not look otherwise
	mu   sync.Mutex
	by   map[keyAt]*rate.Limiter
	seen map[keyAt]time.Time // used well, since the hour before last
	old  map[keyAt]time.Time
	turn time.Time
}

// keyAt is a key at an address; one of them empty for all.
type keyAt struct{ key, source string }

// How many wrong signatures there may be at once, and then a second.
const (
	pairBurst, pairRate     = 10, 0.2
	sourceBurst, sourceRate = 50, 1
	keyBurst, keyRate       = 200, 5
	failingMost             = 20_000
)

func newFailing() *failing {
	return &failing{by: map[keyAt]*rate.Limiter{}, seen: map[keyAt]time.Time{}, old: map[keyAt]time.Time{}}
}

func at(source string) string {
	if a := door.Source(source + ":0"); a.IsValid() {
		return a.String()
	}
	if a := door.Source("[" + source + "]:0"); a.IsValid() {
		return a.String()
	}
	return source
}

// good notes that a key was used well from an address.
func (f *failing) good(key, source string, now time.Time) {
	p := keyAt{key, source}
	f.mu.Lock()
	defer f.mu.Unlock()
	if now.Sub(f.turn) > time.Hour || len(f.seen) >= failingMost {
		f.old, f.seen, f.turn = f.seen, map[keyAt]time.Time{}, now
	}
	f.seen[p] = now
}

// wait says how long the next signature with a key from an address has to wait;
// usedFrom is where the key was used last, as far as that is known.
func (f *failing) wait(key, source, usedFrom string, now time.Time) time.Duration {
	if !f.some.Load() || source == usedFrom {
		return 0
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	p := keyAt{key, source}
	_, before := f.old[p]
	if _, lately := f.seen[p]; lately || before || f.by[keyAt{key, at(source)}] == nil {
		return 0
	}
	return max(f.until(keyAt{key, at(source)}, now), f.until(keyAt{"", at(source)}, now), f.until(keyAt{key, ""}, now))
}

func (f *failing) until(p keyAt, now time.Time) time.Duration {
	l := f.by[p]
	if l == nil {
		return 0
	}
	lacks := 1 - l.TokensAt(now)
	if lacks <= 0 {
		return 0
	}
	return time.Duration(lacks / float64(l.Limit()) * float64(time.Second))
}

// bad counts a wrong signature.
func (f *failing) bad(key, source string, now time.Time) {
	f.some.Store(true)
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, c := range []struct {
		p     keyAt
		rate  rate.Limit
		burst int
	}{{keyAt{key, at(source)}, pairRate, pairBurst}, {keyAt{"", at(source)}, sourceRate, sourceBurst},
		{keyAt{key, ""}, keyRate, keyBurst}} {
		l := f.by[c.p]
		if l == nil {
			f.makeRoom(now)
			l = rate.NewLimiter(c.rate, c.burst)
			f.by[c.p] = l
		}
		l.AllowN(now, 1)
	}
}

// makeRoom forgets what has been forgiven, and when that is not enough, what is
// nearest to it.
func (f *failing) makeRoom(now time.Time) {
	if len(f.by) < failingMost {
		return
	}
	var best keyAt
	most := -1e9
	for p, l := range f.by {
		left := l.TokensAt(now) / float64(l.Burst())
		if left >= 1 {
			delete(f.by, p)
		} else if left > most {
			best, most = p, left
		}
	}
	if len(f.by) >= failingMost {
		delete(f.by, best)
	}
}
