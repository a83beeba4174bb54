package objects

import (
	"net/http"
	"strings"
	"sync"

	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

// putThere reads what a raw call says of the object that it writes at an endpoint: type,
// metadata and storage class, in the query.
func putThere(r *http.Request) client.Put {
	q := r.URL.Query()
	p := client.Put{ContentType: q.Get("type"), Class: q.Get("class"), Metadata: object.Metadata{}}
	for _, m := range q["metadata"] {
		name, value, _ := strings.Cut(m, "=")
		p.Metadata[strings.ToLower(name)] = value
	}
	return p
}

// counted has f hear of bytes one at a time, whoever moves them.
func counted(f func(int64)) func(int64) {
	var mu sync.Mutex
	return func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		f(n)
	}
}
