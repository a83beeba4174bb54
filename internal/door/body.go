package door

import (
	"errors"
	"io"
	"net"
	"net/http"
	"time"

	"spindle/internal/core/fault"
)

// soon is how long the rest of a body is waited for that nobody wants, when it is
// at most little; otherwise the connection is closed.
const (
	soon   = time.Second
	little = 64 << 10

	// What is taken in of a body that was refused, and for how long.
	drained  = 64 << 20
	drainFor = 5 * time.Second
)

// guard gives bodies their deadlines.
func (d *Door) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body == nil || r.Body == http.NoBody {
			next.ServeHTTP(w, r)
			return
		}
		b := &Body{r: r.Body, rc: http.NewResponseController(w), length: r.ContentLength, quiet: d.s.Quiet, rate: d.s.Rate}
		if r.Method == http.MethodGet || r.Method == http.MethodHead {
			b.Refuse(w) // nothing asks for it
		}
		expects := r.Header.Get("Expect") != "" // and sends nothing before it is told to: by the first read
		// A request of our own, so that net/http still knows the body as its own.
		ours := *r
		ours.Body = b
		defer func() {
			b.Refuse(w)
			if !expects || !b.begun.IsZero() {
				b.drain()
			}
		}()
		next.ServeHTTP(w, &ours)
	})
}

// Body is a request's body that has to arrive at a least rate.
type Body struct {
	Again func() error // asked before each read whether it may go on; may be nil

	r      io.ReadCloser
	rc     *http.ResponseController
	quiet  time.Duration
	rate   int64
	length int64 // of the body; -1 when it is not known
	n      int64
	begun  time.Time
	set    time.Time
	ended  bool
	left   bool
}

// BodyOf gives the guarded body of a request; nil when it has none.
func BodyOf(r *http.Request) *Body {
	b, _ := r.Body.(*Body)
	return b
}

// Received gives how many bytes have been read; of no body, none.
func (b *Body) Received() int64 {
	if b == nil {
		return 0
	}
	return b.n
}

// Read gives the next bytes, or the error slow when they do not come in time.
func (b *Body) Read(p []byte) (int, error) {
	now := time.Now()
	if b.begun.IsZero() {
		b.begun = now
	}
	// The client has earned time with what it sent: it may be quiet until then.
	allowed := b.begun.Add(b.quiet + time.Duration(float64(b.n)/float64(b.rate)*float64(time.Second)))
	if most := now.Add(b.quiet); allowed.After(most) {
		allowed = most
	}
	if now.After(allowed) {
		return 0, slow(nil)
	}
	if now.Sub(b.set) > b.quiet/8 && !b.ended && !b.left {
		b.set = now
		_ = b.rc.SetReadDeadline(allowed) // without deadlines there is only the average
	}
	if b.Again != nil {
		if err := b.Again(); err != nil {
			return 0, err
		}
	}
	n, err := b.r.Read(p)
	b.n += int64(n)
	var ne net.Error
	switch {
	case err == io.EOF:
		b.end()
	case errors.As(err, &ne) && ne.Timeout():
		err = slow(err)
	}
	return n, err
}

// end takes the deadline away: the connection is watched for its end now, however
// long the answer takes.
func (b *Body) end() {
	if !b.ended && !b.left {
		_ = b.rc.SetReadDeadline(time.Time{})
	}
	b.ended = true
}

// Close closes the body.
func (b *Body) Close() error { return b.r.Close() }

// Refuse says that the rest of the body is not worth reading: it is not waited
// for. It comes before the answer's header.
func (b *Body) Refuse(w http.ResponseWriter) {
	if b == nil || b.ended || b.left {
		return
	}
	if b.left = true; b.length < 0 || b.length-b.n > little {
		w.Header().Set("Connection", "close")
	}
	if b.drains() { // the server would close the body before it answers, and read no more of it
		_ = b.rc.EnableFullDuplex()
	}
	_ = b.rc.SetReadDeadline(time.Now().Add(soon))
}

// drain takes in what a refused client still sends, so that it reads the answer instead of a
// connection that is reset: not for long, and not much.
func (b *Body) drain() {
	if !b.left || !b.drains() || b.rc.Flush() != nil || b.rc.SetReadDeadline(time.Now().Add(drainFor)) != nil {
		return
	}
	_, _ = io.CopyN(io.Discard, b.r, b.length-b.n) // the connection is closed either way
}

// drains tells whether the rest of the body is worth taking in: the server takes in what is
// little by itself.
func (b *Body) drains() bool {
	rest := b.length - b.n
	return b.length >= 0 && rest > little && rest <= drained
}

func slow(err error) error {
	return fault.New(fault.Slow, "slow", "the body did not arrive in time").In("body").
		Do("send it again; the connection is too slow or was idle").Because(err)
}
