package server

import (
	"net/http"
	"strings"
)

// Unread gives the answer to a request that net/http cannot read, as the dialect has
// it, with its headers. status and why are what net/http says of it.
func (s *Server) Unread(status int, why string) (h http.Header, document []byte) {
	code, remedy := "BadRequest",
		"send the request line and the headers as RFC 9112, section 3, has them, with paths percent-encoded"
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
	message := "The request cannot be read"
	if why != http.StatusText(status) {
		message += ": " + strings.TrimSpace(strings.TrimPrefix(why, http.StatusText(status)+":"))
	}
	x.text("Message", message+". To mend it: "+remedy)
	id := s.ids.Next()
	x.text("RequestId", id)
	x.text("HostId", s.ids.Process())
	return http.Header{"Content-Type": {"application/xml"}, "Server": {"Spindle"}, "x-amz-request-id": {id},
		"x-amz-id-2": {s.ids.Process()}}, x.bytes()
}
