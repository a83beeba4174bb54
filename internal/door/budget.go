package door

import (
	"sync"

	"spindle/internal/core/fault"
)

// Budget bounds what askers have in memory at a time, in bytes: each of them, and
// all together.
type Budget struct {
	each, all int64
	mu        sync.Mutex
	sum       int64
	of        map[string]int64
}

// NewBudget makes a budget.
func NewBudget(each, all int64) *Budget {
	return &Budget{each: each, all: all, of: map[string]int64{}}
}

// Take reserves n bytes for an asker, who may have more than its part only while
// it has nothing else. Give them back with the function, once. The error has the
// code too-much-at-once.
func (b *Budget) Take(who string, n int64) (giveBack func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if has := b.of[who]; has > 0 && has+n > b.each || b.sum > 0 && b.sum+n > b.all {
		return nil, fault.New(fault.Unavailable, "too-much-at-once",
			"Please reduce your request rate: too many large answers or documents are under way").In("requests").
			Do("wait for some to end; ask for smaller pages, or for fewer at a time")
	}
	b.sum += n
	b.of[who] += n
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.sum -= n
		if b.of[who] -= n; b.of[who] == 0 {
			delete(b.of, who)
		}
	}, nil
}
