package bodies

import (
	"crypto/md5"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"golang.org/x/sys/unix"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

// Written is a body that is synced to the volume but that no version refers to
// yet.
type Written struct {
	Ref   object.BodyRef
	Size  int64
	MD5   [16]byte
	CRC64 uint64
	Owed  int // pieces that could not be written, and are to be made once their volumes are back

	held *holding
	more []*holding // of further copies
}

// Release lets the collector have the body, unless a version refers to it by then.
// Whoever writes a body releases it once the catalog has committed, or will not.
func (w *Written) Release() {
	if w.held != nil {
		_ = w.held.release() // it was synced; nothing is lost with the descriptor
		w.held = nil
	}
	for _, h := range w.more {
		_ = h.release()
	}
	w.more = nil
}

// There refuses a body whose file was removed since it was written, which nothing of
// the service does. The error has the code body-gone.
func (w *Written) There() error {
	if w.held == nil {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Fstat(int(w.held.Fd()), &st); err != nil {
		return diskError(err)
	}
	if st.Nlink == 0 {
		return fault.New(fault.Unavailable, "body-gone", "the body was removed from the volume before it was committed").
			In("volume").Do("send it again; look for what else removes files there")
	}
	return nil
}

// Write reads a body to its end and syncs it to the volume. size is its length
// when known, else -1; a sealed one is encrypted; extra hashes see the plain bytes too. accept is called when
// all bytes have been read and hashed, before they are synced, and may refuse
// the body: then, as after any error, nothing stays behind but what the
// collector finds.
//
// Errors of r are returned as they are. Release what comes back, also after an error.
func (v *Volume) Write(r io.Reader, size int64, sealed bool, extra []hash.Hash, accept func(Written) error) (Written,
	error) {
	w, later, err := v.WriteLater(r, size, sealed, extra, accept)
	if err != nil || later == nil {
		return w, err
	}
	Settle([]*Pending{later})
	return later.w, later.err
}

// fits refuses a body that there is no room for.
func (v *Volume) fits(size int64) error {
	if room, err := v.room(); err == nil && room < size {
		return fault.New(fault.Full, "disk-full", "the volume has room for %d bytes, and the body has %d", max(0, room),
			size).
			In("volume").Do("free space on the volume's disk; nothing that was acknowledged is affected")
	}
	return nil
}

// start reads the first bytes of a body into a buffer, and tells whether they are all.
func (v *Volume) start(r io.Reader) (first *[]byte, n int, ended bool, err error) {
	first = v.buffers.Get().(*[]byte)
	n, err = io.ReadFull(r, *first)
	if ended = err == io.EOF || err == io.ErrUnexpectedEOF; ended {
		err = nil
	}
	if err != nil {
		v.buffers.Put(first)
	}
	return first, n, ended, err
}

// bound makes a sealed body ready to be appended, which gets its header for the place it comes to.
func bound(stored []byte, wrapping *seal.Wrapping) *appending {
	return &appending{data: stored, place: func(p *appending) error {
		h, err := wrapping.Header(p.id, p.offset)
		copy(p.data, h[:])
		p.crc = digest.CRC64(p.data)
		return err
	}}
}

type hasher struct {
	md5   hash.Hash
	crc   uint64
	extra []hash.Hash
}

func newHasher(extra []hash.Hash) *hasher { return &hasher{md5: md5.New(), extra: extra} }

func (h *hasher) write(p []byte) {
	h.md5.Write(p)
	h.crc = digest.UpdateCRC64(h.crc, p)
	for _, e := range h.extra {
		e.Write(p)
	}
}

func (h *hasher) written(size int64) Written {
	w := Written{Size: size, CRC64: h.crc}
	h.md5.Sum(w.MD5[:0])
	return w
}

func (v *Volume) createWhole(bit int64) (*os.File, int64, error) {
	if away := v.Present(); away != nil { // another volume in its place has the same folders
		return nil, 0, away
	}
	for {
		id := newID() | bit
		f, err := v.disk.Create(v.wholePath(id))
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return nil, 0, v.createError(err)
		}
		if err := unix.Flock(int(f.Fd()), unix.LOCK_SH); err != nil { // who asks whether it is held has it for a moment
			f.Close()
			return nil, 0, diskError(err)
		}
		return f, id, nil
	}
}

// writeWhole writes a body into a file of its own: the first n bytes are in
// first, the rest comes from r unless it has ended.
func (v *Volume) writeWhole(r io.Reader, first *[]byte, n int, ended, sealed bool, h *hasher,
	accept func(Written) error) (w Written, err error) {
	var bit int64
	if sealed {
		bit = object.SealedBit
	}
	f, id, err := v.createWhole(bit)
	if err != nil {
		v.buffers.Put(first)
		return Written{}, err
	}
	w, err = v.fill(&fileSink{File: f, disk: v.disk}, id, r, first, n, ended, sealed, h, accept)
	if err != nil {
		_ = v.disk.Remove(f.Name())
		f.Close()
		return w, err
	}
	w.held = (&holding{File: f}).hold()
	return w, nil
}

// sink takes the stored bytes of a body. settle makes them last.
type sink interface {
	io.Writer
	settle() error
}

// fileSink is a file on a disk, which is written back early in stretches.
type fileSink struct {
	*os.File
	disk        Disk
	size, asked int64
}

// Write writes bytes.
func (f *fileSink) Write(p []byte) (int, error) {
	n, err := f.disk.Write(f.File, p)
	if f.size += int64(n); f.size-f.asked >= writebackStretch {
		_ = unix.SyncFileRange(int(f.Fd()), f.asked, f.size-f.asked, unix.SYNC_FILE_RANGE_WRITE) // a hint: the sync decides
		f.asked = f.size
	}
	return n, err
}

func (f *fileSink) settle() error { return settle(f.disk, f.File) }

// fill brings a body to a sink as the volume keeps it, in frames, sealed or plain, and
// settles it once it is accepted.
func (v *Volume) fill(into sink, id int64, r io.Reader, first *[]byte, n int, ended, sealed bool, h *hasher,
	accept func(Written) error) (w Written, err error) {
	var to io.Writer = into
	var closing []io.Closer
	if sealed {
		s, err := v.sealInto(into, id)
		if err != nil {
			v.buffers.Put(first)
			return Written{}, err
		}
		to, closing = s, append(closing, s)
	}
	ref := object.BodyRef{Tier: v.tier, File: id, Offset: object.Alone}
	if v.framed {
		frames := newFrameWriter(to, v.packed)
		ref.Offset, to, closing = object.Framed, frames, append(closing, frames)
		if v.pieced {
			ref.Offset = object.Pieced
		}
	}
	size, err := v.pour(to, r, first, n, ended, h)
	if err != nil {
		return Written{}, err
	}
	for i := len(closing) - 1; i >= 0; i-- {
		if err := closing[i].Close(); err != nil {
			return Written{}, sinkError(err)
		}
	}
	w = h.written(size)
	w.Ref = ref
	if err := accept(w); err != nil {
		return w, err
	}
	return w, into.settle()
}

// sinkError classifies what a sink cannot take, unless it did so itself.
func sinkError(err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return diskError(err)
}

// pour writes the first n bytes of first and, unless they are all, the rest of r to to,
// and gives how many there were.
func (v *Volume) pour(to io.Writer, r io.Reader, first *[]byte, n int, ended bool, h *hasher) (size int64, err error) {
	x := v.newHashing(h, first)
	defer x.finish()
	for n > 0 {
		if err := x.piece(n, to); err != nil {
			return size, sinkError(err)
		}
		size += int64(n)
		if ended {
			break
		}
		n, err = io.ReadFull(r, x.next())
		ended = err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !ended {
			return size, err
		}
	}
	return size, nil
}

// hashing brings the pieces of a body to the hashes and to the file: both at once while a
// core is likely to be free for it.
type hashing struct {
	v      *Volume
	h      *hasher
	buf    *[]byte // the one in hand, if one is
	have   int     // buffers in use
	toHash chan hashPiece
	hashed chan *[]byte
}

type hashPiece struct {
	buf *[]byte
	n   int
}

// newHashing begins with first in hand. Finish it.
func (v *Volume) newHashing(h *hasher, first *[]byte) *hashing {
	x := &hashing{v: v, h: h, buf: first, have: 1}
	if v.active.Add(1) < int32(runtime.GOMAXPROCS(0)) {
		x.toHash, x.hashed = make(chan hashPiece, bufferCount), make(chan *[]byte, bufferCount)
		go func() {
			for p := range x.toHash {
				h.write((*p.buf)[:p.n])
				x.hashed <- p.buf
			}
			close(x.hashed)
		}()
	}
	return x
}

// piece takes the first n bytes of the buffer in hand.
func (x *hashing) piece(n int, to io.Writer) error {
	buf := x.buf
	if x.toHash != nil {
		x.buf = nil
		x.toHash <- hashPiece{buf, n}
		_, err := to.Write((*buf)[:n])
		return err
	}
	_, err := to.Write((*buf)[:n])
	x.h.write((*buf)[:n])
	return err
}

// next gives the buffer to read the next piece into.
func (x *hashing) next() []byte {
	switch {
	case x.buf != nil:
	case x.have < bufferCount:
		x.buf = x.v.buffers.Get().(*[]byte)
		x.have++
	default:
		x.buf = <-x.hashed
	}
	return *x.buf
}

// finish waits for the hashes and gives the buffers back.
func (x *hashing) finish() {
	defer x.v.active.Add(-1)
	if x.buf != nil {
		x.v.buffers.Put(x.buf)
	}
	if x.toHash != nil {
		close(x.toHash)
		for b := range x.hashed {
			x.v.buffers.Put(b)
		}
	}
}

// sealInto begins a sealed body in a file of its own.
func (v *Volume) sealInto(f io.Writer, id int64) (*seal.Writer, error) {
	wrapping, data, err := v.newData()
	if err != nil {
		return nil, err
	}
	head, err := wrapping.Header(id, object.Alone)
	if err != nil {
		return nil, err
	}
	w, err := seal.NewWriter(f, head, data)
	if err != nil {
		return nil, sinkError(err)
	}
	return w, nil
}

// settle makes sure that a new file and its name are on the disk.
func settle(d Disk, f *os.File) error {
	if err := d.Sync(f); err != nil {
		return diskError(err)
	}
	if err := d.SyncDir(filepath.Dir(f.Name())); err != nil {
		return diskError(err)
	}
	return nil
}

// CopySmall appends a body of one segment, once it was checked, to the current one.
// The content of a sealed one stays as it was sealed; its header is bound to the new
// place. Release what comes back.
func (v *Volume) CopySmall(from object.BodyRef, size int64, crc uint64) (w Written, err error) {
	buf := make([]byte, size)
	if err := v.ReadSmall(from, buf, crc); err != nil {
		return w, err
	}
	w = Written{Ref: object.BodyRef{Tier: v.tier}, Size: size, CRC64: crc}
	if !from.Sealed() {
		p := &appending{data: buf, crc: crc}
		err = v.small.append([]*appending{p})
		w.Ref.File, w.Ref.Offset, w.held = p.id, p.offset, p.held
		return w, err
	}
	stored := make([]byte, seal.Length(size))
	if err := v.readStored(from, stored); err != nil {
		return w, err
	}
	_, wrapping, err := v.openHeader(seal.Header(stored), from)
	if err != nil {
		return w, err
	}
	p := bound(stored, wrapping)
	err = v.seals.append([]*appending{p})
	w.Ref.File, w.Ref.Offset, w.held = p.id, p.offset|object.BoundBit, p.held
	return w, err
}
