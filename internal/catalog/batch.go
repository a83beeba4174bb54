package catalog

import (
	"context"
	"errors"
	"sync"

	"spindle/internal/core/fault"
)

// maxBatch is how many requests share one round trip at the most.
const maxBatch = 64

// eagerBatch is how many must wait before a second worker begins beside a busy
// one. Below that they are better off sharing the next round trip: small
// batches side by side cost the database more than one that holds them all.
const eagerBatch = 24

// batcher lets requests that wait at the same time share one call. A worker
// takes what waits when it becomes free, without delay: alone, a request goes
// at once.
type batcher[Q, A any] struct {
	run      func(context.Context, []Q) ([]A, error)
	distinct func(Q) any // when set, a batch holds one request of each value
	// late, when set, answers a batch whose answer was lost, while others go on.
	late func([]Q, error) ([]A, []error)

	mu      sync.Mutex
	wake    *sync.Cond
	queue   []*waiting[Q, A]
	running int
	shut    bool
	done    sync.WaitGroup
	counted BatchFigures
}

func (b *batcher[Q, A]) figures() BatchFigures {
	b.mu.Lock()
	defer b.mu.Unlock()
	f := b.counted
	f.Waiting = len(b.queue)
	return f
}

type waiting[Q, A any] struct {
	q      Q
	answer chan answered[A]
}

type answered[A any] struct {
	a   A
	err error
}

func newBatcher[Q, A any](workers int, run func(context.Context, []Q) ([]A, error)) *batcher[Q, A] {
	b := &batcher[Q, A]{run: run}
	b.wake = sync.NewCond(&b.mu)
	for range workers {
		b.done.Go(b.work)
	}
	return b
}

// do sends q with whatever waits beside it and gives its answer. When ctx ends
// first the request may still be carried out.
func (b *batcher[Q, A]) do(ctx context.Context, q Q) (A, error) {
	var zero A
	w := &waiting[Q, A]{q: q, answer: make(chan answered[A], 1)}
	b.mu.Lock()
	if b.shut {
		b.mu.Unlock()
		return zero, fault.New(fault.Unavailable, "closing", "the service is stopping").Do("try again in a moment")
	}
	b.queue = append(b.queue, w)
	b.mu.Unlock()
	b.wake.Signal()
	select {
	case r := <-w.answer:
		return r.a, r.err
	case <-ctx.Done():
		return zero, mapError(ctx.Err())
	}
}

func (b *batcher[Q, A]) close() {
	b.mu.Lock()
	b.shut = true
	b.mu.Unlock()
	b.wake.Broadcast()
	b.done.Wait()
}

func (b *batcher[Q, A]) work() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for {
		for len(b.queue) == 0 || b.running > 0 && len(b.queue) < eagerBatch {
			if b.shut && len(b.queue) == 0 {
				return
			}
			b.wake.Wait()
		}
		batch := b.take()
		b.counted.Batches, b.counted.Requests = b.counted.Batches+1, b.counted.Requests+int64(len(batch))
		b.running++
		b.mu.Unlock()
		b.answer(batch)
		b.mu.Lock()
		b.running--
		b.wake.Signal()
	}
}

// take moves a batch out of the queue; what is not distinct stays for the next.
func (b *batcher[Q, A]) take() []*waiting[Q, A] {
	var batch, rest []*waiting[Q, A]
	if b.distinct == nil {
		n := min(len(b.queue), maxBatch)
		batch, rest = b.queue[:n:n], b.queue[n:]
	} else {
		seen := make(map[any]bool, len(b.queue))
		for _, w := range b.queue {
			if k := b.distinct(w.q); len(batch) == maxBatch || seen[k] {
				rest = append(rest, w)
			} else {
				seen[k] = true
				batch = append(batch, w)
			}
		}
	}
	b.queue = rest
	return batch
}

func (b *batcher[Q, A]) answer(batch []*waiting[Q, A]) {
	qs := make([]Q, len(batch))
	for i, w := range batch {
		qs[i] = w.q
	}
	as, err := b.run(context.Background(), qs)
	if err != nil && len(batch) > 1 && dataError(err) {
		// One of them is at fault: each alone, so that only it fails.
		for i := range batch {
			b.answer(batch[i : i+1])
		}
		return
	}
	var l *lostError
	if b.late != nil && errors.As(err, &l) {
		b.done.Go(func() {
			as, errs := b.late(qs, err)
			for i, w := range batch {
				w.answer <- answered[A]{as[i], errs[i]}
			}
		})
		return
	}
	for i, w := range batch {
		if err != nil {
			w.answer <- answered[A]{err: mapError(err)}
		} else {
			w.answer <- answered[A]{a: as[i]}
		}
	}
}
