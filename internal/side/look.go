package side

import (
	"context"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/remote"
)

// Look is what a bucket at an endpoint says of itself.
type Look struct {
	Made       string // when it was made, in the endpoint's words; "": it does not say
	Keeps      bool   // it can keep versions
	Versioning object.Versioning
}

// LookAt asks a bucket at an endpoint what it is. The error for none has the code
// bucket-missing.
func LookAt(ctx context.Context, conn *remote.Conn, bucket string) (Look, error) {
	var l Look
	list, err := conn.Client.Buckets(ctx)
	if err != nil && fault.KindOf(err) != fault.Refused { // a key may see its bucket and no list of them
		return l, err
	}
	for _, b := range list {
		if b.Name == bucket {
			l.Made = b.Made
		}
	}
	if _, err := conn.Client.List(ctx, bucket, "", "", "", 1); err != nil {
		return l, err
	}
	l.Versioning, err = conn.Client.Versioning(ctx, bucket)
	switch fault.KindOf(err) {
	case fault.Unfinished, fault.Refused:
		return l, nil // it has none, or does not tell us
	}
	l.Keeps = err == nil
	return l, err
}
