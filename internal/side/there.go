package side

import (
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/fnv"
	"io"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/digest"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/remote"
	"spindle/internal/store"
	"spindle/internal/wire/client"
)

// OriginHeader is that by which services of this kind tell each other of replicas; others
// take no notice of it.
const OriginHeader = "Spindle-Origin"

// How large objects go to an endpoint.
const (
	cutAbove     = 64 << 20 // bytes; larger ones go in parts
	leastPart    = 16 << 20
	partsAtOnce  = 4
	wholeAtATime = 5 << 30 // the most that goes in one put, where parts are not taken
)

// There is a bucket at an endpoint.
type There struct {
	Conn   *remote.Conn
	Bucket string
}

// FactsThere gives the facts of an object at an endpoint, as its answer tells them.
func FactsThere(key string, i client.Info) Facts {
	return Facts{Key: key, Size: i.Size, ETag: i.ETag, Modified: i.Modified, CRC64: crcOf(i.CRC64),
		MD5:     i.MD5,
		Headers: headersThere(i), Metadata: i.Metadata, Class: i.Class, Version: i.Version}
}

func headersThere(i client.Info) object.Headers {
	return object.Headers{ContentType: i.ContentType, CacheControl: i.Headers["Cache-Control"],
		ContentDisposition: i.Headers["Content-Disposition"], ContentEncoding: i.Headers["Content-Encoding"],
		ContentLanguage: i.Headers["Content-Language"], Expires: i.Headers["Expires"]}
}

func crcOf(s string) *uint64 {
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil || len(b) != 8 {
		return nil
	}
	crc := binary.BigEndian.Uint64(b)
	return &crc
}

// List gives a page. An endpoint's pages hold 1,000 keys at the most.
func (t *There) List(ctx context.Context, prefix, after string, limit int) ([]Facts, error) {
	p, err := t.Conn.Client.ListAfter(ctx, t.Bucket, prefix, after, min(limit, 1000))
	if err != nil {
		return nil, err
	}
	out := make([]Facts, len(p.Objects))
	for i, o := range p.Objects {
		out[i] = Facts{Key: o.Key, Size: o.Size, ETag: o.ETag, Modified: o.Modified, Class: o.Class}
	}
	return out, nil
}

// Stat gives an object.
func (t *There) Stat(ctx context.Context, key string) (Facts, error) {
	i, err := t.Conn.Client.Head(ctx, t.Bucket, key)
	if err != nil {
		return Facts{}, err
	}
	f := FactsThere(key, i)
	if i.Tags > 0 {
		f.Tags, err = t.Conn.Client.Tags(ctx, t.Bucket, key)
	}
	return f, err
}

// Read reads a range.
func (t *There) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	if length == 0 {
		return io.NopCloser(strings.NewReader("")), nil
	}
	r, err := t.Conn.Client.GetRange(ctx, t.Bucket, key, "", from, length, ifETag)
	if err != nil {
		return nil, err
	}
	return &whole{ReadCloser: r, left: length}, nil
}

// whole gives as many bytes as were asked for and no more, and fails when a body ends early, with a
// fault that says that the line broke.
type whole struct {
	io.ReadCloser
	left int64
}

func (w *whole) Read(p []byte) (int, error) {
	if w.left <= 0 {
		return 0, io.EOF // whatever else the endpoint sends
	}
	n, err := w.ReadCloser.Read(p[:min(int64(len(p)), w.left)])
	w.left -= int64(n)
	if err == io.EOF && w.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	if err != nil && err != io.EOF {
		err = client.Unreachable(err)
	}
	return n, err
}

// put gives what a write carries as the client has it.
func (t *There) put(w Write) client.Put {
	p := client.Put{ContentType: w.Headers.ContentType, Metadata: w.Metadata, Class: w.Class, Headers: map[string]string{}}
	if t.Conn.Health.Abilities.Can(endpoint.Tags) {
		p.Tags = w.Tags
	}
	for name, v := range map[string]string{"Cache-Control": w.Headers.CacheControl,
		"Content-Disposition": w.Headers.ContentDisposition, "Content-Encoding": w.Headers.ContentEncoding,
		"Content-Language": w.Headers.ContentLanguage, "Expires": w.Headers.Expires, OriginHeader: w.Origin} {
		if v != "" {
			p.Headers[name] = v
		}
	}
	return p
}

// Write writes an object, a large one in parts.
func (t *There) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	if w.Size > cutAbove && t.Conn.Health.Abilities.Can(endpoint.Multipart) {
		f, err := t.writeParts(ctx, key, body, w)
		if fault.KindOf(err) != fault.Unfinished {
			return f, err
		}
	}
	if w.Size > wholeAtATime {
		return Facts{}, fault.New(fault.TooLarge, "object-too-large",
			"the endpoint takes no objects in parts, and %d bytes are too many at a time", w.Size).
			In("size").Do("keep it elsewhere, or in smaller pieces")
	}
	r, err := body.Range(ctx, 0, w.Size)
	if err != nil {
		return Facts{}, err
	}
	defer r.Close()
	sum := md5.New()
	sound := &soundBody{r: tee(r, sum, w.Moved), left: w.Size, sum: digest.NewCRC64(), want: w.CRC64}
	i, err := t.Conn.Client.Put(ctx, t.Bucket, key, sound, w.Size, t.put(w))
	if err != nil {
		return Facts{}, wroteError(err)
	}
	return t.proved(ctx, key, i, w, hex.EncodeToString(sum.Sum(nil)))
}

// wroteError tells what a service of this kind refuses for a replica.
func wroteError(err error) error {
	switch {
	case fault.HasCode(err, "newer-there"):
		return store.NewerThere()
	case fault.HasCode(err, "replica-returned"):
		return store.Returned()
	}
	return err
}

// soundBody keeps a body from being sent to its end that has not the digest that it is
// said to have: what is not sent whole is not kept.
type soundBody struct {
	r    io.Reader
	left int64
	sum  hash.Hash64
	want *uint64
}

func (s *soundBody) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.sum.Write(p[:n])
	if s.left -= int64(n); s.left <= 0 && s.want != nil && s.sum.Sum64() != *s.want {
		return 0, fault.New(fault.Damaged, "source-damaged",
			"the source gives other bytes than its digest says").In("source").
			Do("look at the source: the object there is damaged")
	}
	return n, err
}

func tee(r io.Reader, sum hash.Hash, moved func(int64)) io.Reader {
	return &teeing{r, sum, moved}
}

type teeing struct {
	r     io.Reader
	sum   hash.Hash
	moved func(int64)
}

func (t *teeing) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.sum.Write(p[:n])
	if t.moved != nil && n > 0 {
		t.moved(int64(n))
	}
	return n, err
}

// proved compares what the endpoint says it holds with what was sent: by the CRC of the
// whole, else by the ETag where that is the expected MD5, else by reading it back.
func (t *There) proved(ctx context.Context, key string, i client.Info, w Write, md5Sum string) (Facts, error) {
	f := FactsThere(key, i)
	f.Size, f.Headers, f.Metadata, f.Tags, f.Class, f.Origin = w.Size, w.Headers, w.Metadata, w.Tags, w.Class, w.Origin
	switch {
	case w.CRC64 == nil:
		return f, fault.New(fault.Internal, "no-digest", "a write without a digest cannot be proved")
	case f.CRC64 != nil && *f.CRC64 != *w.CRC64:
		return f, mismatch()
	case f.CRC64 != nil:
		return f, nil
	case strings.EqualFold(i.ETag, md5Sum):
		return f, nil
	}
	o, err := t.Conn.Client.Get(ctx, t.Bucket, key, i.Version, 0, i.ETag)
	if err != nil {
		return f, err
	}
	defer o.Body.Close()
	sum := digest.NewCRC64()
	n, err := io.Copy(sum, io.LimitReader(o.Body, w.Size+1))
	if err != nil {
		return f, client.Unreachable(err)
	}
	if n != w.Size || sum.Sum64() != *w.CRC64 {
		return f, mismatch()
	}
	return f, nil
}

// writeParts writes an object in parts, some side by side. Parts that an earlier try
// left are compared by their MD5 and not sent again.
func (t *There) writeParts(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	size := max(leastPart, (w.Size/object.MaxParts+1<<20)>>20<<20)
	there, err := t.resume(ctx, key, &w)
	if err != nil {
		return Facts{}, err
	}
	n := int((w.Size + size - 1) / size)
	parts := make([]client.Part, n)
	var mu sync.Mutex
	var kept int64
	var g errgroup.Group // what is under way is finished when another fails: it need not be sent again
	g.SetLimit(partsAtOnce)
	failed := false
	for k := range parts {
		mu.Lock()
		stop := failed
		mu.Unlock()
		if stop || ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			from := int64(k) * size
			length := min(size, w.Size-from)
			p, sent, err := t.writePart(ctx, key, body, w, k+1, from, length, there[k+1])
			if err == nil {
				err = t.Conn.HoldUpload(ctx, t.Bucket, key, w.Upload, contentOf(w))
			}
			mu.Lock()
			defer mu.Unlock()
			if err == nil && w.Keep != nil {
				kept += length
				err = w.Keep(w.Upload, kept, sent) // and a claim lasts on
			}
			parts[k], failed = p, failed || err != nil
			return err
		})
	}
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
		quick, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaveFor)
		defer cancel()
		return Facts{}, errors.Join(err, t.Conn.LeaveUpload(quick, t.Bucket, key, w.Upload, contentOf(w)))
	}
	return t.complete(ctx, key, parts, w)
}

// leaveFor is how long it may take to write down that an upload was interrupted.
const leaveFor = 5 * time.Second

// contentOf tells what is written apart from all else that may be written under its key: an
// upload has its metadata from its beginning.
func contentOf(w Write) string {
	if w.CRC64 == nil {
		return ""
	}
	about := fnv.New64a()
	fmt.Fprintf(about, "%+v|%q|%q|%q|%q", w.Headers, w.Metadata, w.Tags, w.Class, w.Origin) // maps are printed in order
	return fmt.Sprintf("%d %016x %016x", w.Size, *w.CRC64, about.Sum64())
}

// complete makes an object of the parts of w.Upload, and proves it.
func (t *There) complete(ctx context.Context, key string, parts []client.Part, w Write) (Facts, error) {
	sums := md5.New()
	for _, p := range parts {
		sums.Write(p.MD5[:])
	}
	i, err := t.Conn.Client.CompleteUpload(ctx, t.Bucket, key, w.Upload, parts, w.Size, w.CRC64, t.put(w))
	if fault.HasCode(err, "digest-mismatch") { // its parts are of no use
		_ = t.Conn.Client.AbandonUpload(context.WithoutCancel(ctx), t.Bucket, key, w.Upload)
		err = mismatch()
	}
	if err != nil {
		return Facts{}, wroteError(err)
	}
	if err := t.Conn.EndUpload(ctx, t.Bucket, key, w.Upload); err != nil {
		return Facts{}, err
	}
	return t.proved(ctx, key, i, w, fmt.Sprintf("%x-%d", sums.Sum(nil), len(parts)))
}

// resume takes an earlier upload up, or starts one, whose id w has then.
func (t *There) resume(ctx context.Context, key string, w *Write) (map[int]client.Part, error) {
	there := map[int]client.Part{}
	if w.Upload == "" && w.CRC64 != nil {
		var err error
		if w.Upload, err = t.Conn.TakeUpload(ctx, t.Bucket, key, contentOf(*w)); err != nil {
			return nil, err
		}
	}
	if w.Upload != "" {
		list, err := t.Conn.Client.Parts(ctx, t.Bucket, key, w.Upload)
		if err == nil {
			for _, p := range list {
				there[p.Number] = p
			}
			return there, t.Conn.HoldUpload(ctx, t.Bucket, key, w.Upload, contentOf(*w))
		}
		if fault.KindOf(err) != fault.NotFound {
			return nil, err
		}
		if err := t.Conn.EndUpload(ctx, t.Bucket, key, w.Upload); err != nil {
			return nil, err
		}
	}
	var err error
	if w.Upload, err = t.Conn.Client.StartUpload(ctx, t.Bucket, key, t.put(*w)); err != nil {
		return nil, wroteError(err)
	}
	err = t.Conn.HoldUpload(ctx, t.Bucket, key, w.Upload, contentOf(*w))
	if err == nil && w.Keep != nil {
		err = w.Keep(w.Upload, 0, 0)
	}
	return there, err
}

// writePart sends a part unless the one that is there has its MD5, and gives how many bytes it
// sent.
func (t *There) writePart(ctx context.Context, key string, body Body, w Write, number int, from, length int64,
	there client.Part) (client.Part, int64, error) {
	r, err := body.Range(ctx, from, length)
	if err != nil {
		return there, 0, err
	}
	defer r.Close()
	if there.Size == length && len(there.ETag) == 32 {
		sum := md5.New()
		if _, err := io.Copy(sum, r); err != nil {
			return there, 0, err
		}
		if hex.EncodeToString(sum.Sum(there.MD5[:0])) == there.ETag {
			return there, 0, nil
		}
		r.Close()
		if r, err = body.Range(ctx, from, length); err != nil {
			return there, 0, err
		}
		defer r.Close()
	}
	sum := md5.New()
	p, err := t.Conn.Client.PutPart(ctx, t.Bucket, key, w.Upload, number, tee(r, sum, w.Moved), length)
	sum.Sum(p.MD5[:0])
	return p, length, err
}

type noHash struct{ hash.Hash }

func (noHash) Write(p []byte) (int, error) { return len(p), nil }

// Annotate replaces what is said of an object by having it copied onto itself there.
func (t *There) Annotate(ctx context.Context, key string, f Facts) (Facts, error) {
	if !t.Conn.Health.Abilities.Can(endpoint.Copies) || f.Size > wholeAtATime {
		return Facts{}, fault.New(fault.Unfinished, "not-implemented", "the endpoint makes no copies by itself")
	}
	p := t.put(Write{Facts: f})
	p.ReplaceTags = t.Conn.Health.Abilities.Can(endpoint.Tags)
	i, err := t.Conn.Client.SetMetadataOf(ctx, t.Bucket, key, f.ETag, p)
	if err != nil {
		return Facts{}, err
	}
	out := f
	out.ETag, out.Version = i.ETag, i.Version
	return out, nil
}

// Remove removes an object.
func (t *There) Remove(ctx context.Context, key string) error {
	return t.Conn.Client.Remove(ctx, t.Bucket, key)
}

// Judge asks the endpoint to compare what it has with a state that comes there. Only a service
// of this kind answers that.
func (t *There) Judge(ctx context.Context, key, origin string) (replication.Verdict, Facts, error) {
	i, err := t.Conn.Client.HeadWith(ctx, t.Bucket, key, map[string]string{OriginHeader: origin})
	if err != nil {
		return replication.Untold, Facts{}, err
	}
	f := FactsThere(key, i)
	if i.Tags > 0 {
		f.Tags, err = t.Conn.Client.Tags(ctx, t.Bucket, key)
	}
	return replication.Verdict(i.Replica), f, err
}

// RemoveReplica removes what was removed at its source; a service of this kind looks at what
// it has before.
func (t *There) RemoveReplica(ctx context.Context, key, origin string) error {
	return wroteError(t.Conn.Client.RemoveWith(ctx, t.Bucket, key, map[string]string{OriginHeader: origin}))
}
