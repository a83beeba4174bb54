package side

import (
	"context"
	"io"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Facts are what is known of an object at a side. A listing gives what is in the first
// lines, and CRC64 when the side tells it.
type Facts struct {
	Key      string
	Size     int64  // bytes
	ETag     string // without quotes; "" where there are none
	Modified time.Time
	CRC64    *uint64 // CRC-64/NVME of the content; nil: not known
	MD5      string  // of the content, in hex, where the side tells it of one object; "": not known

	Headers  object.Headers
	Metadata object.Metadata
	Tags     object.Tags
	Class    string // tier here, storage class there; "": the usual one
	Version  string // its id; "" where there are none
	Origin   string // what it is a replica of, as replication.Origin writes it
}

// Body is content to be written, of which ranges can be read, also twice and side by side.
type Body interface {
	Range(ctx context.Context, from, length int64) (io.ReadCloser, error)
}

// Write says what is written beside the bytes: Size, Headers, Metadata, Tags, Class,
// Origin of the facts, and CRC64, which must be known.
type Write struct {
	Facts
	MD5    string // of the content, in hex, when it is known
	Sealed bool   // encrypted at rest, whatever the side's default is
	New    bool   // nothing was listed under the key: a folder takes nothing in its place

	Upload string            // an upload of an earlier try, to go on with
	Keep   Keep              // hears of an upload and of its parts; nil: nobody does
	Moved  func(bytes int64) // hears of bytes that were sent; nil: nobody does
}

// Keep hears of an upload when it begins, and of each of its parts: how many bytes of the object
// are there then, and how many of them this write sent since it heard last.
type Keep func(upload string, there, sent int64) error

// Side holds objects. Its methods may be used side by side. What is not there is an
// error of the kind fault.NotFound.
type Side interface {
	// List gives up to limit objects beneath a prefix after a key, in the order of keys.
	List(ctx context.Context, prefix, after string, limit int) ([]Facts, error)
	// Stat gives all that is known of an object.
	Stat(ctx context.Context, key string) (Facts, error)
	// Read reads a range, as long as the object has an ETag that is not "".
	Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error)
	// Write writes an object and gives what is there then. The error has the code
	// newer-there when something newer is, replica-returned when it came from there, and
	// digest-mismatch when the side holds other bytes.
	Write(ctx context.Context, key string, body Body, w Write) (Facts, error)
	// Annotate replaces headers, metadata and tags of the object with f.ETag; its bytes
	// stay. The error has the kind fault.Unfinished where that cannot be done, and
	// fault.Precondition when the content is another.
	Annotate(ctx context.Context, key string, f Facts) (Facts, error)
	// Remove removes an object; one that is not there is no error.
	Remove(ctx context.Context, key string) error
}

// Target is a side that replicas are brought to.
type Target interface {
	Side
	// Judge tells how what is at a key stands to a state with an origin that comes there,
	// replication.Untold where the side does not know, with the facts that it tells.
	Judge(ctx context.Context, key, origin string) (replication.Verdict, Facts, error)
	// RemoveReplica removes what is at a key because it was removed at its source. The error
	// has the code newer-there when what is there was written later.
	RemoveReplica(ctx context.Context, key, origin string) error
}

// Read gives the body that is an object at a side. Read as a whole it is compared with the digest
// that is known of it.
func Read(of Side, f Facts) Body { return reading{of, f} }

type reading struct {
	of Side
	f  Facts
}

func (r reading) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	body, err := r.of.Read(ctx, r.f.Key, r.f.ETag, from, length)
	if err == nil && from == 0 && length == r.f.Size && length > 0 {
		body = Checked(body, r.f)
	}
	return body, err
}

// Sum gives the CRC-64/NVME of a body of a size.
func Sum(ctx context.Context, b Body, size int64) (uint64, error) {
	r, err := b.Range(ctx, 0, size)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	sum := digest.NewCRC64()
	_, err = io.Copy(sum, r)
	return sum.Sum64(), err
}
