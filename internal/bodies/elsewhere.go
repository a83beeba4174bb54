package bodies

import (
	"context"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
	"spindle/internal/core/tier"
)

// Elsewhere is the space of a tier whose place is a bucket at an endpoint. Every body is
// an object there, in frames, so that wrong bytes are noticed whoever keeps them; what is
// written goes there in pieces while it arrives, and is there whole or not at all.
//
//	PREFIX volume.json               the marker
//	PREFIX whole/3f/0192…3f.body     a body
//
// Who writes a body, or has written it and not committed yet, holds a lock on a file of
// its number in a folder here, which all processes of the house share.
//
// What the endpoint does wrong is told as a volume that is away: the errors have the code
// volume-away, and the time after which it is worth another try where that is known.
type Elsewhere struct {
	life context.Context // until it is closed
	end  context.CancelFunc

	tier   int16
	place  Place
	marker string
	sealed bool
	room   *Volume // main's, on which the locks and what is to be sent lie
	dir    string  // there
	local  *Volume // buffers and keys; nothing is kept in it

	mu         sync.Mutex
	looked     time.Time // when it was last seen to be there, or not
	away       error
	looking    bool
	unfinished map[int64][]string // uploads that nobody finished, as the last walk found them
}

// Place is a bucket of another store in which bodies are kept as objects. What is not
// there has the kind fault.NotFound; what cannot take parts fault.Unfinished; a place
// that is full fault.Full; what is too much for it fault.TooLarge. What may pass in a
// moment has the kind fault.Unavailable or fault.Slow.
type Place interface {
	// String names it to operators.
	String() string
	// Fit refuses a place in which bodies should not be kept, for which it answers itself.
	Fit(ctx context.Context) error
	// Put keeps an object, once the place is known to hold what was sent.
	Put(ctx context.Context, name string, p Piece) error
	// Start begins an object that comes in pieces.
	Start(ctx context.Context, name string) (Pieces, error)
	// Read reads from a byte on, length bytes or to the end, and gives the object's size.
	Read(ctx context.Context, name string, from, length int64) (r io.ReadCloser, size int64, err error)
	// Size gives an object's size.
	Size(ctx context.Context, name string) (int64, error)
	// Remove removes an object, or is content that there is none.
	Remove(ctx context.Context, name string) error
	// Walk gives the objects beneath a prefix; Unfinished those begun and not completed.
	Walk(ctx context.Context, prefix string, f func(name string, size int64) error) error
	Unfinished(ctx context.Context, prefix string, f func(name, upload string) error) error
	// Abandon gives up what was begun.
	Abandon(ctx context.Context, name, upload string) error
}

// Piece is bytes to be sent, which can be read more than once.
type Piece interface {
	io.ReaderAt
	Size() int64
	CRC64() uint64
}

// Pieces are an object on its way.
type Pieces interface {
	// Add sends a piece; the first is 1. Several may be under way.
	Add(ctx context.Context, number int, p Piece) error
	// Complete makes the object, once the place is known to hold what was sent.
	Complete(ctx context.Context, size int64, crc uint64) error
	// Abandon gives it up.
	Abandon(ctx context.Context) error
}

var _ Space = (*Elsewhere)(nil)

// NewElsewhere makes the space of a tier at a place. room is main's volume.
func NewElsewhere(t *tier.Tier, s Sealer, at Place, room *Volume) *Elsewhere {
	local := newVolume(room.dir, t.ID)
	local.framed, local.packed, local.sealer = true, t.Packed, s
	life, end := context.WithCancel(context.Background())
	return &Elsewhere{life: life, end: end, tier: t.ID, place: at, marker: t.Volumes[0].Marker, sealed: t.Sealed,
		room: room, dir: filepath.Join(room.dir, "elsewhere", strconv.Itoa(int(t.ID))), local: local,
		unfinished: map[int64][]string{}}
}

// Tier gives the number in the references to the tier's bodies.
func (e *Elsewhere) Tier() int16 { return e.tier }

// Close ends what is under way with the place, and what is shared by those who read and write.
func (e *Elsewhere) Close() error {
	e.end()
	return e.local.Close()
}

// while gives a context that ends with ctx, and when the space is closed.
func (e *Elsewhere) while(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(e.life, cancel)
	return ctx, func() { stop(); cancel() }
}

// Free gives 0 of 0: what room there is, nobody tells.
func (e *Elsewhere) Free() (free, total int64, err error) { return 0, 0, nil }

// Times that something at a place may take.
const (
	presentFor = 30 * time.Second // it is believed that the place is there, or away
	askFor     = 30 * time.Second // a short question
	walkFor    = time.Hour
)

// States tells how the place stands, as it was found lately.
func (e *Elsewhere) States() []State {
	e.mu.Lock()
	if time.Since(e.looked) > presentFor && !e.looking {
		e.looking = true
		e.mu.Unlock()
		e.lookAwhile()
		e.mu.Lock()
	}
	defer e.mu.Unlock()
	s := State{Dir: e.place.String(), Elsewhere: true}
	if e.away != nil {
		s.Away = Away(s.Dir, fault.From(e.away).Message).Because(e.away)
	}
	return []State{s}
}

// lookAwhile looks whether the place is there, for a moment; what takes longer is known to
// whoever asks next.
func (e *Elsewhere) lookAwhile() {
	looked := make(chan struct{})
	go func() {
		_ = e.Present() // it is kept
		close(looked)
	}()
	select {
	case <-looked:
	case <-time.After(time.Second):
	}
}

// Present refuses a place that is away: it does not answer, has no marker, or another's.
// The error has the code volume-away. An answer is believed for a while.
func (e *Elsewhere) Present() error {
	e.mu.Lock()
	if time.Since(e.looked) < presentFor {
		defer e.mu.Unlock()
		e.looking = false
		return e.told(e.away)
	}
	e.mu.Unlock()
	ctx, cancel := context.WithTimeout(e.life, askFor)
	defer cancel()
	there, err := readMarker(ctx, e.place)
	switch {
	case err != nil:
	case there == "":
		err = fault.New(fault.Unavailable, "marker", "its marker is missing")
	case there != e.marker:
		err = fault.New(fault.Unavailable, "marker", "another volume is in its place")
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.looking = false
	// What may pass in a moment is asked for again at once.
	if e.away = err; err == nil || fault.HasCode(err, "marker") {
		e.looked = time.Now()
	}
	return e.told(err)
}

// told is an error of the place as whoever uses the tier hears it, who may be of any
// account: the place's name and the cause are for the log.
func (e *Elsewhere) told(err error) error {
	if err == nil {
		return nil
	}
	f := fault.From(err)
	switch f.Kind {
	case fault.TooLarge:
		return fault.New(fault.TooLarge, "object-too-large",
			"the store elsewhere that keeps these bytes takes none so large").
			In("size").Do("put it in parts, or in another tier").Because(err)
	case fault.Full:
		return fault.New(fault.Full, "volume-full", "the store elsewhere that keeps these bytes has no room").In("volume").
			Do("have its operator make room, or move what is there to another tier").Because(err)
	}
	return fault.New(fault.Unavailable, "volume-away", "the store elsewhere that keeps these bytes is away").In("volume").
		Do("try again later; nothing that is kept there is lost by that").Because(fmt.Errorf("%s: %w", e.place, err)).
		Again(f.After)
}

// failed is what a place did wrong; it is looked at before it is used again.
func (e *Elsewhere) failed(err error) error {
	if err == nil {
		return nil
	}
	e.mu.Lock()
	if k := fault.KindOf(err); k != fault.Full && k != fault.TooLarge {
		e.away, e.looked = err, time.Time{}
	}
	e.mu.Unlock()
	return e.told(err)
}

// gone says why a body is not there: it is gone, or the place is another.
func (e *Elsewhere) gone(err error) error {
	e.mu.Lock()
	e.looked = time.Time{}
	e.mu.Unlock()
	if away := e.Present(); away != nil {
		return away
	}
	return damaged(object.BodyRef{}, "the object elsewhere is gone").(*fault.Error).Because(fmt.Errorf("%w: %w",
		fs.ErrNotExist, err))
}

const wholeFolder = "whole/"

func bodyName(id int64) string {
	name := fmt.Sprintf("%016x", id)
	return wholeFolder + name[14:] + "/" + name + ".body"
}

// bodyNumber gives the number in a body's name, 0 for none.
func bodyNumber(name string) int64 {
	i := strings.LastIndexByte(name, '/')
	id, err := strconv.ParseInt(strings.TrimSuffix(name[i+1:], ".body"), 16, 64)
	if err != nil || bodyName(id) != name {
		return 0
	}
	return id
}

// bornOf gives when a body's number was made.
func bornOf(id int64) time.Time { return time.UnixMilli((id &^ object.SealedBit) >> 21) }

// Walk gives every body there, with the time at which its number was made, and what was
// begun and never completed. Of a place that is away nothing is given.
func (e *Elsewhere) Walk(ctx context.Context, f func(File) error) error {
	if e.Present() != nil {
		return nil
	}
	ctx, end := e.while(ctx)
	defer end()
	ctx, cancel := context.WithTimeout(ctx, walkFor)
	defer cancel()
	var stopped error
	give := func(id, size int64) error {
		if id == 0 {
			return nil // not ours
		}
		stopped = f(File{ID: id, Size: size, Changed: bornOf(id)})
		return stopped
	}
	err := e.place.Walk(ctx, wholeFolder, func(name string, size int64) error { return give(bodyNumber(name), size) })
	if err == nil {
		err = e.walkUnfinished(ctx, give)
	}
	if stopped != nil {
		return stopped
	}
	if err == nil {
		e.forgetLocks()
	}
	return e.failed(err)
}

func (e *Elsewhere) walkUnfinished(ctx context.Context, give func(id, size int64) error) error {
	left := map[int64][]string{}
	err := e.place.Unfinished(ctx, wholeFolder, func(name, upload string) error {
		if id := bodyNumber(name); id != 0 {
			left[id] = append(left[id], upload)
		}
		return nil
	})
	if fault.KindOf(err) == fault.Unfinished {
		return nil // it takes none
	}
	if err != nil {
		return err
	}
	e.mu.Lock()
	e.unfinished = left
	e.mu.Unlock()
	for id := range left {
		if err := give(id, 0); err != nil {
			return err
		}
	}
	return nil
}

// lockPath is the file whose lock says that a body is under way.
func (e *Elsewhere) lockPath(id int64) string {
	return filepath.Join(e.dir, fmt.Sprintf("%016x.held", id))
}

// hold makes a number for a body and holds it.
func (e *Elsewhere) hold(bit int64) (*holding, int64, error) {
	if away := e.room.Present(); away != nil {
		return nil, 0, away
	}
	if err := os.MkdirAll(e.dir, 0o700); err != nil {
		return nil, 0, diskError(err)
	}
	for {
		id := newID() | bit
		f, err := os.OpenFile(e.lockPath(id), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if os.IsExist(err) {
			continue
		}
		if err != nil {
			return nil, 0, diskError(err)
		}
		if err := unix.Flock(int(f.Fd()), unix.LOCK_SH); err != nil {
			f.Close()
			return nil, 0, diskError(err)
		}
		return (&holding{File: f, passing: true}).hold(), id, nil
	}
}

// lockAlone takes the number of a body that nobody holds. forget removes its lock.
func (e *Elsewhere) lockAlone(id int64) (forget func(), ok bool, err error) {
	f, err := os.Open(e.lockPath(id))
	if os.IsNotExist(err) {
		return func() {}, true, nil
	}
	if err != nil {
		return nil, false, diskError(err)
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		f.Close()
		return nil, false, nil
	}
	return func() {
		_ = os.Remove(f.Name()) // one that stays does no harm
		f.Close()
	}, true, nil
}

// Held tells whether a process of the house holds a body.
func (e *Elsewhere) Held(id int64) (bool, error) { return heldFile(e.lockPath(id)) }

// forgetLocks removes the locks of processes that are no more.
func (e *Elsewhere) forgetLocks() {
	list, err := os.ReadDir(e.dir)
	if err != nil {
		return // there are none
	}
	for _, x := range list {
		id, err := strconv.ParseInt(strings.TrimSuffix(x.Name(), ".held"), 16, 64)
		if err != nil || time.Since(bornOf(id)) < 24*time.Hour {
			continue
		}
		if forget, ok, err := e.lockAlone(id); err == nil && ok {
			forget()
		}
	}
}

// RemoveWhole removes a body, unless it is being written, or was and is not committed
// yet, and what was begun of it. It gives the bytes freed. Where the place is away
// nothing is removed; the next walk finds it again.
func (e *Elsewhere) RemoveWhole(id int64) (int64, error) {
	if e.Present() != nil {
		return 0, nil
	}
	forget, ok, err := e.lockAlone(id)
	if err != nil || !ok {
		return 0, err
	}
	defer forget()
	ctx, cancel := context.WithTimeout(e.life, askFor)
	defer cancel()
	e.mu.Lock()
	begun := e.unfinished[id]
	delete(e.unfinished, id)
	e.mu.Unlock()
	var size int64
	err = patiently(ctx, func() (err error) {
		size, err = e.remove(ctx, bodyName(id), begun)
		return err
	})
	if err != nil {
		return 0, e.skipped(err)
	}
	return size, nil
}

// remove removes an object, and what was begun of it, and gives the bytes that it had.
func (e *Elsewhere) remove(ctx context.Context, name string, begun []string) (size int64, err error) {
	for _, upload := range begun {
		if err := e.place.Abandon(ctx, name, upload); err != nil && fault.KindOf(err) != fault.NotFound {
			return 0, err
		}
	}
	size, err = e.place.Size(ctx, name)
	switch {
	case err == nil:
		return size, e.place.Remove(ctx, name)
	case fault.KindOf(err) == fault.NotFound:
		return 0, nil
	}
	return 0, err
}

// skipped drops the error of a place that is away, for whoever comes round again.
func (e *Elsewhere) skipped(err error) error {
	if err = e.failed(err); fault.HasCode(err, "volume-away") {
		return nil
	}
	return err
}

// Check reads a body and compares its digest.
func (e *Elsewhere) Check(ctx context.Context, ref object.BodyRef, size int64, crc uint64,
	limit func(n int) error) error {
	if ref.File == 0 {
		return nil
	}
	w, err := e.Open(ctx, ref, size)
	if err != nil {
		return err
	}
	defer w.Close()
	return w.check(ref, size, crc, limit)
}

// Look asks whether a body is there, and has the length that it should have, which is all
// that can be told without its bytes.
func (e *Elsewhere) Look(ref object.BodyRef, size int64) error {
	if ref.File == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(e.life, askFor)
	defer cancel()
	var got int64
	if err := patiently(ctx, func() (err error) {
		got, err = e.place.Size(ctx, bodyName(ref.File))
		return err
	}); err != nil {
		return e.readError(err)
	}
	want := framedLength(size)
	if ref.Sealed() {
		want = seal.Length(want)
	}
	if got > want || got < want && !e.local.packed {
		return damaged(ref, "the object elsewhere has %d bytes, not %d", got, want)
	}
	return nil
}

// Every body is a file of its own: nothing shares one.
func (e *Elsewhere) shares(ref object.BodyRef) error {
	return damaged(ref, "a body of this tier cannot stand in a file that others share")
}

// ReadSmall refuses: no body shares a file.
func (e *Elsewhere) ReadSmall(ref object.BodyRef, _ []byte, _ uint64) error { return e.shares(ref) }

// CopySmall refuses: no body shares a file.
func (e *Elsewhere) CopySmall(from object.BodyRef, _ int64, _ uint64) (Written, error) {
	return Written{}, e.shares(from)
}

// LockSegment gives none: there are no segments.
func (e *Elsewhere) LockSegment(int64) (unlock func(), ok bool, err error) { return nil, false, nil }

// TouchSegment does nothing: there are no segments.
func (e *Elsewhere) TouchSegment(int64) error { return nil }

// RemoveSegment does nothing: there are no segments.
func (e *Elsewhere) RemoveSegment(int64) error { return nil }

// Write sends a body there while it arrives; see Volume.Write.
func (e *Elsewhere) Write(r io.Reader, size int64, sealed bool, extra []hash.Hash,
	accept func(Written) error) (w Written,
	err error) {
	if err := e.Present(); err != nil {
		return Written{}, err
	}
	first, n, ended, err := e.local.start(r)
	if err != nil {
		return Written{}, err
	}
	h := newHasher(extra)
	if n == 0 {
		e.local.buffers.Put(first)
		w := h.written(0)
		return w, accept(w)
	}
	sealed = sealed || e.sealed
	var bit int64
	if sealed {
		bit = object.SealedBit
	}
	held, id, err := e.hold(bit)
	if err != nil {
		e.local.buffers.Put(first)
		return Written{}, err
	}
	to := e.send(id)
	w, err = e.local.fill(to, id, r, first, n, ended, sealed, h, accept)
	if err != nil {
		to.drop()
		_ = held.release() // nobody will want the body
		return w, err
	}
	w.held = held
	return w, nil
}

// pauses are waited before what failed for a moment is tried again.
var pauses = []time.Duration{100 * time.Millisecond, 400 * time.Millisecond, 1500 * time.Millisecond,
	4 * time.Second}

// patience is how long an endpoint may ask to be left alone and still be waited for.
const patience = time.Second

// patiently has f done, and again when what fails may pass in a moment.
func patiently(ctx context.Context, f func() error) (err error) {
	for i := 0; ; i++ {
		err = f()
		k := fault.KindOf(err)
		if err == nil || k != fault.Unavailable && k != fault.Slow || i == len(pauses) ||
			fault.From(err).After > patience {
			return err
		}
		select {
		case <-time.After(pauses[i]/2 + rand.N(pauses[i])):
		case <-ctx.Done():
			return err
		}
	}
}
