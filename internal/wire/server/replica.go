package server

import (
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Headers by which services of this kind tell each other of replicas.
const (
	originHeader  = "Spindle-Origin"
	writtenHeader = "Spindle-Written" // RFC 3339
)

// origin gives what a request says that its object is a replica of, "" for nothing. The
// errors are those of store.MayReplace.
func (q *request) origin(to catalog.Address) (string, error) {
	o := replication.ParseOrigin(q.r.Header.Get(originHeader))
	if o.IsZero() {
		return "", nil
	}
	written, _ := time.Parse(time.RFC3339Nano, q.r.Header.Get(writtenHeader)) // none: whatever is there is replaced
	return o.String(), q.s.store.MayReplace(q.ctx(), to, o, written)
}

var replicaWords = map[replication.State]string{replication.Pending: "PENDING", replication.Completed: "COMPLETED",
	replication.Failed: "FAILED"}

// sayReplica tells that a version is a replica, or how far its own replicas are: of
// several the one that is least far.
func (q *request) sayReplica(v *object.Version) error {
	h := q.w.Header()
	if v.Origin != "" {
		h.Set("x-amz-replication-status", "REPLICA")
		return nil
	}
	book, err := q.s.store.Replications(q.ctx())
	if err != nil || len(book.Rules) == 0 {
		return err
	}
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil || len(book.Of(f.ID)) == 0 {
		return err
	}
	states, err := q.s.store.ReplicaStates(q.ctx(), f.ID, []*object.Version{v})
	if err != nil {
		return err
	}
	word := ""
	for _, s := range states[0] {
		if w := replicaWords[s.State]; w != "" && (word == "" || w == "FAILED" || w == "PENDING" && word == "COMPLETED") {
			word = w
		}
	}
	if word != "" {
		h.Set("x-amz-replication-status", word)
	}
	return nil
}
