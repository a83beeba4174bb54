package hold

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// pieced reads an object that came in parts, one part at a time.
type pieced struct {
	pieces []Piece
	size   int64
	at     int64
	part   io.ReadCloser // the piece that at is in, from there on
}

func openPieces(v *Version) (io.ReadSeekCloser, error) {
	return &pieced{pieces: v.Pieces, size: v.Size}, nil
}

// Read reads on.
func (p *pieced) Read(b []byte) (int, error) {
	for {
		if p.at >= p.size {
			return 0, io.EOF
		}
		if p.part == nil {
			if err := p.enter(); err != nil {
				return 0, err
			}
		}
		n, err := p.part.Read(b)
		p.at += int64(n)
		if !errors.Is(err, io.EOF) {
			return n, err
		}
		err = p.leave()
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// enter opens the piece that the place is in.
func (p *pieced) enter() error {
	from := p.at
	for _, x := range p.pieces {
		if from >= x.Size {
			from -= x.Size
			continue
		}
		if x.File == "" {
			p.part = io.NopCloser(bytes.NewReader(x.data[from:]))
			return nil
		}
		f, err := os.Open(x.File)
		if err != nil {
			return err
		}
		p.part = f
		_, err = f.Seek(from, io.SeekStart)
		return err
	}
	return io.EOF
}

func (p *pieced) leave() error {
	if p.part == nil {
		return nil
	}
	err := p.part.Close()
	p.part = nil
	return err
}

// Seek goes to a place.
func (p *pieced) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.at
	case io.SeekEnd:
		offset += p.size
	}
	p.at = offset
	return offset, p.leave()
}

// Close ends reading.
func (p *pieced) Close() error { return p.leave() }
