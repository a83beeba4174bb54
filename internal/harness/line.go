package harness

import (
	"context"
	"net"
	"sync"
	"sync/atomic"
	"testing"
)

// Line is a way to a database that fails when it is told to.
type Line struct {
	skip atomic.Int32 // answers that pass before one is lost
	lose atomic.Int32 // so many answers are kept back, and their connections cut
	drop atomic.Int32 // so many requests
	mu   sync.Mutex
	open map[*stretch]bool
}

// stretch is one connection of a line.
type stretch struct {
	line      *Line
	near, far net.Conn
	stuck     atomic.Bool
	once      sync.Once
	shut      chan struct{}
}

// NewLine gives a line that works.
func NewLine(t testing.TB) *Line {
	l := &Line{open: map[*stretch]bool{}}
	t.Cleanup(l.Close)
	return l
}

// LoseAnswers has the next answers never come: the server did what was asked. It gives how many
// of those asked for before are still to be lost.
func (l *Line) LoseAnswers(n int) (left int) { return max(0, int(l.lose.Swap(int32(n)))) }

// LoseAnswersAfter has the answer after so many never come.
func (l *Line) LoseAnswersAfter(n int) {
	l.skip.Store(int32(n))
	l.lose.Store(1)
}

// DropRequests has the next requests never arrive.
func (l *Line) DropRequests(n int) { l.drop.Store(int32(n)) }

// Freeze has the connections that are open say nothing more, as when a firewall forgot them
// or the server hangs. New ones work.
func (l *Line) Freeze() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for s := range l.open {
		s.stuck.Store(true)
	}
}

// Dial is for catalog.OpenThrough.
func (l *Line) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	far, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer door.Close()
	user, err := net.Dial("tcp", door.Addr().String())
	if err != nil {
		return nil, err
	}
	near, err := door.Accept()
	if err != nil {
		return nil, err
	}
	s := &stretch{line: l, near: near, far: far, shut: make(chan struct{})}
	l.mu.Lock()
	l.open[s] = true
	l.mu.Unlock()
	go s.pass(near, far, &l.drop)
	go s.pass(far, near, &l.lose)
	return user, nil
}

func (s *stretch) pass(from, to net.Conn, fail *atomic.Int32) {
	defer s.cut()
	b := make([]byte, 64<<10)
	for {
		n, err := from.Read(b)
		if err != nil {
			return
		}
		if s.stuck.Load() {
			<-s.shut // when the test ends
			return
		}
		if s.fails(fail) {
			return
		}
		if _, err := to.Write(b[:n]); err != nil {
			return
		}
	}
}

// fails tells whether what came is not passed on.
func (s *stretch) fails(of *atomic.Int32) bool {
	if of.Load() <= 0 {
		return false
	}
	if of == &s.line.lose && s.line.skip.Add(-1) >= 0 {
		return false
	}
	return of.Add(-1) >= 0
}

func (s *stretch) cut() {
	s.once.Do(func() {
		close(s.shut)
		s.near.Close()
		s.far.Close()
		s.line.mu.Lock()
		delete(s.line.open, s)
		s.line.mu.Unlock()
	})
}

// Close cuts all connections.
func (l *Line) Close() {
	l.mu.Lock()
	all := make([]*stretch, 0, len(l.open))
	for s := range l.open {
		all = append(all, s)
	}
	l.mu.Unlock()
	for _, s := range all {
		s.cut()
	}
}
