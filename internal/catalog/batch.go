package catalog

import (
	"context"
	"sync"

	"spindle/internal/core/fault"
)

// maxBatch is how many requests share one round trip at the most.
const maxBatch = 64

// batcher lets requests that wait at the same time share one call. A worker
// takes what waits when it becomes free, without delay: alone, a request goes
// at once.
type batcher[Q, A any] struct {
	run      func(context.Context, []Q) ([]A, error)
	distinct func(Q) any // when set, a batch holds one request of each value

	queue chan *waiting[Q, A]
	done  sync.WaitGroup
	mu    sync.RWMutex
	shut  bool
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
	b := &batcher[Q, A]{run: run, queue: make(chan *waiting[Q, A], 4*maxBatch)}
	b.done.Add(workers)
	for range workers {
		go b.work()
	}
	return b
}

// do sends q with whatever waits beside it and gives its answer. When ctx ends
// first the request may still be carried out.
func (b *batcher[Q, A]) do(ctx context.Context, q Q) (A, error) {
	var zero A
	w := &waiting[Q, A]{q: q, answer: make(chan answered[A], 1)}
	b.mu.RLock()
	if b.shut {
		b.mu.RUnlock()
		return zero, fault.New(fault.Unavailable, "closing", "the service is stopping").Do("try again in a moment")
	}
	select {
	case b.queue <- w:
		b.mu.RUnlock()
	case <-ctx.Done():
		b.mu.RUnlock()
		return zero, mapError(ctx.Err())
	}
	select {
	case r := <-w.answer:
		return r.a, r.err
	case <-ctx.Done():
		return zero, mapError(ctx.Err())
	}
}

func (b *batcher[Q, A]) close() {
	b.mu.Lock()
	if !b.shut {
		b.shut = true
		close(b.queue)
	}
	b.mu.Unlock()
	b.done.Wait()
}

func (b *batcher[Q, A]) work() {
	defer b.done.Done()
	var held []*waiting[Q, A] // same key as one of the batch before: next time
	for {
		batch := held
		held = nil
		if len(batch) == 0 {
			w, ok := <-b.queue
			if !ok {
				return
			}
			batch = append(batch, w)
		}
		seen := map[any]bool{}
		if b.distinct != nil {
			kept := batch[:0:0]
			for _, w := range batch {
				if k := b.distinct(w.q); seen[k] {
					held = append(held, w)
				} else {
					seen[k] = true
					kept = append(kept, w)
				}
			}
			batch = kept
		}
	more:
		for len(batch) < maxBatch && len(held) < maxBatch {
			select {
			case w, ok := <-b.queue:
				if !ok {
					break more
				}
				if b.distinct != nil {
					k := b.distinct(w.q)
					if seen[k] {
						held = append(held, w)
						continue
					}
					seen[k] = true
				}
				batch = append(batch, w)
			default:
				break more
			}
		}
		qs := make([]Q, len(batch))
		for i, w := range batch {
			qs[i] = w.q
		}
		as, err := b.run(context.Background(), qs)
		if err != nil && len(batch) > 1 && dataError(err) {
			// One of them is at fault: each alone, so that only it fails.
			for _, w := range batch {
				b.alone(w)
			}
			continue
		}
		for i, w := range batch {
			if err != nil {
				w.answer <- answered[A]{err: mapError(err)}
			} else {
				w.answer <- answered[A]{a: as[i]}
			}
		}
	}
}

func (b *batcher[Q, A]) alone(w *waiting[Q, A]) {
	as, err := b.run(context.Background(), []Q{w.q})
	if err != nil {
		w.answer <- answered[A]{err: mapError(err)}
		return
	}
	w.answer <- answered[A]{a: as[0]}
}
