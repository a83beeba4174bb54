package bodies

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

// Sizes in bytes.
const (
	// SmallBody is the greatest size of a body that goes into a segment.
	SmallBody = 128 << 10
	// bufferSize is what a put holds, up to bufferCount times.
	bufferSize  = 256 << 10
	bufferCount = 3
	// writebackStretch is how much is written before the kernel is asked to begin storing it.
	writebackStretch = 8 << 20
	// segmentSize is when a segment is left for a new one.
	segmentSize = 256 << 20
)

// segmentAge is how long a process appends to one segment.
const segmentAge = time.Hour

// Volume is a directory that keeps bodies.
type Volume struct {
	dir     string
	disk    Disk
	tier    int16
	buffers sync.Pool
	stretch sync.Pool    // of sealed bodies that are read
	active  atomic.Int32 // large bodies being written
	opening atomic.Int32 // large sealed bodies being read
	small   *appender
	seals   *appender // of sealed small bodies
	sealer  Sealer
	framed  bool   // bodies are files of their own, in frames
	packed  bool   // which are compressed
	pieced  bool   // and cut into pieces by the shelf they go to
	marker  string // what its marker file says; "" for none

	mu   sync.Mutex
	open map[int64]*os.File // segments open for reading
	most int                // of them at a time
}

// Sealer has the keys that wrap the data keys of sealed bodies.
type Sealer interface {
	// SealingKey gives the body key in force, with its number.
	SealingKey() (number uint16, key cipher.AEAD, err error)
	// OpeningKey gives the body key of a number.
	OpeningKey(number uint16) (cipher.AEAD, error)
}

// SealWith gives the volume the keys that sealed bodies need. Without, they can be
// neither written nor read.
func (v *Volume) SealWith(s Sealer) { v.sealer = s }

// newData makes a data key for a body to be sealed.
func (v *Volume) newData() (*seal.Wrapping, cipher.AEAD, error) {
	if v.sealer == nil {
		return nil, nil, noSealer()
	}
	n, key, err := v.sealer.SealingKey()
	if err != nil {
		return nil, nil, err
	}
	return seal.NewData(n, key)
}

func noSealer() error {
	return fault.New(fault.Unavailable, "no-sealer", "the volume has no keys for sealed bodies").In("volume")
}

// openHeader opens the header that stands in the place of a body.
func (v *Volume) openHeader(h seal.Header, ref object.BodyRef) (cipher.AEAD, *seal.Wrapping, error) {
	n, err := h.BodyKey()
	if err != nil {
		return nil, nil, err
	}
	if v.sealer == nil {
		return nil, nil, noSealer()
	}
	key, err := v.sealer.OpeningKey(n)
	if err != nil {
		return nil, nil, err
	}
	return h.Open(n, key, ref.File, ref.Place(), ref.Bound())
}

// Open prepares a volume in dir, making its folders where they are missing.
func Open(dir string, tier int16) (*Volume, error) {
	for i := range 256 {
		if err := os.MkdirAll(filepath.Join(dir, "whole", fmt.Sprintf("%02x", i)), 0o700); err != nil {
			return nil, fault.New(fault.Invalid, "volume", "the volume cannot be prepared").In("data").
				Do("give a directory that this process may write to").Because(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "segments"), 0o700); err != nil {
		return nil, fault.New(fault.Invalid, "volume", "the volume cannot be prepared").In("data").Because(err)
	}
	for _, d := range []string{"whole", "segments", "."} {
		if err := syncDir(filepath.Join(dir, d)); err != nil {
			return nil, err
		}
	}
	return newVolume(dir, tier), nil
}

func newVolume(dir string, tier int16) *Volume {
	v := &Volume{dir: dir, disk: SystemDisk{}, tier: tier, open: map[int64]*os.File{}, most: openSegments()}
	v.buffers.New = func() any { b := make([]byte, bufferSize); return &b }
	v.stretch.New = func() any { b := make([]byte, seal.Buffer); return &b }
	v.small, v.seals = newAppender(v, 0), newAppender(v, object.SealedBit)
	return v
}

// openSegments gives how many segments are kept open: a small part of what the
// process may open at all, at most 256.
func openSegments() int {
	var l unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &l) != nil || l.Cur > 8*256 {
		return 256
	}
	return max(8, int(l.Cur)/16)
}

// Close finishes what is being appended and closes files.
func (v *Volume) Close() error {
	v.small.close()
	v.seals.close()
	v.mu.Lock()
	defer v.mu.Unlock()
	for id, f := range v.open {
		f.Close()
		delete(v.open, id)
	}
	return nil
}

// Tier gives the number in the references to the volume's bodies.
func (v *Volume) Tier() int16 { return v.tier }

// Dir gives the volume's directory.
func (v *Volume) Dir() string { return v.dir }

// Free gives the bytes that an ordinary user may still write, and all bytes of the disk.
func (v *Volume) Free() (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(v.dir, &st); err != nil {
		return 0, 0, err
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize, nil
}

// marginMost is how many bytes of a volume's disk bodies leave free, for what frees: segments are compacted, and
// what was lost is made anew, there.
const marginMost = 64 << 20

// room gives how many bytes a new body may have.
func (v *Volume) room() (int64, error) {
	free, total, err := v.Free()
	return free - min(marginMost, total/16), err
}

// newID gives a number that no other file of any process has: milliseconds
// since 1970 above, 21 random bits below. Whoever creates a file does so
// exclusively, which settles the rest.
func newID() int64 {
	var b [4]byte
	_, _ = rand.Read(b[:])
	return time.Now().UnixMilli()<<21 | int64(binary.LittleEndian.Uint32(b[:])&(1<<21-1))
}

func (v *Volume) wholePath(id int64) string {
	name := fmt.Sprintf("%016x", id)
	return filepath.Join(v.dir, "whole", name[14:], name+".body")
}

func (v *Volume) segmentPath(id int64) string {
	return filepath.Join(v.dir, "segments", fmt.Sprintf("%016x.seg", id))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// diskError classifies an error of the disk.
func diskError(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fault.New(fault.Full, "disk-full", "the volume has no room left").In("volume").
			Do("free space on the volume's disk; nothing that was acknowledged is affected").Because(err)
	}
	switch {
	case errors.Is(err, syscall.EROFS):
		return fault.New(fault.Unavailable, "volume-read-only", "the volume's disk takes no writes: it is mounted read-only").
			In("volume").Do("look at the system's log for why, mend the disk, and mount it for writing").Because(err)
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return fault.New(fault.Unavailable, "too-many-files", "no more files can be opened").In("volume").
			Do("try again in a moment; if it stays so, raise the limit of open files (ulimit -n) for the service").Because(err)
	}
	return fault.New(fault.Internal, "disk-error", "the volume's disk reports an error").In("volume").
		Do("check the disk; the service's log has the error").Because(err)
}

func damaged(ref object.BodyRef, format string, args ...any) error {
	return fault.New(fault.Damaged, "damaged", "the stored bytes are damaged: "+format, args...).
		Do("restore the object from a copy; the damage is reported on the overview")
}

// ReadSmall reads a body of a segment into buf, which has its size, and checks
// its digest.
func (v *Volume) ReadSmall(ref object.BodyRef, buf []byte, crc uint64) error {
	if ref.Sealed() {
		bp := v.stretch.Get().(*[]byte)
		defer v.stretch.Put(bp)
		stored := (*bp)[:seal.Length(int64(len(buf)))]
		if err := v.readStored(ref, stored); err != nil {
			return err
		}
		data, _, err := v.openHeader(seal.Header(stored), ref)
		if err != nil {
			return err
		}
		if err := seal.OpenWhole(buf, data, stored[seal.HeaderSize:]); err != nil {
			return err
		}
	} else if err := v.readStored(ref, buf); err != nil {
		return err
	}
	if got := digest.CRC64(buf); got != crc {
		return damaged(ref, "the digest is %016x, not %016x", got, crc)
	}
	return nil
}

// readStored reads what stands in a segment.
func (v *Volume) readStored(ref object.BodyRef, buf []byte) error {
	for try := 0; ; try++ {
		f, err := v.segment(ref.File)
		if err != nil {
			return err
		}
		n, err := v.disk.ReadAt(f, buf, ref.Place())
		if errors.Is(err, os.ErrClosed) && try < 3 {
			continue // pushed out of the cache meanwhile
		}
		if n < len(buf) {
			if err == io.EOF {
				return damaged(ref, "the segment ends %d bytes early", len(buf)-n)
			}
			return diskError(err)
		}
		return nil
	}
}

// segment gives a segment open for reading.
func (v *Volume) segment(id int64) (*os.File, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if f := v.open[id]; f != nil {
		return f, nil
	}
	f, err := v.disk.Open(v.segmentPath(id))
	if err != nil {
		return nil, v.openError(err)
	}
	if len(v.open) >= v.most {
		for other, g := range v.open { // any one
			g.Close()
			delete(v.open, other)
			break
		}
	}
	v.open[id] = f
	return f, nil
}

// openError says why a file cannot be opened: the volume is away, or the file is gone.
func (v *Volume) openError(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		if away := v.Present(); away != nil {
			return away
		}
		return damaged(object.BodyRef{}, "the file is gone").(*fault.Error).Because(err)
	}
	return diskError(err)
}

// createError says why a file cannot be made: the volume is away, or the disk says no.
func (v *Volume) createError(err error) error {
	if away := v.Present(); away != nil {
		return away
	}
	return diskError(err)
}

// openFile opens a body's file and checks its length. The caller closes it.
func (v *Volume) openFile(ref object.BodyRef, size int64) (f *os.File, stored int64, err error) {
	if f, err = v.disk.Open(v.wholePath(ref.File)); err != nil {
		return nil, 0, v.openError(err)
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, diskError(err)
	}
	if ref.Sealed() {
		size = seal.Length(size)
	}
	if !ref.InFrames() && st.Size() != size {
		f.Close()
		return nil, 0, damaged(ref, "the file has %d bytes, not %d", st.Size(), size)
	}
	return f, st.Size(), nil
}

// Check reads a body and compares it with its digest; limit is called with the
// bytes about to be read and may wait.
func (v *Volume) Check(ctx context.Context, ref object.BodyRef, size int64, crc uint64, limit func(n int) error) error {
	if ref.File == 0 {
		return nil
	}
	bp := v.buffers.Get().(*[]byte)
	defer v.buffers.Put(bp)
	if ref.Offset >= 0 {
		if size > SmallBody {
			return damaged(ref, "a body of %d bytes cannot stand in a segment", size)
		}
		if err := limit(int(size)); err != nil {
			return err
		}
		return v.ReadSmall(ref, (*bp)[:size], crc)
	}
	f, err := v.Open(ctx, ref, size)
	if err != nil {
		return err
	}
	defer f.Close()
	var got uint64
	if f.cut != nil || f.r != nil {
		return f.check(ref, size, crc, limit)
	}
	in := io.NewSectionReader(diskFile{f.file, v.disk}, 0, 1<<62)
	for {
		n, err := io.ReadFull(in, *bp)
		got = digest.UpdateCRC64(got, (*bp)[:n])
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !end {
			return damaged(ref, "the disk cannot read it").(*fault.Error).Because(err)
		}
		if err := limit(n); err != nil {
			return err
		}
		if end {
			break
		}
	}
	if got != crc {
		return damaged(ref, "the digest is %016x, not %016x", got, crc)
	}
	return nil
}

// File is a file of the volume.
type File struct {
	ID      int64
	Segment bool
	Size    int64
	Changed time.Time
}

// Walk gives every file of the volume, in no order, until f returns an error.
func (v *Volume) Walk(_ context.Context, f func(File) error) error {
	return filepath.WalkDir(v.dir+"/", func(path string, d fs.DirEntry, err error) error { // "/": it may be a link
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		name, seg := strings.CutSuffix(d.Name(), ".seg")
		if !seg {
			var whole bool
			if name, whole = strings.CutSuffix(d.Name(), ".body"); !whole {
				return nil
			}
		}
		id, err := strconv.ParseInt(name, 16, 64)
		if err != nil || d.IsDir() {
			return nil
		}
		st, err := d.Info()
		if err != nil {
			return nil // removed meanwhile
		}
		return f(File{ID: id, Segment: seg, Size: st.Size(), Changed: st.ModTime()})
	})
}

// Held tells whether whoever writes a body, or wrote it and did not commit yet, holds it.
func (v *Volume) Held(id int64) (bool, error) { return heldFile(v.wholePath(id)) }

// heldFile tells whether somebody holds the lock of a file; of one that is gone nobody does.
func heldFile(path string) (bool, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, diskError(err)
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil, nil
}

// RemoveWhole deletes a body's file, unless it is being written, or was and is not
// committed yet: the lock of whoever writes it says so. One that is gone is no error.
// It gives the bytes freed.
func (v *Volume) RemoveWhole(id int64) (int64, error) {
	f, err := os.Open(v.wholePath(id))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, diskError(err)
	}
	defer f.Close()
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return 0, nil
	}
	st, err := f.Stat()
	if err == nil {
		err = v.disk.Remove(f.Name())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, diskError(err)
	}
	return st.Size(), nil
}

// LockSegment takes a segment alone, so that it can be compacted or deleted.
// It reports false when a process still appends to it. unlock also closes it.
func (v *Volume) LockSegment(id int64) (unlock func(), ok bool, err error) {
	f, err := os.Open(v.segmentPath(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, diskError(err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, false, nil
	}
	return func() { f.Close() }, true, nil
}

// TouchSegment makes a segment young again, so that it is kept for a while.
func (v *Volume) TouchSegment(id int64) error {
	now := time.Now()
	return os.Chtimes(v.segmentPath(id), now, now)
}

// RemoveSegment deletes a segment that the caller has locked.
func (v *Volume) RemoveSegment(id int64) error {
	v.mu.Lock()
	if f := v.open[id]; f != nil {
		f.Close()
		delete(v.open, id)
	}
	v.mu.Unlock()
	if err := v.disk.Remove(v.segmentPath(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return diskError(err)
	}
	return nil
}
