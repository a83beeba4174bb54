package door

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
)

// What net/http writes by itself, of a request that it cannot read: a status line,
// these headers, which no handler sends without others, and why, as text.
var (
	unreadBegin = []byte("HTTP/1.1 ")
	unreadEnd   = []byte("\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n")
)

// unread gives the answer in place of what net/http says of a request that it cannot
// read; nil for anything else.
func (d *Door) unread(b []byte) []byte {
	const longest = 400 // of what net/http says
	if d.s.Unread == nil || len(b) > longest || !bytes.HasPrefix(b, unreadBegin) {
		return nil
	}
	line, why, ok := bytes.Cut(b[len(unreadBegin):], unreadEnd)
	if !ok || len(line) < 4 {
		return nil
	}
	status, err := strconv.Atoi(string(line[:3]))
	if err != nil {
		return nil
	}
	h, document := d.s.Unread(status, string(bytes.TrimPrefix(why, line[:4])))
	var answer bytes.Buffer
	fmt.Fprintf(&answer, "HTTP/1.1 %s\r\nContent-Length: %d\r\nConnection: close\r\n", line, len(document))
	_ = h.Write(&answer) // memory takes all
	fmt.Fprintf(&answer, "\r\n%s", document)
	return answer.Bytes()
}

// Secured serves TLS on a door's listener.
func (d *Door) Secured(l net.Listener, c *tls.Config) net.Listener {
	return &secureListener{tls.NewListener(l, c), d}
}

type secureListener struct {
	net.Listener
	d *Door
}

// Accept gives the next connection. Hands are shaken at the first read.
func (l *secureListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &secure{c.(*tls.Conn), l.d}, nil
}

type secure struct {
	*tls.Conn
	d *Door
}

// Read tells those who speak without TLS what is wrong.
func (s *secure) Read(b []byte) (int, error) {
	n, err := s.Conn.Read(b)
	if plain := (tls.RecordHeaderError{}); errors.As(err, &plain) && plain.Conn != nil {
		_, _ = plain.Conn.Write(
			[]byte("HTTP/1.1 400 Bad Request\r\nConnection: close\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n" +
				"This port speaks TLS: use an address that begins with https.\n"))
	}
	return n, err
}

// Write writes as it is told, but for what net/http says of requests it cannot read.
func (s *secure) Write(b []byte) (int, error) {
	if instead := s.d.unread(b); instead != nil {
		_, err := s.Conn.Write(instead)
		return len(b), err
	}
	return s.Conn.Write(b)
}
