package door

import (
	"net/http"
	"strconv"
)

// InOnePiece has answers that are small be sent with their length, head and body together.
// What is larger, or flushed, goes as it comes.
func InOnePiece(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := &piece{ResponseWriter: w}
		next.ServeHTTP(p, r)
		if !p.goes && p.status != 0 {
			if len(p.held) > 0 {
				p.Header().Set("Content-Length", strconv.Itoa(len(p.held)))
				Gather(r.Context(), int64(len(p.held)))
			}
			_ = p.send() // whom it does not reach is gone
		}
	})
}

// piece holds an answer back until it is whole, or too large for that.
type piece struct {
	http.ResponseWriter
	status int // 0: none was given yet
	held   []byte
	goes   bool // it is sent as it comes
}

// WriteHeader keeps the status.
func (p *piece) WriteHeader(status int) {
	switch {
	case status < http.StatusOK: // which says that more is to come
		p.ResponseWriter.WriteHeader(status)
	case p.status == 0:
		p.status = status
	}
}

// Write keeps a stretch of the body, or sends it when that is too much.
func (p *piece) Write(b []byte) (int, error) {
	p.WriteHeader(http.StatusOK)
	if !p.goes && len(p.held)+len(b) <= gatherMost {
		p.held = append(p.held, b...)
		return len(b), nil
	}
	if err := p.send(); err != nil {
		return 0, err
	}
	return p.ResponseWriter.Write(b)
}

// send sends what is held; all else goes as it comes.
func (p *piece) send() error {
	if p.goes {
		return nil
	}
	p.goes = true
	p.ResponseWriter.WriteHeader(p.status)
	held := p.held
	p.held = nil
	if len(held) == 0 {
		return nil
	}
	_, err := p.ResponseWriter.Write(held)
	return err
}

// FlushError sends what is held.
func (p *piece) FlushError() error {
	p.WriteHeader(http.StatusOK)
	if err := p.send(); err != nil {
		return err
	}
	return http.NewResponseController(p.ResponseWriter).Flush()
}

// Unwrap gives the writer beneath, to http.ResponseController.
func (p *piece) Unwrap() http.ResponseWriter { return p.ResponseWriter }
