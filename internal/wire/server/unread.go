package server

import (
	"net/http"
	"strings"
)

// Unread gives the answer to a request that net/http cannot read, as the dialect has
// it, with its type. status and why are what net/http says of it.
func (s *Server) Unread(status int, why string) (kind string, document []byte) {
	code, remedy := "BadRequest", "send the request line and the headers as RFC 9112, section 3, has them, with paths percent-encoded"
	switch status {
	case http.StatusRequestHeaderFieldsTooLarge:
		code, remedy = "RequestHeaderSectionTooLarge", "send less metadata"
	case http.StatusNotImplemented:
		code, remedy = "NotImplemented", "send the body with its length"
	case http.StatusHTTPVersionNotSupported:
		remedy = "use HTTP/1.1"
	}
	x := newDoc("Error", false)
	x.text("Code", code)
	x.text("Message", "The request cannot be read: "+strings.TrimSpace(why)+". To mend it: "+remedy)
	x.text("RequestId", s.nextID())
	x.text("HostId", s.boot)
	return "application/xml", x.bytes()
}
