package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/store"
)

// live tells consoles that something changed: one look at the journal a second
// for all of them, and none while nobody listens.
type live struct {
	store *store.Store
	stop  context.CancelFunc
	done  <-chan struct{}
	mu    sync.Mutex
	ears  map[chan liveEvent]bool
}

// liveEvent is what a console hears.
type liveEvent struct {
	CompleteUpTo time.Time `json:"completeUpTo"`
	Last         string    `json:"last"` // position of the latest change
}

func startLive(s *store.Store) *live {
	ctx, stop := context.WithCancel(context.Background())
	l := &live{store: s, stop: stop, done: ctx.Done(), ears: map[chan liveEvent]bool{}}
	go l.run(ctx)
	return l
}

func (l *live) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		l.mu.Lock()
		n := len(l.ears)
		l.mu.Unlock()
		if n == 0 {
			continue
		}
		e, err := l.look(ctx)
		if err != nil {
			continue // consoles see that the moment stands still
		}
		l.mu.Lock()
		for ear := range l.ears {
			select {
			case ear <- e:
			default: // it has not heard the last one yet
			}
		}
		l.mu.Unlock()
	}
}

func (l *live) look(ctx context.Context) (e liveEvent, err error) {
	if e.CompleteUpTo, err = l.store.Catalog.CompleteUpTo(ctx); err != nil {
		return e, err
	}
	page, err := l.store.Catalog.Journal(ctx, catalog.JournalQuery{Limit: 1})
	if err == nil && len(page.Entries) > 0 {
		e.Last = page.Entries[0].Position()
	}
	return e, err
}

// events sends live updates (HTML, section 9.2: server-sent events).
func (d *Desk) events(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{})
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	ear := make(chan liveEvent, 1)
	d.live.mu.Lock()
	d.live.ears[ear] = true
	d.live.mu.Unlock()
	defer func() {
		d.live.mu.Lock()
		delete(d.live.ears, ear)
		d.live.mu.Unlock()
	}()
	if e, err := d.live.look(r.Context()); err == nil {
		ear <- e
	}
	for {
		select {
		case <-r.Context().Done():
			return
		case <-d.live.done:
			return
		case e := <-ear:
			b, err := json.Marshal(e)
			if err != nil {
				return
			}
			if _, err := fmt.Fprintf(w, "data: %s\n\n", b); err != nil || rc.Flush() != nil {
				return
			}
		}
	}
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the client may be gone
}
