package bodies

import (
	"cmp"
	"context"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"slices"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Shelf is the space of a tier on one or several volumes. Each body stands on as many
// of them as the tier has copies, in files of the same number; of which volumes they
// are is found by looking. A body of a tier that compresses, or keeps several copies,
// is a file of its own in frames. One that keeps pieces has a piece of each body on each
// of so many volumes; what was written before it did stays in copies until it is moved.
type Shelf struct {
	tier    int16
	volumes []*Volume
	copies  int
	pieces  *tier.Pieces // nil: whole copies
	sealed  bool
	owes    func(Owed) error // notes a body that was written short
}

// Owed is a body of which copies or pieces are to be made.
type Owed struct {
	object.BodyFile
	Has   int      // copies or pieces that there are
	Lacks []string // directories of the tier's volumes that have none
}

// lacking gives the directories of the volumes that have nothing of a body.
func (s *Shelf) lacking(holds map[*Volume]bool) (out []string) {
	for _, v := range s.volumes {
		if !holds[v] {
			out = append(out, v.dir)
		}
	}
	return out
}

var _ Space = (*Shelf)(nil)

// NewShelf makes the space of a tier. Its volumes may be away. What is written in fewer
// pieces than the tier wants is told to owes, before it counts as written.
func NewShelf(t *tier.Tier, s Sealer, owes func(Owed) error) *Shelf {
	out := &Shelf{owes: owes, tier: t.ID, copies: t.Copies, pieces: t.Pieces, sealed: t.Sealed}
	for _, x := range t.Volumes {
		v := OpenMarked(x.Dir, t.ID, x.Marker)
		v.framed, v.packed, v.sealer = t.Packed || t.Copies > 1 || t.Pieces != nil, t.Packed, s
		v.pieced = t.Pieces != nil
		out.volumes = append(out.volumes, v)
	}
	return out
}

// Tier gives the number in the references to the tier's bodies.
func (s *Shelf) Tier() int16 { return s.tier }

// Close closes all volumes.
func (s *Shelf) Close() error {
	var all []error
	for _, v := range s.volumes {
		all = append(all, v.Close())
	}
	return errors.Join(all...)
}

// State is how a volume stands.
type State struct {
	Dir         string
	Free, Total int64
	Away        error // nil: it is there
	Elsewhere   bool  // it is a bucket at an endpoint, which tells of no room
}

// States tells how the volumes stand, in their order.
func (s *Shelf) States() []State {
	var out []State
	for _, v := range s.volumes {
		out = append(out, v.States()...)
	}
	return out
}

// States tells how the volume stands.
func (v *Volume) States() []State {
	s := State{Dir: v.dir, Away: v.Present()}
	if s.Away == nil {
		s.Free, s.Total, s.Away = v.Free()
	}
	return []State{s}
}

// Free gives what the volumes that are there have.
func (s *Shelf) Free() (free, total int64, err error) {
	for _, x := range s.States() {
		free, total = free+x.Free, total+x.Total
	}
	return free, total, nil
}

// roomiest gives the volumes that are there, those with most room first.
func (s *Shelf) roomiest() (list []*Volume, err error) {
	room := map[*Volume]int64{}
	for _, v := range s.volumes {
		away := v.Present()
		if away == nil {
			room[v], _, away = v.Free()
		}
		if away != nil {
			err = errors.Join(err, away)
			continue
		}
		list = append(list, v)
	}
	slices.SortStableFunc(list, func(a, b *Volume) int { return cmp.Compare(room[b], room[a]) })
	return list, err
}

// Write keeps a body in as many copies as the tier has; see Volume.Write. The error when
// too few volumes are there has the code volume-away.
func (s *Shelf) Write(r io.Reader, size int64, sealed bool, extra []hash.Hash, accept func(Written) error) (Written,
	error) {
	if s.pieces != nil {
		return s.writePieces(r, size, sealed || s.sealed, extra, accept)
	}
	on, err := s.roomiest()
	if len(on) < s.copies {
		f := fault.From(err)
		return Written{}, fault.New(fault.Unavailable, "volume-away", "%s", f.Message).In("volume").
			Do("mount it; the tier has to keep %d copies of what is written", s.copies).Because(err)
	}
	w, err := on[0].Write(r, size, sealed || s.sealed, extra, accept)
	if err != nil || w.Ref.File == 0 {
		return w, err
	}
	for _, v := range on[1:s.copies] {
		held, err := v.copyFrom(on[0], w.Ref.File)
		if err != nil {
			w.Release()
			return w, errors.Join(err, s.drop(w.Ref.File))
		}
		w.more = append(w.more, held)
	}
	return w, nil
}

// drop removes what was written of a body that is not kept.
func (s *Shelf) drop(id int64) error {
	_, err := s.RemoveWhole(id)
	return err
}

// copyFrom copies a body's file from another volume, under its number, and holds it.
func (v *Volume) copyFrom(from *Volume, id int64) (_ *holding, err error) {
	in, err := from.disk.Open(from.wholePath(id))
	if err != nil {
		return nil, from.openError(err)
	}
	defer in.Close()
	out, err := v.disk.Create(v.wholePath(id))
	if err != nil {
		return nil, v.openError(err)
	}
	defer func() {
		if err != nil {
			_ = v.disk.Remove(out.Name())
			out.Close()
		}
	}()
	if err := unix.Flock(int(out.Fd()), unix.LOCK_SH); err != nil {
		return nil, diskError(err)
	}
	if _, err := io.Copy(out, in); err != nil {
		return nil, diskError(err)
	}
	if err := settle(v.disk, out); err != nil {
		return nil, err
	}
	return (&holding{File: out}).hold(), nil
}

// eachCopy calls f with the volumes until it gives no error: first those on which the
// file may be. The error is the worst news: damage when every volume is there, else
// that one is away.
func (s *Shelf) eachCopy(f func(*Volume) error) error {
	var bad, away error
	for _, v := range s.volumes {
		err := f(v)
		switch {
		case err == nil:
			return nil
		case fault.KindOf(err) == fault.Damaged:
			if bad == nil || !errors.Is(err, fs.ErrNotExist) {
				bad = err
			}
		default:
			away = err
		}
	}
	if away != nil {
		return away
	}
	return bad
}

// Open opens a copy of a body; what cannot be read of it is read from the next.
func (s *Shelf) Open(ctx context.Context, ref object.BodyRef, size int64) (w *Whole, err error) {
	if ref.Offset == object.Pieced {
		return s.openPieces(ref, size)
	}
	return s.openAfter(ctx, 0, ref, size)
}

func (s *Shelf) openAfter(ctx context.Context, from int, ref object.BodyRef, size int64) (w *Whole, err error) {
	rest := &Shelf{volumes: s.volumes[from:]}
	at := from - 1
	err = rest.eachCopy(func(v *Volume) error {
		at++
		w, err = v.Open(ctx, ref, size)
		return err
	})
	if err != nil {
		return nil, err
	}
	if at+1 < len(s.volumes) {
		w.next = func() (*Whole, error) { return s.openAfter(ctx, at+1, ref, size) }
	}
	return w, nil
}

// ReadSmall reads a body that shares a file.
func (s *Shelf) ReadSmall(ref object.BodyRef, buf []byte, crc uint64) error {
	return s.eachCopy(func(v *Volume) error { return v.ReadSmall(ref, buf, crc) })
}

// Check reads every copy of a body. Copies that are damaged or missing are made anew
// from a good one; then the error is nil and Mended tells of it.
func (s *Shelf) Check(ctx context.Context, ref object.BodyRef, size int64, crc uint64, limit func(n int) error) error {
	_, err := s.Mend(ctx, ref, size, crc, limit)
	return err
}

// Mended is what Mend did.
type Mended struct {
	Copies  int // and pieces, that were made anew
	Missing int // that could not be: a volume is away, takes no writes, or there are too few
	Says    string
	Failed  error // why something that is missing could not be written; the body is sound all the same
	Owed          // what there is of the body, when Failed
}

// Mend is Check, and says what it mended.
func (s *Shelf) Mend(ctx context.Context, ref object.BodyRef, size int64, crc uint64,
	limit func(n int) error) (m Mended, err error) {
	switch {
	case ref.File == 0:
		return m, nil
	case ref.Offset == object.Pieced:
		return s.mendPieces(ref, size, crc, limit)
	}
	var good, bad, none []*Volume
	var away, problem error
	for _, v := range s.volumes {
		err := v.Check(ctx, ref, size, crc, limit)
		switch {
		case err == nil:
			good = append(good, v)
		case errors.Is(err, fs.ErrNotExist):
			none = append(none, v)
		case fault.KindOf(err) == fault.Damaged:
			bad, problem = append(bad, v), err
		default:
			away = errors.Join(away, err)
		}
	}
	if len(good) == 0 {
		switch {
		case away != nil:
			return m, away
		case problem == nil:
			problem = damaged(ref, "no volume of the tier has the file")
		}
		return m, problem
	}
	if ref.Offset >= 0 {
		return m, nil // a file that several share is on one volume
	}
	m.copyAgain(s, ref, good, bad, none, away != nil)
	if m.Says = "a copy was missing"; problem != nil {
		m.Says = fault.From(problem).Message
	}
	return m, nil
}

// copyAgain makes copies of a body in the place of bad ones, and on volumes that have none. What cannot be written
// is no fault of the body.
func (m *Mended) copyAgain(s *Shelf, ref object.BodyRef, good, bad, none []*Volume, away bool) {
	var to []*Volume
	for _, v := range bad {
		if err := v.disk.Remove(v.wholePath(ref.File)); err != nil {
			m.Failed = v.openError(err)
			continue
		}
		to = append(to, v)
	}
	want, holds := s.copies-len(good), map[*Volume]bool{}
	if away {
		m.Missing = max(0, want-len(bad))
		want = len(bad) // a copy may be where nobody can look
	}
	for _, v := range good {
		holds[v] = true
	}
	for _, v := range append(to, none...) {
		if want <= 0 {
			break
		}
		h, err := v.copyFrom(good[0], ref.File)
		if err != nil {
			m.Failed = err
			continue
		}
		_ = h.release()
		holds[v] = true
		m.Copies++
		want--
	}
	m.Missing += max(0, want)
	m.Owed = Owed{ref.In(), len(holds), s.lacking(holds)}
}

// CopySmall moves a body that shares a file, on the volume where it is.
func (s *Shelf) CopySmall(from object.BodyRef, size int64, crc uint64) (w Written, err error) {
	err = s.eachCopy(func(v *Volume) error {
		w, err = v.CopySmall(from, size, crc)
		return err
	})
	return w, err
}

// Walk gives every file of the volumes that are there, one of several copies as often
// as it stands.
func (s *Shelf) Walk(ctx context.Context, f func(File) error) error {
	for _, v := range s.volumes {
		if v.Present() != nil {
			continue
		}
		if err := v.Walk(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// Held tells whether somebody holds a copy of a body.
func (s *Shelf) Held(id int64) (bool, error) {
	for _, v := range s.volumes {
		if held, err := v.Held(id); held || err != nil {
			return held, err
		}
	}
	return false, nil
}

// RemoveWhole deletes all copies of a body that can be reached.
func (s *Shelf) RemoveWhole(id int64) (freed int64, err error) {
	for _, v := range s.volumes {
		_ = os.Remove(v.mendingPath(id)) // which a process may have left
		n, rerr := v.RemoveWhole(id)
		freed, err = freed+n, errors.Join(err, rerr)
	}
	return freed, err
}

// with gives the volume on which a segment is, nil for none.
func (s *Shelf) with(id int64) *Volume {
	for _, v := range s.volumes {
		if _, err := os.Stat(v.segmentPath(id)); err == nil {
			return v
		}
	}
	return nil
}

// LockSegment locks a segment on the volume where it is.
func (s *Shelf) LockSegment(id int64) (unlock func(), ok bool, err error) {
	if v := s.with(id); v != nil {
		return v.LockSegment(id)
	}
	return nil, false, nil
}

// TouchSegment makes a segment young again.
func (s *Shelf) TouchSegment(id int64) error {
	if v := s.with(id); v != nil {
		return v.TouchSegment(id)
	}
	return nil
}

// RemoveSegment deletes a segment that the caller has locked.
func (s *Shelf) RemoveSegment(id int64) error {
	if v := s.with(id); v != nil {
		return v.RemoveSegment(id)
	}
	return nil
}
