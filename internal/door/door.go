package door

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Settings of a door. Zero values mean the defaults.
type Settings struct {
	Quiet    time.Duration // how long a client may neither send nor take anything; default 30 s
	Rate     int64         // bytes a second that a body must keep on average, once Quiet has passed; default 1,024
	Header   time.Duration // how long a request's header may take from its first byte; default 10 s, at most Quiet
	Idle     time.Duration // between requests; default 2 min
	Most     int           // connections; default what Share gives
	MostEach int           // from one address; default half of Most
	Largest  int           // bytes of a header that net/http takes at all; default 64 KiB
	Log      *slog.Logger

	// Unread gives the answer, with its headers, to a request that net/http cannot read,
	// of which it would say a status and why; nil leaves that to it.
	Unread func(status int, why string) (h http.Header, document []byte)
}

// Left is how many descriptors Share leaves for the database, volumes and the rest.
const Left = 128

// Share gives how many connections a door may hold when it may have a share of the
// descriptors that this process may open: each connection can need one more for a
// body. It is at most most.
func Share(of float64, most int) int {
	var l unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &l) != nil || l.Cur > 1<<20 {
		return most
	}
	return max(8, min(most, int(of*float64(int(l.Cur)-Left)/2)))
}

// Door guards the connections of one server.
type Door struct {
	s       Settings
	mu      sync.Mutex
	conns   map[*conn]struct{}
	each    map[netip.Addr]int
	refused atomic.Int64
}

// New makes a door.
func New(s Settings) *Door {
	set := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	set(&s.Quiet, 30*time.Second)
	set(&s.Header, 10*time.Second)
	set(&s.Idle, 2*time.Minute)
	s.Header = min(s.Header, s.Quiet)
	if s.Rate == 0 {
		s.Rate = 1 << 10
	}
	if s.Most == 0 {
		s.Most = Share(0.5, 8192)
	}
	if s.MostEach == 0 {
		s.MostEach = max(4, s.Most/2)
	}
	if s.Largest == 0 {
		s.Largest = 64 << 10
	}
	return &Door{s: s, conns: map[*conn]struct{}{}, each: map[netip.Addr]int{}}
}

// Refused gives how many connections were turned away or put out for others.
func (d *Door) Refused() int64 { return d.refused.Load() }

// Open gives how many connections there are.
func (d *Door) Open() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.conns)
}

// Server gives an http.Server of a handler, to be served on what Listener gives.
func (d *Door) Server(h http.Handler) *http.Server {
	s := &http.Server{
		Handler:           d.guard(h),
		ReadHeaderTimeout: d.s.Header,
		IdleTimeout:       d.s.Idle,
		MaxHeaderBytes:    d.s.Largest,
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			o := ours(c)
			if o != nil {
				_, plain := c.(*conn)
				o.sealed = !plain
			}
			return context.WithValue(ctx, connKey{}, o)
		},
		ConnState: func(c net.Conn, state http.ConnState) {
			if o := ours(c); o != nil {
				o.active.Store(state == http.StateActive)
			}
		},
	}
	// HTTP/1.1 alone: deadlines of a connection are then those of its one answer.
	s.Protocols = new(http.Protocols)
	s.Protocols.SetHTTP1(true)
	if d.s.Log != nil {
		s.ErrorLog = slog.NewLogLogger(d.s.Log.Handler(), slog.LevelDebug)
	}
	return s
}

type connKey struct{}

// ours finds our connection beneath one with TLS.
func ours(c net.Conn) *conn {
	if t, ok := c.(interface{ NetConn() net.Conn }); ok {
		c = t.NetConn()
	}
	o, _ := c.(*conn)
	return o
}

// Trust notes that somebody known asks on the connection of a request: it is not
// put out for a new one while it is in use.
func Trust(ctx context.Context) {
	if c, _ := ctx.Value(connKey{}).(*conn); c != nil {
		c.trusted.Store(true)
	}
}

// Listener gives a listener whose connections the door holds.
func (d *Door) Listener(l net.Listener) net.Listener { return &listener{l, d} }

type listener struct {
	net.Listener
	d *Door
}

// Accept gives the next connection that there is room for.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if o := l.d.admit(c); o != nil {
			return o, nil
		}
	}
}

// Source gives the address that counts as one asker: of IPv6 the network of 64
// bits, since somebody who has one address of it has them all.
func Source(addr string) netip.Addr {
	ap, err := netip.ParseAddrPort(addr)
	if err != nil {
		return netip.Addr{}
	}
	a := ap.Addr().Unmap().WithZone("")
	if a.Is6() {
		p, _ := a.Prefix(64) // of every IPv6 address
		return p.Addr()
	}
	return a
}

// admit takes a connection in, if need be in place of another; nil when there is
// no room for it, and then it is closed.
func (d *Door) admit(c net.Conn) *conn {
	o := &conn{Conn: c, d: d, source: Source(c.RemoteAddr().String()), born: time.Now(), drained: make(chan struct{})}
	d.mu.Lock()
	var out *conn
	full := false
	switch {
	case d.each[o.source] >= d.s.MostEach:
		out, full = d.least(o.source, true), true
	case len(d.conns) >= d.s.Most:
		out, full = d.least(o.source, false), true
	}
	if full {
		d.refused.Add(1)
		if out == nil {
			d.mu.Unlock()
			c.Close()
			return nil
		}
		d.drop(out)
	}
	d.conns[o] = struct{}{}
	d.each[o.source]++
	d.mu.Unlock()
	if out != nil {
		out.Conn.Close()
	}
	return o
}

// least gives the connection that has proved itself least: of one address, or of
// all. First those on which nobody known ever asked, waiting before answering;
// then those of somebody known that wait. Of equals the oldest goes.
func (d *Door) least(source netip.Addr, one bool) *conn {
	var out *conn
	worth := func(c *conn) int {
		switch trusted, active := c.trusted.Load(), c.active.Load(); {
		case !trusted && !active:
			return 0
		case !trusted:
			return 1
		case !active:
			return 2
		}
		return 3
	}
	best := 3
	for c := range d.conns {
		if one && c.source != source {
			continue
		}
		if w := worth(c); w < best || w == best && out != nil && c.born.Before(out.born) {
			best, out = w, c
		}
	}
	return out
}

// drop forgets a connection. The caller holds the lock.
func (d *Door) drop(c *conn) {
	if _, there := d.conns[c]; !there {
		return
	}
	delete(d.conns, c)
	if d.each[c.source]--; d.each[c.source] == 0 {
		delete(d.each, c.source)
	}
}
