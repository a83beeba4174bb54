package server

import (
	"io"
	"net/http"
	"strings"
)

// spelled writes the headers of an answer as the dialect spells them: ETag, and its
// own in small letters. Their names mean the same in any spelling (RFC 9110, section
// 5.1), but there are clients that look for the one.
type spelled struct {
	http.ResponseWriter
	done bool
}

func (s *spelled) respell() {
	if s.done {
		return
	}
	s.done = true
	h := s.Header()
	for name, values := range h {
		switch {
		case name == "Etag":
			delete(h, name)
			h["ETag"] = values
		case strings.HasPrefix(name, "X-Amz-"):
			delete(h, name)
			h[strings.ToLower(name)] = values
		}
	}
}

// WriteHeader sends the status and the headers.
func (s *spelled) WriteHeader(status int) {
	s.respell()
	s.ResponseWriter.WriteHeader(status)
}

// Write sends a piece of the body.
func (s *spelled) Write(b []byte) (int, error) {
	s.respell()
	return s.ResponseWriter.Write(b)
}

// ReadFrom sends a body, by the kernel where it can.
func (s *spelled) ReadFrom(r io.Reader) (int64, error) {
	s.respell()
	return io.Copy(s.ResponseWriter, r)
}

// Unwrap gives the writer beneath, to http.ResponseController.
func (s *spelled) Unwrap() http.ResponseWriter { return s.ResponseWriter }
