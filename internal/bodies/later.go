package bodies

import (
	"hash"
	"io"

	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

// Pending is a small body that was read and accepted and is not on the disk yet: Settle brings
// it there, with others. It is settled once.
type Pending struct {
	w    Written
	to   *appender
	body *appending
	give func() // gives back what holds the bytes
	err  error
	done bool
}

// Written gives the body once it is settled, or why that failed. Release it.
func (p *Pending) Written() (*Written, error) { return &p.w, p.err }

// WriteLater is Write for bodies that are synced with others: of a small one a Pending comes
// back, which is to be settled. Written is what is known of it, but for where it is.
func (v *Volume) WriteLater(r io.Reader, size int64, sealed bool, extra []hash.Hash,
	accept func(Written) error) (w Written, later *Pending, err error) {
	if err := v.fits(size); err != nil {
		return w, nil, err
	}
	first, n, ended, err := v.start(r)
	if err != nil {
		return w, nil, err
	}
	h := newHasher(extra)
	if !ended || n > SmallBody || n > 0 && v.framed {
		w, err = v.writeWhole(r, first, n, ended, sealed, h, accept)
		return w, nil, err
	}
	back := func() { v.buffers.Put(first) }
	h.write((*first)[:n])
	if w = h.written(int64(n)); n > 0 {
		w.Ref = object.BodyRef{Tier: v.tier}
	}
	if err := accept(w); err != nil || n == 0 {
		back()
		return w, nil, err
	}
	if !sealed {
		return w, &Pending{w: w, to: v.small, body: &appending{data: (*first)[:n], crc: w.CRC64}, give: back}, nil
	}
	defer back()
	wrapping, data, err := v.newData()
	if err != nil {
		return w, nil, err
	}
	bp := v.stretch.Get().(*[]byte)
	return w, &Pending{w: w, to: v.seals, body: bound(seal.Whole((*bp)[:0], data, (*first)[:n]), wrapping),
		give: func() { v.stretch.Put(bp) }}, nil
}

// Settle appends bodies and syncs them, those of one file with one sync. Each knows how that
// ended.
func Settle(list []*Pending) {
	units := map[*appender][]*Pending{}
	for _, p := range list {
		if !p.done {
			p.done = true
			units[p.to] = append(units[p.to], p)
		}
	}
	for a, unit := range units {
		bodies := make([]*appending, len(unit))
		for i, p := range unit {
			bodies[i] = p.body
		}
		err := a.append(bodies)
		for i, p := range unit {
			if p.err = err; err == nil {
				p.w.Ref.File, p.w.Ref.Offset, p.w.held = bodies[i].id, bodies[i].offset, bodies[i].held
				if a.bit != 0 {
					p.w.Ref.Offset |= object.BoundBit
				}
				p.err = p.w.There()
			}
			p.give()
		}
	}
}
