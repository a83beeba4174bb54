package bodies

import (
	"encoding/binary"
	"errors"
	"hash"
	"io"
	"math/rand/v2"
	"os"
	"sync"

	"github.com/klauspost/reedsolomon"
	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// writePieces keeps a body in pieces, each on another volume. Those that cannot be written
// are left out, as long as what is left gives the body back: Written.Owed says how many.
func (s *Shelf) writePieces(r io.Reader, size int64, sealed bool, extra []hash.Hash,
	accept func(Written) error) (w Written, err error) {
	on, away := s.roomiest()
	if len(on) < s.pieces.Data {
		f := fault.From(away)
		return w, fault.New(fault.Unavailable, "volume-away", "%s", f.Message).In("volume").
			Do("mount it; %d volumes of the tier have to be there to write", s.pieces.Data).Because(away)
	}
	on = on[:min(len(on), s.pieces.All())]
	if room, err := on[s.pieces.Data-1].room(); err == nil && size > 0 && room < size/int64(s.pieces.Data) {
		return w, fault.New(fault.Full, "disk-full", "the volume %s has room for %d bytes, and a piece of the body has %d",
			on[s.pieces.Data-1].dir, max(0, room), size/int64(s.pieces.Data)).In("volume").
			Do("free space on the tier's volumes; nothing that was acknowledged is affected")
	}
	v := s.volumes[0]
	first, n, ended, err := v.start(r)
	if err != nil {
		return w, err
	}
	h := newHasher(extra)
	if ended && n == 0 {
		v.buffers.Put(first)
		w = h.written(0)
		return w, accept(w)
	}
	into, err := s.newPieces(on, sealed)
	if err != nil {
		v.buffers.Put(first)
		return w, err
	}
	w, err = v.fill(into, into.file, r, first, n, ended, sealed, h, accept)
	if err != nil {
		into.abandon()
		return w, err
	}
	if w.Owed = into.All() - into.left(); w.Owed > 0 {
		if err := s.owes(Owed{w.Ref.In(), into.left(), s.lacking(into.holds())}); err != nil {
			into.abandon()
			return w, err
		}
	}
	for _, f := range into.files {
		switch {
		case f == nil:
		case w.held == nil:
			w.held = (&holding{File: f.File}).hold()
		default:
			w.more = append(w.more, (&holding{File: f.File}).hold())
		}
	}
	return w, nil
}

// piecesSink cuts what is written to it into pieces.
type piecesSink struct {
	striping
	code   reedsolomon.Encoder
	files  []*fileSink // by piece; nil for one that is left out
	on     []*Volume   // by piece
	why    error       // of the last that was
	buf    []byte      // blocks of the stripe that is being filled
	filled int
}

var stripeBufs sync.Map // bytes to *sync.Pool

func stripeBuf(n int) []byte {
	p, _ := stripeBufs.LoadOrStore(n, &sync.Pool{New: func() any { b := make([]byte, n); return &b }})
	return *p.(*sync.Pool).Get().(*[]byte)
}

func putStripeBuf(b []byte) {
	if p, ok := stripeBufs.Load(len(b)); ok {
		p.(*sync.Pool).Put(&b)
	}
}

// newPieces makes the files of a body's pieces on volumes, which may be fewer than pieces.
func (s *Shelf) newPieces(on []*Volume, sealed bool) (*piecesSink, error) {
	code, err := coder(*s.pieces)
	if err != nil {
		return nil, err
	}
	var bit int64
	if sealed {
		bit = object.SealedBit
	}
	x := &piecesSink{striping: striping{Pieces: *s.pieces}, code: code, files: make([]*fileSink, s.pieces.All()),
		on: make([]*Volume, s.pieces.All())}
	// The first file that can be made gives the number; none of them is preferred for a piece.
	places := rand.Perm(len(x.files))
	for i, v := range on {
		var f *os.File
		if x.file == 0 {
			if f, x.file, err = v.createWhole(bit); err != nil {
				x.file = 0
			}
		} else {
			f, err = v.createNumbered(v.wholePath(x.file))
		}
		if err != nil {
			x.why = err
			continue
		}
		x.files[places[i]], x.on[places[i]] = &fileSink{File: f, disk: v.disk}, v
	}
	if x.left() < x.Data {
		x.abandon()
		return nil, x.why
	}
	x.buf = stripeBuf(x.All() * blockSize)
	return x, nil
}

// createNumbered makes a file and holds it.
func (v *Volume) createNumbered(path string) (*os.File, error) {
	f, err := v.disk.Create(path)
	if err != nil {
		return nil, v.createError(err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_SH); err != nil {
		_ = os.Remove(path)
		f.Close()
		return nil, diskError(err)
	}
	return f, nil
}

// holds gives the volumes on which pieces are written.
func (x *piecesSink) holds() map[*Volume]bool {
	out := map[*Volume]bool{}
	for i, f := range x.files {
		if f != nil {
			out[x.on[i]] = true
		}
	}
	return out
}

// left gives how many pieces are being written.
func (x *piecesSink) left() (n int) {
	for _, f := range x.files {
		if f != nil {
			n++
		}
	}
	return n
}

// leaveOut gives a piece up that cannot be written; the error is that of the sink, when too
// few are left.
func (x *piecesSink) leaveOut(piece int, why error) error {
	f := x.files[piece]
	_ = f.disk.Remove(f.Name()) // what stays on a disk that fails is found by the collector
	f.Close()
	x.files[piece], x.why = nil, why
	if x.left() < x.Data {
		return diskError(why)
	}
	return nil
}

// abandon removes all that was written.
func (x *piecesSink) abandon() {
	x.giveBack()
	for i, f := range x.files {
		if f != nil {
			_ = os.Remove(f.Name())
			f.Close()
			x.files[i] = nil
		}
	}
}

func (x *piecesSink) giveBack() {
	if x.buf != nil {
		putStripeBuf(x.buf)
		x.buf = nil
	}
}

// Write takes stored bytes, which fill stripes.
func (x *piecesSink) Write(p []byte) (n int, err error) {
	full := x.Data * blockSize
	for len(p) > 0 {
		m := copy(x.buf[x.filled:full], p)
		x.filled, p, n = x.filled+m, p[m:], n+m
		if x.filled == full {
			if err := x.flush(blockSize); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// flush writes a stripe of blocks of some length, which are filled.
func (x *piecesSink) flush(block int) error {
	blocks := make([][]byte, x.All())
	for i := range blocks {
		blocks[i] = x.buf[i*block : (i+1)*block]
	}
	if err := x.code.Encode(blocks); err != nil {
		return err
	}
	stripe := x.stored / (int64(x.Data) * blockSize)
	x.stored, x.filled = x.stored+int64(x.filled), 0
	var tail [blockTail]byte
	for i, f := range x.files {
		if f == nil {
			continue
		}
		binary.LittleEndian.PutUint64(tail[:], x.blockDigest(i, stripe, blocks[i]))
		_, err := f.Write(blocks[i])
		if err == nil {
			_, err = f.Write(tail[:])
		}
		if err != nil {
			if err = x.leaveOut(i, err); err != nil {
				return err
			}
		}
	}
	return nil
}

// settle writes the last stripe and the trailers, and makes all of it last.
func (x *piecesSink) settle() error {
	if x.filled > 0 {
		block := (x.filled + x.Data - 1) / x.Data
		clear(x.buf[x.filled : block*x.Data])
		if err := x.flush(block); err != nil {
			return err
		}
	}
	x.giveBack()
	faults := make([]error, len(x.files))
	var all sync.WaitGroup
	for i, f := range x.files {
		if f == nil {
			continue
		}
		all.Go(func() {
			if _, faults[i] = f.Write(x.trailer(i)); faults[i] == nil {
				faults[i] = f.settle()
			}
		})
	}
	all.Wait()
	for i, err := range faults {
		if err != nil {
			if err = x.leaveOut(i, err); err != nil {
				return errors.Join(err, faults[i])
			}
		}
	}
	return nil
}

var _ sink = (*piecesSink)(nil)
