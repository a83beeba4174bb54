package gate

import (
	"fmt"
	"sync"
	"time"

	"spindle/internal/catalog"
)

// Bounds of what the trail gets of refusals.
const (
	perFlush    = 500  // different ones between two writes, of one asker
	perHourEach = 1000 // entries of one asker
	perHourAll  = 20_000
	askersMost  = 2000 // askers that are told apart in an hour
)

// notes gathers refusals for the trail. Those of unsigned requests share a budget
// of their own, and so has each key or person: a flood of one loses nothing of
// another.
type notes struct {
	mu     sync.Mutex
	same   map[refusal]*catalog.TrailEntry
	hour   time.Time
	wrote  map[string]int // entries of this hour, by asker
	all    int
	beyond map[string]*catalog.TrailEntry // what is only counted, by asker
}

type refusal struct{ kind, who, source, subject, do string }

func newNotes() *notes {
	return &notes{same: map[refusal]*catalog.TrailEntry{}, wrote: map[string]int{},
		beyond: map[string]*catalog.TrailEntry{}}
}

func (n *notes) add(e catalog.TrailEntry, now time.Time) {
	do, _ := e.Detail["do"].(string)
	r := refusal{e.Kind, e.Who, e.Source, e.Subject, do}
	n.mu.Lock()
	defer n.mu.Unlock()
	if had := n.same[r]; had != nil {
		had.Times++
		return
	}
	asker := e.Who
	if _, known := n.wrote[asker]; !known && len(n.wrote) >= askersMost {
		asker = "others"
	}
	e.At, e.Times = now, 1
	if n.wrote[asker] >= perHourEach || n.all >= perHourAll || len(n.same) >= perFlush && n.pending(e.Who) >= perFlush {
		if b := n.beyond[asker]; b != nil {
			b.Times++
			return
		}
		e.Subject, e.Source, e.Detail = "", "",
			map[string]any{"why": fmt.Sprintf("more than the trail keeps of one asker in an hour (%d entries)", perHourEach)}
		n.beyond[asker] = &e
		return
	}
	n.wrote[asker]++
	n.all++
	n.same[r] = &e
}

// pending counts what waits to be written of an asker.
func (n *notes) pending(who string) (count int) {
	for r := range n.same {
		if r.who == who {
			count++
		}
	}
	return count
}

// take gives what is to be written now. What was only counted comes once an hour.
func (n *notes) take(now time.Time) (list []catalog.TrailEntry) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, e := range n.same {
		list = append(list, *e)
	}
	clear(n.same)
	if now.Sub(n.hour) >= time.Hour {
		for _, e := range n.beyond {
			list = append(list, *e)
		}
		n.hour, n.all = now, 0
		clear(n.beyond)
		clear(n.wrote)
	}
	return list
}

// last gives what was only counted, before the end.
func (n *notes) last(now time.Time) []catalog.TrailEntry {
	n.mu.Lock()
	n.hour = time.Time{}
	n.mu.Unlock()
	return n.take(now)
}

// putBack keeps what could not be written for the next time, unless the same has
// come again.
func (n *notes) putBack(list []catalog.TrailEntry) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, e := range list {
		do, _ := e.Detail["do"].(string)
		r := refusal{e.Kind, e.Who, e.Source, e.Subject, do}
		if had := n.same[r]; had != nil {
			had.Times += e.Times
		} else if len(n.same) < 2*perFlush {
			n.same[r] = &e
		}
	}
}
