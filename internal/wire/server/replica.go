package server

import (
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Headers by which services of this kind tell each other of replicas.
const (
	originHeader  = "Spindle-Origin"
	verdictHeader = "Spindle-Replica" // how what is there stands to the origin that was asked about
)

// origin gives what a request says that its object is a replica of, "" for nothing; it counts
// only of those who may bring replicas. The store refuses a replica that may not take the place
// of what is there; an upload hears of it before its parts are sent.
func (q *request) origin(a catalog.Address) (string, error) {
	o := replication.ParseOrigin(q.r.Header.Get(originHeader))
	if o.IsZero() {
		return "", nil
	}
	may, err := q.s.gate.Replicates(q.ctx(), q.ask(access.Write, a.Bucket, a.Key.String()))
	if err != nil || !may {
		return "", err
	}
	return o.String(), nil
}

// sayVerdict answers how what is at an address stands to a state that somebody would bring
// there, when the request asks for it.
func (q *request) sayVerdict(a catalog.Address) error {
	origin, err := q.origin(a)
	if err != nil || origin == "" {
		return err
	}
	v, err := q.s.store.JudgeReplica(q.ctx(), a, origin)
	if err == nil {
		q.w.Header().Set(verdictHeader, string(v))
	}
	return err
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
		if w := replicaWords[s.State]; s.Rule.On && w != "" && (word == "" || w == "FAILED" || w == "PENDING" &&
			word == "COMPLETED") {
			word = w
		}
	}
	if word != "" {
		h.Set("x-amz-replication-status", word)
	}
	return nil
}
