package carry

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"path"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/syncing"
	"spindle/internal/side"
)

// wholeMost is up to how many bytes an object is read once and kept while it is sent.
const wholeMost = 1 << 20

// resolve looks closer at what listings leave in doubt: at digests that a side tells of one
// object, at the time that a file had, and at the bytes where digests are wanted.
func (j *Job) resolve(ctx context.Context, s *syncing.Step) error {
	from, err := j.From.Stat(ctx, s.Key)
	if err != nil {
		return gone(err)
	}
	to, err := j.To.Stat(ctx, s.Key)
	if err != nil {
		return gone(err)
	}
	why := s.Why
	s.Do, s.Why = syncing.Skip, syncing.Same
	switch byDigest := j.Options.By == syncing.ByDigest; {
	case from.Size != to.Size:
		s.Do, s.Why = syncing.Write, syncing.Size
	case !byDigest && (fileTime(from, to) || fileTime(to, from)):
	case from.CRC64 != nil || to.CRC64 != nil || byDigest:
		same, err := j.sameBytes(ctx, from, to)
		if err != nil {
			return err
		}
		if !same {
			s.Do, s.Why = syncing.Write, syncing.Digest
		}
	default:
		s.Do, s.Why = syncing.Write, why
	}
	return nil
}

// gone is the error for an object that a listing had, and that is not there any more.
func gone(err error) error {
	if fault.KindOf(err) != fault.NotFound {
		return err
	}
	return fault.New(fault.Conflict, "changed-meanwhile", "it went while sides were compared").In("key").
		Do("run it again").Because(err)
}

// fileTime reports whether an object says that it was a file of the time that the other
// one has.
func fileTime(object, file side.Facts) bool {
	return object.Metadata[side.FileTime] != "" && object.Metadata[side.FileTime] == file.Metadata[side.FileTime]
}

// sameBytes compares digests; what a side does not tell is read.
func (j *Job) sameBytes(ctx context.Context, from, to side.Facts) (bool, error) {
	a, err := sum(ctx, j.From, from)
	if err != nil {
		return false, err
	}
	b, err := sum(ctx, j.To, to)
	return a == b, err
}

func sum(ctx context.Context, of side.Side, f side.Facts) (uint64, error) {
	if f.CRC64 != nil {
		return *f.CRC64, nil
	}
	return side.Sum(ctx, side.Read(of, f), f.Size)
}

// write brings an object to the target, where its digest proves it.
func (j *Job) write(ctx context.Context, s *syncing.Step) error {
	from, err := j.From.Stat(ctx, s.Key)
	if err != nil {
		return gone(err)
	}
	w := side.Write{Facts: from, Sealed: j.Sealed, New: s.Target == nil, Moved: j.Moved}
	w.Key, w.Version, w.Origin, w.Class = "", "", "", j.Class
	if w.Headers.ContentType == "" {
		w.Headers.ContentType = mime.TypeByExtension(path.Ext(s.Key))
	}
	s.Source.Size = from.Size
	if s.Target == nil && from.CRC64 != nil && j.copied(ctx, s.Key, from, w) {
		j.set(func(r *Result) { r.AtHand = r.AtHand.Plus(syncing.Sum{Objects: 1, Bytes: from.Size}) })
		return j.arrived(ctx, from, *from.CRC64)
	}
	body, crc, err := j.body(ctx, from)
	if err != nil {
		return err
	}
	w.CRC64 = &crc
	if err := j.send(ctx, s.Key, body, w); err != nil {
		return err
	}
	return j.arrived(ctx, from, crc)
}

// arrived does what is to be done with the source of what was written.
func (j *Job) arrived(ctx context.Context, from side.Facts, crc uint64) error {
	if j.Options.Mode == syncing.Drain {
		return j.drainAs(ctx, from, crc)
	}
	return nil
}

// send writes an object, and goes on with the upload of an earlier run.
func (j *Job) send(ctx context.Context, key string, body side.Body, w side.Write) error {
	content := fmt.Sprintf("%s %016x", w.ETag, *w.CRC64)
	begun := ""
	if j.Uploads != nil && w.Size > wholeMost {
		w.Upload = j.Uploads.Known(key, content)
		w.Keep = func(upload string, _, _ int64) error {
			if upload == begun {
				return nil
			}
			begun = upload
			return j.Uploads.Keep(key, content, upload)
		}
	}
	known := w.Upload
	if _, err := j.To.Write(ctx, key, body, w); err != nil {
		return err
	}
	if known != "" || begun != "" {
		return j.Uploads.Keep(key, content, "")
	}
	return nil
}

// body gives an object's content with its digest. A small one is read once; what a bucket
// of the same service takes over is not read.
func (j *Job) body(ctx context.Context, f side.Facts) (side.Body, uint64, error) {
	if side.SameService(j.From, j.To) && f.CRC64 != nil {
		return side.Content(ctx, j.From, f), *f.CRC64, nil
	}
	if f.Size > wholeMost {
		crc, err := sum(ctx, j.From, f)
		return j.paced(side.Read(j.From, f)), crc, err
	}
	r, err := side.Read(j.From, f).Range(ctx, 0, f.Size)
	if err != nil {
		return nil, 0, err
	}
	b, err := io.ReadAll(r)
	if err = errors.Join(err, r.Close()); err != nil {
		return nil, 0, err
	}
	return j.paced(inMemory(b)), digest.CRC64(b), nil
}

type inMemory []byte

// Range gives a range.
func (b inMemory) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(b[from : from+length])), nil
}

// drain removes at the source what is the same at the target.
func (j *Job) drain(ctx context.Context, key string) error {
	from, err := j.From.Stat(ctx, key)
	if err != nil {
		return gone(err)
	}
	crc, err := sum(ctx, j.From, from)
	if err != nil {
		return err
	}
	return j.drainAs(ctx, from, crc)
}

// drainAs removes an object at the source, once the target was read back and agrees and
// the source is still what it was.
func (j *Job) drainAs(ctx context.Context, from side.Facts, crc uint64) error {
	to, err := j.To.Stat(ctx, from.Key)
	if err != nil {
		return err
	}
	got, err := side.Sum(ctx, side.Read(j.To, to), to.Size)
	if err != nil {
		return err
	}
	if got != crc || to.Size != from.Size {
		return fault.New(fault.Damaged, "digest-mismatch", "what was read back is not what was sent").In("target").
			Do("it stays at the source; look at the target")
	}
	now, err := j.From.Stat(ctx, from.Key)
	if err != nil {
		return gone(err)
	}
	if now.ETag != from.ETag {
		return fault.New(fault.Precondition, "source-changed", "the object was replaced meanwhile").In("source").
			Do("run it again")
	}
	if err := j.From.Remove(ctx, from.Key); err != nil {
		return err
	}
	j.mu.Lock()
	j.result.Drained.Objects++
	j.result.Drained.Bytes += from.Size
	j.mu.Unlock()
	return nil
}
