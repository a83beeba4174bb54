package side

import (
	"bufio"
	"cmp"
	"container/heap"
	"encoding/gob"
	"errors"
	"io"
	"iter"
	"os"
	"slices"
)

// sortedAtOnce is how many entries of a listing are kept in memory while it is sorted;
// others wait in files.
const sortedAtOnce = 50_000

// sorted gives a listing in the order of keys. Memory does not grow with it.
func sorted(list iter.Seq2[Facts, error]) iter.Seq2[Facts, error] {
	return func(yield func(Facts, error) bool) {
		s := &sorting{}
		defer s.close()
		for f, err := range list {
			if err == nil {
				err = s.add(f)
			}
			if err != nil {
				yield(Facts{}, err)
				return
			}
		}
		s.give(yield)
	}
}

type sorting struct {
	now  []Facts
	runs []*sortedRun
}

// sortedRun is a sorted part of a listing: in a file, or in memory.
type sortedRun struct {
	file *os.File
	from *gob.Decoder
	rest []Facts
	next Facts
}

func (s *sorting) add(f Facts) error {
	if s.now = append(s.now, f); len(s.now) < sortedAtOnce {
		return nil
	}
	return s.spill()
}

func (s *sorting) order() {
	slices.SortFunc(s.now, func(a, b Facts) int { return cmp.Compare(a.Key, b.Key) })
}

// spill writes what is in memory to a file that nobody else sees.
func (s *sorting) spill() error {
	file, err := os.CreateTemp("", "spindle-sorting-")
	if err != nil {
		return err
	}
	s.runs = append(s.runs, &sortedRun{file: file})
	if err := os.Remove(file.Name()); err != nil {
		return err
	}
	s.order()
	w := bufio.NewWriterSize(file, 1<<20)
	e := gob.NewEncoder(w)
	for _, f := range s.now {
		if err := e.Encode(f); err != nil {
			return err
		}
	}
	s.now = s.now[:0]
	return w.Flush()
}

// give gives everything by key.
func (s *sorting) give(yield func(Facts, error) bool) {
	s.order()
	var h sortedRuns
	for _, r := range append(s.runs, &sortedRun{rest: s.now}) {
		if r.file != nil {
			if _, err := r.file.Seek(0, io.SeekStart); err != nil {
				yield(Facts{}, err)
				return
			}
			r.from = gob.NewDecoder(bufio.NewReaderSize(r.file, 256<<10))
		}
		ok, err := r.step()
		if err != nil {
			yield(Facts{}, err)
			return
		}
		if ok {
			h = append(h, r)
		}
	}
	heap.Init(&h)
	for len(h) > 0 {
		r := h[0]
		if !yield(r.next, nil) {
			return
		}
		ok, err := r.step()
		switch {
		case err != nil:
			yield(Facts{}, err)
			return
		case ok:
			heap.Fix(&h, 0)
		default:
			heap.Pop(&h)
		}
	}
}

// step goes on to the next entry of a part; ok is false at its end.
func (r *sortedRun) step() (ok bool, err error) {
	if r.file != nil {
		r.next = Facts{}
		if err = r.from.Decode(&r.next); errors.Is(err, io.EOF) {
			return false, nil
		}
		return err == nil, err
	}
	if len(r.rest) == 0 {
		return false, nil
	}
	r.next, r.rest = r.rest[0], r.rest[1:]
	return true, nil
}

func (s *sorting) close() {
	for _, r := range s.runs {
		_ = r.file.Close() // it has no name any more
	}
}

// sortedRuns are parts by their next key.
type sortedRuns []*sortedRun

func (h sortedRuns) Len() int           { return len(h) }
func (h sortedRuns) Less(i, j int) bool { return h[i].next.Key < h[j].next.Key }
func (h sortedRuns) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }

// Push adds a part.
func (h *sortedRuns) Push(x any) { *h = append(*h, x.(*sortedRun)) }

// Pop takes the last part.
func (h *sortedRuns) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
