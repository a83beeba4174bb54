package demo

import (
	"container/heap"
	"context"
	"iter"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"
)

// event is something that happened, from a moment on. What it does may wait for later
// moments: wait gives false when there are none any more.
type event struct {
	at time.Time
	do func(wait func(time.Time) bool) error
}

// inOrder carries out events in the order of time, those that wait among the others,
// so that the journal has them in that order. done hears of each first moment.
func inOrder(ctx context.Context, events []event, done func()) error {
	var line timeline
	for i, e := range events {
		line = append(line, &turn{at: e.at, place: i, event: e})
	}
	heap.Init(&line)
	defer func() {
		for _, t := range line {
			t.stop()
		}
	}()
	for line.Len() > 0 && ctx.Err() == nil {
		t := line[0]
		if t.next == nil {
			t.next, t.end = iter.Pull(t.run)
			done()
		}
		at, more := t.next()
		switch {
		case t.err != nil:
			return t.err
		case more:
			t.at = at
			heap.Fix(&line, 0)
		default:
			heap.Pop(&line)
		}
	}
	return ctx.Err()
}

// turn is an event under way, or to come.
type turn struct {
	at    time.Time
	place int // of those at one moment, the order in which they were given
	event event
	next  func() (time.Time, bool)
	end   func()
	err   error
}

func (t *turn) run(yield func(time.Time) bool) { t.err = t.event.do(yield) }

func (t *turn) stop() {
	if t.end != nil {
		t.end()
	}
}

type timeline []*turn

func (l timeline) Len() int      { return len(l) }
func (l timeline) Swap(i, j int) { l[i], l[j] = l[j], l[i] }
func (l timeline) Less(i, j int) bool {
	if c := l[i].at.Compare(l[j].at); c != 0 {
		return c < 0
	}
	return l[i].place < l[j].place
}
func (l *timeline) Push(x any) { *l = append(*l, x.(*turn)) }
func (l *timeline) Pop() any {
	last := (*l)[len(*l)-1]
	*l = (*l)[:len(*l)-1]
	return last
}

// ahead draws the contents of pieces beside one another, some before they are asked
// for; each must be asked for once, in about their order.
func ahead(ctx context.Context, pieces []piece) {
	const most = 64 // drawn and not asked for
	slots := make(chan struct{}, most)
	drawn := make([]chan []byte, len(pieces))
	draw := make([]func() []byte, len(pieces))
	for i := range pieces {
		drawn[i], draw[i] = make(chan []byte, 1), pieces[i].content
		pieces[i].content = func() []byte {
			select {
			case b := <-drawn[i]:
				<-slots
				return b
			case <-ctx.Done():
				return nil
			}
		}
	}
	go func() {
		var g errgroup.Group
		g.SetLimit(runtime.GOMAXPROCS(0))
		for i := range pieces {
			select {
			case slots <- struct{}{}:
			case <-ctx.Done():
				return
			}
			g.Go(func() error {
				drawn[i] <- draw[i]()
				return nil
			})
		}
	}()
}
