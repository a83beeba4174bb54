package bodies

import (
	"context"
	"hash"
	"io"
	"os"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
)

// How a body goes to a place.
const (
	pieceSize   = 16 << 20 // what goes at a time
	pieceMost   = 5 << 30  // where a place takes no pieces
	pieceMemory = 1 << 20  // of it in memory; the rest is on the disk here
	piecesAhead = 2        // on their way while the next one is filled
)

// piece is bytes on their way, the first in memory, the rest in a file without a name.
type piece struct {
	dir  string
	mem  []byte
	file *os.File
	size int64
	sum  hash.Hash64
}

func newPiece(dir string) *piece { return &piece{dir: dir, sum: digest.NewCRC64()} }

// Size gives the number of bytes.
func (p *piece) Size() int64 { return p.size }

// CRC64 gives the digest of the bytes.
func (p *piece) CRC64() uint64 { return p.sum.Sum64() }

// Write adds bytes.
func (p *piece) Write(b []byte) (int, error) {
	p.sum.Write(b)
	n := min(len(b), pieceMemory-len(p.mem))
	p.mem = append(p.mem, b[:n]...)
	p.size += int64(n)
	if n == len(b) {
		return n, nil
	}
	if p.file == nil {
		f, err := os.CreateTemp(p.dir, "piece-*")
		if err != nil {
			return n, diskError(err)
		}
		if p.file = f; os.Remove(f.Name()) != nil {
			return n, diskError(err)
		}
	}
	m, err := p.file.Write(b[n:])
	p.size += int64(m)
	if err != nil {
		err = diskError(err)
	}
	return n + m, err
}

// ReadAt reads bytes that were written.
func (p *piece) ReadAt(b []byte, at int64) (n int, err error) {
	if at < int64(len(p.mem)) {
		n = copy(b, p.mem[at:])
	}
	if n == len(b) || p.file == nil {
		if n < len(b) {
			err = io.EOF
		}
		return n, err
	}
	m, err := p.file.ReadAt(b[n:], at+int64(n)-int64(len(p.mem)))
	return n + m, err
}

func (p *piece) close() {
	if p.file != nil {
		p.file.Close()
	}
}

// sending brings a body to a place: what fits one piece at once, the rest piece by piece
// while it arrives.
type sending struct {
	e      *Elsewhere
	name   string
	ctx    context.Context
	cancel context.CancelFunc
	piece  *piece // being filled
	limit  int64  // of a piece
	number int    // pieces sent
	pieces Pieces
	group  *errgroup.Group
	sum    hash.Hash64
	size   int64
}

func (e *Elsewhere) send(id int64) *sending {
	s := &sending{e: e, name: bodyName(id), piece: newPiece(e.dir), limit: pieceSize, sum: digest.NewCRC64()}
	ctx, cancel := context.WithCancel(e.life)
	s.cancel = cancel
	s.group, s.ctx = errgroup.WithContext(ctx)
	s.group.SetLimit(piecesAhead)
	return s
}

// Write takes stored bytes.
func (s *sending) Write(b []byte) (n int, err error) {
	s.sum.Write(b)
	for n < len(b) {
		if s.piece.size == s.limit {
			if err := s.next(); err != nil {
				return n, err
			}
		}
		m, err := s.piece.Write(b[n:min(int64(len(b)), int64(n)+s.limit-s.piece.size)])
		n += m
		s.size += int64(m)
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// next sends the piece that is full, and begins another; where the place takes no pieces
// it grows.
func (s *sending) next() error {
	if s.pieces == nil {
		err := patiently(s.ctx, func() (err error) {
			s.pieces, err = s.e.place.Start(s.ctx, s.name)
			return err
		})
		if fault.KindOf(err) == fault.Unfinished && s.limit < pieceMost {
			s.pieces, s.limit = nil, pieceMost
			return nil
		}
		if err != nil {
			s.pieces = nil
			return s.e.failed(err)
		}
	}
	s.goes()
	s.piece = newPiece(s.e.dir)
	if s.ctx.Err() != nil {
		return s.e.failed(s.group.Wait())
	}
	return nil
}

// goes sends the piece in hand.
func (s *sending) goes() {
	s.number++
	p, n := s.piece, s.number
	s.piece = nil
	s.group.Go(func() error {
		defer p.close()
		return patiently(s.ctx, func() error { return s.pieces.Add(s.ctx, n, p) })
	})
}

// settle has the place hold the body: it is there when there is no error.
func (s *sending) settle() error {
	defer s.cancel()
	if s.pieces == nil {
		p := s.piece
		s.piece = nil
		defer p.close()
		return s.e.failed(patiently(s.ctx, func() error { return s.e.place.Put(s.ctx, s.name, p) }))
	}
	if s.piece.size > 0 {
		s.goes()
	}
	if err := s.group.Wait(); err != nil {
		return s.e.failed(err)
	}
	ctx, cancel := context.WithTimeout(s.e.life, walkFor)
	defer cancel()
	return s.e.failed(patiently(ctx, func() error { return s.pieces.Complete(ctx, s.size, s.sum.Sum64()) }))
}

// drop gives up what is on its way. What cannot be told to the place is found by a walk.
func (s *sending) drop() {
	s.cancel()
	_ = s.group.Wait()
	if s.piece != nil {
		s.piece.close()
	}
	if s.pieces == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), askFor)
	defer cancel()
	_ = s.pieces.Abandon(ctx)
}
