package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"spindle/internal/wire/sign"
)

// conn is a client as cheap as can be: it writes requests and reads answers by
// hand, so that the load takes little of the cores it measures.
type conn struct {
	c   net.Conn
	r   *bufio.Reader
	w   *bufio.Writer
	sig bool
	adr string
}

func dial(addr string, signed bool) (*conn, error) {
	c, err := net.Dial("tcp", addr)
	if err != nil {
		return nil, err
	}
	return &conn{c: c, r: bufio.NewReaderSize(c, 256<<10), w: bufio.NewWriterSize(c, 64<<10), sig: signed, adr: addr}, nil
}

// head makes a request's head, signed if the connection is to sign.
func (c *conn) head(method, path string, size int64) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\nContent-Length: %d\r\n", method, path, c.adr, size)
	if c.sig {
		r, err := http.NewRequest(method, "http://"+c.adr+path, nil)
		if err != nil {
			return nil, err
		}
		sign.Sign(r, cred, "fenn", sign.Unsigned, time.Now())
		for k, v := range r.Header {
			fmt.Fprintf(&b, "%s: %s\r\n", k, v[0])
		}
	}
	b.WriteString("\r\n")
	return b.Bytes(), nil
}

// do sends a request and reads the answer, giving its status and length.
func (c *conn) do(method, path string, body io.Reader, size int64) (status int, length int64, err error) {
	head, err := c.head(method, path, size)
	if err != nil {
		return 0, 0, err
	}
	return c.send(head, body, size)
}

// send sends a request whose head was made before.
func (c *conn) send(head []byte, body io.Reader, size int64) (status int, length int64, err error) {
	w := c.w
	if _, err := w.Write(head); err != nil {
		return 0, 0, err
	}
	if size > 64<<10 { // straight from file to socket
		if err := w.Flush(); err != nil {
			return 0, 0, err
		}
		if _, err := io.Copy(c.c, body); err != nil {
			return 0, 0, err
		}
	} else if body != nil {
		if _, err := io.Copy(w, body); err != nil {
			return 0, 0, err
		}
	}
	if err := w.Flush(); err != nil {
		return 0, 0, err
	}
	line, err := c.r.ReadSlice('\n')
	if err != nil {
		return 0, 0, err
	}
	if status, err = strconv.Atoi(string(line[9:12])); err != nil {
		return 0, 0, err
	}
	for {
		h, err := c.r.ReadSlice('\n')
		if err != nil {
			return 0, 0, err
		}
		if len(h) <= 2 {
			break
		}
		if len(h) > 16 && strings.EqualFold(string(h[:15]), "content-length:") {
			if length, err = strconv.ParseInt(strings.TrimSpace(string(h[15:])), 10, 64); err != nil {
				return 0, 0, err
			}
		}
	}
	// What is in the buffer first, then straight from the socket.
	if n, err := c.r.Discard(int(min(length, int64(c.r.Buffered())))); err != nil {
		return 0, 0, err
	} else if left := length - int64(n); left > 0 {
		buf := make([]byte, 1<<20)
		for left > 0 {
			n, err := c.c.Read(buf[:min(left, int64(len(buf)))])
			if err != nil {
				return 0, 0, err
			}
			left -= int64(n)
		}
	}
	return status, length, nil
}
