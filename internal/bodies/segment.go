package bodies

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
)

// Header of a body in a segment, 32 bytes little-endian: magic, version 1 and
// zero (8), length (8), CRC-64/NVME of the body (8), offset of the body (8).
const (
	headerSize  = 32
	headerMagic = 0x0000_0001_4450_4253 // the letters SBPD, then 1
)

// maxGather is how many bytes share one write.
const maxGather = 8 << 20

// appender appends small bodies to the process's segment, one goroutine for a
// volume. Those that wait share a write and a sync.
type appender struct {
	v     *Volume
	bit   int64 // set in its segments' numbers
	queue chan *unit
	done  chan struct{}
	mu    sync.RWMutex
	shut  bool

	file *holding // nil: none yet, or the last one failed
	id   int64
	size int64
	born time.Time
}

// unit is what is appended together.
type unit struct {
	bodies []*appending
	err    chan error
}

type appending struct {
	data   []byte
	crc    uint64
	place  func(*appending) error // finishes data and crc once offset and id are known; nil: they are finished
	offset int64
	id     int64
	held   *holding // the segment, for whoever appended
}

func newAppender(v *Volume, bit int64) *appender {
	a := &appender{v: v, bit: bit, queue: make(chan *unit, 256), done: make(chan struct{})}
	go a.work()
	return a
}

// append brings bodies to the disk, with one sync; they know their places then.
func (a *appender) append(bodies []*appending) error {
	u := &unit{bodies, make(chan error, 1)}
	a.mu.RLock()
	if a.shut {
		a.mu.RUnlock()
		return fault.New(fault.Unavailable, "closing", "the service is stopping").Do("try again in a moment")
	}
	a.queue <- u
	a.mu.RUnlock()
	return <-u.err
}

// bytes gives how many bytes a unit has.
func (u *unit) bytes() (n int) {
	for _, p := range u.bodies {
		n += len(p.data)
	}
	return n
}

// holding is a file that is kept from the collector by a lock, for as long as
// somebody holds it.
type holding struct {
	*os.File
	mu      sync.Mutex
	held    int
	passing bool // it is there for its lock alone, and goes with it
}

// hold opens the file's lock to one more holder.
func (h *holding) hold() *holding {
	h.mu.Lock()
	h.held++
	h.mu.Unlock()
	return h
}

// release gives it up; the last one closes the file.
func (h *holding) release() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.held--; h.held > 0 {
		return nil
	}
	if h.passing {
		_ = os.Remove(h.Name()) // one that stays does no harm
	}
	return h.Close()
}

func (a *appender) close() {
	a.mu.Lock()
	if !a.shut {
		a.shut = true
		close(a.queue)
	}
	a.mu.Unlock()
	<-a.done
}

func (a *appender) work() {
	defer close(a.done)
	defer a.leave()
	var gathered []byte
	for first := range a.queue {
		units, batch, bytes := []*unit{first}, first.bodies, first.bytes()
	more:
		for bytes < maxGather {
			select {
			case q, ok := <-a.queue:
				if !ok {
					break more
				}
				units, batch, bytes = append(units, q), append(batch, q.bodies...), bytes+q.bytes()
			default:
				break more
			}
		}
		var err error
		gathered, err = a.write(batch, gathered[:0])
		for _, u := range units {
			u.err <- err
		}
		if cap(gathered) > maxGather/2 {
			gathered = nil
		}
	}
}

// leave closes the segment; nobody appends to it again.
func (a *appender) leave() {
	if a.file != nil {
		_ = a.file.release() // all that was appended is synced
		a.file = nil
	}
}

func (a *appender) write(batch []*appending, buf []byte) ([]byte, error) {
	if a.file != nil && (a.size >= segmentSize || time.Since(a.born) > segmentAge) {
		a.leave()
	}
	if a.file == nil {
		if err := a.begin(); err != nil {
			return buf, err
		}
	}
	for _, p := range batch {
		p.id, p.offset = a.id, a.size+int64(len(buf))+headerSize
		if p.place != nil {
			if err := p.place(p); err != nil {
				return buf, err
			}
		}
		buf = binary.LittleEndian.AppendUint64(buf, headerMagic)
		buf = binary.LittleEndian.AppendUint64(buf, uint64(len(p.data)))
		buf = binary.LittleEndian.AppendUint64(buf, p.crc)
		buf = binary.LittleEndian.AppendUint64(buf, uint64(p.offset))
		buf = append(buf, p.data...)
	}
	if _, err := a.v.disk.WriteAt(a.file.File, buf, a.size); err != nil {
		// Bytes that nobody refers to: cut them off. A segment that cannot be cut is left, and so
		// is one that finds no room: nobody appends to it, so that it can be deleted.
		if a.file.Truncate(a.size) != nil || errors.Is(err, syscall.ENOSPC) {
			a.leave()
		}
		return buf, diskError(err)
	}
	if err := a.v.disk.Sync(a.file.File); err != nil {
		// What the kernel still holds of this segment is unknown: never append to it again.
		a.leave()
		return buf, diskError(err)
	}
	a.size += int64(len(buf))
	for _, p := range batch {
		p.held = a.file.hold()
	}
	return buf, nil
}

func (a *appender) begin() error {
	if away := a.v.Present(); away != nil {
		return away
	}
	for {
		id := newID() | a.bit
		f, err := a.v.disk.Create(a.v.segmentPath(id))
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return a.v.createError(err)
		}
		if err := unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB); err != nil {
			f.Close()
			return diskError(err)
		}
		if err := a.v.disk.SyncDir(filepath.Dir(f.Name())); err != nil {
			f.Close()
			return diskError(err)
		}
		a.file, a.id, a.size, a.born = (&holding{File: f}).hold(), id, 0, time.Now()
		return nil
	}
}
