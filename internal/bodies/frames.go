package bodies

import (
	"encoding/binary"
	"errors"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"

	"spindle/internal/core/digest"
	"spindle/internal/core/object"
)

// A body in frames is cut into stretches of frameSize, each kept as it is or compressed,
// with a digest of its own: so that any range is read without what is before it, and
// whatever is damaged is noticed when it is read. The frames are followed by an index
// and a trailer, all numbers little-endian:
//
//	index     an entry a frame: length in the file (4, the highest bit: compressed),
//	          CRC-64/NVME of the plain bytes (8)
//	trailer   magic (8), number of frames (8), plain bytes (8), CRC-64/NVME of index
//	          and what is before in the trailer (8)
//
// In a sealed body all of this is sealed.
const (
	frameSize   = 256 << 10
	frameEntry  = 12
	frameTail   = 32
	framePacked = 1 << 31
	frameMagic  = "SPFRAME\x01"
)

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderCRC(false))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(2*frameSize))
	frameBufs   = sync.Pool{New: func() any { b := make([]byte, 0, frameSize+frameSize/8); return &b }}
)

// frameWriter cuts what is written to it into frames. Close it.
type frameWriter struct {
	w     io.Writer
	pack  bool
	buf   []byte
	index []byte
	size  int64
}

func newFrameWriter(w io.Writer, pack bool) *frameWriter {
	return &frameWriter{w: w, pack: pack, buf: make([]byte, 0, frameSize)}
}

// Write takes bytes, which fill frames.
func (f *frameWriter) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		m := min(len(p), frameSize-len(f.buf))
		f.buf = append(f.buf, p[:m]...)
		p = p[m:]
		n += m
		if len(f.buf) == frameSize {
			if err := f.flush(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (f *frameWriter) flush() error {
	if len(f.buf) == 0 {
		return nil
	}
	out, bit := f.buf, uint32(0)
	if f.pack {
		bp := frameBufs.Get().(*[]byte)
		defer frameBufs.Put(bp)
		if packed := packer.EncodeAll(f.buf, (*bp)[:0]); len(packed) < len(f.buf) {
			out, bit = packed, framePacked
		}
	}
	f.index = binary.LittleEndian.AppendUint32(f.index, uint32(len(out))|bit)
	f.index = binary.LittleEndian.AppendUint64(f.index, digest.CRC64(f.buf))
	f.size += int64(len(f.buf))
	_, err := f.w.Write(out)
	f.buf = f.buf[:0]
	return err
}

// Close writes the last frame, the index and the trailer.
func (f *frameWriter) Close() error {
	if err := f.flush(); err != nil {
		return err
	}
	f.index = append(f.index, frameMagic...)
	f.index = binary.LittleEndian.AppendUint64(f.index, uint64(len(f.index)/frameEntry))
	f.index = binary.LittleEndian.AppendUint64(f.index, uint64(f.size))
	f.index = binary.LittleEndian.AppendUint64(f.index, digest.CRC64(f.index))
	_, err := f.w.Write(f.index)
	return err
}

// framedLength gives how many bytes a body takes in frames, when none is compressed.
func framedLength(size int64) int64 {
	return size + (size+frameSize-1)/frameSize*frameEntry + frameTail
}

// frameReader gives the frames of a body.
type frameReader struct {
	r     io.ReaderAt
	size  int64
	start []int64 // of each frame in r, and of the index
	index []byte
	ref   object.BodyRef

	checked bool // what r gives was compared with a digest already
}

// newFrameReader reads the index of the body of size plain bytes that stands in the
// first stored bytes of r.
func newFrameReader(r io.ReaderAt, stored, size int64, ref object.BodyRef) (*frameReader, error) {
	n := (size + frameSize - 1) / frameSize
	length := n*frameEntry + frameTail
	if stored < length {
		return nil, damaged(ref, "the file ends before its index")
	}
	f := &frameReader{r: r, size: size, ref: ref, index: make([]byte, length)}
	if m, err := r.ReadAt(f.index, stored-length); m < len(f.index) {
		return nil, f.failed(err)
	}
	tail := f.index[n*frameEntry:]
	if string(tail[:8]) != frameMagic || binary.LittleEndian.Uint64(tail[8:]) != uint64(n) ||
		binary.LittleEndian.Uint64(tail[16:]) != uint64(size) ||
		binary.LittleEndian.Uint64(tail[24:]) != digest.CRC64(f.index[:length-8]) {
		return nil, damaged(ref, "the index of its frames is not what it was")
	}
	f.start = make([]int64, n+1)
	for i := range n {
		f.start[i+1] = f.start[i] + int64(binary.LittleEndian.Uint32(f.index[i*frameEntry:])&^framePacked)
	}
	if f.start[n] != stored-length {
		return nil, damaged(ref, "the frames have %d bytes, not %d", stored-length, f.start[n])
	}
	return f, nil
}

func (f *frameReader) failed(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return damaged(f.ref, "the file ends early")
	}
	return err
}

// read gives the plain bytes of the frame that has the byte at offset, from there on.
// buf is used when it is large enough.
func (f *frameReader) read(buf []byte, offset int64) ([]byte, error) {
	i := offset / frameSize
	plain := int(min(frameSize, f.size-i*frameSize))
	entry := f.index[i*frameEntry:]
	packed := binary.LittleEndian.Uint32(entry)&framePacked != 0
	length := int(f.start[i+1] - f.start[i])
	raw := buf[:0]
	if packed || cap(raw) < length {
		raw = make([]byte, length)
	}
	raw = raw[:length]
	if n, err := f.r.ReadAt(raw, f.start[i]); n < len(raw) {
		return nil, f.failed(err)
	}
	if packed {
		out, err := unpacker.DecodeAll(raw, buf[:0])
		if err != nil {
			return nil, damaged(f.ref, "frame %d cannot be unpacked: %s", i, err)
		}
		raw = out
	}
	if len(raw) != plain || !f.checked && digest.CRC64(raw) != binary.LittleEndian.Uint64(entry[4:]) {
		return nil, damaged(f.ref, "frame %d is not what it was", i)
	}
	return raw[offset-i*frameSize:], nil
}
