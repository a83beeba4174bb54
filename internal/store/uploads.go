package store

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"hash"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// pieces reads the body of an object that came in parts.
type pieces struct {
	s    *Store
	v    *object.Version
	list []catalog.Part // of the range that was prepared
	from int64
	to   int64
}

// Prepare gets ready to send a range, so that what can be found wrong is found
// before the first byte goes out. Bodies of one piece need none.
func (b *Body) Prepare(ctx context.Context, offset, length int64) error {
	p := b.pieces
	if p == nil || length == 0 {
		return nil
	}
	var err error
	if p.list, err = p.s.Catalog.Pieces(ctx, -p.v.Body.File, offset, length); err != nil {
		return err
	}
	at := offset
	for _, x := range p.list {
		if x.Start > at {
			break
		}
		at = x.Start + x.Size
		if problem, err := p.s.damageOf(ctx, x.Body); err != nil {
			return err
		} else if problem != "" {
			return fault.New(fault.Damaged, "damaged", "part %d of the object is damaged: %s", x.Number, problem).
				Do("restore the object from a copy; the damage is reported on the overview")
		}
	}
	if at < offset+length {
		return fault.New(fault.Damaged, "damaged", "the object has no part for byte %d", at).
			Do("restore the object from a copy")
	}
	p.from, p.to = offset, offset+length
	if len(p.list) > 0 { // the first one opens; later ones are opened as they come
		first, err := p.s.open(ctx, piece(p.list[0]))
		if err != nil {
			return err
		}
		first.Close()
	}
	return nil
}

// piece gives a part as a version of its own, to be opened.
func piece(p catalog.Part) *object.Version {
	return &object.Version{Size: p.Size, CRC64: p.CRC64, Body: p.Body}
}

func (p *pieces) send(w io.Writer, offset, length int64, between func()) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if length > 0 && (p.list == nil || offset < p.from || offset+length > p.to) {
		b := &Body{pieces: p}
		if err := b.Prepare(ctx, offset, length); err != nil {
			return err
		}
	}
	for _, x := range p.list {
		from, to := max(offset, x.Start), min(offset+length, x.Start+x.Size)
		if from >= to {
			continue
		}
		b, err := p.s.open(ctx, piece(x))
		if err != nil {
			return err
		}
		err = b.Send(w, from-x.Start, to-from, between)
		b.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// StartUpload begins a multipart upload and gives it with its id. u has headers,
// metadata, tags and checksum; Sealed has its parts encrypted whatever the bucket's
// default is, TierName has them go there.
func (s *Store) StartUpload(ctx context.Context, a catalog.Address, u catalog.Upload,
	by catalog.Author) (*catalog.Upload, error) {
	if err := u.Headers.Check(); err != nil {
		return nil, err
	}
	f, err := s.Facts(ctx, a.Bucket)
	if err == nil {
		err = asked(f, a.Key, u.Metadata, u.Origin)
	}
	if err != nil {
		return nil, err
	}
	if f.Room != nil && *f.Room <= 0 {
		return nil, fault.New(fault.Full, "quota", "the bucket's quota is used up").In("quota").
			Do("remove objects or previous versions, or raise the bucket's quota")
	}
	if err := fits(f, 1); err != nil {
		return nil, err
	}
	if u.Checksum != digest.None && !u.PerPart && !u.Checksum.CanCombine() {
		return nil, fault.New(fault.Invalid, "checksum-type", "a %s of the whole cannot be worked out from parts",
			u.Checksum).In("checksum").Do("ask for one of the parts' checksums, or for a CRC")
	}
	in, err := s.tierNamed(ctx, f, u.TierName)
	if err != nil {
		return nil, err
	}
	by = s.Now(by)
	u.Tier, u.TierName = in.ID, in.Name
	u.Sealed = u.Sealed || f.Sealing
	u.ID, u.Bucket, u.Key, u.Created, u.Who, u.Source, u.Open = strings.ToLower(rand.Text()), a.Bucket, a.Key, by.At,
		by.Who, by.Source, true
	return &u, s.Catalog.CreateUpload(ctx, f.ID, &u)
}

// FindUpload gives an open upload. The error for none has the code
// upload-missing.
func (s *Store) FindUpload(ctx context.Context, a catalog.Address, id string) (*catalog.Upload, error) {
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	return s.Catalog.Upload(ctx, f.ID, a.Key, id)
}

// CheckUpload refuses an upload that never was, or ended long ago. The error has
// the code upload-missing; one that was completed lately is none.
func (s *Store) CheckUpload(ctx context.Context, a catalog.Address, id string) error {
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return err
	}
	return s.Catalog.CheckUpload(ctx, f.ID, a.Key, id)
}

// PutPart is a part to be kept; its fields are those of Put.
type PutPart struct {
	catalog.Address
	catalog.Author
	Upload   string
	Number   int
	Body     io.Reader
	Size     int64
	MD5      *[16]byte
	Checksum digest.Kind
	Claim    func() ([]byte, error)
}

// CheckPartNumber refuses numbers outside of 1 to 10,000.
func CheckPartNumber(n int) error {
	if n < 1 || n > object.MaxParts {
		return fault.New(fault.Invalid, "part-number", "Part number must be an integer between 1 and %d, inclusive; it is %d",
			object.MaxParts, n).In("partNumber").Do("use larger parts when there would be more")
	}
	return nil
}

// PutPart writes a part of an upload, in place of one of the same number. Beside
// the errors of Put there are upload-missing and part-number.
func (s *Store) PutPart(ctx context.Context, p PutPart) (catalog.Part, error) {
	if err := CheckPartNumber(p.Number); err != nil {
		return catalog.Part{}, err
	}
	if p.Size > object.MaxSize {
		return catalog.Part{}, fault.New(fault.TooLarge, "object-too-large", "the part has %d bytes; %d are allowed", p.Size,
			int64(object.MaxSize)).In("size").Do("send smaller parts")
	}
	u, err := s.FindUpload(ctx, p.Address, p.Upload)
	if err != nil {
		return catalog.Part{}, err
	}
	switch {
	case p.Checksum == digest.None:
		p.Checksum, p.Claim = u.Checksum, func() ([]byte, error) { return nil, nil }
	case u.Checksum != digest.None && p.Checksum != u.Checksum:
		return catalog.Part{}, fault.New(fault.Invalid, "checksum-kind",
			"the upload was started with %s, and the part has a %s", u.Checksum, p.Checksum).In("checksum").
			Do("send the kind that the upload was started with")
	}
	out := catalog.Part{Number: p.Number}
	var extra []hash.Hash
	if p.Checksum != digest.None && p.Checksum != digest.CRC64NVME {
		extra = append(extra, p.Checksum.New())
	}
	space, err := s.space(ctx, u.Tier)
	if err == nil {
		err = s.roomFor()
	}
	if err != nil {
		return catalog.Part{}, err
	}
	w, err := space.Write(&capped{r: p.Body, left: object.MaxSize}, p.Size, u.Sealed, extra,
		func(w bodies.Written) error {
			if p.Size >= 0 && w.Size != p.Size {
				return fault.New(fault.Invalid, "size-mismatch", "the part has %d bytes, and %d were declared", w.Size, p.Size).
					In("size").Do("send the whole part")
			}
			if p.MD5 != nil && *p.MD5 != w.MD5 {
				return mismatch("MD5", p.MD5[:], w.MD5[:])
			}
			if p.Checksum == digest.None {
				return nil
			}
			sum := crcBytes(w.CRC64)
			if extra != nil {
				sum = extra[0].Sum(nil)
			}
			claim, err := p.Claim()
			if err != nil {
				return err
			}
			if claim != nil && !bytes.Equal(claim, sum) {
				return mismatch(p.Checksum.String(), claim, sum)
			}
			if u.Checksum != digest.None {
				out.Checksum = sum
			}
			return nil
		})
	defer w.Release()
	if err == nil {
		err = w.There()
	}
	if err != nil {
		s.room.noteFull(err)
		return catalog.Part{}, err
	}
	author := s.Now(p.Author)
	out.Size, out.MD5, out.CRC64, out.Body, out.At, out.Who, out.Source = w.Size, w.MD5, w.CRC64, w.Ref, author.At,
		author.Who, author.Source
	f, _, err := s.bucketFacts(ctx, p.Bucket)
	if err != nil {
		return catalog.Part{}, err
	}
	return out, s.Catalog.PutPart(ctx, f.ID, p.Key, p.Upload, out)
}

// CopyPart makes a part of a range of an object: length bytes from offset, or
// all of it when length is -1. The bytes are copied.
func (s *Store) CopyPart(ctx context.Context, p PutPart, from catalog.Address, id object.VersionID, offset,
	length int64, conditions object.Conditions) (catalog.Part, error) {
	v, err := s.FindVersion(ctx, from, id)
	if err != nil {
		return catalog.Part{}, err
	}
	if v.Marker {
		return catalog.Part{}, fault.New(fault.Invalid, "copy-marker", "the source is a delete marker").In("source")
	}
	if conditions.Read(v) != object.Proceed {
		return catalog.Part{}, fault.New(fault.Precondition, "mismatch", "the source is not as the request asked").
			In("source")
	}
	if length < 0 {
		offset, length = 0, v.Size
	}
	if offset < 0 || offset+length > v.Size {
		return catalog.Part{}, fault.New(fault.Invalid, "copy-range",
			"The range specified is not valid for source object of size: %d", v.Size).In("range")
	}
	b, v, err := s.Open(ctx, from, v)
	if err != nil {
		return catalog.Part{}, err
	}
	defer b.Close()
	if err := b.Prepare(ctx, offset, length); err != nil {
		return catalog.Part{}, err
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(b.Send(w, offset, length, nil)) }()
	defer r.Close()
	p.Body, p.Size = r, length
	return s.PutPart(ctx, p)
}

// Complete asks to make an object of an upload.
type Complete struct {
	catalog.Address
	catalog.Author
	Upload   string
	Parts    []CompletePart
	Kind     digest.Kind
	Checksum []byte // of the whole, of that kind, when the client claims it
	Size     int64  // of the whole, when the client claims it; else -1
	IfAbsent bool
	IfETag   *object.ETag
}

// CompletePart names a part of the object, with what it must be.
type CompletePart struct {
	Number   int
	MD5      *[16]byte // nil: whatever it is
	Checksum []byte    // nil: whatever it is
}

// Complete makes an object of an upload: its parts become the object's body, no
// byte is moved. Said again it gives the same version for a day. The errors
// beside those of Commit have the codes upload-missing, parts-none, part-order,
// part-missing, part-small, object-too-large and digest-mismatch.
func (s *Store) Complete(ctx context.Context, c Complete) (*object.Version, error) {
	f, err := s.Facts(ctx, c.Bucket)
	if err != nil {
		return nil, err
	}
	v, err := s.complete(ctx, c, f, false, nil)
	if is := new(replicaUpload); errors.As(err, &is) {
		err = s.replacing(ctx, c.Address, is.origin, func(there *catalog.State) error {
			v, err = s.complete(ctx, c, f, true, there)
			return err
		})
	}
	return v, err
}

// replicaUpload is the error for an upload whose object is a replica, which may not take the
// place of everything.
type replicaUpload struct{ origin string }

func (*replicaUpload) Error() string { return "the upload is one of a replica" }

// complete completes an upload; one of a replica only when it may be, in place of what was judged.
func (s *Store) complete(ctx context.Context, c Complete, f catalog.BucketFacts, replica bool,
	is *catalog.State) (*object.Version, error) {
	author := s.Now(c.Author)
	v, res, err := s.Catalog.Complete(ctx, catalog.Completing{Bucket: f.ID, Key: c.Key, ID: c.Upload,
		Change: catalog.Change{Bucket: f.ID, Key: c.Key.String(), IfAbsent: c.IfAbsent, IfETag: c.IfETag,
			IfState: is, Author: author},
		Assemble: func(u *catalog.Upload, have []catalog.Part) (*object.Version, []int, error) {
			if u.Origin != "" && !replica {
				return nil, nil, &replicaUpload{u.Origin}
			}
			v, chosen, err := assemble(c, u, have, author)
			if err == nil {
				err = fits(f, v.Size)
			}
			return v, chosen, err
		}})
	if err != nil {
		return nil, err
	}
	v.Number, v.Plain = res.Number, res.Versioning != object.On
	return v, nil
}

// assemble makes a version of the parts that are named, and gives their numbers.
func assemble(c Complete, u *catalog.Upload, have []catalog.Part, author catalog.Author) (*object.Version, []int,
	error) {
	if err := checkOrder(c.Parts); err != nil {
		return nil, nil, err
	}
	v := &object.Version{Key: c.Key, Revision: 1, Created: author.At, Headers: u.Headers, Origin: u.Origin,
		Metadata: u.Metadata,
		Tags:     u.Tags, By: author.Who, Source: author.Source}
	sums := newPartSums(u)
	numbers := make([]int, len(c.Parts))
	for i, p := range c.Parts {
		x, err := choosePart(p, have, i == len(c.Parts)-1)
		if err != nil {
			return nil, nil, err
		}
		if v.Size+x.Size > object.MaxPartedSize {
			return nil, nil, fault.New(fault.TooLarge, "object-too-large", "the parts have more than %d bytes in all",
				int64(object.MaxPartedSize)).In("parts")
		}
		numbers[i] = p.Number
		sums.add(x)
		v.Size += x.Size
	}
	sums.set(v, len(numbers))
	return v, numbers, checkClaims(c, u, v)
}

// checkOrder wants at least one part, each named once, by rising numbers.
func checkOrder(parts []CompletePart) error {
	if len(parts) == 0 {
		return fault.New(fault.Invalid, "parts-none", "no parts are named").In("parts").Do("name at least one")
	}
	for i, p := range parts {
		if i > 0 && p.Number <= parts[i-1].Number {
			return fault.New(fault.Invalid, "part-order",
				"The list of parts was not in ascending order: %d follows %d", p.Number, parts[i-1].Number).In("parts").
				Do("name each part once, by rising numbers")
		}
	}
	return nil
}

// choosePart gives the part that p means, which must be as p says and, unless it is the
// last, large enough.
func choosePart(p CompletePart, have []catalog.Part, last bool) (catalog.Part, error) {
	at, ok := slices.BinarySearchFunc(have, p.Number, func(x catalog.Part, n int) int { return x.Number - n })
	if !ok {
		return catalog.Part{}, fault.New(fault.Invalid, "part-missing", "part %d is not there", p.Number).In("parts").
			Do("list the parts, and send what is missing")
	}
	x := have[at]
	switch {
	case p.MD5 != nil && *p.MD5 != x.MD5:
		return x, fault.New(fault.Invalid, "part-missing", "part %d has the ETag %x, not %x", p.Number, x.MD5,
			*p.MD5).In("parts").Do("list the parts: it was sent again, or the list is of another upload")
	case p.Checksum != nil && !bytes.Equal(p.Checksum, x.Checksum):
		return x, fault.New(fault.Invalid, "part-missing", "part %d has another checksum", p.Number).In("parts").
			Do("list the parts: it was sent again, or the list is of another upload")
	case !last && x.Size < object.MinPart:
		return x, fault.New(fault.Invalid, "part-small",
			"Your proposed upload is smaller than the minimum allowed size: part %d has %d bytes, and all but the last need %d",
			p.Number, x.Size, object.MinPart).In("parts").Do("send larger parts")
	}
	return x, nil
}

// partSums works the digests of the whole out of those of its parts.
type partSums struct {
	kind  digest.Kind
	md5   hash.Hash
	crc64 uint64
	parts hash.Hash // of the parts' checksums, when the whole has one of those
	whole uint64    // of a checksum that combines
}

func newPartSums(u *catalog.Upload) *partSums {
	s := &partSums{kind: u.Checksum, md5: md5.New()}
	if u.Checksum != digest.None && u.PerPart {
		s.parts = u.Checksum.New()
	}
	return s
}

// add takes the next part.
func (s *partSums) add(x catalog.Part) {
	s.md5.Write(x.MD5[:])
	s.crc64 = digest.CombineCRC64(s.crc64, x.CRC64, x.Size)
	switch {
	case s.parts != nil:
		s.parts.Write(x.Checksum)
	case s.kind == digest.CRC32 || s.kind == digest.CRC32C:
		s.whole = digest.Combine(s.kind, s.whole, uint64(binary.BigEndian.Uint32(x.Checksum)), x.Size)
	}
}

// set gives v the digests of its n parts.
func (s *partSums) set(v *object.Version, n int) {
	v.CRC64 = s.crc64
	s.md5.Sum(v.ETag.MD5[:0])
	v.ETag.Parts = n
	v.Checksum.Kind = s.kind
	switch {
	case s.kind == digest.None:
	case s.parts != nil:
		v.PartSums, v.Checksum.Bytes = true, s.parts.Sum(nil)
	case s.kind == digest.CRC64NVME:
		v.Checksum.Bytes = crcBytes(v.CRC64)
	default:
		v.Checksum.Bytes = binary.BigEndian.AppendUint32(nil, uint32(s.whole&math.MaxUint32))
	}
}

// checkClaims compares what the client says of the whole with what it is.
func checkClaims(c Complete, u *catalog.Upload, v *object.Version) error {
	if c.Checksum != nil {
		have := v.Checksum.Bytes
		switch c.Kind {
		case digest.CRC64NVME:
			have = crcBytes(v.CRC64)
		case u.Checksum:
		default:
			return fault.New(fault.Invalid, "checksum-kind", "the upload was started with %s, and a %s is claimed",
				u.Checksum, c.Kind).In("checksum").Do("claim the kind that the upload was started with")
		}
		if !bytes.Equal(c.Checksum, have) {
			return mismatch(c.Kind.String(), c.Checksum, have)
		}
	}
	if c.Size >= 0 && c.Size != v.Size {
		return fault.New(fault.Invalid, "size-mismatch", "the parts have %d bytes in all, and %d were declared",
			v.Size, c.Size).In("size")
	}
	return nil
}

// Abandon ends an upload; its bytes are collected.
func (s *Store) Abandon(ctx context.Context, a catalog.Address, id string) error {
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return err
	}
	return s.Catalog.Abandon(ctx, f.ID, a.Key, id)
}

// ReadAll writes the whole body of a version to w; before each stretch wait is
// told how long it is.
func (s *Store) ReadAll(ctx context.Context, v *object.Version, w io.Writer, wait func(n int) error) error {
	b, err := s.open(ctx, v)
	if err != nil {
		return err
	}
	defer b.Close()
	const stretch = 256 << 10
	if err := b.Prepare(ctx, 0, v.Size); err != nil {
		return err
	}
	for at := int64(0); at < v.Size; at += stretch {
		n := min(stretch, v.Size-at)
		if err := wait(int(n)); err != nil {
			return err
		}
		if err := b.Send(w, at, n, nil); err != nil {
			return err
		}
	}
	return nil
}
