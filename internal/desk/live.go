package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/desk/middle"
)

// live tells consoles that something changed: one look at the journal a second
// for each account that somebody listens in, and none while nobody does. Who listens
// is asked for again each second, and hears of nothing but the account's own.
type live struct {
	d    *Desk
	stop context.CancelFunc
	done <-chan struct{}
	mu   sync.Mutex
	ears map[*ear]bool
}

// ear is somebody who listens.
type ear struct {
	account string         // "" for all
	of      bool           // whether changes of an account are told at all
	heard   chan liveEvent // one at a time: those that wait are put together
}

// tell has an ear hear an event, together with one that it has not heard yet.
func (e *ear) tell(x liveEvent) {
	for {
		select {
		case e.heard <- x:
			return
		default:
		}
		select {
		case before := <-e.heard:
			x.Topics = slices.Compact(slices.Sorted(slices.Values(append(before.Topics, x.Topics...))))
			x.All, x.Works = x.All || before.All, x.Works || before.Works
		default:
		}
	}
}

// liveEvent is what a console hears.
type liveEvent struct {
	CompleteUpTo time.Time `json:"completeUpTo"`
	Topics       []string  `json:"topics,omitempty"` // buckets in which something changed since the last event
	All          bool      `json:"all,omitempty"`    // anything may have changed
	Works        bool      `json:"works,omitempty"`  // how replication, jobs, endpoints or settings stand has changed
}

func startLive(d *Desk) *live {
	ctx, stop := context.WithCancel(context.Background())
	l := &live{d: d, stop: stop, done: ctx.Done(), ears: map[*ear]bool{}}
	go l.run(ctx)
	return l
}

func (l *live) run(ctx context.Context) {
	places := map[string]string{} // in the journal, of those who hear the same
	pulses := map[string]string{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		groups := map[string][]*ear{}
		l.mu.Lock()
		for e := range l.ears {
			group := e.account
			if !e.of {
				group = "-" // no account has that name
			}
			groups[group] = append(groups[group], e)
		}
		l.mu.Unlock()
		gone := func(name string, _ string) bool { return groups[name] == nil }
		maps.DeleteFunc(places, gone)
		maps.DeleteFunc(pulses, gone)
		for name, group := range groups {
			e, place, err := l.look(ctx, group[0], places[name])
			if err != nil {
				continue // consoles see that the moment stands still
			}
			places[name] = place
			if group[0].of {
				pulse, err := l.d.Store.Catalog.Pulse(ctx, group[0].account)
				if err != nil {
					continue
				}
				e.Works, pulses[name] = pulse != pulses[name], pulse
			}
			for _, ear := range group {
				ear.tell(e)
			}
		}
	}
}

// lookMost is how many entries of the journal a look tells apart.
const lookMost = 200

// look gives what changed after a place in the journal, and the place it looked up to.
// From no place, and after more than it can tell apart, anything may have changed.
func (l *live) look(ctx context.Context, ear *ear, after string) (e liveEvent, place string, err error) {
	c := l.d.Store.Catalog
	if e.CompleteUpTo, err = c.CompleteUpTo(ctx); err != nil || !ear.of {
		return e, "", err
	}
	q := catalog.JournalQuery{Limit: lookMost, After: after, Account: ear.account, Present: ear.account != "", Gaps: true}
	if after == "" {
		q.Limit = 1
	}
	page, err := c.Journal(ctx, q)
	if err != nil {
		return e, after, err
	}
	place = after
	if n := len(page.Entries); n > 0 && after == "" {
		place = page.Entries[0].Position()
	} else if page.Next != "" {
		place = page.Next
	}
	e.All = after == "" || len(page.Entries) == lookMost
	for _, x := range page.Entries {
		if after != "" {
			e.Topics = append(e.Topics, x.Bucket)
		}
		e.All = e.All || x.Kind == catalog.BucketCreated || x.Kind == catalog.BucketRemoved || x.Bucket == ""
	}
	e.Topics = slices.Compact(slices.Sorted(slices.Values(e.Topics)))
	if e.All {
		e.Topics = nil
		if after != "" && len(page.Entries) == lookMost {
			place = "" // go on from the end
		}
	}
	return e, place, nil
}

// events sends live updates (HTML, section 9.2: server-sent events), for as long as
// who asks may go on asking.
func (d *Desk) events(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	s := middle.Who(r.Context()).Subject
	e := &ear{account: s.Account, of: s.Operator || s.Role != access.None && len(s.Limits) == 0,
		heard: make(chan liveEvent, 1)}
	if s.Operator {
		e.account = ""
	}
	d.live.mu.Lock()
	d.live.ears[e] = true
	d.live.mu.Unlock()
	defer func() {
		d.live.mu.Lock()
		delete(d.live.ears, e)
		d.live.mu.Unlock()
	}()
	if first, _, err := d.live.look(r.Context(), e, ""); err == nil {
		first.All = true // what happened before was not heard
		e.tell(first)
	}
	asked := time.Now()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-d.live.done:
			return
		case x := <-e.heard:
			if time.Since(asked) > 900*time.Millisecond {
				if asked = time.Now(); d.StillThere(r.Context(), s) != nil {
					return
				}
			}
			b, err := json.Marshal(x)
			if err != nil {
				return
			}
			if _, err := fmt.Fprintf(w, "data: %s\n\n", b); err != nil || rc.Flush() != nil {
				return
			}
		}
	}
}
