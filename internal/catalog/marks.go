package catalog

import (
	"context"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"
)

// Mark names something that processes keep in memory. Its number changes when
// anybody changes that.
type Mark string

// What has a mark.
const (
	MarkGrants  Mark = "grants"
	MarkKeys    Mark = "keys" // access keys, but for when they were used
	MarkBuckets Mark = "buckets"
	MarkDamage  Mark = "damage"
)

// MarkAge is how old the numbers are at the most that Mark gives.
const MarkAge = time.Second

// marks is the one look at all marks that whatever is kept in memory shares.
type marks struct {
	last    atomic.Pointer[marksLook]
	changes atomic.Int64 // that this process made: a look from before one does not count
	looks   singleflight.Group
}

type marksLook struct {
	values map[Mark]int64
	at     time.Time
}

// Mark gives the number of a mark, as known for a second. What is kept in memory
// is believed while the number is the one that was there before it was read.
func (c *Catalog) Mark(ctx context.Context, m Mark) (int64, error) {
	if l := c.marks.last.Load(); l != nil && time.Since(l.at) < MarkAge {
		return l.values[m], nil
	}
	// Whoever comes while somebody looks waits for that look, and no longer than he will.
	changes := c.marks.changes.Load()
	look := c.marks.looks.DoChan(strconv.FormatInt(changes, 10), func() (any, error) {
		return c.lookAtMarks(context.WithoutCancel(ctx), changes)
	})
	select {
	case <-ctx.Done():
		return 0, mapError(ctx.Err())
	case r := <-look:
		if r.Err != nil {
			return 0, r.Err
		}
		return r.Val.(*marksLook).values[m], nil
	}
}

func (c *Catalog) lookAtMarks(ctx context.Context, changes int64) (*marksLook, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	l := &marksLook{values: map[Mark]int64{}, at: time.Now()}
	var rows []struct {
		Name  Mark  `db:"name"`
		Value int64 `db:"value"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select name, value from marks`); err != nil {
		return nil, mapError(err)
	}
	for _, r := range rows {
		l.values[r.Name] = r.Value
	}
	if c.marks.changes.Load() == changes {
		c.marks.last.Store(l)
	}
	return l, nil
}

// LookAgain has the next Mark ask the database: this process changed something.
func (c *Catalog) LookAgain() {
	c.marks.changes.Add(1)
	c.marks.last.Store(nil)
}
