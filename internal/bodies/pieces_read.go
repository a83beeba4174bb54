package bodies

import (
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"

	"github.com/klauspost/reedsolomon"
	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// pieced is an open body in pieces: what was cut, put together again. Blocks that are
// missing, damaged or cannot be read are worked out from others of their stripe.
type pieced struct {
	striping
	code  reedsolomon.Encoder
	ref   object.BodyRef
	files []*os.File // by piece; nil for one that is not there
	bad   []bool     // pieces with a block that is not what it was
	why   error      // of the last of them
	every bool       // all blocks are looked at, needed or not

	mu     sync.Mutex
	stripe int64 // that is in blocks; -1 for none
	buf    []byte
	blocks [][]byte // of length 0 when not there
}

// openPieces opens a body in pieces. The error when too few are there has the code
// volume-away, if a volume is away, else the kind Damaged.
func (s *Shelf) openPieces(ref object.BodyRef, size int64) (*Whole, error) {
	p, _, err := s.gather(ref)
	if err != nil {
		return nil, err
	}
	w, err := s.volumes[0].read(p, p.stored, ref, size)
	if err != nil {
		p.Close()
		return nil, err
	}
	return w, nil
}

// whereabouts tells what was found of a body's pieces.
type whereabouts struct {
	of   []*Volume // by piece; nil for one that was not found
	bad  []*Volume // which have a file of that number that is no piece
	none []*Volume // which are there, and have none
	away error     // of volumes that could not be looked at
}

// gather opens the pieces of a body.
func (s *Shelf) gather(ref object.BodyRef) (*pieced, *whereabouts, error) {
	p, at := &pieced{ref: ref, stripe: -1}, &whereabouts{}
	for _, v := range s.volumes {
		f, err := v.disk.Open(v.wholePath(ref.File))
		if err != nil {
			if err = v.openError(err); errors.Is(err, fs.ErrNotExist) {
				at.none = append(at.none, v)
			} else {
				at.away = errors.Join(at.away, err)
			}
			continue
		}
		if err := p.take(f, v, at); err != nil {
			f.Close()
			at.bad, p.why = append(at.bad, v), err
		}
	}
	there := 0
	for _, f := range p.files {
		if f != nil {
			there++
		}
	}
	var err error
	switch {
	case there > 0 && there >= p.Data:
		p.code, err = coder(p.Pieces)
	case at.away != nil:
		err = at.away
		var f *fault.Error
		if !errors.As(err, &f) || !fault.HasCode(err, "volume-away") {
			err = Away("", "pieces of the body are on disks that report an error").Because(err)
		}
	case there == 0:
		err = damaged(ref, "no volume of the tier has a piece of it")
	default:
		err = damaged(ref, "%d of %d pieces are there, and %d are needed", there, p.All(), p.Data)
	}
	if err != nil {
		p.Close()
		return nil, at, err
	}
	p.bad = make([]bool, p.All())
	p.buf, p.blocks = stripeBuf(p.All()*blockSize), make([][]byte, p.All())
	return p, at, nil
}

// take takes a file as one of the pieces.
func (p *pieced) take(f *os.File, v *Volume, at *whereabouts) error {
	st, err := f.Stat()
	if err != nil {
		return diskError(err)
	}
	var tail [pieceTail]byte
	if _, err := f.ReadAt(tail[:], max(0, st.Size()-pieceTail)); err != nil {
		return damaged(p.ref, "a piece ends before its trailer")
	}
	s, n, ok := parseTrailer(tail[:], p.ref.File)
	switch {
	case !ok || st.Size() != s.pieceSize():
		return damaged(p.ref, "a piece is not as long as it was, or its trailer is not what it was")
	case p.files == nil:
		p.striping, p.files = s, make([]*os.File, s.All())
		at.of = make([]*Volume, s.All())
	case s != p.striping:
		return damaged(p.ref, "pieces tell different things of the body")
	}
	if p.files[n] != nil {
		return damaged(p.ref, "piece %d is there twice", n)
	}
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_SEQUENTIAL) // a hint
	p.files[n], at.of[n] = f, v
	return nil
}

// Close closes the pieces.
func (p *pieced) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.buf != nil {
		putStripeBuf(p.buf)
		p.buf = nil
	}
	for i, f := range p.files {
		if f != nil {
			f.Close()
			p.files[i] = nil
		}
	}
	return nil
}

// ReadAt reads stored bytes of the body.
func (p *pieced) ReadAt(b []byte, offset int64) (n int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	full := int64(p.Data) * blockSize
	for n < len(b) {
		if offset >= p.stored {
			return n, io.EOF
		}
		stripe, from := offset/full, offset%full
		length := min(int64(len(b)-n), full-from, p.stored-offset)
		if length == full && !p.every && p.straight(b[n:n+int(full)], stripe) {
			n, offset = n+int(full), offset+full
			continue
		}
		if err := p.load(stripe, from, length); err != nil {
			return n, err
		}
		block := int64(p.block(stripe))
		for end := from + length; from < end; {
			i, within := from/block, from%block
			m := copy(b[n:], p.blocks[i][within:min(block, within+end-from)])
			n, from, offset = n+m, from+int64(m), offset+int64(m)
		}
	}
	return n, nil
}

// straight reads a whole stripe to where it is wanted, and reports whether every block of it
// was there, and what it was.
func (p *pieced) straight(b []byte, stripe int64) bool {
	for i := range p.Data {
		if p.files[i] == nil || !p.readBlock(i, stripe, b[i*blockSize:(i+1)*blockSize]) {
			return false
		}
	}
	return true
}

// load has the blocks of a stripe there that have length bytes from one on.
func (p *pieced) load(stripe, from, length int64) error {
	block := p.block(stripe)
	if p.stripe != stripe {
		p.stripe = stripe
		for i := range p.blocks {
			p.blocks[i] = p.buf[i*blockSize : i*blockSize : i*blockSize+blockSize]
		}
		if p.every {
			for i := range p.files {
				p.look(i, block)
			}
		}
	}
	lost := false
	for i := from / int64(block); i <= (from+length-1)/int64(block); i++ {
		if len(p.blocks[i]) == 0 && !p.look(int(i), block) {
			lost = true
		}
	}
	if !lost {
		return nil
	}
	for i := range p.files {
		if len(p.blocks[i]) == 0 {
			p.look(i, block)
		}
	}
	if err := p.code.ReconstructData(p.blocks); err != nil {
		p.stripe = -1
		err := damaged(p.ref, "too many pieces have lost stripe %d", stripe)
		return err.(*fault.Error).Because(p.why)
	}
	return nil
}

// look reads a block of the stripe at hand, and reports whether it is what it was.
func (p *pieced) look(piece, block int) bool {
	if p.files[piece] == nil {
		return false
	}
	b := p.buf[piece*blockSize : piece*blockSize+block]
	if !p.readBlock(piece, p.stripe, b) {
		return false
	}
	p.blocks[piece] = b
	return true
}

// readBlock reads a block of a piece that is there, and reports whether it is what it was.
func (p *pieced) readBlock(piece int, stripe int64, b []byte) bool {
	var tail [blockTail]byte
	_, err := unix.Preadv(int(p.files[piece].Fd()), [][]byte{b, tail[:]}, stripe*(blockSize+blockTail))
	if err == nil && binary.LittleEndian.Uint64(tail[:]) == p.blockDigest(piece, stripe, b) {
		return true
	}
	p.bad[piece] = true
	if p.why = err; err == nil {
		p.why = damaged(p.ref, "stripe %d of piece %d is not what it was", stripe, piece)
	}
	return false
}
