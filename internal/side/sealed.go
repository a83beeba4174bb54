package side

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"iter"
	"path/filepath"
	"strconv"
	"strings"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
)

// aboutField is the metadata that holds, sealed, what an object has beside its content.
const aboutField = "sealed-about"

// Sealed is a side that must not read what it keeps: contents are sealed before they leave,
// and names where that is wanted. It lists in the order of keys, for which names are opened
// and sorted. What is there and was not sealed is left out where names are sealed.
type Sealed struct {
	Of    Side
	Keys  *sealing.Keys
	Names bool
	Odd   func(key, what string) // hears of what is left out; nil: nobody
}

func (s *Sealed) name(key string) (string, error) {
	if !s.Names {
		return key, nil
	}
	return s.Keys.SealName(key)
}

// key gives the key of a name there; ok is false for what was not sealed.
func (s *Sealed) key(name string) (key string, ok bool) {
	switch {
	case name == sealing.MarkName || name == sealing.KeyName:
		return "", false
	case !s.Names:
		return name, true
	}
	if key, ok = s.Keys.OpenName(name); !ok && s.Odd != nil {
		s.Odd(name, "not sealed with this passphrase")
	}
	return key, ok
}

// CanHold refuses keys that the side beneath cannot hold, or that are too long to be sealed.
func (s *Sealed) CanHold(key string) error {
	name, err := s.name(key)
	if err != nil {
		return err
	}
	if h, ok := s.Of.(interface{ CanHold(string) error }); ok {
		return h.CanHold(name)
	}
	return nil
}

// plain has the facts of a file there be those of its content, as far as a listing tells.
func plain(f Facts, key string) Facts {
	return Facts{Key: key, Size: sealing.PlainLength(f.Size), ETag: "sealed " + f.ETag, Modified: f.Modified,
		Class:   f.Class,
		Version: f.Version}
}

func etagThere(etag string) string { return strings.TrimPrefix(etag, "sealed ") }

// All gives all objects in the order of keys.
func (s *Sealed) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	opened := func(yield func(Facts, error) bool) {
		for f, err := range All(ctx, s.Of, "") {
			if err != nil {
				yield(f, err)
				return
			}
			key, ok := s.key(f.Key)
			if ok && strings.HasPrefix(key, prefix) && !yield(plain(f, key), nil) {
				return
			}
		}
	}
	if !s.Names {
		return opened
	}
	return sorted(opened)
}

// List gives a page. It goes through all there is: All is for whoever wants it all.
func (s *Sealed) List(ctx context.Context, prefix, after string, limit int) (out []Facts, err error) {
	for f, err := range s.All(ctx, prefix) {
		if err != nil {
			return nil, err
		}
		if f.Key > after {
			out = append(out, f)
		}
		if len(out) == limit {
			break
		}
	}
	return out, nil
}

// Stat gives all that is known of an object, from the header of its file.
func (s *Sealed) Stat(ctx context.Context, key string) (Facts, error) {
	name, err := s.name(key)
	if err != nil {
		return Facts{}, err
	}
	there, err := s.Of.Stat(ctx, name)
	if err != nil {
		return Facts{}, err
	}
	file, err := s.open(ctx, key, name, there.ETag, there.Size)
	if err != nil {
		return Facts{}, err
	}
	f := plain(there, key)
	crc := file.CRC64
	f.Size, f.CRC64, f.Modified = file.Size, &crc, file.Modified
	if file.Mode != 0 {
		f.Metadata = object.Metadata{FileMode: fmt.Sprintf("%04o", file.Mode), FileTime: rfc3339(file.Modified)}
	}
	word := there.Metadata[aboutField]
	switch {
	case word == "" && file.About && s.keepsAbout():
		return Facts{}, fault.New(fault.Damaged, "sealed-damaged", "what is said beside the content of %q was taken away",
			key).
			In("metadata").Do("take it from an earlier version or another copy")
	case word == "":
		return f, nil
	}
	a, err := s.Keys.OpenAbout(key, file, word)
	f.Headers, f.Metadata, f.Tags = a.Headers, a.Metadata, a.Tags
	for name, v := range f.Metadata { // older ones have it as it travels
		f.Metadata[name] = object.FromWire(v)
	}
	f.Headers.ContentType = a.Type
	return f, err
}

// keepsAbout reports whether something can be said beside a content there: a folder keeps none, nor
// does what was copied from a bucket into one.
func (s *Sealed) keepsAbout() bool {
	_, folder := base(s.Of).(*Folder)
	return !folder
}

// open reads the header of a file.
func (s *Sealed) open(ctx context.Context, key, name, etag string, size int64) (*sealing.File, error) {
	if size < sealing.HeaderSize {
		return nil, fault.New(fault.Damaged, "sealed-damaged", "%q is there and was not sealed, or is cut off",
			key).In("key").
			Do("look at it at its side")
	}
	r, err := s.Of.Read(ctx, name, etag, 0, sealing.HeaderSize)
	if err != nil {
		return nil, err
	}
	head, err := io.ReadAll(r)
	if err = errors.Join(err, r.Close()); err != nil {
		return nil, err
	}
	return s.Keys.Open(key, head)
}

// Read reads a range of a content.
func (s *Sealed) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	name, err := s.name(key)
	if err != nil {
		return nil, err
	}
	if length == 0 {
		return io.NopCloser(strings.NewReader("")), nil
	}
	etag := etagThere(ifETag)
	if from == 0 { // the header and what follows it come at once
		return s.readFirst(ctx, key, name, etag, length)
	}
	file, err := s.open(ctx, key, name, etag, sealing.HeaderSize)
	if err != nil {
		return nil, err
	}
	return file.Opened(s.ranger(ctx, name, etag), from, length)
}

func (s *Sealed) ranger(ctx context.Context, name, etag string) sealing.Ranger {
	return func(from, length int64) (io.ReadCloser, error) { return s.Of.Read(ctx, name, etag, from, length) }
}

// readFirst reads a content from its begin on. Most are read whole: then one range is all
// that is read.
func (s *Sealed) readFirst(ctx context.Context, key, name, etag string, length int64) (io.ReadCloser, error) {
	r, err := s.Of.Read(ctx, name, etag, 0, sealing.Length(length))
	if err != nil {
		return nil, err
	}
	head := make([]byte, sealing.HeaderSize)
	n, err := io.ReadFull(r, head)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil // and the header is damaged
	}
	var file *sealing.File
	if err == nil {
		file, err = s.Keys.Open(key, head[:n])
	}
	if err == nil && file.Size < length {
		err = fault.New(fault.Precondition, "mismatch", "the content is shorter by now").In("key").Do("begin again")
	}
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	if file.Size > length {
		if err := r.Close(); err != nil {
			return nil, err
		}
		return file.Opened(s.ranger(ctx, name, etag), 0, length)
	}
	return file.Opened(func(int64, int64) (io.ReadCloser, error) { return r, nil }, 0, length)
}

// sealedBody is the sealed file of a content.
type sealedBody struct {
	of   Body
	file *sealing.File
}

// Range gives a range of the file.
func (b sealedBody) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	return b.file.Sealed(func(from, length int64) (io.ReadCloser, error) { return b.of.Range(ctx, from, length) }, from,
		length)
}

// Write seals an object and writes it. An upload that goes on has the header that it began
// with, or its parts would not fit together.
func (s *Sealed) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	name, err := s.name(key)
	if err != nil {
		return Facts{}, err
	}
	if _, ok := s.Of.(*Folder); ok && w.Metadata[FileLink] != "" {
		return Facts{}, fault.New(fault.Invalid, "sealed-link", "a sealed folder keeps no links").In("key").
			Do("follow or skip links")
	}
	if w.CRC64 == nil {
		return Facts{}, fault.New(fault.Internal, "no-digest", "a write without a digest cannot be proved")
	}
	file, err := s.begin(key, &w)
	if err != nil {
		return Facts{}, err
	}
	sealed := sealedBody{body, file}
	in := w
	in.Facts = Facts{Size: sealing.Length(w.Size), Class: w.Class, Modified: w.Modified,
		Headers: object.Headers{ContentType: "application/octet-stream"}}
	in.MD5 = "" // of the content
	if keep := w.Keep; keep != nil {
		in.Keep = func(upload string, there, sent int64) error {
			return keep(base64.RawStdEncoding.EncodeToString(file.Head())+" "+upload, min(there, w.Size), sent)
		}
	}
	if in.Metadata, err = s.about(key, file, &w); err != nil {
		return Facts{}, err
	}
	crc, err := s.digest(ctx, sealed, in.Size, &w)
	if err != nil {
		return Facts{}, err
	}
	in.CRC64 = &crc
	there, err := s.Of.Write(ctx, name, sealed, in)
	if err != nil {
		return Facts{}, err
	}
	f := plain(there, key)
	f.Size, f.CRC64, f.Headers, f.Metadata, f.Tags = w.Size, w.CRC64, w.Headers, w.Metadata, w.Tags
	return f, nil
}

// begin makes the header of a file, or takes that of the upload which goes on.
func (s *Sealed) begin(key string, w *Write) (*sealing.File, error) {
	head, upload, ok := strings.Cut(w.Upload, " ")
	if b, err := base64.RawStdEncoding.DecodeString(head); ok && err == nil {
		f, err := s.Keys.Open(key, b)
		if err == nil && f.Size == w.Size && f.CRC64 == *w.CRC64 {
			w.Upload = upload
			return f, nil
		}
	}
	w.Upload = ""
	facts := sealing.Facts{Size: w.Size, CRC64: *w.CRC64, Modified: timeOf(w.Facts), About: s.keepsAbout()}
	if mode, err := strconv.ParseUint(w.Metadata[FileMode], 8, 12); err == nil {
		facts.Mode = uint16(mode)
	}
	return s.Keys.Begin(key, facts)
}

// about gives the metadata of a file: all that the object has, sealed.
func (s *Sealed) about(key string, file *sealing.File, w *Write) (object.Metadata, error) {
	word, err := s.Keys.SealAbout(key, file, sealing.About{Type: w.Headers.ContentType, Headers: w.Headers,
		Metadata: w.Metadata,
		Tags:     w.Tags})
	if err != nil {
		return nil, err
	}
	return object.Metadata{aboutField: word}, nil
}

// digest gives the digest of a sealed file, and compares that of its content on the way.
func (s *Sealed) digest(ctx context.Context, b sealedBody, size int64, w *Write) (uint64, error) {
	plain := digest.NewCRC64()
	b.of = summed{b.of, plain}
	crc, err := Sum(ctx, b, size)
	if err == nil && plain.Sum64() != *w.CRC64 {
		err = fault.New(fault.Damaged, "source-damaged", "the source gives other bytes than its digest says").In("source").
			Do("look at the source: the object there is damaged")
	}
	return crc, err
}

// summed adds what is read of a body to a digest.
type summed struct {
	Body
	sum io.Writer
}

// Range reads a range.
func (s summed) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	r, err := s.Body.Range(ctx, from, length)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.TeeReader(r, s.sum), r}, nil
}

// Annotate cannot be done: what is said of a content is sealed with it.
func (s *Sealed) Annotate(context.Context, string, Facts) (Facts, error) {
	return Facts{}, fault.New(fault.Unfinished, "not-implemented", "what is said of a sealed object is written with it")
}

// Remove removes an object.
func (s *Sealed) Remove(ctx context.Context, key string) error {
	name, err := s.name(key)
	if err != nil {
		return err
	}
	return s.Of.Remove(ctx, name)
}

// ReadMark gives the mark of a sealed place, nil when there is none.
func ReadMark(ctx context.Context, of Side) (*sealing.Mark, error) {
	b, err := readSmall(ctx, of, sealing.MarkName)
	if err != nil || b == nil {
		return nil, err
	}
	m, err := sealing.ParseMark(b)
	if err != nil {
		return nil, err
	}
	m.Key, err = readSmall(ctx, of, sealing.KeyName)
	return m, err
}

// MarkOver gives the mark of the sealed place that a side is, or lies in: a side beneath a
// prefix, or a folder, may be within one. nil: it is in none.
func MarkOver(ctx context.Context, of Side) (*sealing.Mark, error) {
	for {
		m, err := ReadMark(ctx, of)
		if m != nil || err != nil {
			return m, err
		}
		switch x := of.(type) {
		case *beneath:
			up := strings.TrimSuffix(x.prefix, "/")
			of = Beneath(x.of, up[:strings.LastIndexByte(up, '/')+1])
		case *Folder:
			up := filepath.Dir(filepath.Clean(x.Dir))
			if up == filepath.Clean(x.Dir) {
				return nil, nil
			}
			above := &Folder{Dir: up}
			defer above.Close()
			of = above
		default:
			return nil, nil
		}
	}
}

// readSmall reads an object of a few bytes, nil when it is not there.
func readSmall(ctx context.Context, of Side, key string) ([]byte, error) {
	f, err := of.Stat(ctx, key)
	if fault.KindOf(err) == fault.NotFound && err != nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if f.Size > sealing.MaxMark {
		return nil, fault.New(fault.Damaged, "sealed-mark", "%s has %d bytes", key, f.Size).In("source")
	}
	r, err := of.Read(ctx, key, f.ETag, 0, f.Size)
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(r)
	return b, errors.Join(err, r.Close())
}

// KeepMark writes the mark of a place that has none. The error has the code sealed-otherwise
// when the place is sealed with another passphrase, or in another way.
func KeepMark(ctx context.Context, of Side, m *sealing.Mark) error {
	was, err := ReadMark(ctx, of)
	if err != nil {
		return err
	}
	if was != nil {
		if was.Recipient != m.Recipient || was.Names != m.Names {
			return fault.New(fault.Conflict, "sealed-otherwise",
				"what is there is sealed with another passphrase, or in another way").
				In("target").Do("choose another prefix, or give that passphrase and whether names are sealed as it was")
		}
		return nil
	}
	text, err := m.Bytes()
	if err != nil {
		return err
	}
	for _, x := range []struct {
		key  string
		body []byte
	}{{sealing.KeyName, m.Key}, {sealing.MarkName, text}} {
		crc := digest.CRC64(x.body)
		if _, err := of.Write(ctx, x.key, small(x.body), Write{Facts: Facts{Size: int64(len(x.body)),
			CRC64: &crc}}); err != nil {
			return err
		}
	}
	return nil
}

type small []byte

// Range gives a range.
func (b small) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(b[from : from+length])), nil
}
