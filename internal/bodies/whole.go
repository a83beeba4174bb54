package bodies

import (
	"context"
	"io"
	"os"
	"runtime"

	"spindle/internal/core/digest"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

// Whole is an open body that is a file of its own. Close it.
type Whole struct {
	src  source
	file *os.File // of a plain body on a disk: what is in it is the body
	r    *seal.Reader
	cut  *frameReader
	next func() (*Whole, error) // opens the next copy; nil for none
	v    *Volume
	size int64
}

// source is where the stored bytes of a body come from.
type source interface {
	io.ReaderAt
	io.Closer
}

// Open opens a body that is a file of its own and checks its length, and for a
// sealed one its header.
func (v *Volume) Open(_ context.Context, ref object.BodyRef, size int64) (*Whole, error) {
	f, stored, err := v.openFile(ref, size)
	if err != nil {
		return nil, err
	}
	w, err := v.read(diskFile{f, v.disk}, stored, ref, size)
	if err != nil {
		f.Close()
		return nil, err
	}
	w.file = f
	return w, nil
}

// read gives the body in the stored bytes of a source, which is left to the caller when
// there is an error.
func (v *Volume) read(src source, stored int64, ref object.BodyRef, size int64) (w *Whole, err error) {
	w = &Whole{src: src, v: v, size: size}
	if !ref.Sealed() {
		if ref.InFrames() {
			if w.cut, err = newFrameReader(src, stored, size, ref); err == nil {
				_, w.cut.checked = src.(*pieced)
			}
		}
		return w, err
	}
	var h seal.Header
	if n, err := src.ReadAt(h[:], 0); n < len(h) {
		if err == io.EOF {
			return nil, damaged(ref, "the file ends before its header does")
		}
		return nil, sinkError(err)
	}
	data, _, err := v.openHeader(h, ref)
	if err != nil {
		return nil, err
	}
	w.r = seal.NewReader(src, data, size)
	if ref.InFrames() {
		stored = seal.PlainLength(stored)
		w.r = seal.NewReader(src, data, stored)
		w.cut, err = newFrameReader(w.r, stored, size, ref)
	}
	return w, err
}

// Close closes the file.
func (w *Whole) Close() error { return w.src.Close() }

// expect tells a source that is far away what will be read of a body in frames.
func (w *Whole) expect(offset, length int64) {
	far, ok := w.src.(interface{ expect(to int64) })
	if !ok || length == 0 {
		return
	}
	to := w.cut.start[(offset+length-1)/frameSize+1]
	if w.r != nil {
		to = seal.Length((to+seal.ChunkSize-1)/seal.ChunkSize*seal.ChunkSize + seal.Stretch) // which is opened at once
	}
	far.expect(to)
}

// Send writes length bytes from offset to to. A plain body goes from file to socket
// inside the kernel when to can; of a sealed one the next stretch is opened while
// the last one is written. between, if not nil, is called before each stretch of at
// most 1 MiB.
func (w *Whole) Send(to io.Writer, offset, length int64, between func()) error {
	if w.cut != nil {
		return w.sendFrames(to, offset, length, between)
	}
	if w.r != nil {
		return w.sendSealed(to, offset, length, between)
	}
	if _, err := w.file.Seek(offset, io.SeekStart); err != nil {
		return err
	}
	for length > 0 {
		if between != nil {
			between()
		}
		n := min(length, 1<<20)
		if _, err := io.CopyN(to, w.file, n); err != nil {
			return err
		}
		length -= n
	}
	return nil
}

// sendFrames writes frames; of a long stretch the next ones are read while one is written, as
// long as cores are likely to be free for it.
func (w *Whole) sendFrames(to io.Writer, offset, length int64, between func()) error {
	w.expect(offset, length)
	read, stop := w.framesInTurn(offset, length), func() {}
	if v := w.v; length >= ahead {
		defer v.opening.Add(-1)
		if v.opening.Add(1) <= int32(runtime.GOMAXPROCS(0)) {
			read, stop = aheadOf(read)
		}
	}
	defer func() { stop() }()
	for length > 0 {
		if between != nil {
			between()
		}
		o := read()
		if o.err != nil {
			putFrame(o.buf)
			return o.err
		}
		n, err := o.writeTo(to, length)
		putFrame(o.buf)
		if err != nil {
			return err
		}
		length -= n
	}
	return nil
}

// framesInTurn gives the frames of a stretch one after another.
func (w *Whole) framesInTurn(offset, length int64) func() opened {
	end := offset + length
	return func() opened {
		if offset == end {
			return opened{}
		}
		o := opened{buf: frameBufs.Get().(*[]byte)}
		var plain []byte
		if plain, o.err = w.frame((*o.buf)[:0], offset, end-offset); o.err == nil {
			o.pieces, offset = [][]byte{plain}, offset+int64(len(plain))
		}
		return o
	}
}

// aheadOf reads up to window pieces ahead of whoever takes them. Stop waits for what is being
// read.
func aheadOf(read func() opened) (next func() opened, stop func()) {
	coming, stopped := make(chan opened, window), make(chan struct{})
	go func() {
		defer close(coming)
		for {
			o := read()
			select {
			case coming <- o:
			case <-stopped:
				putFrame(o.buf)
				return
			}
			if o.err != nil || len(o.pieces) == 0 {
				return
			}
		}
	}()
	return func() opened { return <-coming }, func() {
		close(stopped)
		for o := range coming {
			putFrame(o.buf)
		}
	}
}

func putFrame(buf *[]byte) {
	if buf != nil {
		frameBufs.Put(buf)
	}
}

// frame gives what is in the frame with the byte at offset, from there on. It goes on with
// the next copy, if there is one, where a frame is damaged or cannot be read.
func (w *Whole) frame(buf []byte, offset, length int64) ([]byte, error) {
	plain, err := w.cut.read(buf, offset)
	for err != nil && w.next != nil {
		next, nerr := w.next()
		if nerr != nil {
			break
		}
		w.src.Close()
		*w = *next
		w.expect(offset, length)
		plain, err = w.cut.read(buf, offset)
	}
	return plain, err
}

// ahead is from how many bytes on a sealed body is opened ahead, and window how many
// stretches at most.
const (
	ahead  = 1 << 20
	window = 4
)

// opened is a stretch of a body, ready to be sent: the pieces follow one another.
type opened struct {
	buf    *[]byte
	pieces [][]byte
	err    error
}

// writeTo writes what is in the pieces, left bytes of it at most.
func (o opened) writeTo(to io.Writer, left int64) (n int64, err error) {
	for _, p := range o.pieces {
		if n == left {
			break
		}
		m, err := to.Write(p[:min(left-n, int64(len(p)))])
		n += int64(m)
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

func (w *Whole) sendSealed(to io.Writer, offset, length int64, between func()) error {
	read := func(at int64) opened {
		o := opened{buf: w.v.stretch.Get().(*[]byte)}
		o.pieces, o.err = w.r.Read(*o.buf, at)
		return o
	}
	// Others are opened beside while cores are likely to be free for it: never more
	// stretches than that at once, whoever reads.
	beside := length >= ahead && w.v.opening.Add(1) <= int32(runtime.GOMAXPROCS(0))
	if length >= ahead {
		defer w.v.opening.Add(-1)
	}
	var coming []chan opened
	defer func() {
		for _, c := range coming {
			w.v.stretch.Put((<-c).buf)
		}
	}()
	end, at := offset+length, offset
	next := func() {
		c, from := make(chan opened, 1), at
		coming = append(coming, c)
		at = min(end, from-from%seal.ChunkSize+seal.Stretch)
		if beside {
			go func() { c <- read(from) }()
		} else {
			c <- read(from)
		}
	}
	for offset < end {
		for at < end && (len(coming) == 0 || beside && len(coming) < window) {
			next()
		}
		o := <-coming[0]
		coming = coming[1:]
		if o.err != nil {
			w.v.stretch.Put(o.buf)
			return o.err
		}
		if between != nil {
			between()
		}
		n, err := o.writeTo(to, end-offset)
		w.v.stretch.Put(o.buf)
		if err != nil {
			return err
		}
		offset += n
	}
	return nil
}

// check reads all of a body that is sealed or in frames, and compares its digest.
func (w *Whole) check(ref object.BodyRef, size int64, crc uint64, limit func(n int) error) error {
	buf := w.v.stretch.Get().(*[]byte)
	defer w.v.stretch.Put(buf)
	if w.cut != nil {
		w.expect(0, size)
	}
	var got uint64
	for at := int64(0); at < size; {
		pieces, err := w.piecesAt(*buf, at, size)
		if err != nil {
			return err
		}
		for _, p := range pieces {
			at += int64(len(p))
			got = digest.UpdateCRC64(got, p)
			if err := limit(len(p)); err != nil {
				return err
			}
		}
	}
	if got != crc {
		return damaged(ref, "the digest is %016x, not %016x", got, crc)
	}
	return nil
}

func (w *Whole) piecesAt(buf []byte, at, size int64) ([][]byte, error) {
	if w.cut == nil {
		return w.r.Read(buf, at)
	}
	plain, err := w.frame(nil, at, size-at)
	return [][]byte{plain}, err
}
