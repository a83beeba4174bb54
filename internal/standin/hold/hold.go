package hold

import (
	"bufio"
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"hash/crc64"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Errors of a hold.
var (
	ErrNoBucket  = errors.New("no such bucket")
	ErrBucket    = errors.New("the bucket is there already")
	ErrNotEmpty  = errors.New("the bucket is not empty")
	ErrNoKey     = errors.New("no such key")
	ErrNoVersion = errors.New("no such version")
	ErrNoUpload  = errors.New("no such upload")
	ErrCondition = errors.New("the condition does not hold")
)

// Versioning of a bucket.
type Versioning string

// The states of versioning.
const (
	Off    Versioning = ""
	On     Versioning = "on"
	Paused Versioning = "paused"
)

// NullID is the id of versions that were written while versioning was not on.
const NullID = "null"

// Bucket is a bucket with its settings.
type Bucket struct {
	Name       string     `json:"name"`
	Created    time.Time  `json:"created"`
	Versioning Versioning `json:"versioning,omitempty"`
	Document   []byte     `json:"document,omitempty"` // its lifecycle, as it came

	versions map[string][]*Version // by key, the newest first
	sorted   []string              // keys in order; some may be gone
	fresh    []string              // keys that are not in sorted yet
}

// Facts are what a put says of an object beside its bytes.
type Facts struct {
	Type     string            `json:"type,omitempty"`
	Headers  map[string]string `json:"headers,omitempty"`
	Metadata map[string]string `json:"metadata,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
	Class    string            `json:"class,omitempty"`
}

// Version is one version of a key, or a delete marker. It is not changed once it is there.
type Version struct {
	Facts
	ID       string    `json:"id"`
	Marker   bool      `json:"marker,omitempty"`
	Modified time.Time `json:"modified"`
	ETag     string    `json:"etag,omitempty"`
	CRC64    uint64    `json:"crc64,omitempty"`
	Size     int64     `json:"size"` // bytes
	File     string    `json:"file,omitempty"`
	Pieces   []Piece   `json:"pieces,omitempty"` // of an object that came in parts

	data []byte
}

// Piece is a part of an object's bytes.
type Piece struct {
	File string `json:"file,omitempty"`
	Size int64  `json:"size"`
	data []byte
}

// Body is bytes that arrived and are not an object yet.
type Body struct {
	Size   int64
	ETag   string
	CRC64  uint64
	file   string
	data   []byte
	pieces []Piece
}

// Condition is what a put asks of what is there.
type Condition struct {
	Absent bool
	ETag   string // it must be this one; "" for any
}

// Hold keeps buckets.
type Hold struct {
	dir string

	mu      sync.RWMutex
	buckets map[string]*Bucket
	uploads map[string]*Upload
	log     *bufio.Writer
	logFile *os.File
}

var crcTable = crc64.MakeTable(0x9a6c9329ac4bc9b5) // CRC-64/NVME, reflected

// NewCRC64 gives the hash that bodies are summed with, CRC-64/NVME.
func NewCRC64() hash.Hash64 { return crc64.New(crcTable) }

// Open opens a hold in a folder, "" for one in memory.
func Open(dir string) (*Hold, error) {
	h := &Hold{dir: dir, buckets: map[string]*Bucket{}, uploads: map[string]*Upload{}}
	if dir == "" {
		return h, nil
	}
	if err := os.MkdirAll(filepath.Join(dir, "bodies"), 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, "log"), os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return nil, err
	}
	if err := h.replay(f); err != nil {
		f.Close()
		return nil, err
	}
	h.logFile, h.log = f, bufio.NewWriter(f)
	return h, nil
}

// Close ends a hold's use of its folder.
func (h *Hold) Close() error {
	if h.logFile == nil {
		return nil
	}
	return errors.Join(h.log.Flush(), h.logFile.Close())
}

// line is a change in the log.
type line struct {
	Bucket  string   `json:"bucket"`
	Set     *Bucket  `json:"set,omitempty"`  // the bucket is so
	Gone    bool     `json:"gone,omitempty"` // the bucket is not there
	Key     []byte   `json:"key,omitempty"`
	Version *Version `json:"version,omitempty"` // is the newest
	Altered *Version `json:"altered,omitempty"` // is so now
	Cut     string   `json:"cut,omitempty"`     // the id of a version that went
}

func (h *Hold) replay(r io.Reader) error {
	d := json.NewDecoder(bufio.NewReaderSize(r, 1<<20))
	for {
		var l line
		err := d.Decode(&l)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) { // cut off in its last line
			return nil
		}
		if err != nil {
			return fmt.Errorf("the log of the stand-in: %w", err)
		}
		h.apply(l)
	}
}

func (h *Hold) apply(l line) {
	b := h.buckets[l.Bucket]
	switch {
	case l.Set != nil && b == nil:
		l.Set.versions = map[string][]*Version{}
		h.buckets[l.Bucket] = l.Set
	case l.Set != nil:
		b.Versioning, b.Document = l.Set.Versioning, l.Set.Document
	case l.Gone:
		delete(h.buckets, l.Bucket)
	case b == nil:
	case l.Cut != "":
		b.cut(string(l.Key), l.Cut)
	case l.Altered != nil:
		b.alter(string(l.Key), l.Altered)
	case l.Version != nil:
		b.add(string(l.Key), l.Version)
	}
}

// note writes a change into the log; h.mu is held.
func (h *Hold) note(l line) error {
	if h.log == nil {
		return nil
	}
	raw, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if _, err := h.log.Write(append(raw, '\n')); err != nil {
		return err
	}
	return h.log.Flush()
}

func (b *Bucket) add(key string, v *Version) {
	old := b.versions[key]
	if old == nil {
		b.fresh = append(b.fresh, key)
	}
	if v.ID == NullID {
		old = slices.DeleteFunc(slices.Clone(old), func(o *Version) bool { return o.ID == NullID })
	}
	b.versions[key] = append([]*Version{v}, old...)
}

func (b *Bucket) alter(key string, v *Version) {
	vs := slices.Clone(b.versions[key])
	for i, o := range vs {
		if o.ID == v.ID {
			v.data = o.data
			vs[i] = v
		}
	}
	b.versions[key] = vs
}

func (b *Bucket) cut(key, id string) {
	left := slices.DeleteFunc(slices.Clone(b.versions[key]), func(o *Version) bool { return o.ID == id })
	if len(left) == 0 {
		delete(b.versions, key)
	} else {
		b.versions[key] = left
	}
}

// order brings the list of keys up to date.
func (b *Bucket) order() {
	if len(b.fresh) == 0 {
		return
	}
	all := append(b.sorted, b.fresh...)
	slices.Sort(all)
	all = slices.Compact(all)
	b.sorted = slices.DeleteFunc(all, func(k string) bool { return b.versions[k] == nil })
	b.fresh = nil
}

// Buckets gives the buckets in the order of their names.
func (h *Hold) Buckets() []Bucket {
	h.mu.RLock()
	defer h.mu.RUnlock()
	var out []Bucket
	for _, b := range h.buckets {
		out = append(out, b.info())
	}
	slices.SortFunc(out, func(a, b Bucket) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (b *Bucket) info() Bucket {
	return Bucket{Name: b.Name, Created: b.Created, Versioning: b.Versioning, Document: b.Document}
}

// Bucket gives a bucket.
func (h *Hold) Bucket(name string) (Bucket, error) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if b := h.buckets[name]; b != nil {
		return b.info(), nil
	}
	return Bucket{}, ErrNoBucket
}

// Make makes a bucket.
func (h *Hold) Make(name string, now time.Time) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.buckets[name] != nil {
		return ErrBucket
	}
	l := line{Bucket: name, Set: &Bucket{Name: name, Created: now.UTC()}}
	h.apply(l)
	return h.note(l)
}

// Drop removes a bucket in which there is nothing.
func (h *Hold) Drop(name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	b := h.buckets[name]
	switch {
	case b == nil:
		return ErrNoBucket
	case len(b.versions) > 0:
		return ErrNotEmpty
	}
	l := line{Bucket: name, Gone: true}
	h.apply(l)
	return h.note(l)
}

// Set changes a bucket's settings.
func (h *Hold) Set(name string, change func(*Bucket)) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	b := h.buckets[name]
	if b == nil {
		return ErrNoBucket
	}
	to := b.info()
	change(&to)
	l := line{Bucket: name, Set: &to}
	h.apply(l)
	return h.note(l)
}

// Stage takes bytes in; spoil, which may be nil, may change what is kept of them.
func (h *Hold) Stage(r io.Reader, spoil func([]byte)) (*Body, error) {
	b := &Body{}
	var to io.Writer
	var file *os.File
	var memory writer
	if h.dir == "" {
		to = &memory
	} else {
		f, err := os.Create(filepath.Join(h.dir, "bodies", rand.Text()))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		file, b.file, to = f, f.Name(), f
	}
	m, c := md5.New(), NewCRC64()
	if spoil != nil {
		r = &spoiling{r, spoil}
	}
	n, err := io.Copy(io.MultiWriter(to, m, c), r)
	if file != nil {
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		h.Discard(b)
		return nil, err
	}
	b.Size, b.ETag, b.CRC64, b.data = n, hex.EncodeToString(m.Sum(nil)), c.Sum64(), memory.b
	return b, nil
}

type writer struct{ b []byte }

func (w *writer) Write(p []byte) (int, error) {
	w.b = append(w.b, p...)
	return len(p), nil
}

type spoiling struct {
	io.Reader
	spoil func([]byte)
}

func (s *spoiling) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	s.spoil(p[:n])
	return n, err
}

// Discard lets go of bytes that become no object.
func (h *Hold) Discard(b *Body) {
	if b.file != "" {
		_ = os.Remove(b.file) // a stand-in's garbage goes with its folder
	}
}

// Put makes a version of a body. A condition that does not hold gives ErrCondition.
func (h *Hold) Put(bucket, key string, b *Body, f Facts, cond Condition, now time.Time) (*Version, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	at := h.buckets[bucket]
	if at == nil {
		return nil, ErrNoBucket
	}
	is := at.current(key)
	if cond.Absent && is != nil || cond.ETag != "" && (is == nil || is.ETag != cond.ETag) {
		return nil, ErrCondition
	}
	v := &Version{Facts: f, ID: at.newID(), Modified: now.UTC().Truncate(time.Second), ETag: b.ETag, CRC64: b.CRC64,
		Size: b.Size, File: b.file, Pieces: b.pieces, data: b.data}
	l := line{Bucket: bucket, Key: []byte(key), Version: v}
	h.apply(l)
	return v, h.note(l)
}

func (b *Bucket) newID() string {
	if b.Versioning == On {
		return rand.Text()
	}
	return NullID
}

func (b *Bucket) current(key string) *Version {
	if vs := b.versions[key]; len(vs) > 0 && !vs[0].Marker {
		return vs[0]
	}
	return nil
}

// Get gives a version of a key, "" for the current one, which may be a delete marker.
func (h *Hold) Get(bucket, key, id string) (*Version, error) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	b := h.buckets[bucket]
	if b == nil {
		return nil, ErrNoBucket
	}
	vs := b.versions[key]
	if id == "" {
		if len(vs) == 0 {
			return nil, ErrNoKey
		}
		return vs[0], nil
	}
	for _, v := range vs {
		if v.ID == id {
			return v, nil
		}
	}
	return nil, ErrNoVersion
}

// Alter replaces what is said of a version; its bytes stay.
func (h *Hold) Alter(bucket, key, id string, change func(*Facts)) error {
	v, err := h.Get(bucket, key, id)
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	to := *v
	change(&to.Facts)
	l := line{Bucket: bucket, Key: []byte(key), Altered: &to}
	h.apply(l)
	return h.note(l)
}

// Delete removes a version, or with id "" the current one: with versioning that leaves a
// delete marker, which it gives.
func (h *Hold) Delete(bucket, key, id string, now time.Time) (*Version, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	b := h.buckets[bucket]
	if b == nil {
		return nil, ErrNoBucket
	}
	l := line{Bucket: bucket, Key: []byte(key), Cut: id}
	var was *Version
	switch {
	case id == "" && b.Versioning != Off:
		l.Cut = ""
		l.Version = &Version{ID: b.newID(), Marker: true, Modified: now.UTC().Truncate(time.Second)}
		was = l.Version
	case id == "" && len(b.versions[key]) == 0:
		return nil, nil
	case id == "":
		l.Cut = b.versions[key][0].ID
	default:
		i := slices.IndexFunc(b.versions[key], func(v *Version) bool { return v.ID == id })
		if i < 0 {
			return nil, nil
		}
		was = b.versions[key][i]
	}
	h.apply(l)
	return was, h.note(l)
}

// Read opens the bytes of a version.
func (h *Hold) Read(v *Version) (io.ReadSeekCloser, error) {
	if len(v.Pieces) > 0 {
		return openPieces(v)
	}
	if v.File == "" {
		return memoryBody{strings.NewReader(string(v.data))}, nil
	}
	return os.Open(v.File)
}

type memoryBody struct{ *strings.Reader }

func (memoryBody) Close() error { return nil }

// Walk visits the keys of a bucket from one on, in order, with their versions, the newest
// first, until visit gives a key to go on from, or false.
func (h *Hold) Walk(bucket, from string, visit func(key string, vs []*Version) (next string, more bool)) error {
	h.mu.Lock()
	b := h.buckets[bucket]
	if b != nil {
		b.order()
	}
	h.mu.Unlock()
	h.mu.RLock()
	defer h.mu.RUnlock()
	if b == nil {
		return ErrNoBucket
	}
	sorted := b.sorted
	i, _ := slices.BinarySearch(sorted, from)
	for i < len(sorted) {
		key := sorted[i]
		vs := b.versions[key]
		if vs == nil {
			i++
			continue
		}
		next, more := visit(key, vs)
		if !more {
			return nil
		}
		if next <= key {
			i++
			continue
		}
		skip, _ := slices.BinarySearch(sorted[i:], next)
		i += skip
	}
	return nil
}

// Same makes a body that shares the bytes of a version, for copies.
func (h *Hold) Same(v *Version) *Body {
	return &Body{Size: v.Size, ETag: v.ETag, CRC64: v.CRC64, file: v.File, data: v.data, pieces: v.Pieces}
}
