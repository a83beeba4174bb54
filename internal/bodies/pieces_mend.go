package bodies

import (
	"encoding/binary"
	"errors"
	"os"
	"slices"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// mendPieces reads all pieces of a body, and makes those anew that are damaged or missing:
// in their place, or on a volume that has none.
func (s *Shelf) mendPieces(ref object.BodyRef, size int64, crc uint64, limit func(n int) error) (m Mended, err error) {
	p, at, err := s.gather(ref)
	if err != nil {
		return m, err
	}
	defer p.Close()
	p.every = true
	w, err := s.volumes[0].read(p, p.stored, ref, size)
	if err == nil {
		err = w.check(ref, size, crc, limit)
	}
	if err == nil {
		err = p.pass(limit)
	}
	if err != nil {
		return m, err
	}
	m.Says = "a piece was missing"
	if p.why != nil {
		m.Says = fault.From(p.why).Message
	}
	return m, s.makePieces(p, at, &m, limit)
}

// makePieces makes the pieces of a body anew that are bad or missing. What cannot be written is no
// fault of the body; the error is that of limit.
func (s *Shelf) makePieces(p *pieced, at *whereabouts, m *Mended, limit func(n int) error) (stopped error) {
	limited := func(n int) error { stopped = limit(n); return stopped }
	holds := map[*Volume]bool{}
	for i, f := range p.files {
		on, elsewhere := at.of[i], false
		switch {
		case f != nil && !p.bad[i]:
			holds[on] = true
			continue
		case f != nil:
		case len(at.bad) > 0: // a file of that number that is no piece is in the way of one
			on, at.bad = at.bad[0], at.bad[1:]
		case at.away != nil:
			m.Missing++ // it may be where nobody can look
			continue
		default:
			elsewhere = true
			on, at.none = s.roomiestOf(at.none)
		}
		made := false
		for on != nil && !made {
			err := p.rebuild(i, on, limited)
			if stopped != nil {
				return stopped
			}
			if made = err == nil; made {
				holds[on] = true
				m.Copies++
				continue
			}
			if m.Failed, on = err, nil; elsewhere {
				on, at.none = s.roomiestOf(at.none)
			}
		}
		if !made {
			m.Missing++
		}
	}
	m.Owed = Owed{p.ref.In(), len(holds), s.lacking(holds)}
	return nil
}

// roomiestOf gives that of some volumes with most room, nil when none is there, and the rest.
func (s *Shelf) roomiestOf(list []*Volume) (*Volume, []*Volume) {
	on, _ := s.roomiest()
	for _, v := range on {
		if i := slices.Index(list, v); i >= 0 {
			return v, slices.Delete(slices.Clone(list), i, i+1)
		}
	}
	return nil, list
}

// pass reads the stripes that reading the body left out, for the sake of their blocks.
func (p *pieced) pass(limit func(n int) error) error {
	var one [1]byte
	full := int64(p.Data) * blockSize
	if p.stripe+1 < p.stripes() && p.stripe >= 0 {
		for i := p.stripe + 1; i < p.stripes(); i++ {
			if _, err := p.ReadAt(one[:], i*full); err != nil {
				return err
			}
			if err := limit(int(full)); err != nil {
				return err
			}
		}
	}
	return nil
}

// rebuild makes a piece anew on a volume, beside what is there, and puts it in its place
// once it is on the disk.
func (p *pieced) rebuild(piece int, on *Volume, limit func(n int) error) (err error) {
	if err := on.Present(); err != nil {
		return err
	}
	path := on.mendingPath(p.file)
	_ = os.Remove(path) // of a process that was stopped
	f, err := on.createNumbered(path)
	if err != nil {
		return err
	}
	out := &fileSink{File: f, disk: on.disk}
	defer func() {
		if err != nil {
			_ = os.Remove(path)
		}
		f.Close()
	}()
	p.every, p.stripe = false, -1
	required := make([]bool, p.All())
	required[piece] = true
	for i := range p.stripes() {
		block, err := p.again(piece, i, required)
		if err == nil {
			_, err = out.Write(block)
		}
		var tail [blockTail]byte
		binary.LittleEndian.PutUint64(tail[:], p.blockDigest(piece, i, block))
		if err == nil {
			_, err = out.Write(tail[:])
		}
		if err == nil {
			err = limit(len(block))
		}
		if err != nil {
			return sinkError(err)
		}
	}
	if _, err := out.Write(p.trailer(piece)); err != nil {
		return diskError(err)
	}
	if err := on.disk.Sync(f); err != nil {
		return diskError(err)
	}
	// The body may have been removed since.
	if !p.stands() {
		return errors.Join(os.Remove(path))
	}
	if err := os.Rename(path, on.wholePath(p.file)); err != nil {
		return diskError(err)
	}
	return settle(on.disk, f)
}

// stands reports whether the files that were opened are still there under their names.
func (p *pieced) stands() bool {
	for _, f := range p.files {
		if f == nil {
			continue
		}
		var st unix.Stat_t
		if unix.Fstat(int(f.Fd()), &st) == nil && st.Nlink > 0 {
			return true
		}
	}
	return false
}

// again works a block of a piece out from others of its stripe.
func (p *pieced) again(piece int, stripe int64, required []bool) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stripe = stripe
	for i := range p.blocks {
		p.blocks[i] = p.buf[i*blockSize : i*blockSize : i*blockSize+blockSize]
	}
	have := 0
	for i := range p.files {
		if have == p.Data {
			break
		}
		if i != piece && p.look(i, p.block(stripe)) {
			have++
		}
	}
	if err := p.code.ReconstructSome(p.blocks, required); err != nil {
		return nil, damaged(p.ref, "too many pieces have lost stripe %d", stripe).(*fault.Error).Because(p.why)
	}
	return p.blocks[piece], nil
}

// mendingPath is where a piece is made anew before it takes its place.
func (v *Volume) mendingPath(id int64) string { return v.wholePath(id) + ".mending" }

var _ source = (*pieced)(nil)
