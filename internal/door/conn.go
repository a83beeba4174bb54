package door

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// conn is a connection whose answers have to be taken in time.
type conn struct {
	net.Conn
	d       *Door
	source  netip.Addr
	born    time.Time
	trusted atomic.Bool
	active  atomic.Bool
	drains  atomic.Bool   // no more is written, and what still comes is thrown away
	drained chan struct{} // closed when that is over
	sealed  bool          // there is TLS above: what is written is not the answer as it is
	gather  int64         // bytes of the body of the answer that is gathered; 0: none is
	held    *bytes.Buffer // of it, with its head
	set     atomic.Int64  // when the write deadline was set last, in nanoseconds of the clock
}

// stretch is how many bytes of an answer have to be taken within the quiet time.
const stretch = 64 << 10

// ahead gives the other end time to take the next stretch.
func (c *conn) ahead(quiet time.Duration) {
	now := time.Now()
	if n := now.UnixNano(); n-c.set.Load() > int64(c.d.s.Quiet/8) {
		c.set.Store(n)
		_ = c.Conn.SetWriteDeadline(now.Add(quiet)) // without deadlines there is only the end of the connection
	}
}

// Write writes a stretch at a time.
func (c *conn) Write(b []byte) (n int, err error) {
	if instead := c.d.unread(b); instead != nil {
		c.ahead(c.d.s.Quiet)
		_, err := c.Conn.Write(instead)
		return len(b), err
	}
	if c.gather > 0 {
		return c.gathered(b)
	}
	for first := true; first || len(b) > 0; first = false {
		c.ahead(c.d.s.Quiet)
		m, err := c.Conn.Write(b[:min(len(b), stretch)])
		n += m
		if err != nil {
			return n, err
		}
		b = b[m:]
	}
	return n, nil
}

// gatherMost is the greatest body that is written together with its head.
const gatherMost = 32 << 10

var gatherings = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// Gather has the answer to a request written in one piece: its body has so many bytes, and they
// come right after the head. The server's own buffer holds head and body of the smallest
// answers alone. Over TLS there is a record to each write, and nothing is gathered.
func Gather(ctx context.Context, body int64) {
	c, _ := ctx.Value(connKey{}).(*conn)
	if c == nil || c.sealed || body <= 0 || body > gatherMost {
		return
	}
	c.gather, c.held = body, gatherings.Get().(*bytes.Buffer)
	c.held.Reset()
}

// Apart gives a context in which the request's connection is not known: for a request that is
// made beneath another one, whose answer goes elsewhere.
func Apart(ctx context.Context) context.Context { return context.WithValue(ctx, connKey{}, nil) }

// gathered holds a piece of an answer, and writes all of it when it is whole.
func (c *conn) gathered(b []byte) (int, error) {
	c.held.Write(b)
	all := c.held.Bytes()
	end := bytes.Index(all, []byte("\r\n\r\n"))
	if end < 0 || int64(len(all)) < int64(end+4)+c.gather {
		return len(b), nil
	}
	defer gatherings.Put(c.held)
	c.gather, c.held = 0, nil
	if _, err := c.Write(all); err != nil {
		return 0, err
	}
	return len(b), nil
}

// ReadFrom hands a file to the kernel, a MiB at a time, each of which has to be
// taken within four times the quiet time.
func (c *conn) ReadFrom(r io.Reader) (n int64, err error) {
	tcp, ok := c.Conn.(*net.TCPConn)
	if !ok {
		return io.Copy(plainWriter{c}, r)
	}
	limited, ok := r.(*io.LimitedReader)
	if !ok {
		limited = &io.LimitedReader{R: r, N: 1<<63 - 1}
	}
	for limited.N > 0 {
		c.set.Store(0)
		c.ahead(4 * c.d.s.Quiet)
		piece := &io.LimitedReader{R: limited.R, N: min(limited.N, 1<<20)}
		want := piece.N
		m, err := tcp.ReadFrom(piece)
		n += m
		limited.N -= m
		if err != nil || m < want {
			return n, err
		}
	}
	return n, nil
}

// plainWriter hides ReadFrom.
type plainWriter struct{ io.Writer }

// CloseWrite says that no more will be written. What is still sent is thrown away for
// a short while: a connection that is closed with bytes unread is reset, and a client
// that is busy sending would lose the answer.
func (c *conn) CloseWrite() error {
	tcp, ok := c.Conn.(*net.TCPConn)
	if !ok || c.drains.Swap(true) {
		return nil
	}
	_ = tcp.SetReadDeadline(time.Now().Add(soon))
	go func() {
		_, _ = io.Copy(io.Discard, tcp) // until the other end is done, or the time is over
		close(c.drained)
	}()
	return tcp.CloseWrite()
}

// Close closes the connection and makes room for another, once what is still sent was
// thrown away.
func (c *conn) Close() error {
	if !c.drains.Load() {
		return c.closeNow()
	}
	go func() {
		<-c.drained
		_ = c.closeNow() // nobody waits for it
	}()
	return nil
}

func (c *conn) closeNow() error {
	c.d.mu.Lock()
	c.d.drop(c)
	c.d.mu.Unlock()
	return c.Conn.Close()
}
